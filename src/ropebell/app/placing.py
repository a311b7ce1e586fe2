"""Places the window on its screen: as it was left there, and never beyond what the screen leaves room for."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, QRect, QTimer
from PyQt6.QtWidgets import QApplication, QMainWindow

from ropebell.app.preferences import Preferences

WIDTH, HEIGHT = 1280, 800
# A window manager puts its frame round a window some time after it is shown, and tells of it by moving the window.
SETTLED_MS = 1500
CHANGES = (QEvent.Type.Show, QEvent.Type.Move, QEvent.Type.Resize, QEvent.Type.WindowStateChange)


class Placing(QObject):
    """Places a window, keeps it within its screen until its frame has settled, and notes where it is left.

    Args:
        window: not shown yet. preferences: where its places are kept.
    """

    def __init__(self, window: QMainWindow, preferences: Preferences) -> None:
        super().__init__(window)
        self._window, self._preferences = window, preferences
        self._settling, self._margins, self._size = True, (0, 0), window.size()
        screen = QApplication.primaryScreen()
        if screen is not None:
            room = screen.availableGeometry()
            x, y, width, height = preferences.place_on(_name(room)) or (room.x(), room.y(), WIDTH, HEIGHT)
            width, height = min(width, room.width()), min(height, room.height())
            window.resize(width, height)
            window.move(
                min(max(x, room.x()), room.right() + 1 - width), min(max(y, room.y()), room.bottom() + 1 - height)
            )  # fmt: skip
        window.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Fit the window again as its frame comes to be known."""
        if self._settling and event is not None and watched is self._window and event.type() in CHANGES:
            if event.type() == QEvent.Type.Show:
                self._size = self._window.size()
                QTimer.singleShot(SETTLED_MS, self._settle)
            # Not from within the event: what it tells holds only after it.
            QTimer.singleShot(0, self.fit)
        return False

    def _settle(self) -> None:
        self.fit()
        self._settling = False

    def fit(self) -> None:
        """Take back what of the window and a frame that is new lies beyond the screen; the rest is the person's."""
        window, screen = self._window, self._window.screen()
        if not self._settling or screen is None or not window.isVisible() or window.isMaximized():
            return
        room, frame = screen.availableGeometry(), window.frameGeometry()
        if window.size() != self._size:  # somebody wants it otherwise
            self._settling = False
            return
        margins = (frame.width() - window.width(), frame.height() - window.height())
        if margins == self._margins:
            return
        self._margins = margins
        over = (max(frame.width() - room.width(), 0), max(frame.height() - room.height(), 0))
        if any(over):
            window.resize(window.width() - over[0], window.height() - over[1])
            self._size = window.size()
        wanted = QRect(frame.topLeft(), frame.size()).adjusted(0, 0, -over[0], -over[1])
        wanted.moveLeft(max(min(wanted.left(), room.right() + 1 - wanted.width()), room.left()))
        wanted.moveTop(max(min(wanted.top(), room.bottom() + 1 - wanted.height()), room.top()))
        if wanted.topLeft() != frame.topLeft():
            window.move(wanted.topLeft())

    def keep(self) -> None:
        """Note where the window is left."""
        window, screen = self._window, self._window.screen()
        if screen is not None and not window.isMaximized() and window.isVisible():
            place = (window.x(), window.y(), window.width(), window.height())
            self._preferences.keep_place(_name(screen.availableGeometry()), place)


def _name(room: QRect) -> str:
    """Of a screen, by its place and size."""
    return f"{room.x()},{room.y()} {room.width()}x{room.height()}"
