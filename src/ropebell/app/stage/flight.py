"""Moving through the level with held keys: flying, or walking at eye height."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QEvent, QObject, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication

FLY_KEYS = {
    Qt.Key.Key_W: (0, 0, 1), Qt.Key.Key_S: (0, 0, -1), Qt.Key.Key_A: (-1, 0, 0), Qt.Key.Key_D: (1, 0, 0),
    Qt.Key.Key_E: (0, 1, 0), Qt.Key.Key_Q: (0, -1, 0),
}  # fmt: skip
STEP_MS = 16
# A picture that took longer does not make the next step a leap.
LONGEST_STEP = 0.1


class Flight(QObject):
    """Keys that are held over the widget that this is installed on, as steps by time and not by frames.

    Args:
        allowed: whether there is a way to move now.

    Signals:
        step: (3,) float64 sum of the directions held (right, up, forward) times seconds, and whether Shift is held.
        ended: no key is held any more.
    """

    step = pyqtSignal(object, bool)
    ended = pyqtSignal()

    def __init__(self, allowed: Callable[[], bool], parent: QObject) -> None:
        super().__init__(parent)
        self._allowed = allowed
        self._keys: set[int] = set()
        self._last = 0.0
        self._timer = QTimer(self)
        self._timer.setInterval(STEP_MS)
        self._timer.timeout.connect(self._tick)

    @property
    def moving(self) -> bool:
        """Whether steps are under way."""
        return self._timer.isActive()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Keys that go down and up; with the focus all go up."""
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            return self._press(event)
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyRelease and not event.isAutoRepeat():
            self._keys.discard(event.key())
        elif event is not None and event.type() == QEvent.Type.FocusOut:
            self._keys.clear()
        return False

    def _press(self, event: QKeyEvent) -> bool:
        """Whether it is a key to move with; with Ctrl or Alt it is another's."""
        others = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier
        if event.modifiers() & others or event.key() not in FLY_KEYS or not self._allowed():
            return False
        if not event.isAutoRepeat():
            self._keys.add(event.key())
            self._last = time.perf_counter()
            self._timer.start()
        return True

    def stop(self) -> None:
        """No step follows."""
        self._timer.stop()

    def _tick(self) -> None:
        if not self._keys:
            self._timer.stop()
            self.ended.emit()
            return
        now = time.perf_counter()
        seconds, self._last = min(now - self._last, LONGEST_STEP), now
        fast = bool(QApplication.keyboardModifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.step.emit(np.sum([FLY_KEYS[Qt.Key(k)] for k in self._keys], axis=0) * seconds, fast)
