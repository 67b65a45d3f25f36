"""What the tracking dials stand on: match distances and gap lengths."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from drover.core.track.gaps import bridges
from drover.core.types import Detections, Tracks

__all__ = ["NoiseCheck", "chi_square_share", "gap_lengths", "gaps_of", "match_distance_samples", "noise_check"]

Float = NDArray[np.float64]
LEAST_LINKS = 5  # links a second that its mean is drawn from
LAGGING = 0.3  # likeness of one miss and the next from which it tells
WILD, CALM = 0.03, 0.002  # share beyond the 99 % bound above and below which a noise should change


def match_distance_samples(tracks: Tracks) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Distances in standard deviations: of the links made, and of the nearest detection where none was."""
    return tracks.distance[np.isfinite(tracks.distance)], tracks.nearest_refused


def gaps_of(tracks: Tracks) -> NDArray[np.int64]:
    """Every stretch without a sighting that ended in being seen again: (n, 3) identity, first frame, frames."""
    paths = tracks.paths
    which, before, after = bridges(tracks).T
    first = paths.frame[before] + 1
    return np.column_stack([paths.identity[which], first, paths.frame[after] - first]).astype(np.int64)


def gap_lengths(tracks: Tracks, times: NDArray[np.float64]) -> NDArray[np.float64]:
    """Length of each gap that was bridged, (n,) float64 s, from last seen to seen again."""
    gaps = gaps_of(tracks)
    before = np.maximum(gaps[:, 1] - 1, 0)
    after = np.minimum(gaps[:, 1] + gaps[:, 2], len(times) - 1)
    return times[after] - times[before]


def chi_square_share(edges: NDArray[np.float64]) -> NDArray[np.float64]:
    """Share of links between distances (standard deviations, rising) that right noises would give.

    The squared distance of a centre in the plane is then chi-square with two degrees of freedom, so the distance
    is Rayleigh distributed.
    """
    below = 1.0 - np.exp(-0.5 * np.asarray(edges, np.float64) ** 2)
    return np.diff(below)


@dataclass(frozen=True)
class NoiseCheck:
    """The innovation check over the clip, second by second.

    ``time`` (n,) s, ``mean`` (n,) of the normalised innovation squared of the links in that second, ``low`` and
    ``high`` (n,) its bounds at 95 % were the noises right. ``wild`` is the share of links beyond the 99 % bound,
    ``lag`` how far each miss resembles the one before (-1..1; 0 when the filter is right); ``on_auto`` whether the clip
    itself said how jumpy things are.
    """

    time: Float
    mean: Float
    low: Float
    high: Float
    wild: float
    lag: float
    links: int
    on_auto: bool = False

    @property
    def words(self) -> str:
        """Which noise to raise or lower, in a sentence."""
        if self.links < 30:
            return "Too few links to check the noises."
        told = f"{100 * self.wild:.1f} % of links lie beyond the 99 % bound of the innovation check (right is 1 %)"
        if self.wild > WILD:
            if self.lag > LAGGING and self.on_auto:
                return f"{told}, and misses lean the same way: boxes lean, and the filter is kept stiff against it."
            if self.lag > LAGGING:
                return f"{told}, and misses lean the same way from frame to frame: raise jumpiness."
            return f"{told}: the filter is too sure; raise box noise."
        if self.wild < CALM:
            if self.lag > LAGGING:
                return f"{told}, yet misses lean the same way: it smooths too much; lower box noise."
            if self.lag < -LAGGING:
                return f"{told}, and misses go to and fro: it follows the jitter; lower jumpiness."
            return f"{told}: wider than it need be; lower jumpiness or box noise."
        return f"{told}: the noises fit the hard frames, which is what a gate is for."


def noise_check(
    tracks: Tracks, detections: Detections, times: Float, *, linked: Tracks | None = None, on_auto: bool = False
) -> NoiseCheck:
    """Check the filter by what it did not foresee (Bar-Shalom et al. 2001, 5.4.2; the lag after Mehra 1970).

    ``linked`` are the tracks as they were linked, with the filters' boxes; finished ones have those that were found,
    and without the others nothing is known of the lag.

    A link's normalised innovation squared is chi-square with two degrees of freedom when the noises are right, and
    one frame's innovation says nothing of the next.
    """
    nis = np.full(len(tracks), np.nan) if tracks.nis is None else tracks.nis.astype(np.float64)
    known = np.isfinite(nis)
    values, when = nis[known], times[tracks.frame[known]]
    second = np.floor(when).astype(np.int64)
    count = np.bincount(second)
    used = np.flatnonzero(count >= LEAST_LINKS)
    mean = (
        np.bincount(second, values, minlength=len(count)).astype(np.float64)[used] / count[used]
        if len(used)
        else np.zeros(0)
    )
    freedom = 2.0 * count[used]
    return NoiseCheck(
        time=used.astype(np.float64) + 0.5,
        mean=mean,
        low=_chi_square(0.025, freedom) / count[used],
        high=_chi_square(0.975, freedom) / count[used],
        wild=float(np.mean(values > _chi_square(0.99, 2.0))) if len(values) else 0.0,
        lag=0.0 if linked is None else _lag(linked, detections),
        links=len(values),
        on_auto=on_auto,
    )


def _chi_square(share: float, freedom: ArrayLike) -> Float:
    """The value below which this share of a chi-square variable lies: a gamma of half the freedom, twice as wide."""
    from scipy.special import gammaincinv  # here: a start without it is a quarter of a second shorter

    return 2.0 * gammaincinv(np.asarray(freedom) / 2.0, share)


def _lag(tracks: Tracks, detections: Detections) -> float:
    """Correlation of what the filter missed by in one frame and in the next, over all paths and both coordinates."""
    row, path = tracks.paths.row, tracks.identity[tracks.paths.row]
    link = tracks.detection[row]
    use = (link >= 0) & (link < len(detections))
    if not use.any():
        return 0.0
    seen = detections.box[np.where(use, link, 0)].astype(np.float64)
    off = (seen[:, :2] + seen[:, 2:] - tracks.box[row, :2] - tracks.box[row, 2:]) / 2
    pair = use[:-1] & use[1:] & (path[:-1] == path[1:])
    # Robust: signs alone, so that a few wild misses do not decide.
    here, after = np.sign(off[:-1][pair]), np.sign(off[1:][pair])
    return float(np.mean(here * after)) if pair.any() else 0.0
