"""Garbage is collected on the interface thread, never on a worker's."""

from __future__ import annotations

import threading
import weakref

from drover.app.tidying import TidyHere


class Knot:
    """Refers to itself, so that only the collector frees it."""

    def __init__(self) -> None:
        self.me = self


def test_what_only_the_collector_frees_waits_for_this_thread(qapp):
    tidy = TidyHere()
    seen: list[str] = []
    gone = weakref.ref(knot := Knot(), lambda _: seen.append(threading.current_thread().name))
    del knot
    worker = threading.Thread(target=lambda: [[] for _ in range(50_000)], name="worker")
    worker.start()
    worker.join()
    assert gone() is not None, "a worker's allocations free nothing"
    many = [[] for _ in range(5_000)]
    tidy.tidy()
    assert gone() is None and seen == ["MainThread"] and many
    tidy.deleteLater()
