"""``drover``: demo, open, run, score, simulate.

Exit code 0 done, 1 failed, 2 wrong usage; an error is one plain line on standard error.
"""

from __future__ import annotations

import contextlib
import json
import os
import sys
from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer
from typer.main import get_command

from drover import __version__
from drover.cli.camera_commands import CAMERA_COMMANDS
from drover.cli.display import open_window
from drover.cli.parts import corrections_of, draw_scene, headless_demo, link_boxes, report, run_one
from drover.cli.progress import shown_progress
from drover.cli.result_commands import RESULT_COMMANDS
from drover.cli.tables import print_score_table
from drover.core.batch.plan import folder_name
from drover.core.errors import DroverError
from drover.core.footage.opened import footage_is_there, open_footage
from drover.core.formats.box_rows import read_tracks, read_truth
from drover.core.recipe import Recipe, ScoreSettings, read_recipe
from drover.core.run_files import ready_folder, write_run
from drover.core.score.spans import score_result
from drover.core.simulate.names import MOVING_NAMES, SCENE_NAMES, WORLD_NAMES

__all__ = ["app", "main"]

app = typer.Typer(
    name="drover",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    help="Find moving objects in video, keep their identities, count line crossings, score the result.",
)


def _version(wanted: bool) -> None:
    if wanted:
        print(f"drover {__version__}")
        raise typer.Exit


@app.callback()
def _root(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")
    ] = False,
) -> None:
    """Find moving objects in video, keep their identities, count line crossings, score the result."""


@app.command()
def demo(
    headless: Annotated[bool, typer.Option("--headless", help="Run without a window and print the result.")] = False,
    out: Annotated[Path, typer.Option(help="Folder for the files of a headless run.")] = Path("demo-out"),
) -> None:
    """Open the Fold Hill demo in the window; headless: run it, print counts and score, write its files."""
    if headless:
        headless_demo(out)
    else:
        _window(["--demo"])


def _window(arguments: list[str]) -> None:
    code = open_window(arguments)
    if code:
        raise typer.Exit(code)


for _name, _command in (*CAMERA_COMMANDS.items(), *RESULT_COMMANDS.items()):
    app.command(_name)(_command)


@app.command("open")
def open_(
    source: Annotated[
        str | None,
        typer.Argument(metavar="[PROJECT | CLIP | SOURCE]", help="A project, a video, images, a device or a stream."),
    ] = None,
) -> None:
    """Open the window, with a project or some footage."""
    named = source is None or "://" in source or Path(source).exists()
    if source is not None and not named and not footage_is_there(Path(source)):
        raise DroverError(f"{source}: there is no such file; check the name")
    _window([] if source is None else [source])


@app.command()
def run(
    out: Annotated[Path, typer.Option(help="Folder for the results; each clip gets a folder in it.")],
    clips: Annotated[list[Path] | None, typer.Argument(metavar="CLIP...", help="Videos to work through.")] = None,
    recipe: Annotated[Path | None, typer.Option(help="Recipe (TOML); what it leaves out keeps its default.")] = None,
    detections: Annotated[
        Path | None,
        typer.Option(help="Boxes to link instead of detecting: rows, COCO JSON, or a folder of text files."),
    ] = None,
    keep_good_rows: Annotated[
        bool, typer.Option("--keep-good-rows", help="Go on with the good rows of a file that has bad ones.")
    ] = False,
    frame_size: Annotated[
        str | None, typer.Option(help="Size of the frame, as 1280x720: with it and --rate no clip is needed.")
    ] = None,
    rate: Annotated[
        float | None, typer.Option(help="Frames a second, where there is no clip.", min=0.1, max=1000)
    ] = None,
    truth: Annotated[Path | None, typer.Option(help="Truth to score against.")] = None,
    true_crossings: Annotated[
        Path | None,
        typer.Option(help="True crossings; if not given, a crossings.csv beside the truth is used."),
    ] = None,
    corrections: Annotated[
        Path | None, typer.Option(help="Corrections by hand, a corrections.jsonl of an export.")
    ] = None,
    interval: Annotated[
        float | None,
        typer.Option(help="Length in s of the intervals in intervals.csv.", min=1, max=86400),
    ] = None,
    anew: Annotated[
        bool, typer.Option("--anew", help="Go through the footage even where what was found in it is still known.")
    ] = False,
) -> None:
    """Detect, track and count; score where truth is given."""
    if not clips:
        link_boxes(out, recipe, detections, frame_size, rate, truth, true_crossings, keep_good_rows)
        return
    if len(clips) > 1 and any(given is not None for given in (detections, truth, corrections)):
        raise typer.BadParameter("--detections, --truth and --corrections belong to one clip; give one clip")
    settings = read_recipe(recipe) if recipe else Recipe()
    edits = corrections_of(corrections)
    ready_folder(out)
    failed, used = False, set[str]()
    for clip in clips:
        try:
            folder = out / folder_name(clip, used)
            result = run_one(
                clip, settings, detections, truth, true_crossings, keep_good_rows=keep_good_rows, edits=edits, anew=anew
            )
            write_run(result, folder, interval=interval)
            report(result, folder)
        except DroverError as error:
            if len(clips) == 1:
                raise
            print(f"drover: {error}", file=sys.stderr)
            failed = True
    if failed:
        raise typer.Exit(1)


@app.command()
def score(
    truth: Annotated[Path, typer.Option(help="Truth, ten-column rows.")],
    tracks: Annotated[Path, typer.Option(help="Tracks, ten-column rows.")],
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON instead of a table.")] = False,
) -> None:
    """Score tracks against truth."""
    true = read_truth(truth)
    result = score_result(read_tracks(tracks), true, ScoreSettings())
    if as_json:
        print(json.dumps(result.as_dict(), indent=2))
    else:
        print_score_table(result)


@app.command()
def survey(
    clip: Annotated[Path, typer.Argument(metavar="CLIP", help="The video to look at.")],
    as_json: Annotated[bool, typer.Option("--json", help="Print figures as JSON.")] = False,
) -> None:
    """Look at a few pictures of a clip: its noise, shadows and restless places, and what follows for Detect."""
    from drover.core.camera_pass import look_over_clip
    from drover.core.setting_info import taken_words
    from drover.core.survey.resolve import resolve_detect
    from drover.core.survey_pass import survey_clip

    with open_footage(clip) as reader:
        info = reader.info
    found, look = survey_clip(info), look_over_clip(info)  # all over the clip, where a survey sees its beginning
    if found is None and look.moves:
        facts = {"camera_moves": True, "camera_shift": round(look.shift, 2)}
        print(json.dumps(facts, indent=2) if as_json else look.words)
        return
    if found is None:
        raise DroverError(f"{clip}: has too few pictures to say anything of it; eight are needed")
    found = replace(found, camera=look if look.known else found.camera)
    taken = resolve_detect(Recipe().detect, found)
    if as_json:
        background, curve = taken.background, () if found.view is None else found.view.noise
        facts = {
            **found.facts, "noise_by_brightness": [[round(float(value), 2) for value in point] for point in curve],
            "shadow": taken.shadow.model_dump(), "weak_share": background.weak_share, "look_at": background.look_at,
            "taken": taken.model_dump(mode="json"),
        }  # fmt: skip
        print(json.dumps(facts, indent=2))
        return
    for line in (*found.words, f"Detect takes {taken_words(Recipe().detect, taken)}."):
        print(line)


@app.command()
def simulate(
    scene: Annotated[
        str, typer.Argument(metavar="SCENE", help=", ".join((*SCENE_NAMES, *MOVING_NAMES, *WORLD_NAMES)) + ".")
    ],
    out: Annotated[Path, typer.Option(help="Folder for clip, truth, crossings and recipe.")],
    seed: Annotated[int | None, typer.Option(min=0, help="Others in the same place.")] = None,
    seconds: Annotated[float | None, typer.Option(help="Length of the clip, s.")] = None,
    rate: Annotated[float | None, typer.Option(min=1, max=120, help="Pictures a second; not for the farm.")] = None,
    width: Annotated[int | None, typer.Option(min=160, max=3840, help="Width, px; not for the farm.")] = None,
    noise: Annotated[float | None, typer.Option(min=0, max=10, help="Factor on the noise; not for the farm.")] = None,
    quality: Annotated[int | None, typer.Option(min=-20, max=20, help="Coarser coding; not for the farm.")] = None,
) -> None:
    """Draw a scene of the Fold Hill farm, or of another place, with its exact truth."""
    ready_folder(out)
    options = {"seed": seed, "seconds": seconds, "rate": rate, "width": width, "noise": noise, "quality": quality}
    given = {name: value for name, value in options.items() if value is not None}
    try:
        with shown_progress(f"draw {scene}") as show:
            frames, actors = draw_scene(scene, out, given, lambda done, total: show.update(done, total))
    except OSError as error:
        raise DroverError(f"{out}: cannot be written ({error.strerror or error}); free some space") from error
    print(f"{frames} frames, {actors} actors: {scene}.mp4, truth.csv, crossings.csv, recipe.toml in {out}")


@app.command()
def proof(
    clip: Annotated[Path, typer.Argument(metavar="CLIP", help="The video that is counted in.")],
    out: Annotated[Path, typer.Option(help="PNG file to write.")],
    recipe: Annotated[Path, typer.Option(help="Recipe (TOML) with the lines and zones.")],
    frame: Annotated[int, typer.Option(help="Frame to draw on, from 1.", min=1)] = 1,
) -> None:
    """Draw all lines and zones with their names and directions on a frame, for someone else to check."""
    ready_folder(out.parent)
    settings = read_recipe(recipe)
    if not settings.count.line and not settings.count.zone:
        raise DroverError(f"{recipe}: has no line and no zone; add one under [[count.line]]")
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from drover.app.images import rgb_image
    from drover.app.proof import draw_proof, proof_caption, save_picture
    from drover.app.theme import apply_theme

    program = QApplication.instance() or QApplication(["drover"])
    if isinstance(program, QApplication):
        apply_theme(program)
    with open_footage(clip) as reader:
        info = reader.info
        if frame > info.frame_count:
            raise DroverError(f"{clip}: has {info.frame_count} frames, there is no frame {frame}; choose another")
        picture = rgb_image(reader.frame(frame - 1).rgb)
    save_picture(draw_proof(picture, settings.count, proof_caption(info, frame - 1)), out)
    print(f"{len(settings.count.line)} lines and {len(settings.count.zone)} zones on frame {frame}: {out}")


@app.command("install-desktop")
def install_desktop_(
    remove: Annotated[bool, typer.Option("--remove", help="Take the entry away again.")] = False,
) -> None:
    """Put Drover among your desktop's programs: a menu entry, its icon, and the kind of its project files."""
    from drover.cli.desktop import install_desktop, remove_desktop

    changed = remove_desktop() if remove else install_desktop()
    for path in changed:
        print(f"{'removed' if remove else 'written'}: {path}")
    if not changed:
        print("there was nothing to remove")


def main() -> None:
    """Entry of the ``drover`` program: errors become one line and an exit code."""
    try:
        code = _run()
        sys.stdout.flush()
    except BrokenPipeError:
        code = 1
    except OSError as error:
        _say(f"the output cannot be written ({error.strerror or error})")
        code = 1
    if code:
        # What is left in the buffer has nowhere to go: the end of the program must not try again.
        with contextlib.suppress(OSError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    sys.exit(code)


def _run() -> int:
    try:
        code = get_command(app)(standalone_mode=False)
    except DroverError as error:
        _say(str(error))
        return 1
    except (KeyboardInterrupt, typer.Abort):
        _say("stopped")
        return 1
    except OSError:
        raise
    except Exception as error:
        if not hasattr(error, "format_message"):
            raise
        reason = error.format_message().rstrip(".")
        if reason:
            _say(f"{reason}; see 'drover --help'")
        return getattr(error, "exit_code", 2)
    return code if isinstance(code, int) else 0


def _say(line: str) -> None:
    """A line on standard error, if there is one left to write to."""
    with contextlib.suppress(OSError):
        print(f"drover: {line}", file=sys.stderr)
