"""What a live run loads at first use, loaded before there is a picture that would have to wait, or be dropped."""

from __future__ import annotations

import threading
from collections.abc import Iterator

import numpy as np

from drover.core.footage_types import Frame
from drover.core.live import LiveRun
from drover.core.recipe import Recipe

__all__ = ["warm_live"]

WIDTH, HEIGHT, RATE = 320, 180, 10.0
BEFORE, DURING = 1.0, 7.0  # s of the empty ground beyond what the recipe waits for, and of somebody who goes over it
BODY = 40  # px
MOST_BEFORE = 40  # pictures of the empty ground, however long the recipe waits
LIGHTER = 0.25  # by the end
_WARMED: set[str] = set()  # recipes worked through in this process
_WARMING = threading.Lock()


def warm_live(recipe: Recipe) -> None:
    """Work through a few seconds of somebody who goes over a ground from edge to edge, and another downwards.

    It grows lighter all the while. Once for each recipe: a second run in the same process finds all there.
    """
    known = recipe.model_dump_json()
    with _WARMING:
        if known in _WARMED:
            return
        run = LiveRun(recipe, (WIDTH, HEIGHT), RATE)
        for frame in _pictures(run.taken.background.warm_up + BEFORE):
            run.step(frame)
        run.finish()
        _WARMED.add(known)


def _pictures(empty: float) -> Iterator[Frame]:
    ground = np.random.default_rng(1).integers(90, 130, (HEIGHT // 4, WIDTH // 4)).astype(np.uint8)
    ground = ground.repeat(4, axis=0).repeat(4, axis=1)
    grey_chroma = np.full((2, HEIGHT // 2, WIDTH // 2), 128, np.uint8)
    before, during = min(max(round(empty * RATE), 1), MOST_BEFORE), round(DURING * RATE)
    times = [*(empty * k / before for k in range(before)), *(empty + k / RATE for k in range(during))]
    for index, time in enumerate(times):
        grey, gone = (ground * (1.0 + LIGHTER * index / len(times))).astype(np.uint8), (time - empty) / DURING
        if gone > 0:
            x, y = round(gone * WIDTH), round(gone * HEIGHT)
            grey[HEIGHT // 3 :][:BODY, max(x - BODY, 0) : x] = 230
            grey[max(y - BODY, 0) : y, WIDTH // 4 :][:, :BODY] = 20
        yield Frame(index, time, lambda grey=grey: grey, lambda grey=grey: grey[..., None].repeat(3, axis=2),
                    lambda: grey_chroma)  # fmt: skip
