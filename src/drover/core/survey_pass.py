"""A look at a clip before anything is detected: some pictures of it are read and surveyed."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.cuts import one_shot
from drover.core.errors import FootageError
from drover.core.footage.opened import FootageReader, open_footage
from drover.core.footage_types import ClipInfo, Frame
from drover.core.kept_surveys import KeptSurveys
from drover.core.survey.one_ground import count_of_one_ground
from drover.core.survey.samples import Samples
from drover.core.survey.survey import Survey, survey_of

__all__ = ["AHEAD", "read_samples", "survey_clip"]

WINDOW = 12.0  # s looked at closely
AHEAD = 90.0  # s within which key frames are looked at as well: they tell what merely lingers at the start
MOST, MOST_KEYS = 32, 16  # pictures in all, and key frames beyond the window
MOST_EACH, APART = 4, 0.4  # pictures at a key frame, and s between them
LEAST = 8  # under which nothing robust can be said

_KEPT = KeptSurveys()


def read_samples(clip: ClipInfo, first: int = 0, past: int | None = None, *, one_place: bool = True) -> Samples | None:
    """About forty pictures of the time from frame ``first`` on; None where there are too few.

    They are spread evenly over up to a minute and a half, so that what lingers somewhere is outweighed by the time in
    which it does not: over the first seconds all are read, after that those next to key frames, which cost little to
    reach. Pictures that do not decode are left out, and where they are to be of ``one_place`` those of another.
    """
    past = clip.frame_count if past is None else past
    times = clip.times
    end = min(max(int(np.searchsorted(times, times[first] + WINDOW)), first + LEAST), past)
    shots: list[Frame] = []
    try:
        with open_footage(clip.path, cache_bytes=0) as reader:
            later = _near_keys(reader, clip, end, past)
            whole = float(times[later[-1]] if len(later) else times[end - 1]) - float(times[first])
            share = float(times[end - 1] - times[first]) / max(whole, 1e-9)
            close = max(LEAST, round(MOST * min(share, 1.0)))
            later = later[np.unique(np.linspace(0, len(later) - 1, max(MOST - close, 0)).round().astype(int))]
            wanted = np.unique(np.linspace(first, end - 1, close).round().astype(int)).tolist()
            shots = _read(reader, [*wanted, *later.tolist()])
            shots = _of_one_shot(shots) if one_place else shots
            if one_place and 1 < len(shots) < LEAST:
                # A short shot of an edited film: all that can be had of it.
                close_by = np.unique(np.linspace(first, shots[-1].index, MOST).round().astype(int))
                shots = _of_one_shot(_read(reader, close_by.tolist()))
    except FootageError:
        pass  # what was read so far may be enough
    if len(shots) < LEAST:
        return None
    chromas = [frame.chroma for frame in shots]
    coloured = all(chroma is not None for chroma in chromas)
    return Samples(
        np.stack([frame.grey for frame in shots]),
        np.stack(chromas) if coloured else None,  # type: ignore[arg-type]
        np.array([frame.time for frame in shots]),
        np.array([frame.index for frame in shots], np.int64),
    )


def _near_keys(reader: FootageReader, clip: ClipInfo, after: int, past: int) -> NDArray[np.int64]:
    """Frames on and soon after some key frames of the time from frame ``after`` on, rising."""
    times = clip.times
    if after >= past:
        return np.zeros(0, np.int64)
    end = min(past, int(np.searchsorted(times, times[after] + AHEAD)))
    keys = reader.key_frames
    keys = keys[(keys >= after) & (keys < end)]
    if len(keys) == 0:
        return keys
    if len(keys) > MOST_KEYS:
        keys = keys[np.linspace(0, len(keys) - 1, MOST_KEYS).round().astype(int)]
    each = min(MOST_EACH, -(-MOST // len(keys)))
    near = np.searchsorted(times, (times[keys][:, None] + APART * np.arange(each)).ravel())
    return np.unique(near[near < end]).astype(np.int64)


def _of_one_shot(shots: list[Frame]) -> list[Frame]:
    """Those that show the same place as the first, up to where its ground becomes another."""
    keeps = one_shot([frame.grey for frame in shots])
    shots = [frame for frame, keep in zip(shots, keeps.tolist(), strict=True) if keep]
    return shots[: count_of_one_ground([frame.grey for frame in shots], [frame.chroma for frame in shots])]


def _read(reader: FootageReader, wanted: list[int]) -> list[Frame]:
    """Frames by number, in rising order; what lies close together is read in one go."""
    out: list[Frame] = []
    for index in wanted:
        try:
            out.append(reader.frame(index))
        except FootageError:
            continue
    return out


def survey_clip(clip: ClipInfo, first: int = 0, past: int | None = None) -> Survey | None:
    """Look at some pictures from frame ``first`` on; None where there are too few to say anything.

    What this program looked over lately is known still: its arrays are not to be written into.
    """

    def made() -> Survey | None:
        samples = read_samples(clip, first, past)
        return None if samples is None else survey_of(samples)

    return _KEPT.get((clip.path, clip.fingerprint, clip.rate, clip.frame_count, first, past), made)
