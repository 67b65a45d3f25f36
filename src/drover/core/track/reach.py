"""How far a link may reach, how soon a track is believed and how long it waits unseen: measured from a first look."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from drover.core.track.pace import USUAL, Pace
from drover.core.types import Detections, Tracks

__all__ = ["Look", "gate_of", "hits_of", "with_reach"]

Float = NDArray[np.float64]
Int = NDArray[np.int64]

EVEN = 1.5  # times the usual time between pictures up to which three sightings follow each other
LEAST_JUDGED = 100  # threes of sightings; fewer say nothing
OF_THREE = 3.0  # variance of what three sightings miss a straight line by, over that of what a filter misses
LEAST_OFF = 0.5  # px: edges of boxes lie on whole pixels
SEEN = (0.5, 0.995)  # share of its pictures that a thing is seen in, as far as it is believed
LEAST_OTHERS = 0.01  # detections a picture, at the least, that belong to nothing
NORMAL = 3.03  # standard deviations beyond which one normal miss in a hundred lies, in the plane (Rayleigh)
TAILS = (1.0, 1.3)  # times by which the gate is wider where misses have longer tails than normal ones
GATES = (5.5, 7.0)  # standard deviations
MISSES, SIZES = 1.6, (1.0, 1.6)  # times the miss of one in a hundred that a link may reach, and sizes that it may
SPARE = 0.05  # short lives that may pass for a thing, for each thing
HITS, LEAST_THINGS = range(6, 13), 5  # frames of 1/25 s; things under which nothing is said of how soon to believe one
SHORTEST_GAP, BEYOND_GAP = 1.5, 0.5  # s, and how much longer a break may be that is joined with all known


class Look(NamedTuple):
    """One stretch as first linked: its believed tracks, in how many pictures each number was seen that nobody
    believed, and the (first, past) frame of the stretch.
    """

    tracks: Tracks
    short: Int
    span: tuple[int, int]


def with_reach(
    pace: Pace, looks: Sequence[Look], paths: Sequence[tuple[Int, Float, Float, Float]], found: Detections
) -> Pace:
    """A pace of known noises with all else as measured; as usual where too little is seen.

    ``paths`` are the sightings of each look: first rows, middles px, sides px, and when, in 1/25 s.
    """
    misses = [_straight_misses(*path) for path in paths]
    miss, size = np.concatenate([m for m, _ in misses]), np.concatenate([s for _, s in misses])
    if len(miss) < LEAST_JUDGED:
        return pace
    away = float(np.quantile(np.hypot(miss[:, 0], miss[:, 1]) / size, 0.99))
    # A forecast is worth as much as at the usual time, in sizes, as long as how far off it is, j t^1.5, is no more.
    gap = USUAL.longest_gap * min(1.0, (USUAL.jumpiness / pace.jumpiness) ** (2 / 3))
    gap = round(max(SHORTEST_GAP, gap), 1)
    return replace(
        pace,
        gate=round(_gate(miss, looks, found), 1),
        farthest=round(float(np.clip(MISSES * away, *SIZES)), 2),
        hits_to_confirm=hits_of(np.concatenate([look.short for look in looks]), _things(looks)),
        longest_gap=gap,
        join_within=gap + BEYOND_GAP,
    )


def gate_of(seen: float, density: float, area: float) -> float:
    """The gate (standard deviations) within which a detection is more likely the thing's own than another's.

    ``seen`` share of pictures in which the thing is detected, ``density`` of others per px² and picture, ``area`` px²:
    the root of the determinant of the innovations' covariance (maximum likelihood gate; Blackman 1986,
    "Multiple-target tracking with radar applications", chapter 4). 0 where others are so dense that none is.
    """
    return float(np.sqrt(max(2.0 * np.log(seen / ((1.0 - seen) * 2.0 * np.pi * density * area)), 0.0)))


def hits_of(short: Int, things: int) -> int:
    """The fewest frames of 1/25 s from which hardly any of the ``short`` lives would pass for one of the things.

    No fewer than usual where there are few things: on an empty ground all that was taken for one may be none.
    """
    for wanted in HITS if things >= LEAST_THINGS else range(USUAL.hits_to_confirm, HITS.stop):
        if np.count_nonzero(short >= wanted) <= SPARE * things:
            return wanted
    return HITS[-1]


def _things(looks: Sequence[Look]) -> int:
    return sum(len(np.unique(look.tracks.identity)) for look in looks)


def _gate(miss: Float, looks: Sequence[Look], found: Detections) -> float:
    linked = np.concatenate([look.tracks.detection for look in looks])
    apart = np.concatenate([look.tracks.distance for look in looks])
    pictures = sum(past - first for first, past in (look.span for look in looks))
    there = sum(int(found.frame_start[past] - found.frame_start[first]) for first, past in (k.span for k in looks))
    own = len(np.unique(linked[linked >= 0]))
    others = max((there - own + _things(looks)) / pictures, LEAST_OTHERS) / (found.size[0] * found.size[1])
    off = np.maximum(np.median(np.abs(miss), axis=0) / 0.6745, LEAST_OFF)
    gate = gate_of(float(np.clip(np.mean(linked >= 0), *SEEN)), others, float(off[0] * off[1] / OF_THREE))
    tail = float(np.quantile(apart[np.isfinite(apart)], 0.99)) / NORMAL
    return float(np.clip(gate * np.clip(np.sqrt(tail), *TAILS), *GATES))


def _straight_misses(start: Int, middle: Float, side: Float, when: Float) -> tuple[Float, Float]:
    """By how much the last of three sightings of one thing, picture after picture, lies off the line through the two
    before, (n, 2) px, and its size, (n,) px.
    """
    who, step = np.repeat(np.arange(len(start) - 1), np.diff(start)), np.diff(when)
    if len(step) < 2:
        return np.zeros((0, 2)), np.zeros(0)
    near = EVEN * np.median(step[step > 0]) if (step > 0).any() else 0.0
    good = (who[2:] == who[:-2]) & (step[1:] <= near) & (step[:-1] <= near)
    return (middle[2:] - 2.0 * middle[1:-1] + middle[:-2])[good], np.sqrt(side[2:].prod(axis=1))[good]
