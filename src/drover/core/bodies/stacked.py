"""A blob taller than a body that stands at its lower edge, of two who stand one behind the other.

On level ground under an upright camera the level of a foot says how high a head reaches (Hoiem, Efros and Hebert 2006,
"Putting objects in perspective", eq. 2). What reaches higher is the head of another, whose own foot is hidden: it is at
the level from which a body reaches just there. Whose foot is below the picture reaches less high than one who stood at
its edge, so what is higher is another all the more.
"""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.bodies.followed import of_identities
from drover.core.bodies.size_field import SizeField
from drover.core.kernel_parts import read_only
from drover.core.types import Detections, Tracks

__all__ = ["behind_one", "stacked_parts"]

Int = NDArray[np.int64]
Float = NDArray[np.float64]
Float32 = NDArray[np.float32]
ONE_HEIGHT, ONE_WIDTH = 0.35, 0.5  # spreads over which bodies are not alike enough for a height to say anything
UPRIGHT = 1.3  # times its width that a body must be tall: what is long looks taller as it turns
TALLER = 1.15  # times the height of a body there, and that its identity has, from which a blob is more than one
ALONE, MOSTLY = 0.3, 1.15  # share of its life that an identity is alone, and times that height from which it is so tall
WIDEST = 1.8  # times the width of one body up to which a blob may be two that stand one behind the other
FILLED = 0.35  # of the part over the first head that the second must fill: an arm or a tool does not
STEEPEST = 0.8  # px that a body grows for each px that it stands lower


def stacked_parts(found: Detections, tracks: Tracks, field: SizeField | None, but: Int) -> tuple[Int, Float32]:
    """Which blobs (parts,), rising, are two one behind the other, and the box (parts, 4) px of each.

    ``tracks`` were linked from ``found``; ``field`` says how large one body is; the blobs in ``but`` are left alone.
    """
    none = np.zeros(0, np.int64), np.zeros((0, 4), np.float32)
    if field is None or field.spread > ONE_HEIGHT or field.width_spread > ONE_WIDTH or len(found.runs) == 0:
        return none
    wide, tall = field.of(found.box)
    if np.median(tall / wide) < UPRIGHT:
        return none
    ratio = (found.box[:, 3] - found.box[:, 1]) / tall
    own = np.maximum(of_identities(tracks, ratio, ALONE), 1.0)
    two = (ratio > TALLER * own) & (own < MOSTLY) & (found.box[:, 2] - found.box[:, 0] < WIDEST * wide)
    two[but] = False
    fixed, blob, boxes = found.frozen(), [], []
    for row in np.flatnonzero(two).tolist():
        runs = read_only(fixed.runs[fixed.run_start[row] : fixed.run_start[row + 1]])
        parts = behind_one(runs, np.array(field.height), np.array(field.width))
        blob += [row] * len(parts)
        boxes.append(parts)
    return (np.array(blob, np.int64), np.concatenate(boxes).astype(np.float32)) if blob else none


@njit(cache=True, nogil=True)
def behind_one(runs: NDArray[np.int16], height: Float, width: Float) -> Float:  # pragma: no cover
    """Boxes (2, 4) px of who stands in front and who behind in the blob with these runs; none where it is not two.

    ``height`` and ``width`` of a body are (at 0, slope) px over the level of its foot.
    """
    x0, x1 = np.int64(runs[:, 1].min()), np.int64(runs[:, 2].max())
    y0, y1 = np.int64(runs[:, 0].min()), np.int64(runs[:, 0].max()) + 1
    head = y1 - max(height[0] + height[1] * y1, 2.0)  # of who stands in front
    foot = min((y0 + height[0]) / (1.0 - min(height[1], STEEPEST)), y1 - 1.0)  # of who stands behind
    out = np.zeros((2, 4))
    if foot <= y0 + 1 or head <= y0 + 1:
        return out[:0]
    upper, over = _middle(runs, float(y0), head)
    lower, _ = _middle(runs, min(foot, y1 - 0.3 * (y1 - head)), float(y1))
    near, far = max(width[0] + width[1] * y1, 2.0), max(width[0] + width[1] * foot, 2.0)
    if over < FILLED * (head - y0) * far:
        return out[:0]
    for k, (middle, wide, top, bottom) in enumerate(((lower, near, head, float(y1)), (upper, far, float(y0), foot))):
        out[k, 0], out[k, 1] = max(middle - 0.5 * wide, float(x0)), top
        out[k, 2], out[k, 3] = min(middle + 0.5 * wide, float(x1)), bottom
    return out


@njit(cache=True, nogil=True)
def _middle(runs: NDArray[np.int16], top: float, bottom: float) -> tuple[float, int]:  # pragma: no cover
    """Mean x of the pixels between two levels, and how many there are."""
    total, count = 0.0, 0
    for r in range(runs.shape[0]):
        if top <= runs[r, 0] < bottom:
            many = runs[r, 2] - runs[r, 1]
            total += 0.5 * many * (runs[r, 1] + runs[r, 2])
            count += many
    return total / max(count, 1), count
