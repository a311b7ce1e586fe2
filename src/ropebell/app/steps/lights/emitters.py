"""What glows, how strongly, and who says so: the level, an emitter table, or the project."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QIcon, QPixmap
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QColorDialog,
    QFileDialog,
    QHeaderView,
    QListWidget,
    QListWidgetItem,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, TunedNumber
from ropebell.app.parts import button, label, pair, rows_in, rule
from ropebell.app.reading import Opened
from ropebell.app.tint import from_display, to_display
from ropebell.level.brief import Brief, EmitterChange
from ropebell.level.emitter_table import EmissionSource, looks_lit
from ropebell.level.model import F64, LUMINANCE

DARK = EmissionSource((0.0, 0.0, 0.0), "nobody")


class EmittersPage(QWidget):
    """A table of materials that glow or look as if they did, and the list of emitter tables."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        rows = rows_in(self, scrolled=True)
        self._make_table(rows)
        self._make_details(rows)
        rows.addWidget(rule())
        self._make_tables(rows)
        rows.addStretch(1)
        desk.level.follow(self.refresh)

    def _make_table(self, rows: QVBoxLayout) -> None:
        self.table = QTableWidget(0, 3)
        self.table.setAccessibleName("Emitters")
        self.table.setHorizontalHeaderLabels(["Material", "cd/m²", "Says so"])
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setShowGrid(False)
        self.table.setFixedHeight(190)
        side, head = self.table.verticalHeader(), self.table.horizontalHeader()
        assert side is not None and head is not None
        side.hide()
        side.setDefaultSectionSize(22)
        head.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        for index, width in ((1, 74), (2, 84)):
            head.resizeSection(index, width)
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        rows.addWidget(self.table)
        self.table.itemSelectionChanged.connect(self._chosen)

    def _make_details(self, rows: QVBoxLayout) -> None:
        """What the chosen material lights with, and looks like."""
        self.name, self.about = label("", "heading"), label("", "second")
        self.counts = QCheckBox("Gives light")
        self.strength = TunedNumber("Luminance", "cd/m²", Scale(0, 50_000, 1e9, 0))
        self.look = TunedNumber(
            "Seen with", "cd/m²", Scale(0, 50_000, 1e9, 0), "How bright it looks; it lights nothing"
        )
        self.tint = button("Tint…", "flat", "Tint it is seen with")
        self.as_light = button("Seen as it lights", "flat")
        self._looks = pair(self.tint, self.as_light)
        self.reset = button("As the tables and the level say", "flat")
        self._details = (self.name, self.about, self.counts, self.strength, self.look, self._looks, self.reset)
        for widget in self._details:
            rows.addWidget(widget)
        self.counts.clicked.connect(self._set_counts)
        self.strength.changed.connect(self._set_strength)
        self.look.changed.connect(self._set_look)
        self.tint.clicked.connect(self._ask_tint)
        self.as_light.clicked.connect(self._look_as_light)
        self.reset.clicked.connect(self._reset)

    def _make_tables(self, rows: QVBoxLayout) -> None:
        """The files that say what glows."""
        rows.addWidget(label("Emitter tables", "heading"))
        self.tables_about = label(
            "The first is the shared default; each later one overrules those before it. Emitters can only be baked.",
            "second",
        )
        rows.addWidget(self.tables_about)
        self.tables = QListWidget()
        self.tables.setAccessibleName("Emitter tables")
        self.tables.setFixedHeight(96)
        rows.addWidget(self.tables)
        self.add, self.drop, self.again = button("Add a table"), button("Take off"), button("Read again", "flat")
        rows.addWidget(pair(self.add, self.drop, self.again))
        self.trouble = label("", "accent")
        rows.addWidget(self.trouble)
        self.add.clicked.connect(self._ask_table)
        self.drop.clicked.connect(self._drop_table)
        self.again.clicked.connect(self._desk.level.reload_tables)

    def refresh(self) -> None:
        """Show what there is now."""
        now = self._desk.level.now
        if now is None:
            return
        subject = now.gathered.subject
        used = np.zeros(len(now.level.materials))
        np.add.at(used, now.scene.material, now.scene.areas)
        found = []
        for number, material in enumerate(now.level.materials):
            source = subject.emission.get(material.name)
            if source is not None or looks_lit(now.level, number):
                found.append((material.name, source or DARK, float(used[number])))
        found.sort(key=lambda f: -_luminance(f[1]))
        chosen = self._material()
        self.table.blockSignals(True)
        self.table.setRowCount(len(found))
        for row, (name, source, area) in enumerate(found):
            lum = _luminance(source)
            shown = spaced(lum) if lum > 0 else "no light"
            for at, text in enumerate((name, shown, Path(source.source).stem)):
                item = QTableWidgetItem(text)
                overruled = f"\noverrules {', '.join(source.overruled)}" if source.overruled else ""
                item.setToolTip(f"{name}: {shown} by {source.source}, {area:.2g} m²{overruled}")
                self.table.setItem(row, at, item)
            if name == chosen:
                self.table.selectRow(row)
        self.table.blockSignals(False)
        self._chosen()
        self._show_tables(now)

    def _show_tables(self, now: Opened) -> None:
        subject, names = now.gathered.subject, {m.name for m in now.level.materials}
        read = {t.path.name: t for t in subject.tables}
        self.tables.clear()
        for number, reference in enumerate(now.project.brief.tables):
            table = read.get(Path(reference).name)
            words = "cannot be read"
            if table is not None:
                known = len(table.rows.keys() & names)
                words = f"{known} of {len(table.rows)} materials here"
            item = QListWidgetItem(f"{Path(reference).stem}{', default' if number == 0 else ''}   {words}")
            item.setToolTip(", ".join(sorted(table.rows.keys() - names)) if table is not None else "")
            self.tables.addItem(item)
        self.trouble.setText(" ".join(subject.troubles))
        self.trouble.setVisible(bool(subject.troubles))
        self.drop.setVisible(bool(now.project.brief.tables))

    def _material(self) -> str:
        items = self.table.selectedItems()
        return self.table.item(items[0].row(), 0).text() if items else ""  # type: ignore[union-attr]

    def _chosen(self) -> None:
        now, name = self._desk.level.now, self._material()
        for widget in self._details:
            widget.setVisible(bool(name))
        if not name or now is None:
            return
        source = now.gathered.subject.emission.get(name, DARK)
        lum = _luminance(source)
        rows = np.isin(now.scene.material, [i for i, m in enumerate(now.level.materials) if m.name == name])
        area = float(now.scene.areas[rows].sum())
        self.name.setText(name)
        over = f", over {', '.join(source.overruled)}" if source.overruled else ""
        lumen = spaced(math.pi * lum * area)
        self.about.setText(f"{source.source} says so{over}. {area:.3g} m², {lumen} lm in all.")
        self.counts.setChecked(lum > 0)
        self.strength.show_value(lum, "")
        seen = self._seen(now)
        self.look.show_value(
            float(LUMINANCE @ seen), "" if name in now.project.brief.looks else "as the level draws it"
        )
        self.tint.setIcon(swatch(seen))
        self.reset.setVisible(name in now.project.brief.emitters)

    def _set(self, title: str, change: EmitterChange | None, gesture: str = "") -> None:
        name = self._material()

        def apply(b: Brief) -> Brief:
            kept = {k: v for k, v in b.emitters.items() if k != name}
            return replace(b, emitters={**kept, name: change} if change is not None else kept)

        self._desk.document.edit_brief(f"{title}: {name}", apply, f"{name} {gesture}" if gesture else "")

    def _set_counts(self, on: bool) -> None:
        now, name = self._desk.level.now, self._material()
        if now is None:
            return
        before = now.project.brief.emitters.get(name, EmitterChange())
        source = now.gathered.subject.emission.get(name, DARK)
        if on and _luminance(source) <= 0 and before.radiance is None:
            number = next(i for i, m in enumerate(now.level.materials) if m.name == name)
            color = np.array(now.level.materials[number].base_color[:3])
            r, g, b = (float(v) for v in color / max(float(LUMINANCE @ color), 1e-6) * 1000.0)
            self._set("Gives light", replace(before, counts=None, radiance=(r, g, b)))
            return
        self._set("Gives light" if on else "Gives no light", replace(before, counts=None if on else False))

    def _set_strength(self, value: float, gesture: str) -> None:
        now, name = self._desk.level.now, self._material()
        if now is None:
            return
        source = now.gathered.subject.emission.get(name, DARK)
        color = np.array(source.radiance) if _luminance(source) > 0 else np.ones(3)
        change = self._change(now)
        self._set("Luminance", replace(change, counts=None, radiance=_scaled(color, value)), gesture)

    def _change(self, now: Opened) -> EmitterChange:
        return now.project.brief.emitters.get(self._material(), EmitterChange())

    def _seen(self, now: Opened) -> F64:
        """(3,) radiance that the chosen material is seen with."""
        name = self._material()
        own = next((m.emission for m in now.level.materials if m.name == name), (0.0, 0.0, 0.0))
        return np.array(now.project.brief.looks.get(name, own))

    def _set_look(self, value: float, gesture: str) -> None:
        now = self._desk.level.now
        if now is None:
            return
        seen = self._seen(now)
        color = seen if seen.max() > 0 else np.ones(3)
        self._set("Look", replace(self._change(now), look=_scaled(color, value)), gesture)

    def _ask_tint(self) -> None:
        now = self._desk.level.now
        if now is None:
            return
        seen = self._seen(now)
        color = QColorDialog.getColor(to_display((seen[0], seen[1], seen[2])), self, "Tint it is seen with")
        if color.isValid():
            self.set_tint(from_display(color))

    def set_tint(self, color: tuple[float, float, float]) -> None:
        """See the chosen material in this linear colour, as bright as before."""
        now = self._desk.level.now
        if now is None:
            return
        value = float(LUMINANCE @ self._seen(now))
        self._set("Tint", replace(self._change(now), look=_scaled(np.array(color), value)))

    def _look_as_light(self) -> None:
        now = self._desk.level.now
        if now is not None:
            source = now.gathered.subject.emission.get(self._material(), DARK)
            self._set("Seen as it lights", replace(self._change(now), look=source.radiance))

    def _reset(self) -> None:
        self._set("As the tables say", None)

    def _ask_table(self) -> None:
        now = self._desk.level.now
        if now is None:
            return
        folder = now.project.folder
        path, _ = QFileDialog.getOpenFileName(self, "Add an emitter table", str(folder), "Emitter tables (*.csv)")
        if path:
            self.add_table(Path(path))

    def add_table(self, path: Path) -> None:
        """Put a table on the list; it must lie at or below the project's folder."""
        reference = self._desk.document.reference(path)
        if reference is None:
            return
        self._desk.document.edit_brief(f"Add table {path.name}", lambda b: replace(b, tables=(*b.tables, reference)))

    def _drop_table(self) -> None:
        row = self.tables.currentRow()
        if row < 0:
            row = self.tables.count() - 1

        def apply(b: Brief) -> Brief:
            return replace(b, tables=tuple(t for i, t in enumerate(b.tables) if i != row))

        self._desk.document.edit_brief("Take a table off", apply)


def spaced(value: float) -> str:
    """A whole number with its thousands apart."""
    return f"{value:,.0f}".replace(",", "\u202f")


def _scaled(color: F64, luminance: float) -> tuple[float, float, float]:
    """A colour with this luminance."""
    r, g, b = (float(v) for v in color / max(float(LUMINANCE @ color), 1e-9) * luminance)
    return (r, g, b)


def swatch(color: F64) -> QIcon:
    """A small square of a linear colour."""
    picture = QPixmap(14, 14)
    picture.fill(to_display((float(color[0]), float(color[1]), float(color[2]))))
    return QIcon(picture)


def _luminance(source: EmissionSource) -> float:
    return float(LUMINANCE @ np.array(source.radiance))
