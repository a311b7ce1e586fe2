"""The stage: a picture of the level that hands can move through and point into."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QWidget

from ropebell.app.palette import THEME, font
from ropebell.app.stage.camera import Camera
from ropebell.app.stage.eye import Eye
from ropebell.app.stage.flight import Flight
from ropebell.app.stage.frames import Asked, Frame, Frames
from ropebell.app.stage.hands import Hands
from ropebell.app.stage.overlay import Overlay, paint, seen_overlay
from ropebell.app.stage.pace import Pace
from ropebell.app.stage.picture import LOOKED_THROUGH, Spot, StagePicture
from ropebell.app.stage.renderer import Look
from ropebell.app.views import COMMON, View
from ropebell.level.model import I32
from ropebell.level.scene import Scene


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
        self.hands = Hands(self.eye, self.spot_at, lambda: self.overlay, self)
        self._flight = Flight(lambda: not self.camera.plan, self)
        self._flight.step.connect(self.eye.fly)
        self._pace = Pace(self._frames, lambda: self.isVisible() and not self._flight.moving, self)
        self._pace.rested.connect(self._rested)
        self._flight.ended.connect(self.redraw)
        for does in (self.hands, self._flight):
            self.installEventFilter(does)

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
        """Draw anew, soon."""
        if self.picture is None:
            self.update()
        self._pace.soon()

    @property
    def seconds_to_draw(self) -> float:
        """How long a plain frame takes."""
        return self._frames.seconds

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
        overlay = seen_overlay(self.overlay, self.picture, self.camera, self.look.hidden)
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

    def _rested(self) -> None:
        moved, self._moving = self._moving, False
        if moved and not self.hands.pressed and not self._flight.moving:
            self.rested.emit()

    def grab_smooth(self) -> None:
        """Draw the final picture and wait for it."""
        self._moving = False
        if self.picture is not None:
            self._pace.now()

    def close_renderer(self) -> None:
        """Give the GL context back."""
        self._flight.stop()
        self._pace.stop()
        self._frames.close()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self.redraw()
