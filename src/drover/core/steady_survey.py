"""The survey of a station: pictures taken while the camera moved, laid on one canvas before they are looked at."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from drover.core.camera.canvas import half_size, lay_on
from drover.core.camera.motion import CameraMotion, FrameState
from drover.core.camera.stations import Station
from drover.core.features.models import apply, inverse, mapped_corners
from drover.core.footage_types import ClipInfo
from drover.core.survey.empty_scene import EmptyScene
from drover.core.survey.samples import Samples
from drover.core.survey.survey import Survey, survey_of
from drover.core.survey_pass import LEAST, read_samples

__all__ = ["StationGround", "borrow", "steadied_samples", "survey_station"]

AROUND = 6.0  # s before and after a short stretch in which its ground is looked for as well
LONG = 10.0  # s from which a stretch is long enough to know its own ground
FEW, WELL = 3, 0.6  # pictures that must show a place for its ground to be known, share of them to know it well
USUAL = 0.9  # quantile of the noise of well known ground that is taken for that of other ground
OVERLAP = 0.35  # of the canvas' middle that a picture must show to be of use


@dataclass(frozen=True)
class StationGround:
    """The survey of a station, and which px of its canvas some pictures showed, (height, width) bool."""

    survey: Survey
    known: NDArray[np.bool_]


def survey_station(clip: ClipInfo, motion: CameraMotion, station: Station) -> StationGround | None:
    """Look at some pictures of a station's ground; None where there are too few to say anything."""
    found = steadied_samples(clip, motion, station)
    if found is None:
        return None
    samples, shown = found
    survey = survey_of(samples)
    return StationGround(replace(survey, empty=_with_doubt(survey.empty, shown)), shown >= FEW)


def _with_doubt(empty: EmptyScene, shown: NDArray[np.int64]) -> EmptyScene:
    """No less noise than is usual where only few pictures showed the ground: they cannot tell how restless it is."""
    well = shown >= WELL * shown.max()
    usual = float(np.quantile(empty.noise[well], USUAL)) if well.any() else float(np.median(empty.noise))
    noise = np.where(well, empty.noise, np.maximum(empty.noise, usual)).astype(np.float32)
    if empty.chroma_noise is None:
        return replace(empty, noise=noise)
    rows, columns = empty.chroma_noise.shape[1:]
    half = well[::2, ::2][:rows, :columns]
    level = float(np.quantile(empty.chroma_noise[:, half], USUAL)) if half.any() else 0.0
    colour = np.where(half, empty.chroma_noise, np.maximum(empty.chroma_noise, level)).astype(np.float32)
    return replace(empty, noise=noise, chroma_noise=colour)


def steadied_samples(
    clip: ClipInfo, motion: CameraMotion, station: Station
) -> tuple[Samples, NDArray[np.int64]] | None:
    """Pictures of a stretch, and of the time around it where it is short, on the station's canvas; by how many of them
    each px of it is shown, (height, width).

    Where one does not reach, another that does is looked at in its place.
    """
    first, past = _stretch(clip, motion, station)
    samples = read_samples(clip, first, past, one_place=False)
    if samples is None:
        return None
    useful = np.array([_useful(motion, station, int(frame)) for frame in samples.frame])
    if useful.sum() < LEAST:
        return None
    rows = np.flatnonzero(useful)
    width, height = station.size
    grey = np.zeros((len(rows), height, width), np.uint8)
    reached = np.zeros((len(rows), height, width), np.uint8)
    chroma = None if samples.chroma is None else np.zeros((len(rows), 2, height // 2, width // 2), np.uint8)
    nothing, half = np.zeros((height, width), np.float32), np.full((height // 2, width // 2), 128, np.float32)
    all_of_it = np.ones(samples.grey.shape[1:], np.uint8)
    for k, row in enumerate(rows.tolist()):
        back = inverse(station.from_picture(motion, int(samples.frame[row])))
        lay_on(samples.grey[row], back, nothing, grey[k])
        lay_on(all_of_it, back, nothing, reached[k])
        if chroma is not None and samples.chroma is not None:
            for plane in range(2):
                lay_on(samples.chroma[row, plane], half_size(back), half, chroma[k, plane])
    borrow(grey, reached)
    if chroma is not None:
        seen = np.ascontiguousarray(reached[:, ::2, ::2][:, : height // 2, : width // 2])
        for plane in range(2):
            part = np.ascontiguousarray(chroma[:, plane])
            borrow(part, seen)
            chroma[:, plane] = part
    return Samples(grey, chroma, samples.time[rows], samples.frame[rows]), reached.sum(axis=0, dtype=np.int64)


def _stretch(clip: ClipInfo, motion: CameraMotion, station: Station) -> tuple[int, int]:
    """Frames in which a station's ground is looked for: its own, and some around them of the same shot."""
    times = clip.times
    first, past = station.first, min(station.past, clip.frame_count)
    if times[past - 1] - times[first] < LONG:
        first = int(np.searchsorted(times, times[first] - AROUND))
        past = int(np.searchsorted(times, times[past - 1] + AROUND))
    shot = np.flatnonzero(motion.shot == motion.shot[station.first])
    return max(first, int(shot[0])), min(past, int(shot[-1]) + 1, clip.frame_count)


def _useful(motion: CameraMotion, station: Station, frame: int) -> bool:
    """Whether a picture's place is known and it shows enough of the canvas."""
    if motion.state[frame] == FrameState.HELD:
        return False
    width, height = station.size
    x, y = np.meshgrid(np.linspace(0.2, 0.8, 5) * width, np.linspace(0.2, 0.8, 5) * height)
    there = apply(inverse(station.from_picture(motion, frame)), np.column_stack([x.ravel(), y.ravel()]))
    inside = ((there > 0) & (there < motion.size)).all(axis=1)
    corners = mapped_corners(station.from_picture(motion, frame), motion.size)
    zoom = np.sqrt(abs(np.prod(corners[2] - corners[0])) / (motion.size[0] * motion.size[1]))
    return bool(inside.mean() >= OVERLAP and 0.6 <= zoom <= 1.7)


@njit(cache=True, nogil=True)
def borrow(planes: NDArray[np.uint8], reached: NDArray[np.uint8]) -> None:  # pragma: no cover
    """Where a picture does not reach, what others show there, turn by turn, in place; (n, height, width) both."""
    n, height, width = planes.shape
    have = np.empty(n, np.int64)
    for y in range(height):
        for x in range(width):
            count = 0
            for k in range(n):
                if reached[k, y, x]:
                    have[count] = k
                    count += 1
            if count == n or count == 0:
                continue
            taken = 0
            for k in range(n):
                if not reached[k, y, x]:
                    planes[k, y, x] = planes[have[taken % count], y, x]
                    taken += 1
