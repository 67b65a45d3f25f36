"""The live command and the stand-in camera."""

from __future__ import annotations

import contextlib
import sys
import tempfile
import time
from pathlib import Path

import av
from rich.console import Console
from rich.status import Status

from drover.cli.parts import draw_scene, size_of
from drover.cli.progress import shown_progress
from drover.cli.stopping import asked_to_stop, stop_was_heard
from drover.core.errors import DroverError
from drover.core.footage.stand_in import StandIn, fault_of
from drover.core.footage.stream import source_of
from drover.core.live_session.courier import Courier
from drover.core.live_session.facts import LiveFacts
from drover.core.live_session.kept import read_live
from drover.core.live_session.session import LiveSession
from drover.core.recipe import Recipe
from drover.core.run_files import ready_folder
from drover.core.simulate.names import MOVING_NAMES, SCENE_NAMES, WORLD_NAMES

__all__ = ["play_stand_in", "run_live", "send_again"]

TELL_EVERY = 0.5  # s


def run_live(
    text: str,
    recipe: Recipe,
    out: Path,
    *,
    seconds: float,
    record: bool,
    size: str | None,
    rate: float,
    give_up: float,
) -> None:
    """Run until stopped, saying how it does on a terminal and every crossing on standard output.

    Raises
    ------
    DroverError
    """
    source = source_of(text)
    if not recipe.count.line and not recipe.count.zone:
        raise DroverError(
            "the recipe has no line and no zone, so nothing would be counted; add one under [[count.line]]"
        )
    wanted = None if size is None else (*size_of(size, "--size"), rate)
    ready_folder(out)
    av.logging.set_level(None)  # what a broken stream makes the decoder say is counted, not printed
    session = LiveSession(source, recipe, out, record=record, wanted=wanted, give_up=give_up)
    console, started, told = Console(stderr=True), time.monotonic(), 0.0
    lines = [line.name for line in recipe.count.line]
    with Status("waiting for the first picture", console=console) as status:

        def stopped() -> bool:
            nonlocal told
            if console.is_terminal and time.monotonic() - told > TELL_EVERY:
                told = time.monotonic()
                status.update(_words(session.facts, session.totals))
            return asked_to_stop() or (seconds > 0 and time.monotonic() - started > seconds)

        def on_step(frame, step, facts) -> None:  # type: ignore[no-untyped-def]
            del frame, facts
            for one in step.events.crossings:
                way = "forward" if one.direction > 0 else "back"
                print(f"{one.time:.2f} s: {one.identity} crossed {lines[one.line]} {way}", flush=True)
            for alarm in step.events.alarms:
                print(f"{alarm.time:.2f} s: {alarm.words}", flush=True)

        with contextlib.suppress(KeyboardInterrupt):  # the run has ended by then, and all that was counted is written
            session.run(stopped=stopped, on_step=on_step)
    stop_was_heard()
    print(_words(session.facts, session.totals))
    for one in session.deliveries:
        if one.waiting:
            print(f"drover: {one.name}: not all events were taken ({one.trouble}); to try again: drover send {out}",
                  file=sys.stderr)  # fmt: skip
    print(f"written to {out}")


def _words(facts: LiveFacts, totals: dict[str, tuple[int, int]]) -> str:
    """How a live run does, in one line."""
    counts = "".join(f"{name} {forward} forward {back} back, " for name, (forward, back) in totals.items())
    again = f", connected again {facts.reconnects} times" if facts.reconnects else ""
    broken = f", {facts.broken} broken" if facts.broken else ""
    state = "" if facts.connection == "connected" else f"{facts.connection}: "
    return (
        f"{state}{counts}{facts.frames} pictures, {facts.rate:.1f} a second, {facts.latency:.0f} ms behind, "
        f"{100 * facts.drop_share:.1f} % dropped{broken}{again}"
    )


def play_stand_in(what: str, port: int, faults: tuple[str, ...], seconds: float) -> None:
    """Play until stopped.

    Raises
    ------
    DroverError
    """
    wrong = tuple(fault_of(text) for text in faults)
    with tempfile.TemporaryDirectory(prefix="drover-stand-in-") as draft:
        clip = Path(what)
        if what in (*SCENE_NAMES, *MOVING_NAMES, *WORLD_NAMES) and not clip.exists():
            with shown_progress(f"draw {what}") as show:
                draw_scene(what, Path(draft), {}, lambda done, total: show.update(done, total))
            clip = Path(draft) / f"{what}.mp4"
        with StandIn(clip, port=port, faults=wrong, seconds=seconds) as camera:
            print(f"{camera.info.width} x {camera.info.height}, {camera.info.rate:g} pictures a second at "
                  f"{camera.address}", flush=True)  # fmt: skip
            print(f"to count on it: drover live {camera.address} --recipe RECIPE --out FOLDER", flush=True)
            with contextlib.suppress(KeyboardInterrupt):
                while not camera.ended and not asked_to_stop():
                    time.sleep(0.1)
    stop_was_heard()


def send_again(folder: Path) -> bool:
    """Bring what a live run could not; whether all was taken.

    Raises
    ------
    DroverError
    """
    _, recipe = read_live(folder)
    couriers = [Courier(folder, receiver) for receiver in recipe.send.receiver]
    while not all(one.ended for one in couriers) and not asked_to_stop():
        for one in couriers:
            one.bring(0.1)
    ended = [one.close() for one in couriers]
    for one in ended:
        print(f"{one.name}: {one.taken} events taken" + (f", others wait ({one.trouble})" if one.waiting else ""))
    return not any(one.waiting for one in ended)
