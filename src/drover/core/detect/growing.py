"""Columns that grow while a clip is worked through, without growing the memory of a long one."""

from __future__ import annotations

import tempfile
import weakref

import numpy as np
from numpy.typing import NDArray

__all__ = ["GrowingColumn"]

IN_MEMORY = 32 << 20


class GrowingColumn:
    """Rows appended in order; past ``limit`` bytes they are kept in a temporary file and mapped.

    Views handed out stay as they were when later rows are added.
    """

    def __init__(self, dtype: type[np.generic], columns: int = 0, *, limit: int = IN_MEMORY) -> None:
        self._tail: tuple[int, ...] = (columns,) if columns else ()
        self._rows = np.empty((1024, *self._tail), dtype)
        self._count = 0
        self._limit = limit
        self._file = None

    def __len__(self) -> int:
        return self._count

    def append(self, rows: NDArray[np.generic]) -> None:
        """Add rows at the end."""
        if self._file is not None:
            self._file.write(np.ascontiguousarray(rows, self._rows.dtype).tobytes())
            self._count += len(rows)
            return
        need = self._count + len(rows)
        if need > len(self._rows):
            grown = np.empty((max(need, 2 * len(self._rows)), *self._tail), self._rows.dtype)
            grown[: self._count] = self._rows[: self._count]
            self._rows = grown
        self._rows[self._count : need] = rows
        self._count = need
        if self._rows[: self._count].nbytes > self._limit:
            self._file = tempfile.TemporaryFile(prefix="drover-")  # noqa: SIM115 - lives as long as the column
            weakref.finalize(self, self._file.close)  # views are maps of their own and outlive it
            self._file.write(self._rows[: self._count].tobytes())
            self._rows = np.empty((0, *self._tail), self._rows.dtype)

    def view(self) -> NDArray[np.generic]:
        """All rows so far, read-only."""
        if self._file is None:
            rows = self._rows[: self._count]
        else:
            self._file.flush()
            rows = np.memmap(self._file, self._rows.dtype, "r", shape=(self._count, *self._tail))
        rows.flags.writeable = False
        return rows
