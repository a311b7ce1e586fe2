"""Type to find a command."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QKeySequence
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ropebell.app.commands import Command, Commands

WIDTH, ROWS, ROW_HEIGHT = 460, 12, 24


def matches(text: str, title: str) -> bool:
    """Whether every typed word begins a word of the title."""
    words = title.lower().replace("/", " ").split()
    return all(any(word.startswith(part) for word in words) for part in text.lower().split())


class Finder(QFrame):
    """A field and the commands that match it; Return carries the marked one out."""

    def __init__(self, commands: Commands, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self._commands = commands
        self.setProperty("role", "panel")
        self.setFrameShape(QFrame.Shape.StyledPanel)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        self.field = QLineEdit(self)
        self.field.setPlaceholderText("Find a command")
        self.field.setAccessibleName("Find a command")
        self.list = QListWidget(self)
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        column.addWidget(self.field)
        column.addWidget(self.list)
        self.field.textChanged.connect(self._fill)
        self.field.returnPressed.connect(self._act)
        self.list.itemClicked.connect(lambda _: self._act())
        self.field.installEventFilter(self)
        self.setFixedWidth(WIDTH)

    def popup(self) -> None:
        """Open below the top of the window."""
        parent = self.parentWidget()
        assert parent is not None
        corner = parent.mapToGlobal(parent.rect().topLeft())
        self.move(corner.x() + (parent.width() - WIDTH) // 2, corner.y() + 60)
        self.field.clear()
        self._fill("")
        self.show()
        self.field.setFocus()

    def _fill(self, text: str) -> None:
        self.list.clear()
        for command in self._commands.all():
            if matches(text, command.title):
                self._add(command)
        self.list.setCurrentRow(0)
        rows = max(min(self.list.count(), ROWS), 1)
        self.setFixedHeight(56 + ROW_HEIGHT * rows)

    def _add(self, command: Command) -> None:
        item = QListWidgetItem(self.list)
        item.setData(Qt.ItemDataRole.UserRole, command.id)
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(8, 2, 8, 2)
        title = QLabel(command.title)
        title.setEnabled(command.enabled())
        key = QLabel(QKeySequence(command.key).toString(QKeySequence.SequenceFormat.NativeText))
        key.setProperty("role", "second")
        line.addWidget(title)
        line.addStretch(1)
        line.addWidget(key)
        item.setSizeHint(QSize(WIDTH - 40, ROW_HEIGHT))
        self.list.setItemWidget(item, row)

    def _act(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            self.hide()
            self._commands.run(item.data(Qt.ItemDataRole.UserRole))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
            if step is not None:
                self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
                return True
        return super().eventFilter(watched, event)
