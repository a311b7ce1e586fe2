"""The stage: a picture of the level that hands can move through and point into."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QFocusEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from ropebell.app.palette import THEME, font
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.eye import Eye
from ropebell.app.stage.flight import FLY_KEYS, Flight
from ropebell.app.stage.frames import Asked, Frame, Frames
from ropebell.app.stage.hands import Hands
from ropebell.app.stage.overlay import Overlay, paint
from ropebell.app.stage.picture import LOOKED_THROUGH, Spot, StagePicture
from ropebell.app.stage.renderer import Look
from ropebell.app.views import COMMON, View
from ropebell.level.model import I32
from ropebell.level.scene import Scene

REFINE_MS = 160
# Smooth edges wait for so many times as long as a frame takes: where drawing is slow, as without a graphics card, it
# must not hold up a build or a lamp that is being relit.
PATIENCE = 8


class Stage(QWidget):
    """Shows one level with one light. `eye` moves through it, `hands` point into it.

    Signals:
        camera_changed: the view was moved.
        drawn: a frame was drawn.
        rested: the view was moved and now stands still.
    """

    camera_changed = pyqtSignal()
    drawn = pyqtSignal()
    rested = pyqtSignal()

    def __init__(self, views: tuple[View, ...] = COMMON, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Stage")
        self.setMinimumSize(240, 180)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.look = Look()
        self.message, self.trouble = "", ""
        self._frames = Frames(self._asked, views, self)
        self._frames.taken.connect(self._take)
        self._frames.failed.connect(self._cannot_draw)
        self.picture: StagePicture | None = None
        self._image: QImage | None = None
        self.overlay = Overlay()
        self._moving = False
        self.eye = Eye(self, self)
        self.eye.moved.connect(self._moved)
        self.hands = Hands(self.eye, self.spot_at, self)
        self._flight = Flight(self)
        self._flight.step.connect(self.eye.fly)
        self._flight.ended.connect(self.redraw)
        self._refine_timer = QTimer(self)
        self._refine_timer.setSingleShot(True)
        self._refine_timer.setInterval(REFINE_MS)
        self._refine_timer.timeout.connect(self._rest)
        # What changes in one go, such as light and its exposure, is drawn once.
        self._draw_timer = QTimer(self)
        self._draw_timer.setSingleShot(True)
        self._draw_timer.setInterval(0)
        self._draw_timer.timeout.connect(lambda: self._request(smooth=False))
        self._smooth_timer = QTimer(self)
        self._smooth_timer.setSingleShot(True)
        self._smooth_timer.timeout.connect(self._refine)

    # -- content

    def show_picture(self, picture: StagePicture) -> None:
        """Show another picture; the camera stays."""
        self._frames.change(lambda renderer: renderer.show(picture))
        self.picture = picture
        self.hands.point_again()
        self.redraw()

    @property
    def has_light(self) -> bool:
        """Whether light is shown."""
        return self.picture is not None and self.picture.total is not None

    @property
    def scene_shown(self) -> Scene | None:
        """The scene in the picture."""
        return self.picture.scene if self.picture is not None else None

    def select(self, node: int, chosen: tuple[int, ...] = ()) -> None:
        """Mark a node, −1 for none, and others that are chosen with it."""
        self.look.selected, self.look.chosen = node, chosen
        self.redraw()

    @property
    def panes(self) -> int:
        """How many pictures are drawn side by side."""
        return max(len(self.look.view.panes), 1)

    def hidden(self) -> frozenset[int]:
        """Nodes that are not drawn."""
        return self.look.hidden

    def hide_nodes(self, nodes: frozenset[int]) -> None:
        """Draw all nodes but these."""
        self.look.hidden = nodes
        self.redraw()

    def show_glow(self, glow: Mapping[str, tuple[float, float, float]]) -> None:
        """Draw these materials as if they glowed so, in cd/m²."""
        if glow != self.look.glow:
            self.look.glow = glow
            self.redraw()

    def lay_over(self, overlay: Overlay) -> None:
        """Draw this over the picture from now on."""
        self.overlay = overlay
        self.update()

    # -- looking

    @property
    def camera(self) -> Camera:
        """Where it is looked at from."""
        return self.eye.camera

    def go(self, camera: Camera) -> None:
        """Look from elsewhere."""
        self.eye.go(camera)

    def _moved(self) -> None:
        self._moving = True
        self.camera_changed.emit()
        self.redraw()

    def spot_at(self, at: QPointF) -> Spot | None:
        """What lies under a point of the widget."""
        if self.picture is None:
            return None
        return self.picture.spot(*self.eye.ray(at), self.look.by_texel, self.look.hidden)

    def exposure_for_view(self) -> float:
        """An exposure that suits what is in the picture now."""
        return self.picture.exposure(self.camera, self.eye.aspect) if self.picture is not None else 1.0

    def seen(self) -> I32:
        """(n,) int32 triangles of the picture that are looked at now."""
        if self.picture is None:
            return np.zeros(0, np.int32)
        return self.picture.seen(self.camera, self.eye.aspect, *LOOKED_THROUGH)

    # -- drawing

    def redraw(self) -> None:
        """Draw anew, soon; at most one frame is under way and the newest state wins."""
        self._refine_timer.start()
        self._smooth_timer.stop()
        self._draw_timer.start()

    @property
    def seconds_to_draw(self) -> float:
        """How long a plain frame takes."""
        return self._frames.seconds

    def _request(self, smooth: bool) -> None:
        if self.picture is None:
            self.update()
        self._frames.request(smooth)

    def _asked(self) -> Asked | None:
        if self.picture is None:
            return None
        ratio = self.devicePixelRatioF()
        size = (int(self.width() * ratio), int(self.height() * ratio))
        return Asked(self.camera, replace(self.look), *size, self._moving)

    def _cannot_draw(self, sentence: str) -> None:
        self.trouble = sentence
        self.update()

    def _take(self, frame: Frame) -> None:
        height, width = frame.pixels.shape[:2]
        self._image = QImage(frame.pixels.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888)
        self.update()
        self.hands.point_again()
        self.drawn.emit()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), THEME.color("surround"))
        if self._image is not None and self.picture is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(self.rect(), self._image)
        overlay = self._seen_overlay()
        for pane in range(self.panes if self.picture is not None else 0):
            painter.save()
            wide = self.width() // self.panes
            painter.setClipRect(pane * wide, 0, wide, self.height())
            painter.translate(pane * wide, 0)
            paint(painter, self.camera, overlay, wide, self.height())
            if pane:
                painter.fillRect(-1, 0, 2, self.height(), THEME.color("accent"))
            painter.restore()
        message = self.trouble or self.message
        if message:
            painter.setPen(THEME.color("text"))
            painter.setFont(font(15))
            flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(self.rect().adjusted(60, 0, -60, 0), flags, message)
        painter.end()

    def _seen_overlay(self) -> Overlay:
        """What is drawn over the picture, less the marks that something hides."""
        hideable = [m for m in self.overlay.marks if not m.through]
        if not hideable or self.picture is None:
            return self.overlay
        free = self.picture.in_sight(self.camera, np.array([m.position for m in hideable]), self.look.hidden)
        behind = {id(m) for m, seen in zip(hideable, free) if not seen}
        return replace(self.overlay, marks=tuple(m for m in self.overlay.marks if id(m) not in behind))

    def _rest(self) -> None:
        """The hand rests."""
        moved, self._moving = self._moving, False
        if moved and not self.hands.pressed and not self._flight.moving:
            self.rested.emit()
        self._smooth_timer.start(int(1000 * PATIENCE * self._frames.seconds))

    def _refine(self) -> None:
        """Draw with smooth edges."""
        if self.isVisible() and not self._flight.moving:
            if self._frames.drawing:
                self._smooth_timer.start(REFINE_MS)
            else:
                self._request(smooth=True)

    def grab_smooth(self) -> None:
        """Draw the final picture and wait for it."""
        self._moving = False
        if self.picture is not None:
            self._refine_timer.stop()
            self._smooth_timer.stop()
            self._draw_timer.stop()
            self._frames.draw_now()

    def close_renderer(self) -> None:
        """Give the GL context back."""
        self._flight.stop()
        self._refine_timer.stop()
        self._smooth_timer.stop()
        self._draw_timer.stop()
        self._frames.close()

    # -- what the person does

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self.redraw()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        self.hands.press(event, self.overlay, self.size())
        if event.button() == Qt.MouseButton.RightButton:
            self.setCursor(Qt.CursorShape.BlankCursor)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.hands.move(event)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.unsetCursor()
        self.hands.release(event, self.overlay, self.size())

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        self.hands.wheel(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        plain = not event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier)
        if plain and not self.camera.plan and event.key() in FLY_KEYS:
            if not event.isAutoRepeat():
                self._flight.press(event.key())
            return
        super().keyPressEvent(event)

    def keyReleaseEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if not event.isAutoRepeat():
            self._flight.release(event.key())
        super().keyReleaseEvent(event)

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        self._flight.release_all()

    def leaveEvent(self, event: object) -> None:
        self.hands.leave()
