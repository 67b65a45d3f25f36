"""Dials of Track: what deserves a look, why a link was made, then the gate, gaps, motion, cost and life."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QPushButton

from drover.app.dials.evidence_plot import EvidencePlot
from drover.app.dials.exits import ExitCard
from drover.app.dials.follow_card import FollowCard
from drover.app.dials.noise import NoisePlot
from drover.app.dials.parts import Card, Folded, muted, notice
from drover.app.dials.settings import SettingsPage
from drover.app.link_notes import LinkNotes
from drover.app.moment_watch import MomentWatch
from drover.app.session import Session
from drover.core.names import grouped
from drover.core.recipe import TrackSettings, as_taken, is_auto
from drover.core.track.evidence import chi_square_share, gap_lengths, match_distance_samples, noise_check
from drover.core.track.pace import USUAL, with_pace

__all__ = ["TrackDials"]

LISTED = 40


class TrackDials(SettingsPage):
    """Moments, gate, longest gap, motion filter with its check, cost, blobs, birth, after the pass."""

    links_wanted = Signal()
    filter_wanted = Signal()
    review_wanted = Signal()

    def __init__(self, session: Session, notes: LinkNotes, watch: MomentWatch) -> None:
        super().__init__(session)
        self.notes, self.watch = notes, watch
        self.notice = notice()
        self.notice.setAccessibleName("what is odd about the detections")
        self.column.addWidget(self.notice)
        self._add_gate()
        self._add_moments()
        self._add_why()
        self._add_gaps()
        self._add_motion()
        self._add_cost()
        self.follow = FollowCard(session)
        self.column.addWidget(self.follow)
        self.exits = ExitCard(session)
        self.column.addWidget(self.exits)
        self._add_life()
        session.tracks_changed.connect(self._show_evidence)
        watch.changed.connect(self._show_moments)
        session.frame_changed.connect(lambda _: self._show_why())
        notes.ready.connect(self._show_why)
        self._show_evidence()
        self._show_moments()
        self._show_why()

    def _add_gate(self) -> None:
        self.gate_card = Card("How far a match may reach")
        self.gate = self.evidence("track.match.gate", keep_below=True, log_counts=True)
        self.gate_card.body.addWidget(self.gate)
        words = "Distance of links; beyond the gate, the nearest box refused. Log scale. Line: what right noises give."
        self.gate_card.body.addWidget(muted(words, wrap=True))
        self.gate_card.body.addWidget(self.row("gate", "track.match.gate"))
        self.gate_card.body.addWidget(self.row("farthest", "track.match.farthest"))
        self.column.addWidget(self.gate_card)

    def _add_moments(self) -> None:
        self.moment_card = Card("Worth a look")
        self.moments = QListWidget()
        self.moments.setFixedHeight(112)
        self.moments.setUniformItemSizes(True)
        self.moments.setAccessibleName("moments")
        self.moments.itemClicked.connect(lambda item: self.watch.go_to(item.data(Qt.ItemDataRole.UserRole)))
        self.moment_card.body.addWidget(self.moments)
        self.review = QPushButton("Work through them")
        self.review.setToolTip("One after the other, with a key for each answer (Ctrl+R, then N).")
        self.review.clicked.connect(self.review_wanted)
        row = QHBoxLayout()
        row.addWidget(muted("Most doubtful first; key N.", wrap=True), 1)
        row.addWidget(self.review)
        self.moment_card.body.addLayout(row)
        self.column.addWidget(self.moment_card)

    def _add_why(self) -> None:
        self.why_card = Card("Why this link")
        self.why = muted("", wrap=True)
        self.why.setAccessibleName("why this link")
        self.why_card.body.addWidget(self.why)
        row = QHBoxLayout()
        self.table, self.bench = QPushButton("All links of this frame"), QPushButton("Filter bench")
        self.table.setToolTip("What each track would have paid for each box (Ctrl+L).")
        self.bench.setToolTip("What the filter of this identity expects, and what other noises make of it (Ctrl+J).")
        self.table.clicked.connect(self.links_wanted)
        self.bench.clicked.connect(self.filter_wanted)
        row.addWidget(self.table)
        row.addWidget(self.bench)
        row.addStretch(1)
        self.why_card.body.addLayout(row)
        self.column.addWidget(self.why_card)

    def _add_gaps(self) -> None:
        self.gap_card = Card("How long to coast unseen")
        self.gap = self.evidence("track.life.longest_gap", keep_below=True)
        self.gap_card.body.addWidget(self.gap)
        self.gap_words = muted("", wrap=True)
        self.gap_card.body.addWidget(self.gap_words)
        self.gap_card.body.addWidget(self.row("longest gap", "track.life.longest_gap"))
        self.gap_card.body.addWidget(self.row("speed fades in", "track.motion.fade"))
        self.gap_card.body.addWidget(self.row("may return within", "track.life.return_within"))
        self.column.addWidget(self.gap_card)

    def _add_motion(self) -> None:
        card = Card("Motion filter")
        models = {"steady": "keeps its speed", "pushed": "keeps its push", "turning": "goes straight or turns"}
        card.body.addWidget(self.choice("each", "track.motion.model", models))
        card.body.addWidget(self.row("jumpiness", "track.motion.jumpiness"))
        card.body.addWidget(self.row("box noise", "track.motion.box_noise"))
        self.noise = NoisePlot(self.session)
        card.body.addWidget(self.noise)
        boxes = {"measured": "as found", "filtered": "as filtered"}
        card.body.addWidget(self.choice("boxes are given", "track.motion.boxes", boxes))
        more = Folded("turns, size and doubt")
        early = {"True": "measured", "False": "learnt"}
        more.rows.addWidget(self.choice("first speeds", "track.motion.speeds_first", early))
        more.rows.addWidget(self.row("turns at", "track.motion.turn_rate"))
        more.rows.addWidget(self.row("size change", "track.motion.size_noise"))
        more.rows.addWidget(self.row("noise grows with size", "track.motion.size_scaling"))
        more.rows.addWidget(self.row("doubt when a side jumps", "track.motion.size_doubt"))
        more.rows.addWidget(self.row("doubt in weak boxes", "track.motion.weak_doubt"))
        card.body.addWidget(more)
        self.column.addWidget(card)

    def _add_cost(self) -> None:
        card = Card("What a match costs")
        for label, name in (
            ("distance", "distance_weight"), ("lack of overlap", "overlap_weight"),
            ("turn while unseen", "direction_weight"), ("change of size", "size_weight"),
            ("another look", "look_weight"),
        ):  # fmt: skip
            card.body.addWidget(self.row(label, f"track.match.{name}"))
        more = Folded("how pairs are made")
        more.rows.addWidget(
            self.choice("overlap", "track.match.overlap", {"plain": "plain", "generalised": "generalised"})
        )
        more.rows.addWidget(
            self.choice("pairs", "track.match.assignment", {"optimal": "least total cost", "greedy": "best first"})
        )
        more.rows.addWidget(self.choice("classes", "track.match.same_class", {"False": "any", "True": "its own only"}))
        more.rows.addWidget(self.row("sure detections from", "track.match.sure_from"))
        card.body.addWidget(more)
        self.column.addWidget(card)

    def _add_life(self) -> None:
        card = Card("Birth, blobs, and after the pass")
        card.body.addWidget(self.row("believed after", "track.life.hits_to_confirm"))
        card.body.addWidget(
            self.choice("several in one blob", "track.blobs.share", {"True": "share it", "False": "one has it"})
        )
        card.body.addWidget(self.row("in a blob when covered by", "track.blobs.least_cover"))
        card.body.addWidget(self.choice("broken tracks", "track.after.join", {"True": "join", "False": "leave"}))
        card.body.addWidget(self.row("join within", "track.after.join_within"))
        flicker = {"True": "dropped", "False": "kept"}
        card.body.addWidget(self.choice("what flickers", "track.after.drop_flicker", flicker))
        card.body.addWidget(self.row("must come at least", "track.after.least_travel"))
        gaps = {"True": "drawn straight", "False": "as forecast"}
        card.body.addWidget(self.choice("bridged gaps", "track.after.fill_gaps", gaps))
        card.body.addWidget(self.row("unseen, drawn for", "track.after.draw_within"))
        card.body.addWidget(
            self.choice("finished tracks", "track.after.smooth", {"False": "as seen", "True": "smooth"})
        )
        self.column.addWidget(card)

    # --- showing --------------------------------------------------------------------------------------------

    def _show_evidence(self) -> None:
        tracks, clip = self.session.tracks, self.session.clip
        if tracks is None or clip is None:
            return
        matched, refused = match_distance_samples(tracks)
        settings = self._settings()
        edges = np.linspace(0, max(12.0, 1.5 * settings.match.gate), 49)
        counts = np.histogram(np.concatenate([matched, refused]), edges)[0]
        self.gate.show_evidence(edges, counts.astype(float), chi_square_share(edges) * len(matched))
        self.gate_card.note.setText(f"{grouped(len(matched))} links")
        gaps = gap_lengths(tracks, clip.times)
        top = max(2.5, 1.35 * settings.life.longest_gap)
        _show_histogram(self.gap, gaps, np.linspace(0, top, 41))
        frames = settings.life.longest_gap * clip.rate
        self.gap_words.setText(f"Length of every gap that was bridged. Now up to {frames:.0f} frames.")
        self.gap_card.note.setText(f"{len(gaps)} gaps")
        found = self.session.linked_detections
        if found is not None:
            self.noise.show_check(noise_check(
                tracks, found, clip.times, linked=self.session.as_linked,
                on_auto=is_auto(self.session.recipe.track.motion.jumpiness),
            ))  # fmt: skip
        self.show_taken("track", self.session.track_taken)
        self.notice.setText("\n".join(f"• {note}" for note in self.session.track_notes))
        self.notice.setVisible(bool(self.session.track_notes))

    def _settings(self) -> TrackSettings:
        """What the recipe says, with what is on auto as taken, or the usual as long as nobody knows."""
        wanted, taken = self.session.recipe.track, self.session.track_taken
        return with_pace(wanted, USUAL) if taken is None else as_taken(wanted, taken)

    def _show_moments(self) -> None:
        clip, found = self.session.clip, self.watch.found
        self.moments.clear()
        self.moment_card.note.setText(f"{len(found)} moments" if found else "")
        if clip is None:
            return
        for place, moment in enumerate(found[:LISTED]):
            item = QListWidgetItem(f"{clip.times[moment.frame]:.1f} s  {moment.words}")
            item.setToolTip(f"{moment.words}\ndoubt {100 * moment.doubt:.0f} %")
            item.setData(Qt.ItemDataRole.UserRole, place)
            self.moments.addItem(item)

    def _show_why(self) -> None:
        note = self.notes.of(self.session.selected)
        if self.session.selected is None:
            one = self.session.recipe.words.filled("{an} {one}")
            self.why.setText(f"Click {one} to see what it was linked to in this frame, and what it was not.")
        elif note is None:
            self.why.setText(f"Identity {self.session.selected} is not alive in this frame.")
        else:
            lines = [note.words + "."]
            for candidate in note.candidates:
                terms = ", ".join(f"{name} {value:.2f}" for name, value in candidate.terms.items())
                state = "taken" if candidate.chosen else candidate.refused or "free"
                lines.append(f"{candidate.distance:.1f} σ, cost {candidate.cost:.2f} ({terms}): {state}")
            self.why.setText("\n".join(lines))


def _show_histogram(plot: EvidencePlot, values: np.ndarray, edges: np.ndarray) -> None:
    plot.show_evidence(edges, np.histogram(values, edges)[0].astype(float))
