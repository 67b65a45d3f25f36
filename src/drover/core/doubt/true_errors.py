"""Where identities are truly wrong, against the truth: what doubts are calibrated on and judged by."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from drover.core.doubt.moments import Moments
from drover.core.score.pairs import Pairs, assign_pairs, find_pairs
from drover.core.types import Tracks, Truth

__all__ = ["TrueError", "hits_of", "true_errors"]

Float = NDArray[np.float64]
LEAST_OVERLAP = 0.5
BLINK = 0.2  # s: a partner that is another for less than that, and then the same again, has not changed
ONE_EVENT = 1.0  # s between changes that share a body or a number and are one error
SLACK = 0.5  # s from a moment in which an error is what it is about
NOBODY = 0.3  # share of its rows that a number has to lie on some body, or it is nobody's


@dataclass(frozen=True)
class TrueError:
    """One error: ``kind`` change (a body goes on under another number, or a number on another body) or nobody (a number
    that lies on nothing); ``frames`` in which it shows, of a nobody its first and last; the ``numbers`` concerned.
    """

    kind: str
    frames: tuple[int, ...]
    numbers: frozenset[int]

    def within(self, first: float, last: float, times: Float) -> bool:
        """Whether it shows between two times, s."""
        when = times[list(self.frames)]
        if self.kind == "nobody":
            return bool(when[0] <= last and when[-1] >= first)
        return bool(((when >= first) & (when <= last)).any())


def true_errors(tracks: Tracks, truth: Truth, times: Float) -> tuple[TrueError, ...]:
    """Every error of identity in order of time; ``times`` s of the frames."""
    pairs = find_pairs(truth, tracks, least_overlap=LEAST_OVERLAP).at_least(LEAST_OVERLAP)
    chosen = assign_pairs(pairs, 1.0 + pairs.overlap)
    kept = np.flatnonzero(~pairs.excused)
    number = tracks.identity[kept][pairs.track[chosen]].astype(np.int64)
    body = truth.identity[truth.consider][pairs.truth[chosen]].astype(np.int64)
    frame = pairs.frame[chosen]
    changes = _changes(body, number, frame, times, bodies=True) + _changes(number, body, frame, times, bodies=False)
    nobody = _nobody(tracks, number, pairs)
    events = _as_events(changes, times)
    return tuple(sorted((*events, *nobody), key=lambda event: event.frames))


def hits_of(moments: Moments, errors: tuple[TrueError, ...], times: Float) -> NDArray[np.bool_]:
    """(moments, errors) whether each moment is about each error: the same number, within half a second."""
    first, last = (times[moments.frames[:, k]] for k in (1, 2))
    out = np.zeros((len(moments), len(errors)), np.bool_)
    for k, error in enumerate(errors):
        mine = np.flatnonzero(np.isin(moments.identities, list(error.numbers)).any(axis=1))
        out[mine, k] = [error.within(first[m] - SLACK, last[m] + SLACK, times) for m in mine.tolist()]
    return out


Change = tuple[int, int, frozenset[tuple[str, int]]]  # frames before and after, who is concerned


def _changes(whose: NDArray, partner: NDArray, frame: NDArray, times: Float, *, bodies: bool) -> list[Change]:
    """Where the partner of each of ``whose`` becomes another and stays so."""
    out: list[Change] = []
    for who in np.unique(whose).tolist():
        mine = np.flatnonzero(whose == who)
        mine = mine[np.argsort(frame[mine], kind="stable")]
        for before, after, at in _runs(partner[mine], frame[mine], times):
            names = ("body", "number") if bodies else ("number", "body")
            out.append((at[0], at[1], frozenset({(names[0], who), (names[1], before), (names[1], after)})))
    return out


def _runs(partner: NDArray, frame: NDArray, times: Float) -> list[tuple[int, int, tuple[int, int]]]:
    """Changes from one partner to another; a blink back and forth is none."""
    cut = np.flatnonzero(np.diff(partner)) + 1
    runs = [
        [int(partner[a]), int(frame[a]), int(frame[b - 1])]
        for a, b in zip([0, *cut.tolist()], [*cut.tolist(), len(partner)], strict=True)
    ]
    k = 1
    while k < len(runs) - 1:
        lasts = times[runs[k][2]] - times[runs[k][1]]
        if runs[k - 1][0] == runs[k + 1][0] and lasts < BLINK:
            runs[k - 1][2] = runs[k + 1][2]
            del runs[k : k + 2]
            k = max(1, k - 1)
        else:
            k += 1
    return [(a[0], b[0], (a[2], b[1])) for a, b in zip(runs, runs[1:], strict=False)]


def _as_events(changes: list[Change], times: Float) -> list[TrueError]:
    """Changes that share a body or a number within a second are one error."""
    groups: list[list[Change]] = []
    for change in sorted(changes, key=lambda c: c[1]):
        same = [
            group for group in groups
            if any(times[change[0]] - times[c[1]] <= ONE_EVENT and change[2] & c[2] for c in group)
        ]  # fmt: skip
        merged = [c for group in same for c in group] + [change]
        groups = [group for group in groups if not any(group is other for other in same)] + [merged]
    return [
        TrueError(
            "change", tuple(sorted({frame for c in group for frame in c[:2]})),
            frozenset(who for c in group for what, who in c[2] if what == "number"),
        )
        for group in groups
    ]  # fmt: skip


def _nobody(tracks: Tracks, number: NDArray, pairs: Pairs) -> list[TrueError]:
    """Numbers that lie on no body for most of their time; what covers what need not be found is left out."""
    counted = tracks.identity[~pairs.excused]
    rows = np.bincount(counted, minlength=int(tracks.identity.max(initial=0)) + 1)
    hits = np.bincount(number, minlength=len(rows))
    out = []
    for who in np.flatnonzero((rows > 0) & (hits < NOBODY * rows)).tolist():
        path = tracks.path_of(who)
        ends = int(tracks.frame[path[0]]), int(tracks.frame[path[-1]])
        out.append(TrueError("nobody", ends, frozenset({who})))
    return out
