"""What came of following things over a clip, as frozen tables."""

from __future__ import annotations

import csv
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from drover.core.follow.steps import FollowState, FollowStep
from drover.core.names import plain_name
from drover.core.track_rows import columns_of, with_rows, without_rows
from drover.core.types import Tracks, TrackState

__all__ = ["FollowedThing", "ThingRows", "with_things", "write_followed"]

Float = NDArray[np.float64]
SAME = 0.5  # overlap from which another identity is this thing, in
MOSTLY = 0.5  # this share of the frames in which it is there
LEAST_BOX = 2.0  # px a side


@dataclass(frozen=True)
class FollowedThing:
    """One thing: ``outline`` (frames, 4, 2) px, NaN where it is lost; ``state`` (frames,) int8 as in
    :class:`FollowState`; ``sure`` (frames,) 0..1; ``reason`` by frame why it went out of sight there; ``refused`` why
    it cannot be followed at all, else empty.
    """

    name: str
    outline: Float
    state: NDArray[np.int8]
    sure: NDArray[np.float32]
    reason: dict[int, str]
    refused: str = ""

    @property
    def seen(self) -> NDArray[np.bool_]:
        """(frames,) where it is seen."""
        return self.state == FollowState.SEEN

    @property
    def facts(self) -> dict[str, object]:
        """Figures for a page."""
        return {
            "name": self.name, "refused": self.refused, "seen_frames": int(self.seen.sum()),
            "sure": round(float(self.sure[self.seen].mean()) if self.seen.any() else 0.0, 3),
            "went_out_of_sight": len(self.reason),
        }  # fmt: skip

    def boxes(self, size: tuple[int, int]) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
        """Frames in which it is seen or its place is forecast, and the boxes round it there, inside the picture."""
        there = np.flatnonzero(np.isfinite(self.outline).all(axis=(1, 2)))
        low = np.clip(self.outline[there].min(axis=1), 0, size)
        high = np.clip(self.outline[there].max(axis=1), 0, size)
        kept = ((high - low) >= LEAST_BOX).all(axis=1)
        return there[kept], np.concatenate([low, high], axis=1)[kept].astype(np.float32)


class ThingRows:
    """Collects steps of one thing."""

    def __init__(self, name: str, frames: int) -> None:
        self.name = name
        self.outline = np.full((frames, 4, 2), np.nan)
        self.state = np.full(frames, FollowState.LOST, np.int8)
        self.sure = np.zeros(frames, np.float32)
        self.reason: dict[int, str] = {}
        self._before = ""

    def add(self, frame: int, step: FollowStep) -> None:
        """Take in what one picture said."""
        if step.outline is not None:
            self.outline[frame] = step.outline
        self.state[frame], self.sure[frame] = step.state, step.sure
        if step.reason and step.reason != self._before:
            self.reason[frame] = step.reason
        self._before = step.reason

    def table(self) -> FollowedThing:
        """All of it."""
        return FollowedThing(self.name, self.outline, self.state, self.sure, self.reason)


def with_things(tracks: Tracks, things: tuple[FollowedThing, ...]) -> Tracks:
    """Tracks with each thing as one more identity, its class being its name.

    An identity that is the same body, found by what moves as well, makes room for it.
    """
    for thing in things:
        if not thing.refused:
            tracks = _with_one(tracks, thing)
    return tracks


def _with_one(tracks: Tracks, thing: FollowedThing) -> Tracks:
    frame, box = thing.boxes(tracks.size)
    inside = frame < tracks.frame_count
    frame, box = frame[inside], box[inside]
    if not len(frame):
        return tracks
    doubles = _doubles(tracks, frame, box)
    tracks = without_rows(tracks, np.isin(tracks.identity, doubles)) if doubles else tracks
    names = tracks.class_names if thing.name in tracks.class_names else (*tracks.class_names, thing.name)
    who, n = int(tracks.identity.max(initial=0)) + 1, len(frame)
    seen = thing.seen[frame]
    own: dict[str, NDArray] = {
        "box": box,
        "state": np.where(seen, TrackState.CONFIRMED, TrackState.COASTING).astype(np.int8),
        "detection": np.full(n, -1, np.int32), "confidence": np.where(seen, thing.sure[frame], 0).astype(np.float32),
        "class_id": np.full(n, names.index(thing.name), np.int16), "distance": np.full(n, np.nan, np.float32),
        "margin": np.full(n, np.inf, np.float32), "nis": np.full(n, np.nan, np.float32), "scene_box": box,
    }  # fmt: skip
    columns = {name: np.concatenate([getattr(tracks, name), own[name]]) for name in columns_of(tracks)}
    frames, whose = np.concatenate([tracks.frame, frame]), np.concatenate([tracks.identity, np.full(n, who, np.int32)])
    return with_rows(replace(tracks, class_names=names), frames, whose, columns)


def _doubles(tracks: Tracks, frame: NDArray[np.int64], box: NDArray[np.float32]) -> list[int]:
    """Identities that lie on the thing for most of the time in which they are there at all."""
    hits: dict[int, int] = {}
    for k, f in enumerate(frame.tolist()):
        rows = tracks.rows_of(f)
        other, mine = tracks.box[rows].astype(np.float64), box[k].astype(np.float64)
        low, high = np.maximum(other[:, :2], mine[:2]), np.minimum(other[:, 2:], mine[2:])
        shared = np.maximum(high - low, 0).prod(axis=1)
        both = (other[:, 2:] - other[:, :2]).prod(axis=1) + (mine[2:] - mine[:2]).prod() - shared
        for who in tracks.identity[rows][shared >= SAME * both].tolist():
            hits[who] = hits.get(who, 0) + 1
    return [who for who, n in hits.items() if n >= MOSTLY * len(tracks.path_of(who))]


def write_followed(path: Path, things: tuple[FollowedThing, ...]) -> None:
    """A row for each thing and frame in which it is seen or forecast: frames from 1, corners in px, clockwise."""
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(("thing", "frame", "x1", "y1", "x2", "y2", "x3", "y3", "x4", "y4", "state", "sure"))
        for thing in things:
            for frame in np.flatnonzero(np.isfinite(thing.outline).all(axis=(1, 2))).tolist():
                corners = (f"{value:.2f}" for value in thing.outline[frame].ravel())
                state = FollowState(int(thing.state[frame])).name.lower()
                writer.writerow([plain_name(thing.name), frame + 1, *corners, state, f"{thing.sure[frame]:.2f}"])
