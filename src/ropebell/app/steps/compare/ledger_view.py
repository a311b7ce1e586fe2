"""What a build took, as areas and as a table beside what the other took."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem, QVBoxLayout, QWidget

from ropebell.app.parts import Choice, button, label
from ropebell.app.steps.compare.charts import Areas, seconds_in_words
from ropebell.app.words import megabytes, short_count
from ropebell.build.stages import WORDS as STAGE_WORDS
from ropebell.checks.subject import short
from ropebell.compare.ledger import Ledger, beside

HIGH, ROW = 230, 24
BY = ("object", "stage", "light")
NUMBER = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
ORDER, NAME = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1


def _memory(value: float) -> str:
    return megabytes(value * 2**20)


def _seconds(value: float) -> str:
    """Alike in all rows, so that they can be held against each other."""
    return f"{value:.2f} s"


def _number(value: float) -> str:
    return short_count(round(value))


# What a build took: as a person reads it, as the ledger has it, and in words.
LEDGERS: tuple[tuple[str, str, Callable[[float], str]], ...] = (
    ("Time", "seconds", seconds_in_words), ("Memory", "memory_mb", _memory), ("Rays", "rays", _number),
    ("Texels", "texels", _number),
)  # fmt: skip


class _Cell(QTableWidgetItem):
    """Sorts by its number."""

    def __init__(self, words: str, order: float) -> None:
        super().__init__(words)
        self.setData(ORDER, order)
        self.setTextAlignment(NUMBER)

    def __lt__(self, other: QTableWidgetItem) -> bool:
        return bool(self.data(ORDER) < other.data(ORDER))


class LedgerView(QWidget):
    """The ledgers of A and B.

    Signals:
        chosen: name of an object or light that was clicked. mapped: whether costs are wanted on the stage.
    """

    chosen = pyqtSignal(str)
    mapped = pyqtSignal(bool)

    def __init__(self) -> None:
        super().__init__()
        rows = QVBoxLayout(self)
        rows.setContentsMargins(0, 0, 0, 0)
        self._both: tuple[Ledger, Ledger] | None = None
        self._by = self._of = 0
        self.of = Choice([title for title, *_ in LEDGERS], "Ledger of")
        self.by = Choice(["Object", "Stage", "Light"], "Ledger by")
        self.areas, self.none = Areas("Where the time and memory of B went"), label("", "second")
        self.table = QTableWidget(0, 4)
        self.table.setAccessibleName("What A and B took")
        self.table.setHorizontalHeaderLabels(["", "A", "B", "B − A"])
        self.table.setFixedHeight(HIGH)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setShowGrid(False)
        if (side := self.table.verticalHeader()) is not None:
            side.hide()
            side.setDefaultSectionSize(ROW)
        if (head := self.table.horizontalHeader()) is not None:
            head.setDefaultAlignment(NUMBER)
            head.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.map = button("Show it on the stage", "flat")
        self.map.setCheckable(True)
        for choice in (self.of, self.by):
            choice.set_current(0)
            rows.addWidget(choice)
        rows.addWidget(self.areas)
        rows.addWidget(self.none)
        rows.addWidget(self.map, 0, Qt.AlignmentFlag.AlignLeft)
        rows.addWidget(label("Beside what A took", "heading"))
        rows.addWidget(self.table)
        self.map.clicked.connect(self.mapped)
        self.by.chosen.connect(self._set_by)
        self.of.chosen.connect(self._set_of)
        self.areas.chosen.connect(self.chosen)
        self.table.itemClicked.connect(self._clicked)

    def show_ledgers(self, both: tuple[Ledger, Ledger] | None) -> None:
        """Show those of A and B; None for nothing."""
        self._both = both
        self.setVisible(both is not None)
        if both is None:
            return
        title, quantity, words = LEDGERS[self._of]
        what = BY[self._by]
        sums = both[1].by(what, False, quantity)
        self.areas.setVisible(bool(sums))
        self.none.setVisible(not sums)
        self.none.setText(f"{title} of single {what}s: not counted apart.")
        self.areas.show_sums([(self._words(n), v) for n, v in sums], words)
        self._fill(beside(*both, what, quantity), _seconds if quantity == "seconds" else words)

    def _fill(self, rows: list[tuple[str, float, float]], words: Callable[[float], str]) -> None:
        # Or each row would be sorted in while it is being made.
        self.table.setSortingEnabled(False)
        self.table.setRowCount(len(rows))
        for row, (name, a, b) in enumerate(rows):
            first = QTableWidgetItem(short(self._words(name)))
            first.setData(NAME, name)
            first.setToolTip(name)
            change = f"{'−' if b < a else '+'}{words(abs(b - a))}" if a != b else "0"
            for column, cell in enumerate((
                first, _Cell(words(a) if a else "–", a), _Cell(words(b) if b else "–", b), _Cell(change, b - a)
            )):  # fmt: skip
                self.table.setItem(row, column, cell)
        self.table.setSortingEnabled(True)
        self.table.sortByColumn(2, Qt.SortOrder.DescendingOrder)
        if (head := self.table.horizontalHeader()) is not None:
            head.setSortIndicatorShown(False)  # there is no room for it beside so short a title

    def _words(self, name: str) -> str:
        return STAGE_WORDS.get(name, name) if BY[self._by] == "stage" else name

    def _clicked(self, item: QTableWidgetItem) -> None:
        first = self.table.item(item.row(), 0)
        if first is not None:
            self.chosen.emit(first.data(NAME))

    def _set_by(self, index: int) -> None:
        self._by = index
        self.show_ledgers(self._both)

    def _set_of(self, index: int) -> None:
        self._of = index
        self.show_ledgers(self._both)
