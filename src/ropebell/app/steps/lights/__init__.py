"""The Lights step: lights, emitters, the sky, and probes for what moves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import cast

import numpy as np

from ropebell.app.stage.overlay import AXES, Overlay, plain, snapped
from ropebell.app.steps.lights.bench import LightsBench
from ropebell.app.steps.lights.marks import ARM, light_marks
from ropebell.app.steps.lights.views import PLAYED
from ropebell.app.steps.step import Step
from ropebell.app.views import View
from ropebell.app.walk import Station
from ropebell.level.model import F64

LIGHTS, EMITTERS, SKY, PROBES = range(4)


class LightsStep(Step):
    """Whatever gives light."""

    id, title = "lights", "Lights"

    @property
    def lights_bench(self) -> LightsBench:
        """The panel."""
        return cast(LightsBench, self.bench)

    def make_bench(self) -> LightsBench:
        bench = LightsBench(self.desk)
        bench.page_changed.connect(lambda _: self.changed.emit())
        bench.go_to.connect(self.desk.go_near)
        bench.snap_changed.connect(self._snap)
        self.desk.stage.camera_changed.connect(self._eye_moved)
        self.desk.selection.hidden_changed.connect(self.changed)
        self.desk.rope.looking_at.connect(lambda _: self.changed.emit())
        return bench

    def station(self) -> Station:
        def go() -> None:
            self.desk.go_to_step(self.id)
            self.lights_bench.show_page(LIGHTS)
            now = self.desk.level.now
            lamps = [x.name for x in now.scene.lights if x.kind == "point"] if now is not None else []
            if now is not None and lamps:
                self.desk.selection.select(now.scene.node_names.index(lamps[0]))

        words = "Drag the strength of this lamp: the light follows at once, from stored rays. Ctrl+Z undoes it."
        return Station(4, words, go)

    def views(self) -> Sequence[View]:
        return (PLAYED,)

    def view_shown(self, view: View) -> None:
        self.desk.picture.play(view is PLAYED)

    def enter(self) -> None:
        super().enter()
        self._suggest_place()

    def overlay(self) -> Overlay:
        bench = self.lights_bench
        return bench.probes.overlay() if bench.pages.shown == PROBES else light_marks(self.desk)

    def grip_moved(self, name: str, to: F64, done: bool, gesture: str) -> None:
        now, node = self.desk.level.now, self.desk.selection.node
        if now is None or node < 0:
            return
        path = now.scene.node_names[node]
        light = next((x for x in now.scene.lights if x.name == path), None)
        kind, _, axis = name.partition(" ")
        if light is None:
            return
        if kind == "aim":
            direction = to - light.position
            length = float(np.linalg.norm(direction))
            if length > 1e-6:
                self.lights_bench.set_light(path, f"aim {gesture}", direction=plain(direction / length, 4))
            return
        moved = to - ARM * self.desk.pixel_size(light.position) * np.array(AXES[axis])
        self.lights_bench.set_light(path, f"move {gesture}", position=snapped(moved, self.desk.snap))

    def _snap(self, step: float) -> None:
        self.desk.snap = step

    def _eye_moved(self) -> None:
        if self.active:
            self._suggest_place()
            self.changed.emit()  # grips keep their size in the picture

    def _suggest_place(self) -> None:
        """New lights and probes stand in front of the eye, not behind what is there."""
        x, y, z = (round(float(v), 2) for v in self.desk.stage.eye.place_ahead(2.0))
        bench = self.lights_bench
        bench.lights.suggest_place((x, y, z))
        bench.probes.suggest_place((x, y, z))
        if bench.pages.shown == PROBES:
            bench.probes.show_here()
