"""Corrections applied to the tracks of a clip, one after the other, and what came of each."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from drover.core.edits.edit import Edit, Place
from drover.core.edits.finding import identity_at
from drover.core.edits.holding import whose
from drover.core.edits.rows import EditedRows, by_hand
from drover.core.geometry import overlap_matrix
from drover.core.types import Tracks, TrackState

__all__ = ["EditNote", "Edited", "apply_edits"]

Float = NDArray[np.float64]


@dataclass(frozen=True)
class EditNote:
    """What came of one correction: ``fits``, ``identities`` that it is about now, ``words`` why it has nothing to do
    or fits no more.
    """

    fits: bool
    identities: tuple[int, ...] = ()
    words: str = ""
    changed: bool = True


@dataclass(frozen=True, eq=False)
class Edited:
    """Tracks with the corrections in them, a note for each, and the names and colours given to identities."""

    tracks: Tracks
    notes: tuple[EditNote, ...] | None = ()
    names: dict[int, str] = field(default_factory=dict)
    colours: dict[int, str] = field(default_factory=dict)


_Said = dict[str, dict[int, str]]  # names and colours by identity
ELSEWHERE = 0.1  # overlap under which a box is at another place
BESIDE = 4.0  # s from a box drawn by hand to where it is seen next, within which it is taken to have gone straight


class _MisfitError(Exception):
    """A correction that has nothing to hold on to."""


def apply_edits(tracks: Tracks, times: Float, edits: tuple[Edit, ...]) -> Edited:
    """The tracks after all corrections, in their order.

    Each looks for what it is about by place and time among what the ones before it left, whatever the numbers are.
    ``scene_box`` is left to whoever knows the camera. ``times`` (frames,) s.
    """
    if not edits or tracks.frame_count == 0:
        return Edited(tracks, tuple(EditNote(False, (), "the clip has no frames") for _ in edits))
    said: _Said = {"name": {}, "colour": {}}
    rows, notes = EditedRows(tracks, times), []
    for edit in edits:
        try:
            notes.append(_KINDS[edit.kind](rows, edit, said))
        except _MisfitError as why:
            notes.append(EditNote(False, (), str(why), changed=False))
    return Edited(rows.table(), tuple(notes), said["name"], said["colour"])


def _who(rows: EditedRows, place: Place) -> int:
    who = identity_at(rows, place)
    if who is None:
        raise _MisfitError(f"nothing is at its place at {place.time:.2f} s")
    return who


def _same(rows: EditedRows, edit: Edit, said: _Said) -> EditNote:
    del said
    found, changed = [], False
    for before, after in zip(edit.places[::2], edit.places[1::2], strict=True):
        one, other = _who(rows, before), _who(rows, after)
        if one != other:
            _change_over(rows, one, other, _first_frame(rows, edit.at), before, after)
            changed = True
        found.append(one)
    return EditNote(True, tuple(found), "" if changed else "the links are right without it", changed)


def _first_frame(rows: EditedRows, time: float) -> int:
    """The first frame at or after a time, half a frame forgiven."""
    return int(np.searchsorted(rows.times, time - 1e-6))


def _change_over(rows: EditedRows, one: int, other: int, frame: int, before: Place, after: Place) -> None:
    """From ``frame`` on ``one`` goes where ``other`` went, and the other way round.

    Where the other began a little earlier, after the one had gone, it changes over there: no piece of it is left.
    """
    mine, others = rows.path_of(one), rows.path_of(other)
    begin = int(rows.frame[others[0]])
    last = rows.frame[mine][rows.frame[mine] < frame]
    if begin < frame and before.time <= rows.times[begin] and (not len(last) or int(last[-1]) < begin):
        frame = begin
    goes, comes = mine[rows.frame[mine] >= frame], others[rows.frame[others] >= frame]
    if not len(comes):
        raise _MisfitError(f"what is there at {after.time:.2f} s ends before it is taken up")
    rows.identity[comes] = one
    rows.identity[goes] = other
    left = rows.identity == other
    if (rows.columns["state"][left] == TrackState.COASTING).all():  # nobody saw what would be left of it
        rows.take(~left)


def _change_over_if_there(rows: EditedRows, one: int, other: int, frame: int, before: Place, after: Place) -> None:
    with suppress(_MisfitError):
        _change_over(rows, one, other, frame, before, after)


def _apart(rows: EditedRows, edit: Edit, said: _Said) -> EditNote:
    del said
    before, after = edit.places
    one, other = _who(rows, before), _who(rows, after)
    if one != other:
        return EditNote(True, (one, other), "they are two without it", changed=False)
    mine = rows.path_of(one)
    tail = mine[rows.frame[mine] >= _first_frame(rows, edit.at)]
    if not len(tail) or len(tail) == len(mine):
        raise _MisfitError(f"there is nothing to cut at {edit.at:.2f} s")
    other = rows.new_identity()
    rows.identity[tail] = other
    return EditNote(True, (one, other))


def _drop(rows: EditedRows, edit: Edit, said: _Said) -> EditNote:
    del said
    first, last = edit.places
    who = _who(rows, first)
    from_frame, to_frame = _first_frame(rows, edit.at), rows.frame_at(last.time)
    gone = (rows.identity == who) & (rows.frame >= from_frame) & (rows.frame <= to_frame)
    rows.take(~gone)
    return EditNote(True, (who,))


def _class(rows: EditedRows, edit: Edit, said: _Said) -> EditNote:
    del said
    who = _who(rows, edit.places[0])
    rows.columns["class_id"][rows.path_of(who)] = rows.class_number(edit.text)
    return EditNote(True, (who,))


def _name(rows: EditedRows, edit: Edit, said: _Said) -> EditNote:
    """What it is called, or the colour that it is shown in."""
    who = _who(rows, edit.places[0])
    known = said[edit.kind]
    known.pop(who, None)
    if edit.text:
        known[who] = edit.text
    return EditNote(True, (who,))


def _box(rows: EditedRows, edit: Edit, said: _Said) -> EditNote:
    del said
    assert edit.box is not None
    if edit.at > rows.times[-1] + 1.0:
        raise _MisfitError(f"the clip ends before {edit.at:.2f} s")
    frame = rows.frame_at(edit.at)
    who = whose(rows, edit.hold, frame, _change_over_if_there)
    who = identity_at(rows, edit.places[0]) if edit.places and who is None else who
    words = "nothing else is at its place now; it is one of its own" if edit.places and who is None else ""
    who = rows.new_identity() if who is None else who
    width, height = rows.source.size
    box = np.array(edit.box)[None] * (width, height, width, height)
    if edit.places and _is_elsewhere(rows, who, frame, box, edit.places[0]):
        who = _cut_off(rows, who, frame, rows.frame_at(edit.places[0].time))
        words = "it would be at two places at once; cut in two"
    rows.put(who, np.array([frame]), box, state=TrackState.CONFIRMED, over=True)
    _fill_beside(rows, who, frame, edit.way)
    return EditNote(True, (who,), words)


def _is_elsewhere(rows: EditedRows, who: int, frame: int, box: Float, place: Place) -> bool:
    """Whether an identity is at another place in the frame for which it gets a box, and was not when it got it.

    A box that was moved was told by its own place in that frame, one that was added by a place at another time.
    """
    if rows.frame_at(place.time) == frame:
        return False
    here = rows.rows_of(frame)
    mine = here.start + np.flatnonzero(rows.identity[here] == who)
    if not len(mine):
        return False
    theirs = rows.columns["box"][mine[:1]]
    return float(overlap_matrix(theirs, box.astype(np.float32))[0, 0]) < ELSEWHERE


def _cut_off(rows: EditedRows, who: int, frame: int, place: int) -> int:
    """What an identity is from its place on, away from a frame, as one of its own."""
    other = rows.new_identity()
    beyond = rows.frame >= place if place > frame else rows.frame <= place
    rows.identity[(rows.identity == who) & beyond] = other
    return other


def _fill_beside(rows: EditedRows, who: int, frame: int, way: tuple[float, float] | None) -> None:
    """From a box drawn by hand it went straight to where it is seen next, before and after, if that is near in time.

    Where it went straight on when the box was drawn (``way``, s) it does so still, whatever else is found there now.
    """
    mine = rows.path_of(who)
    at = rows.frame[mine[rows.columns["state"][mine] != TrackState.COASTING]]
    begin, end = (frame - 1, frame + 1) if way is None else (rows.frame_at(way[0]), rows.frame_at(way[1]))
    for near in (at[at <= min(begin, frame - 1)][-1:], at[at >= max(end, frame + 1)][:1]):
        if len(near) and abs(rows.times[int(near[0])] - rows.times[frame]) <= BESIDE:
            _straight(rows, who, min(int(near[0]), frame), max(int(near[0]), frame), over=way is not None)


def _straight(rows: EditedRows, who: int, begin: int, end: int, *, over: bool = False) -> int:
    """Let an identity go straight from where it is seen to where it is seen next, between two frames; rows put.

    Between boxes drawn by hand whatever was found gives way; ``over`` lets it do so between the two frames as well.
    """
    mine = rows.path_of(who)
    seen = mine[rows.columns["state"][mine] != TrackState.COASTING]
    knots = seen[(rows.frame[seen] >= begin) & (rows.frame[seen] <= end)]
    hand = by_hand(*(rows.columns[name][knots] for name in ("detection", "state", "confidence")))
    if over:
        hand[[0, -1]] = True
    drawn = np.flatnonzero(hand)
    if len(drawn):
        inner = np.arange(len(knots))
        knots = knots[hand | (inner < drawn[0]) | (inner > drawn[-1])]
    at, sides = rows.frame[knots], rows.columns["box"][knots].astype(np.float64)
    frame = np.setdiff1d(np.arange(begin + 1, end), at)
    box = np.column_stack([np.interp(frame, at, sides[:, c]) for c in range(4)])
    return rows.put(who, frame, box, state=TrackState.COASTING, over=True)


def _fill(rows: EditedRows, edit: Edit, said: _Said) -> EditNote:
    del said
    first, last = edit.places
    one, other = _who(rows, first), _who(rows, last)
    if one != other:  # it went from the one place to the other: they are the same
        _change_over(rows, one, other, rows.frame_at(last.time), first, last)
    mine = rows.path_of(one)
    seen = mine[rows.columns["state"][mine] != TrackState.COASTING]
    low, high = rows.frame_at(first.time), rows.frame_at(last.time)
    left, right = seen[rows.frame[seen] <= low], seen[rows.frame[seen] >= high]
    if not len(left) or not len(right):
        raise _MisfitError("it is not seen at both ends of the gap")
    n = _straight(rows, one, int(rows.frame[left[-1]]), int(rows.frame[right[0]]))
    return EditNote(True, (one,), "" if n else "there is no gap any more", changed=n > 0)


def _looked_at(rows: EditedRows, edit: Edit, said: _Said) -> EditNote:
    del said
    return EditNote(True, tuple(_who(rows, place) for place in edit.places), changed=False)


_KINDS: dict[str, Callable[[EditedRows, Edit, _Said], EditNote]] = {
    "same": _same, "apart": _apart, "drop": _drop, "class": _class, "name": _name, "colour": _name,
    "box": _box, "fill": _fill, "right": _looked_at, "unsure": _looked_at,
}  # fmt: skip
