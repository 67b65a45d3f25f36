"""Where the whole picture is another for good, as behind a lamp that is switched on, the ground is looked at anew."""

from __future__ import annotations

import numpy as np
import pytest

from drover.core.detect.changed_ground import GroundWatch
from drover.core.detect.detector import Detector
from drover.core.footage_types import Frame
from drover.core.recipe import Recipe
from drover.core.survey.empty_scene import EmptyScene
from drover.core.survey.one_ground import count_of_one_ground

SHAPE, RATE = (120, 160), 25.0
BODY = (slice(50, 80), slice(70, 85))


def scene(*, lamp: bool) -> EmptyScene:
    """Stripes under daylight or under a lamp, which is warm and reaches into the dark."""
    grey = np.full(SHAPE, 90.0, np.float32)
    grey[:, ::8] = 60.0
    chroma = np.full((2, 60, 80), 128.0, np.float32)
    if lamp:
        grey, chroma = 0.8 * grey + 40.0, chroma + np.array([-25.0, 20.0], np.float32)[:, None, None]
    noise, spread = np.full(SHAPE, 1.5, np.float32), np.full_like(chroma, 1.5)
    return EmptyScene(grey, noise, chroma, spread, 0 * noise)


def played(lamps: list[bool], *, known: bool = True) -> tuple[list, list[int]]:
    """What is found of one who stands there, picture by picture; and for which pictures the ground was asked for."""
    detector = Detector(Recipe().detect, (SHAPE[1], SHAPE[0]), scene(lamp=False))
    rng, asked = np.random.default_rng(3), []

    def renew(index: int) -> EmptyScene | None:
        asked.append(index)
        return scene(lamp=lamps[index]) if known else None

    detector.renew = renew
    found = []
    for k, lamp in enumerate(lamps):
        ground = scene(lamp=lamp)
        picture = ground.grey + rng.normal(0, 1.0, SHAPE)
        picture[BODY] = 220
        grey, chroma = np.clip(picture, 0, 255).astype(np.uint8), ground.chroma.astype(np.uint8)
        found.append(detector.step(Frame(k, k / RATE, lambda g=grey: g, lambda: None, lambda c=chroma: c)))
    return found, asked


def boxes(frame) -> list[list[int]]:
    return np.rint(frame.box).astype(int).tolist()


WHERE = [[70, 50, 85, 80]]


def test_behind_a_lamp_that_is_switched_on_things_are_found_again_and_the_picture_is_none_of_them():
    found, asked = played([False] * 20 + [True] * 40)
    assert [boxes(one) for one in found[:20]] == [WHERE] * 20
    assert asked == [30], "0.4 s after the lamp"
    assert [one.index for one in found if one.anew] == [30] and not any(one.cut for one in found)
    assert all(len(one.box) == 0 for one in found[20:30])
    assert [boxes(one) for one in found[30:]] == [WHERE] * 30


def test_a_flash_is_waited_for_and_nothing_is_found_in_it():
    found, asked = played([False] * 20 + [True] * 6 + [False] * 20)
    assert asked == []
    assert [len(one.box) for one in found] == [1] * 20 + [0] * 6 + [1] * 20


def test_where_nobody_knows_another_ground_it_is_asked_for_ever_less_often():
    _, asked = played([False] * 20 + [True] * 600, known=False)
    assert np.diff(asked) / RATE == pytest.approx([5.0, 10.0])


def test_pictures_of_another_ground_are_no_samples_of_this_one_but_light_and_lingering_change_none():
    rng = np.random.default_rng(4)

    def shot(lamp: bool, light: float = 1.0, body: slice | None = None) -> tuple[np.ndarray, np.ndarray]:
        ground = scene(lamp=lamp)
        grey = light * ground.grey + rng.normal(0, 1.5, SHAPE)
        if body is not None:
            grey[:, body] = 230
        chroma = 128 + light * (ground.chroma - 128)
        return np.clip(grey, 0, 255).astype(np.uint8), np.clip(chroma, 0, 255).astype(np.uint8)

    def count(*shots) -> int:
        return count_of_one_ground([grey for grey, _ in shots], [chroma for _, chroma in shots])

    day, lamp = shot(False), shot(True)
    assert count(day, day, day, lamp, lamp) == 3
    assert count(lamp, day, day) == 3, "a camera that has not found its light yet"
    assert count(lamp, day, day, lamp, lamp) == 3
    assert count(day, day, lamp, lamp, day) == 5, "a lamp that goes out again: the first ground is most of it"
    assert count(day, shot(False, 0.6), shot(False, 1.4), day) == 4
    assert count(day, shot(False, body=slice(20, 80)), shot(False, body=slice(60, 140))) == 3


def test_a_thing_of_half_the_picture_is_no_flood():
    watch = GroundWatch()
    assert not any(watch.look(0.5, k / RATE) or watch.lasts(k / RATE) for k in range(100))
