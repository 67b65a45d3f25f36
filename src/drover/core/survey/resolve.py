"""Settings on auto, worked out from what the clip says of itself."""

from __future__ import annotations

from drover.core.recipe import DetectSettings, is_auto
from drover.core.survey.survey import Survey

__all__ = ["resolve_detect"]

PALE = 12.0  # standard deviations under which what moves stands out little
RESTLESS = 0.3  # share of the ground from which a lower threshold would let it in
WEAK, WEAK_OF_PALE = 0.7, 0.5  # second threshold, as a share of the first
FAINT, LIGHTEST = 0.75, 0.97  # share of the light that the soft shadow under a body leaves
SOFT, RIM = 0.35, 0.2  # share of the light by which it changes from px to px; of that what noise may be added to
APART = 3.0  # standard deviations that the ends of nine noisy values lie apart (Tippett 1925)
SHARP, ANY = 0.6, 2.0  # share of the light by which any shadow may change; what no two pixels differ by


def resolve_detect(settings: DetectSettings, survey: Survey | None, *, steadied: bool = False) -> DetectSettings:
    """The settings with every "auto" replaced by what the survey says; without one by what is safe.

    Shadows: where bodies cast them, the range seen is cut away; else only the soft shadow under a body, which darkens
    little; nothing on grey footage, where a shadow cannot be told from dark cloth. Where the picture is ``steadied``
    it lies on the ground to a part of a pixel only, so every grain of it looks like a sharp rim: none is too sharp.
    """
    return _background(_shadow(settings, survey, steadied), survey)


def _background(settings: DetectSettings, survey: Survey | None) -> DetectSettings:
    """What differs little from the ground is looked for by a lower second threshold than what stands out; colour is
    looked at where there is any.
    """
    rule, taken = settings.background, {}
    if is_auto(rule.weak_share):
        pale = survey is not None and survey.contrast < PALE and survey.restless < RESTLESS
        taken["weak_share"] = WEAK_OF_PALE if pale else WEAK
    if rule.look_at == "auto":
        taken["look_at"] = "grey" if survey is not None and survey.grey else "colour"
    return settings.model_copy(update={"background": rule.model_copy(update=taken)}) if taken else settings


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
    else:
        rough = 0.0 if survey is None else survey.shadows.rough
        taken = {"mode": "drop", "darkest": FAINT, "lightest": LIGHTEST}
        taken["sharpest"] = round(min(max(SOFT, RIM + APART * rough), 1.0), 2)
    if steadied:
        taken["sharpest"] = ANY
    return settings.model_copy(update={"shadow": shadow.model_copy(update=taken)})
