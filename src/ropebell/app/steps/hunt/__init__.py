"""The Hunt step: a fault narrowed down to what causes it, proved, and the least fix tried."""

from __future__ import annotations

from collections.abc import Sequence
from typing import cast

from ropebell.app.commands import Command
from ropebell.app.desk import Desk
from ropebell.app.stage.overlay import Line, Mark, Overlay, box_edges
from ropebell.app.steps.hunt.bench import FOUND, SETUP, HuntBench
from ropebell.app.steps.hunt.hunting import Hunting
from ropebell.app.steps.step import Step
from ropebell.app.walk import Station
from ropebell.hunt.steadiness import PRESENT


class HuntStep(Step):
    """Narrow down, prove, mend."""

    id, title = "hunt", "Hunt"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.hunting = Hunting(desk)
        self._shown = -1
        self._was_done = False
        self.hunting.changed.connect(self._changed)

    def make_bench(self) -> HuntBench:
        bench = HuntBench(self.desk, self.hunting)
        bench.run_chosen.connect(self._show_run)
        return bench

    @property
    def hunt_bench(self) -> HuntBench:
        """The panel."""
        return cast(HuntBench, self.bench)

    def _changed(self) -> None:
        done = bool(self.hunting.result)
        if done and not self._was_done and self._bench is not None:
            self.hunt_bench.pages.show_page(FOUND)
            self.desk.telling.news(str(self.hunting.result.get("words", "")))
        self._was_done = done
        self._shown = -1
        self.changed.emit()

    def _show_run(self, number: int) -> None:
        self._shown = number
        self.changed.emit()

    def overlay(self) -> Overlay:
        """The boxes that the fault was shut into, one in the other, and what causes it."""
        h, lines, marks = self.hunting, list[Line](), list[Mark]()
        boxes = [e.box for e in h.entries if e.phase == "search" and e.run.verdict == PRESENT and len(e.box) == 6]
        for number, box in enumerate(boxes):
            last = number == len(boxes) - 1
            role, width = ("accent", 2.2) if last else ("strand", 1.0)
            lines.append(Line(box_edges(box[:3], box[3:]), role, width, pairs=True))
        if 0 <= self._shown < len(h.entries):
            at = h.entries[self._shown].box
            lines.append(Line(box_edges(at[:3], at[3:]), "text", 1.6, dashed=True, pairs=True))
        now = self.desk.level.now
        for culprit in h.result.get("culprit", ()) if now is not None else ():
            assert now is not None
            if culprit["node"] in now.scene.node_names:
                rows = now.scene.node == now.scene.node_names.index(culprit["node"])
                if rows.any():
                    x, y, z = (float(v) for v in now.scene.corners[rows].reshape(-1, 3).mean(axis=0))
                    name = culprit["node"].rsplit("/", 1)[-1]
                    marks.append(Mark((x, y, z), "point", name, ringed=True, strong=True))
        return Overlay(tuple(lines), tuple(marks))

    def commands(self) -> Sequence[Command]:
        def running() -> bool:
            return self.hunting.running

        def open_() -> bool:
            return self.desk.level.now is not None and not running()

        return (
            Command("hunt.start", "Start the hunt, or go on with it", self._start, "Ctrl+Shift+J", open_),
            Command("hunt.rest", "Pause the hunt, or go on", self.hunting.rest, "", running),
            Command("hunt.stop", "Stop the hunt, or begin another", self._stop, "", lambda: (
                running() or self.hunting.cut_off
            )),
            Command("hunt.apply", "Apply the least fix of the hunt", self.hunt_apply, "", lambda: (
                bool(self.hunting.result) and self.hunt_bench.best_fix() is not None
            )),
        )  # fmt: skip

    def _start(self) -> None:
        self.desk.go_to_step(self.id)
        if self.hunting.cut_off:
            self.hunting.go_on()
            return
        asked = self.hunt_bench.asked()
        self.hunt_bench.pages.show_page(SETUP)
        if asked is not None:
            self.hunting.start(asked)

    def _stop(self) -> None:
        if self.hunting.running:
            self.hunting.stop()
            return
        asked = self.hunt_bench.asked()
        if asked is not None:
            self.hunting.start(asked)

    def hunt_apply(self) -> None:
        """Write the least fix into the project."""
        self.hunt_bench.apply_best()

    def close(self) -> None:
        self.hunting.close()

    def station(self) -> Station:
        words = "A fault that nobody understands is hunted down here: on copies, unattended, with a proof."
        return Station(7, words, lambda: self.desk.go_to_step(self.id))
