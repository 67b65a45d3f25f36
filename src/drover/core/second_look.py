"""A second look at what is smaller than a body for most of its life: the clip is read again where that is.

What Detect sees in one picture may be a part of a body; what goes along with that part over some seconds is the rest
of it (:mod:`drover.core.bodies.along`), or at least what of it stands out (:mod:`drover.core.bodies.reaching`). Whether
anything stands out is asked of a few moments first: in most clips bodies are seen whole, and nobody waits for that.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from drover.core.bodies.along import STRONGEST, Extent, extent_of, what_goes_along
from drover.core.bodies.lacking import LEAST_LEGS, Leg, lacking_legs
from drover.core.bodies.reaching import reach_of
from drover.core.bodies.size_field import SizeField
from drover.core.detect.result import DetectResult
from drover.core.footage_types import ClipInfo
from drover.core.progress import IsCancelled, never
from drover.core.recipe import DetectSettings
from drover.core.second_reading import Wanted, read_again, scene_at
from drover.core.types import Detections, Tracks

__all__ = ["look_again"]

Float = NDArray[np.float64]
Along = tuple[Float, NDArray[np.bool_]]  # as what_goes_along tells
ALIKE = 0.22  # log ratio, at the median, up to which bodies are so much of a size that a small one lacks something
MOST_LOOKS, ENOUGH = 50, 13  # pictures of a leg, evenly spread: of one that is far too small, and of others
MOMENTS, AROUND, FEW = 6, 0.6, 8  # at which others are asked first, s before and after, and in how many pictures
SOME = 0.15  # of those, and two, that have to go on for all others to be looked at
EDGE = 1.4  # by what factor the ends of a body stand out from what lies beyond, in the middle one of its legs
LEAN = 0.55  # from which what is seen is an end of a body: a halo lies on all sides
UPPER = 0.15  # from which more of it lies below: where little is seen, that is a head
HALF = 0.5  # of a usual height, from which what is narrow as well has to be an upper end alone
LEGS_AROUND = 7  # each way, that are held against one
AS_MUCH = 0.35  # log ratio of what two legs show of a body, up to which they show the same part
GAIN = 1.2  # times the height or width that were seen, for anything to be gained
GOES_ON, TALLEST = 1.2, 1.3  # times the height that was seen, for a life to be more of it; and usual heights it may be


def look_again(
    result: DetectResult,
    clip: ClipInfo,
    found: Detections,
    tracks: Tracks,
    times: Float,
    field: SizeField,
    *,
    cancelled: IsCancelled = never,
) -> Detections:
    """Detections with the boxes of bodies of which only a part is seen made whole; outlines stay what was seen.

    ``result`` is of Detect, with the empty scene as it was on the way; ``found`` are its detections as far as they are
    put right, ``tracks`` linked from those; ``times`` s of the frames.

    Raises
    ------
    FootageError
        When the clip cannot be read any more; Cancelled when told to stop on the way.
    """
    if field.spread > ALIKE or result.taken is None or "difference" in result.taken.background.model:
        return found
    legs = [leg for leg in lacking_legs(found, tracks, times, field) if scene_at(result, int(leg.frame[0]))]
    lacking, others = [leg for leg in legs if leg.lacking], [leg for leg in legs if not leg.lacking]
    darkest = _darkest_shadow(result.taken)
    along: dict[Leg, Along] = {}
    reaches: dict[Leg, Float | None] = {}
    for leg, laid in read_again(result, clip, tracks, [_all_of(leg, MOST_LOOKS) for leg in lacking], cancelled):
        told = what_goes_along(laid.looks, laid.free)
        if told is not None:
            along[leg] = told
        reaches[leg] = reach_of(laid, leg.share, darkest)
    whole = _made_whole(
        found, legs, lambda mine: _of_ends(_with_extents([(leg, along.get(leg)) for leg in mine if leg.part]))
    )
    if whole is not found:
        return whole  # how large bodies are is known better then, and the rest is asked anew
    asked = read_again(result, clip, tracks, _at_moments(others, times), cancelled)
    sample = [(leg, reach_of(laid, leg.share, darkest)) for leg, laid in asked]
    if _some_go_on([(leg, reach) for leg, reach in sample if reach is not None]):
        for leg, laid in read_again(result, clip, tracks, [_all_of(leg, ENOUGH) for leg in others], cancelled):
            reaches[leg] = reach_of(laid, leg.share, darkest)
    return _made_whole(
        found, legs,
        lambda mine: _of_what_goes_on([(leg, reach) for leg in mine if (reach := reaches.get(leg)) is not None]),
    )  # fmt: skip


def _with_extents(legs: list[tuple[Leg, Along | None]]) -> list[tuple[Leg, Extent | None]]:
    """Legs of a life, in order of time, and how far each reaches."""
    return [(leg, None if own is None else _together(leg, own, _near(legs, k))) for k, (leg, own) in enumerate(legs)]


def _near(legs: list[tuple[Leg, Any]], place: int) -> list[tuple[Leg, Any]]:
    """Those around one of the legs of a life with what is known of them: it may be a long one."""
    return legs[max(0, place - LEGS_AROUND) : place + LEGS_AROUND + 1]


def _together(leg: Leg, own: Along, near: list[tuple[Leg, Along | None]]) -> Extent | None:
    """How far a leg reaches; by all those near it that show as much of the same side, where that is narrow.

    What is as wide as a body may be all there is of it: each leg of it has to tell by itself.
    """
    if not leg.narrow:
        return extent_of(*own, leg.share)
    alike = [along for other, along in near if along is not None and _of_one_kind(leg, other)]
    clear, known = (np.stack(part) for part in zip(*alike, strict=True))
    some = np.maximum(known.sum(axis=0), 1)
    # Somebody who passes by is clear in one leg: no single one is to say how far it reaches.
    even = (np.minimum(clear, STRONGEST) * known).sum(axis=0) / some
    return extent_of(even, np.asarray(known.any(axis=0), np.bool_), leg.share, (clear * known).sum(axis=0) / some)


def _of_one_kind(leg: Leg, other: Leg) -> bool:
    """Whether two legs of a life show as much of a body, which goes to the same side."""
    return leg.way == other.way and bool(np.abs(np.log(np.array(leg.share) / other.share)).max() <= AS_MUCH)


def _darkest_shadow(taken: DetectSettings) -> float | None:
    """How bright the ground is in the deepest shadow, 1 as without; None where there are none.

    In grey footage no colour tells legs from shadows: all that is darker may be one.
    """
    if taken.background.look_at == "grey":
        return 0.0
    return None if taken.shadow.mode == "off" else float(taken.shadow.darkest)


def _all_of(leg: Leg, most: int) -> Wanted:
    """A leg, to be looked at in so many pictures at most."""
    return Wanted(leg, _spread(np.arange(len(leg.frame)), most))


def _spread(rows: NDArray[np.int64], most: int) -> NDArray[np.int64]:
    """So many of some rows at most, evenly spread."""
    return rows[:: max(1, -(-len(rows) // most))]


def _at_moments(legs: list[Leg], times: Float) -> list[Wanted]:
    """The legs that are there at some moments of the clip, and their rows around those."""
    if not legs:
        return []
    first, last = min(times[leg.frame[0]] for leg in legs), max(times[leg.frame[-1]] for leg in legs)
    moments = first + (last - first) * (np.arange(MOMENTS) + 0.5) / MOMENTS
    out: list[Wanted] = []
    for leg in legs:
        near = np.abs(times[leg.frame][:, None] - moments).min(axis=1) <= AROUND
        out += [Wanted(leg, _spread(np.flatnonzero(near), FEW))] if near.any() else []
    return out


def _some_go_on(sample: list[tuple[Leg, Float]]) -> bool:
    """Whether more than a few of some legs go on beyond what is seen of them."""
    on = sum(bool(GOES_ON <= _longer(leg, reach) <= TALLEST / leg.share[1]) for leg, reach in sample)
    return on >= max(LEAST_LEGS, SOME * len(sample))


def _longer(leg: Leg, reach: Float) -> float:
    """How many times higher than what is seen of it a leg is with what it reaches."""
    return 1.0 + float(reach[1] + reach[3]) / leg.share[1]


More = list[tuple[Leg, Float, Float]]  # low and high corners from the middle of what is seen, in bodies


def _made_whole(found: Detections, legs: list[Leg], more_of: Callable[[list[Leg]], More]) -> Detections:
    """Boxes as far as their bodies reach, of each life by ``more_of`` its legs; the same ones where none grows."""
    box, changed, lives = np.array(found.box), False, defaultdict[int, list[Leg]](list)
    for leg in legs:
        lives[leg.life].append(leg)
    for mine in lives.values():
        for leg, low, high in more_of(mine):
            box[leg.blob], changed = _whole_boxes(leg, low, high, found.size), True
    return replace(found, box=box) if changed else found


def _of_ends(legs: list[tuple[Leg, Extent | None]]) -> More:
    """How far the legs of a life reach that are ends of bodies, those too small to tell as well; none else."""
    legs = [(leg, extent if extent is not None and _gain(leg, extent) else None) for leg, extent in legs]
    grown = [(leg, extent) for leg, extent in legs if extent is not None]
    edges = [extent.edge for _, extent in grown] + [0.0] * (sum(leg.lacking for leg, _ in legs) - len(grown))
    if not grown or np.median(edges) < EDGE or not _is_an_end(grown):
        return []
    out: More = []
    for k, (leg, _) in enumerate(legs):
        same = [one.box for other, one in _near(legs, k) if one is not None and _of_one_kind(leg, other)]
        if same:
            corners = np.median(same, axis=0)
            if not leg.narrow:
                corners[[0, 2]] = 0.0  # no wider than it is
            out.append((leg, corners[:2], corners[2:]))
    return out


def _of_what_goes_on(seen: list[tuple[Leg, Float]]) -> More:
    """How far the legs of a life reach of which more stands out lengthways than was seen; none where it is little."""
    if len(seen) < LEAST_LEGS:
        return []
    tall, longer = np.array([(leg.share[1], _longer(leg, reach)) for leg, reach in seen]).T
    if np.median(longer) < GOES_ON or np.median(tall * longer) > TALLEST:
        return []
    halves = [np.array(leg.share) / 2 for leg, _ in seen]
    return [
        (leg, -half - reach[:2], half + reach[2:])
        for (leg, reach), half, times in zip(seen, halves, longer.tolist(), strict=True)
        if times > GAIN
    ]


def _is_an_end(grown: list[tuple[Leg, Extent]]) -> bool:
    """Whether what is seen of a life lies at an end of its body, in most of its legs."""
    leans = np.array([extent.lean(leg.share) for leg, extent in grown])
    across, down = float(np.median(np.abs(leans[:, 0]))), float(np.median(leans[:, 1]))
    if not np.median([leg.narrow for leg, _ in grown]):
        return abs(down) >= LEAN
    tall = float(np.median([leg.share[1] for leg, _ in grown]))
    return down >= LEAN or (across >= LEAN and down >= UPPER and tall < HALF)


def _gain(leg: Leg, extent: Extent) -> bool:
    """Whether what was lacking is there."""
    wide, tall = extent.box[2] - extent.box[0], extent.box[3] - extent.box[1]
    return tall > GAIN * leg.share[1] or (leg.narrow and wide > GAIN * leg.share[0])


def _whole_boxes(leg: Leg, low: Float, high: Float, size: tuple[int, int]) -> Float:
    """The boxes of a leg with what lies beyond them, from the corner ``low`` to ``high``, in bodies."""
    middle = (leg.box[:, :2] + leg.box[:, 2:]) / 2
    whole = np.hstack([
        np.minimum(middle + low * leg.usual, leg.box[:, :2]), np.maximum(middle + high * leg.usual, leg.box[:, 2:])
    ])  # fmt: skip
    return np.clip(whole, 0.0, np.tile(np.array(size, np.float64), 2))
