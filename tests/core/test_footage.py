"""Frames by number are exact, whatever the file is like; bad files say so in one line."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest

from drover.core.errors import FootageError
from drover.core.footage.planes import expand_luma
from drover.core.footage.prefetch import prefetched_frames
from drover.core.footage.reader import ClipReader
from drover.core.footage.writer import ClipWriter

WIDTH, HEIGHT = 64, 48


def level_of(index: int) -> int:
    """Grey level that names a frame."""
    return 20 + (index * 37) % 200


def make_clip(path: Path, frames: int, *, codec: str = "libx264", options=None, pts=None, pix_fmt="yuv420p") -> Path:
    """A clip of plain frames, each of its own grey level."""
    with av.open(str(path), "w", options={"movflags": "+faststart"}) as out:
        stream = out.add_stream(codec, rate=25)
        stream.width, stream.height, stream.pix_fmt = WIDTH, HEIGHT, pix_fmt
        stream.options = options or {}
        stream.time_base = Fraction(1, 1000)
        stream.codec_context.time_base = Fraction(1, 1000)
        for k in range(frames):
            frame = av.VideoFrame.from_ndarray(np.full((HEIGHT, WIDTH, 3), level_of(k), np.uint8), format="rgb24")
            frame.pts, frame.time_base = (pts[k] if pts else k * 40), Fraction(1, 1000)
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))
    return path


VARIABLE = list(np.cumsum([0, *([40, 40, 120, 20, 60] * 12)])[:60])


@pytest.mark.parametrize(
    ("name", "keywords"),
    [
        ("plain.mp4", {"options": {"bf": "0", "g": "10"}}),
        ("b-frames.mp4", {"options": {"bf": "3", "g": "24", "b_strategy": "0"}}),
        ("open-groups.mp4", {"options": {"bf": "3", "g": "12", "x264-params": "open-gop=1"}}),
        ("variable.mp4", {"options": {"bf": "3", "g": "15"}, "pts": [int(v) for v in VARIABLE]}),
        ("matroska.mkv", {"options": {"bf": "2", "g": "20"}}),
        ("old.avi", {"codec": "mpeg4", "options": {"g": "12"}}),
    ],
)
def test_random_access_gives_the_same_frames_as_reading_through(tmp_path, name, keywords):
    path = make_clip(tmp_path / name, 60, **keywords)
    levels = {frame.index: float(frame.grey.mean()) for frame in prefetched_frames(path)}
    assert sorted(levels) == list(range(60))
    for index, level in levels.items():
        assert level == pytest.approx(level_of(index), abs=4)
    with ClipReader(path, cache_bytes=0) as reader:
        for index in np.random.default_rng(5).integers(0, 60, 45).tolist():
            assert float(reader.frame(index).grey.mean()) == pytest.approx(levels[index], abs=0.01)


def test_times_come_from_the_time_stamps(tmp_path):
    path = make_clip(tmp_path / "variable.mp4", 60, pts=[int(v) for v in VARIABLE])
    with ClipReader(path) as reader:
        assert reader.info.times == pytest.approx(np.array(VARIABLE) / 1000, abs=0.002)
        assert reader.info.frame_at(0.21) == 3


def test_studio_range_is_stretched_to_full_range():
    luma = np.array([[0, 16, 126, 235, 255]], np.uint8)
    out = np.empty_like(luma)
    expand_luma(luma, out, False)
    assert out.tolist() == [[0, 0, 128, 255, 255]]  # (126 - 16) * 255 / 219 = 128.08


def test_rgb_and_grey_agree(short_clip):
    with ClipReader(short_clip) as reader:
        frame = reader.frame(80)
    luma = frame.rgb @ np.array([0.299, 0.587, 0.114])
    assert np.abs(luma - frame.grey).mean() < 2.0


def test_a_single_frame_is_a_clip(tmp_path):
    with ClipReader(make_clip(tmp_path / "one.mp4", 1)) as reader:
        assert reader.info.frame_count == 1
        assert reader.info.duration == pytest.approx(0.04, abs=0.02)
        assert reader.frame(0).grey.shape == (HEIGHT, WIDTH)


@pytest.mark.parametrize("share", [0.35, 0.6, 0.9])
def test_a_clip_cut_off_in_the_middle_gives_the_frames_that_decode(short_clip, tmp_path, share):
    whole = short_clip.read_bytes()
    path = tmp_path / "cut.mp4"
    path.write_bytes(whole[: int(len(whole) * share)])
    with ClipReader(path) as reader:
        count = reader.info.frame_count
        assert 0 < count < 250
        assert reader.info.notes == (f"the file is cut off: {count} of 250 frames can be used",)
        reader.frame(count - 1)
    assert sum(1 for _ in prefetched_frames(path)) == count


def test_damage_inside_leaves_the_other_frames_their_numbers(short_clip, tmp_path, short_info):
    damaged = bytearray(short_clip.read_bytes())
    middle = len(damaged) // 2
    damaged[middle : middle + 3000] = bytes(3000)
    path = tmp_path / "damaged.mp4"
    path.write_bytes(bytes(damaged))
    found = {frame.index: frame.grey for frame in prefetched_frames(path)}
    with ClipReader(short_clip) as reader:
        for index in (0, 249):
            assert np.array_equal(found[index], reader.frame(index).grey)


@pytest.mark.parametrize(
    ("content", "reason"),
    [
        (None, "there is no such file"),
        (b"", "the file is empty"),
        (b"these are words, not pictures\n" * 50, "is not a video"),
        (b"\x00\x00\x00\x20ftypisom" + bytes(500), "is not a video|holds no frames|has no video"),
    ],
)
def test_a_file_that_is_no_clip_is_refused_in_one_line(tmp_path, content, reason):
    path = tmp_path / "odd.mp4"
    if content is not None:
        path.write_bytes(content)
    with pytest.raises(FootageError, match=reason) as caught:
        ClipReader(path)
    assert "\n" not in str(caught.value)
    assert str(path) in str(caught.value)


def test_stopping_early_ends_the_decoding_thread(short_clip):
    import threading

    frames = prefetched_frames(short_clip)
    next(frames)
    frames.close()
    assert not [thread for thread in threading.enumerate() if thread.name == "drover-decode"]


@pytest.mark.parametrize(("name", "codec"), [("a.mp4", "h264"), ("a.webm", "vp9")])
def test_a_written_video_holds_every_picture_in_order(tmp_path, name, codec):
    levels = [40, 200, 90, 150, 60]
    with ClipWriter(tmp_path / name, width=64, height=48, rate=12.5, quality=20) as writer:
        for level in levels:
            writer.add(np.full((48, 64, 3), level, np.uint8))
    with ClipReader(tmp_path / name) as reader:
        assert reader.info.rate == pytest.approx(12.5, rel=0.01) and (reader.info.width, reader.info.height) == (64, 48)
        seen = [float(frame.grey.mean()) for frame in reader.frames()]
    np.testing.assert_allclose(seen, levels, atol=4)
    with av.open(str(tmp_path / name)) as container:
        assert container.streams.video[0].codec_context.name.endswith(codec)


def test_a_drawn_picture_keeps_its_colour_and_a_full_disk_is_one_line(tmp_path):
    red = np.full((48, 64), 0xFFC80000, np.uint32)
    with ClipWriter(tmp_path / "red.mp4", width=64, height=48, rate=25) as writer:
        writer.add_ready(writer.made_ready(red))
    with ClipReader(tmp_path / "red.mp4") as reader:
        assert reader.frame(0).rgb[24, 32].tolist() == pytest.approx([200, 0, 0], abs=12)
    with (
        pytest.raises(FootageError, match=r"end\.mp4: cannot be written \(.+\); choose another"),
        ClipWriter(Path("/dev/full"), width=64, height=48, rate=25, kind=".mp4", called=Path("end.mp4")) as writer,
    ):
        for _ in range(60):
            writer.add(np.random.default_rng(1).integers(0, 255, (48, 64, 3)).astype(np.uint8))


def test_pictures_are_decoded_ahead_in_colour(short_clip):
    with ClipReader(short_clip) as reader:
        ahead = prefetched_frames(short_clip, start=30, rgb=True)
        for wanted, got in zip(reader.frames(30), ahead, strict=True):
            assert got.index == wanted.index
            np.testing.assert_array_equal(got.rgb, wanted.rgb)
