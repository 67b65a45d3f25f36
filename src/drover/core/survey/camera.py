"""Whether the camera stands still: how far the picture moves as a whole between some pictures of it.

Tiles all over the picture are held against the same tiles a moment later by phase correlation (Kuglin and Hines 1975,
"The phase correlation image alignment method"), to a fraction of a pixel (a parabola through the peak and its
neighbours). A thing that moves takes its own tiles along; only what most tiles share is the camera.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.survey.samples import Samples

__all__ = ["LONGEST", "OFTEN", "STILL", "CameraLook", "look_at_camera", "tile_shift"]

TILE, LEAST_TILE = 128, 32  # px a side, where the picture is large enough
ACROSS, DOWN = 4, 3  # tiles
PAIRS = 8  # of pictures that are held against each other
LONGEST = 2.0  # s apart
PEAK = 6.0  # standard deviations of all places that a shift must reach to be believed
CLOSE = 1.5  # px from the middle shift, and
LEAN = 0.15  # of its length, within which a tile agrees: the camera may turn and zoom a little
SHARED = 0.75  # of the believed tiles must agree
LEAST_TILES = 6
AT_REST, SOME_REST = 0.35, 0.2  # px, and share of the tiles that no moving camera leaves in place
STILL = 0.75  # px under which nothing moved
OFTEN = 0.25  # of the pairs, from which the camera moves

Float = NDArray[np.float64]


@dataclass(frozen=True)
class CameraLook:
    """``shift`` px by which the picture typically moves within ``apart`` s; in what ``share`` of the pairs it moves.

    ``known`` is false where too little could be told: a picture without texture, or nothing in common.
    """

    shift: float
    apart: float
    share: float
    known: bool

    @property
    def moves(self) -> bool:
        """Whether the camera does not stand still."""
        return self.known and self.share >= OFTEN

    @property
    def words(self) -> str:
        """A sentence for somebody who opens a clip; empty where there is nothing to say."""
        if not self.moves:
            return ""
        return (
            f"The camera moves, by about {self.shift:.0f} px within {self.apart:.1f} s: where it is not followed "
            "what stands still is found as moving, and counts will be wrong."
        )


def look_at_camera(samples: Samples) -> CameraLook:
    """How a clip's camera behaves, by pairs of pictures that follow each other closely."""
    gaps = np.diff(samples.time)
    pairs = np.flatnonzero(gaps <= LONGEST)
    if len(pairs) > PAIRS:
        pairs = pairs[np.linspace(0, len(pairs) - 1, PAIRS).round().astype(int)]
    shifts = [pair_shift(samples.grey[k], samples.grey[k + 1]) for k in pairs.tolist()]
    lengths = np.array([np.hypot(*shift) for shift in shifts if shift is not None])
    if len(lengths) < max(2, len(pairs) // 4):
        return CameraLook(0.0, 0.0, 0.0, False)
    moved = lengths >= STILL
    typical = float(np.median(lengths[moved])) if moved.any() else 0.0
    return CameraLook(typical, float(np.median(gaps[pairs])), float(moved.mean()), True)


def pair_shift(before: NDArray[np.uint8], after: NDArray[np.uint8]) -> tuple[float, float] | None:
    """By how many px right and down the picture moved that most tiles share; None where they share none."""
    height, width = before.shape
    side = int(min(TILE, 2 ** np.floor(np.log2(max(min(height / 2, width / 2), 1)))))
    if side < LEAST_TILE:
        return None
    found = []
    for y in np.linspace(0, height - side, DOWN).astype(int).tolist():
        for x in np.linspace(0, width - side, ACROSS).astype(int).tolist():
            place = (slice(y, y + side), slice(x, x + side))
            shift = tile_shift(before[place].astype(np.float64), after[place].astype(np.float64))
            if shift is not None:
                found.append(shift)
    if len(found) < LEAST_TILES:
        return None
    each = np.array(found)
    if (np.hypot(*each.T) < AT_REST).mean() >= SOME_REST:
        return 0.0, 0.0  # ground that stands still: what moves beside it is water or a crowd
    middle = np.median(each, axis=0)
    near = np.hypot(*(each - middle).T) <= CLOSE + LEAN * float(np.hypot(*middle))
    if near.mean() < SHARED:
        return None
    return float(each[near, 0].mean()), float(each[near, 1].mean())


def tile_shift(before: Float, after: Float) -> tuple[float, float] | None:
    """By how many px right and down a square tile (side, side) moved; None where no place stands out."""
    side = before.shape[0]
    window = np.hanning(side)[:, None] * np.hanning(side)
    one, other = (np.fft.rfft2((tile - tile.mean()) * window) for tile in (before, after))
    cross = other * np.conj(one)
    # Only what a camera resolves: the finest details are noise and coding.
    fine = np.hypot(np.fft.fftfreq(side)[:, None], np.fft.rfftfreq(side)) <= 0.25
    size = np.abs(cross)
    plane = np.fft.irfft2(np.where(fine & (size > 0), cross / np.maximum(size, 1e-12), 0.0), s=before.shape)
    y, x = np.unravel_index(int(plane.argmax()), plane.shape)
    peak = float(plane[y, x])
    if peak < PEAK * float(plane.std()):
        return None

    def past(low: float, high: float) -> float:
        bend = 2 * peak - low - high
        return 0.5 * (high - low) / bend if bend > 0 else 0.0

    right = past(float(plane[y, x - 1]), float(plane[y, (x + 1) % side]))
    down = past(float(plane[y - 1, x]), float(plane[(y + 1) % side, x]))
    half = side // 2
    return (int(x) + half) % side - half + right, (int(y) + half) % side - half + down
