"""The tracks that are shown: all but those that somebody hid."""

from __future__ import annotations

import numpy as np

from drover.app.view_state import ViewState
from drover.core.track_rows import without_rows
from drover.core.types import Tracks

__all__ = ["ShownTracks", "identities_at"]


class ShownTracks:
    """Leaves out who is hidden; made anew only when that or the tracks are others."""

    def __init__(self, view: ViewState) -> None:
        self.view = view
        self._of: tuple[Tracks, frozenset[int], frozenset[int]] | None = None
        self._made: Tracks | None = None

    def of(self, tracks: Tracks) -> Tracks:
        """Those of a result."""
        view = self.view
        if view.all_shown:
            self._of = self._made = None
            return tracks
        if (
            self._made is None
            or self._of is None
            or self._of[0] is not tracks
            or self._of[1:] != (view.hidden, view.only)
        ):
            shown = np.array([view.shows(who) for who in range(int(tracks.identity.max(initial=0)) + 1)])
            self._of, self._made = (tracks, view.hidden, view.only), without_rows(tracks, ~shown[tracks.identity])
        return self._made


def identities_at(tracks: Tracks, frame: int, x: float, y: float) -> list[int]:
    """The identities whose boxes lie over a place of a frame, px."""
    rows = tracks.rows_of(frame)
    box = tracks.box[rows]
    inside = (box[:, 0] <= x) & (x <= box[:, 2]) & (box[:, 1] <= y) & (y <= box[:, 3])
    return tracks.identity[rows][inside].tolist()
