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
from drover.core.recipe import Recipe
from drover.core.result_store import ResultStore

WAIT = 60_000


@pytest.fixture(scope="session", autouse=True)
def themed(qapp: QApplication) -> None:
    apply_theme(qapp)
    gc.freeze()  # nor need the program itself be looked through after every test


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


def free_what_was_closed(*, windows: bool = True) -> None:
    """Windows that were closed go now: Qt puts it off to its event loop, which tests seldom come back to.

    Without ``windows`` only what is new is looked through: what lived before, as a window handed on, still lives.
    """
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    gc.collect(2 if windows else 0)


def windows_there() -> list[int]:
    """The windows of the program, by address."""
    return sorted(id(one) for one in QApplication.topLevelWidgets() if isinstance(one, MainWindow))


@pytest.fixture(autouse=True)
def tidied(themed):
    """Widgets of a test are freed here, on the interface thread, and never on a worker's."""
    gc.disable()
    before, made, build = windows_there(), [], MainWindow.__init__

    def counted(self, *arguments, **more):
        made.append(id(self))
        build(self, *arguments, **more)

    MainWindow.__init__ = counted
    yield
    MainWindow.__init__ = build
    free_what_was_closed(windows=bool(made) or windows_there() != before)
    gc.enable()


def put_away(window: MainWindow) -> None:
    """Close for good."""
    window.close()
    window.deleteLater()


def open_the_example(store: ResultStore, qtbot) -> MainWindow:
    """A window on the short example with its truth and recipe, everything up to date."""
    chosen, window = example("gap-short"), MainWindow(Session(store))
    window.show()
    qtbot.waitExposed(window)
    window.session.open_clip(chosen.clip, recipe=chosen.recipe, truth=chosen.truth, true_crossings=chosen.crossings)
    qtbot.waitUntil(lambda: window.session.clip is not None, timeout=WAIT)
    qtbot.waitUntil(lambda: up_to_date(window, stages=STAGES), timeout=WAIT)
    qtbot.waitUntil(lambda: window.pictures.frame is not None, timeout=WAIT)
    return window


@pytest.fixture(scope="module")
def kept_windows(themed):
    """The window that the tests of a module hand on to each other; at most one."""
    kept: list[MainWindow] = []
    yield kept
    while kept:
        put_away(kept.pop())
    free_what_was_closed()


@pytest.fixture
def opened(request, qtbot, filled_store, kept_windows):
    """The short example, everything up to date: handed on by the test before where it could be brought back.

    Tests marked ``own_window`` get one that nobody used: what they do cannot be taken back, or is done but once.
    """
    own = request.node.get_closest_marker("own_window") is not None
    window = open_the_example(filled_store, qtbot) if own or not kept_windows else kept_windows.pop()
    window.activateWindow()
    window.field.setFocus()
    recipe = window.session.recipe
    yield window
    if not own and brought_back(window, recipe, qtbot):
        kept_windows.append(window)
    else:
        put_away(window)


def brought_back(window: MainWindow, recipe: Recipe, qtbot) -> bool:
    """Undo everything and go back to the start; False where something stays that a test could stumble over."""
    session = window.session
    window.playback.pause()
    session.undo.setIndex(0)
    session.undo.clear()
    if (
        session.recipe != recipe
        or window.saving.path is not None
        or window.banner.isVisible()
        or session.other is not None
    ):
        return False
    try:
        qtbot.waitUntil(lambda: up_to_date(window, stages=STAGES) and not window.saving.busy, timeout=5000)
    except qtbot.TimeoutError:
        return False
    session.view.select(None)
    session.view.show_all()
    window.reviewer.leave()
    window.playback.go(0)
    window.transport.speed.setCurrentIndex(window.transport.speed.findData(1.0))
    window.strip.choose("track")
    window.field.fit()
    return True
