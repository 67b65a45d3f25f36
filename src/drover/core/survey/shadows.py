"""Whether a clip shows cast shadows, and what they are like: only then is anything taken for one.

In blob after blob a shadow lies to the same side of the body that casts it; what merely looks like shadow (dark cloth
on pale ground) lies anywhere. The evidence is the mean resultant length of those directions (Mardia and Jupp 2000,
"Directional statistics", 2.3), weighted by the share of blobs that have such a part. Where trousers blur it, long
shadows still tell: of each blob is measured how much of its shadow-like part lies beyond the body to the right, less to
the left, and the mean of these is held against its standard error (Student 1908).
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from drover.core.detect.shadows import LIT
from drover.core.survey.empty_scene import MOVES, EmptyScene, light_of
from drover.core.survey.samples import Samples

__all__ = ["ShadowEvidence", "find_shadows"]

Place = tuple[NDArray[np.int64], NDArray[np.int64]]
DARKEST, LIGHTEST = 0.3, 0.95  # share of the light that a shadow may leave
LEAST_PART, MOST_PART = 0.08, 0.92  # of a blob that may be shadow
LEAST_BLOB = 24  # px at half size
EVERY = 2  # pictures: half of them say enough
LEAST_PIXELS = 50  # beyond the bodies, to measure the range by
STEPS = 0.95  # of the pixels beyond the bodies whose light changes by no more, from one to those around it
SPREADS = 2.5  # quarters of the spread under the median that shadow may go
LEAST_BLOBS = 10  # with such a part, before anything is said
SURE, ASIDE = 0.5, 0.3  # evidence from which shadows are looked for, and how much of it must point to one side
ERRORS, BESIDE = 3.3, 0.2  # or: standard errors, and share of the parts that lies beyond the body to one side,
EVEN, OFTEN = (
    0.17,
    24,
)  # where what lies beyond is evenly dark, in that many blobs: one dark van comes by again and again
LOW = 0.35  # share of their way that shadows go aside from which they lie beside the bodies, not under them
BEYOND = 0.05  # of the body's pixels may lie beyond what counts as its width
JITTER = 0.05  # least spread of that share from blob to blob


@dataclass(frozen=True)
class ShadowEvidence:
    """What speaks for cast shadows.

    ``strength`` 0..1 is how much parts lie one way and ``direction`` rad on the screen which; ``aside`` -1..1 the share
    of them beyond the body to the right, less to the left, and ``sure`` how many standard errors that is from nought;
    then the range of ratios seen, and how many blobs were looked at. ``parts`` of them have a shadow-like part, and
    ``uneven`` is how far apart the quartiles of the ratios beyond the bodies are; ``sharpest`` is how much of the light
    changes from px to px in a shadow, at its rim at most; 0 where too little was seen. ``rough`` is the noise of the
    ground as a share of its light.
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

    @property
    def cast(self) -> bool:
        """Whether bodies cast shadows."""
        # What is dark below lies below in every body that wears trousers; only a sun puts it to one side.
        one_way = self.strength >= SURE and self.strength * abs(float(np.cos(self.direction))) >= ASIDE
        beside = self.sure >= ERRORS and abs(self.aside) >= BESIDE
        return one_way or (beside and self.uneven <= EVEN and self.parts >= OFTEN)

    @property
    def to_one_side(self) -> bool:
        """Whether shadows lie well beside the bodies, as a sun that is not high throws them."""
        return self.cast and abs(float(np.cos(self.direction))) >= LOW


class _Part(NamedTuple):
    """A shadow-like part: its direction from the body, its share aside; of its pixels the ratio and the change of
    light around them, and where they and the body's are.
    """

    way: tuple[float, float]
    side: float
    ratio: NDArray[np.float32]
    step: NDArray[np.float32]
    shadow: Place
    body: Place


def find_shadows(samples: Samples, empty: EmptyScene) -> ShadowEvidence:
    """Evidence of cast shadows in some pictures; none without colour, which alone tells shadow from dark cloth."""
    nothing = ShadowEvidence(0.0, 0.0, 0.0, 0.0, DARKEST, LIGHTEST, 0)
    if samples.chroma is None or empty.chroma is None or empty.chroma_noise is None:
        return nothing
    look = partial(_look, samples, empty, light_of(samples))
    with ThreadPoolExecutor(2) as pool:
        looks = list(pool.map(look, range(0, len(samples), EVERY)))
    blobs = sum(found for found, _ in looks)
    parts = [part for _, more in looks for part in more]
    ways = [part.way for part in parts]
    sides = [part.side for part in parts]
    rough = float(np.median(empty.noise / np.maximum(empty.grey, 4.0)))
    if len(ways) < LEAST_BLOBS or blobs == 0:
        return ShadowEvidence(0.0, 0.0, 0.0, 0.0, DARKEST, LIGHTEST, blobs, rough=rough)
    mean = np.mean(ways, axis=0)
    strength = float(np.hypot(*mean)) * min(1.0, 1.5 * len(ways) / blobs)
    aside = float(np.mean(sides))
    sure = abs(aside) * len(sides) ** 0.5 / (float(np.std(sides)) + JITTER)
    beyond, step = _beyond(parts, mean)
    enough = len(beyond) >= LEAST_PIXELS
    lower, upper = np.quantile(beyond, [0.25, 0.75]) if enough else (0.0, 1.0)
    sharpest = float(np.quantile(step, STEPS)) if enough else 0.0
    evidence = ShadowEvidence(
        strength, aside, sure, float(np.arctan2(mean[1], mean[0])), DARKEST, LIGHTEST, blobs, len(ways),
        float(upper - lower), sharpest, rough,
    )  # fmt: skip
    darkest, lightest = _range_all(parts) if evidence.to_one_side else _range_under(beyond)
    return replace(evidence, darkest=darkest, lightest=lightest)


def _look(samples: Samples, empty: EmptyScene, gain: NDArray[np.float64], k: int) -> tuple[int, list[_Part]]:
    """How many blobs there are in one picture, and those with a part that looks like shadow; at half size."""
    assert samples.chroma is not None and empty.chroma is not None and empty.chroma_noise is not None
    rows, columns = (min(a, b) for a, b in zip(empty.grey[::2, ::2].shape, empty.chroma.shape[1:], strict=True))
    ground, noise = np.maximum(empty.grey[::2, ::2][:rows, :columns], 4.0), empty.noise[::2, ::2][:rows, :columns]
    tint, spread = empty.chroma[:, :rows, :columns], empty.chroma_noise[:, :rows, :columns]
    ratio = samples.grey[k, ::2, ::2][:rows, :columns] / np.float32(gain[k]) / ground
    colour = samples.chroma[k, :, :rows, :columns].astype(np.float32)
    off = np.abs(colour - 128.0 - ratio * (tint - 128.0))
    away = ((ratio - 1.0) * ground / noise) ** 2 + (((colour - tint) / spread) ** 2).sum(axis=0)
    like = (ratio > DARKEST) & (ratio < LIGHTEST) & (off < 3.0 * spread).all(axis=0)
    blobs, parts = _parts(away > MOVES**2, like, ratio)
    whole = samples.grey[k] / np.float32(gain[k])
    return blobs, [part._replace(step=_steps(whole, empty.grey, part.shadow)) for part in parts]


def _steps(grey: NDArray[np.float32], ground: NDArray[np.float32], place: Place) -> NDArray[np.float32]:
    """How far the shares of light of the 3 by 3 pixels around some places, given at half size, lie apart, but for those
    that are no shadow anyway.
    """
    down, across = np.mgrid[-1:2, -1:2].reshape(2, 9, 1)
    y = np.clip(2 * place[0] + down, 0, grey.shape[0] - 1)
    x = np.clip(2 * place[1] + across, 0, grey.shape[1] - 1)
    share = grey[y, x] / np.maximum(ground[y, x], 4.0)
    counts = (share >= DARKEST) & (share <= LIT)
    high, low = np.where(counts, share, 0.0).max(axis=0), np.where(counts, share, 1.0).min(axis=0)
    return np.maximum(high - low, 0.0).astype(np.float32)


def _beyond(parts: list[_Part], way: NDArray[np.float64]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Ratio and step of what looks like shadow and lies beyond the body, the way shadows fall: there is no cloth."""
    ratio, step = [], []
    for part in parts:
        (y, x), (body_y, body_x) = part.shadow, part.body
        rim = np.quantile(body_x * way[0] + body_y * way[1], 1 - BEYOND)
        far = x * way[0] + y * way[1] > rim
        ratio.append(part.ratio[far])
        step.append(part.step[far])
    return np.concatenate(ratio), np.concatenate(step)


def _range_all(parts: list[_Part]) -> tuple[float, float]:
    """Darkest and lightest ratio of all that looks like shadow: lying beside the bodies, little else is among it.

    Near the feet the soft shadow that any body has adds to the one it casts.
    """
    darkest, lightest = np.quantile(np.concatenate([part.ratio for part in parts]), [0.03, 0.97])
    return max(float(darkest) - 0.05, DARKEST), min(max(float(lightest), 0.7), LIGHTEST)


def _range_under(beyond: NDArray[np.float32]) -> tuple[float, float]:
    """Darkest and lightest ratio of shadow under a high sun, from what lies beyond the bodies.

    A shadow leaves much the same share of light all over but for its soft rim: what spreads above the median spreads
    below it as well, and anything darker is not shadow.
    """
    if len(beyond) < LEAST_PIXELS:
        return DARKEST, LIGHTEST
    middle, upper, lightest = np.quantile(beyond, [0.5, 0.75, 0.97])
    darkest = float(middle - SPREADS * (upper - middle))
    return min(max(darkest, DARKEST), 0.72), min(max(float(lightest), 0.7), LIGHTEST)


def _parts(moving: NDArray[np.bool_], like: NDArray[np.bool_], ratio: NDArray[np.floating]) -> tuple[int, list[_Part]]:
    """How many blobs lie away from the edge, and the shadow-like parts of those that have one."""
    from scipy import ndimage  # here: a start without it is a fifth of a second shorter

    label, _ = ndimage.label(ndimage.binary_opening(moving))  # type: ignore[misc]
    out: list[_Part] = []
    blobs = 0
    for number, place in enumerate(ndimage.find_objects(label), 1):
        if place is None or min(place[0].start, place[1].start) == 0:
            continue
        if place[0].stop == moving.shape[0] or place[1].stop == moving.shape[1]:
            continue
        mine = label[place] == number
        if mine.sum() < LEAST_BLOB:
            continue
        blobs += 1
        part = mine & np.asarray(ndimage.binary_opening(like[place]), np.bool_)
        share = float(part.sum()) / float(mine.sum())
        if not LEAST_PART <= share <= MOST_PART:
            continue
        y, x = np.nonzero(part)
        body_y, body_x = np.nonzero(mine & ~part)
        dx, dy = x.mean() - body_x.mean(), y.mean() - body_y.mean()
        length = float(np.hypot(dx, dy))
        if length > 0.5:
            left, right = np.quantile(body_x, [BEYOND, 1 - BEYOND])
            side = float(np.mean(x > right) - np.mean(x < left))
            top, first = place[0].start, place[1].start
            shadow = y + top, x + first
            found = _Part(
                (dx / length, dy / length),
                side,
                ratio[shadow].astype(np.float32),
                np.zeros(0, np.float32),
                shadow,
                (body_y + top, body_x + first),
            )
            out.append(found)
    return blobs, out
