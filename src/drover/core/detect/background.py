"""Background models: the picture of the empty scene, and how far each pixel is from it.

All share one interface (:class:`BackgroundModel`). ``difference`` is in grey levels, or, when asked for, in
eighths of the measured noise of each pixel, so that one threshold means the same in the dark and in the light.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from drover.core.both_cores import in_bands
from drover.core.detect import background_kernels as kernels
from drover.core.detect import mixture_kernels
from drover.core.recipe import BackgroundSettings

__all__ = [
    "NOISE_STEPS",
    "BackgroundModel",
    "FrameDifference",
    "Mixture",
    "ModelState",
    "RunningAverage",
    "RunningMedian",
    "make_model",
]

NOISE_STEPS = 8  # steps of the difference picture to one standard deviation of noise
FIRST_NOISE = 9.0  # grey levels squared, before any has been measured
LEAST_NOISE = 2.0  # grey levels squared: quantisation and compression hide smaller noise
LONG_AGO = -1e12  # s
KNOWN = 1_000_000  # pictures that a scene measured before counts for
NOISE_RATE = 0.25  # 1/s, how fast the noise of a pixel is learnt

Grey = NDArray[np.uint8]
Float32 = NDArray[np.float32]


@dataclass(frozen=True)
class ModelState:
    """A small copy of a model: the empty scene and the noise (levels x 16) as bytes, and its clock.

    ``colour`` is that of the colour planes, where they are looked at. ``seen`` counts from ``KNOWN`` where the scene
    and its noise were measured before.
    """

    picture: Grey
    noise: Grey
    seen: int
    start: float
    now: float
    colour: ModelState | None = None


class BackgroundModel(Protocol):
    """What every background model can do."""

    difference: Grey
    settings: BackgroundSettings

    def step(self, grey: Grey, time: float) -> bool:
        """Take in one picture; False while the empty scene is still being learnt."""
        ...

    def background(self) -> Float32:
        """(height, width) float32, the empty scene in grey levels."""
        ...

    def noise(self) -> Float32:
        """(height, width) float32, measured noise of each pixel, one standard deviation in grey levels."""
        ...

    def begin(self, picture: Float32, noise: Float32) -> None:
        """Take the empty scene and its noise as measured before."""
        ...

    def take_noise(self, noise: Float32) -> None:
        """Take the noise as measured anew."""
        ...

    def absorb(self, runs: NDArray[np.int16], grey: Grey) -> None:
        """Take these pixels of the picture for background from now on."""
        ...

    def state(self) -> ModelState:
        """A small copy of the state, for going back to."""
        ...

    def restore(self, state: ModelState) -> None:
        """Go back to an earlier state."""
        ...


def make_model(settings: BackgroundSettings, shape: tuple[int, int], keep_still: float) -> BackgroundModel:
    """The model the settings ask for; ``keep_still`` s is how long a thing that stands stays a detection."""
    makers = {
        "running-average": RunningAverage,
        "running-median": RunningMedian,
        "frame-difference": FrameDifference,
        "three-frame-difference": FrameDifference,
        "mixture": Mixture,
    }
    return makers[settings.model](settings, shape, keep_still)


class _Clock:
    """What all models share: time, warm-up, noise and the difference picture."""

    def __init__(self, settings: BackgroundSettings, shape: tuple[int, int], keep_still: float = 30.0) -> None:
        self.settings = settings
        self.keep_still = keep_still
        self.difference = np.zeros(shape, np.uint8)
        self._background = np.zeros(shape, np.float32)
        self._noise = np.full(shape, FIRST_NOISE, np.float32)
        self._in_noise = settings.threshold_in == "noise"
        self.seen = 0
        self._start = self._time = 0.0
        self._scale: Float32 | None = None

    def _tick(self, time: float) -> tuple[float, bool]:
        """Seconds since the picture before, and whether the empty scene is still being learnt."""
        if self.seen == 0:
            self._start = self._time = time
        elapsed = max(0.0, time - self._time)
        self._time = time
        learning = self.seen == 0 or time - self._start < self.settings.warm_up - 1e-9
        self.seen += 1
        return elapsed, learning

    def begin(self, picture: Float32, noise: Float32) -> None:
        """Take the empty scene and its noise (levels, one standard deviation) as measured: nothing is left to learn."""
        self._background[:] = picture
        self._measured(noise)
        self.seen, self._start, self._time = KNOWN, LONG_AGO, math.inf  # no time has gone by before the first picture

    def known_scale(self) -> Float32:
        """Steps of the difference picture to a level, worked out once: the noise stays as it was measured."""
        if self._scale is None:
            self._scale = (np.float32(NOISE_STEPS) / np.sqrt(self._noise)).astype(np.float32)
        return self._scale

    @property
    def in_noise(self) -> bool:
        """Whether differences are multiples of the noise."""
        return self._in_noise

    @property
    def all_known(self) -> bool:
        """Whether scene and noise were measured before, and differences are multiples of that noise."""
        return self.seen >= KNOWN and self._in_noise

    def _noise_rate(self, elapsed: float) -> float:
        return 0.0 if self.seen >= KNOWN else 1.0 - math.exp(-NOISE_RATE * elapsed)

    def _cut(self) -> float:
        """The threshold in the difference picture's own steps."""
        return cut_of(self.settings)

    def background(self) -> Float32:
        """The empty scene."""
        return self._background

    def noise(self) -> Float32:
        """Noise of each pixel."""
        return np.sqrt(self._noise)

    def take_noise(self, noise: Float32) -> None:
        """Take the noise (levels, one standard deviation) as it was measured anew, where it is not learnt here."""
        if self.all_known:
            self._measured(noise)

    def _measured(self, noise: Float32) -> None:
        np.maximum(noise * noise, np.float32(LEAST_NOISE), out=self._noise)  # as the models learn it
        self._scale = None

    def absorb(self, runs: NDArray[np.int16], grey: Grey) -> None:
        """Take these pixels for background."""
        for y, x0, x1 in runs.tolist():
            self._background[y, x0:x1] = grey[y, x0:x1]

    def state(self) -> ModelState:
        """A small copy of the state."""
        noise = np.clip(np.rint(self.noise() * 16), 1, 255).astype(np.uint8)
        picture = np.clip(np.rint(self.background()), 0, 255).astype(np.uint8)
        return ModelState(picture, noise, self.seen, self._start, self._time)

    def restore(self, state: ModelState) -> None:
        """Go back to an earlier state."""
        self._background[:] = state.picture
        self._noise[:] = (state.noise.astype(np.float32) / 16) ** 2
        self._scale = None
        self.seen, self._start, self._time = state.seen, state.start, state.now


def cut_of(settings: BackgroundSettings) -> float:
    """The threshold in steps of the difference picture: grey levels, or eighths of the noise."""
    if settings.threshold_in == "noise":
        return settings.noise_threshold * NOISE_STEPS
    return settings.threshold


class RunningAverage(_Clock):
    """Running average of the picture; slower where something moves, so that what stands is not learnt at once.

    The exponential average of each pixel with its variance (Wren et al. 1997, "Pfinder", eq. 6).
    """

    def step(self, grey: Grey, time: float) -> bool:
        """Take in one picture; see :class:`BackgroundModel`."""
        if self.all_known:
            rate, busy = self.paces(time)
            kernels.update_known(
                grey, self._background, self.known_scale(), self.difference, np.float32(self._cut()),
                np.float32(rate), np.float32(busy),
            )  # fmt: skip
            return True
        elapsed, learning = self._tick(time)
        if self.seen == 1:
            self._background[:] = grey
            return not learning
        if learning:
            rate = busy = 1.0 / self.seen
        else:
            rate, busy = self._rates(elapsed)
        noise_rate = self._noise_rate(elapsed * kernels.TURNS)
        kernels.update_average(
            grey, self._background, self._noise, self.difference, np.float32(self._cut()), np.float32(rate),
            np.float32(busy), np.float32(noise_rate), np.float32(LEAST_NOISE), self._in_noise, self.seen,
        )  # fmt: skip
        return not learning

    def paces(self, time: float) -> tuple[float, float]:
        """Go on to the next picture: how far the background moves toward it, where nothing moves and where it does."""
        return self._rates(self._tick(time)[0])

    def _rates(self, elapsed: float) -> tuple[float, float]:
        rate, share = self.settings.rate, self.settings.busy_share
        return 1.0 - math.exp(-rate * elapsed), 1.0 - math.exp(-rate * share * elapsed)


class RunningMedian(_Clock):
    """Approximate running median: each pixel steps toward the picture by a fixed amount (McFarlane and Schofield 1995).

    A thing that passes moves the background by a few steps only, however bright it is. The step is 16 levels
    times the rate a second, slower where something moves.
    """

    def step(self, grey: Grey, time: float) -> bool:
        """Take in one picture; see :class:`BackgroundModel`."""
        elapsed, learning = self._tick(time)
        if self.seen == 1:
            self._background[:] = grey
            return not learning
        pace = 16.0 * self.settings.rate * elapsed * (6.0 if learning else 1.0)
        busy = pace if learning else pace * self.settings.busy_share
        noise_rate = self._noise_rate(elapsed)
        kernels.update_median(
            grey, self._background, self._noise, self.difference, np.float32(self._cut()), np.float32(pace),
            np.float32(busy), np.float32(noise_rate), np.float32(LEAST_NOISE), self._in_noise,
        )  # fmt: skip
        return not learning


class FrameDifference(_Clock):
    """Difference from the pictures just before: no background at all, so nothing that stands is seen.

    Over two frames the picture is held against the one before; over three, the smaller of the differences
    from the one before and the one before that, which drops the place a thing has just left.
    """

    def __init__(self, settings: BackgroundSettings, shape: tuple[int, int], keep_still: float = 30.0) -> None:
        super().__init__(settings, shape, keep_still)
        self._before: list[Grey] = []
        self._three = settings.model == "three-frame-difference"

    def step(self, grey: Grey, time: float) -> bool:
        """Take in one picture; see :class:`BackgroundModel`."""
        elapsed, learning = self._tick(time)
        need = 2 if self._three else 1
        if self._before:
            older = self._before[0]
            noise_rate = np.float32(self._noise_rate(elapsed))
            kernels.difference_from_before(
                grey, self._before[-1], older, self._noise, self.difference, np.float32(self._cut()), noise_rate,
                np.float32(LEAST_NOISE), self._in_noise,
            )  # fmt: skip
            self._background[:] = self._before[-1]
        else:
            self._background[:] = grey
        self._before = [*self._before[-(need - 1) :], grey] if need > 1 else [grey]
        return not learning and self.seen > need

    def restore(self, state: ModelState) -> None:
        """Go back to an earlier state."""
        super().restore(state)
        self._before = [state.picture.copy()]


class Mixture(_Clock):
    """A few Gaussians a pixel, as many as it needs: swaying grass has two or three faces and all are background.

    Adaptive number of components after Zivkovic 2004, "Improved adaptive Gaussian mixture model for background
    subtraction", equations 4 to 6 and 13. Pixels that match no background component learn at a rate of their
    own, set so that a thing that stands still becomes background after ``keep_still`` seconds.
    """

    FOREGROUND_SHARE = 0.25  # of the weight may belong to things that are not background (c_f in the paper)
    LEAST_SPREAD = 7.0  # grey levels squared: compressed footage stands still and then jumps by a few levels
    PRUNING = 0.02  # how strongly components that are not needed lose weight (c_T, as a share of the rate)

    def __init__(self, settings: BackgroundSettings, shape: tuple[int, int], keep_still: float = 30.0) -> None:
        super().__init__(settings, shape, keep_still)
        most = settings.components
        self._faces = np.zeros((*shape, most, 3), np.float32)  # weight, mean and variance of each component
        self._faces[..., 2] = FIRST_NOISE
        self._count = np.zeros(shape, np.uint8)

    def step(self, grey: Grey, time: float) -> bool:
        """Take in one picture; see :class:`BackgroundModel`."""
        ready, work = self.work_on(grey, time)
        in_bands(mixture_kernels.update_mixture, len(grey), *work)
        return ready

    def work_on(self, grey: Grey, time: float) -> tuple[bool, tuple[Any, ...]]:
        """Go on to the next picture: whether nothing is left to learn, and what its kernel is to be given but rows."""
        elapsed, learning = self._tick(time)
        if learning:
            rate = busy = 1.0 / self.seen
        else:
            rate = 1.0 - math.exp(-self.settings.rate * elapsed)
            busy = 1.0 - math.exp(math.log(1 - self.FOREGROUND_SHARE) * elapsed / max(self.keep_still, 0.04))
        return not learning, (
            grey, self._background, self._noise, self._faces, self._count, self.difference, np.float32(rate),
            np.float32(busy), np.float32(self.PRUNING), np.float32(1 - self.FOREGROUND_SHARE),
            np.float32(self.LEAST_SPREAD), np.float32(FIRST_NOISE), self._in_noise, self.seen,
            1 if learning else mixture_kernels.turns_at(rate),
        )  # fmt: skip

    def begin(self, picture: Float32, noise: Float32) -> None:
        """Take the empty scene and its noise as measured before: one face a pixel."""
        super().begin(picture, noise)
        self._count[:] = 1
        self._faces[:, :, 0, 0] = 1.0

    def take_noise(self, noise: Float32) -> None:
        """Nothing: each face has its own, which follows the footage."""
        del noise

    def absorb(self, runs: NDArray[np.int16], grey: Grey) -> None:
        """Take these pixels for background."""
        for y, x0, x1 in runs.tolist():
            part = (y, slice(x0, x1))
            self._background[part], self._noise[part] = grey[part], FIRST_NOISE
            self._faces[y, x0:x1, 0, 0], self._count[part] = 1.0, 1

    def restore(self, state: ModelState) -> None:
        """Go back to an earlier state."""
        super().restore(state)
        self._count[:] = 1
        self._faces[:, :, 0, 0] = 1.0
