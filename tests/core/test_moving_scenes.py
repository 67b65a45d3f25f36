"""Scenes with a camera that moves: their truth is what their pictures show, to a fraction of a pixel."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy import ndimage

from drover.core.errors import DroverError
from drover.core.features.models import apply, inverse, mapped_corners
from drover.core.footage.reader import ClipReader
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.formats.motion_rows import read_motion
from drover.core.recipe import read_recipe
from drover.core.simulate.moving.flats import corners_of
from drover.core.simulate.moving.paths import drone_over, mast_in_wind
from drover.core.simulate.moving.scene import MovingScene, draw_moving, true_motion, true_outlines, write_moving
from drover.core.simulate.moving.scenes import MOVING, SIGN, SIZE, build_moving

RATE = 0.5  # frames/s: few are drawn, and much happens between two


@pytest.fixture(scope="module", autouse=True)
def soon_built():
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("drover.core.simulate.herd.TRIES", 4)  # whether they run into each other is not asked here
        yield


def slowly(name: str, **more: float) -> MovingScene:
    """A scene of which only every twelfth picture or so is taken."""
    made = build_moving(name, **more)
    shots = tuple(
        replace(
            shot,
            first=round(shot.first * RATE / made.rate),
            past=round(shot.past * RATE / made.rate),
            base=replace(shot.base, rate=RATE),
        )
        for shot in made.shots
    )
    return replace(made, rate=RATE, shots=shots)


@pytest.fixture(scope="module")
def swaying():
    """The scene, and some pictures of it with their rows of truth."""
    scene = slowly("sway", seconds=14.0)
    return scene, list(draw_moving(scene))


def laid_on(picture: np.ndarray, motion: np.ndarray, shift: tuple[float, float] = (0.0, 0.0)) -> np.ndarray:
    """A grey picture where ``motion`` and a shift take it; what it does not cover is not a number."""
    back = inverse(motion)[:2][::-1]
    matrix, at = back[:, 1::-1], back[:, 2] + back[:, :2].sum(axis=1) / 2 - 0.5
    return ndimage.affine_transform(picture, matrix, at - matrix @ shift, order=1, cval=np.nan)


def test_the_ground_lies_where_the_camera_s_motion_says(swaying):
    scene, drawn = swaying
    motion = true_motion(scene)
    assert motion[0] == pytest.approx(np.eye(3), abs=1e-12)
    greys = [picture.mean(axis=2) for picture, _ in drawn]
    # Whatever the light.
    fine = [ndimage.gaussian_filter(grey, 1.0) - ndimage.gaussian_filter(grey, 8.0) for grey in greys]
    for k in (3, 6):
        step = motion[k]
        assert np.hypot(*(mapped_corners(step, SIZE) - mapped_corners(np.eye(3), SIZE)).T).max() > 2.0

        def apart(shift, k=k, step=step):
            """The usual difference from the first of them; who walks covers little of it."""
            return float(np.nanmedian(np.abs(laid_on(fine[k], step, shift) - fine[0])))

        here = apart((0.0, 0.0))
        for shift in ((0.25, 0), (-0.25, 0), (0, 0.25), (0, -0.25)):
            assert apart(shift) > 1.03 * here, shift


def test_a_mast_stays_within_its_reach_and_a_drone_within_its_zoom():
    centre = (690.0, 390.0)
    for seed in range(20):
        mast = mast_in_wind(centre, SIZE, seed)
        views = [mast(t / 10) for t in range(300)]
        seen = np.array([apply(view, np.array([centre]))[0] for view in views]) - np.array(SIZE) / 2
        turns = np.degrees([np.arctan2(view[1, 0], view[0, 0]) for view in views])
        assert 4.0 < np.abs(seen).max() <= 12.0 + 1e-9 and 0.3 < np.abs(turns).max() <= 1.0
        drone = drone_over(centre, SIZE, seed, reach=(170.0, 70.0), zooms=(0.78, 1.0))
        zooms = np.sqrt([np.linalg.det(drone(t / 10)[:2, :2]) for t in range(300)])
        assert 0.78 - 1e-9 <= zooms.min() < 0.8 and 0.97 < zooms.max() <= 1.0 + 1e-9


def test_boxes_are_in_the_picture_and_tell_how_much_is_seen(swaying):
    rows = [row for _, more in swaying[1] for row in more]
    assert rows
    for _, _, x1, y1, x2, y2, visible, _ in rows:
        assert 0 <= x1 < x2 <= SIZE[0] and 0 <= y1 < y2 <= SIZE[1]
        assert 0 <= visible <= 1
    assert sum(row[6] > 0.9 for row in rows) > 0.4 * len(rows)


def test_a_trailer_fills_most_of_the_picture_and_the_camera_stands():
    scene = build_moving("trailer", seconds=12.0)
    assert np.array_equal(true_motion(scene), np.broadcast_to(np.eye(3), (300, 3, 3)))
    shares = []
    for frame, corners, _ in true_outlines(scene, []):
        low, high = np.clip(corners.min(axis=0), 0, SIZE), np.clip(corners.max(axis=0), 0, SIZE)
        shares.append((frame, float(np.prod(high - low)) / (SIZE[0] * SIZE[1])))
    filled = [frame for frame, share in shares if share > 0.59]
    assert len(filled) >= 2 * scene.rate and np.diff(filled).max() == 1  # for seconds, at once
    assert min(shares)[0] >= 0.2 * scene.frame_count and max(shares)[0] <= 0.81 * scene.frame_count


def test_shots_share_nobody_and_each_begins_where_it_says():
    scene = slowly("cuts", seconds=6.0)  # one picture of each
    assert [(shot.first, shot.past) for shot in scene.shots] == [(0, 1), (1, 2), (2, 3)]
    drawn = list(draw_moving(scene))
    for number, (picture, rows) in enumerate(drawn):
        assert {row[1] // 1000 for row in rows} <= {number}
        for other, _ in drawn[:number]:
            assert np.abs(picture[::8, ::8].astype(float) - other[::8, ::8]).mean() > 12.0


def test_what_is_written_can_be_read_and_is_what_was_drawn(tmp_path):
    scene, heard = slowly("brand", seconds=10.0), []
    write_moving(scene, tmp_path, progress=lambda done, total: heard.append((done, total)), preset="ultrafast")
    assert heard[-1] == (5, 5)
    assert {path.name for path in tmp_path.iterdir()} == {
        "brand.mp4", "truth.csv", "recipe.toml", "camera.csv", "outlines.csv",
    }  # fmt: skip
    with ClipReader(tmp_path / "brand.mp4") as reader:
        assert (reader.info.frame_count, reader.info.width, reader.info.height) == (5, *SIZE)
    assert np.abs(read_motion(tmp_path / "camera.csv") - true_motion(scene)).max() < 1e-3
    truth = read_truth(tmp_path / "truth.csv", frame_count=5)
    told = np.loadtxt(tmp_path / "outlines.csv", delimiter=",", skiprows=1)
    frame, corners, visible = told[:, 0].astype(int) - 1, told[:, 1:9].reshape(-1, 4, 2), told[:, 9]
    of_row = np.repeat(np.arange(5), np.diff(truth.frame_start))
    sign = {int(of_row[k]): truth.box[k] for k in np.flatnonzero(truth.identity == SIGN)}
    assert (
        frame.tolist() == list(range(5)) and visible.min() < 0.1 < 0.9 < visible.max()
    )  # behind the tree, and in full
    for f, outline in zip(frame.tolist(), corners, strict=True):
        if f in sign:
            low, high = np.maximum(outline.min(axis=0), 0), np.minimum(outline.max(axis=0), SIZE)
            assert sign[f] == pytest.approx([*low, *high], abs=0.05)
    wide = np.linalg.norm(corners[:, 1] - corners[:, 0], axis=1)
    assert wide.min() > 40 and wide.max() < 400 and wide.max() > 3 * wide.min()  # zoomed at


def test_the_line_goes_with_the_ground_and_so_do_true_crossings(tmp_path, monkeypatch):
    blank = np.zeros((SIZE[1], SIZE[0], 3), np.uint8)
    scene = build_moving("sway", seconds=20.0)
    monkeypatch.setattr("drover.core.simulate.moving.scene.draw_moving", lambda _: iter([(blank, [])] * 3))
    write_moving(scene, tmp_path, preset="ultrafast")
    found, shot = read_crossings(tmp_path / "crossings.csv"), scene.shots[0]
    (line,) = shot.base.lines
    canvas = shot.base.camera
    ends = np.asarray(line.points) * (canvas.width, canvas.height)
    way = np.diff(ends, axis=0)[0]
    across = np.array([-way[1], way[0]]) / np.hypot(*way)
    assert len(found)
    for time, x, y in zip(found.time.tolist(), found.x, found.y, strict=True):
        there = apply(inverse(shot.view(time)), np.array([[x, y]], np.float64))[0]
        assert abs((there - ends[0]) @ across) < 0.2  # where the picture shows it then, it lies on the line
    (drawn,) = read_recipe(tmp_path / "recipe.toml").count.line
    assert np.asarray(drawn.points) * SIZE == pytest.approx(apply(shot.view(0.0), ends), abs=0.02)


def test_a_board_by_hand():
    flat = corners_of((100.0, 50.0), (40.0, 20.0))
    assert flat == pytest.approx(np.array([[80, 40], [120, 40], [120, 60], [80, 60]]))
    upright = corners_of((0.0, 0.0), (40.0, 20.0), turn=np.pi / 2)
    assert upright == pytest.approx(np.array([[10, -20], [10, 20], [-10, 20], [-10, -20]]))
    yawed = corners_of((0.0, 0.0), (40.0, 20.0), yaw=0.5)
    left, right = yawed[3, 1] - yawed[0, 1], yawed[2, 1] - yawed[1, 1]
    assert left > 20 > right  # the side that comes nearer looks larger


def test_a_scene_that_is_none_or_of_no_length_is_refused():
    with pytest.raises(DroverError, match=f"choose one of: {', '.join(MOVING)}"):
        build_moving("moor")
    with pytest.raises(DroverError, match=r"must be in 6\.\.600 s; got 2"):
        build_moving("sway", seconds=2.0)
