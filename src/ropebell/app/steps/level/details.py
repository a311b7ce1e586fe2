"""What is known of the selected object, and its marks or its strength."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtWidgets import QCheckBox, QFrame, QHBoxLayout, QPushButton, QWidget

from ropebell.app.desk import Desk
from ropebell.app.number_fields import Scale, TunedNumber
from ropebell.app.parts import label, rows_in
from ropebell.app.steps.level.marks import MarksPanel
from ropebell.app.words import count
from ropebell.level.brief import LightChange
from ropebell.level.finding import area_words
from ropebell.level.model import AREA_KINDS, LIGHT_KINDS, Light

UNITS = {kind: "lx" if kind == "directional" else "cd" for kind in (*LIGHT_KINDS, *AREA_KINDS)}


class ObjectDetails(QFrame):
    """What is known of the selected object; a light's strength can be tuned."""

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk = desk
        rows = rows_in(self, 6)
        self.name = label("", "heading")
        self.about = label("", "second")
        rows.addWidget(self.name)
        rows.addWidget(self.about)
        self.candela = TunedNumber("Strength", "cd", Scale(0, 5000, 1e9, 1))
        self.lux = TunedNumber("Strength", "lx", Scale(0, 120_000, 1e9, 0))
        for row in (self.candela, self.lux):
            row.changed.connect(self._strength_changed)
            rows.addWidget(row)
        self._on_row = QWidget()
        line = QHBoxLayout(self._on_row)
        line.setContentsMargins(0, 0, 0, 0)
        self.on = QCheckBox("On")
        self.reset = QPushButton("As in the level")
        self.reset.setProperty("role", "flat")
        line.addWidget(self.on)
        line.addStretch(1)
        line.addWidget(self.reset)
        rows.addWidget(self._on_row)
        self.marks = MarksPanel(desk)
        rows.addWidget(self.marks)
        rows.addStretch(1)
        self.on.clicked.connect(self._switched)
        self.reset.clicked.connect(self._reset)
        desk.selection.selected.connect(lambda _: self.refresh())
        desk.document.edited.connect(self.refresh)
        desk.level.opened.connect(self.refresh)
        desk.rope.stale_changed.connect(self.refresh)
        desk.level.rearranged.connect(self.refresh)
        self.refresh()

    def _light(self) -> tuple[str, Light] | None:
        now, node = self._desk.level.now, self._desk.selection.node
        if now is None or not 0 <= node < len(now.level.nodes) or now.level.nodes[node].light < 0:
            return None
        return now.level.nodes[node].path, now.level.lights[now.level.nodes[node].light]

    def refresh(self) -> None:
        """Show the selection as it is now."""
        now, node = self._desk.level.now, self._desk.selection.node
        light = self._light()
        self.marks.setVisible(False)
        for widget in (self.candela, self.lux, self._on_row):
            widget.setVisible(False)
        if now is None or node < 0:
            self.name.setText("Nothing selected")
            self.about.setText("Click an object on the stage or in the table." if now is not None else "")
            return
        many = len(self._desk.selection.chosen)
        name = now.level.nodes[node].name
        self.name.setText(name if many < 2 else f"{name} and {many - 1} more")
        if light is None:
            self.about.setText(self._mesh_words(node))
            self.marks.setVisible(now.level.nodes[node].mesh >= 0 or many > 1)
            self.marks.refresh()
            return
        path, source = light
        change = now.project.lights.get(path, LightChange())
        reach = f", reaches {source.reach:g} m" if source.reach is not None else ""
        self.about.setText(f"{source.kind} light{reach}")
        value = source.intensity if change.intensity is None else change.intensity
        unit = UNITS[source.kind]
        built = self._desk.rope.manifest
        last = built.lights[path].intensity if built is not None and path in built.lights else None
        note = f"level {source.intensity:g} {unit}" + (f", last built {last:g} {unit}" if last is not None else "")
        row = self.lux if source.kind == "directional" else self.candela
        row.setVisible(True)
        row.show_value(value, note)
        self._on_row.setVisible(True)
        self.on.setChecked(change.enabled)
        self.reset.setVisible(change != LightChange())

    def _mesh_words(self, node: int) -> str:
        now = self._desk.level.now
        assert now is not None
        rows = now.scene.node == node
        materials = sorted({now.level.materials[m].name for m in set(now.scene.material[rows].tolist())})
        area = float(now.scene.areas[rows].sum())
        texels = area * now.project.recipe.texels_per_metre**2
        return f"{', '.join(materials)}; {area_words(area)}, about {count(round(texels))} texels at this recipe"

    def _change(self) -> tuple[str, LightChange] | None:
        light, now = self._light(), self._desk.level.now
        if light is None or now is None:
            return None
        return light[0], now.project.lights.get(light[0], LightChange())

    def _strength_changed(self, value: float, gesture: str) -> None:
        found = self._change()
        if found is not None:
            path, change = found
            self._desk.document.set_light(path, replace(change, intensity=value), f"{path} {gesture}")

    def _switched(self, on: bool) -> None:
        found = self._change()
        if found is not None:
            path, change = found
            self._desk.document.set_light(path, replace(change, enabled=on))

    def _reset(self) -> None:
        found = self._change()
        if found is not None:
            self._desk.document.set_light(found[0], LightChange())
