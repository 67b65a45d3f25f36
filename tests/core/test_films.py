"""Films that are cut, read from files: each shot has a ground of its own, for the pass and for whoever looks again."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from scipy import ndimage

from drover.core.detect_pass import detect_clip
from drover.core.footage.reader import ClipReader
from drover.core.footage_types import ClipInfo
from drover.core.inspect import FrameProbe
from drover.core.recipe import Recipe
from drover.core.result_store import ResultStore
from drover.core.run import run_clip
from drover.core.survey_pass import read_samples, survey_clip

WIDTH, HEIGHT, RATE = 320, 240, 25
SIDE = 36


def place(seed: int) -> np.ndarray:
    rough = ndimage.gaussian_filter(np.random.default_rng(seed).normal(0, 1, (HEIGHT, WIDTH)), 4.0)
    return 110 + 28 * rough / rough.std()


def where(k: int) -> tuple[int, int]:
    """Corner of the square that moves, in picture ``k`` of a shot."""
    return 20 + 3 * k, 90


def picture(ground: np.ndarray, k: int, rng: np.random.Generator) -> np.ndarray:
    out = ground.copy()
    x, y = where(k)
    out[y : y + SIDE, x : x + SIDE] = 225
    return np.clip(np.rint(out + rng.normal(0, 1.5, out.shape)), 0, 255).astype(np.uint8)


def film(path: Path, shots: list[tuple[int, int]], *, goes_on: bool = False, lamp: int | None = None) -> ClipInfo:
    """A clip of shots given as (seed of the place, pictures); in each the square begins anew unless it ``goes_on``.

    With a ``lamp`` all is blue, and pale and warm from that picture on.
    """
    rng = np.random.default_rng(1)
    with av.open(str(path), "w", options={"movflags": "+faststart"}) as out:
        stream = out.add_stream("libx264", rate=RATE)
        stream.width, stream.height, stream.pix_fmt = WIDTH, HEIGHT, "yuv420p"
        stream.options = {"crf": "18", "g": "25"}
        stream.time_base = stream.codec_context.time_base = Fraction(1, RATE)
        n = 0
        for seed, count in shots:
            ground = place(seed)
            for k in range(count):
                grey = picture(ground, n if goes_on else k, rng)
                colour = np.repeat(grey[:, :, None], 3, axis=2)
                if lamp is not None:
                    strength, haze = ([0.6, 0.5, 0.35], [80, 50, 20]) if n >= lamp else ([0.8, 0.9, 1.0], [0, 0, 0])
                    colour = np.rint(colour * strength + haze).astype(np.uint8)
                frame = av.VideoFrame.from_ndarray(colour, format="rgb24")
                frame.pts, frame.time_base = n, Fraction(1, RATE)
                out.mux(stream.encode(frame))
                n += 1
        out.mux(stream.encode(None))
    with ClipReader(path) as reader:
        return reader.info


@pytest.fixture(scope="module")
def cut_film(tmp_path_factory) -> ClipInfo:
    return film(tmp_path_factory.mktemp("film") / "cut.mp4", [(1, 60), (2, 75)])


def overlap_with_square(box: np.ndarray, k: int) -> float:
    x, y = where(k)
    wide = min(box[2], x + SIDE) - max(box[0], x)
    tall = min(box[3], y + SIDE) - max(box[1], y)
    both = max(0.0, wide) * max(0.0, tall)
    return both / ((box[2] - box[0]) * (box[3] - box[1]) + SIDE * SIDE - both)


def test_each_shot_is_detected_in_from_its_first_picture(cut_film):
    result = detect_clip(cut_film, Recipe().detect)
    assert any(word.startswith("The film is cut once at 2.4 s") for word in result.said)
    found = result.detections
    for first, count in ((0, 60), (60, 75)):
        for k in range(2, count):
            rows = found.rows_of(first + k)
            boxes = found.box[rows]
            assert len(boxes) <= 3, f"the ground of picture {first + k} is known"
            assert max(overlap_with_square(box, k) for box in boxes) > 0.75


def test_who_looks_at_a_picture_behind_the_cut_sees_what_the_pass_saw(cut_film):
    result = detect_clip(cut_film, Recipe().detect)
    probe = FrameProbe(cut_film.path, result, Recipe().detect)
    try:
        for frame in (30, 75, 120):
            seen = probe.pictures(frame).blobs
            boxes = result.detections.box[result.detections.rows_of(frame)]
            assert seen is not None and len(seen.box) == len(boxes)
            np.testing.assert_allclose(seen.box, boxes, atol=2.0)
    finally:
        probe.close()


def test_behind_a_lamp_the_square_is_found_again_and_goes_on(tmp_path):
    clip = film(tmp_path / "lamp.mp4", [(1, 95)], lamp=45)
    run = run_clip(clip, Recipe())
    assert run.detect.cuts == ()
    told = [word for word in run.detect.said if word.startswith("The whole picture becomes another once at 2.")]
    assert len(told) == 1, run.detect.said
    found = run.detect.detections
    for k in (*range(2, 45), *range(60, 88)):
        boxes = found.box[found.rows_of(k)]
        assert len(boxes) == 1 and overlap_with_square(boxes[0], k) > 0.75
    assert len(run.tracks.paths.identity) == 1
    probe = FrameProbe(clip.path, run.detect, Recipe().detect)
    try:
        assert len(probe.pictures(80).blobs.box) == 1
    finally:
        probe.close()


def test_a_survey_takes_its_pictures_from_one_shot_alone(cut_film):
    for first, past in ((0, 60), (60, 135)):
        samples = read_samples(cut_film, first)
        assert samples is not None and len(samples) >= 8
        inside = (samples.time >= first / RATE - 1e-6) & (samples.time < past / RATE)
        assert inside.all()
    ground = survey_clip(cut_film, 60).empty.grey
    assert np.abs(ground - place(2)).mean() < 3.0


def test_no_identity_goes_on_through_a_cut_however_well_it_would_fit(tmp_path):
    clip = film(tmp_path / "on.mp4", [(1, 45), (2, 45)], goes_on=True)
    run = run_clip(clip, Recipe())
    assert run.detect.cuts == (45,)
    spans = []
    for identity in run.tracks.paths.identity.tolist():
        frames = run.tracks.frame[run.tracks.path_of(identity)]
        spans.append((int(frames[0]), int(frames[-1])))
    assert len(spans) == 2 and spans[0][1] < 45 <= spans[1][0]
    store = ResultStore(tmp_path / "kept")
    for _ in range(2):
        again = run_clip(clip, Recipe(), store=store)
        assert again.detect.cuts == (45,) and len(again.tracks.paths.identity) == 2


def test_a_short_shot_is_surveyed_with_more_pictures_of_it(tmp_path):
    clip = film(tmp_path / "short.mp4", [(1, 14), (2, 80)])
    samples = read_samples(clip, 0)
    assert samples is not None and 8 <= len(samples) <= 14
    assert samples.time.max() < 14 / RATE
