"""Lines and zones copied, named and taken away: a recipe stays whole, and no name is given twice."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.core.count.edits import SHIFT, free_name, with_copy, with_item, with_new, without_item
from drover.core.recipe import CountSettings, LineSettings, Recipe, ZoneSettings

ALONG = ((0.2, 0.5), (0.8, 0.5))
FIELD = ((0.1, 0.1), (0.4, 0.1), (0.4, 0.4))


def lined(*names: str, points=ALONG) -> Recipe:
    return Recipe(count=CountSettings(line=tuple(LineSettings(name=name, points=points) for name in names)))


def zoned(*names: str, lines: tuple[LineSettings, ...] = ()) -> Recipe:
    zones = tuple(ZoneSettings(name=name, points=FIELD) for name in names)
    return Recipe(count=CountSettings(line=lines, zone=zones))


@pytest.mark.parametrize(
    ("taken", "pattern", "free"),
    [
        ((), "", "Line 1"),
        (("Line 1",), "", "Line 2"),
        (("Line 2",), "", "Line 1"),  # the first that is free
        (("Gap",), "Gap", "Gap 2"),  # a copy is a second one
        (("Gap", "Gap 2"), "Gap", "Gap 3"),
        (("Gap 2",), "Gap 2", "Gap 3"),  # its number is counted on
        (("Gate 7",), "Gate 7", "Gate 2"),  # from two: there may be as many
        (("Way A",), "Way A", "Way A 2"),  # no number at its end
        (("7",), "7", "7 2"),  # a number alone is a name
        (("Old gap 3",), "Old gap 3", "Old gap 2"),
    ],
)
def test_the_free_name_by_hand(taken, pattern, free):
    assert free_name(lined(*taken), "line", pattern) == free


def test_zones_and_lines_are_numbered_each_for_themselves_and_a_long_name_is_cut():
    both = Recipe(count=CountSettings(
        line=(LineSettings(name="Line 1", points=ALONG),), zone=(ZoneSettings(name="Zone 1", points=FIELD),)
    ))  # fmt: skip
    assert (free_name(both, "line"), free_name(both, "zone")) == ("Line 2", "Zone 2")
    long = "x" * 60
    assert free_name(lined(long), "line", long) == "x" * 50 + " 2"


@given(st.lists(st.sampled_from(["Gap", "Gap 2", "Gap 3", "Line 1", "Line 2", "9"]), unique=True, min_size=1))
def test_however_often_something_is_copied_all_names_differ(names):
    recipe = lined(*names)
    for number in range(len(names)):
        recipe = with_copy(recipe, "line", number)
    made = [line.name for line in recipe.count.line]
    assert len(set(made)) == len(made) == 2 * len(names)
    assert made[: len(names)] == names


@pytest.mark.parametrize(
    ("xs", "moved"), [((0.2, 0.8), SHIFT), ((0.2, 0.97), SHIFT), ((0.2, 0.98), -SHIFT), ((0.5, 1.0), -SHIFT)]
)
def test_a_copy_lies_a_little_to_the_right_and_to_the_left_where_the_picture_ends(xs, moved):
    copied = with_copy(lined("Gap", points=tuple((x, 0.5) for x in xs)), "line", 0)
    assert [x for x, _ in copied.count.line[1].points] == pytest.approx([x + moved for x in xs])
    assert [y for _, y in copied.count.line[1].points] == [0.5, 0.5]
    assert copied.count.line[0].points == tuple((x, 0.5) for x in xs)


def test_a_copy_keeps_every_rule_of_its_pattern():
    pattern = LineSettings(name="Gap", points=ALONG, dead_band=0.7, least_age=1.5, each="identity", reference="centre")
    copied = with_copy(Recipe(count=CountSettings(line=(pattern,))), "line", 0).count.line[1]
    kept = {"dead_band": 0.7, "least_age": 1.5, "each": "identity", "reference": "centre"}
    assert {name: getattr(copied, name) for name in kept} == kept


def test_a_zone_s_new_name_goes_to_the_lines_that_ask_for_it_and_its_end_sets_them_free():
    lines = (
        LineSettings(name="In", points=ALONG, from_zone="Yard", to_zone="Barn"),
        LineSettings(name="Out", points=ALONG, from_zone="Barn", to_zone="Yard"),
        LineSettings(name="Free", points=ALONG),
    )
    recipe = zoned("Yard", "Barn", lines=lines)
    renamed = with_item(recipe, "zone", 1, {"name": "Shed"})
    assert [(one.from_zone, one.to_zone) for one in renamed.count.line] == [
        ("Yard", "Shed"),
        ("Shed", "Yard"),
        ("", ""),
    ]
    assert [zone.name for zone in renamed.count.zone] == ["Yard", "Shed"]
    gone = without_item(renamed, "zone", 0)
    assert [(one.from_zone, one.to_zone) for one in gone.count.line] == [("", "Shed"), ("Shed", ""), ("", "")]
    assert [zone.name for zone in gone.count.zone] == ["Shed"]
    # A line's own name concerns nobody else; nor does another field of a zone.
    assert with_item(recipe, "line", 0, {"name": "Barn"}).count.line[1].from_zone == "Barn"
    assert with_item(recipe, "zone", 0, {"bridge": 2.0}).count.line == recipe.count.line


@given(st.lists(st.sampled_from(["new", "copy", "away"]), max_size=8), st.data())
def test_any_row_of_such_edits_leaves_a_recipe_whose_names_differ(steps, data):
    recipe = zoned("Yard")
    for step in steps:
        count = len(recipe.count.zone)
        if step == "new" or count == 0:
            recipe = with_new(recipe, "zone", list(FIELD))
        else:
            number = data.draw(st.integers(0, count - 1))
            recipe = (with_copy if step == "copy" else without_item)(recipe, "zone", number)
    names = [zone.name for zone in recipe.count.zone]
    assert len(set(names)) == len(names)
    assert Recipe.model_validate(recipe.model_dump()) == recipe
