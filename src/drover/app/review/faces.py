"""Pictures of the identities of a moment, before it and after it, side by side."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from drover.app.cutouts import Cut, Cutouts, inside
from drover.app.review.reviewer import Reviewer
from drover.app.session import Session
from drover.app.theme import FIELD, MUTED_TEXT, identity_colour, number_font
from drover.core.doubt.moments import Moment
from drover.core.types import TrackState

__all__ = ["Faces"]

PICTURE = QSize(128, 54)
HEAD, BADGE, GAP = 15, 40, 3
ROOM = 2.2  # times its box that a picture of an identity shows
CLEAR = 0.2  # s from the moment at which a picture is taken


class Faces(QWidget):
    """A row for each of the two, its number at the left; empty where nothing is seen of it on that side."""

    def __init__(self, session: Session, reviewer: Reviewer) -> None:
        super().__init__()
        self.session, self.reviewer = session, reviewer
        self.cutouts = Cutouts(session, PICTURE)
        self.cutouts.ready.connect(self.update)
        reviewer.changed.connect(self._on_changed)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(HEAD + 2 * (PICTURE.height() + GAP))
        self.setAccessibleName("pictures before and after")

    @property
    def shown(self) -> tuple[int, ...]:
        """The identities that there are rows for."""
        moment = self.reviewer.current
        if moment is None:
            return ()
        return tuple(who for who in (moment.identities[0], self.reviewer.partner) if who)

    def _on_changed(self) -> None:
        moment = self.reviewer.current
        if moment is not None and self.isVisible():
            self.cutouts.ask({self._key(moment, who): self._cuts(moment, who) for who in self.shown})
        self.update()

    def showEvent(self, event: object) -> None:
        del event
        self._on_changed()

    def _key(self, moment: Moment, who: int) -> tuple[object, ...]:
        clip = self.session.clip
        cuts = [(frame, rect.getRect()) for frame, rect in self._cuts(moment, who)]
        return (clip.fingerprint if clip else "", *cuts)

    def _cuts(self, moment: Moment, who: int) -> list[Cut]:
        """What of which frames shows an identity before and after; a part of no size where it is not seen."""
        tracks, clip = self.session.tracks, self.session.clip
        if tracks is None or clip is None:
            return []
        path = tracks.path_of(who)
        path = path[tracks.state[path] != TrackState.COASTING]
        when = clip.times[tracks.frame[path]]
        out: list[Cut] = []
        for way in (-1, 1):
            edge = float(clip.times[moment.first if way < 0 else moment.last]) + way * CLEAR
            side = path[when <= edge] if way < 0 else path[when >= edge]
            if not len(side):
                continue
            box = tracks.box[side[-1 if way < 0 else 0]].astype(np.float64)
            middle, height = (box[:2] + box[2:]) / 2, ROOM * max(box[3] - box[1], (box[2] - box[0]) * 0.7, 16.0)
            width = height * PICTURE.width() / PICTURE.height()
            frame = int(tracks.frame[side[-1 if way < 0 else 0]])
            size = clip.width, clip.height
            out.append((frame, inside(middle[0] - width / 2, middle[1] - height / 2, width, height, size)))
        return out

    def paintEvent(self, event: QPaintEvent) -> None:
        del event
        moment = self.reviewer.current
        with QPainter(self) as painter:
            painter.setFont(number_font(11))
            painter.setPen(QColor(MUTED_TEXT))
            for k, word in enumerate(("before", "after, as it is")):
                left = BADGE + k * (PICTURE.width() + GAP)
                painter.drawText(QRectF(left, 0, PICTURE.width(), HEAD), Qt.AlignmentFlag.AlignVCenter, word)
            if moment is None:
                return
            for row, who in enumerate(self.shown):
                self._paint_row(painter, moment, who, HEAD + row * (PICTURE.height() + GAP))

    def _paint_row(self, painter: QPainter, moment: Moment, who: int, top: float) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        badge = QRectF(0, top + PICTURE.height() / 2 - 9, 34, 18)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(identity_colour(who)))
        painter.drawRoundedRect(badge, 8, 8)
        painter.setPen(QColor("#17201D"))
        painter.setFont(number_font(11, bold=True))
        painter.drawText(badge, Qt.AlignmentFlag.AlignCenter, str(who))
        cuts, images = self._cuts(moment, who), self.cutouts.of(self._key(moment, who))
        for k in range(2):
            place = QRectF(BADGE + k * (PICTURE.width() + GAP), top, PICTURE.width(), PICTURE.height())
            painter.fillRect(place, QColor(FIELD))
            before = bool(cuts) and cuts[0][0] <= moment.first
            number = k if before else k - 1
            if 0 <= number < len(cuts):
                if number < len(images):
                    painter.drawImage(place, images[number])
            else:
                painter.setFont(number_font(11))
                painter.setPen(QColor("#C9CEC9"))
                painter.drawText(place, Qt.AlignmentFlag.AlignCenter, "not there")
