"""Recipes: partial files, comments kept, and messages that name key, value and range."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.core.errors import RecipeError
from drover.core.names import grouped
from drover.core.recipe import (
    AUTO,
    Recipe,
    TrackSettings,
    dump_recipe,
    is_auto,
    parse_recipe,
    read_recipe,
    settings_fingerprint,
    value_of,
    with_value,
)
from drover.core.setting_info import setting_info, settings_of

NUMERIC = [path for path, model, name in settings_of() if "unit" in (model.model_fields[name].json_schema_extra or {})]
LINE = '[[count.line]]\nname = "Gap"\npoints = [[0.5, 0.4], [0.5, 0.6]]\n'


def test_an_empty_recipe_is_the_default():
    assert parse_recipe("") == Recipe()


def test_a_partial_recipe_changes_only_what_it_names():
    recipe = parse_recipe("[track.match]\ngate = 4  # whole numbers are fine\n")
    assert recipe.track.match.gate == 4.0
    assert recipe.detect == Recipe().detect


@pytest.mark.parametrize(
    ("text", "message"),
    [
        (
            "[track.match]\ngaet = 3",
            r"unknown key 'gaet' with value 3 in \[track.match\]; did you mean 'gate'\?.*0.5..20 σ",
        ),
        ("[track.match]\ngate = -1", r"the 'gate' setting of \[track.match\] must be in 0.5..20 σ; got -1.0"),
        ("[track.match]\ngate = nan", r"the 'gate' setting of \[track.match\] must be in 0.5..20 σ; got nan"),
        ("[track.match]\ngate = 'wide'", r"'gate' setting of \[track.match\] must be in 0.5..20 σ; got 'wide'"),
        ("[detect.cleanup]\nopening = 2.5", r"'opening' setting .* must be a whole number in 0..31 px; got 2.5"),
        ("tracking = 3", r"unknown key 'tracking' with value 3 in \[the recipe\]"),
        ("[detect]\nbackground = 4", r"'background' setting of \[detect\]"),
        ("[[count.line]]\nname = 'a'", r"lacks 'points'; add it"),
        ("[[count.line]]\nname = 'a'\npoints = [[0.1, 0.2]]", r"needs 2..200 points"),
        ("[[count.line]]\nname = 'a'\npoints = [[0.1, 0.2], [0.1, 0.2]]", r"needs two different points"),
        ("[[count.line]]\nname = 'a'\npoints = [[0.1, 0.2], [inf, 0.2]]", r"points"),
        (LINE + LINE, r"two lines are called 'Gap'"),
        (LINE + "refrence = 'foot'", r"unknown key 'refrence' .* did you mean 'reference'\?"),
        (
            "[detect.background]\nmodel = 'magic'",
            r"'model' setting of \[detect.background\]: input should be 'running-average'",
        ),
        ("[detect.size]\nnear_box = [0.5, 0.5, 0.2, 0.9]", r"x1 < x2 and y1 < y2"),
        ("[detect.where]\nignore = [[[0.1, 0.2], [0.3, 0.4]]]", r"a polygon needs 3..200 points"),
        ("gate = = 3", r"not valid TOML"),
    ],
)
def test_a_bad_setting_is_named_with_its_value_and_range(text, message):
    with pytest.raises(RecipeError, match=message) as caught:
        parse_recipe(text, "my.toml")
    assert str(caught.value).startswith("my.toml: ")
    assert "\n" not in str(caught.value)


def test_a_missing_recipe_file_says_so(tmp_path):
    with pytest.raises(RecipeError, match="there is no such recipe file"):
        read_recipe(tmp_path / "none.toml")


def test_comments_survive_a_save():
    text = "# tuned on a wet day\n[track.match]\ngate = 4.0  # wide enough\n\n# the hedge\n" + LINE
    changed = with_value(parse_recipe(text), "track.match.gate", 5.0)
    saved = dump_recipe(changed, text)
    for comment in ("# tuned on a wet day", "# wide enough"):
        assert comment in saved
    assert parse_recipe(saved) == changed


@given(st.sampled_from(NUMERIC), st.floats(0, 1))
def test_any_allowed_value_survives_a_round_trip(path, share):
    info = setting_info(path)
    value = info.low + share * (info.high - info.low)
    recipe = with_value(Recipe(), path, round(value) if info.whole else value)
    assert parse_recipe(dump_recipe(recipe)) == recipe
    if value_of(recipe, path) != value_of(Recipe(), path):
        assert settings_fingerprint(recipe) != settings_fingerprint(Recipe())


@pytest.mark.parametrize("path", NUMERIC)
def test_every_setting_has_unit_help_and_a_default_in_range(path):
    info = setting_info(path)
    assert info.unit
    assert info.help.endswith(".")
    assert info.low <= info.default <= info.high or (info.auto and info.default == AUTO)
    with pytest.raises(RecipeError, match="must be"):
        with_value(Recipe(), path, info.high + 1)


def test_a_number_on_auto_is_a_word_in_files_and_nothing_else_below_the_least_is_taken():
    recipe = parse_recipe('[track.motion]\njumpiness = "auto"\n')
    assert recipe == Recipe() and is_auto(recipe.track.motion.jumpiness)
    assert 'jumpiness = "auto"' in dump_recipe(recipe)
    assert parse_recipe(dump_recipe(recipe)) == recipe
    assert TrackSettings.model_validate_json(recipe.track.model_dump_json()) == recipe.track
    assert with_value(recipe, "track.motion.jumpiness", "auto") == recipe
    # What earlier versions wrote for it.
    assert parse_recipe("[track.motion]\njumpiness = 0\n[detect.background]\nweak_share = 0.0\n") == Recipe()
    for wrong in (0.0, -0.5, -2.0, "automatic"):
        with pytest.raises(RecipeError, match=r"'jumpiness' setting of \[track.motion\] must be in 0.01..50"):
            with_value(recipe, "track.motion.jumpiness", wrong)
    with pytest.raises(RecipeError, match="'overlap_weight'"):
        with_value(recipe, "track.match.overlap_weight", "auto")
    with pytest.raises(RecipeError, match="'overlap_weight'"):
        with_value(recipe, "track.match.overlap_weight", AUTO)


@given(st.text(max_size=200))
def test_any_text_is_a_recipe_or_a_recipe_error(text):
    try:
        parse_recipe(text)
    except RecipeError as error:
        assert "\n" not in str(error)


def test_large_numbers_have_gaps():
    assert [grouped(n) for n in (0, 999, 1000, 1234567)] == ["0", "999", "1 000", "1 234 567"]
