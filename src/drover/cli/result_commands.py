"""The commands for many clips, and for what leaves a result: batch, export."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any

import typer

from drover.core.recipe import Recipe, read_recipe

__all__ = ["RESULT_COMMANDS"]


def batch(
    clips: Annotated[list[Path], typer.Argument(metavar="FOLDER | CLIP...", help="Folders of videos, or videos.")],
    out: Annotated[Path, typer.Option(help="Folder for the results; each clip gets a folder in it.")],
    recipe: Annotated[Path | None, typer.Option(help="Recipe (TOML); what it leaves out keeps its default.")] = None,
    workers: Annotated[
        int, typer.Option(min=0, max=256, help="Clips worked on at once; as many as there are cores if not given.")
    ] = 0,
    projects: Annotated[
        bool, typer.Option("--projects/--no-projects", help="Write a project for each clip, to open in the window.")
    ] = True,
    scheduler: Annotated[
        str, typer.Option(help="Dask scheduler as tcp://place:8786: its workers do the work; folders are shared.")
    ] = "",
    preview: Annotated[
        int, typer.Option(min=0, max=1000, help="Look at the beginning of so many clips, print that, and end.")
    ] = 0,
) -> None:
    """Work through many clips with one recipe; stopped or killed, the same command goes on from there."""
    from drover.cli.batch import do_batch, preview_batch

    settings = read_recipe(recipe) if recipe else Recipe()
    if preview:
        preview_batch(clips, settings, out, preview)
    elif not do_batch(clips, settings, out, workers, projects, scheduler):
        raise typer.Exit(1)


def export(
    clip: Annotated[
        Path,
        typer.Argument(metavar="PROJECT | CLIP", help="A project with a finished run, or a video to work through."),
    ],
    video: Annotated[Path | None, typer.Option(help="Video to write; its name ends in .mp4 or .webm.")] = None,
    out: Annotated[Path | None, typer.Option(help="Folder for files: tables, boxes, pictures, maps.")] = None,
    what: Annotated[
        str, typer.Option(help="Which, with commas: tables, coco, texts, picture, heat, proof, recipe.")
    ] = "tables",
    recipe: Annotated[
        Path | None, typer.Option(help="Recipe in TOML, for a video; the default one if not given.")
    ] = None,
    show: Annotated[
        str, typer.Option(help="What is drawn, with commas: outlines, numbers, trails, forecast, detections, mask.")
    ] = "outlines,numbers,trails",
    start: Annotated[float, typer.Option("--from", min=0, help="Where to begin, s.")] = 0.0,
    end: Annotated[
        float | None, typer.Option("--to", min=0, help="Where to end, s; at the clip's end if not given.")
    ] = None,
    speed: Annotated[
        int, typer.Option(min=1, max=1000, help="How many times as fast: only every so many-th picture.")
    ] = 1,
    text: Annotated[float, typer.Option(min=0.5, max=6, help="How many times as large letters and lines are.")] = 1.0,
    clock: Annotated[bool, typer.Option("--clock", help="Write the clip's time into a corner.")] = False,
) -> None:
    """Write a video or files of what was found: a project's finished run, or that of a clip worked through."""
    from drover.cli.video import export_result

    settings = read_recipe(recipe) if recipe else None
    for line in export_result(
        clip,
        settings,
        video=video,
        out=out,
        what=what,
        show=show,
        start=start,
        end=end,
        speed=speed,
        text=text,
        clock=clock,
    ):
        print(line)


def steady(
    clip: Annotated[Path, typer.Argument(metavar="CLIP", help="A video whose camera moves, or that was turned.")],
    out: Annotated[Path, typer.Option(help="Video to write; its name ends in .mp4 or .webm.")],
    way: Annotated[str, typer.Option(help="hold: against one picture; calm: only the shaking goes.")] = "hold",
    frame: Annotated[int, typer.Option(min=1, help="The picture that the others are held against.")] = 1,
    recipe: Annotated[Path | None, typer.Option(help="Recipe (TOML), for what a motion may be.")] = None,
) -> None:
    """Write a clip with its camera's motion taken out."""
    from drover.cli.steady import steady_clip

    print(steady_clip(clip, out, way, frame - 1, read_recipe(recipe) if recipe else Recipe()))


RESULT_COMMANDS: dict[str, Callable[..., Any]] = {"batch": batch, "export": export, "steady": steady}
