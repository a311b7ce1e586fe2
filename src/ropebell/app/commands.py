"""Everything that can be done, as data; every act passes through one door."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.errors import RopeBellError, why


@dataclass(frozen=True)
class Command:
    """One thing a person can do.

    Attributes:
        id: stable name, such as `build.start`.
        title: as shown in menus and the finder.
        act: what is done.
        key: shortcut in Qt's portable text, or empty.
        enabled: whether it can be done now.
    """

    id: str
    title: str
    act: Callable[[], None]
    key: str = ""
    enabled: Callable[[], bool] = lambda: True


class Commands(QObject):
    """The registry and the door.

    Signals:
        failed: a known trouble, as a sentence.
        begun: id of a command that is about to be carried out. done: id of one that was.
    """

    failed = pyqtSignal(str)
    begun = pyqtSignal(str)
    done = pyqtSignal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._commands: dict[str, Command] = {}

    def add(self, *commands: Command) -> None:
        """Register commands; an id or a key can be taken once only."""
        for command in commands:
            taken = [c.id for c in self._commands.values() if command.key and c.key == command.key]
            if command.id in self._commands or taken:
                raise ValueError(f"{command.id} ({command.key}) clashes with {taken or command.id}")
            self._commands[command.id] = command

    def all(self) -> list[Command]:
        """All commands by title."""
        return sorted(self._commands.values(), key=lambda c: c.title)

    def get(self, command_id: str) -> Command:
        """One command."""
        return self._commands[command_id]

    def run(self, command_id: str) -> bool:
        """Carry a command out if it can be done now; known troubles are told, never raised."""
        command = self._commands[command_id]
        if not command.enabled():
            return False
        self.begun.emit(command_id)
        if not self.attempt(command.act):
            return False
        self.done.emit(command_id)
        return True

    def attempt(self, act: Callable[[], None]) -> bool:
        """Carry out something that is not a command of its own, with the same treatment of troubles."""
        try:
            act()
        except RopeBellError as error:
            self.failed.emit(str(error))
            return False
        except OSError as error:
            self.failed.emit(f"{error.filename or ''}: {why(error)}. Check the disk and the permissions.")
            return False
        return True
