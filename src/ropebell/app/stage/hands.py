"""What the mouse does on the stage: point, pick, drag a grip, and move the eye."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QEvent, QObject, QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QWheelEvent
from PyQt6.QtWidgets import QWidget

from ropebell.app.stage.eye import Eye
from ropebell.app.stage.overlay import Grip, Overlay, dragged, grip_at, mark_at
from ropebell.app.stage.picture import Spot
from ropebell.level.model import F64

CLICK_PIXELS = 4


HANDS = (
    ("Drag", "orbit round what is grabbed"), ("Right drag", "look round"), ("Middle drag", "shift"),
    ("Wheel", "go nearer"), ("W A S D Q E", "fly; Shift is faster"), ("Click", "select an object"),
    ("Ctrl, click", "select one more"), ("Drag a handle", "move or aim what it belongs to"),
)  # fmt: skip
# Of each way to look, what helps most; the strip says it while nothing is under the pointer.
HINTS = {
    "perspective": ("W A S D: fly", "drag: orbit", "F1: all keys"),
    "walking": ("right drag: look round", "W A S D: walk", "F1: all keys"),
    "plan": ("wheel: nearer", "drag: shift", "F1: all keys"),
}


class Hands(QObject):
    """A press, what is dragged by it, and what it picks.

    Signals:
        pointed: a `Spot`, or None where there is nothing.
        picked: index of the node that was clicked, −1 for none. picked_more: the same with Ctrl held.
        grip_moved: name of a grip, where it is dragged to, and whether the hand let go.
    """

    pointed = pyqtSignal(object)
    picked = pyqtSignal(int)
    picked_more = pyqtSignal(int)
    grip_moved = pyqtSignal(str, object, bool)

    def __init__(
        self, eye: Eye, spot_at: Callable[[QPointF], Spot | None], overlay: Callable[[], Overlay], parent: QObject
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self._eye, self._spot_at, self._overlay = eye, spot_at, overlay
        self._grip: Grip | None = None
        self._grip_start: tuple[F64, F64] = (np.zeros(3), np.zeros(3))
        self._press: QPointF | None = None
        self._last: QPointF | None = None
        self._dragged = False
        self._over: QPointF | None = None
        self._pivot: F64 = np.zeros(3)

    @property
    def pressed(self) -> bool:
        """Whether a button is held."""
        return self._press is not None

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """What the mouse does over the widget that this is installed on."""
        if not isinstance(watched, QWidget) or event is None:
            return False
        if isinstance(event, QMouseEvent):
            if event.type() == QEvent.Type.MouseMove:
                self._move(event)
            elif event.type() == QEvent.Type.MouseButtonRelease:
                watched.unsetCursor()
                self._release(event, watched.size())
            else:
                watched.setFocus(Qt.FocusReason.MouseFocusReason)
                self._press_down(event, watched.size())
                if event.button() == Qt.MouseButton.RightButton:
                    watched.setCursor(Qt.CursorShape.BlankCursor)
            return True
        if isinstance(event, QWheelEvent):
            self._wheel(event)
            return True
        if event.type() == QEvent.Type.Leave:
            self.leave()
        return False

    def leave(self) -> None:
        """The pointer is elsewhere."""
        self._over = None
        self.pointed.emit(None)

    def _press_down(self, event: QMouseEvent, size: QSize) -> None:
        at = self._press = self._last = event.position()
        self._dragged = False
        if event.button() == Qt.MouseButton.LeftButton:
            self._grip = grip_at(self._eye.camera, self._overlay(), at, size.width(), size.height())
            self._grip_start = self._eye.ray(at)
        spot = self._spot_at(at)
        self._pivot = spot.position if spot is not None else self._eye.at + self._eye.camera.forward * 8.0

    def _move(self, event: QMouseEvent) -> None:
        at = self._over = event.position()
        if self._last is None or self._press is None:
            self.point_again()
            return
        if (at - self._press).manhattanLength() > CLICK_PIXELS:
            self._dragged = True
        if not self._dragged:
            return
        if self._grip is not None:
            self.grip_moved.emit(self._grip.name, self._dragged_to(self._grip, at), False)
            return
        dx, dy = at.x() - self._last.x(), at.y() - self._last.y()
        self._last = at
        buttons, camera = event.buttons(), self._eye.camera
        if buttons & Qt.MouseButton.MiddleButton or (camera.plan and buttons & Qt.MouseButton.LeftButton):
            self._eye.pan(dx, dy, self._pivot)
        elif buttons & Qt.MouseButton.RightButton:
            self._eye.go(camera.turned(dx * 0.0045, -dy * 0.0045))
        elif buttons & Qt.MouseButton.LeftButton:
            self._eye.go(camera.orbited(self._pivot, dx * 0.006, -dy * 0.006))

    def point_again(self) -> None:
        """What lies under the pointer may be another thing, or lit otherwise, though the hand did not move."""
        if self._over is not None and not self.pressed:
            self.pointed.emit(self._spot_at(self._over))

    def _release(self, event: QMouseEvent, size: QSize) -> None:
        at = event.position()
        if self._grip is not None and self._dragged:
            self.grip_moved.emit(self._grip.name, self._dragged_to(self._grip, at), True)
        elif event.button() == Qt.MouseButton.LeftButton and not self._dragged:
            mark = mark_at(self._eye.camera, self._overlay(), at, size.width(), size.height())
            spot = self._spot_at(at)
            node = mark.node if mark is not None else spot.node if spot is not None else -1
            more = event.modifiers() & Qt.KeyboardModifier.ControlModifier
            (self.picked_more if more else self.picked).emit(node)
        self._grip = None
        self._press = self._last = None

    def _wheel(self, event: QWheelEvent) -> None:
        spot = None if self._eye.camera.plan else self._spot_at(event.position())
        self._eye.come_nearer(event.angleDelta().y() / 120, spot)

    def _dragged_to(self, grip: Grip, at: QPointF) -> F64:
        return dragged(self._eye.camera, grip, self._grip_start, self._eye.ray(at))
