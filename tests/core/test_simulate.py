"""The farm is the same every time, and its truth is what the pictures show."""

from __future__ import annotations

import numpy as np
import pytest

from drover.core.errors import DroverError
from drover.core.examples import example
from drover.core.footage.reader import ClipReader
from drover.core.formats.box_rows import read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.recipe import read_recipe
from drover.core.simulate.body import body_parts, parts_box
from drover.core.simulate.draw import draw_parts
from drover.core.simulate.farm import SCENES, build_scene
from drover.core.simulate.names import SCENE_NAMES
from drover.core.simulate.render import Renderer
from drover.core.simulate.truth import actor_box, truth_crossings
from drover.core.simulate.write import write_scene


@pytest.fixture(scope="module")
def short_scene():
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("drover.core.simulate.herd.TRIES", 8)  # whether they run into each other is not asked here
        return build_scene("gap-short")


def test_the_same_seed_gives_the_same_pixels_and_another_seed_another_herd(monkeypatch):
    monkeypatch.setattr("drover.core.simulate.herd.TRIES", 8)
    short_scene = build_scene("gap-short")
    one, other = Renderer(short_scene).draw(120), Renderer(build_scene("gap-short")).draw(120)
    assert np.array_equal(one[0], other[0])
    assert one[1] == other[1]
    assert build_scene("gap-short", seed=99).actors[0].x[50] != short_scene.actors[0].x[50]


def test_the_box_is_the_box_of_the_drawn_animal(short_scene):
    actor = short_scene.actors[0]
    placed = actor.at(float(actor.time[0]) + 3.0)
    assert placed is not None
    parts = body_parts(actor, *placed)
    parts[:, 0] += 200 - placed[0]
    parts[:, 1] += 200 - placed[1]
    picture, owner = np.zeros((400, 400, 3), np.float32), np.zeros((400, 400), np.int32)
    covered = draw_parts(picture, owner, parts, 1, 0, False)
    y, x = np.nonzero(owner)
    assert covered == len(x)
    assert (x.min(), y.min(), x.max() + 1, y.max() + 1) == pytest.approx(parts_box(parts), abs=1.2)


def test_visibility_falls_where_the_ewe_hides_her_lamb():
    chosen = example("gap")
    truth = read_truth(chosen.truth)
    lamb = truth.class_names.index("lamb")
    hidden = {int(i) for i in np.unique(truth.identity[(truth.class_id == lamb) & (truth.visibility < 0.35)])}
    assert len(hidden) >= 5
    clear = np.abs(truth.visibility - 0.2) > 0.001  # the file has three decimals
    assert (truth.consider == (truth.visibility >= 0.2))[clear].all()
    canopy = (truth.class_id != lamb) & (truth.visibility < 0.05) & (truth.box[:, 0] > 800) & (truth.box[:, 2] < 1080)
    assert 3 <= len(np.unique(truth.identity[canopy])) <= 6


def test_the_demo_scene_is_as_hard_as_it_says():
    chosen = example("gap")
    truth, crossings = read_truth(chosen.truth), read_crossings(chosen.crossings)
    assert len(np.unique(truth.identity)) == 38
    # Every animal goes through once, also those whose feet go over the line five times on the way.
    assert np.bincount(crossings.identity)[1:].tolist() == [1] * 38
    (line,) = read_recipe(chosen.recipe).count.line
    assert sum(_passages(truth, i, line.points) >= 3 for i in range(1, 39)) == 4
    assert {1, -1} <= set(crossings.direction.tolist())
    stands = [i for i in np.unique(truth.identity) if _longest_stand(truth, i) >= 4.0]
    assert len(stands) >= 3


def _passages(truth, identity, points) -> int:
    """How often the middle of an animal's foot goes over the line, frame by frame."""
    rows = truth.identity == identity
    foot = np.column_stack([truth.box[rows][:, [0, 2]].mean(axis=1), truth.box[rows][:, 3]])
    (x1, y1), (x2, y2) = (np.array(point) * (1280, 720) for point in points)
    side = (x2 - x1) * (foot[:, 1] - y1) - (y2 - y1) * (foot[:, 0] - x1) >= 0
    return int((side[1:] != side[:-1]).sum())


def _longest_stand(truth, identity) -> float:
    rows = truth.identity == identity
    still = np.hypot(*np.diff(truth.box[rows][:, [0, 3]], axis=0).T) < 0.6
    longest = run = 0
    for value in still:
        run = run + 1 if value else 0
        longest = max(longest, run)
    return longest / 25


def test_crossing_times_agree_with_the_boxes(short_scene):
    found = truth_crossings(short_scene)
    for who, when, x, y in zip(found.identity, found.time, found.x, found.y, strict=True):
        actor = next(actor for actor in short_scene.actors if actor.identity == who)
        box = actor_box(actor, short_scene.camera, float(when))
        assert box is not None
        assert ((box[0] + box[2]) / 2, box[3]) == pytest.approx((float(x), float(y)), abs=0.05)


def test_a_written_scene_is_complete_and_shows_what_was_drawn(tmp_path, monkeypatch):
    monkeypatch.setattr("drover.core.simulate.herd.TRIES", 8)
    scene = build_scene("gap-short", seconds=2.0)
    seen = []
    write_scene(scene, tmp_path, progress=lambda done, total: seen.append((done, total)))
    assert sorted(p.name for p in tmp_path.iterdir()) == ["crossings.csv", "gap-short.mp4", "recipe.toml", "truth.csv"]
    assert seen[-1] == (50, 50)
    with ClipReader(tmp_path / "gap-short.mp4") as reader:
        assert reader.info.frame_count == 50
        drawn, _ = Renderer(scene).draw(30)
        assert np.abs(reader.frame(30).rgb.astype(int) - drawn).mean() < 6


@pytest.mark.parametrize(
    ("name", "seconds", "message"), [("moor", 5.0, "choose one of: gap"), ("gap", 0.1, "2..3600 s; got 0.1")]
)
def test_an_unknown_scene_or_length_is_refused(name, seconds, message):
    with pytest.raises(DroverError, match=message):
        build_scene(name, seconds=seconds)


def test_every_scene_that_is_named_can_be_built_and_no_other(monkeypatch):
    monkeypatch.setattr("drover.core.simulate.herd.TRIES", 4)  # whether they run into each other is not asked here
    assert tuple(SCENES) == SCENE_NAMES
    for name in ("crossing", "canopy", "ewe-and-lamb", "slow-camera"):
        made = build_scene(name)
        assert made.name == name and len(made.actors) > 10
    assert build_scene("slow-camera").rate == 5.0
    flock = build_scene("muster")
    boxes = [actor_box(actor, flock.camera, 14.0) for actor in flock.actors]
    inside = [b for b in boxes if b and b[2] > 0 and b[0] < flock.camera.width]
    assert len(inside) > 60
