"""The optimal assignment, from SciPy; brought in at its first use, since importing it takes a third of a second."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["solve_assignment"]


def solve_assignment(
    table: NDArray[np.float64], *, maximize: bool = False
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rows and columns of the pairs of least (or largest) total, each row and column used once.

    The shortest augmenting path method (Crouse 2016, "On implementing 2D rectangular assignment algorithms").
    """
    from scipy.optimize import linear_sum_assignment

    return linear_sum_assignment(table, maximize=maximize)
