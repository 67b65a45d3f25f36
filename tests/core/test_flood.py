"""A flood of identities is said in a line, with what it may be."""

from __future__ import annotations

import numpy as np
import pytest
from builders import tracks_of

from drover.core.recipe import Recipe, with_value
from drover.core.run import run_clip
from drover.core.track.flood import flood_note
from drover.core.types import Detections

RATE = 25.0


def falling(count: int, lasts: int, frames: int, way=lambda k: (0.0, 1.0)):
    """Rows (frame, who, box) of small things, new ones all the time, each on its straight way."""
    rows = []
    for k in range(count):
        born = round(k * (frames - lasts) / count)
        x, y = 20.0 + 37 * (k % 16), 20.0 + 23 * (k % 7)
        for j in range(lasts):
            left, top = x + 4 * j * way(k)[0], y + 4 * j * way(k)[1]
            rows.append((born + j, k + 1, (left, top, left + 6, top + 6)))
    return rows


def every_way(k: int) -> tuple[float, float]:
    return float(np.cos(2.4 * k)), float(np.sin(2.4 * k))


@pytest.mark.parametrize(("way", "told"), [(lambda k: (0.1, 1.0), "they go one way: snow"), (every_way, ": leaves")])
def test_many_that_last_for_moments_are_a_flood_and_how_they_go_says_of_what(way, told):
    tracks = tracks_of(falling(240, 25, 300, way), 300)
    note = flood_note(tracks, np.arange(300) / RATE)
    assert note is not None and told in note
    assert note.startswith("240 identities, 20 new ones a second; half of them last under 1.0 s")


@pytest.mark.parametrize(("count", "lasts", "frames"), [(90, 25, 200), (120, 150, 400), (120, 25, 3000)])
def test_few_or_lasting_or_seldom_ones_are_none(count, lasts, frames):
    assert flood_note(tracks_of(falling(count, lasts, frames), frames), np.arange(frames) / RATE) is None


def test_a_run_over_a_flood_says_so(short_info):
    frames = short_info.frame_count
    lasts = min(25, frames // 3)
    rows = sorted(falling(240, lasts, frames, every_way))
    box = np.array([row[2] for row in rows], np.float32)
    found = Detections.from_boxes(
        np.array([row[0] for row in rows]), box, np.ones(len(rows), np.float32), frame_count=frames,
        size=(short_info.width, short_info.height),
    )  # fmt: skip
    recipe = with_value(Recipe(), "track.life.return_within", 0.0)
    run = run_clip(short_info, recipe, detections=found)
    assert any("new ones a second" in note for note in run.notes)
