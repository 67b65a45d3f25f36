"""The ground's measure: four points clicked on the field, the distances between them, and how far to trust it."""

from __future__ import annotations

import math

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QDoubleSpinBox, QGridLayout, QHBoxLayout, QPushButton

from drover.app.dials.parts import Card, muted
from drover.app.session import Session
from drover.app.theme import number_font
from drover.core.count.ground import path_lengths, speeds
from drover.core.errors import DroverError
from drover.core.recipe import with_value

__all__ = ["GroundCard"]

PAIRS = ("1 to 2", "2 to 3", "3 to 4", "4 to 1", "1 to 3", "2 to 4")


class GroundCard(Card):
    """Four points and six distances; the misfit; the chosen object's way and speed."""

    points_wanted = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__("Metres on the ground")
        self.session = session
        self.body.addWidget(muted("Click four points on flat ground, then give the distances between them.", wrap=True))
        row = QHBoxLayout()
        self.pick, self.use, self.forget = QPushButton("Click four points"), QPushButton("Use"), QPushButton("Forget")
        self.pick.clicked.connect(lambda: self.points_wanted.emit("ground"))
        self.use.clicked.connect(self._use)
        self.forget.clicked.connect(self._forget)
        for button in (self.pick, self.use, self.forget):
            row.addWidget(button)
        row.addStretch(1)
        self.body.addLayout(row)
        grid = QGridLayout()
        self.boxes: list[QDoubleSpinBox] = []
        for place, name in enumerate(PAIRS):
            box = QDoubleSpinBox()
            box.setRange(0, 100_000)
            box.setDecimals(2)
            box.setSuffix(" m")
            box.setSpecialValueText("–")
            box.setFixedWidth(86)
            box.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
            box.setFont(number_font(12))
            box.setToolTip("Distance on the ground between these two points; left empty where it was not measured.")
            box.setAccessibleName(f"distance {name}")
            grid.addWidget(muted(name), place % 3, 2 * (place // 3))
            grid.addWidget(box, place % 3, 2 * (place // 3) + 1)
            self.boxes.append(box)
        self.body.addLayout(grid)
        self.words = muted("", wrap=True)
        self.words.setAccessibleName("ground measure")
        self.body.addWidget(self.words)
        self.points: tuple[tuple[float, float], ...] = ()
        session.recipe_changed.connect(self._show_recipe)
        session.crossings_changed.connect(self.refresh)
        session.frame_changed.connect(lambda _: self.refresh())
        self._show_recipe()

    def take_points(self, points: list[tuple[float, float]]) -> None:
        """Four points clicked on the field."""
        self.points = tuple(points)
        self.words.setText("Now give the four sides and at least one diagonal, and press Use.")
        self.boxes[0].setFocus()

    def _show_recipe(self) -> None:
        ground = self.session.recipe.count.ground
        if ground.points:
            self.points = ground.points
            for box, distance in zip(self.boxes, ground.distances, strict=True):
                with QSignalBlocker(box):
                    box.setValue(distance)
        self.forget.setEnabled(bool(ground.points))
        self.refresh()

    def _use(self) -> None:
        if len(self.points) != 4:
            self.session.message_raised.emit("click four points on the field first")
            return
        wanted = {"points": [list(p) for p in self.points], "distances": [box.value() for box in self.boxes]}
        try:
            self.session.edit(with_value(self.session.recipe, "count.ground", wanted), "measure the ground")
        except DroverError as error:
            self.session.message_raised.emit(str(error))

    def _forget(self) -> None:
        self.points = ()
        self.session.edit(with_value(self.session.recipe, "count.ground", {}), "forget the ground's measure")

    def refresh(self) -> None:
        """Say how well the distances fit, and how the chosen object moves."""
        counted, tracks, clip = self.session.counted, self.session.tracks, self.session.clip
        ground = counted.ground if counted is not None else None
        if ground is None or tracks is None or clip is None:
            return
        told = "No distance is left over to check by; measure both diagonals for that."
        if math.isfinite(ground.misfit):
            told = f"Distances fit to {ground.misfit:.2f} m, {ground.misfit_px:.1f} px in the picture."
        who = self.session.selected
        if who is not None and len(tracks.path_of(who)):
            told += self._of_object(who)
        self.words.setText(told)

    def _of_object(self, who: int) -> str:
        counted, tracks, clip = self.session.counted, self.session.tracks, self.session.clip
        assert counted is not None and counted.ground is not None and tracks is not None and clip is not None
        if self._known[0] is not tracks or self._known[1] is not counted.ground:
            measured = path_lengths(tracks, clip.times, counted.ground), speeds(tracks, clip.times, counted.ground)
            self._known = tracks, counted.ground, measured
        lengths, speed = self._known[2]
        metres, mean, top = lengths[who]
        rows = tracks.path_of(who)
        here = rows[tracks.frame[rows] == self.session.frame]
        now = f", now {speed[here[0]]:.1f} m/s" if len(here) and math.isfinite(speed[here[0]]) else ""
        return f" {who} went {metres:.1f} m, {mean:.1f} m/s on average, {top:.1f} at most{now}."

    _known: tuple = (None, None, None)
