"""The play region: where players can be, and so where effort is spent; with what it saves."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, Triple, TunedNumber
from ropebell.app.parts import button, label, pair, rows_in
from ropebell.app.reading import Opened
from ropebell.app.words import short_count
from ropebell.build.stage import Size
from ropebell.level.brief import Box, Brief, Region
from ropebell.level.scene import taking_part
from ropebell.sight.walk import proposed_boxes, start_point, walkable


class RegionPanel(QWidget):
    """Start point, boxes, and what lies outside.

    Signals:
        chosen_changed: index of the box that is edited, −1 for none.
        wants_start: the person wants the start where the eye stands.
    """

    chosen_changed = pyqtSignal(int)
    wants_start = pyqtSignal()
    wants_box = pyqtSignal()

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk = desk
        rows = rows_in(self)
        self.about = label("", "second")
        rows.addWidget(self.about)
        self.start = label("")
        self.start_here = button("Start where I stand")
        rows.addWidget(pair(self.start, self.start_here, stretch=0))
        self.propose = button("Propose a region", "main")
        self.propose.setToolTip("Walks all floors that can be reached from the start and puts tight boxes round them")
        rows.addWidget(self.propose)
        self.boxes = QListWidget()
        self.boxes.setAccessibleName("Boxes of the play region")
        self.boxes.setFixedHeight(150)
        rows.addWidget(self.boxes)
        self.add, self.remove = button("Add a box here"), button("Remove")
        self.clear = button("No region", "flat")
        rows.addWidget(pair(self.add, self.remove, self.clear))
        self.low, self.high = (Triple(f"{w} corner of the box", "XYZ", -1e5, 1e5, 2) for w in ("Low", "High"))
        self.corners = QWidget()
        corner_rows = QVBoxLayout(self.corners)
        corner_rows.setContentsMargins(0, 0, 0, 0)
        corner_rows.setSpacing(4)
        for words, field in (("Low corner, m", self.low), ("High corner, m", self.high)):
            corner_rows.addWidget(label(words, "second"))
            corner_rows.addWidget(field)
            field.changed.connect(lambda _: self._numbers_changed())
        rows.addWidget(self.corners)
        self.outside = TunedNumber("Coarser outside", "÷", Scale(1, 16, 64, 1))
        rows.addWidget(self.outside)
        self.saving = label("", "heading")
        rows.addWidget(self.saving)
        rows.addStretch(1)
        self.propose.clicked.connect(self._propose)
        self.start_here.clicked.connect(self.wants_start)
        self.add.clicked.connect(self.wants_box)
        self.remove.clicked.connect(self._remove)
        self.clear.clicked.connect(lambda: self._set("No play region", boxes=()))
        self.boxes.currentRowChanged.connect(self._row_changed)
        self.outside.changed.connect(lambda v, g: self._set("Coarser outside", f"outside {g}", outside=max(v, 1.0)))
        desk.level.follow(self.refresh)

    def refresh(self) -> None:
        """Show the region as it is now."""
        now = self._desk.level.now
        if now is None:
            return
        region = now.project.brief.region
        start = start_point(now.level, now.scene, now.project.brief)
        self.start.setText("no start point" if start is None else "Start " + ", ".join(f"{v:.1f}" for v in start))
        self.propose.setEnabled(start is not None)
        self.about.setText(
            "All surfaces get the same effort." if not region.boxes else
            f"{len(region.boxes)} box{'es' if len(region.boxes) > 1 else ''}; objects outside get coarser charts."
        )  # fmt: skip
        row = self.boxes.currentRow()
        self.boxes.blockSignals(True)
        self.boxes.clear()
        for number, box in enumerate(region.boxes, 1):
            size = np.array(box.high) - np.array(box.low)
            self.boxes.addItem(QListWidgetItem(f"Box {number}   {size[0]:.1f} × {size[1]:.1f} × {size[2]:.1f} m"))
        self.boxes.setCurrentRow(min(row, len(region.boxes) - 1))
        self.boxes.blockSignals(False)
        self.outside.show_value(region.outside)
        for widget in (self.remove, self.clear, self.outside, self.boxes):
            widget.setVisible(bool(region.boxes))
        self._show_corners()
        self.saving.setText(self._saving_words(now))

    def _saving_words(self, now: Opened) -> str:
        region = now.project.brief.region
        if not region.boxes:
            return ""
        recipe = now.project.recipe
        with_region = Size.of(now.baking, recipe).texels
        from ropebell.level.density import density_factors

        brief = replace(now.project.brief, region=replace(region, boxes=()))
        scene = replace(now.scene, factor=density_factors(now.scene, now.level, brief, now.scene.marks))
        without = Size.of(taking_part(scene), recipe).texels
        share = 100 * (1 - with_region / max(without, 1))
        return f"Saves {share:.0f} % of the texels: {short_count(with_region)} of {short_count(without)}"

    def _show_corners(self) -> None:
        now, row = self._desk.level.now, self.boxes.currentRow()
        boxes = now.project.brief.region.boxes if now is not None else ()
        self.corners.setVisible(0 <= row < len(boxes))
        if 0 <= row < len(boxes):
            self.low.show_values(boxes[row].low)
            self.high.show_values(boxes[row].high)

    def _row_changed(self, row: int) -> None:
        self._show_corners()
        self.chosen_changed.emit(row)

    def _set(self, title: str, gesture: str = "", **changes: object) -> None:
        def change(brief: Brief) -> Brief:
            region: Region = replace(brief.region, **changes)  # type: ignore[arg-type]
            return replace(brief, region=region)

        self._desk.document.edit_brief(title, change, gesture)

    def set_start(self, start: tuple[float, float, float]) -> None:
        """Players begin here."""
        self._set("Start point", start=start)

    def add_box(self, box: Box) -> None:
        """One more box, which is then edited."""
        now = self._desk.level.now
        if now is not None:
            self._set("Add a box", boxes=(*now.project.brief.region.boxes, box))
            self.boxes.setCurrentRow(self.boxes.count() - 1)

    def set_box(self, row: int, box: Box, gesture: str = "") -> None:
        """Change one box."""
        now = self._desk.level.now
        if now is not None and 0 <= row < len(now.project.brief.region.boxes):
            boxes = list(now.project.brief.region.boxes)
            boxes[row] = box.ordered()
            self._set("Change a box", gesture, boxes=tuple(boxes))

    def _numbers_changed(self) -> None:
        low, high = (tuple(f.value() for f in t.fields) for t in (self.low, self.high))
        self.set_box(self.boxes.currentRow(), Box((low[0], low[1], low[2]), (high[0], high[1], high[2])))

    def _remove(self) -> None:
        now, row = self._desk.level.now, self.boxes.currentRow()
        if now is not None and row >= 0:
            boxes = tuple(b for i, b in enumerate(now.project.brief.region.boxes) if i != row)
            self._set("Remove a box", boxes=boxes)

    def _propose(self) -> None:
        now = self._desk.level.now
        if now is None:
            return
        start = start_point(now.level, now.scene, now.project.brief)
        assert start is not None
        subject = now.gathered.subject

        def find() -> tuple[Box, ...]:
            return proposed_boxes(walkable(subject.baking, subject.space, start))

        def receive(boxes: tuple[Box, ...]) -> None:
            if not boxes:
                self._desk.tell("No floor can be walked from the start point. Move it onto a floor.")
                return
            self._set("Propose a play region", boxes=boxes)

        self._desk.jobs.start("propose", find, receive)
