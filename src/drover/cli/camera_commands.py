"""The commands for cameras: live, send, stand-in."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any

import typer

from drover.core.recipe import Recipe, read_recipe

__all__ = ["CAMERA_COMMANDS"]


def live(
    source: Annotated[
        str,
        typer.Argument(
            metavar="SOURCE", help="A stream (rtsp, http, tcp, udp), a device (/dev/video0), or a recording."
        ),
    ],
    out: Annotated[Path, typer.Option(help="Folder for the results of this run.")],
    recipe: Annotated[Path | None, typer.Option(help="Recipe (TOML); what it leaves out keeps its default.")] = None,
    seconds: Annotated[float, typer.Option(min=0, help="How long to run; until stopped if not given.")] = 0.0,
    record: Annotated[bool, typer.Option("--record", help="Keep the stream beside the results.")] = False,
    size: Annotated[str | None, typer.Option(help="Asked of a device, as 1280x720.")] = None,
    rate: Annotated[float, typer.Option(min=1, max=240, help="Frames a second asked of a device.")] = 25.0,
    give_up: Annotated[
        float, typer.Option(min=0, help="Seconds without a picture after which to end; 0 waits for ever.")
    ] = 0.0,
) -> None:
    """Count on a camera as it comes; every crossing is written at once. Ctrl-C ends it."""
    from drover.cli.live import run_live

    settings = read_recipe(recipe) if recipe else Recipe()
    run_live(source, settings, out, seconds=seconds, record=record, size=size, rate=rate, give_up=give_up)


def send(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="Results of a live run.")],
) -> None:
    """Send the events of a live run that its receivers have not taken yet; Ctrl-C ends it."""
    from drover.cli.live import send_again

    if not send_again(folder):
        raise typer.Exit(1)


def stand_in(
    what: Annotated[str, typer.Argument(metavar="SCENE | CLIP", help="A video, or a scene that 'simulate' draws.")],
    port: Annotated[int, typer.Option(min=0, max=65535, help="Port on this machine; any free one if 0.")] = 0,
    fault: Annotated[
        list[str] | None,
        typer.Option(
            help="What goes wrong, at which second, for how long: cut@5+2; or late, dropped, corrupt, size, clock."
        ),
    ] = None,
    seconds: Annotated[float, typer.Option(min=0, help="How long to play; until stopped if not given.")] = 0.0,
) -> None:
    """Play a clip or a scene in real time as a network stream on this machine, as a camera would."""
    from drover.cli.live import play_stand_in

    play_stand_in(what, port, tuple(fault or ()), seconds)


CAMERA_COMMANDS: dict[str, Callable[..., Any]] = {"live": live, "send": send, "stand-in": stand_in}
