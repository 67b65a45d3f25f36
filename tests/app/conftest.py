"""A window on the short example, worked through to the end."""

from __future__ import annotations

import gc

import pytest
from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QApplication

from drover.app.session import STAGES, Session, StageState
from drover.app.theme import apply_theme
from drover.app.window import MainWindow
from drover.core.examples import example
from drover.core.footage.reader import ClipReader
from drover.core.recipe import read_recipe
from drover.core.result_store import ResultStore
from drover.core.run import run_clip

WAIT = 60_000


@pytest.fixture(scope="session", autouse=True)
def themed(qapp: QApplication) -> None:
    apply_theme(qapp)


def up_to_date(window: MainWindow, *, stages=STAGES[:4]) -> bool:
    return all(window.session.state_of(stage) == StageState.FRESH for stage in stages)


@pytest.fixture
def window(qtbot):
    made = MainWindow()
    qtbot.addWidget(made)
    made.show()
    qtbot.waitExposed(made)
    yield made
    made.close()


def free_what_was_closed() -> None:
    """Windows that were closed go now: Qt puts it off to its event loop, which tests seldom come back to."""
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    gc.collect()


@pytest.fixture(autouse=True)
def tidied(themed):
    """Widgets of the test before are freed here, on the interface thread, and never on a worker's."""
    free_what_was_closed()
    gc.disable()
    yield
    gc.enable()
    free_what_was_closed()


@pytest.fixture(scope="session")
def filled_store(tmp_path_factory) -> ResultStore:
    """A store that knows the short example: what was found once is not looked for in every test."""
    chosen = example("gap-short")
    with ClipReader(chosen.clip) as reader:
        clip = reader.info
    store = ResultStore(tmp_path_factory.mktemp("store"))
    run_clip(clip, read_recipe(chosen.recipe), store=store)
    return store


@pytest.fixture
def opened(qtbot, filled_store):
    """The short example with its truth and recipe, everything up to date."""
    chosen, window = example("gap-short"), MainWindow(Session(filled_store))
    qtbot.addWidget(window)
    window.show()
    qtbot.waitExposed(window)
    window.session.open_clip(chosen.clip, recipe=chosen.recipe, truth=chosen.truth, true_crossings=chosen.crossings)
    qtbot.waitUntil(lambda: window.session.clip is not None, timeout=WAIT)
    qtbot.waitUntil(lambda: up_to_date(window, stages=STAGES), timeout=WAIT)
    qtbot.waitUntil(lambda: window.pictures.frame is not None, timeout=WAIT)
    yield window
    window.close()
