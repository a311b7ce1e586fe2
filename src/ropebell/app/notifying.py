"""Telling a person who looks elsewhere that a build has ended: by the desktop's own notices, and a bell if wanted."""

from __future__ import annotations

from PyQt6.QtCore import QObject, QVariant
from PyQt6.QtDBus import QDBusConnection, QDBusMessage
from PyQt6.QtWidgets import QApplication, QWidget

from ropebell.app.commands import Command
from ropebell.app.desk import Desk
from ropebell.build.result import Outcome

SERVICE, PATH = "org.freedesktop.Notifications", "/org/freedesktop/Notifications"
SHOWN_MS = 8000


class EndTeller(QObject):
    """Tells of the ends of builds."""

    def __init__(self, desk: Desk, window: QWidget) -> None:
        super().__init__(window)
        self._desk, self._window = desk, window
        desk.builds.ended.connect(self._ended)

    def command(self) -> Command:
        """Switches the bell."""
        return Command("window.bell", "Bell when a build ends, or none", self.toggle_bell)

    def _ended(self, number: int, outcome: Outcome) -> None:
        if outcome.state != "stopped":  # who stops it knows
            done = outcome.state == "done"
            title = f"Build {number} {'is done' if done else 'did not come to its end'}"
            notify(self._window, title, "" if done else outcome.sentence, self._desk.preferences.bell)

    def toggle_bell(self) -> None:
        """A bell when a build ends, or none."""
        preferences = self._desk.preferences
        preferences.bell = not preferences.bell
        preferences.save()
        self._desk.news("A bell rings when a build ends." if preferences.bell else "No bell rings when a build ends.")


def notify(window: QWidget, title: str, words: str, bell: bool) -> bool:
    """Tell of something by the desktop, unless the window is looked at; whether the desktop took it.

    The interface is that of the Desktop Notifications Specification 1.2 of freedesktop.org.
    """
    if bell:
        QApplication.beep()
    if window.isActiveWindow():
        return False
    QApplication.alert(window)
    bus = QDBusConnection.sessionBus()
    if not bus.isConnected():
        return False
    message = QDBusMessage.createMethodCall(SERVICE, PATH, SERVICE, "Notify")
    number = QVariant(0)
    number.convert(QVariant(0).metaType())
    message.setArguments(["Rope Bell", number, "", title, words, [], {}, SHOWN_MS])
    return bool(bus.send(message))
