"""Moments: places in the result that deserve a look, found without any truth and ranked by how much they do.

Each kind has a score between 0 and 1, for how likely such a thing goes with a wrong identity, raised when a
crossing of a line hangs on it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.geometry import overlap_matrix, pair_overlap
from drover.core.settings.base import Points
from drover.core.track.exits import in_exits
from drover.core.track.looks import look_changes
from drover.core.types import Crossings, Tracks, TrackState, Truth

__all__ = ["KINDS", "Moment", "MomentHits", "find_moments", "moments_against_truth"]

Float = NDArray[np.float64]
KINDS = {
    "gap": "long gap",
    "shared": "two in one blob",
    "meet": "two pass through each other",
    "margin": "close call between two",
    "begin": "begins away from the edge",
    "end": "ends away from the edge",
    "size": "sudden change of size",
    "speed": "sudden change of speed",
    "look": "sudden change of look",
}
EDGE = 1.0  # sizes from the picture's edge within which a birth or an end is in order
MEETING = 0.15  # overlap of two boxes from which they are in each other's gate
SMALL_MARGIN = 0.25  # of cost: a link that beats its runner-up by less is a close call
LEAST_GAP = 0.24  # s
NEAR = 0.6  # s: moments of one identity nearer than this are one
COUNTS = 0.25  # what a crossing within a second adds to a moment's score
SIZE_JUMP = 0.45  # summed log ratio of the sides within a fifth of a second
LOOK_SPAN = 8  # detections on either side that a change of look is judged by
LOOK_CHANGE = 0.5  # of a whole change of look
SPEED_JUMP = 0.35  # of the size, px/frame of change within a few frames


@dataclass(frozen=True)
class Moment:
    """A place worth a look.

    ``frame`` is where to look, ``first`` and ``last`` frame what it is about; ``identities`` those concerned;
    ``kind`` a key of :data:`KINDS`; ``score`` 0..1; ``counted`` whether a crossing hangs on it.
    """

    frame: int
    first: int
    last: int
    kind: str
    score: float
    identities: tuple[int, ...]
    counted: bool = False

    @property
    def doubt(self) -> float:
        """The score without what was added because a crossing hangs on it."""
        return self.score - COUNTS if self.counted else self.score

    @property
    def words(self) -> str:
        """What it is, in plain words."""
        who = " and ".join(str(identity) for identity in self.identities[:3])
        return f"{KINDS[self.kind]}: {who}" + (", and a count hangs on it" if self.counted else "")


def find_moments(
    tracks: Tracks,
    times: Float,
    crossings: Crossings | None = None,
    *,
    look: NDArray[np.uint8] | None = None,
    exits: tuple[Points, ...] = (),
) -> tuple[Moment, ...]:
    """All moments of a result, the most doubtful first.

    ``look`` (detections, 32) is how each detection looks, where anybody looked; in ``exits``, polygons in fractions,
    births and ends are in order.
    """
    if len(tracks) == 0:
        return ()
    found: list[Moment] = []
    for k in range(len(tracks.paths.identity)):
        found += _of_path(tracks, times, k, exits)
    found += _shared(tracks) + _meetings(tracks)
    if look is not None and len(look):
        found += _changed_looks(tracks, look)
    merged = _merged(found, times)
    counted = [_with_count(moment, crossings, times) for moment in merged]
    return tuple(sorted(counted, key=lambda m: (-m.score, m.frame, m.identities)))


def _of_path(tracks: Tracks, times: Float, k: int, exits: tuple[Points, ...]) -> list[Moment]:
    """Gaps, close calls, odd beginnings and ends, and jumps of one identity."""
    paths = tracks.paths
    rows = paths.row[paths.start[k] : paths.start[k + 1]]
    frames, who = tracks.frame[rows], (int(paths.identity[k]),)
    box = tracks.box[rows].astype(np.float64)
    size = np.maximum(np.median(box[:, 2:] - box[:, :2], axis=0), 1.0)
    unseen = tracks.state[rows] == TrackState.COASTING
    out = _gaps(frames, times, unseen, box, size, who)
    out += _ends(tracks, frames, box, size, who, exits)
    if tracks.margin is not None:
        close = np.flatnonzero(tracks.margin[rows] < SMALL_MARGIN)
        out += [
            Moment(
                int(frames[p]),
                int(frames[p]),
                int(frames[p]),
                "margin",
                _margin_score(float(tracks.margin[rows[p]])),
                who,
            )
            for p in close.tolist()
        ]
    return out + _jumps(frames, times, unseen, box, size, who)


def _margin_score(margin: float) -> float:
    return 0.25 + 0.35 * max(0.0, 1.0 - max(float(margin), 0.0) / SMALL_MARGIN)


def _gaps(
    frames: NDArray[np.int64], times: Float, unseen: NDArray[np.bool_], box: Float, size: Float, who: tuple[int, ...]
) -> list[Moment]:
    edge = np.diff(np.concatenate([[0], unseen.astype(np.int8), [0]]))
    out = []
    for first, past in zip(np.flatnonzero(edge == 1).tolist(), np.flatnonzero(edge == -1).tolist(), strict=True):
        if first == 0 or past >= len(frames):
            continue
        seconds = float(times[frames[past]] - times[frames[first - 1]])
        if seconds < LEAST_GAP:
            continue
        moved = np.abs(box[past, :2] - box[first - 1, :2]).sum() / size.sum()
        score = min(0.95, 0.35 + 0.3 * min(seconds, 2.0) / 2.0 + 0.15 * min(moved, 2.0) / 2.0)
        out.append(Moment(int(frames[past]), int(frames[first - 1]), int(frames[past]), "gap", score, who))
    return out


def _ends(
    tracks: Tracks,
    frames: NDArray[np.int64],
    box: Float,
    size: Float,
    who: tuple[int, ...],
    exits: tuple[Points, ...],
) -> list[Moment]:
    width, height = tracks.size
    room = EDGE * size
    out = []
    for place, kind, clip_end in ((0, "begin", 0), (-1, "end", tracks.frame_count - 1)):
        x1, y1, x2, y2 = box[place]
        inside = x1 > room[0] and y1 > room[1] and x2 < width - room[0] and y2 < height - room[1]
        at = int(frames[place])
        middle = (box[place : place + 1 or None, :2] + box[place : place + 1 or None, 2:]) / 2
        if inside and abs(at - clip_end) > 2 and not in_exits(middle, exits, tracks.size)[0]:
            out.append(Moment(at, at, at, kind, 0.7, who))
    return out


def _jumps(
    frames: NDArray[np.int64], times: Float, unseen: NDArray[np.bool_], box: Float, size: Float, who: tuple[int, ...]
) -> list[Moment]:
    """Sudden changes of size and of speed, a fifth of a second apart."""
    if len(frames) < 12:
        return []
    step = max(2, round(0.2 / max(float(np.median(np.diff(times[frames]))), 1e-6)))
    if len(frames) <= 2 * step:
        return []
    sides = np.log(np.maximum(box[:, 2:] - box[:, :2], 1.0))
    grown = np.abs(sides[step:] - sides[:-step]).sum(axis=1)
    middle = (box[:, :2] + box[:, 2:]) / 2
    speed = (middle[step:] - middle[:-step]) / step
    change = np.linalg.norm(speed[step:] - speed[:-step], axis=1) / np.sqrt(size.prod())
    out = []
    for kind, values, limit, shift in (("size", grown, SIZE_JUMP, step // 2), ("speed", change, 0.06, step)):
        for p in _peaks(values, limit).tolist():
            at = min(p + shift, len(frames) - 1)
            if not unseen[at]:
                score = min(0.6, 0.2 + 0.2 * values[p] / limit / 2)
                out.append(Moment(int(frames[at]), int(frames[p]), int(frames[at]), kind, float(score), who))
    return out


def _peaks(values: Float, limit: float) -> NDArray[np.int64]:
    """The largest place of each stretch over the limit."""
    over = np.concatenate([[0], (values > limit).astype(np.int8), [0]])
    edge = np.diff(over)
    spans = zip(np.flatnonzero(edge == 1), np.flatnonzero(edge == -1), strict=True)
    return np.array([a + int(np.argmax(values[a:b])) for a, b in spans], np.int64)


def _shared(tracks: Tracks) -> list[Moment]:
    """Stretches in which identities were linked to one blob."""
    linked = tracks.detection >= 0
    row = np.flatnonzero(linked)
    order = row[np.argsort(tracks.detection[row], kind="stable")]
    blob = tracks.detection[order]
    again = np.flatnonzero(np.diff(blob) == 0)
    stretches: dict[tuple[int, int], list[int]] = {}
    for p in again.tolist():
        pair = sorted((int(tracks.identity[order[p]]), int(tracks.identity[order[p + 1]])))
        stretches.setdefault((pair[0], pair[1]), []).append(int(tracks.frame[order[p]]))
    out = []
    for pair, frames in stretches.items():
        cuts = np.flatnonzero(np.diff(frames) > 12) + 1
        for part in np.split(np.array(frames), cuts):
            score = min(0.9, 0.4 + 0.02 * len(part))
            out.append(Moment(int(part[-1]), int(part[0]), int(part[-1]), "shared", score, pair))
    return out


def _meetings(tracks: Tracks) -> list[Moment]:
    """Stretches in which the boxes of two identities, each linked to its own detection, lie over each other."""
    frame, first, second, overlap = close_pairs(tracks.frame_start, tracks.box, tracks.detection, MEETING)
    key = tracks.identity[first].astype(np.int64) << 32 | tracks.identity[second]
    out = []
    for pair in np.unique(key).tolist():
        mine = key == pair
        at, most = frame[mine], overlap[mine]
        for part in np.split(np.arange(len(at)), np.flatnonzero(np.diff(at) > 12) + 1):
            worst = int(part[np.argmax(most[part])])
            score = min(0.6, 0.25 + 0.5 * float(most[worst]))
            out.append(
                Moment(
                    int(at[worst]), int(at[part[0]]), int(at[part[-1]]), "meet", score, (pair >> 32, pair & 0xFFFFFFFF)
                )
            )
    return out


@njit(cache=True, nogil=True)
def close_pairs(
    frame_start: NDArray[np.int64], box: NDArray[np.float32], detection: NDArray[np.int32], least: float
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64], Float]:  # pragma: no cover
    """Pairs of rows of one frame that overlap by at least ``least`` and are not linked to one detection.

    Frame, first row, second row and overlap of each.
    """
    frames, first, second, overlap = [0], [0], [0], [0.0]
    for f in range(frame_start.shape[0] - 1):
        for a in range(frame_start[f], frame_start[f + 1]):
            for b in range(a + 1, frame_start[f + 1]):
                if detection[a] >= 0 and detection[a] == detection[b]:
                    continue
                shared = pair_overlap(box, a, box, b)
                if shared >= least:
                    frames.append(f)
                    first.append(a)
                    second.append(b)
                    overlap.append(shared)
    return np.array(frames)[1:], np.array(first)[1:], np.array(second)[1:], np.array(overlap)[1:]


def _changed_looks(tracks: Tracks, look: NDArray[np.uint8]) -> list[Moment]:
    """Places where an identity looks another way than shortly before."""
    paths = tracks.paths
    change = look_changes(paths.start, paths.row, tracks.detection, look, LOOK_SPAN)
    out = []
    for k in range(len(paths.identity)):
        first, past = int(paths.start[k]), int(paths.start[k + 1])
        for p in _peaks(change[first:past], LOOK_CHANGE).tolist():
            at, score = int(paths.frame[first + p]), min(0.7, 0.3 + 0.4 * float(change[first + p]))
            out.append(Moment(at, at, at, "look", score, (int(paths.identity[k]),)))
    return out


def _merged(found: list[Moment], times: Float) -> list[Moment]:
    """Moments of one kind and identity close in time are one: the strongest."""
    kept: list[Moment] = []
    for moment in sorted(found, key=lambda m: -m.score):
        near = any(
            abs(times[moment.frame] - times[other.frame]) < NEAR and set(moment.identities) & set(other.identities)
            for other in kept
        )
        if not near:
            kept.append(moment)
    return kept


def _with_count(moment: Moment, crossings: Crossings | None, times: Float) -> Moment:
    if crossings is None or len(crossings) == 0:
        return moment
    mine = np.isin(crossings.identity, moment.identities)
    apart = np.abs(crossings.time[mine] - times[moment.frame])
    if not (apart < 1.0).any():
        return moment
    score = min(1.0, moment.score + COUNTS)
    return Moment(moment.frame, moment.first, moment.last, moment.kind, score, moment.identities, True)


# --- against truth ----------------------------------------------------------------------------------------


@dataclass(frozen=True)
class MomentHits:
    """How well moments point at true errors: errors and how many a moment is near; the first moments and their hits."""

    errors: int
    errors_found: int
    first: int
    first_hits: int


def moments_against_truth(
    moments: tuple[Moment, ...], tracks: Tracks, truth: Truth, times: Float, *, near: float = 1.0, first: int = 20
) -> MomentHits:
    """Hold moments against the truth: true identity errors and true hard spots within ``near`` s.

    An error is a frame in which a true animal goes on under another number. A hard spot is a frame in which two true
    boxes overlap by a fifth or one is not to be considered (hidden).
    """
    errors = _identity_errors(tracks, truth)
    hard = _hard_frames(truth)
    spans = np.array([[times[m.first] - near, times[m.last] + near] for m in moments]).reshape(-1, 2)
    at = times[errors] if len(errors) else np.zeros(0)
    found = int(sum(bool(((spans[:, 0] <= t) & (t <= spans[:, 1])).any()) for t in at))
    spots = np.concatenate([at, times[hard]])
    top = spans[:first]
    hits = int(sum(bool(((spots >= a) & (spots <= b)).any()) for a, b in top))
    return MomentHits(len(errors), found, len(top), hits)


def _identity_errors(tracks: Tracks, truth: Truth) -> NDArray[np.int64]:
    """Frames in which a true animal, found at overlap 0.5, has another number than when it was last found."""
    held: dict[int, int] = {}
    out = []
    for frame in range(min(tracks.frame_count, truth.frame_count)):
        true, mine = truth.rows_of(frame), tracks.rows_of(frame)
        overlap = overlap_matrix(truth.box[true], tracks.box[mine])
        for place in range(true.stop - true.start):
            if overlap.shape[1] == 0 or not truth.consider[true.start + place]:
                continue
            best = int(np.argmax(overlap[place]))
            if overlap[place, best] < 0.5 or int(np.argmax(overlap[:, best])) != place:
                continue
            animal, number = int(truth.identity[true.start + place]), int(tracks.identity[mine.start + best])
            if held.get(animal, number) != number:
                out.append(frame)
            held[animal] = number
    return np.array(out, np.int64)


def _hard_frames(truth: Truth) -> NDArray[np.int64]:
    out = []
    for frame in range(truth.frame_count):
        rows = truth.rows_of(frame)
        overlap = overlap_matrix(truth.box[rows], truth.box[rows])
        np.fill_diagonal(overlap, 0.0)
        if (overlap > 0.2).any() or not truth.consider[rows].all():
            out.append(frame)
    return np.array(out, np.int64)
