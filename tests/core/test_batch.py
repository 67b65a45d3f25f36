"""Batches: what is planned, worked through by other processes, stopped, killed, gone on with, and summed up."""

from __future__ import annotations

import csv
import multiprocessing
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from drawn import COUNTED, LINE, draw_clip, tables
from drover.core.batch.ledger import BatchState
from drover.core.batch.outcome import Outcome, finished_outcome
from drover.core.batch.plan import Job, plan_jobs
from drover.core.batch.run import run_batch
from drover.core.batch.summary import write_summary
from drover.core.document import Document
from drover.core.errors import Cancelled, FootageError
from drover.core.footage.opened import open_footage
from drover.core.footage.reader import ClipReader
from drover.core.graph import Subject, keys_of
from drover.core.project.file import ProjectFile, read_project
from drover.core.project.traces import was_worked_in
from drover.core.recipe import CountSettings, Recipe


@pytest.fixture(scope="module")
def clips(tmp_path_factory) -> Path:
    folder = tmp_path_factory.mktemp("clips")
    draw_clip(folder / "clip 2.mp4")
    draw_clip(folder / "clip 10.mp4", back=True)
    draw_clip(folder / "night" / "clip 2.mp4")
    (folder / "night" / "broken.mp4").write_bytes(b"no video at all" * 50)
    return folder


@pytest.fixture(scope="module")
def worked(clips, tmp_path_factory) -> tuple[Path, list[Job], BatchState, list[BatchState]]:
    """The clips worked through by two processes: where, what, how it ended, and all that was heard on the way."""
    out, heard = tmp_path_factory.mktemp("out"), list[BatchState]()
    jobs = plan_jobs([clips], out)
    ended = run_batch(jobs, COUNTED, workers=2, on_change=heard.append)
    assert not multiprocessing.active_children()
    return out, jobs, ended, heard


def test_a_plan_counts_as_people_do_and_keeps_out_of_hidden_places_and_its_own_results(tmp_path):
    for name in ("b10.mp4", "b2.MP4", "b2.avi", ".hidden.mp4", "notes.txt", "x/a.mkv", "out/b2/field.mp4"):
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).touch()
    (tmp_path / "empty").mkdir()
    out = tmp_path / "out"
    jobs = plan_jobs([tmp_path], out)
    found = [(str(job.clip.relative_to(tmp_path)), str(job.folder.relative_to(out))) for job in jobs]
    assert found == [("b2.avi", "b2"), ("b2.MP4", "b2-2"), ("b10.mp4", "b10"), ("x/a.mkv", "x/a")]
    with pytest.raises(FootageError, match="holds no video"):
        plan_jobs([tmp_path / "empty"], out)


def test_a_batch_does_all_it_can_and_says_why_it_could_not_do_the_rest(clips, worked, tmp_path):
    out, _, ended, heard = worked
    by_name = {str(one.job.folder.relative_to(out)): one for one in ended.outcomes}
    assert [one.state for one in ended.outcomes].count("done") == 3
    assert by_name["clip 2"].counts == by_name["night/clip 2"].counts == {"Middle": (1, 0)}
    assert by_name["clip 10"].counts == {"Middle": (0, 1)}
    broken = by_name["night/broken"]
    assert broken.state == "failed"
    assert "broken.mp4: is not a video" in broken.reason
    assert max(state.count("working") for state in heard) == 2

    write_summary((*ended.outcomes, Outcome(Job(Path("<b>&.mp4"), tmp_path / "<b>&"), "done")), tmp_path)
    with (tmp_path / "batch.csv").open() as file:
        rows = {row["clip"]: row for row in csv.DictReader(file)}
    assert rows[str(clips / "clip 10.mp4")]["Middle back"] == "1"
    assert rows[str(broken.job.clip)]["Middle back"] == ""
    assert rows[str(broken.job.clip)]["reason"] == broken.reason
    page = (tmp_path / "batch.html").read_text()
    assert "<b>&" not in page
    assert "&lt;b&gt;&amp;" in page
    assert "4 done, 1 failed" in page

    # Each clip has a project that is up to date in the window; one that somebody worked in is not written over.
    shutil.copytree(by_name["clip 2"].job.folder, tmp_path / "clip 2")
    job = Job(by_name["clip 2"].job.clip, tmp_path / "clip 2")
    document, _ = read_project(job.project)
    with ClipReader(job.clip) as reader:
        keys = keys_of(Subject(reader.info), COUNTED)
    assert document.latest is not None
    assert document.latest.keys == (keys["detect"], keys["edits"], keys["count"], COUNTED)
    assert len(document.latest.crossings) == 1
    assert not was_worked_in(job.project)
    moved = document.with_recipe(Recipe())
    ProjectFile(job.project, document).save(moved, edits=[("line away", document, moved)])
    assert was_worked_in(job.project)
    other = COUNTED.model_copy(update={"count": CountSettings(line=(LINE, LINE.model_copy(update={"name": "Same"})))})
    run_batch([job], other, workers=1)
    assert finished_outcome(job, other).counts == {"Middle": (1, 0), "Same": (1, 0)}  # type: ignore[union-attr]
    kept: Document = read_project(job.project)[0]
    assert kept.recipe == Recipe()


def test_a_dead_process_costs_nothing_but_time(worked, tmp_path):
    _, jobs, _, _ = worked
    alone, killed = Job(jobs[0].clip, tmp_path / "alone"), list[int]()

    def kill_once(state: BatchState) -> None:
        if not killed and state.count("working") == 1:
            process = multiprocessing.active_children()[0]
            os.kill(process.pid or 0, signal.SIGKILL)
            killed.append(process.pid or 0)

    ended = run_batch([alone], COUNTED, workers=1, projects=False, on_change=kill_once)
    assert killed
    assert ended.count("done") == 1
    assert tables(alone.folder) == tables(jobs[0].folder)


def test_what_is_not_there_is_said_in_its_own_words_and_asks_for_no_process(tmp_path):
    (tmp_path / "shots").mkdir()
    gone, empty = Job(tmp_path / "gone.mp4", tmp_path / "a"), Job(tmp_path / "shots", tmp_path / "b")
    heard = list[BatchState]()
    ended = run_batch([gone, empty], COUNTED, workers=2, on_change=heard.append)
    assert not any(state.count("working") for state in heard)
    for outcome in ended.outcomes:
        with pytest.raises(FootageError) as said:
            open_footage(outcome.job.clip)
        assert (outcome.state, outcome.reason) == ("failed", str(said.value))


def test_what_is_finished_is_not_done_again(worked, tmp_path):
    out, jobs, _, _ = worked
    shutil.copytree(out, tmp_path / "out")
    jobs = [Job(job.clip, tmp_path / "out" / job.folder.relative_to(out)) for job in jobs]
    jobs = [job for job in jobs if "broken" not in job.clip.name]
    before = {job: (tables(job.folder), (job.folder / "run.json").stat().st_mtime_ns) for job in jobs}

    (jobs[1].folder / "run.json").unlink()
    (jobs[1].folder / "tracks.csv").write_text("cut o")
    (jobs[1].folder / ".draft-left").mkdir()
    again = run_batch(jobs, COUNTED, workers=1, projects=False)
    assert [one.kept for one in again.outcomes] == [True, False, True]
    assert {job: tables(job.folder) for job in jobs} == {job: files for job, (files, _) in before.items()}
    assert not (jobs[1].folder / ".draft-left").exists()
    for place in (0, 2):
        assert (jobs[place].folder / "run.json").stat().st_mtime_ns == before[jobs[place]][1]
    # Another recipe, another clip or other files in its place: nothing of it counts as done.
    assert finished_outcome(jobs[0], Recipe()) is None
    assert finished_outcome(Job(jobs[1].clip, jobs[0].folder), COUNTED) is None
    (jobs[0].folder / "counts.csv").write_text("line,class\nNowhere,object\n")
    assert finished_outcome(jobs[0], COUNTED) is None
    with pytest.raises(Cancelled):
        run_batch(jobs[:1], COUNTED, workers=1, cancelled=lambda: True)
    assert not multiprocessing.active_children()


def test_a_batch_killed_half_way_leaves_no_process_and_goes_on(clips, tmp_path):
    recipe, out = tmp_path / "recipe.toml", tmp_path / "out"
    recipe.write_text('[[count.line]]\nname = "Middle"\npoints = [[0.5, 0.95], [0.5, 0.05]]\n')
    program = str(Path(sys.executable).with_name("drover"))
    command = [program, "batch", str(clips), "--out", str(out), "--recipe", str(recipe)]
    first = subprocess.Popen([*command, "--workers", "1"], stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    done = out / "clip 2" / "run.json"
    deadline = time.monotonic() + 120
    while not done.exists() and first.poll() is None and time.monotonic() < deadline:
        time.sleep(0.02)
    workers = _children_of(first.pid)
    first.kill()
    first.communicate()
    written = done.stat().st_mtime_ns
    while any(Path(f"/proc/{pid}").exists() for pid in workers) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not any(Path(f"/proc/{pid}").exists() for pid in workers)
    second = subprocess.run([*command, "--workers", "1"], capture_output=True, text=True, check=False)
    assert second.returncode == 1  # one clip is no video
    assert "3 clips done, 1 failed" in second.stdout
    assert "clip 2.mp4: 100 frames, 1 identities, Middle 1 forward 0 back (done before)" in second.stdout
    assert second.stderr.count("\n") == 1
    assert done.stat().st_mtime_ns == written


def _children_of(pid: int) -> list[int]:
    found = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    return [int(child) for child in found]
