"""All builds in one table that sorts, with a plot of what they took."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QSortFilterProxyModel, Qt
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QVBoxLayout, QWidget

from ropebell.app.builds_plot import BuildsPlot, Quantity
from ropebell.app.desk import Desk
from ropebell.app.parts import Choice, label, pair
from ropebell.app.rope import DRAFT_WORDS
from ropebell.app.words import clock, made_at, megabytes, short_count
from ropebell.build.knots import Knot
from ropebell.checks.subject import short
from ropebell.compare.over_builds import mean_light

ENDED = {
    "done": "done", "stopped": "stopped", "tripwire": "tripwire", "failed": "failed", "died": "died",
    "stages": "some stages", "damaged": "damaged", "running": "running",
}  # fmt: skip
NUMBER = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
TEXT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter


@dataclass(frozen=True)
class Column:
    """A column: what it shows, and what it sorts by."""

    title: str
    width: int
    words: Callable[[Knot], str]
    order: Callable[[Knot], Any]
    number: bool = True


COLUMNS = (
    Column("Build", 70, lambda k: k.name or str(k.number), lambda k: k.number, False),
    Column("Made", 136, lambda k: made_at(k.made), lambda k: made_at(k.made), False),
    Column("What", 116, lambda k: f"{DRAFT_WORDS[k.draft]} of {k.recipe or '?'}", lambda k: (k.recipe, k.draft), False),
    Column("Lit", 88, lambda k: k.scope or "everything", lambda k: k.scope, False),
    Column("Ended", 74, lambda k: ENDED.get(k.outcome.state, k.outcome.state), lambda k: k.outcome.state, False),
    Column("Time", 50, lambda k: clock(k.seconds), lambda k: k.seconds),
    Column("Size", 62, lambda k: megabytes(k.bytes) if k.bytes else "", lambda k: k.bytes),
    Column("Faults", 54, lambda k: str(k.faults), lambda k: k.faults),
    Column("Note", 196, lambda k: k.note.replace("\n", " "), lambda k: k.note, False),
    Column("Texels", 60, lambda k: short_count(k.texels) if k.texels else "", lambda k: k.texels),
    Column("Pages", 52, lambda k: str(k.pages) if k.pages else "", lambda k: k.pages),
    Column("Memory", 70, lambda k: megabytes(k.memory_mb << 20) if k.memory_mb else "", lambda k: k.memory_mb),
    Column("Timed", 220, lambda k: k.conditions, lambda k: k.conditions, False),
    Column("Machine", 120, lambda k: k.whose or "this one", lambda k: k.whose, False),
)
QUANTITIES = (
    Quantity("Time", "s", lambda k: k.seconds),
    Quantity("Faults", "", lambda k: float(k.faults)),
    Quantity("Size", "MB", lambda k: k.bytes / 1e6),
)
LIGHT = len(QUANTITIES)
LIKE = "Lines join builds of one recipe, draft and scope that were timed under like conditions."
# Of the last builds so many are read for their light.
MOST_READ = 32


class _Model(QAbstractTableModel):
    def __init__(self) -> None:
        super().__init__()
        self.knots: list[Knot] = []

    def set_knots(self, knots: list[Knot]) -> None:
        """Show these builds."""
        self.beginResetModel()
        self.knots = knots
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.knots)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(COLUMNS)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        knot, column = self.knots[index.row()], COLUMNS[index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            return column.words(knot)
        if role == Qt.ItemDataRole.ToolTipRole:
            return knot.note if column.title == "Note" else column.words(knot)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return int(NUMBER if column.number else TEXT)
        return None

    def headerData(self, section: int, way: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if way == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section].title
        return None


class _Sorted(QSortFilterProxyModel):
    def lessThan(self, left: QModelIndex, right: QModelIndex) -> bool:
        model = self.sourceModel()
        assert isinstance(model, _Model)
        order = COLUMNS[left.column()].order
        return bool(order(model.knots[left.row()]) < order(model.knots[right.row()]))


class BuildTable(QWidget):
    """The table and its plot."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        rows = QVBoxLayout(self)
        rows.setContentsMargins(16, 12, 16, 12)
        rows.setSpacing(8)
        self.title = label("All builds", "title")
        rows.addWidget(self.title)
        self.model, self.sorted = _Model(), _Sorted()
        self.sorted.setSourceModel(self.model)
        self.view = self._make_view()
        rows.addWidget(self.view, 3)
        self.quantity = Choice([*(q.title for q in QUANTITIES), "Light"], "What the plot shows")
        self.quantity.set_current(0)
        self.quantity.setMinimumWidth(300)
        self.about = label("", "second")
        rows.addWidget(pair(self.quantity, self.about, stretch=1))
        self.plot = BuildsPlot()
        rows.addWidget(self.plot, 2)
        self.quantity.chosen.connect(self._chosen)
        self.plot.chosen.connect(desk.rope.look_at)
        self.view.clicked.connect(self._clicked)
        desk.rope.builds_changed.connect(self.refresh)
        desk.rope.looking_at.connect(lambda _: self._mark())
        desk.selection.selected.connect(lambda *_: self._plot())
        self._chosen_quantity = 0
        # Lux by folder and the objects it is of; None where a build has none of them.
        self._light: dict[tuple[Path, tuple[str, ...]], float | None] = {}
        self.refresh()

    def _make_view(self) -> QTableView:
        view = QTableView()
        view.setModel(self.sorted)
        view.setAccessibleName("All builds")
        view.setSortingEnabled(True)
        view.sortByColumn(0, Qt.SortOrder.DescendingOrder)
        view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        view.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        view.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        view.setShowGrid(False)
        view.setWordWrap(False)
        side, head = view.verticalHeader(), view.horizontalHeader()
        assert side is not None and head is not None
        side.hide()
        side.setDefaultSectionSize(24)
        head.setDefaultAlignment(TEXT)
        head.setHighlightSections(False)
        for index, column in enumerate(COLUMNS):
            head.resizeSection(index, column.width)
        head.setSectionResizeMode(len(COLUMNS) - 1, QHeaderView.ResizeMode.Interactive)
        return view

    def refresh(self) -> None:
        """Show the builds as they are now."""
        knots = [k for k in self._desk.rope.knots if k.outcome.state != "running"]
        self.model.set_knots(knots)
        count = len(knots)
        self.title.setText(f"All builds: {count}" if count else "No builds yet. Press Build; each becomes a row here.")
        self._plot()
        self._mark()

    def _chosen(self, index: int) -> None:
        self._chosen_quantity = index
        self.quantity.set_current(index)
        self._plot()
        self._mark()

    def _plot(self) -> None:
        if self._chosen_quantity != LIGHT:
            self.about.setText(LIKE)
            self.plot.show_knots(self.model.knots, QUANTITIES[self._chosen_quantity])
        elif self.isVisible():
            self._plot_light()

    def _plot_light(self) -> None:
        """The mean light of what is selected, or of everything; read in the background, build by build."""
        names = tuple(sorted(self._desk.selection.paths))
        done = [k for k in self.model.knots if k.outcome.state == "done"][-MOST_READ:]
        values = {k.number: value for k in done if (value := self._light.get((k.folder, names))) is not None}
        whom = short(names[0]) if len(names) == 1 else f"{len(names)} objects" if names else "all surfaces"
        missing = [k.folder for k in done if (k.folder, names) not in self._light]
        reading = f" Reading {len(missing)} builds …" if missing else ""
        self.about.setText(f"Mean light of {whom}; select others to see theirs.{reading}")
        known = [k for k in done if k.number in values]
        self.plot.show_knots(known, Quantity("Light", "lx", lambda k: values[k.number]))
        self.plot.mark(self._desk.rope.shown_number)
        if not missing:
            return
        folder = missing[-1]

        def receive(value: float | None) -> None:
            self._light[folder, names] = value
            self._plot()

        self._desk.jobs.start("mean light", partial(mean_light, folder, names), receive)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self._plot()

    def _mark(self) -> None:
        number = self._desk.rope.shown_number
        row = next((i for i, k in enumerate(self.model.knots) if k.number == number), -1)
        if row >= 0:
            self.view.selectRow(self.sorted.mapFromSource(self.model.index(row, 0)).row())
        else:
            self.view.clearSelection()
        self.plot.mark(number)

    def _clicked(self, index: QModelIndex) -> None:
        self._desk.rope.look_at(self.model.knots[self.sorted.mapToSource(index).row()].number)
