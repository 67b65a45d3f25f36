"""Whether bodies cast shadows: what lies to one side of body after body and leaves one share of the light."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from drover.core.recipe import DetectSettings
from drover.core.survey.resolve import resolve_detect
from drover.core.survey.samples import Samples
from drover.core.survey.shadow_parts import MovingPixels, Part, moving_pixels, parts_of
from drover.core.survey.shadows import ShadowEvidence, _beyond, _range_beside, _range_under
from drover.core.survey.survey import survey_of

WIDE = 320  # px
LEFT_OF_LIGHT = 0.6  # by a shadow
Boxes = list[tuple[int, int, int, int]]  # first and past row, first and past column


def picture(solid: Boxes, shadow: Boxes, ratio: float = LEFT_OF_LIGHT) -> MovingPixels:
    """What moves in a picture: what is solid has not the ground's colour, what is shadow has it."""
    moving, tinted = np.zeros((2, 60, 120), np.bool_)
    for top, foot, left, right in solid + shadow:
        moving[top:foot, left:right] = True
    for top, foot, left, right in shadow:
        tinted[top:foot, left:right] = True
    return moving_pixels(moving, np.full(moving.shape, ratio, np.float32), tinted)


def test_a_shadow_beside_the_body_is_told_from_trousers_within_it():
    _, found = parts_of(picture([(10, 28, 20, 30)], [(28, 40, 20, 30)]))
    assert [part.side for part in found] == pytest.approx([0.0], abs=0.05)
    _, found = parts_of(picture([(10, 40, 20, 30)], [(34, 40, 30, 50)]))
    assert found[0].side == pytest.approx(1.0, abs=0.05)


def test_a_broken_shadow_counts_to_its_body_piece_after_piece_and_no_farther():
    body, beads = (10, 40, 20, 30), [(36, 42, 34, 44), (38, 44, 50, 58), (40, 45, 62, 70)]
    count, found = parts_of(picture([body], beads))
    assert count == 1 and found[0].shadow[1].max() == 69 and found[0].side == 1.0
    count, found = parts_of(picture([body], [*beads[:1], (38, 44, 70, 78)]))
    assert count == 2 and found[0].shadow[1].max() == 43, "what lies farther than its own size is its own"


def test_cloth_that_leaves_another_share_of_the_light_is_no_shadow():
    within, beside = (
        picture([(10, 28, 20, 30)], [(28, 40, 20, 30)], 0.4),
        picture([(10, 40, 70, 80)], [(34, 40, 80, 100)]),
    )
    assert [len(parts_of(each, (0.5, 0.7))[1]) for each in (within, beside)] == [0, 1]
    assert [len(parts_of(each)[1]) for each in (within, beside)] == [1, 1]


def walkers(seed: int, *, sun: bool) -> Samples:
    """Three in each picture somewhere, in bright coats and trousers of all shades; beside each a row of dark spots."""
    rng = np.random.default_rng(seed)
    ground = np.kron(rng.uniform(110, 130, (20, 40)), np.ones((8, 8)))
    pictures, colours = [], []
    for _ in range(32):
        picture = ground.copy()
        for lane in range(3):
            y, x = 50 * lane + int(rng.integers(4, 14)), int(rng.integers(6, WIDE - 110))
            if sun:
                for bead in range(3):
                    down, along = y + 26 + 2 * bead, x + 22 + 24 * bead
                    picture[down : down + 10, along : along + 16] *= LEFT_OF_LIGHT
            picture[y : y + 16, x : x + 14] = 225
            picture[y + 16 : y + 34, x : x + 14] *= rng.uniform(0.32, 0.9)
        pictures.append(np.clip(np.rint(picture + rng.normal(0, 2, picture.shape)), 0, 255))
        tint = 128 + np.multiply.outer([12.0, -9.0], (picture / ground)[::2, ::2])
        colours.append(np.clip(np.rint(tint + rng.normal(0, 0.8, tint.shape)), 0, 255))
    return Samples(np.array(pictures, np.uint8), np.array(colours, np.uint8), np.arange(32) * 0.4)


def test_shadows_in_pieces_are_found_among_dark_trousers():
    for seed in range(3):
        lit, dull = (survey_of(walkers(seed, sun=sun)).shadows for sun in (True, False))
        assert lit.to_one_side and lit.aside > 0.4, f"seed {seed}"
        assert lit.darkest <= LEFT_OF_LIGHT <= lit.lightest
        assert not dull.cast, f"seed {seed}"


def test_under_a_high_sun_trousers_do_not_widen_what_counts_as_shadow():
    """Trousers leave 0.4 of the light and lie in the body, the shadow leaves 0.66 and lies beyond it, below."""
    rng = np.random.default_rng(5)
    y, x = np.mgrid[0:40, 0:12].reshape(2, -1)
    ratio = np.where(y < 25, rng.normal(0.4, 0.08, len(y)), rng.normal(0.66, 0.03, len(y))).astype(np.float32)
    body = np.mgrid[-30:24, 0:12].reshape(2, -1)
    step = np.where(y < 25, 0.6, 0.2).astype(np.float32)
    off = 10 * step
    beyond, step, off = _beyond([Part((0.1, 0.99), 0.0, (y, x), (body[0], body[1]), ratio, step, off)] * 8)
    assert len(step) == len(beyond) == len(off) and np.median(step) == np.float32(0.2) and np.median(off) == 2.0
    assert np.median(beyond) == pytest.approx(0.66, abs=0.02)
    darkest, lightest = _range_under(beyond)
    assert 0.56 < darkest < 0.64
    assert lightest >= 0.7
    assert _range_under(beyond[:3])[0] == 0.3


def test_a_high_sun_is_told_by_even_darkness_beside_many_bodies():
    steep = ShadowEvidence(0.87, 0.25, 5.6, 1.4, 0.5, 0.9, 60, 40, 0.12)
    assert steep.cast and not steep.to_one_side
    assert not replace(steep, sure=2.4).cast
    assert not replace(steep, aside=0.05).cast
    assert not replace(steep, uneven=0.3).cast, "trousers and coats are dark in all degrees"
    assert not replace(steep, parts=16).cast, "one dark van, seen again and again"
    assert replace(steep, direction=1.0).to_one_side
    assert replace(steep, parts=16, aside=0.5, sure=9.0).cast, "all of them, on one side, and no others"


def test_dark_bodies_do_not_widen_what_shadows_beside_bodies_leave_of_the_light():
    """Shadows leave 0.6, less in the soft rim and a quarter less at the feet; black cars leave 0.4."""
    rng = np.random.default_rng(2)
    parts = [rng.normal(0.6, 0.02, 500), rng.uniform(0.62, 0.9, 250), rng.normal(0.4, 0.01, 250)]
    darkest, lightest = _range_beside(np.concatenate(parts).astype(np.float32))
    assert 0.43 < darkest <= 0.6 * 0.75
    assert lightest == pytest.approx(0.87, abs=0.03)
    parts[2] = parts[2][:40]
    assert 0.33 < _range_beside(np.concatenate(parts).astype(np.float32))[0] < 0.37, "few are cloth, or noise"


def test_how_far_a_shadow_s_colour_may_be_off_is_what_it_is_off_beyond_the_bodies():
    survey = survey_of(walkers(0, sun=True))
    for off, taken in ((0.0, 4.0), (4.5, 5.4), (30.0, 7.0)):
        shadows = replace(survey.shadows, colour=off)
        assert resolve_detect(DetectSettings(), replace(survey, shadows=shadows)).shadow.colour_change == taken
    assert 0.5 < survey.shadows.colour < 3.0, "the noise of the colours is 0.8"
