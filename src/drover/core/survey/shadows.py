"""Whether a clip shows cast shadows, and what they are like: only then is anything taken for one.

In blob after blob a shadow lies to the same side of the body that casts it; what merely looks like shadow (dark cloth
on pale ground) lies anywhere. The evidence is the mean resultant length of those directions (Mardia and Jupp 2000,
"Directional statistics", 2.3), weighted by the share of blobs that have such a part. Where trousers blur it, long
shadows still tell: of each blob is measured how much of its shadow-like part lies beyond the body to the right, less to
the left, and the mean of these is held against its standard error (Student 1908). All this is asked twice: what lies
beyond the bodies says which share of the light shadows leave, and then only that share counts.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.shadows import LIT
from drover.core.survey.empty_scene import MOVES, EmptyScene, light_of
from drover.core.survey.samples import Samples
from drover.core.survey.shadow_parts import BEYOND, WIDE, MovingPixels, Part, Place, moving_pixels, parts_of

__all__ = ["AT_THE_FEET", "ShadowEvidence", "find_shadows"]

EVERY = 2  # pictures: half of them say enough
LEAST_PIXELS = 50  # beyond the bodies, to measure the range by
STEPS = 0.95  # of the pixels beyond the bodies whose light changes by no more, from one to those around it
LAGS = 0.5  # of the change of colour that is expected: coding leaves it out where little of it changes
OFF = 0.9  # of the pixels beyond the bodies whose colour is off by no more
SPREADS = 2.5  # quarters of the spread under the median that shadow may go
LEAST_BLOBS = 10  # with such a part, before anything is said
SURE, ASIDE = 0.5, 0.3  # evidence from which shadows are looked for, and how much of it must point to one side
ERRORS, BESIDE = 2.8, 0.2  # standard errors there must be; or: share of the parts beyond the body to one side,
EVEN, OFTEN = (
    0.17,
    24,
)  # where what lies beyond is evenly dark, in that many blobs: one dark van comes by again and again
CLEARLY, ALL_BESIDE = 6.0, 0.4  # standard errors, and share of the parts to one side, from which that is so clear that
SOME, QUITE_EVEN = 12, 0.2  # so many parts are enough, and so evenly dark
AT_THE_FEET = 0.75  # share of the light that the soft shadow under a body leaves, of what a cast one does as well
LEAST_LEFT = 0.6  # of the light that most of a shadow leaves, that any of it does
BLACK_BODIES = 0.18  # share of what lies beyond the bodies that is darker than at the feet, from which black ones go by
LOW = 0.35  # share of their way that shadows go aside from which they lie beside the bodies, not under them
JITTER = 0.05  # least spread of that share from blob to blob


@dataclass(frozen=True)
class ShadowEvidence:
    """What speaks for cast shadows.

    ``strength`` 0..1 is how much parts lie one way and ``direction`` rad on the screen which; ``aside`` -1..1 the share
    of them beyond the body to the right, less to the left, and ``sure`` how many standard errors that is from nought;
    then the range of ratios seen, and how many blobs were looked at. ``parts`` of them have a shadow-like part, and
    ``uneven`` is how far apart the quartiles of the ratios beyond the bodies are; ``sharpest`` is how much of the light
    changes from px to px in a shadow, at its rim at most; 0 where too little was seen. ``rough`` is the noise of the
    ground as a share of its light, ``colour`` by how many levels most colours of a shadow are off what its share of
    light leaves, 0 where too little was seen.
    """

    strength: float
    aside: float
    sure: float
    direction: float
    darkest: float
    lightest: float
    blobs: int
    parts: int = 0
    uneven: float = 1.0
    sharpest: float = 0.0
    rough: float = 0.0
    colour: float = 0.0

    @property
    def cast(self) -> bool:
        """Whether bodies cast shadows."""
        # What is dark below lies below in every body that wears trousers; only a sun puts it to one side.
        one_way = self.strength >= SURE and self.strength * abs(float(np.cos(self.direction))) >= ASIDE
        beside = abs(self.aside) >= BESIDE and self.uneven <= EVEN and self.parts >= OFTEN
        clear = abs(self.aside) >= ALL_BESIDE and self.uneven <= QUITE_EVEN and self.parts >= SOME
        return self.sure >= ERRORS and (one_way or beside or (clear and self.sure >= CLEARLY))

    @property
    def to_one_side(self) -> bool:
        """Whether shadows lie well beside the bodies, as a sun that is not high throws them."""
        return self.cast and abs(float(np.cos(self.direction))) >= LOW


Look = tuple[MovingPixels, int, list[Part]]
NOTHING = ShadowEvidence(0.0, 0.0, 0.0, 0.0, *WIDE, 0)


def find_shadows(samples: Samples, empty: EmptyScene) -> ShadowEvidence:
    """Evidence of cast shadows in some pictures; none without colour, which alone tells shadow from dark cloth."""
    if samples.chroma is None or empty.chroma is None or empty.chroma_noise is None:
        return NOTHING
    look = partial(_look, samples, empty, light_of(samples))
    with ThreadPoolExecutor(2) as pool:
        seen = list(pool.map(look, range(0, len(samples), EVERY)))
    count, parts = _all_of([(bodies, parts) for _, bodies, parts in seen])
    rough = float(np.median(empty.noise / np.maximum(empty.grey, 4.0)))
    if len(parts) < LEAST_BLOBS:
        return replace(NOTHING, blobs=count, rough=rough)
    ratio, step, off = _beyond(parts)
    enough = len(ratio) >= LEAST_PIXELS
    evidence = replace(NOTHING, blobs=count)
    if enough:
        evidence = _evidence(*_all_of([parts_of(picture, _near(ratio)) for picture, _, _ in seen]))
        lower, upper = np.quantile(ratio, [0.25, 0.75])
        evidence = replace(evidence, uneven=float(upper - lower), sharpest=float(np.quantile(step, STEPS)),
                           colour=float(np.quantile(off, OFF)))  # fmt: skip
    darkest, lightest = _range_beside(ratio) if evidence.to_one_side and enough else _range_under(ratio)
    return replace(evidence, darkest=darkest, lightest=lightest, rough=rough)


def _look(samples: Samples, empty: EmptyScene, gain: NDArray[np.float64], k: int) -> Look:
    """What moves in one picture, how many bodies that is, and those parts that look like shadow; at half size."""
    assert samples.chroma is not None and empty.chroma is not None and empty.chroma_noise is not None
    rows, columns = (min(a, b) for a, b in zip(empty.grey[::2, ::2].shape, empty.chroma.shape[1:], strict=True))
    ground, noise = np.maximum(empty.grey[::2, ::2][:rows, :columns], 4.0), empty.noise[::2, ::2][:rows, :columns]
    tint, spread = empty.chroma[:, :rows, :columns], empty.chroma_noise[:, :rows, :columns]
    ratio = samples.grey[k, ::2, ::2][:rows, :columns] / np.float32(gain[k]) / ground
    colour = samples.chroma[k, :, :rows, :columns].astype(np.float32)
    off = np.abs(colour - 128.0 - ratio * (tint - 128.0))
    lags = LAGS * np.maximum(1.0 - ratio, 0.0) * np.abs(tint - 128.0)
    tinted = np.all(off < 3.0 * spread + lags, axis=0)
    away = ((ratio - 1.0) * ground / noise) ** 2 + (((colour - tint) / spread) ** 2).sum(axis=0)
    picture = moving_pixels(away > MOVES**2, ratio, tinted)
    count, parts = parts_of(picture)
    whole = samples.grey[k] / np.float32(gain[k])
    off = off.max(axis=0)
    return picture, count, [
        part._replace(step=_steps(whole, empty.grey, part.shadow), off=off[part.shadow]) for part in parts
    ]  # fmt: skip


def _all_of(looks: list[tuple[int, list[Part]]]) -> tuple[int, list[Part]]:
    """How many bodies there are in all pictures, and all parts."""
    return sum(count for count, _ in looks), [part for _, more in looks for part in more]


def _evidence(count: int, parts: list[Part]) -> ShadowEvidence:
    """How much the parts lie one way."""
    if len(parts) < LEAST_BLOBS:
        return replace(NOTHING, blobs=count)
    mean = np.mean([part.way for part in parts], axis=0)
    strength = float(np.hypot(*mean)) * min(1.0, 1.5 * len(parts) / count)
    sides = [part.side for part in parts]
    aside = float(np.mean(sides))
    sure = abs(aside) * len(sides) ** 0.5 / (float(np.std(sides)) + JITTER)
    return replace(NOTHING, strength=strength, aside=aside, sure=sure, direction=float(np.arctan2(mean[1], mean[0])),
                   blobs=count, parts=len(parts))  # fmt: skip


def _near(ratio: NDArray[np.float32]) -> tuple[float, float]:
    """The share of light of what lies beyond the bodies, where there is no cloth, and little more or less."""
    lower, middle, upper = np.quantile(ratio, [0.25, 0.5, 0.75])
    spread = SPREADS * max(min(middle - lower, upper - middle), JITTER / SPREADS)
    return max(WIDE[0], float(middle - spread)), min(WIDE[1], float(middle + spread))


def _steps(grey: NDArray[np.float32], ground: NDArray[np.float32], place: Place) -> NDArray[np.float32]:
    """How far the shares of light of the 3 by 3 pixels around some places, given at half size, lie apart, but for those
    that are no shadow anyway.
    """
    down, across = np.mgrid[-1:2, -1:2].reshape(2, 9, 1)
    y = np.clip(2 * place[0] + down, 0, grey.shape[0] - 1)
    x = np.clip(2 * place[1] + across, 0, grey.shape[1] - 1)
    share = grey[y, x] / np.maximum(ground[y, x], 4.0)
    counts = (share >= WIDE[0]) & (share <= LIT)
    high, low = np.where(counts, share, 0.0).max(axis=0), np.where(counts, share, 1.0).min(axis=0)
    return np.maximum(high - low, 0.0).astype(np.float32)


def _beyond(parts: list[Part]) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.float32]]:
    """Ratio, step and colour of what looks like shadow and lies beyond the body, the way shadows fall: no cloth is."""
    way = np.mean([part.way for part in parts], axis=0)
    ratio, step, off = [], [], []
    for part in parts:
        (y, x), (body_y, body_x) = part.shadow, part.body
        rim = np.quantile(body_x * way[0] + body_y * way[1], 1 - BEYOND)
        far = x * way[0] + y * way[1] > rim
        ratio.append(part.ratio[far])
        step.append(part.step[far])
        off.append(part.off[far])
    return np.concatenate(ratio), np.concatenate(step), np.concatenate(off)


def _range_beside(beyond: NDArray[np.float32]) -> tuple[float, float]:
    """Darkest and lightest ratio of shadow that lies beside the bodies.

    Most of what lies beyond them leaves much the same share of light: the shortest third of the ratios (as of halves:
    Rousseeuw and Leroy 1987, chapter 4). Near the feet the soft shadow that any body has adds to the one it casts, and
    noise goes below both. But where much is darker still, black bodies are about.
    """
    rising = np.sort(beyond)
    third = len(rising) // 3 + 1
    first = int(np.argmin(rising[third - 1 :] - rising[: len(rising) - third + 1]))
    usual = float(rising[first])
    black = float((rising < AT_THE_FEET * usual).mean()) >= BLACK_BODIES
    darkest, lightest = usual * (AT_THE_FEET if black else LEAST_LEFT), float(np.quantile(rising, 0.97))
    return max(darkest, WIDE[0]), min(max(lightest, 0.7), WIDE[1])


def _range_under(beyond: NDArray[np.float32]) -> tuple[float, float]:
    """Darkest and lightest ratio of shadow under a high sun, from what lies beyond the bodies.

    A shadow leaves much the same share of light all over but for its soft rim: what spreads above the median spreads
    below it as well, and anything darker is not shadow.
    """
    if len(beyond) < LEAST_PIXELS:
        return WIDE
    middle, upper, lightest = np.quantile(beyond, [0.5, 0.75, 0.97])
    darkest = float(middle - SPREADS * (upper - middle))
    return min(max(darkest, WIDE[0]), 0.72), min(max(float(lightest), 0.7), WIDE[1])
