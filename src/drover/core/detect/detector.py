"""The Detect stage: one class, one ``step`` a frame; a whole clip is the fold of steps."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.background import BackgroundModel, ModelState, cut_of, make_model
from drover.core.detect.blobs import take_blobs
from drover.core.detect.both_mixtures import step_mixtures
from drover.core.detect.changed_ground import GroundWatch
from drover.core.detect.cleaner import Cleaner
from drover.core.detect.colour import ColourModel
from drover.core.detect.cuts import CutWatch
from drover.core.detect.known_scene import step_known
from drover.core.detect.light import LightFollower
from drover.core.detect.look import describe_blobs, no_looks
from drover.core.detect.other_size import SizeWatch
from drover.core.detect.shadows import ShadowFinder
from drover.core.detect.size_rules import size_fits
from drover.core.detect.still import StillWatch
from drover.core.detect.where import Region
from drover.core.footage_types import Frame
from drover.core.recipe import DetectSettings
from drover.core.survey.empty_scene import EmptyScene
from drover.core.survey.resolve import resolve_detect

__all__ = ["VERSION", "DetectedFrame", "Detector", "DetectorState", "ShadowFacts", "nothing_found"]

VERSION = 33
HISTOGRAM_STRIDE = 4  # px both ways, and frames: every 64th pixel goes into the difference histogram

_NO_CHROMA = np.zeros((2, 0, 0), np.uint8)

DetectorState = ModelState


@dataclass(frozen=True)
class DetectedFrame:
    """What one step found.

    ``rejected`` (n, 4) float32 are the boxes of blobs that the size rules dropped; ``jump`` is the factor of a sudden
    change of the whole light, if there was one; ``cut`` says that another shot begins here, ``anew`` that the same
    place was looked at anew.
    """

    index: int
    box: NDArray[np.float32]
    confidence: NDArray[np.float32]
    area: NDArray[np.float32]
    run_count: NDArray[np.int64]
    runs: NDArray[np.int16]
    difference_counts: NDArray[np.int64]
    rejected: NDArray[np.float32]
    look: NDArray[np.uint8]
    jump: float | None = None
    cut: bool = False
    anew: bool = False


@dataclass(frozen=True)
class ShadowFacts:
    """Picture in the background's light, empty scene, colour of the picture and of the ground, of one frame."""

    grey: NDArray[np.uint8]
    background: NDArray[np.float32]
    chroma: NDArray[np.uint8] | None
    colour: NDArray[np.float32] | None


class Detector:
    """Finds moving things, frame after frame.

    Parameters
    ----------
    settings : DetectSettings
    size : (width, height) px
    empty : the empty scene as measured before, where it was; else it is learnt from the first pictures.

    Where another shot begins all is begun anew, with the empty scene that ``renew`` gives for that frame, if any; and
    where the ground of the same shot has changed for good, if there is one.
    """

    def __init__(self, settings: DetectSettings, size: tuple[int, int], empty: EmptyScene | None = None) -> None:
        self.settings = resolve_detect(settings, None)  # live, nobody has surveyed anything
        self.size = size
        self.renew: Callable[[int], EmptyScene | None] = _nobody_surveys
        self.cleaner = Cleaner(self.settings, size)
        self._region = Region(self.settings.where, size)
        self._cuts, self._ground_watch = CutWatch(), GroundWatch()
        # Where nothing is kept of the empty scene there is no light to bring a picture back to.
        self._follows = self.settings.light.follow and "difference" not in self.settings.background.model
        self._time: float | None = None
        self._sizes = SizeWatch()
        self._start(empty)

    def _start(self, empty: EmptyScene | None) -> None:
        """Begin with nothing known but the empty scene, if that is."""
        settings, (width, height) = self.settings, self.size
        self.model: BackgroundModel = make_model(settings.background, (height, width), settings.still.keep_for)
        looks_at_colour = settings.background.look_at == "colour"
        self._colour = ColourModel(settings.background, settings.still.keep_for) if looks_at_colour else None
        self._light = LightFollower(self.size, settings.light.jump)
        self._shadows = ShadowFinder(settings.shadow, self.size)
        self._still = StillWatch(settings.still, self.size)
        self._grey = np.zeros((height, width), np.uint8)
        self._chroma: NDArray[np.uint8] | None = None
        self._learnt = 0
        self._noise_level = 1.0
        if empty is not None and "difference" not in settings.background.model:
            self._begin(empty)

    def take_survey(self, settings: DetectSettings, empty: EmptyScene | None, *, scene: bool) -> None:
        """Go on by other settings: only what a survey has a say in may differ, as threshold, colour and shadows.

        With the noise of ``empty`` as measured anew, if given, and where the ``scene`` is to be taken too with all of
        that.
        """
        self.settings, self.cleaner = settings, Cleaner(settings, self.size)
        if scene and empty is not None:
            self._start(empty)
            return
        self.model.settings = settings.background
        if settings.background.look_at != "colour":
            self._colour = None
        elif self._colour is not None:
            self._colour.take_settings(settings.background)
        else:
            self._colour = ColourModel(settings.background, settings.still.keep_for)
            if empty is not None and empty.chroma is not None and empty.chroma_noise is not None:
                self._colour.begin(empty.chroma, empty.chroma_noise)
        ground = self._shadows.at_work()
        self._shadows = ShadowFinder(settings.shadow, self.size)
        self._shadows.set_colour(ground)
        if empty is None:
            return
        self.model.take_noise(empty.noise)
        self._noise_level = float(np.median(empty.noise))
        if self._colour is not None and self._colour.model is not None and empty.chroma_noise is not None:
            self._colour.model.take_noise(empty.chroma_noise.reshape(-1, empty.chroma_noise.shape[2]))

    def _begin(self, empty: EmptyScene) -> None:
        """Nothing is left to learn: things are found from the first picture on."""
        self.model.begin(empty.grey, empty.noise)
        self._noise_level = float(np.median(empty.noise))
        self._learnt = 1
        if empty.chroma is not None and empty.chroma_noise is not None:
            self._shadows.set_colour(empty.chroma.copy())
            if self._colour is not None:
                self._colour.begin(empty.chroma, empty.chroma_noise)

    @property
    def _surveyed(self) -> bool:
        """Whether somebody can say what the ground is like from a frame on."""
        return self.renew is not _nobody_surveys

    @property
    def wants_colour(self) -> bool:
        """Whether the colour planes of a frame are looked at."""
        return self._colour is not None or self.settings.shadow.mode != "off"

    def step(self, frame: Frame) -> DetectedFrame:
        """Take in the next frame and say what moves in it; nothing does while the background is learnt."""
        cut = self._cuts.is_cut(frame.grey)
        if cut:
            self._start(self.renew(frame.index))
        anew = not cut and self._begun_anew(frame)
        settings, model = self.settings, self.model
        grey, jump = frame.grey, None
        if self._follows and self._learnt > 0:
            grey, jump = self._light.even(grey, model.background(), frame.time)
        self._grey, self._chroma = grey, None
        interval = 0.0 if self._time is None else frame.time - self._time
        self._time = frame.time
        cleaner = self.cleaner
        chroma = self._chroma = frame.chroma if self.wants_colour else None
        if self._sizes.is_new(frame.own_size, grey.shape, frame.time) and self._learnt > 0:
            self._look_anew(grey, chroma)
        ready = self._take_in(grey, chroma, frame.time)
        self._learnt += 1
        if not ready:
            cleaner.clear()
            self._shadows.learn(chroma, cleaner.raw, frame.time, first=True)
            return nothing_found(frame.index, cut, anew)
        counts = np.zeros(256, np.int64)
        if self._learnt % HISTOGRAM_STRIDE == 0:
            counts = np.bincount(model.difference[::HISTOGRAM_STRIDE, ::HISTOGRAM_STRIDE].ravel(), minlength=256)
        cleaner.mark(model.difference)
        if settings.shadow.mode != "off":
            self._shadows.learn(chroma, cleaner.raw, frame.time, first=False)
            cleaner.take_shadows(self._shadows, grey, model.background(), chroma)
        if self._ground_watch.look(cleaner.share(), frame.time) and self._surveyed:
            return nothing_found(frame.index, cut, anew)
        blobs = cleaner.blobs(model.difference)
        self._still.look(cleaner.clean, grey, frame.time)
        settled = self._still.settled(
            blobs.runs, blobs.run_count, grey, model.background(), interval, self._noise_level
        )
        if settled.any():
            runs = take_blobs(blobs, settled).runs
            model.absorb(runs, grey)
            if self._colour is not None:
                self._colour.absorb(runs)
            blobs = take_blobs(blobs, ~settled)
        fits = size_fits(blobs, settings.size, self.size)
        kept = take_blobs(blobs, fits & self._region.fits(blobs))
        confidence = (kept.contrast / (kept.contrast + np.float32(cut_of(settings.background)))).astype(np.float32)
        rejected = blobs.box[~fits]
        look = describe_blobs(kept.runs, kept.run_count, grey, _NO_CHROMA if chroma is None else chroma)
        return DetectedFrame(
            frame.index,
            kept.box,
            confidence,
            kept.area,
            kept.run_count,
            kept.runs,
            counts,
            rejected,
            look,
            jump,
            cut,
            anew,
        )

    def _begun_anew(self, frame: Frame) -> bool:
        """Take the ground as surveyed from here on, where the one that is known has been of no use for a while."""
        if not self._surveyed or not self._ground_watch.lasts(frame.time):
            return False
        empty = self.renew(frame.index)
        if empty is None:
            return False
        self._start(empty)
        return True

    def _look_anew(self, grey: NDArray[np.uint8], chroma: NDArray[np.uint8] | None) -> None:
        """Pictures come in another size: take the ground as it looks now."""
        background = self.settings.background
        differs = np.full_like(grey, background.threshold, np.float32)
        if background.threshold_in == "noise":
            differs = self.model.noise() * np.float32(background.noise_threshold)
        self.take_ground(self._sizes.ground(grey, self.model.background(), differs), grey, chroma)

    def _take_in(self, grey: NDArray[np.uint8], chroma: NDArray[np.uint8] | None, time: float) -> bool:
        """Step the background of brightness and colour; False while it is learnt."""
        if self._colour is None:
            return self.model.step(grey, time)
        gain = self._light.gain if self._follows else 1.0
        if step_known(self.model, self._colour, grey, chroma, gain, time):
            return True
        joined = step_mixtures(self.model, self._colour, grey, chroma, gain, time)
        if joined is not None:
            return joined
        ready = self.model.step(grey, time)
        self._colour.step(chroma, gain, time, self.model.difference)
        return ready

    # --- pictures for the screen ----------------------------------------------------------------------------

    def background(self) -> NDArray[np.uint8]:
        """The empty scene as now believed, (height, width) uint8."""
        return np.clip(np.rint(self.model.background()), 0, 255).astype(np.uint8)

    def ground_colour(self) -> NDArray[np.float32]:
        """The colour of the empty scene, (2, height / 2, width / 2) float32; 128, grey, where none is known."""
        half = self.size[1] // 2, self.size[0] // 2
        model = None if self._colour is None else self._colour.model
        if model is not None and model.background().shape == (2 * half[0], half[1]):
            return model.background().reshape(2, *half)
        known = self._shadows.at_work()
        return known if known is not None and known.shape[1:] == half else np.full((2, *half), 128, np.float32)

    def take_ground(self, runs: NDArray[np.int16], grey: NDArray[np.uint8], chroma: NDArray[np.uint8] | None) -> None:
        """Take some px (runs, n x 3) of a picture for the empty scene, whatever was believed of them."""
        self.model.absorb(runs, grey)
        if self._colour is not None and chroma is not None:
            self._colour.planes_of(chroma, 1.0)
            self._colour.absorb(runs)

    def difference(self) -> NDArray[np.uint8]:
        """Difference of the last frame from the background, (height, width) uint8, see the background models."""
        return self.model.difference.copy()

    def shadow_facts(self) -> ShadowFacts:
        """What shadows were judged by in the last frame."""
        return ShadowFacts(self._grey.copy(), self.model.background().copy(), self._chroma, self._shadows.at_work())

    def state(self) -> DetectorState:
        """State to go back to with :meth:`restore`."""
        state = self.model.state()
        return state if self._colour is None else replace(state, colour=self._colour.state())

    def restore(self, state: DetectorState) -> None:
        """Go back to an earlier state."""
        self.model.restore(state)
        if self._colour is not None:
            self._colour.restore(state.colour)
        self._learnt = max(1, state.seen)
        self._sizes.forget()


def _nobody_surveys(index: int) -> EmptyScene | None:
    """Live, the scene behind a cut has to be learnt."""
    del index
    return None


def nothing_found(index: int, cut: bool = False, anew: bool = False) -> DetectedFrame:
    """A frame in which nothing moves."""
    empty, none = np.zeros(0, np.float32), np.zeros((0, 4), np.float32)
    runs = np.zeros((0, 3), np.int16)
    return DetectedFrame(
        index, none, empty, empty, np.zeros(0, np.int64), runs, np.zeros(256, np.int64), none, no_looks(), None,
        cut, anew,
    )  # fmt: skip
