"""The tracks now alive, a row each, in columns with room to spare."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.track.filters import COVARIANCES, STATES
from drover.core.track.turning import MODES
from drover.core.types import LOOK

__all__ = ["Living"]

_COLUMNS: dict[str, tuple[type[np.generic], int]] = {
    "number": (np.int32, 0),
    "mean": (np.float64, STATES),
    "cov": (np.float64, COVARIANCES),
    "hits": (np.int32, 0),
    "believed": (np.bool_, 0),
    "seen_at": (np.float64, 0),
    "class_id": (np.int16, 0),
    "usual": (np.float64, 2),
    "seen": (np.float64, 4),
    "hidden": (np.bool_, 0),
    "at_edge": (np.bool_, 0),
    "in_exit": (np.bool_, 0),
    "born_at": (np.float64, 0),
    "look": (np.float32, LOOK),
    "mode": (np.float64, MODES),
}
_SELDOM = ("mode", "look")  # columns that only some settings use, or some footage: nothing wide until they are filled


class Living:
    """Columns of the living tracks; only the first ``count`` rows are alive.

    ``number`` is the birth, ``mean`` and ``cov`` the filter, ``hits`` the frames it was seen in, ``seen_at`` s when
    it was last seen, ``seen`` its centre px and speed px/frame then, ``usual`` its width and height over the last
    while, ``hidden`` whether a blob covers it, ``at_edge`` whether it was last seen near the picture's edge or in an
    exit, ``in_exit`` whether in an exit, ``born_at`` s when it was first seen, ``look`` how it looks on average,
    ``mode`` its filters where several are mixed.
    """

    number: NDArray[np.int32]
    mean: NDArray[np.float64]
    cov: NDArray[np.float64]
    hits: NDArray[np.int32]
    believed: NDArray[np.bool_]
    seen_at: NDArray[np.float64]
    class_id: NDArray[np.int16]
    usual: NDArray[np.float64]
    seen: NDArray[np.float64]
    hidden: NDArray[np.bool_]
    at_edge: NDArray[np.bool_]
    in_exit: NDArray[np.bool_]
    born_at: NDArray[np.float64]
    look: NDArray[np.float32]
    mode: NDArray[np.float64]

    def __init__(self, *, turning: bool = False) -> None:
        self.count = 0
        for name, (dtype, width) in _COLUMNS.items():
            wide = 0 if name in _SELDOM and not (turning and name == "mode") else width
            setattr(self, name, np.zeros((64, wide) if width else 64, dtype))

    def with_looks(self) -> None:
        """From now on looks are remembered: they are wide, and most footage needs none."""
        if self.look.shape[1] == 0:
            self.look = np.zeros((len(self.number), LOOK), np.float32)

    def keep(self, rows: NDArray[np.bool_]) -> None:
        """Keep some of the living rows, in their order."""
        self.count = close_up(
            rows, self.number, self.mean, self.cov, self.hits, self.believed, self.seen_at, self.class_id, self.usual,
            self.seen, self.hidden, self.at_edge, self.in_exit, self.born_at, self.look, self.mode,
        )  # fmt: skip

    def room_for(self, more: int) -> None:
        """See that so many rows can be filled in after those there are."""
        while self.count + more > len(self.number):
            for name in _COLUMNS:
                column = getattr(self, name)
                setattr(self, name, np.concatenate([column, np.zeros_like(column)]))

    def add(self, **columns: NDArray) -> None:
        """Add rows; all columns must be given."""
        more = len(columns["number"])
        self.room_for(more)
        for name, values in columns.items():
            getattr(self, name)[self.count : self.count + more] = values
        self.count += more


@njit(cache=True, nogil=True)
def close_up(
    rows: NDArray[np.bool_], number: NDArray[np.int32], mean: NDArray[np.float64], cov: NDArray[np.float64],
    hits: NDArray[np.int32], believed: NDArray[np.bool_], seen_at: NDArray[np.float64], class_id: NDArray[np.int16],
    usual: NDArray[np.float64], seen: NDArray[np.float64], hidden: NDArray[np.bool_], at_edge: NDArray[np.bool_],
    in_exit: NDArray[np.bool_], born_at: NDArray[np.float64], look: NDArray[np.float32], mode: NDArray[np.float64],
) -> int:  # pragma: no cover  # fmt: skip
    """Bring the rows that are kept to the front of every column, in place; how many they are."""
    n = 0
    for k in range(rows.shape[0]):
        if not rows[k]:
            continue
        if n < k:
            number[n], hits[n], believed[n], seen_at[n], class_id[n] = (
                number[k], hits[k], believed[k], seen_at[k], class_id[k],
            )  # fmt: skip
            hidden[n], at_edge[n], in_exit[n], born_at[n] = hidden[k], at_edge[k], in_exit[k], born_at[k]
            for c in range(mean.shape[1]):
                mean[n, c] = mean[k, c]
            for c in range(cov.shape[1]):
                cov[n, c] = cov[k, c]
            usual[n, 0], usual[n, 1] = usual[k, 0], usual[k, 1]
            for c in range(4):
                seen[n, c] = seen[k, c]
            for c in range(look.shape[1]):
                look[n, c] = look[k, c]
            for c in range(mode.shape[1]):
                mode[n, c] = mode[k, c]
        n += 1
    return n
