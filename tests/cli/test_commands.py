"""The commands as a user types them: exit codes, one-line errors, files."""

from __future__ import annotations

import configparser
import csv
import json
import shlex
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from PySide6.QtGui import QIcon

from drover.cli import main as cli
from drover.core.batch.plan import Job
from drover.core.batch.worker import tried_job
from drover.core.camera_pass import follow_clip
from drover.core.edits.edit import Edit, Place, write_edits
from drover.core.edits.making import drop_edit, said_edit
from drover.core.examples import example
from drover.core.features.models import mapped_corners
from drover.core.footage.reader import ClipReader
from drover.core.formats.box_rows import read_tracks
from drover.core.project.file import ProjectFile, read_project
from drover.core.recipe import CameraSettings, read_recipe
from moving import moving_clip, swaying

SHORT = example("gap-short")


def drover(capsys, monkeypatch, *arguments: object) -> tuple[int, str, str]:
    """Run a command in this process: exit code, standard output, standard error."""
    monkeypatch.setattr(sys, "argv", ["drover", *map(str, arguments)])
    with pytest.raises(SystemExit) as stop:
        cli.main()
    out, err = capsys.readouterr()
    return int(stop.value.code or 0), out, err


@pytest.fixture
def run(capsys, monkeypatch):
    return lambda *arguments: drover(capsys, monkeypatch, *arguments)


def test_run_with_truth_writes_everything_and_prints_the_count(run, tmp_path):
    code, out, err = run("run", SHORT.clip, "--out", tmp_path, "--recipe", SHORT.recipe, "--truth", SHORT.truth)
    assert (code, err) == (0, "")
    assert "IDF1" in out
    names = sorted(path.name for path in (tmp_path / "gap-short").iterdir())
    assert names == [
        "alarms.csv", "counts.csv", "crossings.csv", "detections.csv", "intervals.csv", "run.json", "score.json",
        "tracks.csv", "zones.csv",
    ]  # fmt: skip
    assert json.loads((tmp_path / "gap-short" / "score.json").read_text())["true_total"] == 7


def test_what_was_found_is_not_looked_for_again_unless_wanted(run, tmp_path):
    again, tables = ("run", SHORT.clip, "--recipe", SHORT.recipe), []
    run(*again, "--out", tmp_path / "a")
    for name, more, before in (("b", (), True), ("c", ("--anew",), False)):
        code, out, err = run(*again, "--out", tmp_path / name, *more)
        assert (code, err) == (0, "")
        assert ("kept from before" in out) is before
        folder = tmp_path / name / "gap-short"
        assert json.loads((folder / "run.json").read_text())["found_before"] is before
        tables.append([(folder / file).read_text() for file in ("detections.csv", "tracks.csv", "counts.csv")])
    assert tables[0] == tables[1]


def test_corrections_of_a_project_are_applied_on_the_command_line(run, tmp_path):
    run("run", SHORT.clip, "--out", tmp_path / "a", "--recipe", SHORT.recipe)
    with ClipReader(SHORT.clip) as reader:
        clip = reader.info
    tracks = replace(read_tracks(tmp_path / "a" / "gap-short" / "tracks.csv"), size=(clip.width, clip.height))
    rows = (tmp_path / "a" / "gap-short" / "crossings.csv").read_text().splitlines()
    who = int(rows[1].split(",")[1])
    nowhere = Edit(kind="drop", at=1.0, places=(Place(time=1.0, box=(0.0, 0.0, 0.01, 0.01)),) * 2)
    file = tmp_path / "corrections.jsonl"
    other = next(int(row.split(",")[1]) for row in rows[1:] if int(row.split(",")[1]) != who)
    frame = int(tracks.frame[tracks.path_of(other)[0]])
    named = said_edit(tracks, clip.times, other, frame, "name", 'Old "one", lame')
    file.write_text(write_edits((drop_edit(tracks, clip.times, who), nowhere, named)))
    code, _, err = run("run", SHORT.clip, "--out", tmp_path / "b", "--recipe", SHORT.recipe, "--corrections", file)
    assert code == 0
    assert "correction 2 (drop at 1.00 s) fits no more: nothing is at its place" in err
    left = (tmp_path / "b" / "gap-short" / "crossings.csv").read_text().splitlines()
    assert len(left) == len(rows) - 1
    assert (tmp_path / "b" / "gap-short" / "corrections.jsonl").read_text().strip() == file.read_text()
    with (tmp_path / "b" / "gap-short" / "names.csv").open(newline="") as table:
        assert list(csv.reader(table)) == [["identity", "name", "colour"], [str(other), 'Old "one", lame', ""]]
    run("run", SHORT.clip, "--out", tmp_path / "b", "--recipe", SHORT.recipe)
    assert not (tmp_path / "b" / "gap-short" / "names.csv").exists()
    for bad, said in (
        (tmp_path / "none.jsonl", "cannot be read"),
        (SHORT.clip, "is not text"),
        (SHORT.recipe, "is no"),
    ):
        code, _, err = run("run", SHORT.clip, "--out", tmp_path / "c", "--corrections", bad)
        assert code == 1
        assert said in err and err.count("\n") == 1


def test_the_score_command_agrees_with_the_run(run, tmp_path):
    run("run", SHORT.clip, "--out", tmp_path, "--recipe", SHORT.recipe, "--truth", SHORT.truth)
    written = json.loads((tmp_path / "gap-short" / "score.json").read_text())
    code, out, _ = run("score", "--truth", SHORT.truth, "--tracks", tmp_path / "gap-short" / "tracks.csv", "--json")
    again = json.loads(out)
    assert code == 0
    for key, value in again.items():
        assert written[key] == pytest.approx(value, abs=1e-3)


def test_linking_given_boxes_gives_the_tracks_of_the_full_run(run, tmp_path):
    run("run", SHORT.clip, "--out", tmp_path / "a", "--recipe", SHORT.recipe)
    boxes = tmp_path / "a" / "gap-short" / "detections.csv"
    code, _, _ = run("run", SHORT.clip, "--out", tmp_path / "b", "--recipe", SHORT.recipe, "--detections", boxes)
    assert code == 0
    counts = [(tmp_path / k / "gap-short" / "counts.csv").read_text() for k in "ab"]
    assert counts[0] == counts[1]


def test_boxes_with_bad_rows_are_taken_only_when_the_user_says_so(run, tmp_path):
    boxes = tmp_path / "boxes.csv"
    rows = [f"{k},-1,{100 + k},100,40,30,0.9" for k in range(1, 60)]
    boxes.write_text("\n".join([*rows, "60,-1,x,100,40,30", "900,-1,1,1,5,5"]) + "\n")
    code, _, err = run("run", SHORT.clip, "--out", tmp_path / "out", "--detections", boxes)
    assert code == 1
    assert "2 rows cannot be used, the first: line 60" in err
    code, out, err = run("run", SHORT.clip, "--out", tmp_path / "out", "--detections", boxes, "--keep-good-rows")
    assert code == 0
    assert "1 identities" in out
    assert err.count("left out") == 2


def make_bad(folder: Path, kind: str) -> list[object]:
    bad = folder / "bad.mp4"
    recipe = folder / "bad.toml"
    recipe.write_text("[track.match]\ngate = -1\n" if kind == "range" else "[track.match]\ngaet = 1\n")
    if kind == "text":
        bad.write_text("words " * 400)
    elif kind == "empty":
        bad.write_bytes(b"")
    elif kind in ("range", "key"):
        return [SHORT.clip, "--recipe", recipe]
    return [bad]


@pytest.mark.parametrize(
    ("kind", "message"),
    [
        ("missing", "there is no such file"),
        ("text", "is not a video"),
        ("empty", "the file is empty"),
        ("range", r"must be in 0.5..20 σ; got -1.0"),
        ("key", "unknown key 'gaet'"),
    ],
)
def test_bad_input_gives_one_line_and_exit_code_1(run, tmp_path, kind, message):
    code, out, err = run("run", *make_bad(tmp_path, kind), "--out", tmp_path / "out")
    assert code == 1
    assert out == ""
    assert err.count("\n") == 1
    assert err.startswith("drover: ")
    assert message.split("..")[0] in err


def test_a_clip_cut_off_is_used_as_far_as_it_goes(run, tmp_path):
    cut = tmp_path / "cut.mp4"
    cut.write_bytes(SHORT.clip.read_bytes()[:180_000])
    code, _, err = run("run", cut, "--out", tmp_path / "out")
    assert code == 0
    assert "the file is cut off: " in err
    assert "of 250 frames can be used" in err
    assert "Traceback" not in err
    facts = json.loads((tmp_path / "out" / "cut" / "run.json").read_text())
    assert 0 < facts["frames"] < 250


def test_one_bad_clip_of_several_spoils_only_itself(run, tmp_path):
    code, _, err = run("run", tmp_path / "none.mp4", SHORT.clip, SHORT.clip, "--out", tmp_path / "out")
    assert code == 1
    assert err.count("\n") == 1
    assert sorted(path.name for path in (tmp_path / "out").iterdir()) == ["gap-short", "gap-short-2"]


@pytest.mark.parametrize(
    "arguments",
    [("run",), ("runn",), ("run", "a.mp4"), ("score", "--truth"), ("run", "a", "b", "--out", "o", "--truth", "t")],
)
def test_wrong_usage_gives_one_line_and_exit_code_2(run, arguments):
    code, _, err = run(*arguments)
    assert code == 2
    assert err.count("\n") == 1
    assert "see 'drover --help'" in err


def test_without_a_display_the_window_says_what_else_can_be_done(run, monkeypatch):
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    code, _, err = run("demo")
    assert code == 1
    assert "drover demo --headless" in err


def test_simulate_writes_a_scene_and_refuses_an_unknown_one(run, tmp_path, monkeypatch):
    monkeypatch.setattr("drover.core.simulate.herd.TRIES", 8)  # whether they run into each other is not asked here
    code, out, _ = run("simulate", "gap-short", "--out", tmp_path / "s", "--seconds", "2", "--seed", "3")
    assert code == 0
    assert "50 frames" in out
    assert (tmp_path / "s" / "truth.csv").exists()
    assert run("simulate", "moor", "--out", tmp_path / "s")[0] == 1


def test_boxes_are_linked_without_any_footage(run, tmp_path):
    rows = [f"{k + 1},-1,{100 + 3 * k},100,40,30,0.9" for k in range(40)]
    path = tmp_path / "boxes.csv"
    path.write_text("\n".join(rows) + "\n")
    code, out, err = run(
        "run", "--detections", path, "--frame-size", "640x480", "--rate", 25, "--out", tmp_path / "out"
    )
    assert (code, err) == (0, "")
    assert "40 frames, 1 identities" in out
    tracks = (tmp_path / "out" / "boxes" / "tracks.csv").read_text().splitlines()
    assert len([line for line in tracks if line[0].isdigit()]) == 40
    code, _, err = run("run", "--detections", path, "--out", tmp_path / "out")
    assert code == 2 and "--frame-size and --rate" in err
    code, _, err = run("run", "--detections", path, "--frame-size", "wide", "--rate", 25, "--out", tmp_path / "out")
    assert code == 2 and "640x480" not in err and "1280x720" in err


def test_the_proof_picture_shows_lines_for_someone_else_to_check(run, tmp_path):
    out = tmp_path / "pictures" / "proof.png"
    code, told, err = run("proof", SHORT.clip, "--recipe", SHORT.recipe, "--out", out, "--frame", 40)
    assert (code, err) == (0, "") and "1 lines and 0 zones on frame 40" in told
    assert out.read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"
    code, _, err = run("proof", SHORT.clip, "--recipe", SHORT.recipe, "--out", out, "--frame", 900)
    assert code == 1 and "there is no frame 900" in err
    empty = tmp_path / "empty.toml"
    empty.write_text("")
    code, _, err = run("proof", SHORT.clip, "--recipe", empty, "--out", out)
    assert code == 1 and "has no line and no zone" in err


def test_zones_and_alarms_are_told_and_written(run, tmp_path):
    recipe = tmp_path / "yard.toml"
    yard = 'name = "Yard"\npoints = [[0, 0], [0.48, 0], [0.48, 1], [0, 1]]\nmost_inside = 1\n'
    recipe.write_text(SHORT.recipe.read_text() + f"\n[[count.zone]]\n{yard}")
    code, told, err = run("run", SHORT.clip, "--out", tmp_path, "--recipe", recipe, "--interval", 5)
    assert (code, err) == (0, "")
    assert "Yard: " in told and "in Yard, allowed 1" in told
    folder = tmp_path / "gap-short"
    alarms = (folder / "alarms.csv").read_text().splitlines()
    assert alarms[1].startswith("too many inside,Yard,0,")
    starts = [row.split(",")[0] for row in (folder / "intervals.csv").read_text().splitlines()[1:]]
    assert starts == ["0", "5"]
    stays = (folder / "zones.csv").read_text().splitlines()[1:]
    assert stays and all(row.startswith("Yard,") for row in stays)


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (("run", "--detections", "{out}/b.csv", "--frame-size", "12²x9", "--rate", "25", "--out", "{out}"), "width x"),
        (("run", SHORT.clip, "--out", "/proc/none"), "/proc/none: cannot be written"),
        (("simulate", "gap-short", "--seconds", "2", "--out", "/proc/none"), "/proc/none: cannot be written"),
        (("proof", SHORT.clip, "--recipe", SHORT.recipe, "--out", "/proc/none/a.png"), "/proc/none: cannot be written"),
    ],
)  # fmt: skip
def test_bad_places_are_said_before_the_work(run, tmp_path, arguments, message):
    code, _, err = run(*(str(a).replace("{out}", str(tmp_path)) for a in arguments))
    assert code in (1, 2)
    assert message in err and err.count("\n") == 1


def test_a_display_that_is_not_there_is_said(run, monkeypatch):
    monkeypatch.delenv("QT_QPA_PLATFORM", raising=False)
    monkeypatch.delenv("WAYLAND_DISPLAY", raising=False)
    monkeypatch.setenv("DISPLAY", ":4711")
    code, _, err = run("open")
    assert code == 1 and "there is no display" in err


def test_a_second_run_leaves_nothing_of_the_first(run, tmp_path):
    run("run", SHORT.clip, "--out", tmp_path, "--recipe", SHORT.recipe, "--truth", SHORT.truth)
    folder = tmp_path / "gap-short"
    assert (folder / "score.json").exists()
    run("run", SHORT.clip, "--out", tmp_path, "--recipe", SHORT.recipe)
    assert not (folder / "score.json").exists()
    assert not [path for path in folder.iterdir() if path.name.startswith(".")]


def test_names_in_tables_are_text_and_not_markup(run, tmp_path):
    recipe = tmp_path / "recipe.toml"
    recipe.write_text(SHORT.recipe.read_text().replace('"Gap"', '"[red]Gap[/red]"'))
    _, out, _ = run("run", SHORT.clip, "--out", tmp_path, "--recipe", recipe)
    assert "[red]Gap[/red]" in out
    assert "Counts of animals" in out


def test_export_draws_what_was_found_and_says_what_is_wrong_before_the_work(run, tmp_path):
    video = tmp_path / "short.mp4"
    given = (SHORT.clip, "--recipe", SHORT.recipe, "--video", video)
    code, out, err = run("export", *given, "--from", 2, "--to", 3, "--speed", 5, "--show", "outlines,numbers")
    assert (code, err) == (0, "") and f"{video}: 6 pictures" in out
    with ClipReader(video) as reader, ClipReader(SHORT.clip) as plain:
        assert reader.info.frame_count == 6 and reader.info.width == plain.info.width
        off = [float(np.abs(reader.frame(k).rgb.astype(int) - plain.frame(50 + 5 * k).rgb).mean()) for k in (0, 5)]
        other = float(np.abs(reader.frame(0).rgb.astype(int) - plain.frame(200).rgb).mean())
    assert max(off) < 8 and max(off) < other, "the pictures asked for, with something drawn over them"
    for wrong, words in (
        (("--video", tmp_path / "a.gif"), "ends in .mp4 or .webm"),
        (("--show", "legs"), "no 'legs'; known are outlines"),
        (("--from", 90), "no picture from 90 s"),
        (("--video", "/proc/a.mp4"), "/proc"),
    ):
        code, _, err = run("export", *given, *wrong)
        assert code == 1 and words in err and err.count("\n") == 1, err


def test_a_project_of_a_batch_is_drawn_without_working_through_its_clip_again(run, tmp_path, monkeypatch):
    clip = tmp_path / "gate.mp4"
    clip.write_bytes(SHORT.clip.read_bytes())
    assert not tried_job(Job(clip, tmp_path / "out" / "gate"), read_recipe(SHORT.recipe), projects=True)
    project, video, again = tmp_path / "out" / "gate" / "gate.drover", tmp_path / "a.mp4", tmp_path / "b.mp4"
    span = ("--from", 4, "--to", 4.4)
    run("export", clip, "--recipe", SHORT.recipe, "--video", again, *span)
    monkeypatch.setattr("drover.cli.video.run_clip", None)
    code, out, err = run("export", project, "--video", video, *span)
    assert (code, err) == (0, "")
    assert f"{video}: 11 pictures" in out
    assert video.read_bytes() == again.read_bytes()
    document, _ = read_project(project)
    tracks, times = document.latest.tracks, document.clip.times
    first = int(np.searchsorted(times, 4.0))
    who = int(tracks.identity[tracks.rows_of(first).start])
    named = replace(document, edits=(said_edit(tracks, times, who, first, "name", "Old one"),))
    ProjectFile(project, document).save(named)
    assert run("export", project, "--video", video, *span)[0] == 0
    assert video.read_bytes() != again.read_bytes(), "the name stands over it"
    code, _, err = run("export", project, "--video", video, "--recipe", SHORT.recipe)
    assert code == 1
    assert "holds its own recipe" in err
    clip.write_bytes(SHORT.clip.read_bytes() + b"more")
    code, _, err = run("export", project, "--video", video)
    assert code == 1
    assert "is not the clip any more" in err


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["live", "tcp://127.0.0.1:9", "--recipe", SHORT.recipe], "is not there; check the address"),
        (["live", "tcp://127.0.0.1:9"], "no line and no zone"),
        (["live", "gate.mp4", "--recipe", SHORT.recipe], "no file; check the name"),
        (["batch", SHORT.clip.parent / "none"], "there is no such file"),
    ],
)
def test_cameras_and_batches_that_cannot_begin_say_why_in_one_line(run, tmp_path, arguments, message):
    code, _, err = run(*arguments, "--out", tmp_path / "out")
    assert code == 1
    assert message in err
    assert err.count("\n") == 1


def test_a_batch_s_preview_writes_nothing_and_says_what_was_found(run, tmp_path):
    code, out, err = run("batch", SHORT.clip, "--out", tmp_path / "out", "--recipe", SHORT.recipe, "--preview", 1)
    assert (code, err) == (0, "")
    assert "identities" in out
    assert not (tmp_path / "out").exists()


def test_sending_again_ends_with_what_is_whole_and_says_what_still_waits(run, tmp_path):
    receiver = {"name": "Office", "url": "http://127.0.0.1:9/in", "what": ["totals"]}
    (tmp_path / "live.json").write_text(json.dumps({"recipe": {"send": {"receiver": [receiver]}}}))
    (tmp_path / "events.jsonl").write_text('{"id": "1", "kind": "crossing"}\n{"id": "2", "ki')  # torn by a kill
    code, out, err = run("send", tmp_path)
    assert (code, err) == (1, "")
    assert "Office: 0 events taken, others wait" in out
    (tmp_path / "events.jsonl").write_text('{"id": "1", "kind": "crossing"}\n')  # nothing that it asked for
    (tmp_path / ".sent-Office").unlink()
    code, out, _ = run("send", tmp_path)
    assert (code, out) == (0, "Office: 0 events taken\n")
    code, _, err = run("send", tmp_path / "none")
    assert code == 1
    assert "holds no live run" in err
    assert err.count("\n") == 1


def test_the_desktop_gets_an_entry_that_starts_this_very_program_and_loses_it_again(run, tmp_path, monkeypatch, qapp):
    data = tmp_path / "my data"
    monkeypatch.setenv("XDG_DATA_HOME", str(data))
    code, out, err = run("install-desktop")
    assert (code, err) == (0, "")
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str  # type: ignore[assignment]
    entry.read(data / "applications" / "drover.desktop")
    program = shlex.split(entry["Desktop Entry"]["Exec"])[0]
    answer = subprocess.run([program, "--version"], capture_output=True, text=True, check=False)
    assert answer.stdout.startswith("drover ")
    kinds = ElementTree.parse(data / "mime" / "packages" / "drover.xml").getroot()
    kind = kinds[0].attrib["type"]
    assert kind in entry["Desktop Entry"]["MimeType"]
    assert kinds.find(".//{*}glob").attrib["pattern"] == "*.drover"  # type: ignore[union-attr]
    icon = QIcon(str(data / "icons" / "hicolor" / "scalable" / "apps" / f"{entry['Desktop Entry']['Icon']}.svg"))
    assert icon.pixmap(64).toImage().pixelColor(16, 50).name() == "#2f6b55"
    code, out, _ = run("install-desktop", "--remove")
    assert code == 0
    assert out.count("removed") == 3
    assert not list((data / "applications").glob("drover*"))
    assert "nothing to remove" in run("install-desktop", "--remove")[1]
    monkeypatch.setenv("XDG_DATA_HOME", "/proc/none")
    code, _, err = run("install-desktop")
    assert code == 1
    assert err.count("\n") == 1


def test_a_swaying_clip_is_written_steadied_and_what_cannot_be_is_said_in_one_line(run, tmp_path):
    clip, out = tmp_path / "sway.mp4", tmp_path / "made" / "steady.mp4"
    moving_clip(clip, swaying, frames=50)
    code, told, err = run("steady", clip, "--out", out)
    assert (code, err) == (0, "")
    assert "50 pictures" in told and "sways" in told
    left = []
    for path in (clip, out):
        with ClipReader(path) as reader:
            info = reader.info
            assert info.frame_count == 50
        motion = follow_clip(info, CameraSettings(mode="steady"))
        corners = np.array([mapped_corners(one, (info.width, info.height)) for one in motion.to_scene])
        left.append(float(np.hypot(*np.moveaxis(corners - corners[0], -1, 0)).max()))
    assert left[0] > 5.0 and left[1] < 1.0  # px that a corner goes, before and after
    for wrong, said in (
        (("--out", out, "--way", "sideways"), "--way sideways: choose one of"),
        (("--out", tmp_path / "x.txt"), "give the video a name that ends in"),
        (("--out", out, "--frame", "900"), "900"),
    ):
        code, _, err = run("steady", clip, *wrong)
        assert code != 0 and said in err and err.count("\n") == 1
    assert out.exists()
