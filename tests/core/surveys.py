"""Pictures of a textured ground, and surveys of them."""

from __future__ import annotations

import numpy as np

from drover.core.survey.samples import Samples
from drover.core.survey.survey import Survey, survey_of

SHAPE = (64, 96)


def shots(seed: int, count: int = 32, *, noise: float = 2.0, grey: bool = False, put=None) -> Samples:
    """A textured ground with noise; ``put`` changes picture ``k`` before the noise comes on it."""
    rng = np.random.default_rng(seed)
    ground = np.kron(rng.uniform(60, 150, (8, 12)), np.ones((8, 8)))
    out, colours = [], []
    for k in range(count):
        picture = ground.copy()
        if put is not None:
            put(k, picture)
        out.append(np.clip(np.rint(picture + rng.normal(0, noise, SHAPE)), 0, 255))
        tint = np.full((2, 32, 48), 128.0)
        if not grey:
            tint[0] += 12
            tint[1] -= 9
        colours.append(np.clip(np.rint(tint + rng.normal(0, 0.8, tint.shape)), 0, 255))
    return Samples(np.array(out, np.uint8), np.array(colours, np.uint8), np.arange(count) * 0.4)


def surveyed(**changes) -> Survey:
    made = survey_of(shots(1))
    return Survey(**{**{name: getattr(made, name) for name in made.__dataclass_fields__}, **changes})
