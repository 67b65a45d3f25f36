"""A batch from the window: which clips, a try at some of them, all of them, and their projects to be checked."""

from __future__ import annotations

import time
from pathlib import Path

from PySide6.QtCore import QModelIndex, Qt, Signal
from PySide6.QtGui import QCloseEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QMessageBox,
    QPushButton,
    QSpinBox,
    QTableView,
    QWidget,
)

from drover.app.batch.table import BatchTable
from drover.app.dials.parts import muted
from drover.app.file_kinds import VIDEO_FILTER
from drover.app.work_dialog import WorkDialog
from drover.core.batch.ledger import BatchState
from drover.core.batch.plan import Job, plan_jobs
from drover.core.batch.preview import preview_job, some_of
from drover.core.batch.run import run_batch, usual_workers
from drover.core.batch.summary import write_summary
from drover.core.errors import Cancelled, DroverError
from drover.core.recipe import Recipe
from drover.core.run_files import ready_folder

__all__ = ["BatchDialog"]

TRIED = 3  # clips that are tried


class BatchDialog(WorkDialog):
    """Works through clips beside the window; ``project_wanted`` carries the project of a row to open."""

    project_wanted = Signal(object)
    _changed = Signal(object)
    _tried = Signal(object, object)

    def __init__(self, recipe: Recipe, parent: QWidget | None = None) -> None:
        super().__init__("Work through many clips", "batch", parent)
        self.recipe = recipe
        self.given: list[Path] = []
        self.jobs: list[Job] = []
        self._begun = 0.0
        self.resize(940, 560)
        column = self.column
        column.addLayout(self._form())
        column.addWidget(self.fault)
        self.table = BatchTable([line.name for line in recipe.count.line])
        column.addWidget(self._view(), 1)
        column.addWidget(self.bar)
        column.addWidget(self.words)
        column.addLayout(self._buttons())
        self.job.done.connect(self._on_ended)
        self._changed.connect(self._on_changed)
        self._tried.connect(self.table.show_preview)
        self.show_working(False)

    # --- building -------------------------------------------------------------------------------------------

    def _form(self) -> QGridLayout:
        form = QGridLayout()
        form.setColumnStretch(1, 1)
        self.clips, self.out = QLabel("none chosen"), QLabel("")
        folder, files, out = QPushButton("Folder…"), QPushButton("Files…"), QPushButton("Choose…")
        folder.clicked.connect(self._choose_folder)
        files.clicked.connect(self._choose_files)
        out.clicked.connect(self._choose_out)
        self.workers = QSpinBox()
        self.workers.setRange(1, 64)
        self.workers.setValue(usual_workers())
        self.workers.setAccessibleName("clips worked on at once")
        self.projects = QCheckBox("a project for each clip, to be opened here")
        self.projects.setChecked(True)
        form.addWidget(muted("clips"), 0, 0)
        form.addWidget(self.clips, 0, 1)
        form.addWidget(folder, 0, 2)
        form.addWidget(files, 0, 3)
        form.addWidget(muted("results go to"), 1, 0)
        form.addWidget(self.out, 1, 1)
        form.addWidget(out, 1, 2, 1, 2)
        row = QHBoxLayout()
        row.addWidget(self.workers)
        row.addSpacing(14)
        row.addWidget(self.projects)
        row.addStretch(1)
        form.addWidget(muted("clips at once"), 2, 0)
        form.addLayout(row, 2, 1, 1, 3)
        form.addWidget(muted("recipe"), 3, 0)
        form.addWidget(muted(f"that of the window: {_recipe_words(self.recipe)}"), 3, 1, 1, 3)
        self._inputs = (folder, files, out, self.workers, self.projects)
        return form

    def _view(self) -> QTableView:
        self.view = QTableView()
        self.view.setModel(self.table)
        self.view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.view.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.view.setShowGrid(False)
        self.view.verticalHeader().hide()
        self.view.verticalHeader().setDefaultSectionSize(24)
        self.view.setAccessibleName("clips of the batch")
        header = self.view.horizontalHeader()
        header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        header.setStretchLastSection(True)
        header.setHighlightSections(False)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.view.doubleClicked.connect(self._open)
        self.view.selectionModel().currentRowChanged.connect(lambda *_: self._show_open())
        return self.view

    def _buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.open = QPushButton("Open its project")
        self.open.clicked.connect(lambda: self._open(self.view.currentIndex()))
        self.open.setEnabled(False)
        row.addWidget(self.open)
        row.addStretch(1)
        self.leave, self.try_some = QPushButton("Close"), QPushButton(f"Try the beginning of {TRIED}")
        self.stop, self.start = QPushButton("Stop"), QPushButton("Work through all")
        self.start.setProperty("primary", "true")
        self.try_some.setToolTip("Works through the first 10 seconds of some clips; nothing is written")
        for button, slot in (
            (self.leave, self.close), (self.try_some, self._try), (self.stop, self._stop), (self.start, self._start)
        ):  # fmt: skip
            button.clicked.connect(slot)
            row.addWidget(button)
        return row

    # --- what the user does -----------------------------------------------------------------------------------

    def _choose_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "A folder of videos")
        if name:
            self.take([Path(name)])

    def _choose_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Videos", "", VIDEO_FILTER)
        if names:
            self.take([Path(name) for name in names])

    def _choose_out(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Where do the results go?", self.out.text())
        if name:
            self.take(self.given, Path(name))

    def take(self, given: list[Path], out: Path | None = None) -> None:
        """These clips and folders, and where their results go: beside them, if nothing else was said."""
        self.fault.hide()
        first = given[0] if given else Path.cwd()
        place = out or first.parent / f"{first.name if first.is_dir() else 'clips'}-results"
        try:
            jobs = plan_jobs(given, place)
        except DroverError as error:
            self.show_fault(str(error))
            return
        self.given, self.jobs = given, jobs
        self.clips.setText(f"{len(jobs)} videos, {first if len(given) == 1 else first.parent}")
        self.out.setText(str(place))
        self.table.show_jobs(jobs)
        self.show_working(False)

    def _try(self) -> None:
        chosen, recipe = some_of(self.jobs, TRIED), self.recipe
        self.show_working(True)
        self.words.setText(f"trying {len(chosen)} clips")

        def work(cancelled):  # type: ignore[no-untyped-def]
            for job in chosen:
                try:
                    self._tried.emit(job, preview_job(job, recipe, cancelled=cancelled))
                except Cancelled:
                    raise
                except DroverError as error:
                    self._tried.emit(job, str(error))
            return

        self.job.submit(work)

    def _start(self) -> None:
        out, jobs, recipe = Path(self.out.text()), self.jobs, self.recipe
        workers, projects = self.workers.value(), self.projects.isChecked()
        self.show_working(True)
        self._begun = time.monotonic()

        def work(cancelled):  # type: ignore[no-untyped-def]
            ready_folder(out)
            last = BatchState(())

            def told(state: BatchState) -> None:
                nonlocal last
                last = state
                self._changed.emit(state)

            try:
                run_batch(jobs, recipe, workers=workers, projects=projects, on_change=told, cancelled=cancelled)
            finally:
                if last.outcomes:
                    write_summary(last.outcomes, out)
            return last

        self.job.submit(work)

    def _stop(self) -> None:
        self.stop_work("stopped; what is done stays, and the same goes on from there")

    def _open(self, index: QModelIndex) -> None:
        if index.isValid() and self._has_project(index.row()):
            self.project_wanted.emit(self.table.outcomes[index.row()].job.project)

    def _has_project(self, row: int) -> bool:
        outcome = self.table.outcomes[row]
        return outcome.state == "done" and outcome.job.project.exists()

    def _show_open(self) -> None:
        index = self.view.currentIndex()
        self.open.setEnabled(index.isValid() and self._has_project(index.row()))

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.job.busy and self.isVisible() and not self._may_stop():
            event.ignore()
            return
        super().closeEvent(event)

    def _may_stop(self) -> bool:
        answer = QMessageBox.question(
            self, "Stop the batch?", "What is done stays; the batch can be gone on with later.",
            QMessageBox.StandardButton.Ok | QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.Cancel,
        )  # fmt: skip
        return answer == QMessageBox.StandardButton.Ok

    # --- what the work tells ------------------------------------------------------------------------------------

    def _on_changed(self, state: BatchState) -> None:
        if not self.job.busy:
            return
        self.table.show_state(state)
        share = sum(1.0 if one.state in ("done", "failed") else one.share for one in state.outcomes)
        kept = sum(one.kept for one in state.outcomes)
        self.show_share(share, len(state.outcomes))
        self.words.setText(_progress_words(state, share - kept, time.monotonic() - self._begun))
        self._show_open()

    def _on_ended(self, state: BatchState | None) -> None:
        self.show_working(False)
        if state is None:
            self.words.setText("tried; look at the counts, then work through all")
            return
        self.table.show_state(state)
        self.show_share(1, 1)
        done, failed = state.count("done"), state.count("failed")
        self.words.setText(f"{done} done, {failed} failed; table and page in {self.out.text()}")
        self._show_open()

    def show_working(self, on: bool) -> None:
        super().show_working(on)
        for widget in self._inputs:
            widget.setEnabled(not on)
        for button in (self.start, self.try_some):
            button.setEnabled(not on and bool(self.jobs))
        self.stop.setEnabled(on)


def _progress_words(state: BatchState, share: float, elapsed: float) -> str:
    """How many are done, and how long the rest may take."""
    ended, total = state.count("done") + state.count("failed"), len(state.outcomes)
    failed = f", {state.count('failed')} of them failed" if state.count("failed") else ""
    left = ""
    if share > 0.05:
        rest = sum(1.0 - one.share for one in state.outcomes if one.state in ("waiting", "working"))
        minutes, seconds = divmod(round(elapsed / share * rest), 60)
        left = f", about {minutes} min {seconds:02d} s left"
    return f"{ended} of {total} clips ended{failed}{left}"


def _recipe_words(recipe: Recipe) -> str:
    lines, zones = len(recipe.count.line), len(recipe.count.zone)
    return f"{lines} line{'s' * (lines != 1)}, {zones} zone{'s' * (zones != 1)}"
