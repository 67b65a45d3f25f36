"""Totals made from crossings."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from drover.core.types import Crossings

__all__ = ["Tally", "tally", "tally_rows"]


@dataclass(frozen=True)
class Tally:
    """One line's totals for one class, or for all: passages each way, and identities once per direction."""

    line: str
    class_name: str
    forward: int
    back: int
    identities_forward: int
    identities_back: int

    @property
    def net(self) -> int:
        """Forward less back."""
        return self.forward - self.back

    @property
    def passages(self) -> int:
        """Forward and back together."""
        return self.forward + self.back


def tally(crossings: Crossings, line: int, class_id: int | None = None, *, until: float = np.inf) -> Tally:
    """Totals of one line up to a moment (s), of one class or of all."""
    rows = (crossings.line == line) & (crossings.time <= until)
    if class_id is not None:
        rows &= crossings.class_id == class_id
    forward, back = rows & (crossings.direction > 0), rows & (crossings.direction < 0)
    return Tally(
        line=crossings.line_names[line],
        class_name="all" if class_id is None else crossings.class_names[class_id],
        forward=int(forward.sum()),
        back=int(back.sum()),
        identities_forward=len(set(crossings.identity[forward].tolist())),
        identities_back=len(set(crossings.identity[back].tolist())),
    )


def tally_rows(crossings: Crossings) -> list[dict[str, str | int]]:
    """Rows of ``counts.csv``: one a line and class."""
    rows: list[dict[str, str | int]] = []
    for line in range(len(crossings.line_names)):
        for class_id in range(len(crossings.class_names)):
            t = tally(crossings, line, class_id)
            rows.append(
                {
                    "line": t.line,
                    "class": t.class_name,
                    "forward": t.forward,
                    "back": t.back,
                    "net": t.net,
                    "passages": t.passages,
                    "identities_forward": t.identities_forward,
                    "identities_back": t.identities_back,
                }
            )
    return rows
