"""Corrections made of what a person points at: identities and a frame become places and times.

A place is taken where the identity is best told from others: seen, little covered, and near in time.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.edits.edit import Edit, Place, fraction_box
from drover.core.edits.holding import places_held
from drover.core.edits.rows import by_hand
from drover.core.errors import DroverError
from drover.core.geometry import box_area, overlap_matrix
from drover.core.types import Tracks, TrackState

__all__ = [
    "box_edit",
    "cut_edit",
    "drop_edit",
    "fill_edit",
    "join_edit",
    "said_edit",
    "seen_edit",
    "swap_edit",
]

Float = NDArray[np.float64]
Int = NDArray[np.int64]
WITHIN = 3.0  # s from where something happens in which a place to tell it by is looked for
KEYS_APART = 4.0  # s between two boxes drawn by hand that are filled between
UNSEEN = 0.5  # of overlap that a place counts as worse where the identity is only expected
INSIDE = 1.0  # s from an end or a meeting: linked otherwise it may end a little earlier
FAR = 0.1  # of overlap that a second counts for
GROWN = 0.5  # of overlap that a box counts for that is e times as big as it usually is: it holds two then


def swap_edit(tracks: Tracks, times: Float, one: int, other: int, frame: int) -> Edit:
    """From ``frame`` on each of two goes on as the other.

    Raises
    ------
    DroverError
        When one of them is not there before, or the other not after.
    """
    _both(tracks, one, other)
    pairs = []
    for a, b in ((one, other), (other, one)):
        before, after = _place(tracks, times, a, frame - 1, -1), _place(tracks, times, b, frame, 1)
        if before is not None and after is not None:
            pairs += [before, after]
    if not pairs:
        when = f"{times[frame]:.2f} s"
        raise DroverError(
            f"{one} and {other}: neither is there before {when} with the other after; go to another frame"
        )
    return Edit(kind="same", at=_between(times, frame), places=tuple(pairs))


def join_edit(tracks: Tracks, times: Float, one: int, other: int) -> Edit:
    """Two that are one: the later goes on as the earlier.

    Raises
    ------
    DroverError
        When both are seen at the same time.
    """
    _both(tracks, one, other)
    seen = [_seen(tracks, who) for who in (one, other)]
    if tracks.frame[seen[0][0]] > tracks.frame[seen[1][0]]:
        one, other, seen = other, one, seen[::-1]
    both = np.intersect1d(tracks.frame[seen[0]], tracks.frame[seen[1]])
    if len(both):
        raise DroverError(
            f"{one} and {other} are both seen from {times[both[0]]:.2f} s to {times[both[-1]]:.2f} s; "
            "swap them from a frame on, or cut one first"
        )
    begin = int(tracks.frame[seen[1][0]])
    before, after = _place(tracks, times, one, begin - 1, -1, far=True), _place(tracks, times, other, begin, 1)
    if before is None or after is None:
        raise DroverError(f"{one} and {other}: there is no end to join; choose two that follow each other")
    return Edit(kind="same", at=_between(times, begin), places=(before, after))


def cut_edit(tracks: Tracks, times: Float, identity: int, frame: int) -> Edit:
    """From ``frame`` on it is another.

    Raises
    ------
    DroverError
        When it is not there both before and after.
    """
    before, after = _place(tracks, times, identity, frame - 1, -1, far=True), _place(tracks, times, identity, frame, 1)
    if before is None or after is None:
        raise DroverError(
            f"{identity} is not there on both sides of {times[frame]:.2f} s; choose a frame inside its way"
        )
    return Edit(kind="apart", at=_between(times, frame), places=(before, after))


def drop_edit(tracks: Tracks, times: Float, identity: int) -> Edit:
    """It is nothing, for as long as it is there."""
    path = _path(tracks, identity)
    first = int(tracks.frame[path[0]])
    clear = _clearest(tracks, times, path, float(times[tracks.frame[path[len(path) // 2]]]))
    end = _as_place(tracks, times, int(path[-1]))
    return Edit(kind="drop", at=_between(times, first), places=(clear, end))


def said_edit(tracks: Tracks, times: Float, identity: int, frame: int, kind: str, text: str) -> Edit:
    """It is of a class, or is called something or is shown in a colour (``kind`` class, name or colour)."""
    place = _clearest(tracks, times, _path(tracks, identity), float(times[frame]))
    return Edit(kind=kind, at=place.time, places=(place,), text=text)  # type: ignore[arg-type]


def seen_edit(tracks: Tracks, times: Float, who: tuple[int, ...], frame: int, kind: str) -> Edit:
    """A moment was looked at: all is right there, or it cannot be told (``kind`` right or unsure)."""
    places = []
    for identity in who[:2]:
        path = _path(tracks, identity)
        places.append(_as_place(tracks, times, int(path[np.argmin(np.abs(tracks.frame[path] - frame))])))
    return Edit(kind=kind, at=float(times[frame]), places=tuple(places))  # type: ignore[arg-type]


def box_edit(tracks: Tracks, times: Float, identity: int | None, frame: int, box: NDArray) -> Edit:
    """At ``frame`` it has this ``box`` (4,) px; without an identity, something new has."""
    sides = fraction_box(box, tracks.size)
    places, hold, way = (), (), None
    if identity is not None:

        def find(who: int, way: int) -> Place | None:
            return _place(tracks, times, who, frame + way, way, far=who == identity)

        path = _path(tracks, identity)
        nearest = int(path[np.argmin(np.abs(tracks.frame[path] - frame))])
        places = (_as_place(tracks, times, nearest),)
        way = _way_round(tracks, times, identity, frame)
        hold = places_held(tracks, times, identity, frame, box, find)
    return Edit(kind="box", at=float(times[frame]), places=places, box=sides, hold=hold, way=way)


def fill_edit(tracks: Tracks, times: Float, identity: int, frame: int) -> Edit:
    """Between the boxes drawn by hand round a frame it went straight, or else in the gap at or after it.

    Raises
    ------
    DroverError
        When there is neither.
    """
    seen = _seen(tracks, identity)
    at = tracks.frame[seen]
    drawn = seen[by_hand(tracks.detection[seen], tracks.state[seen], tracks.confidence[seen])]
    keys = _keys_round(drawn, times[tracks.frame[drawn]], float(times[frame]))
    if len(keys) > 1 and tracks.frame[keys[-1]] - tracks.frame[keys[0]] >= len(keys):
        ends = tuple(_as_place(tracks, times, int(row)) for row in (keys[0], keys[-1]))
        return Edit(kind="fill", at=ends[0].time, places=ends)
    gaps = np.flatnonzero(np.diff(at) > 1)
    ahead = [k for k in gaps.tolist() if at[k + 1] > frame]
    if not ahead:
        raise DroverError(f"{identity} has no gap at or after {times[frame]:.2f} s; go to where it is not seen")
    k = ahead[0]
    ends = tuple(_as_place(tracks, times, int(seen[j])) for j in (k, k + 1))
    return Edit(kind="fill", at=float(times[at[k]]), places=ends)


def _keys_round(rows: Int, when: Float, now: float) -> Int:
    """Of rows drawn by hand, at rising times, those that belong together and that a time lies between."""
    cut = np.flatnonzero(np.diff(when) > KEYS_APART) + 1
    for part in np.split(np.arange(len(rows)), cut):
        if len(part) and when[part[0]] <= now <= when[part[-1]]:
            return rows[part]
    return rows[:0]


def _between(times: Float, frame: int) -> float:
    """A time half a frame before a frame: what begins there begins with it, whatever is rounded."""
    before = times[frame - 1] if frame > 0 else times[frame]
    return float((before + times[frame]) / 2)


def _path(tracks: Tracks, identity: int) -> Int:
    path = tracks.path_of(identity)
    if not len(path):
        raise DroverError(f"there is no identity {identity}; choose one on the field or in the lanes")
    return path


def _way_round(tracks: Tracks, times: Float, identity: int, frame: int) -> tuple[float, float]:
    """Times of where it is seen before and after a frame, those of the frame itself where it is not."""
    at = tracks.frame[_seen(tracks, identity)]
    before, after = at[at < frame][-1:], at[at > frame][:1]
    return float(times[before[0] if len(before) else frame]), float(times[after[0] if len(after) else frame])


def _both(tracks: Tracks, one: int, other: int) -> None:
    for who in (one, other):
        _path(tracks, who)
    if one == other:
        raise DroverError(f"{one} is one already; choose two identities")


def _seen(tracks: Tracks, identity: int) -> Int:
    path = _path(tracks, identity)
    seen = path[tracks.state[path] != TrackState.COASTING]
    return seen if len(seen) else path


def _place(tracks: Tracks, times: Float, identity: int, frame: int, way: int, *, far: bool = False) -> Place | None:
    """Where it is best told from others on one side of a frame, within some seconds of it or of its nearest row."""
    path = tracks.path_of(identity)
    at = tracks.frame[path]
    side = path[at <= frame] if way < 0 else path[at >= frame]
    if not len(side):
        return None
    nearest = int(tracks.frame[side[-1] if way < 0 else side[0]])
    start = nearest if far else frame
    when = times[min(max(start, 0), len(times) - 1)]
    near = side[np.abs(times[tracks.frame[side]] - when) <= WITHIN]
    return _clearest(tracks, times, near, when + way * INSIDE) if len(near) else None


def _clearest(tracks: Tracks, times: Float, rows: Int, when: float) -> Place:
    """The place among ``rows`` of an identity where it is least covered by others, near a time, and seen."""
    step = max(1, len(rows) // 60)
    best, least = int(rows[0]), np.inf
    area = _area(tracks.box[rows])
    usual = float(np.quantile(area, 0.25))
    for row in rows[::step].tolist():
        here = tracks.rows_of(int(tracks.frame[row]))
        overlap = overlap_matrix(tracks.box[row : row + 1], tracks.box[here])[0]
        overlap[row - here.start] = 0.0
        worse = float(overlap.max(initial=0.0)) + FAR * abs(float(times[tracks.frame[row]]) - when)
        worse += GROWN * max(0.0, float(np.log(_area(tracks.box[row : row + 1])[0] / usual)))
        worse += UNSEEN if tracks.state[row] == TrackState.COASTING else 0.0
        if worse < least:
            best, least = row, worse
    return _as_place(tracks, times, best)


def _area(box: NDArray) -> Float:
    return np.maximum(box_area(box), 1.0)


def _as_place(tracks: Tracks, times: Float, row: int) -> Place:
    return Place(time=float(times[tracks.frame[row]]), box=fraction_box(tracks.box[row], tracks.size))
