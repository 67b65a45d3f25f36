"""Small clips that tests draw for themselves, the line in their middle, and the tables that a run wrote of them."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from drover.core.footage.writer import ClipWriter
from drover.core.recipe import CountSettings, LineSettings, Recipe

LINE = LineSettings(name="Middle", points=((0.5, 0.95), (0.5, 0.05)))
COUNTED = Recipe(count=CountSettings(line=(LINE,)))


def tables(folder: Path) -> dict[str, bytes]:
    """What is in the tables of a folder, by their names."""
    return {path.name: path.read_bytes() for path in folder.glob("*.csv")}


def draw_clip(path: Path, *, back: bool = False, seconds: float = 4.0) -> Path:
    """A clip in which one dark square goes from edge to edge of a quiet ground, to the right or back, then nothing."""
    path.parent.mkdir(parents=True, exist_ok=True)
    rng, frames = np.random.default_rng(len(path.name)), int(25 * seconds)
    ground = np.clip(rng.normal(130, 12, (120, 192, 1)), 0, 255).repeat(3, axis=2)
    with ClipWriter(path, width=192, height=120, rate=25.0, preset="ultrafast", quality=12) as out:
        for k in range(frames):
            picture = ground + rng.normal(0, 1.5, ground.shape)
            gone = min(k / (0.85 * frames), 1.0)
            x = int(-14 + 206 * (1.0 - gone if back else gone))
            picture[50:70, max(x, 0) : max(x + 14, 0)] = 30
            out.add(np.clip(picture, 0, 255).astype(np.uint8))
    return path
