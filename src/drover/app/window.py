"""The main window: puts the parts together and carries their wishes to the session."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QElapsedTimer, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QKeySequence, QUndoStack
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QProgressBar,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from drover.app import thumbnails
from drover.app.autosave import Autosave, unsaved_path
from drover.app.banner import Banner
from drover.app.box_import_dialog import BoxImportDialog
from drover.app.dials.panel import DialPanel
from drover.app.exports import Exports
from drover.app.facts import tile_facts
from drover.app.field.area_editor import AreaKind
from drover.app.field.box_editor import BoxKind
from drover.app.field.chips import ChipRow
from drover.app.field.pair import FieldPair
from drover.app.jobs import LatestJob
from drover.app.lanes.transport import TransportBar
from drover.app.lanes.view import LanesView
from drover.app.link_notes import LinkNotes
from drover.app.moment_watch import MomentWatch
from drover.app.pictures import Pictures
from drover.app.playback import Playback
from drover.app.session import STAGES, Session, StageState
from drover.app.strip import TITLES, StageStrip
from drover.app.theme import CLAY, MOSS
from drover.app.welcome import Welcome
from drover.core.errors import DroverError
from drover.core.examples import example
from drover.core.formats.box_import import BoxFile, first_line_has_commas, read_box_file
from drover.core.pipeline import Progress
from drover.core.project.file import read_project
from drover.core.recipe import dump_recipe, read_recipe

__all__ = ["MainWindow"]

VIDEO_FILTER = "Video (*.mp4 *.mkv *.avi *.mov *.webm *.m4v *.mpg *.ts);;All files (*)"


class MainWindow(QMainWindow):
    """Stage strip, field, dials, lanes."""

    def __init__(self, session: Session | None = None) -> None:
        super().__init__()
        self.session = session or Session()
        self.pictures = Pictures(self.session)
        self.playback = Playback(self.session, self.pictures)
        self.autosave = Autosave(self.session)
        self.resize(1280, 800)
        self.setMinimumSize(980, 620)
        self._progress: Progress | None = None
        self._play_next = False
        self._hinted = ""
        # Where to save once the clip now being opened is open: until then the project before it stays safe.
        self._target: tuple[Path | None, bool] = (None, True)
        self._thumbs_age = QElapsedTimer()
        self._thumbs_age.start()
        self._build()
        self._build_menus()
        self._connect()
        self.strip.choose("track")
        self.field.setFocus()
        self._refresh()

    # --- building -------------------------------------------------------------------------------------------

    def _build(self) -> None:
        self.strip, self.banner = StageStrip(), Banner()
        self.watch, self.notes = MomentWatch(self.session), LinkNotes(self.session)
        self.pair = FieldPair(self.session, self.pictures, self.notes)
        self.field = self.pair.left
        self.exports = Exports(self, self.session, self.pictures, self.pair)
        self.chips = ChipRow(self.field.shown)
        self._box_job = LatestJob("boxes", self)
        self.welcome = Welcome(unsaved=unsaved_path().exists())
        self.dials = DialPanel(self.session, self.pictures, self.notes, self.watch)
        self.transport, self.lanes = TransportBar(), LanesView(self.session, self.watch)
        picture = QWidget()
        column = _tight(QVBoxLayout(picture))
        column.addWidget(self.chips)
        column.addWidget(self.pair, 1)
        self.stage = QStackedWidget()
        self.stage.addWidget(self.welcome)
        self.stage.addWidget(picture)
        middle = QWidget()
        row = _tight(QHBoxLayout(middle))
        row.addWidget(self.stage, 1)
        row.addWidget(self.dials)
        bottom = QWidget()
        column = _tight(QVBoxLayout(bottom))
        column.addWidget(self.transport)
        column.addWidget(self.lanes, 1)
        self.splitter = QSplitter(Qt.Orientation.Vertical)
        self.splitter.addWidget(middle)
        self.splitter.addWidget(bottom)
        self.splitter.setStretchFactor(0, 1)
        self.splitter.setSizes([440, 206])
        self.splitter.setHandleWidth(2)
        whole = QWidget()
        column = _tight(QVBoxLayout(whole))
        column.addWidget(self.strip)
        column.addWidget(self.banner)
        column.addWidget(self.splitter, 1)
        self.setCentralWidget(whole)
        self._build_status()

    def _build_status(self) -> None:
        bar = self.statusBar()
        bar.setSizeGripEnabled(False)
        bar.setContentsMargins(6, 0, 6, 0)
        self.status = QLabel("")
        self.work_bar = QProgressBar()
        self.work_bar.setFixedWidth(170)
        self.work_bar.setTextVisible(False)
        self.work_label = QLabel("")
        self.work_button = QPushButton("Stop")
        self.work_button.setToolTip("Stop working through the clip; what was found stays.")
        self.work_button.clicked.connect(self._stop_or_go_on)
        self.state_dot, self.state = QLabel(), QLabel("")
        self.state_dot.setFixedSize(9, 9)
        bar.addWidget(self.status, 1)
        for widget in (self.work_label, self.work_bar, self.work_button, self.state_dot, self.state):
            bar.addPermanentWidget(widget)

    def _action(self, menu, text: str, slot, keys: str | QKeySequence.StandardKey | None = None) -> QAction:  # type: ignore[no-untyped-def]
        action = QAction(text, self)
        if keys is not None:
            action.setShortcut(QKeySequence(keys))
        action.triggered.connect(lambda _=False: slot())
        menu.addAction(action)
        return action

    def _build_menus(self) -> None:
        bar = self.menuBar()
        file = bar.addMenu("&File")
        self._action(file, "Open &clip…", self.ask_clip, "Ctrl+O")
        self._action(file, "Open &project…", self.ask_project, "Ctrl+Shift+O")
        self._action(file, "Open the Fold &Hill demo", self.open_demo)
        file.addSeparator()
        self._action(file, "&Save project as…", self.ask_save, "Ctrl+S")
        file.addSeparator()
        self._action(file, "&Bring in boxes…", self.ask_boxes)
        self._action(file, "Load &truth…", self.ask_truth)
        self._action(file, "Save &picture of the field…", self.exports.ask_picture)
        self._action(file, "Save proof pict&ure…", self.exports.ask_proof)
        self._action(file, "Load true c&rossings…", self.ask_true_crossings)
        self._action(file, "Load &recipe…", self.ask_recipe)
        self._action(file, "Write r&ecipe…", self.ask_write_recipe)
        file.addSeparator()
        self._action(file, "&Quit", self.close, "Ctrl+Q")
        edit = bar.addMenu("&Edit")
        stack: QUndoStack = self.session.undo
        undo, redo = stack.createUndoAction(self, "Undo"), stack.createRedoAction(self, "Redo")
        for action, keys in ((undo, "Ctrl+Z"), (redo, "Ctrl+Shift+Z")):
            action.setShortcut(QKeySequence(keys))
            edit.addAction(action)
        edit.addSeparator()
        self._action(edit, "New counting &line", self.new_line, "L")
        self._action(edit, "New &zone", self.new_zone, "Z")
        view = bar.addMenu("&View")
        self._action(view, "&Audit the crossings", self.show_audit, "Ctrl+A")
        self._action(view, "Show the &whole picture", self.field.fit, "0")
        self.split_action = self._action(view, "&Split the field", self._split_field, "\\")
        self.split_action.setCheckable(True)
        self.full = self._action(view, "&Full field", self._full_field, "F")
        self.full.setCheckable(True)
        stages = bar.addMenu("&Stages")
        for number, stage in enumerate(STAGES, 1):
            self._action(stages, TITLES[stage], lambda stage=stage: self.strip.choose(stage), f"Ctrl+{number}")
        play = bar.addMenu("&Play")
        for text, slot, keys in (
            ("Play or pause", self.playback.toggle, "Space"),
            ("One frame on", lambda: self.playback.step(1), "Right"),
            ("One frame back", lambda: self.playback.step(-1), "Left"),
            ("One second on", lambda: self.playback.step_seconds(1), "Shift+Right"),
            ("One second back", lambda: self.playback.step_seconds(-1), "Shift+Left"),
            ("Next moment worth a look", lambda: self._visit(1), "N"),
            ("Previous moment", lambda: self._visit(-1), "Shift+N"),
            ("First frame", lambda: self.playback.go(0), "Home"),
            ("Last frame", lambda: self.playback.go(10**9), "End"),
        ):  # fmt: skip
            self._action(play, text, slot, keys)
        self.corner = QLabel("")
        self.corner.setProperty("role", "muted")
        self.corner.setContentsMargins(0, 0, 14, 0)
        bar.setCornerWidget(self.corner)

    def _connect(self) -> None:
        session = self.session
        self.strip.chosen.connect(self.dials.show_stage)
        self.strip.chosen.connect(self._on_stage)
        self.chips.toggled.connect(self.pair.toggle)
        self.pair.active_changed.connect(self._on_active_half)
        for half in (self.pair.left, self.pair.right):
            half.file_dropped.connect(lambda path: self.open_path(Path(path)))
        self._box_job.done.connect(self._on_boxes_read)
        self._box_job.failed.connect(self.banner.say)
        self.dials.detect.boxes.wanted.connect(self.ask_boxes)
        self.dials.detect.box_wanted.connect(self._start_box)
        self.lanes.span_wanted.connect(session.set_span)
        self.welcome.file_dropped.connect(lambda path: self.open_path(Path(path)))
        self.welcome.clip_wanted.connect(self.ask_clip)
        self.welcome.demo_wanted.connect(self.open_demo)
        self.welcome.unsaved_wanted.connect(lambda: self.open_path(unsaved_path()))
        self.dials.count.new_line_wanted.connect(self.new_line)
        self.dials.count.over_time.table_wanted.connect(self.exports.ask_intervals)
        self.dials.count.new_zone_wanted.connect(self.new_zone)
        self.dials.count.ground.points_wanted.connect(self._start_area)
        self.field.areas.ground_picked = self.dials.count.ground.take_points
        self.dials.score.truth_wanted.connect(self.ask_truth)
        self.dials.detect.area_wanted.connect(self._start_area)
        self.dials.track.exits.area_wanted.connect(self._start_area)
        self.transport.wanted.connect(self._on_transport)
        self.transport.speed_wanted.connect(self._set_speed)
        self.transport.order_wanted.connect(self.lanes.set_order)
        self.lanes.frame_wanted.connect(self.playback.go)
        self.playback.playing_changed.connect(self.transport.show_playing)
        self.playback.playing_changed.connect(lambda _: self._refresh_soon())
        session.message_raised.connect(self.banner.say)
        self.autosave.failed.connect(self.banner.say)
        session.clip_changed.connect(self._on_clip)
        session.progressed.connect(self._on_progress)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(15)
        self._soon.timeout.connect(self._refresh)
        for signal in (
            session.detections_changed, session.tracks_changed, session.crossings_changed, session.score_changed,
            session.states_changed, session.truth_changed, session.frame_changed, session.span_changed,
            self.pictures.frame_ready, self.autosave.saved,
        ):  # fmt: skip
            signal.connect(self._refresh_soon)

    def _refresh_soon(self) -> None:
        if not self._soon.isActive():
            self._soon.start()

    # --- showing --------------------------------------------------------------------------------------------

    def _on_clip(self) -> None:
        self.stage.setCurrentIndex(1)
        self.playback.pause()
        path, fresh = self._target
        self.autosave.use(path, fresh=fresh)
        name = self.autosave.path.stem if self.autosave.path else "not saved under a name"
        clip = self.session.clip
        assert clip is not None
        self._show_corner(name)
        self.setWindowTitle(f"{Path(clip.path).stem} - Drover")
        if self._play_next:
            self._play_next = False
            QTimer.singleShot(500, self, self.playback.toggle)
        self._refresh()

    def _on_stage(self, stage: str) -> None:
        self.pair.want_detect(stage == "detect")
        self.notes.want("track", stage == "track")
        for half in (self.pair.left, self.pair.right):
            half.boxes.shown = stage == "detect"
            half.update()

    def _on_active_half(self) -> None:
        self.chips.show_shown(self.pair.active.shown)
        self.split_action.setChecked(self.pair.split)

    def _split_field(self) -> None:
        self.pair.set_split(self.split_action.isChecked())

    def _on_progress(self, progress: Progress | None) -> None:
        self._progress = progress
        self._refresh_soon()

    def _refresh(self) -> None:
        """Bring tiles, transport and status line up to date with the session."""
        session = self.session
        share = self._progress.done / max(1, self._progress.total) if self._progress else None
        for stage, tile in self.strip.tiles.items():
            tile.show_facts(tile_facts(session, stage, share))
        if not self.playback.playing or self._thumbs_age.elapsed() > 160:
            self._thumbs_age.restart()
            self._refresh_thumbnails()
        clip = session.clip
        if clip is not None:
            self.transport.show_place(float(clip.times[session.frame]), session.frame, clip.frame_count)
        self._refresh_status()

    def _refresh_thumbnails(self) -> None:
        picture = self.pictures.frame
        if self.session.clip is None:
            return
        frame = self.field.drawn_frame
        small = thumbnails.small_picture(picture.image if picture else None)
        tiles = self.strip.tiles
        tiles["footage"].thumbnail = small
        tiles["detect"].thumbnail = thumbnails.detect_thumbnail(self.session, frame)
        tiles["track"].thumbnail = thumbnails.track_thumbnail(self.session, frame, small)
        tiles["count"].thumbnail = thumbnails.count_thumbnail(self.session, small)
        tiles["score"].thumbnail = thumbnails.score_thumbnail(self.session)
        for tile in tiles.values():
            tile.update()

    def _refresh_status(self) -> None:
        session, clip = self.session, self.session.clip
        parts = [self._hinted] if self._hinted else []
        if session.tracks is not None and session.link_seconds:
            parts.append(f"{session.tracks.frame_count} frames linked in {session.link_seconds:.2f} s")
        if session.crossings is not None and session.count_seconds:
            parts.append(f"counted in {1000 * session.count_seconds:.1f} ms")
        self.status.setText("   ".join(parts))
        states = [session.state_of(stage) for stage in STAGES]
        working = StageState.WORKING in states
        progress = self._progress
        self.work_bar.setVisible(progress is not None)
        self.work_label.setVisible(progress is not None)
        self.work_button.setVisible(progress is not None or session.cancelled)
        self.work_button.setText("Stop" if progress is not None else "Work through the clip")
        if progress is not None:
            self.work_bar.setRange(0, progress.total)
            self.work_bar.setValue(progress.done)
            place = f"frame {progress.done} of {progress.total}"
            self.work_label.setText(f"detecting: {place}, {progress.seconds_left:.0f} s left")
        if clip is None:
            words, tint = "", MOSS
        elif working:
            words, tint = "working", "#C8862A"
        elif session.detect is not None and session.detect.span is not None:
            first, past = (float(clip.times[f]) for f in (session.detect.span[0], session.detect.span[1] - 1))
            words, tint = f"only {first:.1f} s to {past:.1f} s, not kept", CLAY
        elif session.cancelled or StageState.STALE in states:
            words, tint = "not up to date", CLAY
        else:
            words, tint = "everything up to date" + ("" if self.autosave.busy else ", saved"), MOSS
        self.state.setText(words)
        self.state_dot.setStyleSheet(f"background: {tint}; border-radius: 4px;" if words else "")
        if session.tracks is not None:
            gaps = sum(len(lane.coasted) for lane in self.lanes.lanes)
            self.transport.summary.setText(f"{len(self.lanes.lanes)} identities, {gaps} gaps bridged")

    # --- wishes ---------------------------------------------------------------------------------------------

    def open_path(self, path: Path) -> None:
        """Open a project by its ending, anything else as a clip."""
        if path.suffix.lower() == ".drover":
            self.open_project(path)
        else:
            self._target = None, True
            self.session.open_clip(path)

    def open_project(self, path: Path) -> None:
        """Open a project file; a damaged one is said and changes nothing."""
        try:
            contents = read_project(path)
        except DroverError as error:
            self.banner.say(str(error))
            return
        self._target = (None if path == unsaved_path() else path), False
        self.session.open_contents(contents, path)

    def open_demo(self) -> None:
        """Open the Fold Hill demo and play it: the work runs ahead of the playing."""
        self._play_next = True
        chosen = example("gap")
        self.autosave.use(None)
        self.session.open_clip(chosen.clip, recipe=chosen.recipe, truth=chosen.truth, true_crossings=chosen.crossings)

    def save_as(self, path: Path) -> None:
        """Keep the project under a name from now on."""
        target = path if path.suffix == ".drover" else path.with_name(path.name + ".drover")
        self.autosave.use(target)
        self.autosave.save_now()
        self._show_corner(target.stem)

    def _show_corner(self, project: str) -> None:
        clip = self.session.clip
        if clip is not None:
            self.corner.setText(f"{project} · {Path(clip.path).name}")
            self.corner.setFixedSize(self.corner.sizeHint().width(), self.menuBar().height() - 2)
            self.corner.setAlignment(Qt.AlignmentFlag.AlignVCenter)
            self.menuBar().setCornerWidget(self.corner)
            self.corner.show()

    def new_line(self) -> None:
        """Draw a counting line with the next drag on the field."""
        if self.session.clip is None:
            return
        self.strip.choose("count")
        self.field.start_line()
        self._hint("drag across the way they take; Esc gives up")

    def new_zone(self) -> None:
        """Draw a zone with the next clicks on the field."""
        if self.session.clip is not None:
            self.strip.choose("count")
            self._start_area("zone")

    def _start_area(self, kind: AreaKind) -> None:
        if self.session.clip is not None:
            self.field.start_area(kind)
            self._hint("click the corners; Enter closes, Esc gives up")

    def _start_box(self, kind: BoxKind) -> None:
        if self.session.clip is not None:
            self.field.start_box(kind)
            self._hint("drag a box round one animal; Esc gives up")

    def _hint(self, words: str) -> None:
        """Say for a while what the mouse does now."""
        self._hinted = words
        self._refresh_soon()
        QTimer.singleShot(6000, self, self._end_hint)

    def _end_hint(self) -> None:
        self._hinted = ""
        self._refresh_soon()

    def ask_clip(self) -> None:
        """Ask which clip to open."""
        name, _ = QFileDialog.getOpenFileName(self, "Open a clip", "", VIDEO_FILTER)
        if name:
            self.open_path(Path(name))

    def ask_project(self) -> None:
        """Ask which project to open."""
        name, _ = QFileDialog.getOpenFileName(self, "Open a project", "", "Drover project (*.drover)")
        if name:
            self.open_path(Path(name))

    def ask_save(self) -> None:
        """Ask where to keep the project."""
        if self.session.clip is None:
            self.banner.say("there is nothing to save yet; open a clip first")
            return
        name, _ = QFileDialog.getSaveFileName(self, "Save the project", "", "Drover project (*.drover)")
        if name:
            self.save_as(Path(name))

    def ask_truth(self) -> None:
        """Ask for the truth of this clip."""
        name, _ = QFileDialog.getOpenFileName(self, "Load truth", "", "Rows of boxes (*.csv *.txt);;All files (*)")
        if name:
            self._try(lambda: self.session.load_truth(Path(name)))

    def ask_true_crossings(self) -> None:
        """Ask for a table of true crossings."""
        name, _ = QFileDialog.getOpenFileName(self, "Load true crossings", "", "Crossings (*.csv)")
        if name:
            self._try(lambda: self.session.load_true_crossings(Path(name)))

    def ask_boxes(self) -> None:
        """Ask for boxes of another detector."""
        if self.session.clip is None:
            self.banner.say("open the clip first; boxes belong to a clip")
            return
        kinds = "Boxes (*.csv *.txt *.json);;All files (*)"
        name, _ = QFileDialog.getOpenFileName(self, "Bring in boxes", "", kinds)
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
        self._hint(f"reading {inside.name}")

    def _on_boxes_read(self, read: tuple[Path, BoxFile]) -> None:
        path, found = read
        clip = self.session.clip
        if clip is None:
            return
        self.box_dialog = BoxImportDialog(path, found, self.session.recipe, clip.frame_count, self)
        self.box_dialog.accepted.connect(lambda: self._take_boxes(found))
        self.box_dialog.open()

    def _take_boxes(self, found: BoxFile) -> None:
        clip = self.session.clip
        if clip is not None:
            boxes = found.detections(frame_count=clip.frame_count, size=(clip.width, clip.height))
            self.session.bring_in(boxes, self.box_dialog.chosen())
            self.strip.choose("detect")

    def ask_recipe(self) -> None:
        """Ask for a recipe to use."""
        name, _ = QFileDialog.getOpenFileName(self, "Load a recipe", "", "Recipe (*.toml)")
        if name:
            self._try(lambda: self.session.edit(read_recipe(Path(name)), "load recipe"))

    def ask_write_recipe(self) -> None:
        """Ask where to write the recipe."""
        name, _ = QFileDialog.getSaveFileName(self, "Write the recipe", "recipe.toml", "Recipe (*.toml)")
        if name:
            text = dump_recipe(self.session.recipe, self.session.recipe_text)
            self._try(lambda: Path(name).write_text(text, encoding="utf-8"))

    def _try(self, work) -> None:  # type: ignore[no-untyped-def]
        try:
            work()
        except DroverError as error:
            self.banner.say(str(error))
        except OSError as error:
            self.banner.say(f"{error.filename}: {error.strerror}; choose another place")

    def _visit(self, way: int) -> None:
        moment, clip = self.watch.visit(way), self.session.clip
        if moment is not None and clip is not None:
            place, of = self.watch.place + 1, len(self.watch.found)
            self._hint(f"moment {place} of {of}, {clip.times[moment.frame]:.1f} s: {moment.words}")

    def _on_transport(self, name: str) -> None:
        {
            "play": self.playback.toggle,
            "next": lambda: self.playback.step(1), "previous": lambda: self.playback.step(-1),
            "home": lambda: self.playback.go(0), "end": lambda: self.playback.go(10**9),
        }[name]()  # fmt: skip

    def _set_speed(self, speed: float) -> None:
        self.playback.speed = speed

    def _full_field(self) -> None:
        full = self.full.isChecked()
        for widget in (self.strip, self.dials, self.splitter.widget(1)):
            widget.setVisible(not full)

    def _stop_or_go_on(self) -> None:
        if self._progress is not None:
            self.session.cancel_work()
        else:
            self.session.cancelled = False
            self.session.resume_work()

    def show_audit(self) -> None:
        """Go through all crossings one by one."""
        if self.session.clip is not None:
            self.strip.choose("count")
            self.dials.show_audit()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.playback.pause()
        try:
            self.autosave.save_and_wait()
        except DroverError as error:
            self.banner.say(str(error))
        self.pictures.close()
        self.pair.close_pictures()
        self.dials.audit.strips.close()
        self._box_job.close()
        self.notes.close()
        self.watch.close()
        self.session.close()
        super().closeEvent(event)


def _tight(layout):  # type: ignore[no-untyped-def]
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(0)
    return layout
