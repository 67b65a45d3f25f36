"""One thing reported twice: boxes that overlap too much are reduced to the surest one, or made less sure."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.geometry import pair_overlap

__all__ = ["remove_overlaps"]


def remove_overlaps(
    box: NDArray[np.float32],
    confidence: NDArray[np.float32],
    class_id: NDArray[np.int16],
    *,
    most_overlap: float,
    across_classes: bool = False,
    soft: bool = False,
    least_confidence: float = 0.05,
) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
    """Rows that are kept, surest first, and their confidence.

    Parameters
    ----------
    box : (n, 4) float32, px
    confidence : (n,) float32, fraction
    class_id : (n,) int16
    most_overlap : float, fraction
        Two boxes that overlap more are one thing (the surest stays).
    across_classes : bool
        Also between classes: cures one thing reported under two names.
    soft : bool
        Instead of dropping a box, lower its confidence by one less the overlap (Bodla et al. 2017, "Soft-NMS",
        eq. 3) and drop it when that falls under ``least_confidence``.
    """
    order, sure = pick_boxes(
        np.ascontiguousarray(box, np.float32),
        confidence.astype(np.float64),
        np.zeros(len(box), np.int64) if across_classes else class_id.astype(np.int64),
        most_overlap,
        soft,
        least_confidence,
    )
    return order, sure.astype(np.float32)


@njit(cache=True, nogil=True)
def pick_boxes(
    box: NDArray[np.float32],
    confidence: NDArray[np.float64],
    group: NDArray[np.int64],
    most: float,
    soft: bool,
    least: float,
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:  # pragma: no cover
    """The greedy rule: take the surest box left, then drop or weaken those it overlaps."""
    n = box.shape[0]
    sure = confidence.copy()
    left = np.ones(n, np.bool_)
    order, kept_sure = np.empty(n, np.int64), np.empty(n, np.float64)
    count = 0
    for _ in range(n):
        best = -1
        for k in range(n):
            if left[k] and (best < 0 or sure[k] > sure[best]):
                best = k
        if best < 0:
            break
        left[best] = False
        order[count], kept_sure[count] = best, sure[best]
        count += 1
        for k in range(n):
            if not left[k] or group[k] != group[best]:
                continue
            overlap = pair_overlap(box, k, box, best)
            if overlap <= most:
                continue
            if soft:
                sure[k] *= 1.0 - overlap
                left[k] = sure[k] >= least
            else:
                left[k] = False
    return order[:count], kept_sure[:count]
