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
from ropebell.app.stage.camera import Camera, overview
from ropebell.app.stage.flight import FLY_KEYS, Flight
from ropebell.app.stage.frames import Asked, Frame, Frames
from ropebell.app.stage.overlay import Grip, Overlay, dragged, grip_at, mark_at, paint
from ropebell.app.stage.picture import EYE_HEIGHT, Spot, StagePicture
from ropebell.app.stage.renderer import Look
from ropebell.app.stage.viewpoint import clear_view
from ropebell.app.views import COMMON, View
from ropebell.level.model import F64
from ropebell.level.scene import Scene

# Metres a second, and what Shift does to it.
WALK_SPEED, WALK_FASTER = 2.0, 2.5
# Shift in the air.
FLY_FASTER = 4.0
REFINE_MS = 160
CLICK_PIXELS = 4


class Stage(QWidget):
    """Shows one level with one light.

    Signals:
        pointed: a `Spot`, or None where there is nothing.
        picked: index of the node that was clicked, −1 for none. picked_more: the same with Ctrl held.
        camera_changed: the view was moved.
        drawn: a frame was drawn.
        rested: the view was moved and now stands still.
        grip_moved: name of a grip, where it is dragged to, and whether the hand let go.
    """

    pointed = pyqtSignal(object)
    picked = pyqtSignal(int)
    camera_changed = pyqtSignal()
    drawn = pyqtSignal()
    rested = pyqtSignal()
    grip_moved = pyqtSignal(str, object, bool)
    picked_more = pyqtSignal(int)

    def __init__(self, views: tuple[View, ...] = COMMON, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Stage")
        self.setMinimumSize(240, 180)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.camera = Camera()
        self.look = Look()
        self.message = ""
        self.walking = False
        self._frames = Frames(self._asked, views, self)
        self._frames.taken.connect(self._take)
        self._frames.failed.connect(self._cannot_draw)
        self.trouble = ""
        self.picture: StagePicture | None = None
        self._image: QImage | None = None
        self.overlay = Overlay()
        self._grip: Grip | None = None
        self._grip_start: tuple[F64, F64] = (np.zeros(3), np.zeros(3))
        self._moving = False
        self._press: QPointF | None = None
        self._last: QPointF | None = None
        self._dragged = False
        self._pivot: F64 = np.zeros(3)
        self._before_plan: Camera | None = None
        self._flight = Flight(self)
        self._flight.step.connect(self._fly)
        self._flight.ended.connect(self.redraw)
        self._refine_timer = QTimer(self)
        self._refine_timer.setSingleShot(True)
        self._refine_timer.setInterval(REFINE_MS)
        self._refine_timer.timeout.connect(self._refine)

    # -- content

    def show_picture(self, picture: StagePicture) -> None:
        """Show another picture; the camera stays."""
        self._frames.change(lambda renderer: renderer.show(picture))
        self.picture = picture
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

    def redraw(self) -> None:
        """Draw anew, soon; at most one frame is under way and the newest state wins."""
        self._refine_timer.start()
        self._request(smooth=False)

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
        self.drawn.emit()

    # -- camera

    def go(self, camera: Camera) -> None:
        """Look from elsewhere."""
        self.camera = camera
        self._moving = True
        self.camera_changed.emit()
        self.redraw()

    @property
    def aspect(self) -> float:
        """Width over height."""
        return self.width() / max(self.height(), 1)

    def see_all(self) -> None:
        """The whole level."""
        scene = self.scene_shown
        if scene is not None and len(scene):
            low, high = scene.bounds()
            self.go(
                self.camera.framing(low, high, self.aspect) if self.camera.plan else overview(low, high, self.aspect)
            )

    def focus_on(self, node: int) -> None:
        """Bring an object into the middle of the picture; a light by the space round it."""
        scene = self.scene_shown
        if scene is None or node < 0:
            return
        rows = np.flatnonzero(scene.node == node)
        if len(rows):
            points = scene.corners[rows].reshape(-1, 3)
            low, high = points.min(axis=0), points.max(axis=0)
        else:
            middle = scene.node_world[node][:3, 3]
            low, high = middle - 0.6, middle + 0.6
        self._go_and_see(low, high, node)

    def go_near(self, place: F64, room: float = 1.2) -> None:
        """Look at a place from where it can be seen, with some room round it."""
        self._go_and_see(place - room, place + room, -1)

    def _go_and_see(self, low: F64, high: F64, node: int) -> None:
        """Look at a box from where nothing stands between: the same way if that can be, else from another side."""
        if self.camera.plan or self.picture is None:
            self.go(self.camera.framing(low, high, self.aspect))
            return
        self.go(clear_view(self.picture, self.camera, low, high, self.aspect, node))

    def place_ahead(self, metres: float) -> F64:
        """A place in front of the eye, at most so far and short of what is in the way."""
        eye, ahead = np.array(self.camera.eye), self.camera.forward
        spot = self.picture.spot(eye, ahead, False, self.look.hidden) if self.picture is not None else None
        far = float(np.linalg.norm(spot.position - eye)) if spot is not None else metres
        return eye + ahead * min(metres, 0.8 * far)

    def floor_below_eye(self) -> F64 | None:
        """The floor below the eye, or what is looked at from above."""
        if self.picture is None:
            return None
        if self.camera.plan:
            spot = self.spot_at(QPointF(self.width() / 2, self.height() / 2))
            return spot.position if spot is not None else None
        return self.picture.floor_below(np.array(self.camera.eye))

    def toggle_plan(self, side: str = "above") -> None:
        """Between looking round and a view without perspective; coming back, the view is as it was.

        Args:
            side: above, front or side.
        """
        if self.camera.plan and self.camera.side == side:
            self.go(self._before_plan or Camera())
            return
        if not self.camera.plan:
            self._before_plan = self.camera
        self.go(Camera(plan=True, side=side))
        self.see_all()

    # -- pointing

    def spot_at(self, at: QPointF) -> Spot | None:
        """What lies under a point of the widget."""
        if self.picture is None:
            return None
        origin, direction = self._eye_ray(at)
        return self.picture.spot(origin, direction, self.look.by_texel, self.look.hidden)

    def _eye_ray(self, at: QPointF) -> tuple[F64, F64]:
        x, y = 2 * at.x() / max(self.width(), 1) - 1, 1 - 2 * at.y() / max(self.height(), 1)
        return self.camera.ray(x, y, self.aspect)

    def _dragged_to(self, at: QPointF) -> F64:
        assert self._grip is not None
        return dragged(self.camera, self._grip, self._grip_start, self._eye_ray(at))

    def pixel_size(self, point: F64) -> float:
        """Metres that a pixel spans at a place."""
        if self.camera.plan:
            return self.camera.span / max(self.height(), 1)
        depth = max(float((point - np.array(self.camera.eye)) @ self.camera.forward), 0.2)
        return 2 * depth * self.camera.tangent / max(self.height(), 1)

    def exposure_for_view(self) -> float:
        """An exposure that suits what is in the picture now."""
        return self.picture.exposure(self.camera, self.aspect) if self.picture is not None else 1.0

    # -- painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), THEME.color("surround"))
        if self._image is not None and self.picture is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(self.rect(), self._image)
        if self.picture is not None:
            paint(painter, self.camera, self.overlay, self.width(), self.height())
        message = self.trouble or self.message
        if message:
            painter.setPen(THEME.color("text"))
            painter.setFont(font(15))
            flags = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(self.rect().adjusted(60, 0, -60, 0), flags, message)
        painter.end()

    def _refine(self) -> None:
        """Once the hand rests, draw with smooth edges."""
        moved, self._moving = self._moving, False
        if moved and self._press is None and not self._flight.moving:
            self.rested.emit()
        if self.isVisible() and not self._flight.moving:
            if self._frames.drawing:
                self._refine_timer.start()
            else:
                self._request(smooth=True)

    def grab_smooth(self) -> None:
        """Draw the final picture and wait for it."""
        self._moving = False
        if self.picture is not None:
            self._refine_timer.stop()
            self._frames.draw_now()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self.redraw()

    # -- hands

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        self._press = self._last = event.position()
        self._dragged = False
        if event.button() == Qt.MouseButton.LeftButton:
            self._grip = grip_at(self.camera, self.overlay, event.position(), self.width(), self.height())
            self._grip_start = self._eye_ray(event.position())
        spot = self.spot_at(event.position())
        if spot is not None:
            self._pivot = spot.position
        else:
            self._pivot = np.array(self.camera.eye) + self.camera.forward * 8.0
        if event.button() == Qt.MouseButton.RightButton:
            self.setCursor(Qt.CursorShape.BlankCursor)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        at = event.position()
        if self._last is None or self._press is None:
            self.pointed.emit(self.spot_at(at))
            return
        if (at - self._press).manhattanLength() > CLICK_PIXELS:
            self._dragged = True
        if not self._dragged:
            return
        if self._grip is not None:
            self.grip_moved.emit(self._grip.name, self._dragged_to(at), False)
            return
        dx, dy = at.x() - self._last.x(), at.y() - self._last.y()
        self._last = at
        buttons = event.buttons()
        if buttons & Qt.MouseButton.MiddleButton or (self.camera.plan and buttons & Qt.MouseButton.LeftButton):
            self._pan(dx, dy)
        elif buttons & Qt.MouseButton.RightButton:
            self.go(self.camera.turned(dx * 0.0045, -dy * 0.0045))
        elif buttons & Qt.MouseButton.LeftButton:
            self.go(self.camera.orbited(self._pivot, dx * 0.006, -dy * 0.006))

    def _pan(self, dx: float, dy: float) -> None:
        if self.camera.plan:
            scale = self.camera.span / max(self.height(), 1)
        else:
            depth = max(float((self._pivot - np.array(self.camera.eye)) @ self.camera.forward), 0.3)
            scale = 2 * depth * self.camera.tangent / max(self.height(), 1)
        eye = np.array(self.camera.eye) - dx * scale * self.camera.right + dy * scale * self.camera.up
        self.go(self.camera.at(eye))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.unsetCursor()
        if self._grip is not None and self._dragged:
            self.grip_moved.emit(self._grip.name, self._dragged_to(event.position()), True)
        elif event.button() == Qt.MouseButton.LeftButton and not self._dragged:
            mark = mark_at(self.camera, self.overlay, event.position(), self.width(), self.height())
            spot = self.spot_at(event.position())
            node = mark.node if mark is not None else spot.node if spot is not None else -1
            more = event.modifiers() & Qt.KeyboardModifier.ControlModifier
            (self.picked_more if more else self.picked).emit(node)
        self._grip = None
        self._press = self._last = None

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        notches = event.angleDelta().y() / 120
        if self.camera.plan:
            self.go(replace(self.camera, span=self.camera.span * 0.86**notches))
            return
        spot = self.spot_at(event.position())
        eye = np.array(self.camera.eye)
        toward = spot.position - eye if spot is not None else self.camera.forward * 4.0
        # A step never goes through what is pointed at.
        self.go(self.camera.at(eye + toward * (1 - 0.84**notches if notches > 0 else -(0.84**notches - 1))))

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

    def _fly(self, way: F64, fast: bool) -> None:
        """A step through the air, or at eye height: not through walls, up and down with the floor."""
        if self.picture is None:
            return
        if self.walking:
            right, _, forward = way * WALK_SPEED * (WALK_FASTER if fast else 1.0)
            eye = self.picture.walked(np.array(self.camera.eye), self.camera.right, self.camera.forward, right, forward)
            if eye is not None:
                self.go(self.camera.at(eye))
            return
        speed = max(self.picture.space.extent / 12, 0.05) * (FLY_FASTER if fast else 1.0)
        self.go(self.camera.moved(*(way * speed)))

    def stand_at(self, floor: F64) -> None:
        """Look from eye height above a place on the floor."""
        self.go(replace(self.camera, plan=False, pitch=0.0).at(floor + [0.0, EYE_HEIGHT, 0.0]))

    def leaveEvent(self, event: object) -> None:
        self.pointed.emit(None)

    def close_renderer(self) -> None:
        """Give the GL context back."""
        self._flight.stop()
        self._refine_timer.stop()
        self._frames.close()
