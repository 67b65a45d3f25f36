"""Rows of live identities, held back until it is known that they are an object's, and then given whole."""

from __future__ import annotations

from collections import deque
from typing import NamedTuple

from drover.core.count.live import LiveRows
from drover.core.types import TrackState

__all__ = ["ObjectRow", "ObjectRows"]

MOST_HELD = 1_000  # rows of one identity, and pictures for which it may be unseen: what is older is let go of


class ObjectRow(NamedTuple):
    """Frame, identity, box in px and whether it was seen there."""

    frame: int
    identity: int
    box: tuple[float, float, float, float]
    seen: bool


class ObjectRows:
    """Takes in every frame's rows, and gives those that are known to be objects'."""

    def __init__(self) -> None:
        self._held: dict[int, deque[ObjectRow]] = {}

    def step(self, frame: int, rows: LiveRows) -> list[ObjectRow]:
        """Rows that are to be kept from this frame on: of new objects all that were held of them."""
        out: list[ObjectRow] = []
        known = [True] * len(rows.identity) if rows.is_object is None else rows.is_object.tolist()
        for who, box, state, is_object in zip(
            rows.identity.tolist(), rows.box.tolist(), rows.state.tolist(), known, strict=True
        ):
            row = ObjectRow(frame, who, tuple(box), state != TrackState.COASTING)
            if is_object:
                out += [*self._held.pop(who, ()), row]
            else:
                self._held.setdefault(who, deque(maxlen=MOST_HELD)).append(row)
        for who in [who for who, held in self._held.items() if held[-1].frame < frame - MOST_HELD]:
            del self._held[who]
        return out
