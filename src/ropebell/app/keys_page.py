"""Hands and keys on one page, made from the commands themselves, so that it cannot be wrong about them."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence
from PyQt6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from ropebell.app.commands import Commands
from ropebell.app.palette import MARGIN
from ropebell.app.parts import label
from ropebell.app.stage.hands import HANDS

# By the first word of a command's id; what is in none of them comes under the last.
GROUPS = (
    ("The picture", ("stage", "place")), ("Views", ("view",)), ("What is shown", ("show", "select", "find")),
    ("Light", ("light",)), ("Builds", ("build", "rope")), ("Everything else", ()),
)  # fmt: skip
# Groups beside each other.
COLUMNS = (("Hands", "Builds", "Everything else"), ("The picture", "Light"), ("Views", "What is shown"))


class KeysPage(QDialog):
    """Read, then closed with any of Esc, F1 or a click beside it."""

    def __init__(self, commands: Commands, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self._commands = commands
        self.setAccessibleName("Hands and keys")
        self._columns = QHBoxLayout(self)
        self._columns.setContentsMargins(MARGIN, MARGIN, MARGIN, MARGIN)
        self._columns.setSpacing(2 * MARGIN)

    def popup(self) -> None:
        """Open in the middle of the window."""
        parent = self.parentWidget()
        assert parent is not None
        if not self._columns.count():
            self._fill()
        self.adjustSize()
        self.move(parent.mapToGlobal(parent.rect().center()) - self.rect().center())
        self.show()

    def told(self) -> dict[str, list[tuple[str, str]]]:
        """Key and act of everything that has a key, by group."""
        found: dict[str, list[tuple[str, str]]] = {"Hands": list(HANDS), **{title: [] for title, _ in GROUPS}}
        for command in self._commands.all():
            kind = command.id.split(".")[0]
            title = next((title for title, kinds in GROUPS if kind in kinds), GROUPS[-1][0])
            if command.key:
                key = QKeySequence(command.key).toString(QKeySequence.SequenceFormat.NativeText)
                found[title].append((key, command.title.removeprefix("View: ")))
        return found

    def _fill(self) -> None:
        told = self.told()
        for groups in COLUMNS:
            column = QVBoxLayout()
            column.setSpacing(4)
            for title in groups:
                self._add(column, title, told[title])
            column.addStretch(1)
            self._columns.addLayout(column)

    def _add(self, column: QVBoxLayout, title: str, rows: Sequence[tuple[str, str]]) -> None:
        if not rows:
            return
        column.addWidget(label(title, "heading", wrap=False))
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 10)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(2)
        for row, (key, act) in enumerate(rows):
            grid.addWidget(label(key, "number", wrap=False), row, 0)
            grid.addWidget(label(act, "second", wrap=False), row, 1)
        grid.setColumnStretch(1, 1)
        column.addLayout(grid)
