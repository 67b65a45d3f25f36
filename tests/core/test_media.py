"""Footage as it comes: streams, blackouts, damage, and files that are no footage at all."""

from __future__ import annotations

import struct
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from drover.core.detect.detector import Detector
from drover.core.errors import DroverError, FootageError
from drover.core.footage.images import footage_name, with_rate
from drover.core.footage.opened import footage_fingerprint, open_footage
from drover.core.footage.reader import ClipReader
from drover.core.footage.writer import ClipWriter
from drover.core.footage_types import Frame
from drover.core.recipe import DetectSettings


def drawn(n, size=(160, 96)):
    """A picture with a square at 2 n px."""
    picture = np.full((size[1], size[0], 3), 40, np.uint8)
    picture[30:60, 2 * n : 2 * n + 20] = 220
    return picture


def written(
    path, *, codec="libx264", frames=50, size=(160, 96), group=10, form=None, bframes=0, pixels="yuv420p", more=None
):
    """A clip whose frame n shows a square at 2 n px."""
    with av.open(str(path), "w", format=form) as out:
        stream = out.add_stream(codec, rate=Fraction(25))
        stream.width, stream.height, stream.pix_fmt = *size, pixels
        stream.options = {"g": str(group), "bf": str(bframes), **(more or {})}
        if codec in ("libx264", "libx265"):
            stream.options |= {"crf": "12", "x265-params": "log-level=none"}
        for n in range(frames):
            frame = av.VideoFrame.from_ndarray(drawn(n, size), format="rgb24")
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
        ("hevc.mp4", "libx265", None, 12, 2), ("hevc.ts", "libx265", "mpegts", 12, 2),
        ("a.webm", "libvpx-vp9", None, 12, 0), ("a.mov", "mjpeg", None, 1, 0), ("motion.avi", "mjpeg", None, 1, 0),
        ("10-bit.mp4", "libx264 yuv420p10le", None, 12, 2), ("grey.mkv", "libx264 gray", None, 12, 0),
        ("full.mp4", "libx264 yuv444p", None, 12, 2), ("odd.mkv", "libx264 yuv444p 161x97", None, 12, 0),
        ("interlaced.mp4", "libx264 yuv420p 160x96 interlaced", None, 12, 0),
    ],
)  # fmt: skip
def test_every_frame_of_a_sound_stream_is_read_and_found_by_number(tmp_path, name, codec, form, group, bframes):
    codec, pixels, size, how, *_ = [*codec.split(), "", "", ""][:4]
    width, height = map(int, (size or "160x96").split("x"))
    pixels = pixels or ("yuvj420p" if codec == "mjpeg" else "yuv420p")
    more = {"flags": "+ildct+ilme"} if how else {}
    path = written(
        tmp_path / name, codec=codec, form=form, group=group, bframes=bframes, pixels=pixels, size=(width, height),
        more=more,
    )  # fmt: skip
    with ClipReader(path) as reader:
        assert (reader.info.frame_count, reader.info.width, reader.info.height) == (50, width, height)
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


@pytest.fixture
def shots(tmp_path):
    """Twelve images named as a camera would, without leading noughts; one is damaged, one of another size."""
    folder = tmp_path / "shots"
    folder.mkdir()
    for n in range(12):
        picture = drawn(n, (320, 192) if n == 4 else (160, 96))
        if n == 4:
            picture = np.full((192, 320, 3), 40, np.uint8)
            picture[60:120, 16:56] = 220
        with av.open(str(folder / f"shot{n + 1}.png"), "w", format="image2", options={"update": "1"}) as out:
            stream = out.add_stream("png", rate=1)
            stream.width, stream.height, stream.pix_fmt = picture.shape[1], picture.shape[0], "rgb24"
            frame = av.VideoFrame.from_ndarray(picture, format="rgb24")
            out.mux(stream.encode(frame))
            out.mux(stream.encode(None))
    (folder / "shot8.png").write_bytes((folder / "shot8.png").read_bytes()[:40])
    (folder / "notes.txt").write_text("not an image")
    return folder


def test_images_are_frames_in_the_order_of_their_numbers_at_the_rate_that_is_given(shots):
    with open_footage(with_rate(shots, 5)) as reader:
        assert (reader.info.frame_count, reader.info.width, reader.info.height) == (12, 160, 96)
        assert reader.info.times.tolist() == pytest.approx([n / 5 for n in range(12)])
        found = {frame.index: frame for frame in reader.frames()}
        assert sorted(found) == [0, 1, 2, 3, 4, 5, 6, 8, 9, 10, 11], "the damaged one is left out"
        assert {n: place_of(frame.grey) for n, frame in found.items()} == pytest.approx(
            {n: 2 * n for n in found}, abs=1
        )
        assert found[3].chroma.shape == (2, 48, 80)
        np.testing.assert_array_equal(reader.frame(9).rgb, drawn(9))
        with pytest.raises(FootageError, match=r"shot8\.png: cannot be read as an image"):
            reader.frame(7)
        fingerprint = reader.info.fingerprint
    assert footage_fingerprint(with_rate(shots, 5)) == fingerprint
    assert footage_fingerprint(shots) != fingerprint, "another rate is another clip"
    with open_footage(shots / "shot1?.png@10") as reader:
        assert (reader.info.frame_count, reader.info.rate) == (3, 10)
    assert [footage_name(path) for path in (shots, with_rate(shots, 5), shots / "*.png@2")] == ["shots"] * 3


@pytest.mark.parametrize(
    ("name", "message"),
    [("shots@0.001", "0.001 images a second make no clip"), ("shots/left*.png", "holds no images"),
     ("shots/other", "no such file"), ("shots@x", "no such file"), ("shots/**a.png", "cannot be looked through"),
     ("s" * 300, "cannot be looked through")],
)  # fmt: skip
def test_images_that_are_not_there_are_said_in_a_line(shots, name, message):
    with pytest.raises(FootageError, match=message):
        open_footage(shots.parent / name)


def test_a_folder_without_a_whole_image_is_said_in_a_line(shots):
    for file in shots.glob("*.png"):
        file.write_bytes(b"broken")
    with pytest.raises(FootageError, match="none of its 12 images can be read"):
        open_footage(shots)


# --- footage that was taken with the camera on its side --------------------------------------------------------------

TURNS = {90: (0, 1, -1, 0), 180: (-1, 0, 0, -1), 270: (0, -1, 1, 0)}  # what the file says: so far clockwise


def turned_file(path: Path, clockwise: int) -> Path:
    """A clip that is wider than high, bright in its upper left corner; its header says how it is to be turned."""
    picture = np.full((96, 160, 3), 40, np.uint8)
    picture[:24, :40] = 220
    with ClipWriter(path, width=160, height=96, rate=25.0, preset="ultrafast", quality=12) as out:
        for _ in range(8):
            out.add(picture)
    data = bytearray(path.read_bytes())
    at = data.index(b"tkhd") + 4 + 40  # the track header's nine numbers: a b u c d v x y w (ISO/IEC 14496-12, 8.3.2)
    a, b, c, d = TURNS[clockwise]
    data[at : at + 36] = struct.pack(">9i", a << 16, b << 16, 0, c << 16, d << 16, 0, 0, 0, 1 << 30)
    path.write_bytes(data)
    return path


@pytest.mark.parametrize(("clockwise", "corner"), [(90, (0, 1)), (180, (1, 1)), (270, (1, 0))])
def test_what_was_taken_on_its_side_is_seen_upright(tmp_path, clockwise, corner):
    """Turned clockwise, the upper left corner goes to the upper right one, and on."""
    with open_footage(turned_file(tmp_path / "turned.mp4", clockwise)) as reader:
        upright = (160, 96) if clockwise == 180 else (96, 160)
        assert (reader.info.width, reader.info.height) == upright
        frame = reader.frame(3)
        for grey in (frame.grey, frame.rgb.mean(axis=2)):
            assert grey.shape == upright[::-1]
            bright = np.argwhere(grey > 130).mean(axis=0) / grey.shape
            assert (bright > 0.5).tolist() == [bool(side) for side in corner]
            assert (grey > 130).mean() == pytest.approx(24 * 40 / (96 * 160), rel=0.15)
        assert frame.chroma.shape[1:] == tuple(side // 2 for side in upright[::-1])
        assert [one.index for one in reader.frames()] == list(range(8))
