"""The camera's motion: whether it is followed, what there is to say of it, and its way over time."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton

from drover.app.dials.parts import Card, ChoiceRow, muted
from drover.app.dials.plotting import pg
from drover.app.dials.time_plot import TimePlot
from drover.app.session import Session
from drover.app.theme import CLAY, INK, MOSS, OCHRE, colour
from drover.core.camera.motion import CameraMotion, FrameState
from drover.core.count.ground import Ground
from drover.core.recipe import value_of, with_value
from drover.core.setting_info import setting_help

__all__ = ["CURVES", "CameraCard"]

MODES = {"auto": "as the clip asks", "off": "not at all", "steady": "sways about a view", "free": "pans and zooms"}
MOTIONS = {
    "shift": "shift alone", "rigid": "shift and turn", "similarity": "shift, turn, zoom", "affine": "and slant",
    "projective": "and tilt",
}  # fmt: skip
CURVES = {
    "place": ("x", "y"), "speed": ("speed",), "turn": ("turn",), "zoom": ("zoom",), "agreement": ("shared", "covered"),
}  # fmt: skip
UNITS = {
    "place": "px, right and down",
    "turn": "degrees",
    "zoom": "times the first view",
    "agreement": "% of points, hidden",
}


class CameraCard(Card):
    """How the camera is taken, sentences, and a plot that scrubs the footage."""

    pair_wanted = Signal()
    steady_wanted = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__("The camera")
        self.session = session
        self.choices = [
            self._choice("is followed", "camera.mode", MODES),
            self._choice("a motion may be", "camera.motion", MOTIONS),
        ]
        for row in self.choices:
            self.body.addWidget(row)
        self.said = muted("", wrap=True)
        self.said.setAccessibleName("what the camera does")
        self.body.addWidget(self.said)
        self.curve = QComboBox()
        self.curve.addItems(list(CURVES))
        self.curve.setAccessibleName("curve of the camera")
        self.curve.currentIndexChanged.connect(self._show_curve)
        self.unit = muted("")
        head = QHBoxLayout()
        self.over_time = QLabel("over time")
        head.addWidget(self.over_time)
        head.addWidget(self.curve)
        head.addWidget(self.unit, 1)
        self.body.addLayout(head)
        self.plot = TimePlot(session, height=104)
        self.plot.setAccessibleName("the camera over time")
        self.body.addWidget(self.plot)
        buttons = QHBoxLayout()
        self.pair, self.steady = QPushButton("Look at a pair…"), QPushButton("Save steadied…")
        self.pair.setToolTip("Hold this frame against another: detectors, descriptions, motions side by side.")
        self.steady.setToolTip("Write the clip with the camera's motion taken out.")
        self.pair.clicked.connect(self.pair_wanted)
        self.steady.clicked.connect(self.steady_wanted)
        buttons.addWidget(self.pair)
        buttons.addWidget(self.steady)
        buttons.addStretch(1)
        self.body.addLayout(buttons)
        self._shown: CameraMotion | None = None
        session.detections_changed.connect(self._show)
        session.recipe_changed.connect(self._show_recipe)
        session.clip_changed.connect(self._show)
        self._show_recipe()
        self._show(again=True)

    def _choice(self, label: str, path: str, words: dict[str, str]) -> ChoiceRow:
        row = ChoiceRow(label, path, words, setting_help(path))
        row.changed.connect(self._choose)
        return row

    def _choose(self, path: str, word: str) -> None:
        changed = with_value(self.session.recipe, path, word)
        self.session.edit(changed, f"set {path.split('.')[-1]} of the camera")

    def _show_recipe(self) -> None:
        for row in self.choices:
            row.show_value(value_of(self.session.recipe, row.path))

    @property
    def motion(self) -> CameraMotion | None:
        """The camera's motion, where it moves."""
        detect = self.session.detect
        return None if detect is None else detect.motion

    def _show(self, *, again: bool = False) -> None:
        motion = self.motion
        if motion is self._shown and not again:
            return
        self._shown = motion
        moves = motion is not None
        if motion is None:
            self.said.setText("It stands still." if self.session.detect is not None else "Not looked at yet.")
            self.note.setText("")
        else:
            self.said.setText(" ".join(motion.words))
            self.note.setText(f"{len(motion) / max(motion.seconds, 1e-9):.0f} frames/s" if motion.seconds else "")
        for widget in (self.over_time, self.curve, self.unit, self.plot):
            widget.setVisible(moves)
        self._show_curve()

    def _show_curve(self) -> None:
        motion, clip = self.motion, self.session.clip
        self.plot.clear()
        self.plot.addItem(self.plot.cursor_line)
        if motion is None or clip is None:
            return
        chosen = self.curve.currentText()
        ground = self.session.counted.ground if self.session.counted is not None else None
        curves = motion.speeds(clip.times)
        if chosen == "speed" and ground is not None:
            curves["speed"] = _metres_a_second(motion, clip.times, ground)
        curves |= {"shared": 100 * motion.shared, "covered": 100 * motion.covered}
        self.unit.setText(("m/s" if ground is not None else "px/s") if chosen == "speed" else UNITS[chosen])
        times = clip.times[: len(motion)]
        for name, tint in zip(CURVES[chosen], (MOSS, OCHRE), strict=False):
            values = curves[name][: len(times)]
            self.plot.plot(times, values, pen=pg.mkPen(tint, width=1.4))
        self._mark_states(motion, times)
        self.plot.setXRange(float(times[0]), float(times[-1]), padding=0.01)
        self.plot.move_cursor()

    def _mark_states(self, motion: CameraMotion, times: np.ndarray) -> None:
        """Where it is covered or held a band, at another view a line."""
        for state, tint in ((FrameState.COVERED, OCHRE), (FrameState.HELD, CLAY)):
            on = np.flatnonzero(np.diff(np.concatenate([[0], (motion.state == state).astype(np.int8), [0]])))
            for first, past in on.reshape(-1, 2).tolist():
                band = pg.LinearRegionItem(
                    (float(times[first]), float(times[min(past, len(times) - 1)])), movable=False,
                    brush=colour(tint, 60), pen=pg.mkPen(None),
                )  # fmt: skip
                band.setZValue(-5)
                self.plot.addItem(band)
        for cut in motion.cuts:
            self.plot.addItem(
                pg.InfiniteLine(float(times[cut]), angle=90, pen=pg.mkPen(INK, style=pg.QtCore.Qt.PenStyle.DashLine))
            )


def _metres_a_second(motion: CameraMotion, times: np.ndarray, ground: Ground) -> np.ndarray:
    """The speed of the middle of the picture over the ground, m/s; NaN where the ground has no measure."""
    curves = motion.speeds(times)
    at = ground.metres(np.column_stack([curves["x"], curves["y"]]))
    step = np.hypot(*np.diff(at, axis=0, prepend=at[:1]).T)
    apart = np.maximum(np.diff(times[: len(motion)], prepend=times[0] - 1.0), 1e-6)
    return np.where(motion.state == FrameState.NEW_VIEW, 0.0, step / apart)
