"""A live run: one thread reads the source and never waits, another works; what cannot be kept up with is dropped.

The rule: pictures wait in a queue of at most a second. Where it is full the oldest goes, so that what is looked at is
never older than that; how many went is counted. A recording is gone through in full, and gives what its live run gave
where that dropped nothing.
"""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable
from dataclasses import asdict, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

from drover.core.errors import DroverError, FootageError
from drover.core.footage.stream import Arrival, Source, StreamClock, StreamReader
from drover.core.footage_types import Frame
from drover.core.live import LiveRun, LiveStep
from drover.core.live_session.carriers import carrier_of
from drover.core.live_session.courier import Courier, Delivery
from drover.core.live_session.facts import LiveFacts, Meter
from drover.core.live_session.recording import Recording
from drover.core.live_session.results import LiveResults
from drover.core.live_warming import warm_live
from drover.core.memory import give_memory_back, share_one_heap
from drover.core.recipe import Recipe

__all__ = ["LiveSession"]

QUEUE = 1.0  # s of pictures that may wait
BACK_OFF = (0.5, 1.0, 2.0, 4.0, 8.0)  # s before each new try, the last one for all further
GIVE_EVERY = 60.0  # s after which freed memory goes back to the system
SUM_UP_EVERY = 2.0  # s
PATIENCE = 5.0  # s that receivers have at the end to take what there is
OnStep = Callable[[Frame, LiveStep, LiveFacts], None]


class LiveSession:
    """One source, one recipe, one folder of results.

    Parameters
    ----------
    source : Source
    recipe : Recipe
    folder : Path
    record : bool
        Keep the stream beside the results.
    wanted : (width, height, frames/s), optional
        Asked of a camera device.
    give_up : float
        Seconds without a picture after which the run ends; 0 for never.

    Raises
    ------
    DroverError
        When the source is not there at the start, or the folder cannot be used.
    """

    def __init__(
        self,
        source: Source,
        recipe: Recipe,
        folder: Path,
        *,
        record: bool = False,
        wanted: tuple[int, int, float] | None = None,
        give_up: float = 0.0,
    ) -> None:
        share_one_heap()
        self._source, self._recipe, self._wanted, self._give_up = source, recipe, wanted, give_up
        self._clock, self._meter = StreamClock(), Meter()
        self._ready: deque[Arrival] = deque()
        self._news, self._stop, self._done = threading.Condition(), threading.Event(), threading.Event()
        self._whole = source.kind == "file"  # a recording waits for us: none of it is dropped
        self._facts, self._noting = LiveFacts(), threading.Lock()
        self._failed: DroverError | None = None
        self._came, self._broken_before = 0, 0
        self._last_frame = time.monotonic()
        self._recording = Recording(folder) if record else None
        for receiver in recipe.send.receiver:
            carrier_of(receiver)  # what is wrong with it is said before anything is begun
        warm_live(recipe)
        self._reader: StreamReader | None = self._connected()
        self._results = LiveResults(folder, recipe, datetime.now(UTC), tracks=record)
        self._couriers = [Courier(folder, one) for one in recipe.send.receiver]
        self._run: LiveRun | None = None
        self._begun, self._summed, self._given = time.monotonic(), time.monotonic(), time.monotonic()
        self._time, self._told = 0.0, 0.0
        self._left: list[Delivery] = []
        self._thread = threading.Thread(target=self._read, name="drover-camera", daemon=True)

    @property
    def facts(self) -> LiveFacts:
        """How it does by now."""
        return self._facts

    @property
    def time(self) -> float:
        """Time of the last picture worked on, s from the first."""
        return self._time

    @property
    def recordings(self) -> tuple[Path, ...]:
        """The files that the stream is recorded to, so far."""
        return () if self._recording is None else tuple(self._recording.files)

    @property
    def totals(self) -> dict[str, tuple[int, int]]:
        """Passages forward and back of each line so far."""
        return self._results.totals()

    @property
    def deliveries(self) -> list[Delivery]:
        """How far each receiver is."""
        return self._left or [courier.delivery for courier in self._couriers]

    def run(self, *, stopped: Callable[[], bool] = lambda: False, on_step: OnStep | None = None) -> LiveFacts:
        """Work until told to stop, or the source has been gone for too long; what was counted is written by then.

        Raises
        ------
        DroverError
            When results cannot be written any more.
        """
        self._thread.start()
        try:
            while not stopped() and not self._stop.is_set() and not (self._done.is_set() and not self._ready):
                arrival = self._next()
                if arrival is not None:
                    self._work(arrival, on_step)
                self._sum_up(always=False)
                if self._failed is not None:
                    raise self._failed
        finally:
            self._stop.set()
            self._thread.join(15)
            try:
                self._end()
            finally:
                self._left = [courier.close() for courier in self._couriers]
                self._results.close()
                if self._recording is not None:
                    self._recording.close()
        return self._facts

    def _end(self) -> None:
        """Write what only the end settles, and the last totals."""
        if self._run is not None:
            self._results.add(self._run.finish(), max(0, self._came - 1))
            self._results.tell_totals(self._time)
        for courier in self._couriers:
            courier.bring(PATIENCE)
        self._note(connection="ended", crossings=self._results.crossings)
        self._sum_up(always=True)

    # --- working --------------------------------------------------------------------------------------------------

    def _next(self) -> Arrival | None:
        with self._news:
            if not self._ready:
                self._news.wait(0.1)
            arrival = self._ready.popleft() if self._ready else None
            self._news.notify()
            return arrival

    def _work(self, arrival: Arrival, on_step: OnStep | None) -> None:
        frame = arrival.frame
        if self._run is None:
            height, width = frame.grey.shape
            rate = self._reader.rate if self._reader is not None else 25.0
            self._run = LiveRun(self._recipe, (width, height), rate)
            self._note(size=(width, height))
            self._results.started = datetime.now(UTC) - timedelta(seconds=time.monotonic() - arrival.at)
        step = self._run.step(frame)
        self._results.add(step.events, frame.index, step.all_rows)
        self._meter.note(arrival.at, time.monotonic(), crossed=bool(step.events.crossings))
        self._time = frame.time
        if frame.time - self._told >= self._recipe.send.totals_every:
            self._told = frame.time
            self._results.tell_totals(frame.time)
        self._note(
            frames=self._facts.frames + 1, identities=self._run.identities, crossings=self._results.crossings,
            survey=self._run.said,
        )  # fmt: skip
        if on_step is not None:
            on_step(frame, step, self._facts)

    def _sum_up(self, *, always: bool) -> None:
        now = time.monotonic()
        if not always and now - self._summed < SUM_UP_EVERY:
            return
        self._summed = now
        if now - self._given > GIVE_EVERY:  # each decoder that a break or another size brings had its own
            self._given = now
            give_memory_back()
        reader = self._reader
        self._note(
            seconds=round(now - self._begun, 2), clock_jumps=self._clock.jumps,
            broken=self._broken_before + (0 if reader is None else reader.broken), **self._meter.figures(now),
        )  # fmt: skip
        self._results.sum_up({
            "source": self._source.name, "recipe": self._recipe.model_dump(mode="json"), **self._facts.as_dict(),
            "detect_taken": None if self._run is None else self._run.taken.model_dump(mode="json"),
            "receivers": [asdict(one) for one in self.deliveries],
            "recordings": {} if self._recording is None else dict(self._recording.begins),
        })  # fmt: skip

    def _note(self, **changes: object) -> None:
        with self._noting:  # both threads note, each its own figures
            self._facts = replace(self._facts, **changes)  # type: ignore[arg-type]

    # --- reading, on a thread of its own ------------------------------------------------------------------------

    def _connected(self) -> StreamReader:
        size = self._facts.size if self._facts.size[0] else None
        record = None if self._recording is None else self._recording.add
        made = StreamReader(
            self._source, self._clock, size=size, first=self._came, wanted=self._wanted, record=record
        )  # fmt: skip
        self._note(connection="connected")
        return made

    def _read(self) -> None:
        try:
            while not self._stop.is_set():
                trouble = self._read_once()
                if self._stop.is_set() or self._done.is_set() or not self._come_back(trouble):
                    return
        except DroverError as error:
            self._failed = error
        except Exception as error:  # noqa: BLE001 - told by the thread that works
            self._failed = FootageError(f"{self._source.name}: cannot be read ({type(error).__name__}: {error})")
        finally:
            if self._reader is not None:
                self._reader.close()

    def _read_once(self) -> str:
        """All pictures of one connection; why it ended."""
        reader = self._reader
        if reader is None:
            return ""
        most = max(2, round(QUEUE * reader.rate))
        try:
            for arrival in reader.arrivals():
                if self._stop.is_set():
                    return ""
                self._last_frame = arrival.at
                self._came = arrival.frame.index + 1
                if len(reader.sizes) > 1:
                    self._note(sizes_seen=max(self._facts.sizes_seen, len(set(reader.sizes))))
                with self._news:
                    while self._whole and len(self._ready) >= most and not self._stop.is_set():
                        self._news.wait(0.1)
                    self._ready.append(arrival)
                    if len(self._ready) > most:
                        self._ready.popleft()
                        self._note(dropped=self._facts.dropped + 1)
                    self._news.notify()
        except FootageError as error:
            return str(error)
        if self._whole:
            self._done.set()
        return f"{self._source.name}: ended"

    def _come_back(self, trouble: str) -> bool:
        """Connect again, each try after a longer while; False where that is given up."""
        if self._reader is not None:
            self._broken_before += self._reader.broken
            self._reader.close()
            self._reader = None
        if self._recording is not None:
            self._recording.close()
        give_memory_back()  # of its decoder, before there is another
        self._clock.break_off()
        self._note(connection="waiting for the source", last_trouble=trouble)
        tries = 0
        while True:
            if self._stop.wait(BACK_OFF[min(tries, len(BACK_OFF) - 1)]):
                return False
            if self._give_up and time.monotonic() - self._last_frame > self._give_up:
                self._stop.set()
                return False
            try:
                self._reader = self._connected()
            except FootageError as error:
                self._note(last_trouble=str(error))
                tries += 1
                continue
            self._note(reconnects=self._facts.reconnects + 1)
            return True
