"""Broken tracks joined over the whole clip, as one assignment of ends to beginnings.

A track that ends in the middle of the picture and one that begins there later may be one animal that was hidden.
Each such pair is judged by motion (where either would have been had it kept its speed, or slowed down), by size and
by time; all ends and beginnings are then matched at least total cost (Kuhn 1955), as in Huang, Wu and Nevatia 2008,
"Robust object tracking by hierarchical association of detection responses", section 4.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from drover.core.assignment import solve_assignment
from drover.core.recipe import AfterSettings
from drover.core.types import Tracks, TrackState

__all__ = ["join_broken"]

Float = NDArray[np.float64]
LOOK_BACK = 25  # rows from which the speed at an end is taken: the last few are of what is half hidden
EDGE = 0.75  # sizes: an end nearer to the picture's edge than that went out there
SLACK = 0.6  # sizes that a guess may be off at once
DRIFT = 1.3  # sizes that a guess may be off for each second
LEAST_ROWS = 3
CUT_FROM = 0.15  # s: a gap from which the two sides are compared anew
CUT_FRAMES = 2.5  # frames that such a gap has at least
AS_LINKED = 0.15  # cost less for going on as it was linked
AS_LINKED_AT_MOST = 1.6  # cost of going on as it was linked, whatever speaks against it
REFUSED = 1e6


@dataclass(frozen=True)
class _Ends:
    """One end of every track: frame, time s, centre px, speed px/s, size px, and whether it is at the edge."""

    frame: NDArray[np.int64]
    time: Float
    centre: Float
    speed: Float
    size: Float
    at_edge: NDArray[np.bool_]


def join_broken(tracks: Tracks, times: Float, settings: AfterSettings) -> Tracks:
    """Tracks with broken ones joined; the joined keep the earlier number, numbers stay without gaps.

    Rows of the break are added as coasting, in a straight line.
    """
    if len(tracks.paths.identity) < 1:
        return tracks
    tracks, linked = _cut_at_gaps(tracks, times)
    if len(tracks.paths.identity) < 2:
        return tracks
    last, first = _ends(tracks, times, at_start=False), _ends(tracks, times, at_start=True)
    cost = _costs(last, first, settings.join_within)
    for a, b in linked:
        cost[a, b] = min(cost[a, b] - AS_LINKED, AS_LINKED_AT_MOST)
    # Where nothing stands against it a piece goes on as it was linked, or ends.
    ends, starts = solve_assignment(np.minimum(cost, REFUSED))
    good = cost[ends, starts] < REFUSED
    if not good.any():
        return tracks
    follows = {int(a): int(b) for a, b in zip(ends[good], starts[good], strict=True)}
    return _rebuilt(tracks, follows)


def _cut_at_gaps(tracks: Tracks, times: Float) -> tuple[Tracks, list[tuple[int, int]]]:
    """Tracks cut where they coasted for long, and which pieces (places among the paths) were linked.

    While it tracks, the tracker has to decide at the first glimpse of what comes back; afterwards the whole of
    what went and of what came back can be compared.
    """
    paths = tracks.paths
    piece = np.zeros(len(tracks), np.int64)
    longest = max(CUT_FROM, CUT_FRAMES * float(np.median(np.diff(times)))) if len(times) > 1 else CUT_FROM
    number, linked = 0, []
    for k in range(len(paths.identity)):
        rows = paths.row[paths.start[k] : paths.start[k + 1]]
        seen = np.flatnonzero(tracks.state[rows] != TrackState.COASTING)
        when = times[tracks.frame[rows[seen]]]
        breaks = np.flatnonzero(np.diff(when) > longest)
        piece[rows] = number
        for at in breaks.tolist():
            piece[rows[seen[at] + 1 : seen[at + 1]]] = -1
            piece[rows[seen[at + 1] :]] = number + 1
            linked.append((number, number + 1))
            number += 1
        number += 1
    keep = piece >= 0
    counts = np.bincount(tracks.frame[keep], minlength=tracks.frame_count)
    columns = [name for name in _ROW_COLUMNS if getattr(tracks, name) is not None]
    cut = replace(
        tracks,
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        identity=(piece[keep] + 1).astype(np.int32),
        **{name: getattr(tracks, name)[keep] for name in columns},
    )
    order = np.lexsort((cut.identity, cut.frame))
    return replace(cut, identity=cut.identity[order], **{n: getattr(cut, n)[order] for n in columns}), linked


_ROW_COLUMNS = ("box", "state", "detection", "confidence", "class_id", "distance", "margin", "nis")


def _ends(tracks: Tracks, times: Float, *, at_start: bool) -> _Ends:
    paths, n = tracks.paths, len(tracks.paths.identity)
    frame, centre, size, speed = np.zeros(n, np.int64), np.zeros((n, 2)), np.zeros((n, 2)), np.zeros((n, 2))
    for k in range(n):
        rows = paths.row[paths.start[k] : paths.start[k + 1]]
        seen = rows[tracks.state[rows] != TrackState.COASTING]
        seen = seen if len(seen) else rows
        part = seen[:LOOK_BACK] if at_start else seen[-LOOK_BACK:]
        box = tracks.box[part].astype(np.float64)
        middle, when = (box[:, :2] + box[:, 2:]) / 2, times[tracks.frame[part]]
        here = 0 if at_start else -1
        frame[k], centre[k] = tracks.frame[part[here]], middle[here]
        whole = tracks.box[seen].astype(np.float64)
        size[k] = np.median(whole[:, 2:] - whole[:, :2], axis=0)
        if len(part) >= LEAST_ROWS and when[-1] > when[0]:
            speed[k] = np.polyfit(when - when[0], middle, 1)[0]
    width, height = tracks.size
    room = EDGE * size
    at_edge = (centre < room).any(axis=1) | (centre > np.array([width, height]) - room).any(axis=1)
    return _Ends(frame, times[frame], centre, speed, np.maximum(size, 1.0), np.asarray(at_edge, np.bool_))


def _costs(last: _Ends, first: _Ends, within: float) -> Float:
    """Cost of each end going on in each beginning, (ends, beginnings); ``REFUSED`` or more where it cannot."""
    wait = first.time[None, :] - last.time[:, None]
    possible = (wait > 0) & (wait <= within + 1e-9) & ~last.at_edge[:, None] & ~first.at_edge[None, :]
    way = first.centre[None, :, :] - last.centre[:, None, :]
    length = np.sqrt((last.size[:, None, :] * first.size[None, :, :]).prod(axis=2)) ** 0.5
    waited = np.maximum(wait, 0.0)[:, :, None]
    guesses = [
        np.linalg.norm(way - speed * share * waited, axis=2)
        for speed in (last.speed[:, None, :], first.speed[None, :, :])
        for share in (1.0, 0.6, 0.3)
    ]
    off = np.minimum.reduce(guesses) / (length * (SLACK + DRIFT * waited[:, :, 0]))
    grown = np.abs(np.log(first.size[None, :, :] / last.size[:, None, :])).sum(axis=2)
    cost = off + 0.8 * grown + 1.0 * _turned(last, first, way) + 0.1 * waited[:, :, 0]
    return np.where(possible & (off <= 1.0) & (grown <= 0.9), cost, REFUSED)


def _turned(last: _Ends, first: _Ends, way: Float) -> Float:
    """How much both speeds turn away from the way between, 0 straight on to 1 straight back."""
    out = np.zeros(way.shape[:2])
    far = np.linalg.norm(way, axis=2)
    for speed in (last.speed[:, None, :], first.speed[None, :, :]):
        fast = np.linalg.norm(speed, axis=2)
        cosine = (way * speed).sum(axis=2) / np.maximum(far * fast, 1e-9)
        out += np.where((fast > 20.0) & (far > 8.0), 0.25 * (1.0 - cosine), 0.0)
    return out


def _rebuilt(tracks: Tracks, follows: dict[int, int]) -> Tracks:
    """The table with identities joined and their breaks filled with coasting rows."""
    paths, n = tracks.paths, len(tracks.paths.identity)
    head = np.arange(n)
    for a in sorted(follows, key=lambda k: int(paths.frame[paths.start[k]])):
        head[follows[a]] = head[a]
    order = np.unique(head)
    number = np.zeros(int(paths.identity.max()) + 1, np.int32)
    number[paths.identity] = (np.searchsorted(order, head) + 1).astype(np.int32)
    joined = replace(tracks, identity=number[tracks.identity])
    added = [_bridge(tracks, a, b) for a, b in follows.items()]
    frame = np.concatenate([tracks.frame, *(part[0] for part in added)])
    box = np.concatenate([tracks.box, *(part[1] for part in added)])
    who = np.concatenate([joined.identity, *(np.full(len(p[0]), number[p[2]], np.int32) for p in added)])
    kind = np.concatenate([tracks.class_id, *(np.full(len(p[0]), p[3], np.int16) for p in added)])
    more = len(frame) - len(tracks.frame)
    place = np.lexsort((who, frame))
    counts = np.bincount(frame, minlength=tracks.frame_count)

    def longer(column: NDArray, value: float) -> NDArray:
        return np.concatenate([column, np.full(more, value, column.dtype)])[place]

    return replace(
        tracks,
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        identity=who[place].astype(np.int32),
        box=box[place],
        state=longer(tracks.state, int(TrackState.COASTING)),
        detection=longer(tracks.detection, -1),
        confidence=longer(tracks.confidence, 0.0),
        class_id=kind[place],
        distance=longer(tracks.distance, np.nan),
        margin=None if tracks.margin is None else longer(tracks.margin, np.nan),
        nis=None if tracks.nis is None else longer(tracks.nis, np.nan),
    )


def _bridge(tracks: Tracks, a: int, b: int) -> tuple[NDArray[np.int64], NDArray[np.float32], int, int]:
    """Frames and boxes between the end of path ``a`` and the beginning of path ``b``, its identity and class."""
    paths = tracks.paths
    end, start = int(paths.row[paths.start[a + 1] - 1]), int(paths.row[paths.start[b]])
    first, past = int(tracks.frame[end]) + 1, int(tracks.frame[start])
    frames = np.arange(first, past)
    share = ((frames - first + 1) / max(1, past - first + 1))[:, None]
    box = tracks.box[end] * (1 - share) + tracks.box[start] * share
    return frames, box.astype(np.float32), int(tracks.identity[end]), int(tracks.class_id[end])
