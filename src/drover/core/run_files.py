"""The files a run leaves behind: tables and two JSON files per clip."""

from __future__ import annotations

import json
import platform
import tempfile
from collections.abc import Iterator
from importlib.metadata import version
from pathlib import Path

import av
import numba
import numpy as np

from drover import __version__
from drover.core.camera.motion import state_words
from drover.core.count.intervals import interval_rows
from drover.core.count.rows import alarm_rows, usual_interval, visit_rows, way_rows
from drover.core.count.tallies import tally_rows
from drover.core.document import KeptRun
from drover.core.edits.apply import apply_edits
from drover.core.edits.edit import Edit, write_edits
from drover.core.errors import DroverError
from drover.core.follow.table import write_followed
from drover.core.footage_types import ClipInfo
from drover.core.formats.box_rows import write_detections, write_tracks
from drover.core.formats.count_tables import ALARM_COLUMNS, INTERVAL_COLUMNS, WAY_COLUMNS, ZONE_COLUMNS, write_table
from drover.core.formats.crossing_rows import write_counts, write_crossings
from drover.core.formats.motion_rows import write_motion
from drover.core.recipe import Recipe
from drover.core.run import ClipRun

__all__ = ["ready_folder", "run_facts", "run_of_kept", "versions", "write_run"]

FILES = (
    "detections.csv", "tracks.csv", "crossings.csv", "counts.csv", "zones.csv", "intervals.csv", "alarms.csv",
    "ways.csv", "camera.csv", "followed.csv", "corrections.jsonl", "names.csv", "score.json", "run.json",
)  # fmt: skip
NAME_COLUMNS = ("identity", "name", "colour")


def run_of_kept(clip: ClipInfo, kept: KeptRun, edits: tuple[Edit, ...] = ()) -> ClipRun:
    """A run that a project holds, as one to be written, with the corrections that are in it."""
    tables = kept.recipe, kept.detect, kept.tracks, kept.crossings
    # All other corrections are in its tracks already.
    said = apply_edits(kept.tracks, clip.times, tuple(edit for edit in edits if edit.kind in ("name", "colour")))
    return ClipRun(
        clip, *tables, None, counted=kept.counted, edits=edits, names=said.names, colours=said.colours
    )  # fmt: skip


def versions() -> dict[str, str]:
    """Versions of everything that has a say in a result."""
    return {
        "drover": __version__,
        "python": platform.python_version(),
        "numpy": np.__version__,
        "scipy": version("scipy"),
        "numba": numba.__version__,
        "av": av.__version__,
    }


def run_facts(run: ClipRun) -> dict[str, object]:
    """What ``run.json`` holds: versions, recipe, frames and seconds per stage."""
    recipe: Recipe = run.recipe
    return {
        "versions": versions(),
        "clip": {
            "name": Path(run.clip.path).name,
            "width": run.clip.width,
            "height": run.clip.height,
            "rate": run.clip.rate,
            "fingerprint": run.clip.fingerprint,
        },
        "recipe": recipe.model_dump(mode="json"),
        "detect_as_taken": None if run.detect.taken is None else run.detect.taken.model_dump(mode="json"),
        "track_as_taken": None if run.track_taken is None else run.track_taken.model_dump(mode="json"),
        "survey": list(run.detect.said),
        "frames": run.clip.frame_count,
        "duration": round(run.clip.duration, 3),
        "identities": len(run.tracks.paths.identity),
        "camera": None if run.detect.motion is None else run.detect.motion.facts,
        "followed": [thing.facts for thing in run.things],
        "frames_read": run.detect.frames_read,
        "found_before": run.detect.recalled,
        "seconds": run.seconds,
        "notes": [*run.clip.notes, *run.notes],
    }


def ready_folder(folder: Path) -> None:
    """See that results can be written there, before any work is done.

    Raises
    ------
    DroverError
        When they cannot.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=folder):
            pass
    except OSError as error:
        raise _cannot(folder, error) from error


def write_run(run: ClipRun, folder: Path, *, interval: float | None = None) -> list[Path]:
    """Write all files of one run into a folder and name them.

    They are written beside and moved in whole, and what an earlier run left there goes: never is one run's score
    beside another's tracks. ``interval`` s is the length of the intervals in ``intervals.csv``; if not given it goes
    by the clip's length.

    Raises
    ------
    DroverError
        When the folder cannot be written.
    """
    ready_folder(folder)
    try:
        with tempfile.TemporaryDirectory(prefix=".draft-", dir=folder) as draft:
            names = _write_all(run, Path(draft), interval)
            for name in FILES:
                if name not in names:
                    (folder / name).unlink(missing_ok=True)
            for name in names:
                (Path(draft) / name).replace(folder / name)
    except OSError as error:
        raise _cannot(folder, error) from error
    return [folder / name for name in names]


def _cannot(folder: Path, error: OSError) -> DroverError:
    return DroverError(f"{folder}: cannot be written ({error.strerror}); choose another folder or free some space")


def _write_all(run: ClipRun, folder: Path, interval: float | None) -> list[str]:
    names = ["detections.csv", "tracks.csv", "crossings.csv", "counts.csv"]
    names += _write_counted(run, folder, interval)
    names += _write_seen(run, folder)
    write_detections(folder / names[0], run.detect.detections)
    write_tracks(folder / names[1], run.tracks)
    write_crossings(folder / names[2], run.crossings)
    write_counts(folder / names[3], tally_rows(run.crossings))
    if run.score is not None:
        names.append("score.json")
        _write_json(folder / names[-1], run.score.as_dict())
    _write_json(folder / "run.json", run_facts(run))
    return [*names, "run.json"]


def _write_seen(run: ClipRun, folder: Path) -> list[str]:
    """The camera's motion where it moves, outlines of what was followed by its look, and what was corrected or named by
    hand.
    """
    names, motion = [], run.detect.motion
    if motion is not None:
        write_motion(folder / "camera.csv", motion.to_scene, state_words(motion.state))
        names.append("camera.csv")
    if run.things:
        write_followed(folder / "followed.csv", run.things)
        names.append("followed.csv")
    if run.edits:
        (folder / "corrections.jsonl").write_text(write_edits(run.edits) + "\n", encoding="utf-8")
        names.append("corrections.jsonl")
    if run.names or run.colours:
        write_table(folder / "names.csv", NAME_COLUMNS, _name_rows(run))
        names.append("names.csv")
    return names


def _name_rows(run: ClipRun) -> Iterator[dict[str, int | str]]:
    for who in sorted({*run.names, *run.colours}):
        yield {"identity": who, "name": run.names.get(who, ""), "colour": run.colours.get(who, "")}


def _write_counted(run: ClipRun, folder: Path, interval: float | None) -> list[str]:
    """The tables of zones, intervals and alarms, and of ways over the ground where it is measured."""
    counted, duration = run.counted, run.clip.duration
    if counted is None:
        return []
    length = usual_interval(duration) if interval is None else interval
    write_table(folder / "zones.csv", ZONE_COLUMNS, visit_rows(counted.visits))
    write_table(folder / "intervals.csv", INTERVAL_COLUMNS, interval_rows(run.crossings, length, duration))
    write_table(folder / "alarms.csv", ALARM_COLUMNS, alarm_rows(counted.alarms))
    if counted.ground is None:
        return ["zones.csv", "intervals.csv", "alarms.csv"]
    write_table(folder / "ways.csv", WAY_COLUMNS, way_rows(run.tracks, run.clip.times, counted.ground))
    return ["zones.csv", "intervals.csv", "alarms.csv", "ways.csv"]


def _write_json(path: Path, value: object) -> None:
    path.write_text(json.dumps(value, indent=2) + "\n", encoding="utf-8")
