"""The panel on the right: the dials of the stage in focus."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from drover.app.audit.panel import AuditPanel
from drover.app.dials.counting.page import CountDials
from drover.app.dials.detect import DetectDials
from drover.app.dials.footage import FootageFacts
from drover.app.dials.score import ScoreDials
from drover.app.dials.track import TrackDials
from drover.app.link_notes import LinkNotes
from drover.app.moment_watch import MomentWatch
from drover.app.pictures import Pictures
from drover.app.session import STAGES, Session

__all__ = ["DialPanel"]


class DialPanel(QStackedWidget):
    """One page a stage."""

    def __init__(self, session: Session, pictures: Pictures, notes: LinkNotes, watch: MomentWatch) -> None:
        super().__init__()
        self.setFixedWidth(336)
        self.footage = FootageFacts(session)
        self.detect = DetectDials(session, pictures)
        self.track = TrackDials(session, notes, watch)
        self.count = CountDials(session)
        self.score = ScoreDials(session)
        for page in (self.footage, self.detect, self.track, self.count, self.score):
            self.addWidget(_scrolled(page))
        self.audit = AuditPanel(session, watch)
        self.addWidget(self.audit)
        self.count.audit_wanted.connect(self.show_audit)
        self.audit.closed.connect(lambda: self.show_stage("count"))

    def show_stage(self, stage: str) -> None:
        """Bring a stage's page to the front."""
        self.setCurrentIndex(STAGES.index(stage))

    def show_audit(self) -> None:
        """Bring the audit to the front."""
        self.setCurrentWidget(self.audit)


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
