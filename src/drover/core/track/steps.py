"""What an interval of time does to position, speed and push: transitions and noises that compose exactly.

One step over t does what any number of steps that add up to t do, so that a filter behaves alike at every frame rate:
white noise of acceleration (Bar-Shalom, Li and Kirubarajan 2001, 6.2.2), turning at a steady rate (11.7.1) while the
speed dies away, and a push that dies away (Singer 1970, "Estimating optimal tracking filter performance for manned
maneuvering targets"). The plane is written as complex numbers x + iy: turning by w and fading within f is one
coefficient c = iw - 1/f, and v(t) = v exp(ct).
"""

from __future__ import annotations

import numpy as np
from numba import njit

__all__ = ["push_step", "speed_step"]

SMALL = 1e-5  # of |c| t, under which the closed forms lose digits and their series are exact enough
SMALL_PUSH = 2e-2


@njit(cache=True, nogil=True)
def speed_step(
    t: float, turn: float, fade: float
) -> tuple[complex, complex, float, complex, float]:  # pragma: no cover
    """Transition over ``t`` frames of a speed that turns by ``turn`` rad/frame and dies away within ``fade`` frames.

    Returns
    -------
    along, keep : complex
        Position gains ``along`` x speed, the speed is multiplied by ``keep``.
    pp : float; pv : complex; vv : float
        Covariance brought by acceleration noise of unit strength: of each coordinate of position; of position with
        the speed's conjugate; of each coordinate of speed. ``fade`` 0 keeps the speed.
    """
    a = 1.0 / fade if fade > 0 else 0.0
    c = complex(-a, turn)
    vv = t if a * t < SMALL else (1.0 - np.exp(-2.0 * a * t)) / (2.0 * a)
    if abs(c) * t < SMALL:
        along = t * (1.0 + c * t / 2.0)
        pp = t**3 / 3.0 + c.real * t**4 / 4.0
        return along, 1.0 + c * t, pp, t * t / 2.0 + (c / 2.0 + c.conjugate()) * t**3 / 3.0, vv
    keep = np.exp(c * t)
    along = (keep - 1.0) / c
    pp = (vv - 2.0 * along.real + t) / (c * c.conjugate()).real
    return along, keep, pp, (vv - along.conjugate()) / c, vv


@njit(cache=True, nogil=True)
def push_step(
    t: float, lasts: float
) -> tuple[float, float, float, float, float, float, float, float, float]:  # pragma: no cover
    """Transition over ``t`` frames of a coordinate whose acceleration dies away within ``lasts`` frames.

    Returns
    -------
    pa, va, aa : float
        What position, speed and acceleration gain of each unit of acceleration.
    pp, pv, pw, vv, vw, ww : float
        Covariance brought by unit noise of the acceleration's change (Singer 1970, equations 9 and 10): of position,
        speed and acceleration (w) with each other.
    """
    x, a = t / lasts, 1.0 / lasts
    e, va, ww = np.exp(-x), -np.expm1(-x) / a, -np.expm1(-2.0 * x) / (2.0 * a)
    vw = va * va / 2.0
    if x < SMALL_PUSH:
        pa = t * t / 2 * (1.0 - x / 3 + x * x / 12)
        pp, pv, pw = t**5 / 20 * (1.0 - 5 * x / 9), t**4 / 8 * (1.0 - 2 * x / 3), t**3 / 6 * (1.0 - x)
        return pa, va, e, pp, pv, pw, t**3 / 3 * (1.0 - 3 * x / 4), vw, ww
    e2 = e * e
    pp = (1.0 - e2 + 2.0 * x + 2.0 * x**3 / 3.0 - 2.0 * x * x - 4.0 * x * e) / (2.0 * a**5)
    pv = (e2 + 1.0 - 2.0 * e + 2.0 * x * e - 2.0 * x + x * x) / (2.0 * a**4)
    pw = (1.0 - e2 - 2.0 * x * e) / (2.0 * a**3)
    vv = (4.0 * e - 3.0 - e2 + 2.0 * x) / (2.0 * a**3)
    return (x - 1.0 + e) / (a * a), va, e, pp, pv, pw, vv, vw, ww
