"""A window on the short example, worked through to the end."""

from __future__ import annotations

import gc

import pytest
from PySide6.QtWidgets import QApplication

from drover.app.session import STAGES, StageState
from drover.app.theme import apply_theme
from drover.app.window import MainWindow
from drover.core.examples import example

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


@pytest.fixture(autouse=True)
def tidied(themed):
    """Widgets of the test before are freed here, on the interface thread, and never on a worker's."""
    gc.collect()
    gc.disable()
    yield
    gc.enable()
    gc.collect()


@pytest.fixture
def opened(window, qtbot):
    """The short example with its truth and recipe, everything up to date."""
    chosen = example("gap-short")
    window.session.open_clip(chosen.clip, recipe=chosen.recipe, truth=chosen.truth, true_crossings=chosen.crossings)
    qtbot.waitUntil(lambda: window.session.clip is not None, timeout=WAIT)
    qtbot.waitUntil(lambda: up_to_date(window, stages=STAGES), timeout=WAIT)
    qtbot.waitUntil(lambda: window.pictures.frame is not None, timeout=WAIT)
    return window
