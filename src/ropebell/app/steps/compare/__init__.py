"""The Compare step: two builds with one eye, and what would make the next ones shorter."""

from __future__ import annotations

from collections.abc import Sequence
from typing import cast

from ropebell.app.commands import Command
from ropebell.app.desk import Desk
from ropebell.app.stage.overlay import Mark, Overlay
from ropebell.app.stage.picture import Spot, StagePicture
from ropebell.app.steps.compare.bench import ADVICE, CompareBench
from ropebell.app.steps.compare.comparing import SPOT, Comparing
from ropebell.app.steps.compare.views import BESIDE, COST, FIRST, LUX, STOPS, WIPE
from ropebell.app.steps.step import Step
from ropebell.app.telling import Words
from ropebell.app.views import RESULT, View
from ropebell.app.walk import Station
from ropebell.app.words import luminance, lux

OF_TWO = (WIPE, BESIDE, FIRST, LUX, STOPS, COST)


class CompareStep(Step):
    """What changed, why, and what to do."""

    id, title = "compare", "Compare"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.comparing = Comparing(desk)
        self._view: View = WIPE
        self._spot: Spot | None = None
        self.comparing.changed.connect(self._changed)
        desk.rope.paired.connect(self._pair)

    def make_bench(self) -> CompareBench:
        bench = CompareBench(self.desk, self.comparing)
        bench.view.set_current(0)
        bench.viewed.connect(self.show)
        bench.parted.connect(self._part)
        bench.gained.connect(self._gain)
        bench.go_to.connect(lambda place: self.desk.go_near(place) if place is not None else None)
        self.desk.stage.hands.pointed.connect(self._pointed)
        self.desk.stage.hands.picked.connect(self._picked)
        bench.refresh()
        return bench

    @property
    def compare_bench(self) -> CompareBench:
        """The panel."""
        return cast(CompareBench, self.bench)

    def _pointed(self, spot: Spot | None) -> None:
        self._spot = spot

    def _picked(self, _node: int) -> None:
        """The shares of the difference follow what is clicked, where they are of an object or a spot."""
        comparing, spot = self.comparing, self._spot
        if not self.active or spot is None or comparing.found is None or spot.other is None:
            return
        comparing.spot = spot.position
        if comparing.on == SPOT:
            comparing.share_on(SPOT)
        elif comparing.on and self.desk.selection.paths:
            comparing.share_on(self.desk.selection.paths[0])
        self.changed.emit()

    def _changed(self) -> None:
        if self.active:
            self._look()
        self.changed.emit()

    def _look(self) -> None:
        """The view of the two while there are two, else what the stage is at."""
        look = self.desk.stage.look.view
        if self.comparing.found is not None:
            self.desk.show_view(self._view)
        elif look in OF_TWO:
            self.desk.show_view(RESULT)

    def show(self, view: View) -> None:
        """Show the two in another way."""
        self._view = view
        self._look()

    def _part(self, share: float) -> None:
        self.desk.stage.look.split = share
        self.desk.stage.redraw()

    def _gain(self, factor: float) -> None:
        self.desk.stage.look.gain = factor
        self.desk.stage.redraw()

    def _pair(self, number: int) -> None:
        """The build that is shown, and one that was clicked with Shift: the older is A."""
        shown = self.desk.rope.shown_number
        if not shown or shown == number:
            self.desk.telling.news("Click one knot, then another with Shift held.")
            return
        self.desk.go_to_step(self.id)
        self.comparing.choose(min(shown, number), max(shown, number))

    def picture(self) -> StagePicture | None:
        return self.comparing.found.picture if self.comparing.found is not None else None

    def overlay(self) -> Overlay:
        found = self.comparing.found
        marks = [
            Mark((float(p[0]), float(p[1]), float(p[2])), "point", f"{number + 1}", ringed=number == 0)
            for number, (p, *_) in enumerate(found.worst if found is not None else ())
        ]
        if self.comparing.on == SPOT and self.comparing.spot is not None:
            x, y, z = (float(v) for v in self.comparing.spot)
            marks.append(Mark((x, y, z), "point", "shares here", strong=True))
        return Overlay((), tuple(marks))

    def words(self, spot: Spot) -> Words | None:
        found = self.comparing.found
        if found is None or spot.other is None or spot.irradiance is None:
            return None
        where = found.picture.scene.node_names[spot.node].rsplit("/", 1)[-1]
        if spot.other[3] < -0.5:
            return Words(where, f"B {lux(luminance(spot.irradiance))}, A has no such place")
        a, b = luminance(spot.other[:3]), luminance(spot.irradiance)
        share = f", {100 * (b / a - 1):+.1f} %" if a > 0 else ""
        noise = ", within noise" if abs(b - a) <= spot.other[3] else ""
        return Words(where, f"A {lux(a)}, B {lux(b)}{share}{noise}")

    def commands(self) -> Sequence[Command]:
        def two() -> bool:
            return self.comparing.found is not None

        return (
            Command("compare.before", "Compare with the build before", self._with_before, "Ctrl+Shift+C", lambda: (
                len(self.desk.rope.finished) > 1
            )),
            Command("compare.flip", "Flip between the two builds", self._flip, "Ctrl+Shift+Space", two),
            Command("compare.apart", "Build with one change at a time", self.comparing.build_apart, "", two),
            Command("compare.advice", "Find what would shorten builds", self._ask_advice, "", lambda: (
                bool(self.desk.rope.finished)
            )),
        )  # fmt: skip

    def views(self) -> Sequence[View]:
        return OF_TWO

    def _ask_advice(self) -> None:
        self.desk.go_to_step(self.id)
        self.compare_bench.pages.show_page(ADVICE)
        self.comparing.ask_advice()

    def _with_before(self) -> None:
        """The build that is shown against the finished one before it."""
        self.desk.go_to_step(self.id)
        self._choose_before()

    def _choose_before(self) -> None:
        done, shown = self.desk.rope.finished, self.desk.rope.shown_number
        at = done.index(shown) if shown in done else len(done) - 1
        if at > 0:
            self.comparing.choose(done[at - 1], done[at])

    def _flip(self) -> None:
        self.show(FIRST if self._view is not FIRST else RESULT)
        self.compare_bench.view.set_current(2 if self._view is FIRST else 3)

    def enter(self) -> None:
        super().enter()
        if self.comparing.pair == (0, 0):
            self._choose_before()
        self._look()

    def leave(self) -> None:
        super().leave()
        if self.desk.stage.look.view in OF_TWO:
            self.desk.show_view(RESULT)

    def station(self) -> Station:
        words = "Two knots of the rope, seen with one eye: what changed, because of what, and what would be shorter."
        return Station(8, words, lambda: self.desk.go_to_step(self.id))
