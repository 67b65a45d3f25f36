"""The scenes with a moving camera, and the one with a sign to follow."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from drover.core.errors import DroverError
from drover.core.simulate.farm import gap, muster
from drover.core.simulate.ground import CROWN_CENTRE
from drover.core.simulate.moving.flats import Flat, corners_of
from drover.core.simulate.moving.paint import sign, trailer_side
from drover.core.simulate.moving.paths import ViewPath, drone_over, looking_at, mast_in_wind, standing
from drover.core.simulate.moving.scene import MovingScene, Shot, lines_in_picture
from drover.core.simulate.scene import WORLD_HEIGHT, WORLD_WIDTH, Camera, Scene

__all__ = ["MOVING", "build_moving"]

SIZE = (1280, 720)
RATE = 25.0
TRAILER, SIGN = 901, 902  # owners of pixels, beyond every animal's number

Float = NDArray[np.float64]


def _large(zoom: float) -> Camera:
    """The whole farm painted ``zoom`` times as large."""
    return Camera(zoom=zoom, width=round(WORLD_WIDTH * zoom / 2) * 2, height=round(WORLD_HEIGHT * zoom / 2) * 2)


def _one_shot(
    name: str, seed: int, seconds: float, base: Scene, view: ViewPath, *flats: Flat, over: bool = True
) -> MovingScene:
    shot = Shot(0, round(seconds * RATE), base, view, flats, over)
    return MovingScene(name, seed, seconds, RATE, SIZE, (shot,), lines=lines_in_picture(base, view(0.0), SIZE))


def sway(seed: int = 31, seconds: float = 30.0) -> MovingScene:
    """A mast in the wind over the gap: up to 12 px each way and one degree."""
    large = _large(1.08)
    view = mast_in_wind((large.width / 2, large.height / 2), SIZE, seed)
    return _one_shot("sway", seed, seconds, gap(seed, seconds, camera=large), view)


def drone(seed: int = 32, seconds: float = 30.0) -> MovingScene:
    """A drone that pans and zooms over the flock as it comes through the gap."""
    large = _large(1.6)
    view = drone_over((0.49 * large.width, 0.52 * large.height), SIZE, seed, reach=(170.0, 70.0), zooms=(0.78, 1.0))
    return _one_shot("drone", seed, seconds, gap(seed, seconds, camera=large), view)


def trailer(seed: int = 33, seconds: float = 20.0) -> MovingScene:
    """A stock trailer comes by close to the camera, which stands still, and fills 60 % of the picture for seconds."""
    base = gap(seed, seconds, camera=Camera())
    rng = np.random.default_rng([seed, 51])
    side = trailer_side((1100, 520), seed)
    way = np.array([[0.22, -700.0], [0.4, 560.0], [0.62, 720.0], [0.8, 2000.0]]) * (seconds, 1.0)
    lift = rng.uniform(-2, 2, 3)

    def corners(time: float) -> Float | None:
        if not way[0, 0] <= time <= way[-1, 0]:
            return None
        x = float(np.interp(time, way[:, 0], way[:, 1]))
        bounce = lift[0] * np.sin(3.1 * time) + lift[1] * np.sin(7.7 * time)
        return corners_of((x, 410.0 + bounce), (1100.0, 520.0))

    view = standing((SIZE[0] / 2, SIZE[1] / 2), SIZE)
    return _one_shot("trailer", seed, seconds, base, view, Flat(side, corners, TRAILER, "trailer"))


def brand(seed: int = 34, seconds: float = 20.0) -> MovingScene:
    """A painted sign on a trailer that is driven by, turned and zoomed at, and hidden behind the tree for a while."""
    zoom = 1.5
    large = _large(zoom)
    base = replace(gap(seed, seconds, camera=large), lines=())
    rng = np.random.default_rng([seed, 52])
    begin = rng.uniform(-0.4, 0.4, 4)
    tree = np.array(CROWN_CENTRE) * zoom

    def pose(time: float) -> tuple[Float, float, float, float]:
        """Middle of the sign in the large view, its width there, its turn and its yaw."""
        share = time / seconds
        x = tree[0] + zoom * 36.0 * (time - 0.62 * seconds) * 20.0 / seconds
        y = tree[1] + 6.0 + 26.0 * np.sin(0.5 * time + begin[0]) * min(1.0, abs(share - 0.62) * 5)
        width = zoom * 100.0 * (0.72 + 0.5 * share)
        turn = 0.3 * np.sin(0.6 * time + begin[1])
        return np.array([x, y]), width, turn, 0.45 * np.sin(0.43 * time + begin[2])

    def board(time: float) -> Float:
        middle, width, turn, yaw = pose(time)
        return corners_of((float(middle[0]), float(middle[1])), (width, 0.625 * width), turn=turn, yaw=yaw)

    def body(time: float) -> Float:
        middle, width, turn, yaw = pose(time)
        c, s = np.cos(turn), np.sin(turn)
        off = np.array([[c, -s], [s, c]]) @ np.array([0.12 * width, 0.18 * width])
        return corners_of(
            (float(middle[0] + off[0]), float(middle[1] + off[1])), (1.9 * width, 1.25 * width), turn=turn, yaw=yaw
        )

    def view(time: float) -> Float:
        middle, width, _, _ = pose(time)
        # The sign is seen 60 to 360 px wide: 0.4 to 2.5 times its usual size.
        wide = 147.0 * np.exp(0.9 * np.sin(2 * np.pi * time / (0.8 * seconds) + begin[3]))
        aim = middle + np.array([40.0 * np.sin(0.8 * time), 24.0 * np.cos(0.7 * time)])
        turn = np.radians(8.0) * np.sin(0.37 * time)
        return looking_at((float(aim[0]), float(aim[1])), float(wide / width), float(turn), SIZE)

    flats = (Flat(trailer_side((570, 375), seed), body, TRAILER, "trailer"), Flat(sign(seed=seed), board, SIGN, "sign"))
    made = _one_shot("brand", seed, seconds, base, view, *flats, over=False)
    return replace(made, lines=())


def cuts(seed: int = 35, seconds: float = 24.0) -> MovingScene:
    """Three views cut together: the gap from afar, the flock beyond the hedge, and the gap from near by."""
    third = round(seconds * RATE / 3)
    bases = (
        gap(seed, seconds, camera=Camera()),
        replace(muster(seed + 1, seconds, camera=Camera(left=270, top=150, zoom=1.3)), lines=()),
        replace(gap(seed + 2, seconds, camera=Camera(left=420, top=120, zoom=1.7)), lines=()),
    )
    view = standing((SIZE[0] / 2, SIZE[1] / 2), SIZE)
    past = round(seconds * RATE)
    shots = tuple(Shot(k * third, past if k == 2 else (k + 1) * third, base, view) for k, base in enumerate(bases))
    return MovingScene("cuts", seed, seconds, RATE, SIZE, shots)


MOVING: dict[str, Callable[..., MovingScene]] = {
    "sway": sway, "drone": drone, "trailer": trailer, "brand": brand, "cuts": cuts,
}  # fmt: skip


def build_moving(name: str, *, seed: int | None = None, seconds: float | None = None) -> MovingScene:
    """A scene by name, with its own seed and length unless others are given.

    Raises
    ------
    DroverError
        When there is no such scene or the length is not usable.
    """
    if name not in MOVING:
        raise DroverError(f"there is no scene '{name}'; choose one of: {', '.join(MOVING)}")
    if seconds is not None and not 6.0 <= seconds <= 600.0:
        raise DroverError(f"the length of a scene with a moving camera must be in 6..600 s; got {seconds:g}")
    chosen = {key: value for key, value in (("seed", seed), ("seconds", seconds)) if value is not None}
    return MOVING[name](**chosen)
