"""Which file? Every question that a menu entry asks before it can do its work."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QFileDialog, QMessageBox

from drover.app.file_kinds import VIDEO_FILTER
from drover.app.jobs import LatestJob
from drover.core.errors import DroverError
from drover.core.footage.images import IMAGE_ENDINGS
from drover.core.formats.box_import import first_line_has_commas, read_box_file
from drover.core.formats.box_table import BoxFile
from drover.core.recipe import read_recipe

if TYPE_CHECKING:
    from drover.app.batch.dialog import BatchDialog
    from drover.app.window import MainWindow

__all__ = ["PROJECT_ENDING", "Asking"]

PROJECT_FILTER = "Drover project (*.drover)"
PROJECT_ENDING = ".drover"
BOX_ENDINGS = (".csv", ".txt", ".json")


class Asking(QObject):
    """Asks for files on behalf of a window, and hands them on."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self.window, self.session, self.banner = window, window.session, window.banner
        self.batch_dialog: BatchDialog | None = None
        self._box_job = LatestJob("boxes", self)
        self._box_job.done.connect(self._on_boxes_read)
        self._box_job.failed.connect(self.banner.say)

    def clip(self) -> None:
        """Ask which clip to open."""
        name, _ = QFileDialog.getOpenFileName(self.window, "Open a clip", "", VIDEO_FILTER)
        if name:
            self.window.open_path(Path(name))

    def project(self) -> None:
        """Ask which project to open."""
        name, _ = QFileDialog.getOpenFileName(self.window, "Open a project", "", PROJECT_FILTER)
        if name:
            self.window.open_path(Path(name))

    def save(self) -> None:
        """Ask where to keep the project."""
        if self.session.clip is None:
            self.banner.say("there is nothing to save yet; open a clip first")
            return
        dialog = QFileDialog(self.window, "Save the project", "", PROJECT_FILTER)
        dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        dialog.setDefaultSuffix(PROJECT_ENDING[1:])
        if dialog.exec():
            self.window.save_as(Path(dialog.selectedFiles()[0]))

    def may_replace(self, path: Path) -> bool:
        """Whether a file that is there already may be replaced."""
        answer = QMessageBox.question(
            self.window, "Replace the file?", f"{path.name} is there already. Replace it?",
            QMessageBox.StandardButton.Yes | QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.Cancel,
        )  # fmt: skip
        return answer == QMessageBox.StandardButton.Yes

    def may_close_unsaved(self, fault: str) -> bool:
        """Whether to close although the work could not be saved."""
        box = QMessageBox(self.window)
        box.setIcon(QMessageBox.Icon.Warning)
        box.setWindowTitle("Not saved")
        box.setText("Your last changes could not be saved. Close and lose them?")
        box.setInformativeText(fault)
        lose = box.addButton("Close and lose them", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Keep the window open", QMessageBox.ButtonRole.RejectRole)
        box.exec()
        return box.clickedButton() is lose

    def may_leave(self, fault: str) -> bool:
        """Whether to go on to something else: what could not be saved is not left behind unasked."""
        return not fault or self.may_close_unsaved(fault)

    def truth(self) -> None:
        """Ask for the truth of this clip."""
        kinds = "Rows of boxes (*.csv *.txt);;All files (*)"
        name, _ = QFileDialog.getOpenFileName(self.window, "Load truth", "", kinds)
        if name:
            self._try(lambda: self.session.load_truth(Path(name)))

    def true_crossings(self) -> None:
        """Ask for a table of true crossings."""
        name, _ = QFileDialog.getOpenFileName(self.window, "Load true crossings", "", "Crossings (*.csv)")
        if name:
            self._try(lambda: self.session.load_true_crossings(Path(name)))

    def boxes(self) -> None:
        """Ask for boxes of another detector."""
        if self.session.clip is None:
            self.banner.say("open the clip first; boxes belong to a clip")
            return
        kinds = "Boxes (*.csv *.txt *.json);;All files (*)"
        name, _ = QFileDialog.getOpenFileName(self.window, "Bring in boxes", "", kinds)
        if name:
            self.read_boxes(Path(name))

    def read_boxes(self, path: Path) -> None:
        """Read a file of boxes, or the folder of a text file an image, and show what it holds."""
        clip = self.session.clip
        if clip is None:
            return
        inside = path.parent if path.suffix == ".txt" and not first_line_has_commas(path) else path

        def work(cancelled):  # type: ignore[no-untyped-def]
            return inside, read_box_file(
                inside, frame_count=clip.frame_count, size=(clip.width, clip.height), watch=lambda _: cancelled()
            )

        self._box_job.submit(work)
        self.window.hint(f"reading {inside.name}")

    def _on_boxes_read(self, read: tuple[Path, BoxFile]) -> None:
        path, found = read
        clip = self.session.clip
        if clip is None:
            return
        from drover.app.box_import_dialog import BoxImportDialog  # with tables, which a start does not need

        self.box_dialog = BoxImportDialog(path, found, self.session.recipe, clip.frame_count, self.window)
        self.box_dialog.accepted.connect(lambda: self._take_boxes(found))
        self.box_dialog.open()

    def _take_boxes(self, found: BoxFile) -> None:
        clip = self.session.clip
        if clip is not None:
            boxes = found.detections(frame_count=clip.frame_count, size=(clip.width, clip.height))
            self.session.bring_in(boxes, self.box_dialog.chosen())
            self.window.strip.choose("detect")

    def dropped(self, path: Path) -> None:
        """Take a file or folder that was dropped: a clip or project to open, or what belongs to the clip."""
        kind = path.suffix.lower()
        if kind == ".toml":
            self._try(lambda: self.session.edit(read_recipe(path), "load recipe"))
        elif kind in BOX_ENDINGS:
            self._take_dropped_boxes(path)
        else:
            self._try(lambda: self._open_dropped(path))

    def _open_dropped(self, path: Path) -> None:
        if path.is_dir() and not any(file.suffix.lower() in IMAGE_ENDINGS for file in path.iterdir()):
            self.batch().take([path])
        else:
            self.window.open_path(path)

    def _take_dropped_boxes(self, path: Path) -> None:
        if self.session.clip is None:
            self.banner.say("open the clip first; boxes belong to a clip")
        else:
            self.read_boxes(path)

    def batch(self) -> BatchDialog:
        """Show the dialog that works through many clips with this window's recipe."""
        from drover.app.batch.dialog import BatchDialog

        if self.batch_dialog is None or not self.batch_dialog.isVisible():
            self.batch_dialog = BatchDialog(self.session.recipe, self.window)
            self.batch_dialog.project_wanted.connect(self.window.open_path)
        self.batch_dialog.show()
        return self.batch_dialog

    def recipe(self) -> None:
        """Ask for a recipe to use."""
        name, _ = QFileDialog.getOpenFileName(self.window, "Load a recipe", "", "Recipe (*.toml)")
        if name:
            self._try(lambda: self.session.edit(read_recipe(Path(name)), "load recipe"))

    def write_recipe(self) -> None:
        """Ask where to write the recipe."""
        name, _ = QFileDialog.getSaveFileName(self.window, "Write the recipe", "recipe.toml", "Recipe (*.toml)")
        if name:
            text = self.session.recipe_text
            self._try(lambda: Path(name).write_text(text, encoding="utf-8"))

    def _try(self, work: Callable[[], object]) -> None:
        try:
            work()
        except DroverError as error:
            self.banner.say(str(error))
        except OSError as error:
            self.banner.say(f"{error.filename}: {error.strerror}; choose another place")

    def close(self) -> None:
        """End what goes on."""
        if self.batch_dialog is not None:
            self.batch_dialog.hide()
            self.batch_dialog.close()
        self._box_job.close()
