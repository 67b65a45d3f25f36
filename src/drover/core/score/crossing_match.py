"""Each counted crossing held against the true ones: right, extra, double, the wrong way, or missed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.assignment import solve_assignment
from drover.core.types import Crossings

__all__ = ["CROSSING_ERRORS", "CrossingError", "CrossingMatch", "errors_by_class", "match_crossings"]

CROSSING_ERRORS = ("extra", "missed", "double", "wrong way")
WITHIN = 1.5  # s that a counted crossing may lie from its true one
FAR = 0.01  # s that a px of distance is worth in the match
AGAIN = 10.0  # s within which a second crossing of one identity is a double


@dataclass(frozen=True)
class CrossingError:
    """One error: its kind, line, direction as counted (as true for a missed one), class, frame, time s, identity."""

    kind: str
    line: str
    direction: int
    class_name: str
    frame: int
    time: float
    identity: int


@dataclass(frozen=True)
class CrossingMatch:
    """All errors in order of time, and how many crossings were right."""

    right: int
    errors: tuple[CrossingError, ...]

    def of(self, kind: str) -> tuple[CrossingError, ...]:
        """Errors of one kind."""
        return tuple(one for one in self.errors if one.kind == kind)


def match_crossings(counted: Crossings, true: Crossings) -> CrossingMatch:
    """Match crossings line by line (by name) and direction, at least total distance in time and place.

    A counted one without a partner is the wrong way where a true one the other way is left over near it, a double
    where its identity has a right one in the same direction shortly before or after, else extra.
    """
    right, errors = 0, list[CrossingError]()
    for name in dict.fromkeys((*true.line_names, *counted.line_names)):
        mine, theirs = _rows(counted, name), _rows(true, name)
        pairs, left, lacking = _matched(counted, true, mine, theirs, same_way=True)
        turned, left, lacking = _matched(counted, true, left, lacking, same_way=False)
        right += len(pairs)
        matched = [row for row, _ in pairs]
        errors += [_error("wrong way", counted, row) for row, _ in turned]
        errors += [_error("double" if _again(counted, row, matched) else "extra", counted, row) for row in left]
        errors += [_error("missed", true, row) for row in lacking]
    return CrossingMatch(right, tuple(sorted(errors, key=lambda one: (one.time, one.kind))))


def _rows(crossings: Crossings, name: str) -> list[int]:
    if name not in crossings.line_names:
        return []
    return np.flatnonzero(crossings.line == crossings.line_names.index(name)).tolist()


def _matched(
    counted: Crossings, true: Crossings, mine: list[int], theirs: list[int], *, same_way: bool
) -> tuple[list[tuple[int, int]], list[int], list[int]]:
    if not mine or not theirs:
        return [], mine, theirs
    a, b = np.array(mine), np.array(theirs)
    apart = np.abs(counted.time[a][:, None] - true.time[b][None])
    place = np.hypot(counted.x[a][:, None] - true.x[b][None], counted.y[a][:, None] - true.y[b][None])
    fits = (apart <= WITHIN) & ((counted.direction[a][:, None] == true.direction[b][None]) == same_way)
    cost = np.where(fits, apart + FAR * place, 1e6)
    rows, columns = solve_assignment(cost)
    good = fits[rows, columns]
    pairs = list(zip(a[rows[good]].tolist(), b[columns[good]].tolist(), strict=True))
    used, met = {row for row, _ in pairs}, {row for _, row in pairs}
    return pairs, [row for row in mine if row not in used], [row for row in theirs if row not in met]


def _again(counted: Crossings, row: int, matched: list[int]) -> bool:
    return any(
        counted.identity[other] == counted.identity[row]
        and counted.direction[other] == counted.direction[row]
        and abs(counted.time[other] - counted.time[row]) <= AGAIN
        for other in matched
    )


def _error(kind: str, crossings: Crossings, row: int) -> CrossingError:
    return CrossingError(
        kind, crossings.line_names[int(crossings.line[row])], int(crossings.direction[row]),
        crossings.class_names[int(crossings.class_id[row])], int(crossings.frame[row]), float(crossings.time[row]),
        int(crossings.identity[row]),
    )  # fmt: skip


def errors_by_class(match: CrossingMatch) -> dict[tuple[str, int, str], NDArray[np.int64]]:
    """Errors of each line, direction and class: extra, missed, double and wrong way, (4,) int64."""
    out: dict[tuple[str, int, str], NDArray[np.int64]] = {}
    for one in match.errors:
        row = out.setdefault((one.line, one.direction, one.class_name), np.zeros(len(CROSSING_ERRORS), np.int64))
        row[CROSSING_ERRORS.index(one.kind)] += 1
    return out
