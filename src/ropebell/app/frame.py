"""The parts of the frame that hold others: the top bar with the steps, and the notice above the stage."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from ropebell.app import palette
from ropebell.app.commands import Commands
from ropebell.app.telling import Telling, Told

MOST_NOTICES = 3


class TopBar(QFrame):
    """The project's name, the steps in working order, the menu and the finder.

    Args:
        steps: id and title of each.
    """

    def __init__(self, commands: Commands, steps: list[tuple[str, str]], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "panel")
        self.setFixedHeight(palette.TOP_HEIGHT)
        row = QHBoxLayout(self)
        row.setContentsMargins(16, 0, 16, 0)
        row.setSpacing(0)
        self.name = QLabel("Rope Bell")
        self.name.setProperty("role", "title")
        row.addWidget(self.name)
        row.addSpacing(20)
        self.steps: dict[str, QPushButton] = {}
        for step, title in steps:
            button = QPushButton(title)
            button.setCheckable(True)
            button.setProperty("role", "step")
            button.setFixedHeight(palette.TOP_HEIGHT)
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            button.clicked.connect(lambda _=False, step=step: commands.run(f"step.{step}"))
            self.steps[step] = button
            row.addWidget(button)
        row.addStretch(1)
        self.menu_button = self._flat("Menu")
        self.find_button = self._flat("Find a command")
        self.find_button.setToolTip("Ctrl+Space")
        self.find_button.clicked.connect(lambda: commands.run("find.command"))
        row.addWidget(self.menu_button)
        row.addWidget(self.find_button)

    @staticmethod
    def _flat(text: str) -> QPushButton:
        button = QPushButton(text)
        button.setProperty("role", "flat")
        return button

    def mark(self, step: str) -> None:
        """Show which step is current."""
        for name, button in self.steps.items():
            button.setChecked(name == step)


class Notices(QWidget):
    """What is told, above the stage, each with what can be done about it and a way to dismiss it.

    News and troubles look different: a trouble stands out and stays until its matter is over.
    """

    def __init__(self, telling: Telling, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._telling = telling
        self._rows = QVBoxLayout(self)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(0)
        telling.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the newest few."""
        while (item := self._rows.takeAt(0)) is not None:
            old = item.widget()
            if old is not None:
                old.hide()
                old.deleteLater()
        for told in self._telling.told[-MOST_NOTICES:]:
            self._rows.addWidget(self._row(told))
        self.setVisible(bool(self._telling.told))

    def _row(self, told: Told) -> QWidget:
        row = QFrame()
        row.setProperty("role", "news" if told.news else "notice")
        inside = QHBoxLayout(row)
        inside.setContentsMargins(12, 8, 8, 8)
        words = QLabel(told.sentence)
        words.setTextFormat(Qt.TextFormat.PlainText)
        words.setWordWrap(True)
        words.setAccessibleName("News" if told.news else "Notice")
        inside.addWidget(words, 1)
        for title, act in told.answers:
            button = QPushButton(title)
            button.clicked.connect(lambda _=False, act=act: act())
            inside.addWidget(button)
        close = QPushButton("Dismiss")
        close.setProperty("role", "flat")
        close.clicked.connect(lambda: self._telling.over(told.matter))
        inside.addWidget(close)
        return row

    @property
    def text(self) -> str:
        """All that is shown, for tests and for readers of screens."""
        return "\n".join(told.sentence for told in self._telling.told[-MOST_NOTICES:])
