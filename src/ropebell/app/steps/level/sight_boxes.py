"""Boxes in which sight cells are finer."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtWidgets import QListWidget

from ropebell.app.box_grips import box_here
from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, TunedNumber
from ropebell.app.parts import Fold, button, pair
from ropebell.level.brief import Brief, SightBox


class SightBoxes(Fold):
    """A list of them, and the size of cells in the one that is chosen."""

    def __init__(self, desk: Desk) -> None:
        super().__init__("Finer cells")
        self._desk = desk
        self.boxes = QListWidget()
        self.boxes.setFixedHeight(70)
        self.boxes.setAccessibleName("Boxes of finer sight cells")
        about = "Side of the smallest sight cells in the box; down to an eighth of the recipe's"
        self.cell = TunedNumber("Cells in the box", "m", Scale(0.05, 4, 100, 2, log=True), about)
        self.add, self.drop = button("A box here"), button("Drop", "flat")
        self.add.setToolTip("Round the selection, or round what lies ahead")
        for part in (self.boxes, self.cell, pair(self.add, self.drop)):
            self.rows.addWidget(part)
        self.add.clicked.connect(self._add)
        self.drop.clicked.connect(self._drop)
        self.cell.changed.connect(self._set)
        self.boxes.currentRowChanged.connect(lambda _: self._show_one())

    def refresh(self) -> None:
        """Show the boxes as they are now."""
        row = self.boxes.currentRow()
        self.boxes.blockSignals(True)
        self.boxes.clear()
        for box in self._all():
            x, y, z = np.abs(np.array(box.high) - np.array(box.low))
            self.boxes.addItem(f"{box.name or 'box'}   {box.cell:g} m   {x:.1f} × {y:.1f} × {z:.1f} m")
        self.boxes.setCurrentRow(min(max(row, 0), self.boxes.count() - 1))
        self.boxes.blockSignals(False)
        self.set_summary(str(self.boxes.count()) if self.boxes.count() else "")
        self._show_one()

    @property
    def chosen(self) -> SightBox | None:
        """The box that is chosen."""
        boxes, row = self._all(), self.boxes.currentRow()
        return boxes[row] if 0 <= row < len(boxes) else None

    def _all(self) -> tuple[SightBox, ...]:
        now = self._desk.level.now
        return now.project.brief.sight_boxes if now is not None else ()

    def _show_one(self) -> None:
        box = self.chosen
        for part in (self.boxes, self.cell, self.drop):
            part.setVisible(box is not None)
        if box is not None:
            self.cell.show_value(box.cell)

    def _edit(self, title: str, boxes: tuple[SightBox, ...], gesture: str = "") -> None:
        def change(brief: Brief) -> Brief:
            return replace(brief, sight_boxes=boxes)

        self._desk.document.edit_brief(title, change, gesture)

    def _add(self) -> None:
        now, box = self._desk.level.now, box_here(self._desk)
        if now is None or box is None:
            return
        paths = self._desk.selection.paths
        name, cell = paths[0].rsplit("/", 1)[-1] if paths else "", 0.5 * now.project.recipe.sight.cell
        self._edit("Finer sight cells", (*self._all(), SightBox(box.low, box.high, max(cell, 0.05), name)))
        self.refresh()
        self.boxes.setCurrentRow(self.boxes.count() - 1)

    def _set(self, value: float, gesture: str) -> None:
        row = self.boxes.currentRow()
        boxes = [replace(box, cell=max(value, 0.05)) if i == row else box for i, box in enumerate(self._all())]
        self._edit("Sight cells in a box", tuple(boxes), f"sight box {row} {gesture}")

    def _drop(self) -> None:
        row = self.boxes.currentRow()
        self._edit("Drop a box of finer cells", tuple(box for i, box in enumerate(self._all()) if i != row))
