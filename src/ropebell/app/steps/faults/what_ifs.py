"""What a spot would be if something were otherwise, each with an act that makes it so."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from ropebell.account.what_if import WhatIf
from ropebell.app.parts import button, label
from ropebell.app.words import luminance, lux


def value_of(one: WhatIf) -> str:
    """The light then, in words; about, where the light around it was taken as it is."""
    value = lux(luminance(one.light))
    return value if one.exact else f"about {value}"


def within_of(one: WhatIf) -> str:
    """What lies in the place of the texel then, in words; empty where that is one texel as now."""
    if one.within is None:
        return ""
    low, high = (lux(v) for v in one.within)
    return f"in the place of this texel {low}" if low == high else f"in the place of this texel {low} to {high}"


class WhatIfs(QWidget):
    """A short table; hidden while nothing is known.

    Signals:
        taken: the one that is to be made so.
    """

    taken = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(4)
        rows.addWidget(label("What if", "heading"))
        self._rows = rows
        self._table: QWidget | None = None
        self._shown: Sequence[WhatIf] = ()
        self.hide()

    def offer(self, answers: Sequence[WhatIf]) -> None:
        """Show these answers."""
        if answers is self._shown:
            return
        self._shown = answers
        self.setVisible(bool(answers))
        if self._table is not None:
            self._table.deleteLater()
        self._table = QWidget()
        grid = QGridLayout(self._table)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(0, 1)
        at = 0
        for one in answers:
            words = f"{one.what[0].upper()}{one.what[1:]}"
            grid.addWidget(label(words, wrap=True), at, 0)
            grid.addWidget(label(value_of(one), wrap=False), at, 1, Qt.AlignmentFlag.AlignRight)
            if one.fix:
                act = button("Do so", "flat", f"{words}: undoable, and a build can check it")
                act.setAccessibleName(f"Do so: {one.what}")
                act.clicked.connect(lambda _=False, one=one: self.taken.emit(one))
                grid.addWidget(act, at, 2)
            at += 1
            if one.within is not None:
                grid.addWidget(label(within_of(one), "second"), at, 0, 1, 3)
                at += 1
        self._rows.addWidget(self._table)
