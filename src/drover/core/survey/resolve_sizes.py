"""Clean-up, joining and least sizes on auto: they follow how large what moves is."""

from __future__ import annotations

from drover.core.recipe import CleanupSettings, DetectSettings, SizeSettings, as_taken
from drover.core.survey.survey import Survey

__all__ = ["resolve_sizes"]

USUAL = CleanupSettings(opening=2, closing=3, fill_holes=400)  # where nobody knows how large things are
OF_OPENING, OPENINGS = 100.0, (2, 6)  # size of what moves for each px more of opening, and its bounds, px
SMALL, OF_CLOSING, CLOSINGS = 16.0, 100.0, (0, 7)  # size from which cracks are bridged, and for a px more each way
OF_HOLE, HOLES = 5.0, (4, 10_000)  # of a hole's side, and bounds of its area, px²
LEAST_SIDE, LEAST_AREA, JOIN = 5.0, 40.0, 4.0  # px of frames as wide as sizes are for; less where things are smaller
OF_LEAST, OF_JOIN = 3.0, 10.0  # size of what moves over the least side that is kept, and over the distance to join


def resolve_sizes(settings: DetectSettings, survey: Survey | None) -> DetectSettings:
    """The settings with clean-up, joining and least sizes that are on auto by the size of what moves.

    What is small has small cracks, and what lies beside it belongs to another. Nothing is known of how large things are
    that travel: only what is far smaller than what moves on the whole is left out here.
    """
    size = 0.0 if survey is None else survey.moving_size
    width = settings.size.for_width if survey is None else survey.empty.grey.shape[1]
    told = {"cleanup": _cleanup(size), "size": _sizes(settings.size, size * settings.size.for_width / width)}
    return as_taken(settings, settings.model_copy(update=told))


def _cleanup(size: float) -> CleanupSettings:
    """For things of a size, px; the usual where that is 0."""
    if size <= 0:
        return USUAL
    return CleanupSettings(
        opening=_whole(1.0 + size / OF_OPENING, OPENINGS),
        closing=1 + 2 * _whole((size - SMALL) / OF_CLOSING + 0.5, CLOSINGS),  # odd: as far to one side as to the other
        fill_holes=_whole((size / OF_HOLE) ** 2, HOLES),
    )


def _sizes(settings: SizeSettings, size: float) -> SizeSettings:
    """For things of a size, px of frames as wide as sizes are given for."""
    side = LEAST_SIDE if size <= 0 else min(LEAST_SIDE, round(size / OF_LEAST, 1))
    told = {"least_width": side, "least_height": side, "least_area": round(LEAST_AREA * (side / LEAST_SIDE) ** 2, 1)}
    told["join_within"] = JOIN if size <= 0 else min(JOIN, round(size / OF_JOIN, 1))
    return settings.model_copy(update=told)


def _whole(value: float, bounds: tuple[int, int]) -> int:
    return int(min(max(round(value), bounds[0]), bounds[1]))
