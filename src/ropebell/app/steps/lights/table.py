"""All lights in one table; what is changed, is changed for all that are selected."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PyQt6.QtCore import QItemSelectionModel, Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QMenu, QTableWidget, QTableWidgetItem, QWidget

from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, TunedNumber
from ropebell.app.parts import button, combo, pair, rows_in, rule
from ropebell.app.steps.lights.form import MODES, UNITS, LightForm
from ropebell.app.tint import to_display
from ropebell.checks.lights import worst_overlap
from ropebell.level.brief import ADDED, NO_CHANGE, Brief
from ropebell.level.light_edits import (
    following,
    free_name,
    plain,
    with_added,
    with_copy,
    with_settings,
    with_template,
    without_added,
    without_changes,
)
from ropebell.level.placed_light import PlacedLight

KINDS = {
    "point": "Point light", "spot": "Spot light", "directional": "Sun", "rectangle": "Rectangle of light",
    "disk": "Disk of light", "tube": "Tube of light",
}  # fmt: skip
HEAD = ("Light", "Mode", "Strength", "")
SNAPS = (0.0, 0.05, 0.1, 0.25, 0.5, 1.0)


class LightsPage(QWidget):
    """The table and the settings of what is selected in it.

    Signals:
        go_to: a place to look at.
        snap_changed: grid step in metres.
    """

    go_to = pyqtSignal(object)
    snap_changed = pyqtSignal(float)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._wanted = ""
        self._suggested: tuple[float, float, float] | None = None
        rows = rows_in(self, 7, scrolled=True)
        self.table = self._make_table()
        rows.addWidget(self.table)
        self.add, self.copy, self.delete = button("Add"), button("Copy"), button("Delete", "flat")
        menu = QMenu(self.add)
        for kind, words in KINDS.items():
            action = menu.addAction(words)
            if action is not None:
                action.triggered.connect(lambda _=False, kind=kind: self.add_light(kind))
        self.add.setMenu(menu)
        self.snap = combo("Grid that lights snap to")
        for step in SNAPS:
            self.snap.addItem("no grid" if step == 0 else f"grid {step:g} m", step)
        rows.addWidget(pair(self.add, self.copy, self.delete, self.snap, stretch=3))
        self.overlap = button("", "flat")
        rows.addWidget(self.overlap)
        self.blend = TunedNumber("Hybrid lights blend at", "m", Scale(1, 200, 1e5, 1), "Live nearer, baked beyond")
        rows.addWidget(self.blend)
        rows.addWidget(rule())
        self.form = LightForm()
        rows.addWidget(self.form)
        rows.addStretch(1)
        self._connect()
        self.refresh()

    def _make_table(self) -> QTableWidget:
        table = QTableWidget(0, len(HEAD))
        table.setAccessibleName("Lights")
        table.setHorizontalHeaderLabels(list(HEAD))
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setShowGrid(False)
        table.setFixedHeight(248)
        side, head = table.verticalHeader(), table.horizontalHeader()
        assert side is not None and head is not None
        side.hide()
        side.setDefaultSectionSize(22)
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        head.setMinimumSectionSize(26)
        for index, width in ((1, 62), (2, 68), (3, 26)):
            head.resizeSection(index, width)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        head.setHighlightSections(False)
        return table

    def _connect(self) -> None:
        s, form = self._desk, self.form
        self.table.itemSelectionChanged.connect(self._rows_chosen)
        form.changed.connect(lambda title, gesture, values: self._change(title, gesture, **values))
        form.part_changed.connect(self._change_part)
        form.template_chosen.connect(self._follow_template)
        form.template_made.connect(self._make_template)
        form.template_written.connect(self._write_template)
        form.reset_wanted.connect(self._reset)
        self.copy.clicked.connect(self._copy)
        self.delete.clicked.connect(self._delete)
        self.snap.activated.connect(lambda _: self.snap_changed.emit(float(self.snap.currentData())))
        self.blend.changed.connect(
            lambda value, gesture: s.document.edit_brief(
                "Blend distance", lambda b: replace(b, blend_distance=max(value, 0.01)), gesture
            )
        )
        self.overlap.clicked.connect(lambda: self.go_to.emit(self._overlap_place))
        s.level.follow(self.refresh)
        s.rope.stale_changed.connect(self.refresh)
        s.selection.selected.connect(lambda _: self._show())
        s.level.rearranged.connect(self._select_wanted)

    # -- showing

    def refresh(self) -> None:
        """Show the lights as they are now."""
        now = self._desk.level.now
        if now is None:
            return
        number_of = {name: i for i, name in enumerate(now.scene.node_names)}
        self.table.blockSignals(True)
        self.table.setRowCount(len(now.scene.lights))
        for row, light in enumerate(now.scene.lights):
            change = now.project.brief.lights.get(light.name, NO_CHANGE)
            shown = light.intensity if light.intensity else 0.0
            strength = f"{shown:,.4g} {UNITS[light.kind]}".replace(",", "\u202f") if shown else "off"
            texts = (light.name.rsplit("/", 1)[-1], MODES[light.mode], strength, "")
            for at, text in enumerate(texts):
                item = QTableWidgetItem(text)
                item.setData(Qt.ItemDataRole.UserRole, number_of[light.name])
                item.setToolTip(
                    f"{light.name}\n{KINDS[light.kind]}" + (f"\nfollows {change.template}" if change.template else "")
                )
                if at == 3:
                    item.setData(Qt.ItemDataRole.DecorationRole, to_display(light.color))
                if at == 2:
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(row, at, item)
        self.table.blockSignals(False)
        self.blend.setVisible(any(light.mode == "hybrid" for light in now.scene.lights))
        self.blend.show_value(now.project.brief.blend_distance, "")
        most, place, names = worst_overlap(now.gathered.subject)
        allowed = now.project.brief.most_live
        self._overlap_place = place
        words = (
            f"{most} live light{'s' if most != 1 else ''} at most at one spot (of {allowed})"
            if most
            else "No live lights"
        )
        self.overlap.setText(words)
        self.overlap.setToolTip(", ".join(names))
        self.overlap.setEnabled(most > 0)
        self._show()

    def _lights(self) -> list[PlacedLight]:
        """The selected lights, the one that is described first."""
        now = self._desk.level.now
        if now is None:
            return []
        by_name = {light.name: light for light in now.scene.lights}
        return [by_name[p] for p in self._desk.selection.paths if p in by_name]

    def _show(self) -> None:
        now, chosen = self._desk.level.now, self._lights()
        self._mark_rows()
        self.form.setVisible(bool(chosen))
        self.copy.setEnabled(bool(chosen))
        self.delete.setEnabled(any(x.name.startswith(f"{ADDED}/") for x in chosen))
        if now is not None and chosen:
            built, name = self._desk.rope.manifest, chosen[0].name
            last = built.lights[name].intensity if built is not None and name in built.lights else None
            self.form.show_lights(now, chosen, last)

    def _mark_rows(self) -> None:
        wanted = set(self._desk.selection.chosen)
        self.table.blockSignals(True)
        selection = self.table.selectionModel()
        assert selection is not None
        selection.clearSelection()
        for row in range(self.table.rowCount()):
            item = self.table.item(row, 0)
            if item is not None and item.data(Qt.ItemDataRole.UserRole) in wanted:
                flags = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows
                selection.select(self.table.model().index(row, 0), flags)  # type: ignore[union-attr]
                if item.data(Qt.ItemDataRole.UserRole) == self._desk.selection.node:
                    self.table.scrollToItem(item)
        self.table.blockSignals(False)

    def _rows_chosen(self) -> None:
        selection = self.table.selectionModel()
        assert selection is not None
        current = self.table.currentRow()
        nodes = []
        for index in selection.selectedRows():
            item = self.table.item(index.row(), 0)
            assert item is not None
            nodes.append((index.row() != current, int(item.data(Qt.ItemDataRole.UserRole))))
        self._desk.selection.select_many(tuple(n for _, n in sorted(nodes)))

    # -- changing

    def change(self, paths: tuple[str, ...], title: str, gesture: str = "", **values: Any) -> None:
        """Change some settings of these lights, undoably."""
        what = paths[0].rsplit("/", 1)[-1] if len(paths) == 1 else f"{len(paths)} lights"
        self._desk.document.edit_brief(
            f"{title}: {what}", lambda b: with_settings(b, paths, **values), f"{paths} {gesture}" if gesture else ""
        )

    def _change(self, title: str, gesture: str = "", **values: Any) -> None:
        paths = self._paths()
        if paths:
            self.change(paths, title, gesture, **values)

    def _change_part(self, key: str, part: int, value: float) -> None:
        """Set one number of the places, or of the directions, of all selected; the others stay each light's own."""
        wanted = {}
        for light in self._lights():
            values = getattr(light, key).tolist()
            values[part] = value
            if key == "position" or any(values):  # a direction of no length points nowhere
                wanted[light.name] = tuple(values)

        def moved(brief: Brief) -> Brief:
            for path, values in wanted.items():
                brief = with_settings(brief, (path,), **{key: values})
            return brief

        self._desk.document.edit_brief("Move" if key == "position" else "Aim", moved)

    def _paths(self) -> tuple[str, ...]:
        return tuple(light.name for light in self._lights())

    def _follow_template(self, name: str | None) -> None:
        paths = self._paths()
        self._desk.document.edit_brief(f"Template {name or 'none'}", lambda b: following(b, paths, name))

    def _make_template(self, name: str) -> None:
        """A template as the first of the selected lights is; all of them follow it."""
        chosen, paths = self._lights(), self._paths()
        if chosen:
            self._desk.document.edit_brief(
                f"Make template {name}", lambda b: following(with_template(b, name, chosen[0]), paths[1:], name)
            )

    def _write_template(self) -> None:
        """The template becomes as this light is; all that follow it change with it."""
        chosen, now = self._lights(), self._desk.level.now
        if not chosen or now is None:
            return
        name = now.project.brief.lights.get(chosen[0].name, NO_CHANGE).template
        if name:
            self._desk.document.edit_brief(f"Change template {name}", lambda b: with_template(b, name, chosen[0]))

    def _reset(self) -> None:
        paths = self._paths()
        self._desk.document.edit_brief("As in the level", lambda b: without_changes(b, paths))

    def add_light(self, kind: str, near: tuple[float, float, float] | None = None) -> str:
        """A new light; returns its path."""
        now = self._desk.level.now
        assert now is not None
        name = free_name(now.project.brief, kind)
        low, high = now.scene.bounds()
        place = near or self._suggested or plain((low + high) / 2)
        self._wanted = path = f"{ADDED}/{name}"
        self._desk.document.edit_brief(f"Add {KINDS[kind].lower()}", lambda b: with_added(b, name, kind, place))
        return path

    def suggest_place(self, place: tuple[float, float, float]) -> None:
        """Where a new light would stand."""
        self._suggested = place

    def _select_wanted(self) -> None:
        """Select a light that was just added, once it is there."""
        now = self._desk.level.now
        if now is not None and self._wanted in now.scene.node_names:
            wanted, self._wanted = self._wanted, ""
            self._desk.selection.select(now.scene.node_names.index(wanted))

    def _copy(self) -> None:
        chosen, now = self._lights(), self._desk.level.now
        if not chosen or now is None:
            return
        base = chosen[0].name.rsplit("/", 1)[-1]
        name = free_name(now.project.brief, f"{base} copy")
        self._wanted = f"{ADDED}/{name}"
        self._desk.document.edit_brief(f"Copy {base}", lambda b: with_copy(b, name, chosen[0]))

    def _delete(self) -> None:
        """Lights that were added here go; those of the level can only be switched off."""
        paths = [path for path in self._paths() if path.startswith(f"{ADDED}/")]
        title = f"Delete {len(paths)} light{'s' if len(paths) > 1 else ''}"
        self._desk.document.edit_brief(title, lambda b: without_added(b, paths))
