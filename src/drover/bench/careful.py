"""Somebody who knows the truth and works moments off in the real window, as a careful person would."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from drover.core.score.pairs import assign_pairs, find_pairs
from drover.core.types import Tracks, Truth

__all__ = ["Careful", "missing_stretches"]

LEAST_MISSING = 8  # frames without a box from which a careful person draws one
NEAR = 2.0  # s round a moment in which somebody looks
SAME = 0.5  # overlap


class Matched:
    """Which number lies on which body in each frame."""

    def __init__(self, tracks: Tracks, truth: Truth) -> None:
        pairs = find_pairs(truth, tracks, least_overlap=SAME).at_least(SAME)
        chosen = assign_pairs(pairs, 1.0 + pairs.overlap)
        self.frame = pairs.frame[chosen]
        self.number = tracks.identity[np.flatnonzero(~pairs.excused)][pairs.track[chosen]]
        self.body = truth.identity[truth.consider][pairs.truth[chosen]]

    def body_of(self, number: int, first: int, last: int) -> int:
        """The body that a number lies on most between two frames, 0 for none."""
        mine = self.body[(self.number == number) & (self.frame >= first) & (self.frame <= last)]
        return int(np.bincount(mine).argmax()) if len(mine) else 0

    def numbers_of(self, body: int, first: int, last: int) -> list[int]:
        """The numbers that lie on a body between two frames, the most frequent first."""
        mine = self.number[(self.body == body) & (self.frame >= first) & (self.frame <= last)]
        votes = np.bincount(mine) if len(mine) else np.zeros(0, np.int64)
        return [int(k) for k in np.argsort(-votes) if votes[k] > 0]


def missing_stretches(tracks: Tracks, truth: Truth) -> list[tuple[int, int, int]]:
    """Body, first and last frame of every stretch in which it is to be found and nothing lies on it."""
    matched = Matched(tracks, truth)
    frame = np.repeat(np.arange(truth.frame_count), np.diff(truth.frame_start))
    out = []
    for body in np.unique(truth.identity).tolist():
        there = frame[(truth.identity == body) & truth.consider]
        lacking = np.setdiff1d(there, matched.frame[matched.body == body])
        if not len(lacking):
            continue
        cut = np.flatnonzero(np.diff(lacking) > 3) + 1
        for part in np.split(lacking, cut):
            if len(part) >= LEAST_MISSING:
                out.append((body, int(part[0]), int(part[-1])))
    return out


class Careful:
    """Answers moments in a window; ``wait`` lets it live until something holds."""

    def __init__(self, window, truth: Truth, wait: Callable[[Callable[[], bool]], None]) -> None:  # type: ignore[no-untyped-def]
        from PySide6.QtCore import QPoint, Qt
        from PySide6.QtTest import QTest

        self.window, self.truth, self.wait = window, truth, wait
        self._point, self._qt, self._test = QPoint, Qt, QTest
        self.answers: list[str] = []
        self.drawn: set[tuple[int, int]] = set()  # where a body was seen to: once is enough

    # --- what the person does -----------------------------------------------------------------------------------

    def press(self, key: str, *, ctrl: bool = False) -> None:
        """Press a letter."""
        self.window.activateWindow()
        keys = self._qt.KeyboardModifier.ControlModifier if ctrl else self._qt.KeyboardModifier.NoModifier
        self._test.keyClick(self.window, getattr(self._qt.Key, f"Key_{key}"), keys)

    def settle(self) -> None:
        """Wait until everything follows from the corrections, ranked anew."""
        session, watch = self.window.session, self.window.watch
        self.wait(
            lambda: len(session.edit_notes) == len(session.edits)
            and session.engine.fresh("edits") and not watch.waiting and not watch.busy
        )  # fmt: skip

    def review(self, most: int = 80) -> None:
        """Work through the moments that are listed."""
        reviewer = self.window.reviewer
        self.settle()
        for _ in range(most):
            if reviewer.done >= reviewer.listed:
                return
            if reviewer.current is None:
                self.press("N")
            moment = reviewer.current
            if moment is None:
                return
            before = len(self.window.session.edits)
            self.answer(moment)
            self.settle()
            if len(self.window.session.edits) == before:  # refused: nothing can be done here
                self.press("U")
                self.settle()

    def answer(self, moment) -> None:  # type: ignore[no-untyped-def]
        """Say what is true of a moment."""
        session, reviewer = self.window.session, self.window.reviewer
        self.window.playback.pause()
        matched = Matched(session.tracks, self.truth)
        reach = round(NEAR * session.clip.rate)
        drawn = self._draw_missing(moment, matched, reach)
        if drawn:
            self.settle()
            matched = Matched(session.tracks, self.truth)
        for who in dict.fromkeys((*moment.identities, reviewer.partner)):
            if who and self._put_right(who, moment, matched, reach):
                return
        self._choose(*moment.identities)
        self._say("C", "right")

    def _put_right(self, who: int, moment, matched: Matched, reach: int) -> bool:  # type: ignore[no-untyped-def]
        """Correct what is wrong with one identity; whether there was anything."""
        path = self.window.session.tracks.path_of(who)
        if not len(path):
            return False
        rows = int((matched.number == who).sum())
        if rows < 0.3 * len(path):
            self._choose(who)
            self._say("D", "drop")
            return True
        mine = np.flatnonzero(matched.number == who)
        order = np.argsort(matched.frame[mine], kind="stable")
        bodies, frames = matched.body[mine][order], matched.frame[mine][order]
        near = np.flatnonzero(
            (bodies[1:] != bodies[:-1]) & (frames[1:] >= moment.first - reach) & (frames[:-1] <= moment.last + reach)
        )
        for k in near.tolist():
            before, after = int(bodies[k]), int(bodies[k + 1])
            sides = bodies[max(0, k - 11) : k + 1] == before, bodies[k + 1 : k + 13] == after
            if min(int(side.sum()) for side in sides) < 6:
                continue
            others = [n for n in matched.numbers_of(after, frames[k] - reach, frames[k]) if n != who]
            others += [n for n in matched.numbers_of(before, frames[k + 1], frames[k + 1] + reach) if n != who]
            self.window.playback.go(int(frames[k + 1]))
            if others:
                self._choose(who, others[0])
                self._say("S", "swap")
            else:
                self._choose(who)
                self._say("T", "cut")
            return True
        return self._join(who, matched, reach)

    def _join(self, who: int, matched: Matched, reach: int) -> bool:
        tracks = self.window.session.tracks
        path = tracks.path_of(who)
        first, last = int(tracks.frame[path[0]]), int(tracks.frame[path[-1]])
        body = matched.body_of(who, first, last)
        for other in matched.numbers_of(body, first - 4 * reach, last + 4 * reach):
            theirs = tracks.path_of(other)
            if other == who or not len(theirs) or matched.body_of(other, 0, tracks.frame_count) != body:
                continue
            if tracks.frame[theirs[-1]] < first or tracks.frame[theirs[0]] > last:
                self._choose(who, other)
                self._say("J", "join")
                return True
        return False

    def _draw_missing(self, moment, matched: Matched, reach: int) -> bool:  # type: ignore[no-untyped-def]
        """Draw boxes for bodies that have none in what is played round the moment, and fill what is between."""
        tracks, drew = self.window.session.tracks, False
        for body, first, last in missing_stretches(tracks, self.truth):
            if last < moment.first - reach or first > moment.last + reach:
                continue
            who = self._whose(matched, body, first, last, reach)
            if not who or (body, first // 50) in self.drawn:
                continue
            self.drawn.add((body, first // 50))
            keys = self._key_frames(body, first, last)
            there = set(tracks.frame[tracks.path_of(who)].tolist())
            outside = {first: first - 1 in there, last: last + 1 in there}
            replaced = bool(there & set(range(first, last + 1)))
            wanted = [k for k in keys if replaced or k not in outside or not outside[k]]
            for frame in wanted:
                self._draw(who, body, frame)
            if replaced:
                self.window.playback.go(keys[0])
                self._choose(who)
                self.press("G")
                self.settle()
                self.answers.append("fill")
            drew = True
        return drew

    @staticmethod
    def _whose(matched: Matched, body: int, first: int, last: int, reach: int) -> int:
        """The number that the body has after a stretch or had before it, and that is on no other in it; 0 for none."""
        for who in (*matched.numbers_of(body, last, last + reach), *matched.numbers_of(body, first - reach, first)):
            if matched.body_of(who, first, last) in (0, body):
                return who
        return 0

    def _key_frames(self, body: int, first: int, last: int) -> list[int]:
        """Frames between which it goes straight enough."""
        keys = [first, last]
        while len(keys) < 8:
            off = {frame: self._guessed(body, keys, frame) for frame in range(first + 1, last)}
            wrong = [frame for frame, overlap in off.items() if overlap < SAME]
            if len(wrong) < LEAST_MISSING:
                break
            keys = sorted([*keys, min(off, key=lambda frame: off[frame])])
        return keys

    def _guessed(self, body: int, keys: list[int], frame: int) -> float:
        """How far a body's box lies over what is drawn straight between key frames."""
        corners = np.array([self._true_box(body, key) for key in keys])
        return _overlap(np.array([np.interp(frame, keys, side) for side in corners.T]), self._true_box(body, frame))

    def _true_box(self, body: int, frame: int) -> NDArray[np.float64]:
        rows = self.truth.rows_of(frame)
        mine = np.flatnonzero(self.truth.identity[rows] == body)
        return self.truth.box[rows.start + mine[0]].astype(np.float64) if len(mine) else np.zeros(4)

    def _draw(self, who: int, body: int, frame: int) -> None:
        """Drag a box on the field."""
        window, box = self.window, self._true_box(body, frame)
        window.playback.go(frame)
        self._choose(who)
        self.wait(lambda: window.field.drawn_frame == frame)
        self.press("B", ctrl=True)
        view, left = window.field.view, self._qt.MouseButton.LeftButton
        ends = [view.to_widget(float(x), float(y)).toPoint() for x, y in (box[:2], box[2:])]
        self._test.mousePress(window.field, left, pos=ends[0])
        self._test.mouseMove(window.field, ends[1])
        self._test.mouseRelease(window.field, left, pos=ends[1])
        self.settle()
        self.answers.append("box")

    def _choose(self, *who: int) -> None:
        self.window.session.view.select(*who)

    def _say(self, key: str, word: str) -> None:
        self.press(key)
        self.answers.append(word)


def _overlap(a: NDArray[np.float64], b: NDArray[np.float64]) -> float:
    shared = np.maximum(np.minimum(a[2:], b[2:]) - np.maximum(a[:2], b[:2]), 0).prod()
    both = (a[2:] - a[:2]).prod() + (b[2:] - b[:2]).prod() - shared
    return float(shared / both) if both > 0 else 0.0
