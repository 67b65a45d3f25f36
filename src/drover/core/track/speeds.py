"""How fast things go, measured from the detections alone, before anything is linked.

Where things move farther than their own size between two pictures, nearness links nothing. But what moves goes on
about as before: a detection, one in the picture before and one in the picture after that lie on a straight line, evenly
in time, are evidence of one moving thing. Such lines also come about by chance, the more so the more there is around;
how often is counted where nothing can be: a little beside the line. A mixture of true speeds and chance is fitted to
all lines by expectation and maximisation (Dempster, Laird and Rubin 1977, "Maximum likelihood from incomplete data",
section 2): the share of things that move at each speed, and of each line how surely it is one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.both_cores import in_shares
from drover.core.kernel_parts import longer
from drover.core.track.cells import cells_between, into_cells
from drover.core.track.filters import FRAME_RATE
from drover.core.types import Detections

__all__ = ["Speeds", "measure_speeds"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]

FARTHEST = 0.2  # of the picture's diagonal that a thing may move between two pictures
MOST_GROWN = 2.2  # ratio of the sizes of one thing in two pictures
NEAREST = 9  # detections of the next picture, and of the one before, that are weighed, the nearest
MISS = 0.4  # sizes that the middle of three may lie off their line
RING = (0.6, 1.2)  # sizes off the line where only chance puts anything
JITTER = 0.15  # sizes that boxes of one thing jitter, one standard deviation on each axis
AREAS = MISS**2 / (RING[1] ** 2 - RING[0] ** 2)  # of the middle to the ring
LEAST_COVERED = 0.25  # share of the ring that must have been looked through
LOOK_AT = 6_000  # detections that are enough to know the speeds
LEAST_LINES = 30  # fewer say nothing
BINS = 28
SLOWEST = 0.02  # sizes between pictures: what is slower stands
ROUNDS = 12
EXCESS = 3.0  # standard deviations by which lines at a speed must be more than chance would bring
SURE = 0.5  # probability from which a line is one
FAST = 0.5  # sizes between two pictures: under that nearness finds what goes on, and no speed is needed at birth


@dataclass(frozen=True)
class Speeds:
    """What the detections say of how fast things go.

    ``edges`` (bins + 1,) sizes between two pictures and ``share`` (bins,) of all moving things in each; ``reach`` is
    the speed that one thing in a hundred exceeds, in sizes between pictures, 0 where too little moves to say.
    ``velocity`` (detections, 2) px per 1/25 s is the first guess of each that lies on a sure line, NaN for all others
    and everywhere where nearness is enough; ``doubt`` is its standard deviation on each axis, in sizes per 1/25 s.
    """

    edges: Float
    share: Float
    reach: float
    velocity: Float
    doubt: float

    @property
    def fast(self) -> bool:
        """Whether things move so far between pictures that nearness cannot link them."""
        return self.reach > FAST

    @property
    def mostly_fast(self) -> bool:
        """Whether that is so of most of what moves, not of a few things."""
        middle = np.sqrt(np.maximum(self.edges[:-1], SLOWEST) * self.edges[1:])
        return self.fast and float(self.share[middle > FAST].sum()) > 0.5


def measure_speeds(detections: Detections, times: Float) -> Speeds:
    """Speeds of a recorded clip's detections; ``times`` (frames,) s.

    A sample of all frames tells how fast things go; only where that is fast are all detections given a first guess.
    """
    count = len(detections)
    none = np.full((count, 2), np.nan)
    edges = _edges()
    frames = detections.frame_count
    if frames < 3 or count < LEAST_LINES:
        return Speeds(edges, np.zeros(BINS), 0.0, none, 0.0)
    every = max(1, round(count / LOOK_AT))
    lines = _lines(detections, times, every, RING[1])
    mixture = fit_speeds(lines, edges)
    sure = lines.speed[line_odds(lines, edges, mixture) > SURE]
    share = np.histogram(sure, edges)[0] / max(len(sure), 1)
    reach = float(np.quantile(sure, 0.99)) if len(lines.middle) >= LEAST_LINES and len(sure) else 0.0
    interval = float(np.median(np.diff(times[:frames]))) * FRAME_RATE
    if reach <= FAST:
        return Speeds(edges, share, reach, none, 0.0)
    lines = _lines(detections, times, 1, MISS)
    velocity = _first_guesses(lines, line_odds(lines, edges, mixture), count)
    return Speeds(edges, share, reach, velocity, 2 * JITTER / max(interval, 1e-6))


def _edges() -> Float:
    """Speeds between the bins, sizes between two pictures: what stands, then in equal ratios."""
    return np.concatenate([[0.0], np.geomspace(SLOWEST, 40.0, BINS)])


@dataclass(frozen=True)
class Lines:
    """Straight lines through three pictures: the rows before, at the middle and after; velocity px per 1/25 s.

    ``speed`` sizes between pictures, ``came`` the same over the first half of the way; ``miss`` sizes off the line,
    those in the ring are kept as well; ``covered`` the share of the ring that was looked through: where many lie close,
    the nearest of the next picture end within it. In the order of ``middle``.
    """

    before: Int
    middle: Int
    after: Int
    velocity: Float
    speed: Float
    came: Float
    miss: Float
    covered: Float

    @property
    def who(self) -> Int:
        """(lines,) which of the detections in the middle of some line each goes through, counted from 0."""
        new = np.diff(self.middle, prepend=self.middle[:1]) != 0
        return np.cumsum(new)


def _lines(detections: Detections, times: Float, every: int, most: float) -> Lines:
    box, farthest = np.ascontiguousarray(detections.box), FARTHEST * float(np.hypot(*detections.size))
    frames = np.arange(1, len(detections.frame_start) - 2, every)
    start = detections.frame_start
    shares = in_shares(
        lambda first, past: find_lines(start, box, times, farthest, frames, most, first, past), len(frames)
    )
    return Lines(*(np.concatenate(part) for part in zip(*shares, strict=True)))


@njit(cache=True, nogil=True)
def find_lines(
    frame_start: Int,
    box: NDArray[np.float32],
    times: Float,
    farthest: float,
    frames: Int,
    most: float,
    begin_at: int,
    past_at: int,
) -> tuple[Int, Int, Int, Float, Float, Float, Float, Float]:  # pragma: no cover
    """All lines through some of the middle ``frames`` that miss by no more than ``most`` sizes.

    See :class:`Lines` for what comes back.
    """
    room, n = 1024, 0
    before, middle, after = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room, np.int64)
    velocity, speed, came = np.empty((room, 2)), np.empty(room), np.empty(room)
    miss, covered = np.empty(room), np.empty(room)
    back, ahead = np.empty(NEAREST, np.int64), np.empty(NEAREST, np.int64)
    for turn in range(begin_at, past_at):
        f = int(frames[turn])
        gone, comes = times[f] - times[f - 1], times[f + 1] - times[f]
        if gone <= 0 or comes <= 0 or frame_start[f + 1] == frame_start[f]:
            continue
        first, here, past, end = frame_start[f - 1], frame_start[f], frame_start[f + 1], frame_start[f + 2]
        if first == here or past == end:
            continue
        old, new = into_cells(box[first:here]), into_cells(box[past:end])
        share = gone / (gone + comes)
        for d in range(here, past):
            x, y, size = _place(box, d)
            m_back, _ = _nearest(box, first, old, x, y, size, farthest, back)
            if m_back == 0:
                continue
            m_ahead, looked = _nearest(box, past, new, x, y, size, farthest, ahead)
            for i in range(m_back):
                ax, ay, a_size = _place(box, back[i])
                goes_on = np.hypot(ax - x, ay - y) * comes / gone  # how far from here the line would lead
                for j in range(m_ahead):
                    cx, cy, c_size = _place(box, ahead[j])
                    if max(a_size, c_size) > MOST_GROWN * min(a_size, c_size):
                        continue
                    off_x, off_y = ax + share * (cx - ax) - x, ay + share * (cy - ay) - y
                    widest = most * max(a_size, size, c_size)
                    if off_x * off_x + off_y * off_y > widest * widest:
                        continue
                    scale = (a_size * size * c_size) ** (1.0 / 3.0)
                    off = np.hypot(off_x, off_y) / scale
                    if off > most:
                        continue
                    part = _covered(goes_on, looked, scale / share)
                    if part < LEAST_COVERED:
                        continue
                    if n == room:
                        room *= 2
                        before, middle, after = longer(before, room), longer(middle, room), longer(after, room)
                        speed, came = longer(speed, room), longer(came, room)
                        miss, covered = longer(miss, room), longer(covered, room)
                        wider = np.empty((room, 2))
                        wider[:n] = velocity
                        velocity = wider
                    before[n], middle[n], after[n] = back[i], d, ahead[j]
                    span = (gone + comes) * FRAME_RATE
                    velocity[n, 0], velocity[n, 1] = (cx - ax) / span, (cy - ay) / span
                    speed[n], miss[n] = 0.5 * np.hypot(cx - ax, cy - ay) / scale, off
                    came[n], covered[n] = goes_on / scale * 0.5 / (1.0 - share), part
                    n += 1
    return before[:n], middle[:n], after[:n], velocity[:n], speed[:n], came[:n], miss[:n], covered[:n]


@njit(cache=True, nogil=True, inline="always")
def _covered(at: float, looked: float, size: float) -> float:  # pragma: no cover
    """Share of the ring, about a place ``at`` px from here, that lies within ``looked`` px of here."""
    total = 0.0
    for step in range(3):
        far = (RING[0] + (RING[1] - RING[0]) * (step + 0.5) / 3.0) * size
        reaches = (looked * looked - at * at - far * far) / max(2.0 * at * far, 1e-9)
        total += 1.0 - np.arccos(min(max(reaches, -1.0), 1.0)) / np.pi
    return total / 3.0


@njit(cache=True, nogil=True, inline="always")
def _place(box: NDArray[np.float32], r: int) -> tuple[float, float, float]:  # pragma: no cover
    """Middle and size of a box, px."""
    w, h = np.float64(box[r, 2]) - np.float64(box[r, 0]), np.float64(box[r, 3]) - np.float64(box[r, 1])
    return box[r, 0] + 0.5 * w, box[r, 1] + 0.5 * h, np.sqrt(max(w, 1.0) * max(h, 1.0))


@njit(cache=True, nogil=True)
def _nearest(
    box: NDArray[np.float32],
    offset: int,
    cells: tuple[Int, Int, Float, float, int, int],
    x: float,
    y: float,
    size: float,
    farthest: float,
    out: Int,
) -> tuple[int, float]:  # pragma: no cover
    """The nearest boxes of like size in another picture: how many, and how far (px) all of them are known.

    The search widens until enough are found.
    """
    order, start, corner, side, columns, rows = cells
    apart = np.empty(NEAREST)
    reach = min(max(2.0 * size, side), farthest)
    while True:
        found = 0
        first_column, past_column = cells_between(x, reach, corner[0], side, columns)
        first_row, past_row = cells_between(y, reach, corner[1], side, rows)
        for row in range(first_row, past_row):
            for place in range(start[row * columns + first_column], start[row * columns + past_column]):
                r = offset + order[place]
                ox, oy, o_size = _place(box, r)
                far = np.hypot(ox - x, oy - y)
                if far > reach or max(size, o_size) > MOST_GROWN * min(size, o_size):
                    continue
                if found == NEAREST and far >= apart[found - 1]:
                    continue
                at = found if found < NEAREST else NEAREST - 1
                while at > 0 and apart[at - 1] > far:
                    apart[at], out[at] = apart[at - 1], out[at - 1]
                    at -= 1
                apart[at], out[at] = far, r
                found = min(found + 1, NEAREST)
        if found == NEAREST or reach >= farthest:
            # The last of a full list lies on the rim by its choice: it would be evidence of nothing.
            return (found - 1, apart[found - 1]) if found == NEAREST else (found, reach)
        reach = min(2.0 * reach, farthest)


@dataclass(frozen=True)
class Mixture:
    """True lines and chance, by how fast things came: ``share`` of the true, chance lines a detection, share on a line.

    Shares are of detections that some line goes through, the ring included. By the first half of the way, not by all
    of it: that half is the same for what lies on the line and for what lies in the ring.
    """

    share: Float
    chance: Float
    moving: float


def fit_speeds(lines: Lines, edges: Float) -> Mixture:
    """The mixture that explains all lines best; see :class:`Mixture`."""
    bins = len(edges) - 1
    if len(lines.middle) == 0:
        return Mixture(np.full(bins, 1.0 / bins), np.ones(bins), 0.0)
    who = lines.who
    n = int(who[-1]) + 1
    at = _bins(lines, edges)
    ring, inside = lines.miss >= RING[0], lines.miss <= MISS
    by_chance = np.bincount(at[ring], 1.0 / lines.covered[ring], minlength=bins) * AREAS
    chance = (by_chance + 0.5 * AREAS) / n
    at, who, fit = at[inside], who[inside], _fits(lines.miss[inside])
    # From what is surely more than chance: left to itself the mixture takes long to unlearn speeds that are not there.
    more = np.bincount(at, minlength=bins) - by_chance
    share = np.where(more > EXCESS * np.sqrt(by_chance + 1.0), more, 0.0) + 1e-3
    moving = float(np.clip(share.sum() / n, 0.01, 0.5))
    share /= share.sum()
    for _ in range(ROUNDS):
        weight = moving * share[at] / chance[at] * fit
        total = np.bincount(who, weight, minlength=n) + (1.0 - moving)
        share = np.bincount(at, weight / total[who], minlength=bins)
        moving = float(np.clip(share.sum() / n, 0.01, 0.99))
        share = (share + 1e-3) / (share + 1e-3).sum()
    return Mixture(share, chance, moving)


def _bins(lines: Lines, edges: Float) -> Int:
    return np.clip(np.searchsorted(edges, lines.came, side="right") - 1, 0, len(edges) - 2)


def line_odds(lines: Lines, edges: Float, mixture: Mixture) -> Float:
    """Of each line the probability that it is one thing's way."""
    if len(lines.middle) == 0:
        return np.zeros(0)
    ratio = (mixture.moving * mixture.share / mixture.chance)[_bins(lines, edges)]
    weight = np.where(lines.miss <= MISS, ratio * _fits(lines.miss), 0.0)
    who = lines.who
    total = np.bincount(who, weight) + (1.0 - mixture.moving)
    return weight / total[who]


def _fits(miss: Float) -> Float:
    """How much likelier a miss is of one jittering thing than of chance, which puts it anywhere."""
    return MISS**2 / (2 * 1.5 * JITTER**2) * np.exp(-(miss**2) / (2 * 1.5 * JITTER**2))


def _first_guesses(lines: Lines, sure: Float, count: int) -> Float:
    """(count, 2) velocity of each detection from its surest line, else from the surest that begins or ends there."""
    velocity = np.full((count, 2), np.nan)
    order = np.argsort(sure, kind="stable")
    order = order[sure[order] > SURE]
    for rows in (lines.after, lines.before, lines.middle):  # the last to write has the say: the middle, at its surest
        velocity[rows[order]] = lines.velocity[order]
    return velocity
