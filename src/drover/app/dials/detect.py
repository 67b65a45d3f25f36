"""Dials of Detect: the threshold on the differences it cuts, then clean-up and size."""

from __future__ import annotations

import numpy as np

from drover.app.dials.parts import Card, Folded, muted
from drover.app.dials.settings import SettingsPage
from drover.app.pictures import Pictures
from drover.app.session import Session

__all__ = ["DetectDials"]

SHOWN_LEVELS = 130
BIN = 2


class DetectDials(SettingsPage):
    """Threshold, background, clean-up, size."""

    def __init__(self, session: Session, pictures: Pictures) -> None:
        super().__init__(session)
        self.pictures = pictures
        background = "detect.background."
        self.threshold_card = Card("What counts as moving")
        self.threshold = self.evidence(background + "threshold", keep_below=False, log_counts=True)
        self.threshold_card.body.addWidget(self.threshold)
        self.threshold_card.body.addWidget(
            muted(
                "Pixels by their difference from the background, log scale. Bars: the clip. Line: this frame.",
                wrap=True,
            )
        )
        self.threshold_card.body.addWidget(self.row("threshold", background + "threshold"))
        self.column.addWidget(self.threshold_card)
        learning = Card("Background")
        learning.note.setText("running average")
        learning.body.addWidget(self.row("rate", background + "rate"))
        learning.body.addWidget(self.row("rate where it moves", background + "busy_share"))
        learning.body.addWidget(self.row("learning at the start", background + "warm_up"))
        self.column.addWidget(learning)
        clean = Card("Clean-up")
        clean.body.addWidget(self.row("remove specks under", "detect.cleanup.opening"))
        clean.body.addWidget(self.row("bridge cracks under", "detect.cleanup.closing"))
        self.column.addWidget(clean)
        self.size_card = Card("Smallest animal")
        self.size_card.body.addWidget(self.row("least area", "detect.size.least_area"))
        more = Folded("width and height")
        more.rows.addWidget(self.row("least width", "detect.size.least_width"))
        more.rows.addWidget(self.row("least height", "detect.size.least_height"))
        self.size_card.body.addWidget(more)
        self.column.addWidget(self.size_card)
        session.detections_changed.connect(self._show_evidence)
        pictures.detect_ready.connect(self._show_evidence)
        self._show_evidence()

    def _show_evidence(self) -> None:
        detect, now = self.session.detect, self.pictures.detect
        edges = np.arange(1, SHOWN_LEVELS + 1, BIN).astype(float)
        clip = _binned(detect.histogram) if detect is not None else np.zeros(len(edges) - 1)
        frame = _binned(now.histogram) if now is not None and now.ready else None
        self.threshold.show_evidence(edges, clip, frame)
        if detect is not None:
            self.threshold_card.note.setText(f"{len(detect.detections):,} boxes".replace(",", " "))


def _binned(histogram: np.ndarray) -> np.ndarray:
    """Level 0 is left out: most pixels have it and it says nothing."""
    kept = histogram[1:SHOWN_LEVELS].astype(float)
    return kept[: len(kept) // BIN * BIN].reshape(-1, BIN).sum(axis=1)
