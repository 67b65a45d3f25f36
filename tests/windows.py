"""Windows of tests: opened on the short example, waited for, brought back to how they were, and freed."""

from __future__ import annotations

import gc

from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication, QWidget

from drover.app.session import STAGES, Session, StageState
from drover.app.window import MainWindow
from drover.core.examples import example
from drover.core.recipe import Recipe
from drover.core.result_store import ResultStore

WAIT = 60_000  # ms


def up_to_date(window: MainWindow, *, stages=STAGES[:4]) -> bool:
    return all(window.session.state_of(stage) == StageState.FRESH for stage in stages)


def free_what_was_closed(*, windows: bool = True) -> None:
    """Windows that were closed go now: Qt puts it off to its event loop, which tests seldom come back to.

    Without ``windows`` only what is new is looked through: what lived before, as a window handed on, still lives.
    """
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    gc.collect(2 if windows else 0)


def wheel(widget: QWidget, at: QPoint, steps: int, modifier=Qt.KeyboardModifier.NoModifier) -> None:
    """Turn the mouse wheel at a place on a widget."""
    event = QWheelEvent(
        QPointF(at), QPointF(widget.mapToGlobal(at)), QPoint(), QPoint(0, 120 * steps), Qt.MouseButton.NoButton,
        modifier, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(widget, event)


def windows_there() -> list[int]:
    """The windows of the program, by address."""
    return sorted(id(one) for one in QApplication.topLevelWidgets() if isinstance(one, MainWindow))


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
