"""A window on the short example, worked through to the end."""

from __future__ import annotations

import gc

import pytest
from PySide6.QtWidgets import QApplication

from drover.app.theme import apply_theme
from drover.app.window import MainWindow
from windows import brought_back, free_what_was_closed, open_the_example, put_away, windows_there


@pytest.fixture(scope="session", autouse=True)
def themed(qapp: QApplication) -> None:
    apply_theme(qapp)
    gc.freeze()  # nor need the program itself be looked through after every test


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
