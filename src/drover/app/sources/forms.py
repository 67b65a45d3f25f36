"""Three ways to name a source: a file or images, a camera of this machine, a network address."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QComboBox,
    QDoubleSpinBox,
    QFileDialog,
    QFormLayout,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QWidget,
)

from drover.app.dials.parts import muted
from drover.app.file_kinds import VIDEO_FILTER
from drover.app.preferences import preferences
from drover.app.sources.devices import devices
from drover.core.footage.images import with_rate
from drover.core.footage.stream import SCHEMES

__all__ = ["CameraForm", "FileForm", "NetworkForm", "SourceForm"]

AS_IT_COMES = "as it comes"
SIZES = (AS_IT_COMES, "640 × 480", "1280 × 720", "1920 × 1080")


class SourceForm(QWidget):
    """Names a source: ``text`` is its path or address, ``wanted`` what a device is asked for."""

    changed = Signal()
    title, live = "", True

    def text(self) -> str:
        """The path or address, empty while nothing is chosen."""
        raise NotImplementedError

    def set_text(self, text: str) -> None:
        """Choose this source, where it can be named by hand."""
        del text

    def wanted(self) -> tuple[int, int, float] | None:
        """Width, height and frames/s, where something is asked for."""
        return None

    def _rate_box(self, unit: str, low: float, high: float, name: str) -> QDoubleSpinBox:
        box = QDoubleSpinBox()
        box.setRange(low, high)
        box.setDecimals(2 if low < 1 else 0)
        box.setValue(25.0)
        box.setSuffix(f" {unit}")
        box.setAccessibleName(name)
        box.valueChanged.connect(lambda _: self.changed.emit())
        return box

    def _recent_box(self, recent: list[str], name: str) -> QComboBox:
        box = QComboBox()
        box.setEditable(True)
        box.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        box.addItems(recent)
        box.setCurrentText("")
        box.setMinimumContentsLength(24)
        box.setAccessibleName(name)
        box.editTextChanged.connect(lambda _: self.changed.emit())
        return box


class FileForm(SourceForm):
    """A video, a folder of images, or a pattern."""

    title, live = "Video or images", False

    def __init__(self) -> None:
        super().__init__()
        form = QGridLayout(self)
        form.setColumnStretch(1, 1)
        recent = [one for one in preferences().recent if "://" not in one and not one.startswith("/dev/")]
        self.path = self._recent_box(recent, "video, folder of images or pattern")
        file, folder = QPushButton("File…"), QPushButton("Folder of images…")
        file.clicked.connect(self._choose_file)
        folder.clicked.connect(self._choose_folder)
        self.rate = self._rate_box("images/s", 0.01, 1000.0, "images a second")
        self.at = QLabel("at")
        for place, widget in enumerate((QLabel("source"), self.path, file, folder, self.at, self.rate)):
            form.addWidget(widget, 0, place)
        form.addWidget(muted("a video, a folder of images, or a pattern as shots/left*.png"), 1, 1, 1, 5)
        self.path.editTextChanged.connect(lambda _: self._show_rate())
        self._show_rate()

    def text(self) -> str:
        """A folder or pattern of images has its rate with it."""
        text = self.path.currentText().strip()
        return str(with_rate(Path(text), self.rate.value())) if self._has_rate(text) else text

    def set_text(self, text: str) -> None:
        """Another file or folder."""
        self.path.setCurrentText(text)

    def _has_rate(self, text: str) -> bool:
        path = Path(text)
        return bool(text) and "@" not in path.name and (path.is_dir() or any(sign in path.name for sign in "*?["))

    def _show_rate(self) -> None:
        for widget in (self.at, self.rate):
            widget.setVisible(self._has_rate(self.path.currentText().strip()))

    def _choose_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Choose a video", "", VIDEO_FILTER)
        if name:
            self.path.setCurrentText(name)

    def _choose_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Choose a folder of images")
        if name:
            self.path.setCurrentText(name)


class CameraForm(SourceForm):
    """A camera of this machine, and what it is asked for."""

    title = "Camera"

    def __init__(self) -> None:
        super().__init__()
        form = QHBoxLayout(self)
        self.device, self.size = QComboBox(), QComboBox()
        self.device.setAccessibleName("camera")
        for path, name in devices():
            self.device.addItem(f"{name} ({path})", path)
        if not self.device.count():
            self.device.addItem("no camera found on this machine", "")
        self.size.addItems(SIZES)
        self.size.setAccessibleName("size asked for")
        self.rate = self._rate_box("frames/s", 1, 240, "rate asked for")
        form.addWidget(QLabel("camera"))
        form.addWidget(self.device, 1)
        form.addWidget(QLabel("asked for"))
        form.addWidget(self.size)
        form.addWidget(self.rate)
        for box in (self.device, self.size):
            box.currentIndexChanged.connect(lambda _: self.changed.emit())

    def set_text(self, text: str) -> None:
        """Another device, if it is there."""
        self.device.setCurrentIndex(max(0, self.device.findData(text)))

    def text(self) -> str:
        """The device's path."""
        return self.device.currentData() or ""

    def wanted(self) -> tuple[int, int, float] | None:
        """Nothing is asked for while the size is left as it comes."""
        if self.size.currentText() == AS_IT_COMES:
            return None
        width, height = self.size.currentText().split(" × ")
        return int(width), int(height), self.rate.value()


class NetworkForm(SourceForm):
    """The address of a stream."""

    title = "Network stream"

    def __init__(self) -> None:
        super().__init__()
        form = QFormLayout(self)
        self.address = self._recent_box([one for one in preferences().recent if "://" in one], "address of the stream")
        form.addRow("address", self.address)
        form.addRow("", muted(f"as rtsp://camera.example/stream; {', '.join(SCHEMES)} are understood"))

    def set_text(self, text: str) -> None:
        """Another address."""
        self.address.setCurrentText(text)

    def text(self) -> str:
        """The address."""
        return self.address.currentText().strip()
