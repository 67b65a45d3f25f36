"""The hardest scene, audited through the window by someone who sees what is true: the total comes out exact."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import Qt

from drover.app.session import STAGES
from drover.bench.counting import half_size
from drover.core.count.audit import audit_totals
from drover.core.score.crossing_match import match_crossings
from drover.core.simulate.farm import build_scene
from drover.core.simulate.write import write_scene
from windows import WAIT, up_to_date

SECONDS_A_CARD = 15.0  # to look at a card and press a key
AUDIT = 15 * 60.0


@pytest.fixture
def hardest(tmp_path, monkeypatch):
    """Pairs alike that cross at every angle, at half size so that it is soon drawn."""
    monkeypatch.setattr("drover.core.simulate.herd.TRIES", 8)  # whether they run into each other is not asked here
    write_scene(half_size(build_scene("crossing", seed=4, seconds=8.0)), tmp_path, preset="ultrafast")
    return tmp_path


def test_fifteen_minutes_of_audit_make_the_total_exact(window, qtbot, hardest):
    window.session.open_clip(
        hardest / "crossing.mp4", recipe=hardest / "recipe.toml", truth=hardest / "truth.csv",
        true_crossings=hardest / "crossings.csv",
    )  # fmt: skip
    session, panel, true = window.session, window.dials.audit, None
    qtbot.waitUntil(lambda: session.clip is not None, timeout=WAIT)
    qtbot.waitUntil(lambda: up_to_date(window, stages=STAGES), timeout=2 * WAIT)
    true = session.true_crossings
    found = match_crossings(session.crossings, true)
    assert found.errors, "the scene is hard: something is counted wrong"
    wrong = [(e.time, e.direction) for e in found.errors if e.kind != "missed"]

    window.show_audit()
    qtbot.waitUntil(lambda: panel.model.rowCount() == len(session.crossings), timeout=WAIT)
    keys = 0
    panel.list.setCurrentIndex(panel.model.index(0))
    while any(entry.open for entry in panel.model.entries):
        entry = panel.current
        false = any(abs(entry.time - t) < 1e-6 and entry.direction == way for t, way in wrong)
        qtbot.keyClick(panel.list, Qt.Key.Key_X if false else Qt.Key.Key_C)
        keys += 1
        assert keys <= len(session.crossings)
    for error in found.errors:
        way = error.direction
        if error.kind == "wrong way":
            way = -error.direction  # what was counted was rejected; the true one goes the other way
        elif error.kind != "missed":
            continue
        window.playback.go(error.frame)
        shift = Qt.KeyboardModifier.ShiftModifier if way < 0 else Qt.KeyboardModifier.NoModifier
        qtbot.keyClick(panel.list, Qt.Key.Key_A, shift)
        keys += 1
    assert keys * SECONDS_A_CARD <= AUDIT

    for way, name in ((1, "forward"), (-1, "back")):
        exact = int((true.direction == way).sum())
        assert audit_totals(session.audit, session.crossings, 0, way).corrected == exact
        assert window.dials.count.cards[0].cells[f"{name} corrected"].text() == str(exact)
    assert np.all([entry.said for entry in panel.model.entries])
