"""How the camera moved over a clip, frame by frame, as a frozen table."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from drover.core.features.models import apply, inverse, local_scale, mapped_corners

__all__ = ["CameraMotion", "FrameState", "identity_motion", "state_words"]

Float = NDArray[np.float64]
FARTHEST = 15_000.0  # px from the origin within which runs can be kept


class FrameState(IntEnum):
    """How a frame's motion is known."""

    FOLLOWED = 0
    COVERED = 1  # followed, but a large thing hides much of the ground
    HELD = 2  # no motion could be told; the last known one goes on
    NEW_VIEW = 3  # a cut, or a view that has nothing in common with the one before


WORDS = {
    FrameState.FOLLOWED: "followed",
    FrameState.COVERED: "covered",
    FrameState.HELD: "held",
    FrameState.NEW_VIEW: "new view",
}


def state_words(states: NDArray[np.int8]) -> list[str]:
    """A word for each frame's state."""
    return [WORDS[FrameState(state)] for state in states.tolist()]


@dataclass(frozen=True)
class CameraMotion:
    """Where each picture of a clip lies in the scene.

    ``to_scene`` (frames, 3, 3) takes the px of a picture to those of the first picture of its shot; ``state`` (frames,)
    int8 as in :class:`FrameState`; ``shared`` (frames,) share of the points that agree; ``covered`` (frames,) share of
    the ground that something large hides; ``residual`` (frames,) px; ``reason`` why frames are held, by frame.
    """

    to_scene: Float
    state: NDArray[np.int8]
    shared: NDArray[np.float32]
    covered: NDArray[np.float32]
    residual: NDArray[np.float32]
    reason: dict[int, str]
    size: tuple[int, int]
    steady: bool = False
    seconds: float = 0.0

    def __len__(self) -> int:
        return len(self.to_scene)

    @cached_property
    def to_picture(self) -> Float:
        """(frames, 3, 3): from the scene's px to those of each picture."""
        return inverse(self.to_scene)

    @cached_property
    def place(self) -> tuple[Float, tuple[int, int]]:
        """What shifts the scene (3, 3) so that nothing that was seen of it lies left of or above nought; its size."""
        some = self.to_scene[:: max(1, len(self) // 2000)]
        corners = np.concatenate([mapped_corners(matrix, self.size) for matrix in some])
        corners = corners[(np.abs(corners) < FARTHEST).all(axis=1)]
        if not len(corners):
            return np.eye(3), self.size
        low = np.floor(np.minimum(corners.min(axis=0), 0.0))
        high = np.ceil(np.maximum(corners.max(axis=0), self.size))
        shift = np.eye(3)
        shift[:2, 2] = -low
        return shift, (int(high[0] - low[0]), int(high[1] - low[1]))

    @cached_property
    def cuts(self) -> tuple[int, ...]:
        """Frames with which another view begins, the first one left out."""
        return tuple(int(k) for k in np.flatnonzero(self.state == FrameState.NEW_VIEW) if k > 0)

    @cached_property
    def shot(self) -> NDArray[np.int64]:
        """(frames,) number of each frame's shot."""
        out = np.zeros(len(self), np.int64)
        out[list(self.cuts)] = 1
        return np.cumsum(out)

    @cached_property
    def moves(self) -> bool:
        """Whether any picture lies elsewhere than its first one by more than can be seen."""
        corners = np.array([mapped_corners(matrix, self.size) for matrix in self.to_scene[:: max(1, len(self) // 400)]])
        off = np.hypot(*np.moveaxis(corners - mapped_corners(np.eye(3), self.size), -1, 0))
        return bool(len(off) and np.quantile(off.max(axis=1), 0.9) > 0.75)

    @property
    def facts(self) -> dict[str, object]:
        """Figures for a page: how often each state is, what is left over in px, and how far the view goes."""
        counts = np.bincount(self.state, minlength=len(WORDS))
        known = self.state <= FrameState.COVERED
        corners = np.array([mapped_corners(matrix, self.size) for matrix in self.to_scene[:: max(1, len(self) // 400)]])
        off = np.hypot(*np.moveaxis(corners - mapped_corners(np.eye(3), self.size), -1, 0))
        return {
            "frames": {WORDS[state]: int(counts[state]) for state in FrameState},
            "residual": round(float(np.median(self.residual[known])) if known.any() else 0.0, 3),
            "shared": round(float(np.median(self.shared[known])) if known.any() else 0.0, 3),
            "farthest": round(float(off.max(initial=0.0)), 1),
            "one_view": self.steady,
        }

    @property
    def words(self) -> tuple[str, ...]:
        """What there is to say of it, in plain sentences."""
        frames: dict[str, int] = self.facts["frames"]  # type: ignore[assignment]
        way = "sways about one view" if self.steady else "goes from view to view"
        moves = f"The camera moves: it {way}, by up to {self.facts['farthest']:.0f} px. It is followed and taken out."
        out = [moves if self.moves else "The camera was followed, and stands still."]
        if frames["covered"]:
            out.append(
                f"In {frames['covered']} frames something large hides much of the ground; the rest of it is held to."
            )
        if frames["held"]:
            why = next(iter(self.reason.values()), "")
            out.append(f"In {frames['held']} frames its motion cannot be told ({why}); nothing is looked for there.")
        if self.cuts:
            out.append(f"Another view begins {len(self.cuts)} times; nothing goes on from one to the other.")
        return tuple(out)

    def speeds(self, times: Float) -> dict[str, Float]:
        """Curves of the camera over time: ``x`` and ``y`` px of the view's middle in the scene, ``turn`` in degrees,
        ``zoom`` times the first view's, ``speed`` px/s of the scene at the middle of the picture.
        """
        n = min(len(times), len(self))
        middle = np.array([[self.size[0] / 2, self.size[1] / 2]])
        there = apply(self.to_scene[:n], middle)[:, 0]
        scale = np.array([local_scale(matrix, middle)[0] for matrix in self.to_scene[:n]])
        turn = -np.degrees(np.arctan2(self.to_scene[:n, 1, 0], self.to_scene[:n, 0, 0]))
        step = np.hypot(*np.diff(there, axis=0, prepend=there[:1]).T)
        apart = np.maximum(np.diff(times[:n], prepend=times[0] - 1.0), 1e-6)
        speed = np.where(self.state[:n] == FrameState.NEW_VIEW, 0.0, step / apart)
        return {
            "x": there[:, 0], "y": there[:, 1], "turn": turn, "zoom": 1.0 / np.maximum(scale, 1e-9), "speed": speed,
        }  # fmt: skip


def identity_motion(frames: int, size: tuple[int, int]) -> CameraMotion:
    """A camera that does not move."""
    none = np.zeros(frames, np.float32)
    return CameraMotion(
        np.tile(np.eye(3), (frames, 1, 1)), np.zeros(frames, np.int8), none + 1, none, none, {}, size, steady=True
    )
