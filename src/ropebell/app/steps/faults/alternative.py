"""Another thing that can be done about a fault, with what it costs and what it spoils."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from ropebell.app.parts import button, fit, label
from ropebell.app.steps.faults.state import remedy_words
from ropebell.checks.remedies import spoils
from ropebell.level.finding import Finding

# As far in as the words on a flat button.
INDENT = 6


def price(finding: Finding, cost: str) -> str:
    """What a finding's remedy spoils elsewhere, and what it costs, in sentences.

    Args:
        cost: a sentence, empty while it is not known.
    """
    spoilt = spoils(finding)
    return f"{spoilt[0].upper()}{spoilt[1:]}. {cost}".strip() if spoilt else cost


class Alternative(QWidget):
    """One of them.

    Signals:
        taken: the finding, with this as its remedy.
    """

    taken = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(0)
        self.act, self.words = button("", "flat"), label("", "second")
        self.words.setIndent(INDENT)
        rows.addWidget(self.act, 0, Qt.AlignmentFlag.AlignLeft)
        rows.addWidget(self.words)
        self._finding: Finding | None = None
        self.act.clicked.connect(lambda: self.taken.emit(self._finding))

    def offer(self, finding: Finding | None, cost: str, wide: int) -> None:
        """Offer a finding's remedy; None hides it.

        Args:
            cost: a sentence, empty while it is not known. wide: pixels for the words.
        """
        self._finding = finding
        self.setVisible(finding is not None)
        if finding is None:
            return
        words = remedy_words(finding)
        self.act.setText(f"Or {words[0].lower()}{words[1:]}")
        told = price(finding, cost)
        self.words.setText(told)
        self.words.setVisible(bool(told))
        if told:
            fit(self.words, wide - INDENT)
