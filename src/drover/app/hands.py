"""The window's wishes about the review: the next moment, and corrections that need more than a key."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QInputDialog

from drover.app.theme import CHOSEN_COLOURS
from drover.core.names import MOST_NAME, plain_name

if TYPE_CHECKING:
    from drover.app.filter_bench.dialog import FilterBench
    from drover.app.window import MainWindow

__all__ = ["Hands"]


class Hands:
    """Shows the review, asks for what is wanted, and hands it to the reviewer."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self.bench: FilterBench | None = None
        for half in (window.pair.left, window.pair.right):
            half.boxes.hand_drawn = window.reviewer.box
        window.reviewer.changed.connect(self._show_futures)
        window.lanes.name_wanted.connect(self.ask_name_of)
        window.lanes.colour_wanted.connect(window.reviewer.paint)
        window.session.tracks_changed.connect(self._take_colours)

    def _take_colours(self) -> None:
        edited = self.window.session.engine.edited
        CHOSEN_COLOURS.clear()
        CHOSEN_COLOURS.update(edited.colours if edited is not None else {})

    def show_review(self) -> None:
        """Work through the moments worth a look."""
        if self.window.session.clip is not None:
            self.window.strip.choose("track")
            self.window.dials.show_review()

    def visit(self, way: int) -> None:
        """Go to the next or the previous moment worth a look."""
        window, clip = self.window, self.window.session.clip
        if clip is None:
            return
        if not window.dials.reviewing:
            self.show_review()
        moment = window.reviewer.visit(way)
        if moment is None:
            window.hint("every moment was looked at" if len(window.watch.found) else "nothing is in doubt here")
        else:
            place, of = window.watch.place + 1, window.reviewer.listed
            window.hint(f"moment {place} of {of}, {clip.times[moment.frame]:.1f} s: {moment.words}")

    def _show_futures(self) -> None:
        for half in (self.window.pair.left, self.window.pair.right):
            half.moment, half.moment_partner = self.window.reviewer.current, self.window.reviewer.partner
            half.update()

    def show_filter(self) -> None:
        """Lay the filter of the identity chosen open; a second wish brings the bench to the front."""
        from drover.app.filter_bench.dialog import FilterBench  # with the plots, which take a while to load

        window = self.window
        if window.session.tracks is None:
            return
        if self.bench is not None and self.bench.isVisible():
            self.bench.raise_()
            return
        self.bench = FilterBench(window.session, window)
        self.bench.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.bench.ahead.connect(self._show_ahead)
        self.bench.finished.connect(self._bench_gone)
        self.bench.destroyed.connect(self._bench_gone)
        self.bench.show()

    def _bench_gone(self, _: object = None) -> None:
        self.bench = None

    def _show_ahead(self, places: object) -> None:
        for half in (self.window.pair.left, self.window.pair.right):
            half.ahead = places
            half.update()

    def show_links(self) -> None:
        """The table of costs of the frame shown, with the gates on the field."""
        from drover.app.link_table import LinkTable

        window = self.window
        if window.session.tracks is None:
            return
        if not window.chips.chips["Gates"].isChecked():
            window.chips.chips["Gates"].click()
        table = LinkTable(window.session, window.notes, window)
        table.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        table.show()

    def draw_box(self) -> None:
        """The next drag is the box of the identity chosen, or of something that nothing found."""
        window = self.window
        if window.session.clip is None:
            return
        window.playback.pause()
        window.field.start_box("hand")
        who = window.session.selected
        whose = f"identity {who}" if who else "what was not found"
        window.hint(
            f"drag the box of {whose}, or move it with the arrow keys (Shift: its size) and Enter; Esc gives up"
        )

    def ask_name(self) -> None:
        """What the identity chosen is called."""
        self._ask("name", "Its name")

    def ask_name_of(self, identity: int) -> None:
        """What an identity is called."""
        self.window.session.select(identity)
        self.ask_name()

    def loop_span(self) -> None:
        """Play the span over and over."""
        span = self.window.session.span
        if span is not None:
            self.window.playback.play_loop(span[0], span[1] - 1)

    def ask_class(self) -> None:
        """What the identity chosen is."""
        self._ask("class", "Its class")

    def _ask(self, kind: str, label: str) -> None:
        window = self.window
        who = window.session.selected
        if who is None:
            window.session.message_raised.emit("choose one first: click on the field or in the lanes")
            return
        tracks = window.session.tracks
        if kind == "class" and tracks is not None:
            names = [name for name in tracks.class_names if name]
            text, said = QInputDialog.getItem(window, f"Identity {who}", label, names, 0, True)
        else:
            text, said = QInputDialog.getText(window, f"Identity {who}", label)
        text = plain_name(text)[:MOST_NAME]
        if said and (text or kind == "name"):
            window.reviewer.say(kind, text)
