"""Boxes from elsewhere: three formats recognised, every bad row counted and named, nothing crashes."""

from __future__ import annotations

import json

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from drover.core.detect.overlaps import remove_overlaps
from drover.core.errors import FormatError
from drover.core.formats.box_import import read_box_file

SIZE, FRAMES = (200, 100), 10


def look(path):
    return read_box_file(path, frame_count=FRAMES, size=SIZE)


def test_rows_are_recognised_with_their_classes(tmp_path):
    path = tmp_path / "boxes.csv"
    path.write_text(
        "frame,id,left,top,width,height,confidence,class\n1,-1,10,20,30,40,0.5,ewe\n3,-1,0,0,5,5,0.25,dog\n"
    )
    found = look(path)
    assert (found.kind, found.bad_rows, found.frames_covered) == ("comma-separated rows", 0, 2)
    assert found.per_class() == {"ewe": 1, "dog": 1}
    assert found.box.tolist() == [[10, 20, 40, 60], [0, 0, 5, 5]]
    kept = found.detections(frame_count=FRAMES, size=SIZE, least_confidence={"ewe": 0.4})
    assert np.diff(kept.frame_start).tolist() == [1] + [0] * 9


def test_coco_is_recognised_and_images_are_ordered_by_name(tmp_path):
    path = tmp_path / "boxes.json"
    images = [{"id": 7, "file_name": "f10.png"}, {"id": 9, "file_name": "f2.png"}]
    items = [
        {"image_id": 7, "category_id": 1, "bbox": [1, 2, 3, 4], "score": 0.5},
        {"image_id": 9, "category_id": 1, "bbox": [5, 6, 7, 8]},
    ]
    path.write_text(json.dumps({"images": images, "annotations": items, "categories": [{"id": 1, "name": "ewe"}]}))
    found = look(path)
    assert found.kind == "COCO JSON"
    assert found.frame.tolist() == [1, 0]
    assert found.box[0].tolist() == [1, 2, 4, 6]
    assert found.class_names == ("ewe",)
    path.write_text(json.dumps([{"image_id": 3, "category_id": 5, "bbox": [1, 2, 3, 4], "score": 0.9}]))
    assert look(path).frame.tolist() == [2]


@pytest.mark.parametrize(
    ("change", "fault"),
    [
        (7, "entry 2: is not an object"),
        ({"bbox": [1, 2, 3]}, "entry 2: bbox must be four numbers: left, top, width, height"),
        ({"bbox": [1, 2, 3, True]}, "entry 2: bbox must be four numbers: left, top, width, height"),
        ({"image_id": 12}, "entry 2: belongs to no known image: 12"),
        ({"category_id": 9}, "entry 2: has a class that is not listed: 9"),
    ],
)
def test_a_bad_entry_is_named_and_the_good_ones_stay(tmp_path, change, fault):
    good = {"image_id": 7, "category_id": 1, "bbox": [1, 2, 3, 4], "score": "sure"}
    bad = {**good, **change} if isinstance(change, dict) else change
    path = tmp_path / "boxes.json"
    images, kinds = [{"id": 7, "frame_id": 4}, {"id": 8, "frame_id": 2}], [{"id": 1, "name": "ewe"}, "no object"]
    path.write_text(json.dumps({"images": images, "annotations": [good, bad, good], "categories": kinds}))
    found = look(path)
    assert (found.bad_rows, found.faults[0]) == (1, fault)
    assert found.frame.tolist() == [3, 3]  # counted from 1, as none is 0
    assert found.confidence.tolist() == [1.0, 1.0]  # what is no number says nothing


def test_results_alone_number_their_images_from_one_and_classes_by_their_numbers(tmp_path):
    path = tmp_path / "boxes.json"
    path.write_text(json.dumps([
        {"image_id": 1, "category_id": 3, "bbox": [1, 2, 3, 4]}, {"image_id": 2, "bbox": [1, 2, 3, 4]},
        {"image_id": "a", "bbox": [1, 2, 3, 4]},
    ]))  # fmt: skip
    found = look(path)
    assert found.frame.tolist() == [0, 1] and found.per_class() == {"3": 1, "object": 1}
    assert found.faults == ("entry 3: belongs to no known image: a",)


@pytest.mark.parametrize(
    ("line", "fault"),
    [
        (
            "0 0.5 0.5 0.2",
            "a2.txt line 1: needs class, centre x, centre y, width, height and perhaps confidence: has 4",
        ),
        ("0 0.5 half 0.2 0.2", "a2.txt line 1: holds a word where a number belongs"),
        ("0 50 0.5 0.2 0.2", "a2.txt line 1: values must be fractions of the frame, 0..1"),
    ],
)
def test_a_bad_line_of_a_folder_is_named_with_its_file(tmp_path, line, fault):
    (tmp_path / "a1.txt").write_text("0 0.5 0.5 0.2 0.4\n\n")
    (tmp_path / "a2.txt").write_text(line + "\n")
    found = look(tmp_path)
    assert len(found.frame) == 1 and found.faults[0].startswith(fault)


def test_a_folder_of_text_files_is_recognised(tmp_path):
    (tmp_path / "classes.txt").write_text("ewe\nlamb\n")
    (tmp_path / "img_000001.txt").write_text("0 0.5 0.5 0.2 0.4\n")
    (tmp_path / "img_000003.txt").write_text("1 0.25 0.5 0.1 0.2 0.7\n")
    found = look(tmp_path)
    assert found.kind == "a text file an image"
    assert found.frame.tolist() == [0, 2]
    assert found.box[0] == pytest.approx([80, 30, 120, 70])
    assert found.class_names == ("ewe", "lamb")
    assert found.confidence.tolist() == pytest.approx([1.0, 0.7])


@pytest.mark.parametrize(
    ("row", "fault"),
    [
        ("1,-1,10,20,30", "line 2: needs at least 6 columns"),
        ("1,-1,10,20,nan,40", "line 2: holds a value that is not a finite number"),
        ("1,-1,10,20,-30,40", "line 2: width and height must be above 0: got -30 x 40"),
        ("1,-1,10,20,x,40", "line 2: the first seven columns must be numbers"),
        ("11,-1,10,20,30,40", "line 2: is beyond the clip's 10 frames: frame 11"),
        ("1,-1,210,20,30,40", "line 2: the box lies outside the 200 x 100 frame"),
        ("1.5,-1,10,20,30,40", "line 2: frame must be a whole number from 1: 1.5"),
    ],
)
def test_a_bad_row_is_counted_and_named_and_the_good_ones_stay(tmp_path, row, fault):
    path = tmp_path / "boxes.csv"
    path.write_text(f"1,-1,10,20,30,40\n{row}\n2,-1,10,20,30,40\n")
    found = look(path)
    assert found.bad_rows == 1
    assert len(found.frame) == 2
    assert found.faults[0].startswith(fault)


def test_many_bad_rows_of_a_kind_are_summed_up(tmp_path):
    path = tmp_path / "boxes.csv"
    path.write_text("1,-1,10,20,30,40\n" + "1,-1,bad,20,30,40\n" * 500)
    found = look(path)
    assert found.bad_rows == 500
    assert len(found.faults) == 4
    assert found.faults[-1].startswith("500 rows: the first seven columns must be numbers")


@pytest.mark.parametrize(
    ("name", "content", "message"),
    [
        ("a.json", b"{", "is not valid JSON"),
        ("a.json", b'{"images": []}', "lacks 'annotations'"),
        ("a.csv", b"", "holds no rows"),
        ("a.csv", b"\xff\xfe1\x00,\x00", "is not a text file in UTF-8"),
    ],
)
def test_a_file_of_no_known_format_is_refused(tmp_path, name, content, message):
    path = tmp_path / name
    path.write_bytes(content)
    with pytest.raises(FormatError, match=message):
        look(path)


json_values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(
        st.sampled_from(["images", "annotations", "categories", "id", "image_id", "bbox", "score", "category_id"]),
        inner, max_size=5,
    ),
    max_leaves=12,
)  # fmt: skip


@example(b"\n")
@given(st.one_of(st.binary(max_size=200), json_values.map(lambda v: json.dumps(v).encode())))
def test_any_bytes_are_boxes_faults_or_a_format_error(tmp_path_factory, data):
    folder = tmp_path_factory.mktemp("fuzz")
    (folder / "a.txt").write_bytes(data)
    for path in (folder / "a.txt", folder):
        try:
            found = look(path)
        except FormatError as error:
            assert "\n" not in str(error)
        else:
            assert np.isfinite(found.box).all()
            assert ((found.frame >= 0) & (found.frame < FRAMES)).all()


def boxes(*rows):
    return np.array(rows, np.float32)


def test_of_two_boxes_on_one_thing_the_surest_stays():
    """Overlap of the first two: 9 of 11."""
    box = boxes((0, 0, 10, 10), (1, 0, 11, 10), (50, 0, 60, 10))
    sure, kinds = np.array([0.6, 0.9, 0.3], np.float32), np.array([0, 1, 0], np.int16)
    rows, _ = remove_overlaps(box, sure, kinds, most_overlap=0.5)
    assert rows.tolist() == [1, 0, 2]
    rows, _ = remove_overlaps(box, sure, kinds, most_overlap=0.5, across_classes=True)
    assert rows.tolist() == [1, 2]
    rows, kept = remove_overlaps(box, sure, kinds, most_overlap=0.5, across_classes=True, soft=True)
    assert rows.tolist() == [1, 2, 0]
    assert kept.tolist() == pytest.approx([0.9, 0.3, 0.6 * (1 - 9 / 11)])


@given(st.lists(st.tuples(st.integers(0, 40), st.integers(0, 40), st.integers(1, 20), st.floats(0, 1)), max_size=12))
def test_what_is_kept_does_not_overlap_and_what_is_dropped_does(drawn):
    from drover.core.geometry import overlap_matrix

    box = boxes(*[(x, y, x + s, y + s) for x, y, s, _ in drawn]).reshape(-1, 4)
    sure = np.array([c for *_, c in drawn], np.float32)
    rows, _ = remove_overlaps(box, sure, np.zeros(len(drawn), np.int16), most_overlap=0.3)
    overlap = overlap_matrix(box, box)
    kept = overlap[np.ix_(rows, rows)] - np.eye(len(rows))
    assert (kept <= 0.3 + 1e-6).all()
    for k in set(range(len(drawn))) - set(rows.tolist()):
        assert (overlap[k, rows] > 0.3 - 1e-6).any()
