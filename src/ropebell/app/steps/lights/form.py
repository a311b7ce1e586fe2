"""All settings of one light, or of several at once."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QColorDialog, QLineEdit, QPushButton, QWidget

from ropebell.app.number_fields import Scale, Triple, TunedNumber, common
from ropebell.app.parts import Fold, button, combo, label, pair, rows_in, show_choice
from ropebell.app.reading import Opened
from ropebell.app.tint import from_display, to_display
from ropebell.level.brief import ADDED, NO_CHANGE, LightChange
from ropebell.level.light_edits import nearest_objects
from ropebell.level.model import AREA_KINDS, LIGHT_KINDS
from ropebell.level.placed_light import PlacedLight

UNITS = {kind: "lx" if kind == "directional" else "cd" for kind in (*LIGHT_KINDS, *AREA_KINDS)}
MODES = {"baked": "baked", "hybrid": "hybrid", "live": "live", "undecided": "later"}


class LightForm(QWidget):
    """Shows the selected lights, and where they differ; one setting that is changed is asked for all of them.

    Signals:
        changed: title of the undo step, its gesture or "", and the settings as fields of `LightChange`.
        part_changed: `position` or `direction`, which of its three numbers, and what it is now.
        template_chosen: name of a template to follow, or None. template_made: name for a new one.
        template_written: the template shall become as the light is. reset_wanted: as in the level.
    """

    changed = pyqtSignal(str, str, dict)
    part_changed = pyqtSignal(str, int, float)
    template_chosen = pyqtSignal(object)
    template_made = pyqtSignal(str)
    template_written = pyqtSignal()
    reset_wanted = pyqtSignal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._light: PlacedLight | None = None
        self._note: str | None = ""
        self._rows = rows_in(self, 6)
        self._add_main()
        self._add_shape()
        self._add_bounces()
        self._add_links()
        self._add_place()
        self._connect()

    def _add_main(self) -> None:
        rows = self._rows
        self.name = label("", "heading")
        self.mode = combo("Mode")
        for key, words in MODES.items():
            self.mode.addItem(words, key)
        self.color = QPushButton()
        self.color.setFixedWidth(44)
        self.color.setAccessibleName("Colour")
        self.on = QCheckBox("On")
        rows.addWidget(self.name)
        rows.addWidget(pair(self.on, self.mode, self.color, stretch=1))
        self.candela = TunedNumber("Strength", "cd", Scale(0, 5000, 1e9, 1))
        self.lux = TunedNumber("Strength", "lx", Scale(0, 120_000, 1e9, 0))
        for field in (self.candela, self.lux):
            rows.addWidget(field)

    def _add_shape(self) -> None:
        self.shape = Fold("Reach, cone and size")
        self.reach = TunedNumber("Reach", "m", Scale(0.1, 100, 1e5, 2))
        self.outer = TunedNumber("Cone, half", "°", Scale(1, 90, 90, 1, log=False))
        self.inner = TunedNumber("Full light within", "°", Scale(0, 90, 90, 1, log=False))
        self.source_size = TunedNumber("Radius of the source", "m", Scale(0, 2, 100, 3, log=False))
        self.wide = TunedNumber("Width", "m", Scale(0.01, 10, 1000, 3))
        self.tall = TunedNumber("Height", "m", Scale(0.01, 10, 1000, 3))
        self.roll = TunedNumber("Turned by", "°", Scale(-180, 180, 360, 1, log=False))
        for field in (self.reach, self.outer, self.inner, self.wide, self.tall, self.source_size, self.roll):
            self.shape.rows.addWidget(field)
        self._rows.addWidget(self.shape)

    def _add_bounces(self) -> None:
        self.bounces = Fold("In the bounces")
        self.share = TunedNumber("Share of it", "×", Scale(0, 4, 16, 2, log=False))
        self.saturation = TunedNumber("Colour kept", "", Scale(0, 1, 1, 2, log=False))
        self.subtracts = QCheckBox("Takes light away")
        for field in (self.share, self.saturation, self.subtracts):
            self.bounces.rows.addWidget(field)
        self._rows.addWidget(self.bounces)

    def _add_links(self) -> None:
        self.links = Fold("Fixture, template, note")
        self.fixture, self.template = combo("Fixture that looks lit"), combo("Template")
        self.new_template = QLineEdit()
        self.new_template.setPlaceholderText("Name for a new template, as this light is")
        self.new_template.setAccessibleName("Name of a new template")
        self.to_template = button("Change the template", "flat", "Write this light's settings into its template")
        self.work = QCheckBox("Work light, off before a hand-over")
        self.note = QLineEdit()
        self.note.setPlaceholderText("Note")
        self.note.setAccessibleName("Note on this light")
        self.links.rows.addWidget(pair(label("Fixture", wrap=False), self.fixture, stretch=1))
        self.links.rows.addWidget(pair(label("Template", wrap=False), self.template, stretch=1))
        for widget in (self.new_template, self.to_template, self.work, self.note):
            self.links.rows.addWidget(widget)
        self._rows.addWidget(self.links)

    def _add_place(self) -> None:
        self.place = Fold("Place and aim")
        self.position = Triple("Place in metres", "XYZ", -1e5, 1e5, 3)
        self.aim = Triple("Direction", "XYZ", -1, 1, 3)
        self.aim_label = label("Shines along", "second")
        for widget in (label("Place, m", "second"), self.position, self.aim_label, self.aim):
            self.place.rows.addWidget(widget)
        self.reset = button("As in the level", "flat")
        self.place.rows.addWidget(self.reset)
        self._rows.addWidget(self.place)

    def _connect(self) -> None:
        self.mode.activated.connect(lambda _: self._change("Mode", mode=self.mode.currentData()))
        self.on.clicked.connect(lambda on: self._change("Switch", enabled=bool(on)))
        self.color.clicked.connect(self._ask_color)
        for field in (self.candela, self.lux):
            field.changed.connect(lambda v, g: self._change("Strength", g, intensity=v))
        self.reach.changed.connect(lambda v, g: self._change("Reach", g, reach=v))
        self.outer.changed.connect(lambda v, g: self._change("Cone", g, outer_cone=max(v, 0.1)))
        self.wide.changed.connect(lambda v, g: self._change("Width", g, width=max(v, 0.001)))
        self.tall.changed.connect(lambda v, g: self._change("Height", g, height=max(v, 0.001)))
        self.roll.changed.connect(lambda v, g: self._change("Turn", g, roll=v))
        self.inner.changed.connect(lambda v, g: self._change("Cone", g, inner_cone=v))
        self.source_size.changed.connect(lambda v, g: self._change("Source size", g, size=v))
        self.share.changed.connect(lambda v, g: self._change("Share in bounces", g, share=v))
        self.saturation.changed.connect(lambda v, g: self._change("Colour in bounces", g, saturation=v))
        self.subtracts.clicked.connect(lambda on: self._change("Subtract", subtracts=bool(on) or None))
        self.work.clicked.connect(lambda on: self._change("Work light", work=bool(on) or None))
        self.fixture.activated.connect(lambda _: self._change("Fixture", fixture=self.fixture.currentData()))
        self.template.activated.connect(lambda _: self.template_chosen.emit(self.template.currentData()))
        self.new_template.returnPressed.connect(self._make_template)
        self.to_template.clicked.connect(self.template_written)
        self.note.editingFinished.connect(self._set_note)
        self.position.part_changed.connect(lambda part, v: self.part_changed.emit("position", part, v))
        self.aim.part_changed.connect(lambda part, v: self.part_changed.emit("direction", part, v))
        self.reset.clicked.connect(self.reset_wanted)

    def _change(self, title: str, gesture: str = "", **values: object) -> None:
        self.changed.emit(title, gesture, values)

    def _ask_color(self) -> None:
        if self._light is None:
            return
        color = QColorDialog.getColor(to_display(self._light.color), self, "Colour of the light")
        if color.isValid():
            self._change("Colour", color=from_display(color))

    def _make_template(self) -> None:
        name = self.new_template.text().strip()
        if name:
            self.new_template.clear()
            self.template_made.emit(name)

    def _set_note(self) -> None:
        text = self.note.text().strip()
        # Of various notes none is lost because the field that says so was left as it was.
        if text != (self._note or ""):
            self._change("Note", note=text or None)

    def show_lights(self, now: Opened, lights: Sequence[PlacedLight], built: float | None) -> None:
        """Show the selected lights as they are now; where they differ, the field says so.

        Args:
            lights: the one that is described first. built: its strength in the last build, cd or lx.
        """
        light, others = lights[0], len(lights) - 1
        self._light = light
        changes = [now.project.brief.light(one.name) for one in lights]

        def show(field: TunedNumber, of: Callable[[PlacedLight], float], note: str = "") -> None:
            field.show_value(common(of(one) for one in lights), note)

        self.name.setText(light.name.rsplit("/", 1)[-1] + (f" and {others} more" if others else ""))
        show_choice(self.mode, [one.mode for one in lights])
        check(self.on, [change.enabled for change in changes])
        color = common(one.color for one in lights)
        shown = to_display(light.color).name()
        self.color.setStyleSheet(f"background: {shown};" if color is not None else "")
        self.color.setText("" if color is not None else "…")
        self.color.setToolTip("" if color is not None else "Various colours")
        own = [_own_strength(now, one) for one in lights]
        strengths = [o if c.intensity is None else c.intensity for o, c in zip(own, changes)]
        field, other = (self.lux, self.candela) if light.kind == "directional" else (self.candela, self.lux)
        other.hide()
        field.show()
        field.show_value(common(strengths), _strength_note(light, own[0], built))
        self.reach.setVisible(light.kind in ("point", "spot"))
        for side, kinds in ((self.wide, ("rectangle", "tube")), (self.tall, ("rectangle",))):
            side.setVisible(light.kind in kinds)
        show(self.wide, lambda x: x.width, "its length" if light.kind == "tube" else "")
        show(self.tall, lambda x: x.height)
        self.roll.setVisible(light.kind in ("rectangle", "tube"))
        show(self.roll, lambda x: math.degrees(x.roll))
        self.source_size.setVisible(light.kind != "rectangle")
        show(self.reach, lambda x: x.reach or 0.0, "" if light.reach else "0 is unlimited")
        for cone in (self.outer, self.inner):
            cone.setVisible(light.kind == "spot")
        show(self.outer, lambda x: math.degrees(x.outer_cone))
        show(self.inner, lambda x: math.degrees(x.inner_cone))
        show(self.source_size, lambda x: x.size,
             "half angle of the disk in degrees" if light.kind == "directional" else "")  # fmt: skip
        show(self.share, lambda x: x.share)
        show(self.saturation, lambda x: x.saturation)
        check(self.subtracts, [one.subtracts for one in lights])
        check(self.work, [one.work for one in lights])
        self._show_links(now, light, [now.project.brief.lights.get(one.name, NO_CHANGE) for one in lights])
        self.position.show_values(*(one.position.tolist() for one in lights))
        self.aim.show_values(*(one.direction.tolist() for one in lights))
        for widget in (self.aim, self.aim_label):
            widget.setVisible(light.kind != "point")
        self.shape.set_summary(f"{light.reach:g} m" if light.reach and light.kind != "directional" else "")

    def _show_links(self, now: Opened, light: PlacedLight, changes: Sequence[LightChange]) -> None:
        change = changes[0]
        self.fixture.clear()
        self.fixture.addItem("none", None)
        near = nearest_objects(now.scene, light)
        for path in [*([change.fixture] if change.fixture and change.fixture not in near else []), *near]:
            self.fixture.addItem(path.rsplit("/", 1)[-1], path)
        show_choice(self.fixture, [c.fixture for c in changes])
        self.template.clear()
        self.template.addItem("none", None)
        for name in sorted(now.project.brief.templates):
            self.template.addItem(name, name)
        show_choice(self.template, [c.template for c in changes])
        followers = (
            sum(c.template == change.template for c in now.project.brief.lights.values()) if change.template else 0
        )
        self.to_template.setVisible(bool(change.template))
        self.to_template.setText(f"Change it for all {followers} that follow")
        if not self.note.hasFocus():
            self._note = common(c.note or "" for c in changes)
            self.note.setText(self._note or "")
            self.note.setPlaceholderText("Note" if self._note is not None else "various notes")
        self.links.set_summary(change.template or "")


def check(box: QCheckBox, values: Sequence[bool]) -> None:
    """Check a box, or half of it where the values differ."""
    box.setTristate(len(set(values)) > 1)
    both = Qt.CheckState.PartiallyChecked
    box.setCheckState(both if box.isTristate() else Qt.CheckState.Checked if values[0] else Qt.CheckState.Unchecked)


def _own_strength(now: Opened, light: PlacedLight) -> float:
    return now.level.lights[next(n.light for n in now.level.nodes if n.path == light.name)].intensity


def _strength_note(light: PlacedLight, own: float, built: float | None) -> str:
    unit = UNITS[light.kind]
    level = "added here" if light.name.startswith(f"{ADDED}/") else f"level {own:g} {unit}"
    return level + (f", last built {built:g} {unit}" if built is not None else "")
