"""Text files that lie, wrap around, or go on for ever: one plain line each, and nothing taken without a word."""

from __future__ import annotations

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from drover.core.errors import DroverError, FormatError, RecipeError
from drover.core.formats.box_import import read_box_file
from drover.core.formats.box_rows import read_tracks, read_truth
from drover.core.formats.crossing_rows import read_crossings
from drover.core.recipe import parse_recipe, read_recipe

HEAD = "line,identity,class,frame,time,direction,x,y\n"
DIGITS = "9" * 5000


@pytest.mark.parametrize(
    ("row", "message"),
    [
        ("1,1,10,10,5,5,1,ewe,1.5", "visibility must be in 0..1"),
        ("1,1,10,10,5,5,1,ewe,-0.2", "visibility must be in 0..1"),
        ("1,7,10,5,20,5,30,0,40,0,1", "has 11 columns, at most 10 are known; write numbers with a point"),
        (f"{DIGITS},1,1,1,5,5", "not a finite number|must be a whole number"),
        ("50000000,1,1,1,5,5", "frame must be a whole number from 1"),
        (f"1,{DIGITS},1,1,5,5", "not a finite number|id must be a whole number"),
        ("1,1,1e300,1,5,5", "box reaches beyond"),
        ("x" * 70_000 + ",1,1,1,5,5", "must be numbers"),
        ("", "holds no true boxes"),
    ],
)
def test_a_truth_that_cannot_be_is_refused_in_a_short_line(tmp_path, row, message):
    path = tmp_path / "truth.csv"
    path.write_text("frame,id,left,top,width,height,consider,class,visibility\n" + row + "\n")
    with pytest.raises(FormatError, match=message) as caught:
        read_truth(path)
    assert len(str(caught.value)) <= 420 and "\n" not in str(caught.value)


def test_more_classes_than_can_be_numbered_are_refused(tmp_path):
    path = tmp_path / "truth.csv"
    path.write_text("".join(f"{n + 1},1,1,1,5,5,1,class {n}\n" for n in range(10_001)))
    with pytest.raises(FormatError, match="names 10001 classes"):
        read_truth(path)


@pytest.mark.parametrize(
    ("row", "message"),
    [
        ("Gap,-1,ewe,5,1.0,1,3,3", "identity must be in"), ("Gap,1,ewe,0,1.0,1,3,3", "frame must be in"),
        ("Gap,1,ewe,5,-1.0,1,3,3", "time must be in"), ("Gap,1,ewe,5,1.0,1,1e300,3", "x must be in"),
        ("Gap,1,ewe,5,nan,1,3,3", "not a finite number"), (f"Gap,{DIGITS},ewe,5,1.0,1,3,3", "expected line,identity"),
        (f"Gap,{2**70},ewe,5,1.0,1,3,3", "identity must be in"), ("Gap,1,ewe,5", "expected line,identity"),
    ],
)  # fmt: skip
def test_a_crossing_that_cannot_be_is_refused(tmp_path, row, message):
    path = tmp_path / "crossings.csv"
    path.write_text(HEAD + row + "\n")
    with pytest.raises(FormatError, match=message) as caught:
        read_crossings(path)
    assert len(str(caught.value)) <= 420


def test_boxes_beyond_all_bounds_are_counted_and_left_out(tmp_path):
    path = tmp_path / "boxes.json"
    rows = [
        {"image_id": 1, "bbox": [1e200, 1, 5, 5], "score": 0.5, "category_id": 1},
        {"image_id": 2**80, "bbox": [1, 1, 5, 5]}, {"image_id": 1, "bbox": [1, 1, 5, 5], "category_id": {"a": []}},
    ]  # fmt: skip
    path.write_text(json.dumps(rows))
    found = read_box_file(path, frame_count=9, size=(100, 100))
    assert len(found.frame) == 1 and found.bad_rows == 2
    path.write_text('[{"image_id": ' + DIGITS + "}]")
    with pytest.raises(FormatError, match="not valid JSON"):
        read_box_file(path, frame_count=9, size=(100, 100))


def test_a_mark_at_the_start_of_a_recipe_is_passed_over_and_endless_ones_are_refused(tmp_path):
    path = tmp_path / "recipe.toml"
    path.write_bytes(b"\xef\xbb\xbf[track.match]\ngate = 4\n")
    assert read_recipe(path).track.match.gate == 4.0
    with pytest.raises(RecipeError, match="longer than a recipe can be"):
        parse_recipe("# " + "x" * (1 << 21))
    with pytest.raises(RecipeError, match="at most 200 lines"):
        parse_recipe('[[count.line]]\nname = "a"\npoints = [[0, 0], [1, 1]]\n' * 10_000)
    with pytest.raises(RecipeError) as caught:
        parse_recipe(f"[track.match]\ngate = {DIGITS}")
    assert len(str(caught.value)) <= 420


def test_names_are_cut_and_freed_of_control_characters(tmp_path):
    path = tmp_path / "truth.csv"
    path.write_text(f"1,1,1,1,5,5,1,\x1b[31m<b>{'e' * 500}</b>\n")
    (name,) = read_truth(path).class_names
    assert len(name) <= 80 and name.isprintable() and name.startswith("[31m<b>")


@given(st.text("0123456789,.-+eEnaif \n\"'xX", max_size=200))
def test_any_rows_are_read_or_refused_in_a_line(tmp_path_factory, text):
    path = tmp_path_factory.getbasetemp() / "any.csv"
    path.write_text(text)
    for read in (read_truth, read_tracks, read_crossings):
        try:
            made = read(path)
        except DroverError as error:
            assert "\n" not in str(error) and len(str(error)) <= 420
        else:
            for column in ("box", "x", "y", "time", "visibility"):
                assert np.isfinite(getattr(made, column, np.zeros(1))).all()
