"""Density: level value, test density, named sets, boxes; what the distance of players asks for."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, TunedNumber
from ropebell.app.parts import Fold, button, combo, label, pair, rows_in, rule
from ropebell.app.steps.charts.charting import Charting
from ropebell.app.steps.charts.verdict import VerdictBar
from ropebell.build.recipe import with_value
from ropebell.checks.remedies import with_density_set
from ropebell.level.brief import Brief, DensityBox, TrialDensity


class DensityPage(QWidget):
    """Level value, test density, sets, boxes; what the distance of players asks for."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        rows = rows_in(self, scrolled=True)
        self.level = TunedNumber("Level", "tx/m", Scale(0.5, 100, 1000, 1), "Texels per metre of the final build")
        rows.addWidget(self.level)
        self.verdict = VerdictBar()
        rows.addWidget(self.verdict)
        rows.addWidget(rule())
        self._add_test(rows)
        rows.addWidget(rule())
        self._add_sets(rows)
        self._add_boxes(rows)
        rows.addStretch(1)
        self.level.changed.connect(self._set_level)

    def _add_test(self, rows: QVBoxLayout) -> None:
        self.test_words = label("", "second")
        self.all_test = button("All to test density", "")
        self.all_own = button("Each back to its own", "main")
        self.some_own = button("Only the selection back", "flat")
        self.tested = QListWidget()
        self.tested.setAccessibleName("Objects at test density")
        self.tested.setFixedHeight(96)
        self.factor = TunedNumber("Test density", "×", Scale(1 / 16, 1, 64, 3))
        for widget in (label("Test density", "heading"), self.test_words, self.factor):
            rows.addWidget(widget)
        rows.addWidget(pair(self.all_test, self.all_own))
        rows.addWidget(self.tested)
        rows.addWidget(self.some_own)
        self.all_test.clicked.connect(self._all_to_test)
        self.all_own.clicked.connect(self._all_back)
        self.some_own.clicked.connect(self._some_back)
        self.factor.changed.connect(self._set_factor)
        self.tested.itemClicked.connect(self._pick)

    def _add_sets(self, rows: QVBoxLayout) -> None:
        fold = Fold("Named density sets")
        self.sets, self.set_name = combo("Density set"), QLineEdit()
        self.set_name.setPlaceholderText("Name for the factors of now")
        self.set_name.setAccessibleName("Name of a new density set")
        self.use_set, self.drop_set = button("Use it"), button("Drop", "flat")
        fold.rows.addWidget(pair(self.sets, self.use_set, self.drop_set, stretch=0))
        fold.rows.addWidget(self.set_name)
        rows.addWidget(fold)
        self.use_set.clicked.connect(self._use_set)
        self.drop_set.clicked.connect(self._drop_set)
        self.set_name.returnPressed.connect(self._keep_set)

    def _add_boxes(self, rows: QVBoxLayout) -> None:
        fold = Fold("Density boxes")
        self.boxes = QListWidget()
        self.boxes.setFixedHeight(84)
        self.boxes.setAccessibleName("Density boxes")
        self.box_factor = TunedNumber("In the box", "×", Scale(1 / 16, 16, 64, 3))
        self.add_box, self.drop_box = button("Round the selection"), button("Drop", "flat")
        for widget in (self.boxes, self.box_factor, pair(self.add_box, self.drop_box)):
            fold.rows.addWidget(widget)
        rows.addWidget(fold)
        self.box_fold = fold
        self.add_box.clicked.connect(self._add_box)
        self.drop_box.clicked.connect(self._drop_box)
        self.boxes.currentRowChanged.connect(lambda _: self._show_box())
        self.box_factor.changed.connect(self._set_box)

    def refresh(self) -> None:
        """Show the settings as they are now."""
        now = self._desk.level.now
        if now is None:
            return
        recipe, brief = now.project.recipe, now.project.brief
        built = self._desk.rope.manifest
        last = f", last built {built.recipe.density.texels_per_metre:g}" if built else ""
        draft = (
            f"draft divides by {recipe.draft}: {recipe.texels_per_metre:g} texels/m now" if recipe.draft > 1 else "full"
        )
        self.level.show_value(recipe.density.texels_per_metre, draft + last)
        self._show_tests(brief)
        keep = self.sets.currentText()
        self.sets.clear()
        self.sets.addItems(sorted(brief.sets))
        self.sets.setCurrentText(keep)
        for part in (self.sets, self.use_set, self.drop_set):
            part.setVisible(bool(brief.sets))
        self._show_boxes(brief)

    def _show_tests(self, brief: Brief) -> None:
        """The objects at test density."""
        paths = sorted(p for p in brief.test_density.paths)
        self.factor.show_value(brief.test_density.factor)
        self.tested.clear()
        for path in paths:
            item = QListWidgetItem(path)
            item.setData(Qt.ItemDataRole.UserRole, path)
            self.tested.addItem(item)
        words = (
            f"{len(paths)} objects at test density; their own values are kept beneath."
            if paths
            else "Every object at its own density."
        )
        self.test_words.setText(words)
        for widget in (self.all_own, self.tested, self.some_own, self.factor):
            widget.setVisible(bool(paths))
        self.all_test.setVisible(not paths)

    def _show_boxes(self, brief: Brief) -> None:
        row = self.boxes.currentRow()
        self.boxes.blockSignals(True)
        self.boxes.clear()
        for box in brief.density_boxes:
            size = np.array(box.high) - np.array(box.low)
            self.boxes.addItem(
                f"{box.name or 'box'}   ×{box.factor:g}   {size[0]:.1f} × {size[1]:.1f} × {size[2]:.1f} m"
            )
        self.boxes.setCurrentRow(min(max(row, 0), len(brief.density_boxes) - 1))
        self.boxes.blockSignals(False)
        self.box_fold.set_summary(str(len(brief.density_boxes)) if brief.density_boxes else "")
        self._show_box()

    def show_charting(self, found: Charting) -> None:
        """Show what the distance of players asks for."""
        self.verdict.show_shares(found.shares)

    def _set_level(self, value: float, gesture: str) -> None:
        now = self._desk.level.now
        if now is not None:
            recipe = with_value(now.project.recipe, "density.texels_per_metre", max(value, 0.1))
            self._desk.document.set_recipe("Level density", recipe, f"density {gesture}")

    def _brief(self, title: str, change: object, gesture: str = "") -> None:
        self._desk.document.edit_brief(title, change, gesture)  # type: ignore[arg-type]

    def _meshes(self) -> frozenset[str]:
        now = self._desk.level.now
        return frozenset(n.path for n in now.level.nodes if n.mesh >= 0) if now is not None else frozenset()

    def _all_to_test(self) -> None:
        paths = self._meshes()
        self._brief(
            "All to test density", lambda b: replace(b, test_density=TrialDensity(b.test_density.factor, paths))
        )

    def _all_back(self) -> None:
        self._brief(
            "Each back to its own density", lambda b: replace(b, test_density=TrialDensity(b.test_density.factor))
        )

    def _some_back(self) -> None:
        chosen = set(self._desk.selection.paths)

        def change(b: Brief) -> Brief:
            return replace(b, test_density=TrialDensity(b.test_density.factor, b.test_density.paths - chosen))

        self._brief("Some back to their own density", change)

    def _set_factor(self, value: float, gesture: str) -> None:
        def change(b: Brief) -> Brief:
            return replace(b, test_density=TrialDensity(max(value, 1e-3), b.test_density.paths))

        self._brief("Test density", change, f"test {gesture}")

    def _pick(self, item: QListWidgetItem) -> None:
        now, path = self._desk.level.now, item.data(Qt.ItemDataRole.UserRole)
        if now is not None and path in now.scene.node_names:
            self._desk.selection.select(now.scene.node_names.index(path))

    def _keep_set(self) -> None:
        name = self.set_name.text().strip()
        if not name:
            return
        self.set_name.clear()

        def change(b: Brief) -> Brief:
            factors = {p: m.density for p, m in b.marks.items() if m.density is not None}
            return replace(b, sets={**b.sets, name: factors})

        self._brief(f"Keep density set {name}", change)

    def _use_set(self) -> None:
        name = self.sets.currentText()
        self._brief(f"Use density set {name}", lambda b: with_density_set(b, name))

    def _drop_set(self) -> None:
        name = self.sets.currentText()
        self._brief(
            f"Drop density set {name}", lambda b: replace(b, sets={k: v for k, v in b.sets.items() if k != name})
        )

    def _show_box(self) -> None:
        now, row = self._desk.level.now, self.boxes.currentRow()
        boxes = now.project.brief.density_boxes if now is not None else ()
        for widget in (self.box_factor, self.drop_box, self.boxes):
            widget.setVisible(bool(boxes))
        if 0 <= row < len(boxes):
            self.box_factor.show_value(boxes[row].factor)

    def _add_box(self) -> None:
        now, s = self._desk.level.now, self._desk
        if now is None or not s.selection.chosen:
            s.tell("Select the objects that the density box shall hold.")
            return
        rows = np.isin(now.scene.node, s.selection.chosen)
        if not rows.any():
            return
        points = now.scene.corners[rows].reshape(-1, 3)
        low, high = (np.round(v, 2).tolist() for v in (points.min(axis=0) - 0.05, points.max(axis=0) + 0.05))
        name = s.selection.paths[0].rsplit("/", 1)[-1]
        box = DensityBox((low[0], low[1], low[2]), (high[0], high[1], high[2]), 2.0, name)
        self._brief("Add a density box", lambda b: replace(b, density_boxes=(*b.density_boxes, box)))
        self.boxes.setCurrentRow(self.boxes.count() - 1)

    def _set_box(self, value: float, gesture: str) -> None:
        row = self.boxes.currentRow()

        def change(b: Brief) -> Brief:
            boxes = [replace(x, factor=max(value, 1e-3)) if i == row else x for i, x in enumerate(b.density_boxes)]
            return replace(b, density_boxes=tuple(boxes))

        self._brief("Density in a box", change, f"box {row} {gesture}")

    def _drop_box(self) -> None:
        row = self.boxes.currentRow()

        def change(b: Brief) -> Brief:
            return replace(b, density_boxes=tuple(x for i, x in enumerate(b.density_boxes) if i != row))

        self._brief("Drop a density box", change)
