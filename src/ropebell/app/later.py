"""Steps whose bench does not exist yet say what they will hold."""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget

from ropebell.app.parts import column, label

WORDS = {
    "Deliver": "A package that others can build, pages and reports, and what must not go out by accident.",
}


class LaterBench(QWidget):
    """A title and a sentence."""

    def __init__(self, step: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        rows = column(self)
        rows.addWidget(label(step, "title"))
        rows.addWidget(label("This step will hold:", "second"))
        rows.addWidget(label(WORDS[step]))
        rows.addStretch(1)
