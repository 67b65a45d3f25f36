"""Tables: written and read back, optional headers, and bad rows named by line."""

from __future__ import annotations

import numpy as np
import pytest
from builders import tracks_of, truth_of
from hypothesis import given
from hypothesis import strategies as st

from drover.core.errors import FormatError
from drover.core.formats.box_import import read_box_file
from drover.core.formats.box_rows import (
    read_tracks,
    read_truth,
    write_detections,
    write_tracks,
    write_truth,
)
from drover.core.formats.crossing_rows import read_crossings, write_crossings
from drover.core.types import Detections

BOX = (10.0, 20.0, 30.5, 44.25)


def test_tracks_come_back_as_they_were(tmp_path):
    tracks = tracks_of([(0, 1, BOX), (2, 1, BOX), (2, 2, BOX)], 3)
    write_tracks(tmp_path / "tracks.csv", tracks)
    first = (tmp_path / "tracks.csv").read_text().splitlines()[:2]
    assert first == ["frame,id,left,top,width,height,confidence,x,y,z", "1,1,10.00,20.00,20.50,24.25,1.000,-1,-1,-1"]
    again = read_tracks(tmp_path / "tracks.csv")
    assert again.frame_start.tolist() == tracks.frame_start.tolist()
    assert again.identity.tolist() == tracks.identity.tolist()
    assert again.box == pytest.approx(tracks.box, abs=0.01)


def test_truth_keeps_class_consider_and_visibility(tmp_path):
    truth = truth_of([(0, 1, BOX), (1, 1, BOX)], 2, {(1, 1): False})
    write_truth(tmp_path / "truth.csv", truth)
    again = read_truth(tmp_path / "truth.csv", frame_count=5)
    assert again.frame_count == 5
    assert again.consider.tolist() == [True, False]
    assert again.class_names == ("object",)


def test_detections_are_sorted_by_frame(tmp_path):
    found = Detections.from_boxes(
        np.array([3, 0, 3]),
        np.array([BOX] * 3, np.float32),
        np.array([0.5, 1.0, 0.25], np.float32),
        frame_count=4,
        size=(64, 48),
    )
    write_detections(tmp_path / "d.csv", found)
    again = read_box_file(tmp_path / "d.csv", frame_count=4, size=(64, 48)).detections(frame_count=4, size=(64, 48))
    assert np.diff(again.frame_start).tolist() == [1, 0, 0, 2]
    assert again.confidence.tolist() == pytest.approx([1.0, 0.5, 0.25])


@pytest.mark.parametrize(
    ("rows", "message"),
    [
        ("1,1,10,20,30", "line 1: has 5 columns, needs at least 6"),
        ("1,1,10,20,30,40\n1,2,x,20,30,40", "line 2: could not convert string to float: 'x'"),
        ("1,1,10,20,nan,40", "line 1: holds a value that is not a finite number"),
        ("0,1,10,20,30,40", "line 1: frame must be a whole number from 1; got 0"),
        ("1.5,1,10,20,30,40", "line 1: frame must be a whole number from 1; got 1.5"),
        ("1,1,10,20,-30,40", "line 1: width and height must not be negative"),
        ("1,1,10,20,3e9,40", "line 1: box reaches beyond"),
        ("1,1,10,20,30,40\n1,1,11,20,30,40", "line 2: identity 1 stands twice in frame 1"),
        ("1,1,10,20,30,40,sure", "line 1: could not convert string to float: 'sure' in column 7"),
    ],
)
def test_a_bad_row_is_named_by_line(tmp_path, rows, message):
    path = tmp_path / "tracks.csv"
    path.write_text(rows)
    with pytest.raises(FormatError, match=message):
        read_tracks(path)


def test_a_header_is_optional_and_blank_lines_are_passed_over(tmp_path):
    path = tmp_path / "tracks.csv"
    path.write_text("1,1,10,20,30,40\n\n2,1,10,20,30,40,0.5,-1,-1,-1\n")
    assert len(read_tracks(path)) == 2


def test_frames_beyond_the_clip_are_refused(tmp_path):
    path = tmp_path / "t.csv"
    path.write_text("9,1,10,20,30,40\n")
    with pytest.raises(FormatError, match="reaches frame 9 but the clip has 5 frames"):
        read_truth(path, frame_count=5)


@given(st.binary(max_size=300))
def test_any_bytes_are_rows_or_a_format_error(tmp_path_factory, data):
    path = tmp_path_factory.mktemp("fuzz") / "rows.csv"
    path.write_bytes(data)
    for read in (read_tracks, read_truth, read_crossings):
        try:
            read(path)
        except FormatError as error:
            assert str(path) in str(error)


def test_crossings_come_back_as_they_were(tmp_path, short_run):
    write_crossings(tmp_path / "c.csv", short_run.crossings)
    again = read_crossings(tmp_path / "c.csv")
    assert len(again) == len(short_run.crossings) > 0
    assert again.direction.tolist() == short_run.crossings.direction.tolist()
    assert again.time == pytest.approx(short_run.crossings.time, abs=1e-4)
    assert again.line_names == ("Gap",)


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("line,identity\nGap,1\n", "lacks the column 'class'"),
        ("line,identity,class,frame,time,direction,x,y\nGap,1,ewe,4,x,1,2,3\n", "line 2: could not convert"),
        (
            "line,identity,class,frame,time,direction,x,y\nGap,1,ewe,4,1,2,2,3\n",
            "line 2: direction must be 1 or -1; got 2",
        ),
    ],
)
def test_a_bad_crossing_is_named(tmp_path, text, message):
    path = tmp_path / "c.csv"
    path.write_text(text)
    with pytest.raises(FormatError, match=message):
        read_crossings(path)
