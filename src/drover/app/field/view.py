"""The field widget: picture, overlays, zoom and pan, lines under the mouse."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QEvent, QPointF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QSizePolicy

from drover.app.drops import DropTarget
from drover.app.field import overlays
from drover.app.field.area_editor import AreaEditor, AreaKind
from drover.app.field.box_editor import BOX_KEYS, BoxEditor, BoxKind
from drover.app.field.context_menu import context_menu
from drover.app.field.cursors import cursor_of
from drover.app.field.line_editor import LineEditor
from drover.app.field.painting import draw_overlays, draw_picture
from drover.app.field.scene import HINTS, Scene
from drover.app.field.shown_tracks import ShownTracks, identities_at
from drover.app.field.still_ground import STILL, laid_view, moved_back, scene_transform
from drover.app.field.tracks_layer import NOBODY, TracksLayer
from drover.app.field.view_transform import ViewTransform
from drover.app.field.zone_editor import ZoneEditor
from drover.app.held import Held
from drover.app.link_notes import LinkNotes
from drover.app.pictures import Pictures
from drover.app.session import Session
from drover.app.theme import FIELD
from drover.core.camera.motion import CameraMotion
from drover.core.doubt.moments import Moment
from drover.core.footage_types import ClipInfo
from drover.core.types import Tracks

__all__ = ["CHIPS", "LAYERS", "Field"]

CHIPS = (
    "Outlines", "Numbers", "Trails", "Forecast", "Gates", "Detections", "Raw mask", "Mask", "Shadow", "Difference",
    "Background", "Truth", "Errors", STILL,
)  # fmt: skip
LAYERS = {"Raw mask", "Shadow", "Difference", "Background"}  # these need Detect's pictures of the frame


class Field(DropTarget):
    """The big picture. ``shown`` is the set of overlays that are on.

    ``view_changed`` tells of zoom and pan, ``touched`` of a click. With ``caption`` the field says what it shows; with
    ``other_pictures`` set it shows the result held beside the current one.
    """

    view_changed = Signal()
    touched = Signal()

    def __init__(self, session: Session, pictures: Pictures, notes: LinkNotes) -> None:
        super().__init__()
        self.session, self.pictures, self.notes = session, pictures, notes
        notes.ready.connect(self.update)
        self.other_pictures: Pictures | None = None
        self.caption = ""
        self.active = False
        self.editor = LineEditor(session)
        self.editor.shown_crossings = lambda: self.results.crossings
        self.boxes = BoxEditor(session)
        self.areas = AreaEditor(session)
        self.zones = ZoneEditor(session)
        self.layer = TracksLayer()
        self._seen_tracks = ShownTracks(session.view)
        self.moment: Moment | None = None  # whose futures are drawn
        self.moment_partner = 0
        self.ahead: NDArray[np.float64] | None = None  # a forecast of the filter bench, (frames, 4) px
        self.shown = {"Outlines", "Numbers", "Trails", "Forecast"}
        self.view = ViewTransform()
        self._pan_from: QPointF | None = None
        self._drawn: tuple[object, ...] = ()
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(QSize(320, 200))
        self.setAccessibleName("Field")
        for signal in (
            pictures.frame_ready, pictures.detect_ready, session.detections_changed, session.tracks_changed,
            session.crossings_changed, session.truth_changed, session.score_changed, session.other_changed,
        ):  # fmt: skip
            signal.connect(self.update)
        session.recipe_changed.connect(self._on_recipe)
        session.frame_changed.connect(self.update)
        session.view.shown_changed.connect(self.update)
        session.clip_changed.connect(self._on_clip)

    def toggle(self, name: str, on: bool) -> None:
        """Switch an overlay on or off."""
        (self.shown.add if on else self.shown.discard)(name)
        self.update()

    @property
    def results(self) -> Session | Held:
        """What is drawn over the picture: the current result, or the one held beside it."""
        other = self.session.other
        return other if self.other_pictures is not None and other is not None else self.session

    @property
    def layers(self) -> Pictures:
        """Detect's pictures that go with the results."""
        return self.other_pictures if self.other_pictures is not None and self.session.other else self.pictures

    def set_view(self, view: ViewTransform) -> None:
        """Zoom and pan from here on; the first showing is on the widget's own size."""
        self.view = view.sized(self.width(), self.height())
        self.update()

    def _set_own_view(self, view: ViewTransform) -> None:
        self.view = view
        self.view_changed.emit()
        self.update()

    def fit(self) -> None:
        """Show the whole picture."""
        self._set_own_view(self.view.fitted())

    @property
    def motion(self) -> CameraMotion | None:
        """The camera's motion, where the ground is held still."""
        found = self.results.detect
        return found.motion if found is not None and STILL in self.shown else None

    @property
    def laid(self) -> ViewTransform:
        """The view by which picture and overlays are drawn; where the ground is held still they are moved then."""
        return laid_view(self.view, self.motion)

    def under(self, point: QPointF) -> QPointF:
        """The place that lies under a point of the widget, px by the view of :attr:`laid`."""
        return moved_back(scene_transform(self.view, self.motion, self.drawn_frame), point)

    def start_line(self) -> None:
        """The next drag draws a counting line."""
        self.editor.start_drawing()
        self.setCursor(Qt.CursorShape.CrossCursor)

    def start_area(self, kind: AreaKind) -> None:
        """The next clicks are the corners of an area."""
        self.areas.start(kind)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setFocus()

    def start_box(self, kind: BoxKind) -> None:
        """The next drag is a box round one object."""
        self.boxes.start(kind)
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setFocus()

    def _on_recipe(self) -> None:
        """Draw again where lines, zones or areas changed; what else follows is told when it is there."""
        recipe = self.session.recipe
        drawn = recipe.count, recipe.words, recipe.detect.where, recipe.detect.size, recipe.track.life.exits
        if drawn != self._drawn:
            self._drawn = drawn
            self.update()

    def _on_clip(self) -> None:
        clip = self.session.clip
        if clip is not None:
            self.view = replace(self.view, picture_width=clip.width, picture_height=clip.height).fitted()
        self.update()

    # --- painting -------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), QColor(FIELD))
            clip = self.session.clip
            if clip is None:
                return
            painter.setRenderHints(HINTS)
            painter.setTransform(scene_transform(self.view, self.motion, self.drawn_frame))
            draw_picture(painter, self)
            draw_overlays(painter, self)
            now, laid = float(clip.times[self.session.frame]), self.laid
            self.areas.draw(painter, laid)
            self.boxes.draw(painter, laid)
            self.zones.draw(painter, laid, now)
            self.editor.draw(painter, laid, now)
            painter.resetTransform()
            if self.caption:
                overlays.draw_caption(painter, self.width(), self.caption, self.active)

    def picture(self) -> QImage:
        """The whole picture with all that is switched on, at the footage's own size."""
        clip = self.session.clip
        size = (clip.width, clip.height) if clip is not None else (self.width(), self.height())
        out = QImage(size[0], size[1], QImage.Format.Format_RGB32)
        kept, self.view = self.view, replace(self.view.fitted(), margin=0.0).sized(*map(float, size))
        shown, self.shown = self.shown, self.shown - {STILL}
        try:
            with QPainter(out) as painter:
                painter.setRenderHints(HINTS)
                draw_picture(painter, self)
                draw_overlays(painter, self)
                now = float(clip.times[self.session.frame]) if clip is not None else 0.0
                self.zones.draw(painter, self.view, now)
                self.editor.draw(painter, self.view, now)
        finally:
            self.view, self.shown = kept, shown
        return out

    def scene(self, clip: ClipInfo) -> Scene:
        """The results that are shown, as they are drawn."""
        shown = self.results
        found = None if shown.detect is None else shown.detect.detections
        return Scene(
            clip, self.session.recipe.count, found, self._only_shown(), shown.crossings, self.session.counted,
            self.session.truth, shown.detection_score, None if shown.detect is None else shown.detect.motion,
            self.session.engine.following.things if shown is self.session else (),
            self.session.names if shown is self.session else NOBODY,
        )  # fmt: skip

    def _only_shown(self) -> Tracks | None:
        """The tracks without those that are hidden, of the current result."""
        tracks = self.results.tracks
        return tracks if tracks is None or self.results is not self.session else self._seen_tracks.of(tracks)

    @property
    def drawn_frame(self) -> int:
        """Frame of the picture on screen; overlays go with it, so they never run ahead of a slow fetch."""
        picture = self.pictures.frame
        return self.session.frame if picture is None else picture.frame

    # --- mouse and keys -------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        here = event.position()
        if self.session.clip is None:
            return
        point, laid = self.under(here), self.laid
        self.touched.emit()
        if event.button() == Qt.MouseButton.LeftButton and self.boxes.drawing:
            self.boxes.press(point)
            self.update()
        elif event.button() == Qt.MouseButton.LeftButton and self.areas.drawing:
            self.areas.click(point, laid)
            self._set_cursor()
            self.update()
        elif event.button() == Qt.MouseButton.LeftButton:
            bend = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
            if not self.editor.drawing and self.editor.reverse_at(point, laid):
                return
            if self.editor.press(point, laid, bend=bend) or self.zones.press(point, laid, bend=bend):
                self.update()
                return
            self._select_at(point, beside=bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
            self._pan_from = here
        elif event.button() == Qt.MouseButton.MiddleButton:
            self._pan_from = here
        elif event.button() == Qt.MouseButton.RightButton:
            context_menu(self, point).exec(self.mapToGlobal(here.toPoint()))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        here = event.position()
        if self.session.clip is None:
            return
        point, laid = self.under(here), self.laid
        if self.boxes.drawing:
            self.boxes.move(point)
            self.update()
        elif self.areas.drawing:
            self.areas.move(point)
            self.update()
        elif self._pan_from is not None:
            self._set_own_view(self.view.panned(here - self._pan_from))
            self._pan_from = here
        elif (not self.zones.busy and self.editor.move(point, laid)) or self.zones.move(point, laid):
            self._set_cursor()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._pan_from = None
        point, laid = self.under(event.position()), self.laid
        if self.boxes.drawing:
            self.boxes.release(point, laid)
            self._set_cursor()
            self.update()
        elif self.editor.release(point, laid) or self.zones.release():
            self._set_cursor()
            self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.editor.line_at(self.under(event.position()), self.laid) is None and not self.areas.drawing:
            self.fit()

    def wheelEvent(self, event: QWheelEvent) -> None:
        steps = event.angleDelta().y() / 120
        self._set_own_view(self.view.zoomed(1.2**steps, event.position()))

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.view = self.view.sized(self.width(), self.height())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.editor.stop()
            self.areas.stop()
            self.zones.stop()
            self.boxes.stop()
            self.unsetCursor()
            self.update()
        elif self.boxes.key(event.key(), event.modifiers()):
            self._set_cursor()
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.areas.drawing:
            self.areas.finish()
            self._set_cursor()
            self.update()
        elif event.key() == Qt.Key.Key_Delete and self.editor.hover is not None:
            self.editor.remove(self.editor.hover[0])
        elif event.key() == Qt.Key.Key_Delete and self.zones.hover is not None:
            self.zones.remove(self.zones.hover[0])
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent) -> bool:
        """While a box is drawn its keys are the field's, not the menus'."""
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and self.boxes.drawing:
            event.setAccepted(event.key() in BOX_KEYS)
            return event.isAccepted()
        return super().event(event)

    def _set_cursor(self) -> None:
        drawing = self.editor.drawing or self.areas.drawing or self.boxes.drawing
        cursor = cursor_of(drawing, self.editor.hover, self.zones.hover)
        if cursor is None:
            self.unsetCursor()
        else:
            self.setCursor(cursor)

    def _select_at(self, point: QPointF, *, beside: bool) -> None:
        tracks = self._only_shown()
        if tracks is None:
            return
        at = self.laid.to_picture(point)
        found = identities_at(tracks, self.drawn_frame, at.x(), at.y())
        if not beside:
            self.session.view.select(found[0] if found else None)
        elif found:
            self.session.view.toggle(found[0])
