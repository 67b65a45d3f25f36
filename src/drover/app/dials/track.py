"""Dials of Track: the gate on match distances, the longest gap on gap lengths, then motion and life."""

from __future__ import annotations

import numpy as np

from drover.app.dials.parts import Card, Folded, muted
from drover.app.dials.settings import SettingsPage
from drover.app.session import Session
from drover.core.track.evidence import gap_lengths, match_distance_samples

__all__ = ["TrackDials"]


class TrackDials(SettingsPage):
    """Gate, longest gap, motion filter, birth."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.gate_card = Card("How far a match may reach")
        self.gate = self.evidence("track.match.gate", keep_below=True, log_counts=True)
        self.gate_card.body.addWidget(self.gate)
        self.gate_card.body.addWidget(
            muted(
                "Distance of links from the forecast. Beyond the gate: the nearest box a track was refused. Log scale.",
                wrap=True,
            )
        )
        self.gate_card.body.addWidget(self.row("gate", "track.match.gate"))
        self.column.addWidget(self.gate_card)
        self.gap_card = Card("How long to coast unseen")
        self.gap = self.evidence("track.life.longest_gap", keep_below=True)
        self.gap_card.body.addWidget(self.gap)
        self.gap_words = muted("", wrap=True)
        self.gap_card.body.addWidget(self.gap_words)
        self.gap_card.body.addWidget(self.row("longest gap", "track.life.longest_gap"))
        self.column.addWidget(self.gap_card)
        motion = Card("Motion filter")
        motion.note.setText("constant velocity")
        motion.body.addWidget(self.row("jumpiness", "track.motion.jumpiness"))
        motion.body.addWidget(self.row("box noise", "track.motion.box_noise"))
        more = Folded("box size and cost")
        more.rows.addWidget(self.row("size change", "track.motion.size_noise"))
        more.rows.addWidget(self.row("doubt when size jumps", "track.motion.size_doubt"))
        more.rows.addWidget(self.row("weight of overlap", "track.match.overlap_weight"))
        motion.body.addWidget(more)
        self.column.addWidget(motion)
        birth = Card("When a track is believed")
        birth.body.addWidget(self.row("seen for", "track.life.hits_to_confirm"))
        self.column.addWidget(birth)
        session.tracks_changed.connect(self._show_evidence)
        self._show_evidence()

    def _show_evidence(self) -> None:
        tracks, clip = self.session.tracks, self.session.clip
        if tracks is None or clip is None:
            return
        matched, refused = match_distance_samples(tracks)
        edges = np.linspace(0, max(12.0, 1.5 * self.session.recipe.track.match.gate), 49)
        counts = np.histogram(np.concatenate([matched, refused]), edges)[0]
        self.gate.show_evidence(edges, counts.astype(float))
        self.gate_card.note.setText(f"{len(matched):,} links".replace(",", " "))
        gaps = gap_lengths(tracks, clip.times)
        top = max(2.5, 1.35 * self.session.recipe.track.life.longest_gap)
        gap_edges = np.linspace(0, top, 41)
        self.gap.show_evidence(gap_edges, np.histogram(gaps, gap_edges)[0].astype(float))
        frames = self.session.recipe.track.life.longest_gap * clip.rate
        self.gap_words.setText(f"Length of every gap that was bridged. Now up to {frames:.0f} frames.")
        self.gap_card.note.setText(f"{len(gaps)} gaps")
