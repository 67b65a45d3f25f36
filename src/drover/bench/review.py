"""A review by somebody who knows the truth, through the real window: ``python -m drover.bench.review [SCENE...]``.

In the order that the program offers, each moment is answered as a careful person would; who has no box gets one drawn.
Printed are the scores before and after, and the corrections that it took.
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from drover.bench.careful import Careful, missing_stretches
from drover.bench.scenes import scene_folder
from drover.core.doubt.true_errors import true_errors
from drover.core.formats.box_rows import read_truth
from drover.core.project.file import read_project
from drover.core.recipe import with_value
from drover.core.score.spans import score_result

__all__ = ["main"]

HEAD = """# A review, by somebody who knows the truth

Made by `.venv/bin/python -m drover.bench.review`: the scenes are opened in the real window, which is told no truth. In
the order that the program offers each moment is answered by a key as a careful person would; where a body has no box
for eight frames and more within two seconds of a moment, one is drawn on the field. True errors are those of identity
and such stretches.

"""
SCENES = ("muster", "crossing")
OTHER_GATE = 5.0  # σ, for linking again


def review_scene(name: str, folder: Path) -> dict[str, float]:
    """Figures before and after a review of one scene."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from drover.app.theme import apply_theme
    from drover.app.window import MainWindow

    app = QApplication.instance() or QApplication([])
    apply_theme(app)  # type: ignore[arg-type]

    def wait(ready: Callable[[], bool], seconds: float = 300.0) -> None:
        end = time.monotonic() + seconds
        while not ready():
            if time.monotonic() > end:
                raise SystemExit("review: the window did not get ready in time")
            app.processEvents()
            time.sleep(0.002)

    window = MainWindow()
    window.show()
    clip = next(folder.glob("*.mp4"))
    window.session.open_clip(clip, recipe=folder / "recipe.toml")
    wait(lambda: window.session.tracks is not None and window.session.engine.fresh("edits"))
    truth = read_truth(folder / "truth.csv", frame_count=window.session.clip.frame_count)  # type: ignore[union-attr]
    person = Careful(window, truth, wait)
    settings = window.session.recipe.score
    before = score_result(window.session.tracks, truth, settings)  # type: ignore[arg-type]
    times = window.session.clip.times  # type: ignore[union-attr]
    errors = len(true_errors(window.session.tracks, truth, times))  # type: ignore[arg-type]
    errors += len(missing_stretches(window.session.tracks, truth))  # type: ignore[arg-type]
    person.review()
    after = score_result(window.session.tracks, truth, settings)  # type: ignore[arg-type]
    made = window.session.edits
    edits = sum(edit.kind not in ("right", "unsure") for edit in made)
    print(f"{name}: {', '.join(person.answers)}", flush=True)
    window.session.edit(with_value(window.session.recipe, "track.match.gate", OTHER_GATE), "another gate")
    person.settle()
    again = score_result(window.session.tracks, truth, settings)  # type: ignore[arg-type]
    notes = window.session.edit_notes
    facts = ("right", "unsure")
    misfits = sum(not note.fits and edit.kind not in facts for edit, note in zip(made, notes, strict=True))
    for edit, note in zip(window.session.edits, notes, strict=True):
        if not note.fits:
            print(f"{name}: {edit.kind} at {edit.at:.2f} s fits no more: {note.words}", flush=True)
    window.session.correct((), "none of them")
    person.settle()
    without = score_result(window.session.tracks, truth, settings)  # type: ignore[arg-type]
    window.session.undo.undo()
    window.session.undo.undo()
    person.settle()
    with tempfile.TemporaryDirectory() as there:
        window.save_as(Path(there) / "reviewed.drover")
        wait(lambda: window.saving.path is not None and not window.saving.busy)
        saved = read_project(Path(there) / "reviewed.drover")[0]
        kept = saved.edits == made and saved.latest is not None
        while window.session.edits:
            window.session.undo.undo()
    window.close()
    return {
        "before": before.identity.idf1, "after": after.identity.idf1, "errors": errors, "edits": edits,
        "moments": len(made) - edits, "again": again.identity.idf1, "without": without.identity.idf1,
        "misfits": misfits, "kept": kept,
    }  # fmt: skip


def main() -> None:
    """Review scenes and write what came of it to a page."""
    parser = argparse.ArgumentParser(prog="python -m drover.bench.review", description=main.__doc__)
    parser.add_argument("scenes", nargs="*", default=list(SCENES))
    parser.add_argument("--out", type=Path, default=Path("docs/review.md"), help="page to write")
    given = parser.parse_args()
    lines = []
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as state:
        folders = {name: scene_folder(name) for name in given.scenes}
        for name in ("XDG_STATE_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME"):
            os.environ[name] = state
        for name, folder in folders.items():
            lines += _told(name, review_scene(name, folder))
            print("\n".join(lines[-2:]), flush=True)
            given.out.write_text(HEAD + "\n".join(lines) + "\n", encoding="utf-8")


def _told(name: str, f: dict[str, float]) -> list[str]:
    good = f["after"] >= 0.99 and f["edits"] <= 2 * f["errors"]
    half = f["again"] - f["without"] >= 0.5 * (f["after"] - f["before"])  # of what they brought is still there
    lasts = f["misfits"] == 0 and half and f["kept"]
    return [
        f"- {name}: IDF1 {f['before']:.3f} to {f['after']:.3f} (0.99 promised) with {f['edits']} corrections for "
        f"{f['errors']} true errors (twice as many at most), {f['moments']} moments said to be right: "
        f"{'held' if good else 'NOT HELD'}",
        f"- {name}: linked again with a gate of {OTHER_GATE:g} σ, {f['without']:.3f} without the corrections and "
        f"{f['again']:.3f} with them, {f['misfits']} of which fit no more; saved, opened and undone "
        f"{'whole' if f['kept'] else 'NOT whole'}: {'held' if lasts else 'NOT HELD'}",
    ]


if __name__ == "__main__":
    main()
