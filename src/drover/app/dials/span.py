"""A fragment first: Detect's settings tried on a few seconds before the whole clip."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout, QPushButton

from drover.app.dials.parts import Card, muted
from drover.app.session import Session

__all__ = ["SpanCard"]

SECONDS = 5.0


class SpanCard(Card):
    """Chooses a span from the frame on screen, or goes back to the whole clip."""

    def __init__(self, session: Session) -> None:
        super().__init__("Try a fragment first")
        self.session = session
        self.words = muted("", wrap=True)
        self.body.addWidget(self.words)
        row = QHBoxLayout()
        self.here = QPushButton(f"{SECONDS:.0f} s from here")
        self.here.setToolTip("Changes of Detect are worked through on these seconds only. Shift and drag in the lanes "
                             "to choose others.")  # fmt: skip
        self.here.clicked.connect(self._from_here)
        self.whole = QPushButton("Whole clip")
        self.whole.setToolTip("Work through the whole clip with the settings as they are.")
        self.whole.clicked.connect(lambda: session.set_span(None))
        for button in (self.here, self.whole):
            row.addWidget(button)
        row.addStretch(1)
        self.body.addLayout(row)
        session.span_changed.connect(self._show)
        session.clip_changed.connect(self._show)
        self._show()

    def _from_here(self) -> None:
        clip = self.session.clip
        if clip is not None:
            first = self.session.frame
            past = clip.frame_at(float(clip.times[first]) + SECONDS)
            if past - first < clip.rate:  # at the end of the clip: its last seconds
                past = clip.frame_count
                first = clip.frame_at(max(0.0, clip.duration - SECONDS))
            self.session.set_span((first, past))

    def _show(self) -> None:
        clip, span = self.session.clip, self.session.span
        self.whole.setEnabled(span is not None)
        if clip is None or span is None:
            self.words.setText("Settings of Detect are worked through on the whole clip.")
            return
        first, last = clip.times[span[0]], clip.times[span[1] - 1]
        self.words.setText(f"Settings are tried on {first:.1f} s to {last:.1f} s; no result is kept until the whole "
                           "clip is worked through.")  # fmt: skip
