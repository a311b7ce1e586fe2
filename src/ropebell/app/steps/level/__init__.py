"""The Level step: what is in the level, what will go wrong, and where players can be."""

from __future__ import annotations

from collections.abc import Sequence
from typing import cast

import numpy as np

from ropebell.app.box_grips import box_here, face_moved
from ropebell.app.commands import Command
from ropebell.app.stage.overlay import AXES, Mark, Overlay, snapped
from ropebell.app.steps.level.bench import LevelBench
from ropebell.app.steps.level.region_marks import START_ARM, region_marks
from ropebell.app.steps.level.views import FACING
from ropebell.app.steps.step import Step
from ropebell.app.views import View
from ropebell.app.walk import Station
from ropebell.level.finding import Finding
from ropebell.level.model import F64

OBJECTS, CHECKS, REGION = range(3)


class LevelStep(Step):
    """Objects, checks, play region."""

    id, title = "level", "Level"
    _fault: tuple[float, float, float] | None = None

    @property
    def level_bench(self) -> LevelBench:
        """The panel."""
        return cast(LevelBench, self.bench)

    def make_bench(self) -> LevelBench:
        bench = LevelBench(self.desk)
        bench.page_changed.connect(lambda _: self.changed.emit())
        bench.region.chosen_changed.connect(lambda _: self.changed.emit())
        bench.region.wants_start.connect(self._start_here)
        bench.region.wants_box.connect(self._box_here)
        bench.checks.go_to.connect(self.desk.go_to_finding)
        self.desk.findings.checked.connect(self.changed)
        return bench

    def commands(self) -> Sequence[Command]:
        showing, opened = self.desk.showing, lambda: self.desk.level.now is not None
        chosen = lambda: bool(self.desk.selection.chosen)  # noqa: E731 - a condition, not a function of its own
        return (
            Command("show.listed", "Show only what the table lists", self._show_listed, "", opened),
            Command("select.branch", "Select the branch of the selection", showing.select_branch, "", chosen),
            Command("mark.guard", "Guard the selection, or free it", showing.toggle_guard, "", chosen),
            Command("guard.level", "Guard the level, or free it", showing.toggle_level_guard, "", opened),
        )

    def station(self) -> Station:
        def go() -> None:
            self.desk.go_to_step(self.id)
            self.level_bench.show_page(CHECKS)

        return Station(3, "What will go wrong is known before a build: click one to fly there and see why.", go)

    def views(self) -> Sequence[View]:
        return (FACING,)

    def overlay(self) -> Overlay:
        now, page = self.desk.level.now, self.level_bench.stack.currentIndex()
        if now is None:
            return Overlay()
        if page == REGION:
            return region_marks(now, self.level_bench.region.boxes.currentRow())
        if page == CHECKS and self._fault is not None:
            return Overlay(marks=(Mark(self._fault, "fault check", strong=True),))
        return Overlay()

    def grip_moved(self, name: str, to: F64, done: bool, gesture: str) -> None:
        kind, _, rest = name.partition(" ")
        region, now = self.level_bench.region, self.desk.level.now
        if now is None:
            return
        if kind == "start":
            region.set_start(snapped(to - START_ARM * np.array(AXES[rest]), self.desk.snap))
        elif kind == "box":
            row = region.boxes.currentRow()
            box = now.project.brief.region.boxes[row]
            region.set_box(row, face_moved(box, rest, to), gesture)

    def show_finding(self, finding: Finding) -> bool:
        self._fault = finding.place
        self.changed.emit()
        return True

    def _show_listed(self) -> None:
        model = self.level_bench.model
        self.desk.showing.only({model.at(row).path for row in range(model.rowCount())})

    def _start_here(self) -> None:
        """Players begin on the floor below the eye."""
        floor = self.desk.stage.eye.floor_below()
        if floor is None:
            self.desk.tell("There is no floor below. Stand over a floor and try again.", "place")
            return
        self.desk.telling.over("place")
        x, y, z = (round(float(v), 2) for v in floor)
        self.level_bench.region.set_start((x, y, z))

    def _box_here(self) -> None:
        """A box round the selection, or round what lies a few metres ahead."""
        box = box_here(self.desk)
        if box is not None:
            self.level_bench.region.add_box(box)
