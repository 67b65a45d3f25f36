"""A live run that has ended, read back: its facts, and what it counted as a run to be kept beside its recording."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from drover.core.count.whole_clip import count_all
from drover.core.detect.result import DetectResult
from drover.core.document import KeptRun
from drover.core.errors import DroverError
from drover.core.footage_types import ClipInfo
from drover.core.formats.box_rows import read_tracks
from drover.core.live_session.results import TRACKS
from drover.core.recipe import Recipe
from drover.core.types import Detections, Tracks

__all__ = ["kept_run", "read_live"]

MOST_FACTS = 8 << 20  # bytes of a live.json


def read_live(folder: Path) -> tuple[dict[str, Any], Recipe]:
    """Facts and recipe of the live run whose results are in a folder.

    Raises
    ------
    DroverError
        When there is none.
    """
    try:
        place = folder / "live.json"
        if place.stat().st_size > MOST_FACTS:
            raise ValueError("far too long")
        facts = json.loads(place.read_text(encoding="utf-8"))
        return facts, Recipe.model_validate(facts["recipe"], strict=False)
    except (OSError, ValueError, KeyError, TypeError, RecursionError) as error:
        raise DroverError(f"{folder}: holds no live run; give the folder of one") from error


def kept_run(clip: ClipInfo) -> KeptRun | None:
    """What the live run made of the pictures of one of its recordings; None where a clip is no such recording.

    Crossings are counted anew from the identities that the live run had, by the recipe that it had.

    Raises
    ------
    DroverError
        When the results beside the recording cannot be read.
    """
    path = Path(clip.path)
    if not (path.parent / TRACKS).is_file() or not (path.parent / "live.json").is_file():
        return None
    facts, recipe = read_live(path.parent)
    begins = facts.get("recordings")
    first = begins.get(path.name) if isinstance(begins, dict) else None
    if not isinstance(first, int) or first < 0:
        return None
    tracks = _only(read_tracks(path.parent / TRACKS), first, clip)
    counted = count_all(tracks, clip.times, recipe.count)
    none = np.zeros(0, np.int64)
    boxes = np.zeros((0, 4), np.float32)
    found = Detections.from_boxes(none, boxes, boxes[:, 0], frame_count=clip.frame_count, size=tracks.size)
    detect = DetectResult(found, np.zeros(256, np.int64), (), 0.0, clip.frame_count)
    return KeptRun(
        recipe, "live", "live", "live", detect, tracks, counted.crossings, counted, "live", "as it was counted live"
    )


def _only(tracks: Tracks, first: int, clip: ClipInfo) -> Tracks:
    """Of the live run's identities those of the recording's pictures, by their numbers there."""
    frames = tracks.frame - first
    rows = np.flatnonzero((frames >= 0) & (frames < clip.frame_count))
    start = np.searchsorted(frames[rows], np.arange(clip.frame_count + 1)).astype(np.int64)
    columns = ("identity", "box", "state", "detection", "confidence", "class_id", "distance")
    return replace(
        tracks, frame_start=start, size=(clip.width, clip.height),
        **{name: getattr(tracks, name)[rows] for name in columns},
    )  # fmt: skip
