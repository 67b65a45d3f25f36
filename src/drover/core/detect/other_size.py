"""A camera set to another size: its pictures, brought to the old size, are blurred or sharper than the empty scene.

Every edge and grain of the ground differs then. What a picture shows as coarsely as its smaller size allows is the
same before and after: where that agrees with the empty scene the picture is ground, and is taken for it at once; where
it does not something stands, and the empty scene behind it is kept.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

__all__ = ["SizeWatch", "runs_where"]

DOUBT = 0.5  # of what counts as a difference: from here on a thing may stand there
WITHIN = 5.0  # s in which ground is still taken where a thing stood at first

Size = tuple[int, int]


class SizeWatch:
    """Looks at the sizes that pictures come in, and says which ground is to be taken as it looks now."""

    def __init__(self) -> None:
        self._size: Size | None = None
        self._coarse = 1.0
        self._changed = 0.0  # s
        self._open: NDArray[np.bool_] | None = None  # where ground has not been seen in the new size yet

    def forget(self) -> None:
        """Begin anew: the next picture changes nothing."""
        self._size = self._open = None

    def is_new(self, size: Size | None, shape: tuple[int, ...], time: float) -> bool:
        """Whether ground is to be looked for in a picture that came in this size (width, height), at ``time`` s."""
        before, self._size = self._size, size
        if before is not None and size is not None and size != before:
            self._coarse = max(max(a, b) / max(1, min(a, b)) for a, b in zip(before, size, strict=True))
            self._changed, self._open = time, np.ones(shape, np.bool_)
        elif time - self._changed > WITHIN:
            self._open = None
        return self._open is not None

    def ground(
        self, grey: NDArray[np.uint8], background: NDArray[np.float32], differs: NDArray[np.float32]
    ) -> NDArray[np.int16]:
        """Stretches (n, 3) of ground that is seen in the new size for the first time: row, first column, past the last.

        Parameters
        ----------
        grey : (height, width) uint8
            The picture in the background's light.
        background : (height, width) float32
            The empty scene.
        differs : (height, width) float32
            Levels from which a pixel counts as different.
        """
        if self._open is None:
            return np.zeros((0, 3), np.int16)
        from scipy.ndimage import maximum_filter, uniform_filter  # here: a start without takes less

        side = 2 * math.ceil(self._coarse) + 1
        apart = np.abs(uniform_filter(grey.astype(np.float32) - background, side, mode="nearest"))
        new = self._open & (maximum_filter((apart > np.float32(DOUBT) * differs).astype(np.uint8), side) == 0)
        left = self._open & ~new
        self._open = left if left.any() else None
        return runs_where(new)


def runs_where(mask: NDArray[np.bool_]) -> NDArray[np.int16]:
    """The rows' stretches of a mask (height, width): (n, 3) int16 of row, first column, past the last."""
    edges = np.diff(np.pad(mask, ((0, 0), (1, 1))).astype(np.int8), axis=1)
    row, begin = np.nonzero(edges == 1)
    return np.column_stack([row, begin, np.nonzero(edges == -1)[1]]).astype(np.int16)
