"""Two pictures held against each other in every way there is: what each way finds, how well, and in how long."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from drover.core.features.binary import describe_binary
from drover.core.features.corners import eigen_corners, segment_corners
from drover.core.features.flow import follow_points
from drover.core.features.histograms import describe_gradients
from drover.core.features.matching import match
from drover.core.features.models import Model, apply
from drover.core.features.points import Points
from drover.core.features.pyramid import Grey, pyramid
from drover.core.features.robust import Fit, fit_motion
from drover.core.features.scales import DETECTORS, SEGMENT_FROM, DetectorName, find_points

__all__ = ["LINKS", "LinkName", "PairWay", "all_ways", "corners_alone", "look_at_pair"]

LinkName = Literal["flow", "bits", "gradients"]
LINKS: dict[LinkName, str] = {"flow": "flow", "bits": "256 bits", "gradients": "128 gradients"}
POINTS, RUNGS, LEVELS = 600, 4, 5
TOLERANCE = 2.0 / 1280  # of the width that a pair may be off
TRIES = 3  # of which the quickest is told
FIRST = 160  # px a side of the pieces by which all that is needed is loaded, before anything is timed

Float = NDArray[np.float64]


@dataclass(frozen=True)
class PairWay:
    """One way: how points were found and linked and what motion was fitted; with the pairs and the times, ms.

    ``a``, ``b`` (n, 2) px are the pairs, ``fit`` the motion with its inliers; ``overlap`` 0..1 is the share of the
    second picture that the first one shows too.
    """

    detector: DetectorName
    link: LinkName
    model: Model
    points: int
    a: Float
    b: Float
    fit: Fit
    overlap: float
    find_ms: float
    link_ms: float
    fit_ms: float

    @property
    def ms(self) -> float:
        """Milliseconds of all of it."""
        return self.find_ms + self.link_ms + self.fit_ms


def all_ways(
    before: Grey,
    after: Grey,
    models: tuple[Model, ...],
    *,
    cancelled: Callable[[], bool] = lambda: False,
    on_way: Callable[[PairWay], None] = lambda way: None,
) -> tuple[PairWay, ...]:
    """Every detector with every way of linking and each of some motions; points and pairs are found once each."""
    _load(before, after, models)
    out: list[PairWay] = []
    for detector in DETECTORS:
        (first, second), find_ms = _timed(lambda detector=detector: _both(before, after, detector))
        for link in LINKS:
            if cancelled():
                return tuple(out)
            (a, b), link_ms = _timed(lambda link=link, p=first, q=second: _pairs(before, after, p, q, link))
            for model in models:
                out.append(_way(before, after, detector, link, model, len(first), a, b, find_ms, link_ms))
                on_way(out[-1])
    return tuple(out)


def corners_alone(grey: Grey) -> dict[DetectorName, tuple[int, float]]:
    """How many corners each of both detectors has in a picture at its own size, and how long that alone takes, ms."""
    find: dict[DetectorName, Callable[[Grey], Float]] = {
        "segment": lambda grey: segment_corners(grey, SEGMENT_FROM), "eigen": eigen_corners,
    }  # fmt: skip
    out: dict[DetectorName, tuple[int, float]] = {}
    for name, work in find.items():
        work(_corner_of(grey))
        tries = [_timed(lambda work=work: (work(grey),)) for _ in range(TRIES)]
        out[name] = len(tries[0][0][0]), min(ms for _, ms in tries)
    return out


def _load(before: Grey, after: Grey, models: tuple[Model, ...]) -> None:
    """Go every way once over a small piece: what is loaded at first use is no part of how long a way takes."""
    for detector in DETECTORS:
        for link in LINKS:
            look_at_pair(_corner_of(before), _corner_of(after), detector, link, models[0])


def _corner_of(grey: Grey) -> Grey:
    return np.ascontiguousarray(grey[:FIRST, :FIRST])


def look_at_pair(before: Grey, after: Grey, detector: DetectorName, link: LinkName, model: Model) -> PairWay:
    """One way alone."""
    (first, second), find_ms = _timed(lambda: _both(before, after, detector))
    (a, b), link_ms = _timed(lambda: _pairs(before, after, first, second, link))
    return _way(before, after, detector, link, model, len(first), a, b, find_ms, link_ms)


def _timed(work: Callable[[], tuple]) -> tuple[tuple, float]:
    start = time.perf_counter()
    return work(), 1000 * (time.perf_counter() - start)


def _both(before: Grey, after: Grey, detector: DetectorName) -> tuple[Points, Points]:
    return tuple(find_points(grey, detector, most=POINTS, rungs=RUNGS) for grey in (before, after))  # type: ignore[return-value]


def _pairs(before: Grey, after: Grey, first: Points, second: Points, link: LinkName) -> tuple[Float, Float]:
    if link == "flow":
        flow = follow_points(pyramid(before, LEVELS), pyramid(after, LEVELS), first.place)
        return first.place[flow.found], flow.place[flow.found]
    describe = describe_binary if link == "bits" else describe_gradients
    rows = match(describe(before, first), describe(after, second))
    return first.place[rows[:, 0]], second.place[rows[:, 1]]


def _way(
    before: Grey,
    after: Grey,
    detector: DetectorName,
    link: LinkName,
    model: Model,
    points: int,
    a: Float,
    b: Float,
    find_ms: float,
    link_ms: float,
) -> PairWay:
    size = after.shape[1], after.shape[0]
    tolerance = max(TOLERANCE * size[0], 1.0)
    (fit,), fit_ms = _timed(lambda: (fit_motion(a, b, model, size=size, tolerance=tolerance),))
    overlap = 0.0 if fit.matrix is None else _overlap(fit.matrix, before.shape, size)
    return PairWay(detector, link, model, points, a, b, fit, overlap, find_ms, link_ms, fit_ms)


def _overlap(matrix: Float, shape: tuple[int, ...], size: tuple[int, int]) -> float:
    """The share of the second picture on which the first one lies, by a grid of places."""
    x, y = np.meshgrid(np.linspace(0, 1, 40) * size[0], np.linspace(0, 1, 24) * size[1])
    back = apply(np.asarray(np.linalg.inv(matrix), np.float64), np.column_stack([x.ravel(), y.ravel()]))
    return float(((back >= 0) & (back <= (shape[1], shape[0]))).all(axis=1).mean())
