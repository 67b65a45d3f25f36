"""The main window: puts the parts together and carries their wishes to the session."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QElapsedTimer, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from drover.app import thumbnails
from drover.app.asking import PROJECT_ENDING, Asking
from drover.app.banner import Banner
from drover.app.dials.panel import DialPanel
from drover.app.exports import Exports
from drover.app.facts import tile_facts
from drover.app.field.area_editor import AreaKind
from drover.app.field.box_editor import BoxKind
from drover.app.field.chips import ChipRow
from drover.app.field.pair import FieldPair
from drover.app.hands import Hands
from drover.app.help.guide import Guide
from drover.app.lanes.transport import TransportBar
from drover.app.lanes.view import LanesView
from drover.app.layouts import tight
from drover.app.link_notes import LinkNotes
from drover.app.log import logger
from drover.app.menus import build_menus
from drover.app.moment_watch import MomentWatch
from drover.app.page_wishes import connect_page
from drover.app.pictures import Pictures
from drover.app.playback import Playback
from drover.app.preferences import note_recent
from drover.app.review.reviewer import Reviewer
from drover.app.saving import Saving, unnamed_work
from drover.app.session import Session
from drover.app.sources.opener import SourceOpener
from drover.app.sources.ways import NETWORK
from drover.app.status import StatusLine
from drover.app.strip import StageStrip
from drover.app.theme import dress
from drover.app.things import Things
from drover.app.welcome import Welcome
from drover.core.examples import example
from drover.core.footage.images import footage_name
from drover.core.progress import Progress

__all__ = ["MainWindow"]


class MainWindow(QMainWindow):
    """Stage strip, field, dials, lanes."""

    split_action: QAction
    full: QAction

    def __init__(self, session: Session | None = None) -> None:
        super().__init__()
        self.session = session or Session()
        # A part of the window, and gone with it: what the session's signals call would else keep both for ever.
        self.session.setParent(self)
        self.pictures = Pictures(self.session)
        self.playback = Playback(self.session, self.pictures)
        self.saving = Saving(self.session)
        self.resize(1280, 800)
        self.setMinimumSize(980, 620)
        self._play_next = False
        self._thumbs_age = QElapsedTimer()
        self._thumbs_age.start()
        self._build()
        self.asking, self.sources, self.things = Asking(self), SourceOpener(self), Things(self)
        self.hands = Hands(self)
        self.guide = Guide(self)
        self.above.addWidget(self.guide)
        build_menus(self)
        self.corner = QLabel("")
        self.corner.setProperty("role", "muted")
        self.corner.setContentsMargins(0, 0, 14, 0)
        self.menuBar().setCornerWidget(self.corner)
        self._connect()
        self.strip.choose("track")
        dress(self)
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
        self.welcome = Welcome(unnamed_work())
        self.reviewer = Reviewer(self.session, self.watch, self.playback)
        self.dials = DialPanel(self.session, self.pictures, self.notes, self.watch, self.reviewer)
        self.transport, self.lanes = TransportBar(), LanesView(self.session, self.watch)
        picture = QWidget()
        column = tight(QVBoxLayout(picture))
        column.addWidget(self.chips)
        column.addWidget(self.pair, 1)
        self.stage = QStackedWidget()
        self.stage.addWidget(self.welcome)
        self.stage.addWidget(picture)
        middle = QWidget()
        row = tight(QHBoxLayout(middle))
        row.addWidget(self.stage, 1)
        row.addWidget(self.dials)
        bottom = QWidget()
        column = tight(QVBoxLayout(bottom))
        column.addWidget(self.transport)
        column.addWidget(self.lanes, 1)
        self.splitter = QSplitter(Qt.Orientation.Vertical)
        self.splitter.addWidget(middle)
        self.splitter.addWidget(bottom)
        self.splitter.setStretchFactor(0, 1)
        self.splitter.setSizes([440, 206])
        self.splitter.setHandleWidth(2)
        whole = QWidget()
        column = tight(QVBoxLayout(whole))
        column.addWidget(self.strip)
        column.addWidget(self.banner)
        self.above = tight(QVBoxLayout())
        column.addLayout(self.above)
        column.addWidget(self.splitter, 1)
        self.setCentralWidget(whole)
        self.status = StatusLine(self.session, self.saving)
        self.setStatusBar(self.status)

    def _connect(self) -> None:
        session = self.session
        self.strip.chosen.connect(self.dials.show_stage)
        self.strip.chosen.connect(self._on_stage)
        self.chips.toggled.connect(self.pair.toggle)
        self.pair.active_changed.connect(self._on_active_half)
        self.pair.moves.connect(self.chips.offer_still)
        for half in (self.pair.left, self.pair.right):
            half.file_dropped.connect(lambda path: self.asking.dropped(Path(path)))
        self.dials.built.connect(lambda name: connect_page(self, name))
        self.lanes.span_wanted.connect(session.set_span)
        self.welcome.file_dropped.connect(lambda path: self.asking.dropped(Path(path)))
        self.welcome.clip_wanted.connect(self.asking.clip)
        self.welcome.demo_wanted.connect(self.open_demo)
        self.welcome.guide_wanted.connect(lambda: self.guide.start())
        self.welcome.source_wanted.connect(lambda: self.sources.ask(NETWORK))
        self.welcome.unnamed_wanted.connect(self.open_path)
        self.transport.wanted.connect(self._on_transport)
        self.transport.speed_wanted.connect(self.playback.set_speed)
        self.transport.order_wanted.connect(self.lanes.set_order)
        self.lanes.frame_wanted.connect(self.playback.go)
        self.lanes.loop_wanted.connect(self.hands.loop_span)
        self.lanes.export_wanted.connect(self.exports.ask_video)
        self.transport.strip_wanted.connect(self.lanes.set_strip)
        self.playback.playing_changed.connect(self.transport.show_playing)
        self.playback.playing_changed.connect(lambda _: self._refresh_soon())
        session.message_raised.connect(self.banner.say)
        session.message_raised.connect(logger.warning)
        self.saving.changed.connect(self._refresh_soon)
        self.saving.named.connect(lambda path: self._show_corner(path.stem))
        self.status.hint_ended.connect(self._refresh_soon)
        session.clip_changed.connect(self._on_clip)
        session.progressed.connect(self._on_progress)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(15)
        self._soon.timeout.connect(self._refresh)
        for signal in (
            session.detections_changed, session.tracks_changed, session.crossings_changed, session.score_changed,
            session.states_changed, session.truth_changed, session.frame_changed, session.span_changed,
            self.pictures.frame_ready,
        ):  # fmt: skip
            signal.connect(self._refresh_soon)

    def _refresh_soon(self) -> None:
        if not self._soon.isActive():
            self._soon.start()

    # --- showing --------------------------------------------------------------------------------------------

    def _on_clip(self) -> None:
        self.stage.setCurrentIndex(1)
        self.playback.pause()
        clip = self.session.clip
        assert clip is not None
        self._show_corner(self.saving.path.stem if self.saving.path else "not saved under a name")
        self.setWindowTitle(f"{footage_name(Path(clip.path))} - Drover")
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

    def split_field(self) -> None:
        """Split the field in two, or make it one again."""
        self.pair.set_split(self.split_action.isChecked())

    def _on_progress(self, progress: Progress | None) -> None:
        self.status.progress = progress
        self._refresh_soon()

    def _refresh(self) -> None:
        """Bring tiles, transport and status line up to date with the session."""
        session, progress = self.session, self.status.progress
        share = progress.done / max(1, progress.total) if progress else None
        for stage, tile in self.strip.tiles.items():
            tile.show_facts(tile_facts(session, stage, share))
        if not self.playback.playing or self._thumbs_age.elapsed() > 160:
            self._thumbs_age.restart()
            picture = self.pictures.frame
            thumbnails.refresh(self.strip.tiles, session, self.field.drawn_frame, picture.image if picture else None)
        clip = session.clip
        if clip is not None:
            self.transport.show_place(float(clip.times[session.frame]), session.frame, clip.frame_count)
        self.status.refresh()
        if session.tracks is not None:
            gaps = sum(len(lane.coasted) for lane in self.lanes.lanes)
            self.transport.summary.setText(f"{len(self.lanes.lanes)} identities, {gaps} gaps bridged")

    # --- wishes ---------------------------------------------------------------------------------------------

    def open_path(self, path: Path) -> None:
        """Open a project by its ending, anything else as a clip; the project before stays as it is."""
        if not self.asking.may_leave(self.saving.fault):
            return
        note_recent(str(path.absolute()))
        if path.suffix.lower() == PROJECT_ENDING:
            # What was said last is in the file before it is read, be it this window's own.
            self.session.open_project(path, lock=self.saving.lock_of(path), first=self.saving.flush().result)
        else:
            self.session.open_clip(path)

    def open_demo(self) -> None:
        """Open the Fold Hill demo and play it: the work runs ahead of the playing."""
        if not self.asking.may_leave(self.saving.fault):
            return
        self._play_next = True
        chosen = example("gap")
        self.session.open_clip(chosen.clip, recipe=chosen.recipe, truth=chosen.truth, true_crossings=chosen.crossings)

    def save_as(self, path: Path) -> None:
        """Keep the project under a name from now on; a file that is there is replaced only if that is wanted."""
        named = path if path.suffix == PROJECT_ENDING else path.with_name(path.name + PROJECT_ENDING)
        if named != path and named.exists() and not self.asking.may_replace(named):
            return
        self.saving.save_as(named)

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
        self.hint("drag across the way they take; Esc gives up")

    def new_zone(self) -> None:
        """Draw a zone with the next clicks on the field."""
        if self.session.clip is not None:
            self.strip.choose("count")
            self.start_area("zone")

    def start_area(self, kind: AreaKind) -> None:
        """Draw an area with the next clicks on the field."""
        if self.session.clip is not None:
            self.field.start_area(kind)
            self.hint("click the corners; Enter closes, Esc gives up")

    def start_box(self, kind: BoxKind) -> None:
        """Draw a box with the next drag on the field."""
        if self.session.clip is not None:
            self.field.start_box(kind)
            one = "the thing to follow" if kind == "thing" else f"one {self.session.recipe.words.one}"
            self.hint(f"drag a box round {one}, or arrow keys (Shift: its size) and Enter; Esc gives up")

    def hint(self, words: str) -> None:
        """Say for a while what the mouse does now."""
        self.status.hint(words)

    def _on_transport(self, name: str) -> None:
        {
            "play": self.playback.toggle,
            "next": lambda: self.playback.step(1), "previous": lambda: self.playback.step(-1),
            "home": lambda: self.playback.go(0), "end": lambda: self.playback.go(10**9),
        }[name]()  # fmt: skip

    def full_field(self) -> None:
        """The field alone, or everything again."""
        full = self.full.isChecked()
        for widget in (self.strip, self.dials, self.splitter.widget(1)):
            widget.setVisible(not full)

    def show_audit(self) -> None:
        """Go through all crossings one by one."""
        if self.session.clip is not None:
            self.strip.choose("count")
            self.dials.show_audit()

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.saving.closed:
            super().closeEvent(event)
            return
        self.playback.pause()
        if not self.sources.may_close():
            event.ignore()
            return
        fault = self.saving.finish()
        if fault and not self.asking.may_close_unsaved(fault):
            event.ignore()
            return
        self.saving.close()
        self.sources.close()
        self.exports.close()
        self.pictures.close()
        self.pair.close_pictures()
        self.dials.close_pages()
        self.asking.close()
        self.notes.close()
        self.watch.close()
        self.lanes.close_card()
        self.session.close()
        super().closeEvent(event)
