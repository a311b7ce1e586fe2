"""The Level bench: what is in the level and what of it bakes; what will go wrong; where players can be."""

from __future__ import annotations

from PyQt6.QtCore import QItemSelection, QItemSelectionModel, QPoint, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHeaderView,
    QLineEdit,
    QMenu,
    QScrollArea,
    QStackedWidget,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from ropebell.app.desk import Desk
from ropebell.app.parts import Choice, column, label, rule
from ropebell.app.steps.level.checks import ChecksPanel
from ropebell.app.steps.level.details import ObjectDetails
from ropebell.app.steps.level.objects import COLUMNS, ROLE_WORDS, USUAL, ObjectModel, rows_of
from ropebell.app.steps.level.region import RegionPanel
from ropebell.app.steps.level.sight import SightPanel
from ropebell.app.steps.level.start import StartBench
from ropebell.app.words import count
from ropebell.checks.remedies import with_marks

PAGES = ("Objects", "Checks", "Play region", "Sight")


class RoleDelegate(QStyledItemDelegate):
    """Edits a role by choosing one of the few."""

    def createEditor(self, parent: QWidget | None, option: QStyleOptionViewItem, index: object) -> QWidget | None:
        model = index.model()  # type: ignore[attr-defined]
        if model.columns[index.column()].key != "role":  # type: ignore[attr-defined]
            return super().createEditor(parent, option, index)  # type: ignore[arg-type]
        box = QComboBox(parent)
        for key, words in ROLE_WORDS.items():
            box.addItem(words, key)
        box.activated.connect(lambda _: self._done(box))
        return box

    def _done(self, box: QComboBox) -> None:
        self.commitData.emit(box)
        self.closeEditor.emit(box)

    def setEditorData(self, editor: QWidget | None, index: object) -> None:
        if isinstance(editor, QComboBox):
            editor.setCurrentIndex(editor.findData(index.data(Qt.ItemDataRole.EditRole)))  # type: ignore[attr-defined]
        else:
            super().setEditorData(editor, index)  # type: ignore[arg-type]

    def setModelData(self, editor: QWidget | None, model: object, index: object) -> None:
        if isinstance(editor, QComboBox):
            model.setData(index, editor.currentData())  # type: ignore[attr-defined]
        elif isinstance(editor, QLineEdit):
            model.setData(index, editor.text())  # type: ignore[attr-defined]


# Round the text of a cell, and the widest that a column is made by itself; pixels.
CELL_ROOM, MOST_COLUMN = 15, 100


class LevelBench(QWidget):
    """What is in the level.

    Signals:
        page_changed: which of `PAGES` is shown.
    """

    page_changed = pyqtSignal(str)

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk, self._commands, self._preferences = desk, desk.commands, desk.preferences
        whole = column(self)
        self.title = label("Level", "title")
        whole.addWidget(self.title)
        self.start, self._body = StartBench(desk.preferences, desk.commands, desk.open_path), QWidget()
        whole.addWidget(self.start, 1)
        whole.addWidget(self._body, 1)
        self._body.hide()
        rows = QVBoxLayout(self._body)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(8)
        self.facts = label("", "second")
        rows.addWidget(self.facts)
        self.pages = Choice(list(PAGES), "Part of the level")
        self.pages.set_current(0)
        rows.addWidget(self.pages)
        self.stack = QStackedWidget()
        rows.addWidget(self.stack, 1)
        self.checks, self.region, self.sight = ChecksPanel(desk), RegionPanel(desk), SightPanel(desk)
        for page in (self._objects_page(), self.checks, self.region, _scrolled(self.sight)):
            self.stack.addWidget(page)
        self.pages.chosen.connect(self.show_page)
        self._connect()

    def _objects_page(self) -> QWidget:
        page = QWidget()
        rows = QVBoxLayout(page)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(8)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Name, kind, role, material:oak, size>2")
        self.filter.setToolTip(
            "Words are looked for in path, kind and role.\nmaterial:oak   fault:tiny   size>2   texels<8   density>1"
        )
        self.filter.setAccessibleName("Filter objects")
        self.filter.setClearButtonEnabled(True)
        rows.addWidget(self.filter)
        self.model = ObjectModel()
        self._fitted = False
        self.table = self._make_table()
        rows.addWidget(self.table, 1)
        rows.addWidget(rule())
        self.details = ObjectDetails(self._desk)
        rows.addWidget(_scrolled(self.details), 1)
        return page

    def _make_table(self) -> QTableView:
        table = QTableView()
        table.setModel(self.model)
        table.setAccessibleName("Objects")
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        table.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        table.setItemDelegate(RoleDelegate(table))
        table.setShowGrid(False)
        table.setSortingEnabled(True)
        table.sortByColumn(-1, Qt.SortOrder.AscendingOrder)
        table.setTabKeyNavigation(False)
        table.setWordWrap(False)
        table.setTextElideMode(Qt.TextElideMode.ElideMiddle)  # names differ at their ends
        table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        side, head = table.verticalHeader(), table.horizontalHeader()
        assert side is not None and head is not None
        side.hide()
        side.setDefaultSectionSize(24)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        head.setHighlightSections(False)
        head.setMinimumSectionSize(36)
        head.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        return table

    def _connect(self) -> None:
        s = self._desk
        self.filter.textChanged.connect(self._filter)
        self.table.customContextMenuRequested.connect(self._row_menu)
        head = self.table.horizontalHeader()
        assert head is not None
        head.customContextMenuRequested.connect(self._column_menu)
        selection = self.table.selectionModel()
        assert selection is not None
        selection.selectionChanged.connect(self._rows_selected)
        self.model.editing = lambda: s.selection.chosen
        self.model.wanted.connect(self._edit)
        self.model.set_columns(self._preferences.columns or list(USUAL))
        self._fit_columns()
        s.level.opened.connect(self._opened)
        s.level.rearranged.connect(self._fill)
        s.findings.checked.connect(self._fill)
        s.selection.hidden_changed.connect(self._fill)
        s.selection.selected.connect(self._follow)

    # -- showing

    def show_page(self, index: int) -> None:
        """Show one of `PAGES`."""
        self.pages.set_current(index)
        self.stack.setCurrentIndex(index)
        self.page_changed.emit(PAGES[index])

    def _opened(self) -> None:
        self.start.hide()
        self._body.show()
        self._fitted = False  # to what is in another level
        self._fill()

    def _fill(self) -> None:
        now = self._desk.level.now
        if now is None:
            return
        self.title.setText(now.project.name)
        lights, emitters = len(now.scene.lights), len(now.scene.emitters)
        guard = "   guarded" if now.project.brief.guard else ""
        self.facts.setText(f"{count(len(now.scene))} triangles, {lights} lights, {emitters} emitters{guard}")
        found = self._desk.findings.now
        tpm = now.project.recipe.texels_per_metre
        all_found = (*found.new, *found.old)
        rows = rows_of(now.level, now.scene, tpm, all_found, None, self._desk.selection.hidden)
        selection = self.table.selectionModel()
        assert selection is not None
        selection.blockSignals(True)
        self.model.set_rows(rows)
        selection.blockSignals(False)
        if not self._fitted:
            self._fit_columns()
        self._follow(self._desk.selection.node)
        heavy = sum(f.severity != "note" for f in all_found)
        self.pages.button(1).setText(f"Checks {heavy}" if heavy else "Checks")

    def _filter(self, typed: str) -> None:
        selection = self.table.selectionModel()
        assert selection is not None
        selection.blockSignals(True)
        self.model.set_text(typed)
        selection.blockSignals(False)
        self._follow(self._desk.selection.node)

    def _fit_columns(self) -> None:
        """The name gets what the other columns leave; these are no wider than what is in them."""
        metrics = self.table.fontMetrics()
        head = self.table.horizontalHeader()
        assert head is not None
        for index, col in enumerate(self.model.columns):
            stretch = index == 0
            head.setSectionResizeMode(
                index, QHeaderView.ResizeMode.Stretch if stretch else QHeaderView.ResizeMode.Interactive
            )
            if not stretch:
                texts = {col.title, *(col.show(self.model.at(row)) for row in range(self.model.rowCount()))}
                needed = max(metrics.horizontalAdvance(text) for text in texts) + CELL_ROOM
                head.resizeSection(index, min(needed, max(col.width, MOST_COLUMN)))
        self._fitted = self.model.rowCount() > 0

    # -- selecting

    def _rows_selected(self, _chosen: QItemSelection, _before: QItemSelection) -> None:
        selection = self.table.selectionModel()
        assert selection is not None
        current = selection.currentIndex().row()
        nodes = [self.model.at(index.row()).node for index in selection.selectedRows()]
        if 0 <= current < self.model.rowCount():
            first = self.model.at(current).node
            nodes.sort(key=lambda n: n != first)
        self._desk.selection.select_many(tuple(nodes))

    def _follow(self, _node: int) -> None:
        """Mark the rows of what was selected elsewhere."""
        selection = self.table.selectionModel()
        assert selection is not None
        wanted = [row for n in self._desk.selection.chosen if (row := self.model.place_of(n)) >= 0]
        have = sorted(index.row() for index in selection.selectedRows())
        if have == sorted(wanted):
            return
        selection.blockSignals(True)
        chosen = QItemSelection()
        for row in wanted:
            chosen.select(self.model.index(row, 0), self.model.index(row, self.model.columnCount() - 1))
        selection.select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if wanted:
            selection.setCurrentIndex(self.model.index(wanted[0], 0), QItemSelectionModel.SelectionFlag.NoUpdate)
            self.table.scrollTo(self.model.index(wanted[0], 0))
        selection.blockSignals(False)
        viewport = self.table.viewport()
        assert viewport is not None
        viewport.update()

    # -- editing

    def _edit(self, key: str, value: object, nodes: tuple[int, ...]) -> None:
        now = self._desk.level.now
        if now is None:
            return
        paths = tuple(now.scene.node_names[n] for n in nodes)
        if key == "density":
            try:
                value = min(max(float(str(value).replace("×", "").replace(",", ".")), 1e-3), 64.0)
            except ValueError:
                return
        what = f"{len(paths)} objects" if len(paths) > 1 else paths[0].rsplit("/", 1)[-1]
        self._desk.document.edit_brief(f"{key.capitalize()} of {what}", lambda b: with_marks(b, paths, key, value))

    def _row_menu(self, at: QPoint) -> None:
        menu = QMenu(self)
        for command in ("stage.focus", "show.hide", "show.only", "show.all", "select.branch", "mark.guard"):
            entry = self._commands.get(command)
            action = menu.addAction(entry.title)
            if action is not None:
                action.setEnabled(entry.enabled())
                action.triggered.connect(lambda _=False, c=command: self._commands.run(c))
        viewport = self.table.viewport()
        assert viewport is not None
        menu.exec(viewport.mapToGlobal(at))

    def _column_menu(self, at: QPoint) -> None:
        menu = QMenu(self)
        shown = [c.key for c in self.model.columns]
        for key, col in COLUMNS.items():
            action = menu.addAction(col.title)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(key in shown)
                action.setEnabled(key != "name")
                action.triggered.connect(lambda on, key=key: self.show_column(key, on))
        head = self.table.horizontalHeader()
        assert head is not None
        menu.exec(head.mapToGlobal(at))

    def show_column(self, key: str, on: bool) -> None:
        """Show or drop a column of the table; remembered."""
        shown = [c.key for c in self.model.columns if c.key != key]
        self.model.set_columns([k for k in COLUMNS if k in shown or (on and k == key)])
        self._fit_columns()
        self._preferences.columns = [c.key for c in self.model.columns]
        self._preferences.save()


def _scrolled(page: QWidget) -> QScrollArea:
    """A page that is scrolled where there is not room enough."""
    area = QScrollArea()
    area.setWidget(page)
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    return area
