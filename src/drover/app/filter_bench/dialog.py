"""The filter bench: dials at the left, the traces at the right, the forecast on the field while it is open."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QSignalBlocker, Qt, QTimer, Signal
from PySide6.QtGui import QCloseEvent, QShowEvent
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSlider,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from drover.app.dials.parts import muted, title
from drover.app.filter_bench.ground import in_view, on_the_ground, true_way
from drover.app.filter_bench.plots import BenchPlots
from drover.app.jobs import LatestJob
from drover.app.session import Session
from drover.core.camera.motion import CameraMotion
from drover.core.recipe import MotionSettings, as_taken, with_value
from drover.core.track.pace import USUAL, with_pace
from drover.core.track.ride import (
    FAULTS,
    HORIZON,
    Measured,
    Ride,
    Trade,
    forecast,
    measured_of,
    ride,
    trade,
    with_fault,
)
from drover.core.types import Detections

__all__ = ["FilterBench"]

Float = NDArray[np.float64]
STEPS = 200  # of a slider from least to most, evenly in its logarithm
PUSHES, NOISES = (0.01, 20.0), (0.1, 20.0)


class FilterBench(QDialog):
    """Follows the identity chosen; ``ahead`` tells of a forecast to be drawn on the field, (frames, 4) or None."""

    ahead = Signal(object)

    def __init__(self, session: Session, parent: QWidget | None) -> None:
        super().__init__(parent)
        self.setWindowTitle("Filter bench")
        self.resize(1120, 720)
        self.session = session
        self.measured: Measured | None = None
        self.made: Ride | None = None
        self.identity = 0
        self._reference: Float | None = None
        self._trade: Trade | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 12, 14, 12)
        row.setSpacing(12)
        row.addLayout(self._dials())
        self.plots = BenchPlots(session)
        self.plots.span.sigRegionChangeFinished.connect(lambda: self.refresh(trade_too=True))
        row.addWidget(self.plots, 1)
        self.job = LatestJob("trade", self)
        self.job.done.connect(self._on_trade)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(150)
        self._later.timeout.connect(self._ask_trade)
        session.frame_changed.connect(self._on_frame)
        session.tracks_changed.connect(self._on_tracks)
        session.clip_changed.connect(self.close)
        self._take_recipe()
        self._choose(session.selected or self._longest())

    # --- dials ------------------------------------------------------------------------------------------------

    def _dials(self) -> QVBoxLayout:
        column = QVBoxLayout()
        self.who = title("")
        column.addWidget(self.who)
        form = QFormLayout()
        self.model, self.fault = QComboBox(), QComboBox()
        self.model.addItems(["steady", "pushed", "turning"])
        self.fault.addItems(FAULTS)
        self.push, self.noise = QSlider(Qt.Orientation.Horizontal), QSlider(Qt.Orientation.Horizontal)
        self.push_words, self.noise_words = QLabel(""), QLabel("")
        self.frames = QSpinBox()
        self.frames.setRange(1, 100)
        self.frames.setValue(HORIZON)
        self.frames.setSuffix(" frames")
        for slider, name, tip in (
            (self.push, "jumpiness", "How abruptly it may change speed. Higher turns faster and is rougher."),
            (self.noise, "box noise", "How much its box jitters. Higher smooths more and lags more."),
        ):  # fmt: skip
            slider.setRange(0, STEPS)
            slider.setAccessibleName(name)
            slider.setToolTip(tip)
            slider.valueChanged.connect(lambda _: self.refresh(trade_too=True))
        self.model.setAccessibleName("motion filter")
        self.model.currentTextChanged.connect(lambda _: self.refresh(trade_too=True))
        self.fault.setAccessibleName("fault on the brushed span")
        self.fault.setToolTip("What happens between the two edges on the x plot; drag them.")
        self.fault.currentTextChanged.connect(self._on_fault)
        self.frames.setAccessibleName("frames ahead")
        self.frames.valueChanged.connect(lambda _: self._tell_ahead())
        form.addRow("filter", self.model)
        form.addRow("jumpiness", self.push)
        form.addRow("", self.push_words)
        form.addRow("box noise", self.noise)
        form.addRow("", self.noise_words)
        form.addRow("forecast", self.frames)
        form.addRow("fault", self.fault)
        column.addLayout(form)
        self.words = muted("", wrap=True)
        self.words.setAccessibleName("what the filter makes of it")
        self.words.setFixedWidth(232)
        column.addWidget(self.words)
        column.addStretch(1)
        self.take, self.best, self.back = (
            QPushButton("Take these settings"), QPushButton("Take the best"), QPushButton("Back to the recipe's"),
        )  # fmt: skip
        self.take.setToolTip("Put filter, jumpiness and box noise into the recipe; the whole clip is linked again.")
        self.best.setToolTip("Put the slider at the jumpiness of the least error.")
        self.take.clicked.connect(self._take)
        self.best.clicked.connect(self._take_best)
        self.back.clicked.connect(self._back)
        for button in (self.best, self.back, self.take):
            column.addWidget(button)
        return column

    @property
    def jumpiness(self) -> float:
        """What the slider says, px/frame²."""
        return _value(self.push, PUSHES)

    @property
    def motion(self) -> MotionSettings:
        """The settings as the dials have them."""
        changed = {"model": self.model.currentText(), "box_noise": _value(self.noise, NOISES)}
        return self.session.recipe.track.motion.model_copy(update=changed | {"jumpiness": self.jumpiness})

    def _take_recipe(self) -> None:
        track, taken = self.session.recipe.track, self.session.track_taken
        motion = (with_pace(track, USUAL) if taken is None else as_taken(track, taken)).motion
        with QSignalBlocker(self.model), QSignalBlocker(self.push), QSignalBlocker(self.noise):
            self.model.setCurrentText(motion.model)
            _put(self.push, PUSHES, motion.jumpiness)
            _put(self.noise, NOISES, motion.box_noise)

    @property
    def _motion(self) -> CameraMotion | None:
        detect = self.session.detect
        return None if detect is None else detect.motion

    # --- whose filter -----------------------------------------------------------------------------------------

    def _longest(self) -> int:
        tracks = self.session.tracks
        if tracks is None or not len(tracks):
            return 0
        paths = tracks.paths
        return int(paths.identity[np.argmax(np.diff(paths.start))])

    def _choose(self, identity: int) -> None:
        session, clip = self.session, self.session.clip
        found: Detections | None = session.linked_detections
        self.identity, self.measured, self.made = identity, None, None
        if session.tracks is not None and found is not None and clip is not None and identity:
            self.measured = on_the_ground(measured_of(session.tracks, found, clip.times, identity), self._motion)
        name = session.names.get(identity)
        called = f"{identity}, {name}" if name else f"{identity}"
        self.who.setText(f"Identity {called}" if self.measured is not None else "Choose one in the lanes")
        if self.measured is not None:
            time = self.measured.time
            middle, reach = float(time.mean()), float(time[-1] - time[0]) / 8
            with QSignalBlocker(self.plots.span):
                self.plots.span.setRegion((middle - reach, middle + reach))
            for plot in self.plots.over_time:
                plot.plot.setXRange(float(time[0]), float(time[-1]), padding=0.01)
            self.plots.show_cursor()
        self._trade = None
        self.refresh(trade_too=True)
        self.plots.fit()

    def _on_frame(self, _: int) -> None:
        chosen = self.session.selected
        if chosen is not None and chosen != self.identity:
            self._choose(chosen)
        self._tell_ahead()

    def _on_tracks(self) -> None:
        self._choose(self.session.selected or self.identity or self._longest())

    # --- showing ----------------------------------------------------------------------------------------------

    def _faulty(self) -> Measured | None:
        if self.measured is None:
            return None
        low, high = self.plots.span.getRegion()
        return with_fault(self.measured, self.fault.currentText(), (float(low), float(high)))  # type: ignore[arg-type]

    def _on_fault(self, fault: str) -> None:
        self.plots.span.setVisible(fault != "none")
        self.refresh(trade_too=True)

    def refresh(self, *, trade_too: bool = False) -> None:
        """Ride again with the dials as they are."""
        self.push_words.setText(f"{self.jumpiness:.2f} px/frame²")
        self.noise_words.setText(f"{_value(self.noise, NOISES):.1f} px")
        measured = self._faulty()
        if measured is None:
            self.words.setText("")
            return
        self.made = ride(measured, self.motion)
        self.plots.show_ride(measured, self.made)
        self._show_words(measured, self.made)
        self._tell_ahead()
        if self._trade is not None:
            self.plots.trade.show_now(self._now())
        if trade_too:
            self._later.start()

    def _show_words(self, measured: Measured, made: Ride) -> None:
        mean, _ = made.errors_ahead()
        told = []
        for ahead in (1, 5, HORIZON):
            if np.isfinite(mean[ahead - 1]):
                told.append(f"{mean[ahead - 1]:.1f} px at {ahead}")
        known = np.isfinite(made.nis)
        wild = 100 * float((made.nis[known] > 5.991).mean()) if known.any() else 0.0
        seen = int((measured.seen & measured.there).sum())
        self.words.setText(
            f"{seen} sightings in {len(measured)} frames. Forecasts are off by {', '.join(told) or 'nothing known'} "
            f"frames ahead. {wild:.1f} % of the misses lie beyond the bound (right is 5 %); their normalised square is "
            f"{float(made.nis[known].mean()) if known.any() else 0.0:.2f} on average (right is 2)."
        )

    def _tell_ahead(self) -> None:
        measured = self.measured
        if measured is None or self.made is None or not self.isVisible():
            return
        frame, motion = self.session.frame, self._motion
        places = forecast(measured, self.made, self.motion, self.jumpiness, frame, self.frames.value())
        self.ahead.emit(places if motion is None or not len(places) else in_view(places, frame, motion))

    # --- what calmness costs ----------------------------------------------------------------------------------

    def _ask_trade(self) -> None:
        self.plots.fit()
        measured, motion = self._faulty(), self.motion
        if measured is None or self.measured is None or self.made is None:
            return
        plain = self.measured
        true = true_way(self.session, self.measured, self.identity)
        smooth = ride(plain, motion).smooth

        def work(_: object) -> tuple[Trade, Float, str]:
            reference, words = (true, "the truth") if true is not None else (smooth, "the smoothed way")
            return trade(measured, motion, reference), reference, words

        self.job.submit(work)

    def _on_trade(self, found: tuple[Trade, Float, str]) -> None:
        self._trade, self._reference, words = found
        self.plots.trade.show_trade(self._trade, words, self._now())
        self.plots.fit()

    def _now(self) -> tuple[float, float]:
        """Roughness and error of the dials as they are."""
        if self.made is None or self._reference is None or len(self._reference) != len(self.made.filtered):
            return float("nan"), float("nan")
        way = self.made.filtered
        bend = way[2:] - 2 * way[1:-1] + way[:-2]
        off = self._reference - way
        if not np.isfinite(off).any() or not np.isfinite(bend).any():
            return float("nan"), float("nan")
        error = float(np.sqrt(np.nanmean((off**2).sum(axis=1))))
        return float(np.sqrt(np.nanmean((bend**2).sum(axis=1)))), error

    # --- taking over ------------------------------------------------------------------------------------------

    def _take(self) -> None:
        recipe = self.session.recipe
        for name, value in (
            ("model", self.model.currentText()), ("jumpiness", round(self.jumpiness, 3)),
            ("box_noise", round(_value(self.noise, NOISES), 2)),
        ):  # fmt: skip
            recipe = with_value(recipe, f"track.motion.{name}", value)
        self.session.edit(recipe, "take the filter bench's settings")

    def _take_best(self) -> None:
        if self._trade is not None:
            _put(self.push, PUSHES, float(self._trade.jumpiness[self._trade.best]))

    def _back(self) -> None:
        self._take_recipe()
        self.refresh(trade_too=True)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._tell_ahead()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.ahead.emit(None)
        self._later.stop()
        self.job.close()
        super().closeEvent(event)


def _value(slider: QSlider, ends: tuple[float, float]) -> float:
    share = slider.value() / STEPS
    return float(ends[0] * (ends[1] / ends[0]) ** share)


def _put(slider: QSlider, ends: tuple[float, float], value: float) -> None:
    held = min(max(value, ends[0]), ends[1])
    slider.setValue(round(STEPS * np.log(held / ends[0]) / np.log(ends[1] / ends[0])))
