"""The panel on the right: the dials of the stage in focus, each page built when it is first shown."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from drover.app.link_notes import LinkNotes
from drover.app.moment_watch import MomentWatch
from drover.app.pictures import Pictures
from drover.app.review.reviewer import Reviewer
from drover.app.session import STAGES, Session

if TYPE_CHECKING:  # the pages bring the plots with them, and those take half a second to load
    from drover.app.audit.panel import AuditPanel
    from drover.app.dials.counting.page import CountDials
    from drover.app.dials.detect import DetectDials
    from drover.app.dials.footage import FootageFacts
    from drover.app.dials.score import ScoreDials
    from drover.app.dials.track import TrackDials
    from drover.app.review.panel import ReviewPanel

__all__ = ["DialPanel"]

AUDIT, REVIEW = "audit", "review"
PATIENCE = 1500  # ms after the window is shown that a picture is waited for before the page is built


class DialPanel(QStackedWidget):
    """One page a stage, and the audit; the field's first picture comes before any of them."""

    built = Signal(str)

    def __init__(
        self, session: Session, pictures: Pictures, notes: LinkNotes, watch: MomentWatch, reviewer: Reviewer
    ) -> None:
        super().__init__()
        self.setFixedWidth(336)
        self._parts, self.reviewer = (session, pictures, notes, watch), reviewer
        self._pages: dict[str, QWidget] = {}
        self._places: dict[str, QVBoxLayout] = {}
        for name in (*STAGES, AUDIT, REVIEW):
            holder = QWidget()
            self._places[name] = QVBoxLayout(holder)
            self._places[name].setContentsMargins(0, 0, 0, 0)
            self.addWidget(holder)
        self._waiting = QTimer(self)
        self._waiting.setSingleShot(True)
        self._waiting.setInterval(PATIENCE)
        self._waiting.timeout.connect(self._build_current)
        pictures.frame_ready.connect(lambda: self._waiting.isActive() and self._waiting.start(0))

    # --- pages ------------------------------------------------------------------------------------------------

    @property
    def footage(self) -> FootageFacts:
        """What is known of the clip."""
        return self._page("footage")  # type: ignore[return-value]

    @property
    def detect(self) -> DetectDials:
        """Dials of Detect."""
        return self._page("detect")  # type: ignore[return-value]

    @property
    def track(self) -> TrackDials:
        """Dials of Track."""
        return self._page("track")  # type: ignore[return-value]

    @property
    def count(self) -> CountDials:
        """Lines, zones, alarms and their figures."""
        return self._page("count")  # type: ignore[return-value]

    @property
    def score(self) -> ScoreDials:
        """Measures against the truth."""
        return self._page("score")  # type: ignore[return-value]

    @property
    def audit(self) -> AuditPanel:
        """The audit of crossings."""
        return self._page(AUDIT)  # type: ignore[return-value]

    @property
    def review(self) -> ReviewPanel:
        """The review of moments."""
        return self._page(REVIEW)  # type: ignore[return-value]

    def _page(self, name: str) -> QWidget:
        """A page, built if it is asked for the first time."""
        if name not in self._pages:
            page = self._makers()[name]()
            self._pages[name] = page
            self._places[name].addWidget(page if name in (AUDIT, REVIEW) else _scrolled(page))
            self.built.emit(name)
        return self._pages[name]

    def _makers(self) -> dict[str, Callable[[], QWidget]]:
        return {
            "footage": self._make_footage, "detect": self._make_detect, "track": self._make_track,
            "count": self._make_count, "score": self._make_score, AUDIT: self._make_audit, REVIEW: self._make_review,
        }  # fmt: skip

    def _make_footage(self) -> QWidget:
        from drover.app.dials.footage import FootageFacts

        return FootageFacts(self._parts[0])

    def _make_detect(self) -> QWidget:
        from drover.app.dials.detect import DetectDials

        return DetectDials(self._parts[0], self._parts[1])

    def _make_track(self) -> QWidget:
        from drover.app.dials.track import TrackDials

        session, _, notes, watch = self._parts
        return TrackDials(session, notes, watch)

    def _make_count(self) -> QWidget:
        from drover.app.dials.counting.page import CountDials

        page = CountDials(self._parts[0], self._parts[3])
        page.audit_wanted.connect(self.show_audit)
        return page

    def _make_score(self) -> QWidget:
        from drover.app.dials.score import ScoreDials

        return ScoreDials(self._parts[0])

    def _make_audit(self) -> QWidget:
        from drover.app.audit.panel import AuditPanel

        page = AuditPanel(self._parts[0], self._parts[3])
        page.closed.connect(lambda: self.show_stage("count"))
        return page

    def _make_review(self) -> QWidget:
        from drover.app.review.panel import ReviewPanel

        page = ReviewPanel(self._parts[0], self.reviewer)
        page.closed.connect(lambda: self.show_stage("track"))
        return page

    # --- showing ----------------------------------------------------------------------------------------------

    def show_stage(self, stage: str) -> None:
        """Bring a stage's page to the front."""
        self._show(stage)

    def show_audit(self) -> None:
        """Bring the audit to the front."""
        self._show(AUDIT)

    def show_review(self) -> None:
        """Bring the review to the front."""
        self._show(REVIEW)

    @property
    def reviewing(self) -> bool:
        """Whether the review is in front."""
        return list(self._places)[self.currentIndex()] == REVIEW

    def _show(self, name: str) -> None:
        self.setCurrentIndex(list(self._places).index(name))
        if self.isVisible():  # somebody asked for it: no waiting
            self._waiting.stop()
            self._build_current()

    def _build_current(self) -> None:
        self._page(list(self._places)[self.currentIndex()])

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if list(self._places)[self.currentIndex()] not in self._pages:
            self._waiting.start()

    def close_pages(self) -> None:
        """Let go of what the pages read in the background."""
        self._waiting.stop()
        if AUDIT in self._pages:
            self.audit.strips.close()
        if REVIEW in self._pages:
            self.review.faces.cutouts.close()


def _scrolled(page: QWidget) -> QScrollArea:
    holder = QWidget()
    column = QVBoxLayout(holder)
    column.setContentsMargins(9, 9, 9, 9)
    column.addWidget(page)
    column.addStretch(1)
    area = QScrollArea()
    area.setWidget(holder)
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    return area
