"""Settings on auto, worked out from what the clip says of itself."""

from __future__ import annotations

import numpy as np

from drover.core.recipe import BackgroundSettings, CleanupSettings, DetectSettings, as_taken, is_auto
from drover.core.survey.shadows import AT_THE_FEET
from drover.core.survey.survey import Survey

__all__ = ["resolve_detect"]

PALE = 12.0  # standard deviations under which what moves stands out little
RESTLESS = 0.3  # share of the ground from which a lower threshold would let it in
OF_THRESHOLD, THRESHOLDS = 4.0, (6.0, 7.0)  # contrast of what moves over the threshold, and its bounds, σ
USUAL = CleanupSettings(opening=2, closing=3, fill_holes=400)  # where nobody knows how large things are
OF_OPENING, OPENINGS = 100.0, (2, 6)  # size of what moves for each px more of opening, and its bounds, px
SMALL, OF_CLOSING, CLOSINGS = 16.0, 100.0, (0, 7)  # size from which cracks are bridged, and for a px more each way
OF_HOLE, HOLES = 5.0, (4, 10_000)  # of a hole's side, and bounds of its area, px²
NOTHING_TO_LEARN, LEARNING = 0.0, 1.0  # s
WEAK, WEAK_OF_PALE = 0.7, 0.5  # second threshold, as a share of the first
LIGHTEST = 0.97  # share of the light that the soft shadow under a body leaves at most
SOFT, RIM = 0.35, 0.2  # share of the light by which it changes from px to px; of that what noise may be added to
APART = 3.0  # standard deviations that the ends of nine noisy values lie apart (Tippett 1925)
OFF, FAR_OFF = 1.2, 7.0  # times what most colours of a shadow are off that any may be, and levels it may be at most
SHARP, ANY = 0.6, 2.0  # share of the light by which any shadow may change; what no two pixels differ by


def resolve_detect(settings: DetectSettings, survey: Survey | None, *, steadied: bool = False) -> DetectSettings:
    """The settings with every "auto" replaced by what the survey says; without one by what is safe.

    Shadows: where bodies cast them, the range seen is cut away; else only the soft shadow under a body, which darkens
    little; nothing on grey footage, where a shadow cannot be told from dark cloth. Where the picture is ``steadied``
    it lies on the ground to a part of a pixel only, so every grain of it looks like a sharp rim: none is too sharp.
    """
    made = _background(_shadow(settings, survey, steadied), survey)
    cleanup = _cleanup(0.0 if survey is None else survey.moving_size)
    return as_taken(made, made.model_copy(update={"cleanup": cleanup}))


def _background(settings: DetectSettings, survey: Survey | None) -> DetectSettings:
    """What differs little from the ground is looked for by a lower second threshold than what stands out, and what
    stands out much by a higher first one, which cuts away the halo of coding; colour is looked at where there is any.
    """
    rule: BackgroundSettings = settings.background
    taken: dict[str, float | str] = {}
    if is_auto(rule.weak_share):
        pale = survey is not None and survey.contrast < PALE and survey.restless < RESTLESS
        taken["weak_share"] = WEAK_OF_PALE if pale else WEAK
    if is_auto(rule.noise_threshold):
        clear = 0.0 if survey is None or not np.isfinite(survey.contrast) else survey.contrast / OF_THRESHOLD
        taken["noise_threshold"] = round(float(np.clip(clear, *THRESHOLDS)), 2)
    if is_auto(rule.warm_up):
        taken["warm_up"] = NOTHING_TO_LEARN if survey is not None and rule.known_start else LEARNING
    if rule.look_at == "auto":
        taken["look_at"] = "grey" if survey is not None and survey.grey else "colour"
    return settings.model_copy(update={"background": rule.model_copy(update=taken)}) if taken else settings


def _cleanup(size: float) -> CleanupSettings:
    """Clean-up for what moves in blobs of so many px, the usual where that is 0: small things have small cracks, and
    what lies beside one is another.
    """
    if size <= 0:
        return USUAL
    return CleanupSettings(
        opening=_whole(1.0 + size / OF_OPENING, OPENINGS),
        closing=1 + 2 * _whole((size - SMALL) / OF_CLOSING + 0.5, CLOSINGS),  # odd: as far to one side as to the other
        fill_holes=_whole((size / OF_HOLE) ** 2, HOLES),
    )


def _whole(value: float, bounds: tuple[int, int]) -> int:
    return int(min(max(round(value), bounds[0]), bounds[1]))


def _shadow(settings: DetectSettings, survey: Survey | None, steadied: bool) -> DetectSettings:
    shadow = settings.shadow
    if shadow.mode != "auto":
        return settings
    taken: dict[str, str | float]
    if survey is not None and survey.grey:
        taken = {"mode": "off"}
    elif survey is not None and survey.shadows.cast:
        taken = {"mode": "drop", "darkest": round(min(survey.shadows.darkest, 0.72), 2), "lightest": LIGHTEST}
        taken["sharpest"] = round(min(max(survey.shadows.sharpest, SOFT), SHARP), 2)
        taken["colour_change"] = round(min(max(OFF * survey.shadows.colour, shadow.colour_change), FAR_OFF), 1)
    else:
        rough = 0.0 if survey is None else survey.shadows.rough
        taken = {"mode": "drop", "darkest": AT_THE_FEET, "lightest": LIGHTEST}
        taken["sharpest"] = round(min(max(SOFT, RIM + APART * rough), 1.0), 2)
    if steadied:
        taken["sharpest"] = ANY
    return settings.model_copy(update={"shadow": shadow.model_copy(update=taken)})
