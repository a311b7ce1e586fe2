"""The Level step: what is in the level, what will go wrong, and where players can be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import cast

import numpy as np
from PyQt6.QtWidgets import QWidget

from ropebell.app.box_grips import box_here, face_moved
from ropebell.app.commands import Command
from ropebell.app.stage.drawn import vertex_table
from ropebell.app.stage.overlay import AXES, Line, Mark, Overlay, snapped
from ropebell.app.stage.picture import StagePicture
from ropebell.app.steps.level.bench import LevelBench
from ropebell.app.steps.level.looked import Looked, ground_of
from ropebell.app.steps.level.region_marks import START_ARM, region_marks
from ropebell.app.steps.level.sight import FROM_HERE, MAP
from ropebell.app.steps.level.sight_map import SightMap
from ropebell.app.steps.level.views import FACING, IN_SIGHT
from ropebell.app.steps.step import Step
from ropebell.app.views import RESULT, View
from ropebell.app.walk import Station
from ropebell.level.finding import Finding
from ropebell.level.model import F64

OBJECTS, CHECKS, REGION, SIGHT = range(4)


class LevelStep(Step):
    """Objects, checks, play region."""

    id, title = "level", "Level"
    _map: SightMap | None = None
    # What is seen from where: of what, the eye, and the picture of it.
    _in_sight: tuple[Looked, F64, StagePicture] | None = None
    _fault: tuple[float, float, float] | None = None

    @property
    def level_bench(self) -> LevelBench:
        """The panel."""
        return cast(LevelBench, self.bench)

    def make_bench(self) -> LevelBench:
        bench = LevelBench(self.desk)
        bench.page_changed.connect(lambda _: self._look())
        bench.sight.changed.connect(self._look)
        bench.sight.go_to.connect(self._go_to_gap)
        bench.sight.from_here.connect(self._take_cell)
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
        return (FACING, IN_SIGHT)

    # -- sight

    @property
    def _looks_into(self) -> Looked | None:
        """What is known of sight, while its page is shown."""
        bench = self._bench
        if not self.active or bench is None or self.level_bench.stack.currentIndex() != SIGHT:
            return None
        looked, now = self.level_bench.sight.looked, self.desk.level.now
        fits = looked is not None and now is not None and ground_of(looked.now) == ground_of(now)
        return looked if fits else None

    def _look(self) -> None:
        """The stage follows what the page of sight shows."""
        look, looked = self.desk.stage.look.view, self._looks_into
        here = looked is not None and self.level_bench.sight.shows == FROM_HERE
        if here and look is not IN_SIGHT:
            self.desk.show_view(IN_SIGHT)
        elif not here and look is IN_SIGHT:
            self.desk.show_view(RESULT)
        self.changed.emit()

    def _take_cell(self) -> None:
        """From now on what is seen from where the eye is now, wherever it goes."""
        looked, now = self._looks_into, self.desk.level.now
        if looked is None or now is None:
            return
        eye = np.array(self.desk.stage.camera.eye)
        cell = looked.sight.cell_of(eye)
        title = "Seen from here" if cell >= 0 else "You stood in no cell: all is taken to be seen"
        vertices = vertex_table(now.scene, now.space, None, looked.inside.faces(cell).astype(np.float64))
        picture = StagePicture(now.level, now.scene, now.space, vertices, title=title)
        self._in_sight = looked, eye, picture

    def picture(self) -> StagePicture | None:
        looked = self._looks_into
        if looked is None or self.level_bench.sight.shows != FROM_HERE:
            return None
        if self._in_sight is None or self._in_sight[0] is not looked:
            self._take_cell()
        return self._in_sight[2] if self._in_sight is not None else None

    def canvas(self) -> QWidget | None:
        looked = self._looks_into
        if looked is None or self.level_bench.sight.shows != MAP:
            return None
        if self._map is None:
            self._map = SightMap()
            self._map.chosen.connect(self._stand_there)
        self._map.show_sight(looked, np.array(self.desk.stage.camera.eye))
        return self._map

    def hints(self) -> tuple[str, ...]:
        return ("wheel: higher, lower", "F1: all keys")

    @property
    def sight_map(self) -> SightMap | None:
        """Cells in plan, None until they were asked for."""
        return self._map

    def _go_to_gap(self, place: F64) -> None:
        x, y, z = (float(v) for v in place)
        self.desk.go_near((x, y, z))

    def _stand_there(self, place: F64) -> None:
        """From the plan of cells into one of them."""
        x, y, z = (float(v) for v in place)
        self.desk.stage.go(replace(self.desk.stage.camera, eye=(x, y, z), plan=False))
        self.level_bench.sight.show_as.button(FROM_HERE).click()

    def enter(self) -> None:
        super().enter()
        self._look()

    def leave(self) -> None:
        super().leave()
        self._look()

    def close(self) -> None:
        if self._bench is not None:
            self.level_bench.sight.close_down()

    def overlay(self) -> Overlay:
        now, page = self.desk.level.now, self.level_bench.stack.currentIndex()
        if now is None:
            return Overlay()
        if page == REGION:
            return region_marks(now, self.level_bench.region.boxes.currentRow())
        way = self.level_bench.sight.way
        if page == SIGHT:
            lines = (Line(way, "accent", 2.4),) if way is not None else ()
            from_here = self._in_sight is not None and self.level_bench.sight.shows == FROM_HERE
            x, y, z = self._in_sight[1].tolist() if self._in_sight is not None else (0.0, 0.0, 0.0)
            return Overlay(lines, (Mark((x, y, z), "point", "seen from here", ringed=True),) if from_here else ())
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
