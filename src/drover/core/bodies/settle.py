"""Detections put right by what a whole clip shows: what is followed stays, its pieces are one, sparks and snow go.

The detections are linked as Drover links by itself, twice for that and once more to cut what several share. What
belongs to nothing that is followed for a while, and is no piece of such a thing, is a spark: leaves, water, noise; and
so is a speck that never leaves its place. Live there is nothing to look back on, and all stays.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from drover.core.bodies.cleared import without_flakes
from drover.core.bodies.completed import complete_bodies
from drover.core.bodies.crowns import split_groups
from drover.core.bodies.fate import join_fates, stacked_pairs
from drover.core.bodies.followed import of_specks, owners_of
from drover.core.bodies.gather import fitting_pairs, lives_together, owned_together, unite_pairs
from drover.core.bodies.necks import split_necks
from drover.core.bodies.shared import split_shared
from drover.core.bodies.size_field import SizeField, fit_size_field
from drover.core.bodies.weather import weather_in
from drover.core.detect.growing import GrowingColumn
from drover.core.kernel_parts import read_only
from drover.core.names import grouped
from drover.core.recipe import AfterSettings, BodySettings, TrackSettings
from drover.core.track.carried_on import carry_on
from drover.core.track.pace import USUAL, with_pace
from drover.core.track.speeds import measure_speeds
from drover.core.track.whole_clip import link_detections
from drover.core.types import Detections, Tracks, rows_to_frames

__all__ = ["LookAgain", "settle"]

LookAgain = Callable[[Detections, Tracks, SizeField], Detections]

Int = NDArray[np.int64]
BLOCK = 400_000  # runs put in order at once
# As Drover links by itself, but for one thing: what stays where it is may be asked for, and is no spark.
GENEROUS = with_pace(TrackSettings(after=AfterSettings(least_travel=0.0)), USUAL)
SWERVING = 4.0  # times as abruptly as usual may things change their way where most are fast: balls fall and bounce
LOOKS = 3  # at the pictures once more: bodies that were made whole say how large others are
ROUNDS = 2  # whole bodies are followed better than their pieces, and show what else belongs to them
LEAST_TIME = 2.0  # s: in a shorter clip nothing is followed for long enough to tell


def settle(
    detections: Detections,
    times: NDArray[np.float64],
    rate: float,
    settings: BodySettings,
    *,
    look_again: LookAgain | None = None,
    tell: Callable[[str], None] = lambda word: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Detections:
    """The detections of a recorded clip with pieces of bodies united, shared blobs cut, lost ends put back
    and sparks and weather left out, as set.

    ``look_again`` looks at the pictures once more, where things are smaller than a body is; ``tell`` is given a plain
    sentence on what was taken for weather.

    Raises
    ------
    Cancelled
        When told to stop on the way.
    """
    frames = detections.frame_count
    nothing = not (settings.gather or settings.drop_sparks or settings.drop_weather)
    if nothing or frames < 2 or times[frames - 1] - times[0] < LEAST_TIME:
        return detections
    detections, tracks, generous = _begun(detections, times, rate, settings, tell, cancelled)
    for _ in range(ROUNDS):
        settled = _settled_once(detections, tracks, times, settings)
        if settled is detections:
            break
        detections = settled
        tracks = link_detections(detections, times, rate, generous, cancelled=cancelled)
    if settings.gather and len(detections):
        field = fit_size_field(tracks)
        parted = split_necks(detections, tracks, times, field)
        if parted is not detections:
            tracks = link_detections(parted, times, rate, generous, cancelled=cancelled)
            field = fit_size_field(tracks)
        cut = split_groups(parted, tracks, times, field)
        if cut is not parted:
            tracks = link_detections(cut, times, rate, generous, cancelled=cancelled)
            field = fit_size_field(tracks)
        detections = split_shared(cut, tracks, times, field)
        if detections is not cut:
            tracks = link_detections(detections, times, rate, generous, cancelled=cancelled)
        for _ in range(LOOKS):
            if look_again is None or field is None:
                break
            before = detections
            detections = look_again(detections, tracks, field)
            if detections is before:
                break
            tracks = link_detections(detections, times, rate, generous, cancelled=cancelled)
            field = fit_size_field(tracks)
        detections = complete_bodies(detections, tracks, times)
    return detections


def _begun(
    detections: Detections,
    times: NDArray[np.float64],
    rate: float,
    settings: BodySettings,
    tell: Callable[[str], None],
    cancelled: Callable[[], bool],
) -> tuple[Detections, Tracks, TrackSettings]:
    """The detections without weather, who they are linked as, and how this clip is linked from here on."""
    tracks = link_detections(detections, times, rate, GENEROUS, cancelled=cancelled)
    clear = _without_weather(detections, tracks, tell) if settings.drop_weather else detections
    # Where there was weather, that was what is fast.
    generous = _generous(detections, times) if clear is detections else GENEROUS
    if clear is not detections or generous is not GENEROUS:
        tracks = link_detections(clear, times, rate, generous, cancelled=cancelled)
    return clear, tracks, generous


def _generous(detections: Detections, times: NDArray[np.float64]) -> TrackSettings:
    """How a clip without weather is linked here."""
    if not measure_speeds(detections.frozen(), times).mostly_fast:
        return GENEROUS
    motion = GENEROUS.motion.model_copy(update={"jumpiness": SWERVING * GENEROUS.motion.jumpiness})
    return GENEROUS.model_copy(update={"motion": motion})


def _without_weather(detections: Detections, tracks: Tracks, tell: Callable[[str], None]) -> Detections:
    """All but what is linked to an identity that drifts as snow does."""
    weather = weather_in(tracks, detections)
    if weather is None:
        return detections
    tell(
        f"{grouped(weather.identities)} small things that all drift one way through the picture are taken for snow, "
        "bubbles or the like and left out, unless Clean-up (drop_weather) is told to keep them."
    )
    clear = _gathered(detections, np.arange(len(detections)), detections.box, ~weather.rows)
    return without_flakes(clear, weather.least_body)


def _settled_once(
    detections: Detections, tracks: Tracks, times: NDArray[np.float64], settings: BodySettings
) -> Detections:
    """One look at what is followed, and what it says."""
    fixed = detections.frozen()  # one kind of array for the kernels, in each round
    tracks = carry_on(tracks, fixed, times)
    box, frame_start = fixed.box, fixed.frame_start
    frame = rows_to_frames(detections.frame_start)
    owner = owners_of(tracks, len(detections), box, frame_start)
    into, whole = np.arange(len(detections)), detections.box
    field = fit_size_field(tracks)
    told = field is not None and field.says_something
    if settings.gather:
        # First those of one fate, whatever their sizes: a piece that merely fits may belong to another body.
        into, whole, owner = _of_one_fate(into, whole, owner, frame, times)
    if settings.gather and field is not None and told:
        height, width, whole = np.array(field.height), np.array(field.width), read_only(whole)
        body, piece = fitting_pairs(frame_start, whole, owner, height, width)
        apart = (into[body] == body) & (into[piece] == piece)
        body, piece = body[apart], piece[apart]
        one = lives_together(body, piece, owner, whole)
        further, whole = unite_pairs(body[one], piece[one], whole, height, width)
        into, owner = further[into], owned_together(owner, further)
        into, whole, owner = _of_one_fate(into, whole, owner, frame, times)
    stays = into == np.arange(len(detections))
    if settings.drop_sparks:
        stays &= owner > 0
        stays &= ~of_specks(owner, whole, tracks, field)
    if stays.all():
        return detections
    return _gathered(detections, into, whole, stays)


def _of_one_fate(
    into: Int, whole: NDArray[np.float32], owner: Int, frame: Int, times: NDArray[np.float64]
) -> tuple[Int, NDArray[np.float32], Int]:
    """Where each row goes, its box, and who it is followed as, once pieces of a common fate are with their bodies."""
    free = np.flatnonzero(into == np.arange(len(into)))
    body, piece = stacked_pairs(frame[free], whole[free].astype(np.float64), owner[free], times)
    into, whole = join_fates(into, whole, free[body], free[piece])
    return into, whole, owned_together(owner, into)


def _gathered(found: Detections, into: Int, whole: NDArray[np.float32], stays: NDArray[np.bool_]) -> Detections:
    """The rows that stay, each with the outlines of what went into it."""
    rows = np.flatnonzero(stays)
    place = np.full(len(found), -1)
    place[rows] = np.arange(len(rows))
    target = place[into]
    frame = rows_to_frames(found.frame_start)
    counts = np.bincount(frame[rows], minlength=found.frame_count)
    taken = target >= 0
    area = np.bincount(target[taken], found.area[taken], minlength=len(rows))
    sure = np.zeros(len(rows), np.float32)
    np.maximum.at(sure, target[taken], found.confidence[taken])
    run_start, runs = _outlines(found, target, len(rows))
    return Detections(
        frame_start=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        box=np.ascontiguousarray(whole[rows]), confidence=sure, class_id=found.class_id[rows],
        area=area.astype(np.float32), run_start=run_start, runs=runs, size=found.size,
        class_names=found.class_names, look=found.look[rows] if len(found.look) else found.look,
        view=found.view,
    )  # fmt: skip


def _outlines(found: Detections, target: Int, count: int) -> tuple[Int, NDArray[np.int16]]:
    """Runs of each new row in order of line, as any outline has them; block by block, so that long clips fit."""
    out, sizes = GrowingColumn(np.int16, 3), np.zeros(count, np.int64)
    first, past = 0, 0
    while first < len(found):
        # Whole frames, some hundred thousand runs of them.
        past = int(np.searchsorted(found.run_start, found.run_start[first] + BLOCK, side="right")) - 1
        frame = int(np.searchsorted(found.frame_start, max(past, first + 1), side="left"))
        past = int(found.frame_start[frame])
        into = np.repeat(target[first:past], np.diff(found.run_start[first : past + 1]))
        runs = np.asarray(found.runs[found.run_start[first] : found.run_start[past]])
        kept = np.flatnonzero(into >= 0)
        kept = kept[np.lexsort((runs[kept, 1], runs[kept, 0], into[kept]))]
        out.append(runs[kept])
        sizes += np.bincount(into[kept], minlength=count)
        first = past
    return np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64), np.asarray(out.view(), np.int16)
