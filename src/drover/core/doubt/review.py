"""How far a review has come: which moments were worked off by what was said there, and how many errors are left."""

from __future__ import annotations

from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from drover.core.doubt.chance import ERRORS_PER_DOUBT
from drover.core.doubt.moments import Moments
from drover.core.edits.apply import EditNote
from drover.core.edits.edit import Edit

__all__ = ["LEAST_DOUBT", "NEAR", "Worked", "errors_left", "worked_off"]

NEAR = 0.6  # s from a moment within which something said of its identities was said of it
LEAST_DOUBT = 0.1  # from which a moment is worth a look
_FREE = ("class", "name")  # say nothing of whether identities are right


class Worked(IntEnum):
    """What was said of a moment."""

    OPEN = 0
    RIGHT = 1
    UNSURE = 2
    CORRECTED = 3


def worked_off(
    moments: Moments, edits: tuple[Edit, ...], notes: tuple[EditNote, ...], times: NDArray[np.float64]
) -> NDArray[np.int8]:
    """What was said of each moment, (moments,) of :class:`Worked`; the last word holds."""
    out = np.zeros(len(moments), np.int8)
    first, last = (times[moments.frames[:, k]] for k in (1, 2)) if len(moments) else (np.zeros(0), np.zeros(0))
    for edit, note in zip(edits, notes, strict=False):
        if not note.fits or edit.kind in _FREE:
            continue
        what = {"right": Worked.RIGHT, "unsure": Worked.UNSURE}.get(edit.kind, Worked.CORRECTED)
        mine = np.isin(moments.identities, note.identities).any(axis=1)
        out[mine & (first - NEAR <= edit.at) & (edit.at <= last + NEAR)] = what
    return out


def errors_left(moments: Moments, worked: NDArray[np.int8]) -> float:
    """How many errors are to be expected among the moments that nobody has worked off."""
    left = (worked == Worked.OPEN) | (worked == Worked.UNSURE)
    return ERRORS_PER_DOUBT * float(moments.doubt[left].sum())
