"""Probes: where light is kept for what moves, and what a moving thing would get where the eye is."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from PyQt6.QtWidgets import QListWidgetItem, QWidget

from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, TunedNumber
from ropebell.app.parts import Sentences, button, label, pair, rows_in, rule
from ropebell.app.stage.overlay import Mark, Overlay, plain
from ropebell.app.words import count, luminance, lux
from ropebell.build.mover import MoverLight
from ropebell.level.brief import Box, Brief, Point, ProbeSet
from ropebell.light.probes import grid_positions

# More marks than this would only hide the picture.
MOST_MARKS = 600


class ProbesPage(QWidget):
    """A grid and single probes, and the light at the eye by either way that games know."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._suggested: Point = (0.0, 1.0, 0.0)
        rows = rows_in(self, scrolled=True)
        rows.addWidget(label("Probes light what moves and what has no lightmap.", "second"))
        self.spacing = TunedNumber("Grid every", "m", Scale(0, 10, 1000, 2, log=False), "0 is no grid")
        self.predicted = label("", "second")
        self.list = Sentences("Probes placed by hand", 160)
        self.place, self.remove = button("Place one ahead"), button("Remove", "flat")
        for widget in (self.spacing, self.predicted, self.list, pair(self.place, self.remove), rule()):
            rows.addWidget(widget)
        self.heading = label("A moving thing at the eye", "heading")
        self.by_probes, self.by_below, self.sources = label(""), label(""), label("", "second")
        for text in (self.heading, self.by_probes, self.sources, self.by_below):
            rows.addWidget(text)
        rows.addStretch(1)
        self.spacing.changed.connect(lambda v, g: self._set("Probe grid", f"spacing {g}", spacing=max(v, 0.0)))
        self.place.clicked.connect(self._place)
        self.remove.clicked.connect(self._remove)
        desk.level.follow(self.refresh)
        desk.rope.looking_at.connect(lambda _: self.show_here())

    def suggest_place(self, place: Point) -> None:
        """Where a new probe would stand."""
        self._suggested = place

    def refresh(self) -> None:
        """Show the probes as they are set now."""
        now = self._desk.level.now
        if now is None:
            return
        self.show_here()
        wanted = now.project.brief.probes
        self.spacing.show_value(wanted.spacing, "")
        self.predicted.setText(self._prediction(wanted))
        row = self.list.currentRow()
        self.list.clear()
        for name, place in wanted.placed.items():
            item = QListWidgetItem(f"{name}   {', '.join(f'{v:.1f}' for v in place)}")
            item.setToolTip(name)
            self.list.addItem(item)
        self.list.setCurrentRow(min(row, len(wanted.placed) - 1))
        self.list.fit()
        self.list.setVisible(bool(wanted.placed))
        self.remove.setEnabled(bool(wanted.placed))

    def _prediction(self, wanted: ProbeSet) -> str:
        now = self._desk.level.now
        assert now is not None
        if not wanted.spacing:
            return f"No grid; {len(wanted.placed)} placed by hand."
        boxes: tuple[Box, ...] = now.project.brief.region.boxes
        if not boxes:
            low, high = (v.tolist() for v in now.baking.bounds())
            boxes = (Box((low[0], low[1], low[2]), (high[0], high[1], high[2])),)
        try:
            points = len(grid_positions(boxes, wanted.spacing))
        except ValueError as error:
            return f"Too fine: {error}. Choose a wider spacing, or a tighter play region."
        where = "the play region" if now.project.brief.region.boxes else "the whole level: no play region is set"
        return f"At most {count(points)} in {where}, and {len(wanted.placed)} placed by hand."

    def _set(self, title: str, gesture: str = "", **values: Any) -> None:
        def apply(b: Brief) -> Brief:
            return replace(b, probes=replace(b.probes, **values))

        self._desk.document.edit_brief(title, apply, gesture)

    def _place(self) -> None:
        now = self._desk.level.now
        if now is None:
            return
        placed = now.project.brief.probes.placed
        name = next(n for i in range(1, len(placed) + 2) if (n := f"probe {i}") not in placed)
        self._set("Place a probe", placed={**placed, name: self._suggested})
        self.list.setCurrentRow(len(placed))

    def _remove(self) -> None:
        now, row = self._desk.level.now, self.list.currentRow()
        if now is not None and row >= 0:
            placed = now.project.brief.probes.placed
            self._set("Remove a probe", placed={n: p for i, (n, p) in enumerate(placed.items()) if i != row})

    def overlay(self) -> Overlay:
        """Probes placed by hand by name, and those of the grid as they were built."""
        now, built = self._desk.level.now, self._desk.picture.built_probes
        if now is None:
            return Overlay()
        marks = [Mark(place, "probe", name, strong=True) for name, place in now.project.brief.probes.placed.items()]
        if built is not None:
            grid = [i for i, name in enumerate(built.name) if not name][:MOST_MARKS]
            marks += [Mark(plain(built.position[i]), "probe") for i in grid]
        return Overlay(marks=tuple(marks))

    def show_here(self) -> None:
        """Say what a moving thing gets where the eye is."""
        self.show_light(self._desk.picture.mover_here())

    def show_light(self, light: MoverLight | None) -> None:
        """Say what a moving thing gets where the eye is; None: nothing is built."""
        if light is None:
            self.by_probes.setText("Nothing is built yet.")
            self.by_below.setText("")
            self.sources.setText("")
            return
        if light.sources:
            up, down = (lux(luminance(light.on(way))) for way in ((0.0, 1.0, 0.0), (0.0, -1.0, 0.0)))
            ways = ((1.0, 0.0, 0.0), (-1.0, 0.0, 0.0), (0.0, 0.0, 1.0), (0.0, 0.0, -1.0))
            sides = lux(float(np.mean([luminance(light.on(way)) for way in ways])))
            self.by_probes.setText(f"By probes: from above {up}, aside {sides}, from below {down}.")
            self.sources.setText("From " + ", ".join(f"{n} ({100 * s:.0f} %)" for n, s in light.sources) + ".")
        else:
            self.by_probes.setText("The build that is shown has no probes.")
            self.sources.setText("")
        below = "By the surface below: there is none with a lightmap."
        if light.below is not None:
            below = f"By the surface below, {light.node.rsplit('/', 1)[-1]}: {lux(luminance(light.below))}."
        self.by_below.setText(below)
