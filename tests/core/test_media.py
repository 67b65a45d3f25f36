"""Footage as it comes: streams, blackouts, damage, and files that are no footage at all."""

from __future__ import annotations

from fractions import Fraction

import av
import numpy as np
import pytest

from drover.core.detect.detector import Detector
from drover.core.errors import DroverError, FootageError
from drover.core.footage.reader import ClipReader
from drover.core.footage_types import Frame
from drover.core.recipe import DetectSettings


def written(path, *, codec="libx264", frames=50, size=(160, 96), group=10, form=None, bframes=0):
    """A clip whose frame n shows a square at 2 n px."""
    with av.open(str(path), "w", format=form) as out:
        stream = out.add_stream(codec, rate=Fraction(25))
        stream.width, stream.height, stream.pix_fmt = *size, "yuv420p"
        stream.options = {"g": str(group), "bf": str(bframes)} | ({"crf": "12"} if codec == "libx264" else {})
        for n in range(frames):
            picture = np.full((size[1], size[0], 3), 40, np.uint8)
            picture[30:60, 2 * n : 2 * n + 20] = 220
            frame = av.VideoFrame.from_ndarray(picture, format="rgb24")
            frame.pts = n
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))
    return path


def place_of(grey) -> float:
    """Left side of the square, px."""
    return float(np.flatnonzero(grey[45] > 130)[0])


@pytest.mark.parametrize(
    ("name", "codec", "form", "group", "bframes"),
    [
        ("a.ts", "libx264", "mpegts", 10, 2), ("one-group.ts", "libx264", "mpegts", 1000, 0),
        ("a.mpg", "mpeg2video", "mpeg", 12, 2), ("a.mkv", "libx264", None, 12, 3), ("a.avi", "mpeg4", None, 12, 0),
    ],
)  # fmt: skip
def test_every_frame_of_a_sound_stream_is_read_and_found_by_number(tmp_path, name, codec, form, group, bframes):
    path = written(tmp_path / name, codec=codec, form=form, group=group, bframes=bframes)
    with ClipReader(path) as reader:
        assert reader.info.frame_count == 50
        places = [place_of(frame.grey) for frame in reader.frames()]
        assert places == pytest.approx([2 * n for n in range(50)], abs=2)
        later = [frame.index for frame in reader.frames(33)]
        assert later == list(range(33, 50))
        for n in (49, 0, 17, 31):
            assert place_of(reader.frame(n).grey) == pytest.approx(2 * n, abs=2)


def test_a_name_with_a_colon_is_a_name(tmp_path, monkeypatch):
    written(tmp_path / "http:yard.mp4")
    monkeypatch.chdir(tmp_path)
    with ClipReader("http:yard.mp4") as reader:
        assert reader.info.frame_count == 50


@pytest.mark.parametrize(
    ("name", "content", "message"),
    [
        ("words.txt", b"once upon a time\n" * 200, "is not a video"),
        ("list.m3u8", b"#EXTM3U\n#EXTINF:10,\n/etc/passwd\n", "is not a video"),
        ("list.ffconcat", b"ffconcat version 1.0\nfile '/etc/passwd'\n", "is not a video"),
    ],
)
def test_text_and_lists_of_files_are_no_footage(tmp_path, name, content, message):
    path = tmp_path / name
    path.write_bytes(content)
    with pytest.raises(FootageError, match=message):
        ClipReader(path)


@pytest.mark.parametrize("seed", range(12))
def test_a_damaged_file_is_read_as_far_as_it_goes_or_refused_in_a_line(tmp_path, seed):
    data = bytearray(written(tmp_path / "whole.mp4", frames=30).read_bytes())
    rng = np.random.default_rng(seed)
    for _ in range(int(rng.integers(1, 200))):
        data[int(rng.integers(0, len(data)))] = int(rng.integers(0, 256))
    if seed % 3 == 0:
        del data[int(rng.integers(100, len(data))) :]
    path = tmp_path / "damaged.mp4"
    path.write_bytes(bytes(data))
    try:
        with ClipReader(path) as reader:
            assert sum(1 for _ in reader.frames()) <= reader.info.frame_count
    except DroverError as error:
        assert str(path) in str(error) and "\n" not in str(error)


def test_a_blackout_and_a_fade_do_not_end_the_run():
    """Black from the first frame, light, black again: nothing divides by a light that is not there."""
    detector = Detector(DetectSettings(), (96, 64))
    for index, level in enumerate([0] * 30 + [90] * 40 + list(range(90, -1, -10)) + [0] * 20 + [90] * 10):
        grey = np.full((64, 96), level, np.uint8)
        detector.step(Frame(index, index / 25, lambda g=grey: g, lambda g=grey: np.dstack([g] * 3)))
    assert np.isfinite(detector.background()).all()
