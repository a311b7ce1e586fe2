"""Things a person keeps by name in the project file."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, ClassVar

from PyQt6.QtCore import QObject

from ropebell.app.desk import Desk


class Kept(QObject):
    """A table of the project by name, each change of it undoable.

    Attributes:
        KEY: the table's key in the project file; WORD: what one entry is called in titles of undo steps.
    """

    KEY: ClassVar[str]
    WORD: ClassVar[str]

    def __init__(self, desk: Desk, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._desk = desk

    def _table(self) -> dict[str, Any]:
        project = self._desk.document.project
        found = project.rest.get(self.KEY, {}) if project is not None else {}
        return found if isinstance(found, dict) else {}

    def names(self) -> list[str]:
        """All that is kept."""
        return list(self._table())

    def drop(self, name: str) -> None:
        """Forget one, undoably."""
        self._set(f"Drop {self.WORD} {name}", {k: v for k, v in self._table().items() if k != name})

    def _set(self, title: str, table: dict[str, Any]) -> None:
        self._desk.document.edit(title, lambda p: replace(p, rest={**p.rest, self.KEY: table}))
