"""The files a run leaves behind: tables and two JSON files per clip."""

from __future__ import annotations

import json
import platform
from pathlib import Path

import av
import numba
import numpy as np
import scipy

from drover import __version__
from drover.core.count.tallies import tally_rows
from drover.core.errors import DroverError
from drover.core.formats.box_rows import write_detections, write_tracks
from drover.core.formats.crossing_rows import write_counts, write_crossings
from drover.core.pipeline import ClipRun
from drover.core.recipe import Recipe

__all__ = ["read_json", "run_facts", "versions", "write_run"]


def versions() -> dict[str, str]:
    """Versions of everything that has a say in a result."""
    return {
        "drover": __version__,
        "python": platform.python_version(),
        "numpy": np.__version__,
        "scipy": scipy.__version__,
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
        "frames": run.clip.frame_count,
        "frames_read": run.detect.frames_read,
        "seconds": run.seconds,
        "notes": [*run.clip.notes, *run.notes],
    }


def write_run(run: ClipRun, folder: Path) -> list[Path]:
    """Write all files of one run into a folder and name them.

    Raises
    ------
    DroverError
        When the folder cannot be written.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        names = ["detections.csv", "tracks.csv", "crossings.csv", "counts.csv", "run.json"]
        write_detections(folder / names[0], run.detect.detections)
        write_tracks(folder / names[1], run.tracks)
        write_crossings(folder / names[2], run.crossings)
        write_counts(folder / names[3], tally_rows(run.crossings))
        _write_json(folder / names[4], run_facts(run))
        if run.score is not None:
            names.append("score.json")
            _write_json(folder / names[5], run.score.as_dict())
    except OSError as error:
        raise DroverError(f"{folder}: cannot be written ({error.strerror}); choose another folder") from error
    return [folder / name for name in names]


def _write_json(path: Path, value: object) -> None:
    path.write_text(json.dumps(value, indent=2) + "\n", encoding="utf-8")


def read_json(path: Path) -> object:
    """A JSON file's value."""
    return json.loads(path.read_text(encoding="utf-8"))
