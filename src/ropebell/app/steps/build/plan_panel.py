"""What the next build shall light, and what stops it by itself."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QInputDialog, QLineEdit, QMenu, QVBoxLayout, QWidget

from ropebell.app.box_grips import box_here
from ropebell.app.desk import Desk
from ropebell.app.number_fields import Triple
from ropebell.app.parts import Sentences, button, combo, label, pair, rows_in, rule
from ropebell.build.conditions import parse_condition
from ropebell.build.plan import (
    LIGHTS,
    Lights,
    Plan,
    active_profile,
    plan_of,
    profiles,
    with_plan,
    with_profile,
    with_profile_dropped,
    with_profile_kept,
)
from ropebell.build.project import Project
from ropebell.build.stages import STAGES, WORDS
from ropebell.build.tripwires import ASKED_OF_A_COMMAND
from ropebell.errors import RopeBellError, UsageError
from ropebell.level.brief import Box

NAMES = tuple(stage.name for stage in STAGES)
ABOUT: dict[Lights, str] = {
    "everything": "Every texel of the level.",
    "changed": "Objects that came, moved or were marked otherwise since the last build. The rest is written with that "
    "build's light, and what may be old of it is said.",
    "selection": "The selected objects and what is below them. Light comes from everywhere; the rest is as it was.",
    "shown": "What is not hidden now. Light comes from everywhere; the rest is written as it was.",
    "camera": "What is in the picture, all of it to the end; the rest is written as it was.",
    "box": "The level ends where the box does. The cut is sealed: sun, sky and lamps outside give no light.",
    "properties": "No ray is shot: names, extras and other properties of now are written with the light of the newest "
    "build. Refused where a face changed; what is out of date stays so.",
}
# Tripwires that are offered, with what they are for.
OFFERED = {
    "black>0.3": "a third of the level is black",
    "clipped>0.05": "one twentieth is blown out",
    "nonfinite": "any value is not a number",
    "seconds>600": "ten minutes have passed",
    "stall>60": "a minute without progress",
    "memory>8000": "more than 8,000 MB are held",
}


class PlanPanel(QWidget):
    """The plan and its profiles.

    Signals:
        box_changed: the cut box is another one, or in force or not.
    """

    box_changed = pyqtSignal()

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        rows = rows_in(self, 8, scrolled=True)
        self._make_profiles(rows)
        rows.addWidget(rule())
        self._make_scope(rows)
        rows.addWidget(rule())
        self._make_wires(rows)
        rows.addStretch(1)
        for signal in (desk.level.opened, desk.document.edited, desk.selection.selected):
            signal.connect(lambda *_: self.refresh())

    def _make_profiles(self, rows: QVBoxLayout) -> None:
        self.profile, self.keep = combo("Profile"), button("Keep")
        self.keep.setToolTip("Keeps recipe, draft, plan, poses and emitter tables under one name")
        rows.addWidget(pair(label("Profile", wrap=False), self.profile, self.keep, stretch=1))
        self.profile_words = label("", "second")
        rows.addWidget(self.profile_words)
        self.profile.activated.connect(self._use_profile)
        menu = QMenu(self.keep)
        for text, act in (("Keep under its name", self._keep_same), ("Keep under a new name", self._keep_new),
                          ("Drop this profile", self._drop_profile)):  # fmt: skip
            action = menu.addAction(text)
            if action is not None:
                action.triggered.connect(lambda _=False, act=act: act())
        self.keep.setMenu(menu)

    def _make_scope(self, rows: QVBoxLayout) -> None:
        self.lights = combo("What the build lights")
        for key, title in LIGHTS.items():
            self.lights.addItem(title, key)
        rows.addWidget(pair(label("Light", wrap=False), self.lights, stretch=1))
        self.about = label("", "second")
        rows.addWidget(self.about)
        self.box = QWidget()
        box_rows = QVBoxLayout(self.box)
        box_rows.setContentsMargins(0, 0, 0, 0)
        box_rows.setSpacing(4)
        self.low, self.high = (Triple(f"{w} corner of the cut box", "XYZ", -1e5, 1e5, 2) for w in ("Low", "High"))
        for words, field in (("Low corner, m", self.low), ("High corner, m", self.high)):
            box_rows.addWidget(label(words, "second"))
            box_rows.addWidget(field)
            field.changed.connect(lambda _: self._numbers_changed())
        self.here = button("Round the selection, or here")
        box_rows.addWidget(self.here)
        rows.addWidget(self.box)
        self.stage = combo("Last stage to run")
        self.stage.addItem("to the end", "")
        for stage in STAGES[2:-1]:
            self.stage.addItem(f"up to: {WORDS[stage.name].lower()}", stage.name)
        rows.addWidget(pair(label("Stages", wrap=False), self.stage, stretch=1))
        self.lights.activated.connect(lambda _: self.choose(self.lights.currentData()))
        self.stage.activated.connect(lambda _: self._set("Stages", stage=self.stage.currentData()))
        self.here.clicked.connect(self._box_here)

    def _make_wires(self, rows: QVBoxLayout) -> None:
        rows.addWidget(label("Tripwires", "heading"))
        rows.addWidget(label("The build stops itself once one of these is so; what was finished is kept.", "second"))
        self.wires = Sentences("Tripwires", 120)
        rows.addWidget(self.wires)
        self.wire = QLineEdit()
        self.wire.setAccessibleName("A tripwire")
        self.wire.setPlaceholderText("such as black>0.3")
        self.add, self.remove, self.offer = button("Add"), button("Remove", "flat"), button("Offered", "flat")
        self.wire_words = label("", "second")
        rows.addWidget(self.wire)
        rows.addWidget(self.wire_words)
        rows.addWidget(pair(self.add, self.remove, self.offer))
        self.wire_words.hide()
        menu = QMenu(self.offer)
        for text, words in OFFERED.items():
            action = menu.addAction(f"{text}: {words}")
            if action is not None:
                action.triggered.connect(lambda _=False, text=text: self.add_wire(text))
        self.offer.setMenu(menu)
        self.add.clicked.connect(lambda: self.add_wire(self.wire.text()))
        self.wire.returnPressed.connect(lambda: self.add_wire(self.wire.text()))
        self.remove.clicked.connect(self._remove_wire)

    # -- changes

    @property
    def plan(self) -> Plan:
        """The plan in force."""
        project = self._desk.document.project
        return plan_of(project) if project is not None else Plan()

    def _set(self, title: str, gesture: str = "", **changes: object) -> None:
        plan = replace(self.plan, **changes)  # type: ignore[arg-type]
        self._desk.document.edit(title, lambda p: with_plan(p, plan), gesture)

    def choose(self, lights: Lights) -> None:
        """How much the next build lights."""
        if lights == "box" and self.plan.box is None:
            self._set(f"Light: {LIGHTS[lights].lower()}", lights=lights, box=box_here(self._desk))
        else:
            self._set(f"Light: {LIGHTS[lights].lower()}", lights=lights)

    def set_box(self, box: Box, gesture: str = "") -> None:
        """Another cut box; one without any room is none."""
        box = box.ordered()
        if all(low < high for low, high in zip(box.low, box.high)):
            self._set("Cut box", gesture, box=box)

    def _box_here(self) -> None:
        box = box_here(self._desk)
        if box is not None:
            self.set_box(box)

    def _numbers_changed(self) -> None:
        low, high = (tuple(f.value() for f in t.fields) for t in (self.low, self.high))
        self.set_box(Box((low[0], low[1], low[2]), (high[0], high[1], high[2])))

    def add_wire(self, text: str) -> None:
        """One more tripwire; what is none is told in place."""
        try:
            condition = parse_condition(text, NAMES)
            if condition.what in ASKED_OF_A_COMMAND:
                raise UsageError(f"'{text}' is about a command's exit", "", "A build has none while it runs")
        except UsageError as error:
            self.wire_words.setText(str(error))
            self.wire_words.show()
            return
        self.wire_words.hide()
        self.wire.clear()
        if condition.text not in self.plan.stop_when:
            self._set(f"Tripwire {condition.text}", stop_when=(*self.plan.stop_when, condition.text))

    def _remove_wire(self) -> None:
        row = self.wires.currentRow()
        kept = tuple(text for index, text in enumerate(self.plan.stop_when) if index != row)
        self._set("Remove a tripwire", stop_when=kept)

    # -- profiles

    def _use_profile(self, index: int) -> None:
        name, project = self.profile.itemData(index), self._desk.document.project
        if not name or project is None:
            return
        try:
            taken = with_profile(project, name)
        except RopeBellError as error:
            self._desk.tell(str(error), "profile")
            self.refresh()
            return

        def take(now: Project) -> Project:
            return replace(now, recipe=taken.recipe, brief=taken.brief, rest=taken.rest)

        self._desk.telling.over("profile")
        self._desk.document.edit(f"Profile {name}", take)

    def _keep_same(self) -> None:
        project = self._desk.document.project
        name = active_profile(project)[0] if project is not None else ""
        if name:
            self.keep_profile(name)
        else:
            self._keep_new()

    def _keep_new(self) -> None:
        name, done = QInputDialog.getText(self, "Keep a profile", "Name of the profile")
        if done and name.strip():
            self.keep_profile(name.strip()[:80])

    def keep_profile(self, name: str) -> None:
        """Keep what is set now under a name."""
        self._desk.document.edit(f"Keep profile {name}", lambda p: with_profile_kept(p, name))

    def _drop_profile(self) -> None:
        project = self._desk.document.project
        name = active_profile(project)[0] if project is not None else ""
        if name:
            self._desk.document.edit(f"Drop profile {name}", lambda p: with_profile_dropped(p, name))

    # -- showing

    def refresh(self) -> None:
        """Show the plan as it is now."""
        project, plan = self._desk.document.project, self.plan
        if project is None:
            return
        name, same = active_profile(project)
        self.profile.clear()
        self.profile.addItem("none" if not name else "leave it", "")
        for known in profiles(project):
            self.profile.addItem(known, known)
        self.profile.setCurrentIndex(max(self.profile.findData(name), 0) if name else 0)
        changed = f"Changed since '{name}' was taken; Keep writes it."
        self.profile_words.setText(f"All is as '{name}' says." if same else changed)
        self.profile_words.setVisible(bool(name))
        self.lights.setCurrentIndex(self.lights.findData(plan.lights))
        count = len(self._desk.selection.chosen)
        picked = f" Selected: {count}." if plan.lights == "selection" else ""
        self.about.setText(ABOUT[plan.lights] + picked)
        self.box.setVisible(plan.lights == "box")
        if plan.box is not None:
            self.low.show_values(plan.box.low)
            self.high.show_values(plan.box.high)
        self.stage.setCurrentIndex(max(self.stage.findData(plan.stage), 0))
        self.wires.clear()
        for text in plan.stop_when:
            self.wires.addItem(f"{text}: {OFFERED[text]}" if text in OFFERED else text)
        self.wires.fit()
        self.wires.setVisible(bool(plan.stop_when))
        self.remove.setEnabled(bool(plan.stop_when))
        self.box_changed.emit()
