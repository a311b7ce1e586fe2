"""The parts of the frame that hold others: the top bar with the steps, and the notice above the stage."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QWidget

from ropebell.app import palette
from ropebell.app.actions import STEPS
from ropebell.app.commands import Commands


class TopBar(QFrame):
    """The project's name, the nine steps in working order, the menu and the finder."""

    def __init__(self, commands: Commands, parent: QWidget | None = None) -> None:
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
        for step in STEPS:
            button = QPushButton(step)
            button.setCheckable(True)
            button.setProperty("role", "step")
            button.setFixedHeight(palette.TOP_HEIGHT)
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            button.clicked.connect(lambda _=False, step=step: commands.run(f"step.{step.lower()}"))
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


class Notice(QLabel):
    """A trouble in a sentence, above the stage, until the next thing is done."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setProperty("role", "notice")
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setWordWrap(True)
        self.setMargin(10)
        self.setAccessibleName("Notice")
        self.hide()

    def tell(self, sentence: str) -> None:
        """Show a sentence."""
        self.setText(sentence)
        self.show()
