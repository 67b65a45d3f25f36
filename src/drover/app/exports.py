"""What leaves the window as a file: the field as a picture or a video, the proof picture, counts by interval."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QWidget

from drover.app.field.pair import FieldPair
from drover.app.pictures import Pictures
from drover.app.proof import draw_proof, proof_caption, save_picture
from drover.app.session import Session
from drover.core.count.intervals import interval_rows
from drover.core.errors import DroverError
from drover.core.footage.images import footage_name
from drover.core.footage_types import ClipInfo
from drover.core.formats.count_tables import INTERVAL_COLUMNS, write_table
from drover.core.run_files import run_of_kept

if TYPE_CHECKING:
    from drover.app.export_dialog import ExportDialog
    from drover.app.pair_dialog import PairDialog
    from drover.app.steady_dialog import SteadyDialog
    from drover.app.video_dialog import VideoDialog

__all__ = ["Exports"]


class Exports:
    """Asks where to, and writes; what goes wrong is said in the window's banner."""

    def __init__(self, window: QWidget, session: Session, pictures: Pictures, pair: FieldPair) -> None:
        self.session = session
        self._window, self._pictures, self._pair = window, pictures, pair

    def _try(self, work: Callable[[], object]) -> None:
        try:
            work()
        except DroverError as error:
            self.session.message_raised.emit(str(error))
        except OSError as error:
            self.session.message_raised.emit(f"{error.filename}: {error.strerror}; choose another place")

    def ask_picture(self) -> None:
        """Ask where to, and save the field with all that is switched on, at the footage's own size."""
        path = self._ask_png("Save the picture", "field")
        if path is not None:
            self._try(lambda: save_picture(self._pair.active.picture(), path))

    def ask_files(self) -> ExportDialog | None:
        """Ask which files are wanted of the result that is shown, and write them."""
        from drover.app.export_dialog import ExportDialog

        clip, kept = self.session.clip, self.session.run_shown()
        if clip is None or kept is None:
            self.session.message_raised.emit("there is no finished result to export yet; wait until the work is done")
            return None
        field = self._pair.active
        dialog = ExportDialog(
            run_of_kept(clip, kept, self.session.edits), field.scene(clip), field.shown, self.session.frame,
            self._folder(clip) / f"{footage_name(Path(clip.path))}-export", self._window,
        )  # fmt: skip
        dialog.video_wanted.connect(self.ask_video)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.show()
        return dialog

    @staticmethod
    def _folder(clip: ClipInfo) -> Path:
        """Beside the clip, or where the user is at home."""
        beside = Path(clip.path).parent
        return beside if os.access(beside, os.W_OK) else Path.home()

    def ask_video(self) -> VideoDialog | None:
        """Ask what the video is to be, and write it; the dialog stays beside the window."""
        from drover.app.video_dialog import VideoDialog

        clip = self.session.clip
        if clip is None or self.session.clip_missing:
            return None
        start = self._folder(clip) / f"{footage_name(Path(clip.path))}-field.mp4"
        field = self._pair.active
        dialog = VideoDialog(field.scene(clip), field.shown, self.session.span, start, self._window)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.show()
        return dialog

    def ask_steady(self) -> SteadyDialog | None:
        """Ask how the clip is to be steadied, and write it."""
        from drover.app.steady_dialog import SteadyDialog

        clip, detect = self.session.clip, self.session.detect
        if clip is None or self.session.clip_missing:
            return None
        start = self._folder(clip) / f"{footage_name(Path(clip.path))}-steadied.mp4"
        motion = None if detect is None else detect.motion
        dialog = SteadyDialog(clip, motion, self.session.recipe.camera, self.session.frame, start, self._window)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.show()
        return dialog

    def ask_pair(self) -> PairDialog | None:
        """Hold the frame shown against one after it."""
        from drover.app.pair_dialog import PairDialog

        clip = self.session.clip
        if clip is None or self.session.clip_missing:
            return None
        if clip.frame_count < 2:
            self.session.message_raised.emit("the clip has one frame: there is none to hold it against")
            return None
        frame = min(self.session.frame, clip.frame_count - 2)
        dialog = PairDialog(clip, frame, self.session.recipe.camera.motion, self._window)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.show()
        return dialog

    def close(self) -> None:
        """Stop what is being written; an unfinished video leaves nothing behind."""
        from drover.app.work_dialog import WorkDialog

        for dialog in self._window.findChildren(WorkDialog):
            dialog.close()

    def ask_proof(self) -> None:
        """Ask where to, and save a picture of all lines and zones for someone else to check."""
        path = self._ask_png("Save the proof picture", "proof")
        if path is not None:
            self._try(lambda: self.save_proof(path))

    def save_proof(self, path: Path) -> None:
        """Save the proof picture of the frame shown.

        Raises
        ------
        DroverError
            When there is no picture yet, or it cannot be written.
        """
        clip, shown = self.session.clip, self._pictures.frame
        if clip is None or shown is None:
            raise DroverError("there is no picture to draw on yet; open a clip first")
        caption = proof_caption(clip, shown.frame)
        save_picture(draw_proof(shown.image, self.session.recipe.count, caption), path)

    def _ask_png(self, title: str, stem: str) -> Path | None:
        if self.session.clip is None:
            return None
        start = self._folder(self.session.clip) / f"{footage_name(Path(self.session.clip.path))}-{stem}.png"
        chosen, _ = QFileDialog.getSaveFileName(self._window, title, str(start), "Pictures (*.png)")
        return Path(chosen) if chosen else None

    def ask_intervals(self, length: float) -> None:
        """Ask where to, and write the counts by interval as a table."""
        crossings, clip = self.session.crossings, self.session.clip
        if crossings is None or clip is None:
            return
        chosen, _ = QFileDialog.getSaveFileName(self._window, "Write the intervals", "intervals.csv", "Tables (*.csv)")
        if chosen:
            rows = interval_rows(crossings, length, clip.duration)
            self._try(lambda: write_table(Path(chosen), INTERVAL_COLUMNS, rows))
