"""The Build step: start, watch and stop builds, and what became of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QWidget

from ropebell.app.box_grips import face_grips, face_moved
from ropebell.app.commands import Command
from ropebell.app.desk import Desk
from ropebell.app.stage.overlay import Line, Overlay, box_edges
from ropebell.app.steps.build.bench import NEXT, BuildBench
from ropebell.app.steps.build.noise import NOISE
from ropebell.app.steps.build.scoping import wanted
from ropebell.app.steps.build.whose import WHOSE
from ropebell.app.steps.step import Step
from ropebell.app.telling import Answer
from ropebell.app.views import View
from ropebell.app.walk import Station
from ropebell.app.words import DRAFT_TITLES, DRAFTS, clock, megabytes
from ropebell.build.estimate import Estimate, estimate
from ropebell.build.extremes import machine_bytes, too_much
from ropebell.build.plan import plan_of
from ropebell.build.recipe import Recipe, with_value
from ropebell.build.scope import Scope
from ropebell.level.model import F64
from ropebell.light.workers import cores

if TYPE_CHECKING:
    from ropebell.app.steps.build.table import BuildTable


class BuildStep(Step):
    """One button, and the light as it comes."""

    id, title, early = "build", "Build", True

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._table: BuildTable | None = None
        self._as_table = False
        desk.rope.looking_at.connect(lambda _: self._offer_more())

    def _offer_more(self) -> None:
        """What a part build left as it was can be lit, too."""
        rope = self.desk.rope
        shown = rope.shown
        newest = bool(rope.finished) and rope.shown_number == rope.finished[-1]
        if shown is None or not newest or not shown.manifest.left:
            self.desk.telling.over("left")
            return
        names = tuple(left.node for left in shown.manifest.left)
        some = ", ".join(name.rsplit("/", 1)[-1] for name in names[:3]) + (" and more" if len(names) > 3 else "")
        also = partial(self.desk.builds.start, Scope(names, since=shown.folder))
        self.desk.telling.lasting(
            f"Build {rope.shown_number} left {some} as before, with an old shadow or without a new one.",
            "left", ("Light these, too", also), ("Light everything", self.desk.builds.start),
        )  # fmt: skip

    def make_bench(self) -> BuildBench:
        bench = BuildBench(self.desk)
        bench.next.box_changed.connect(self.changed)
        bench.pages.chosen.connect(lambda _: self.changed.emit())
        return bench

    @property
    def build_bench(self) -> BuildBench:
        """The bench."""
        bench = self.bench
        assert isinstance(bench, BuildBench)
        return bench

    def canvas(self) -> QWidget | None:
        if not self._as_table:
            return None
        if self._table is None:
            # Its plot comes from a library that takes a while to load.
            from ropebell.app.steps.build.table import BuildTable

            self._table = BuildTable(self.desk)
        return self._table

    def toggle_table(self) -> None:
        """Show all builds in the place of the stage, or the stage again."""
        self._as_table = not (self._as_table and self.active)
        self.desk.go_to_step(self.id)
        self.build_bench.table.setChecked(self._as_table)
        self.changed.emit()

    def overlay(self) -> Overlay:
        """The cut box, wherever it is in force, with grips while it is edited."""
        plan = self.build_bench.next.plan
        if plan.lights != "box" or plan.box is None:
            return Overlay()
        lines = (Line(box_edges(plan.box.low, plan.box.high), "accent", 2.0, pairs=True),)
        grips = tuple(face_grips(plan.box)) if self.build_bench.pages.shown == NEXT else ()
        return Overlay(lines, (), grips)

    def grip_moved(self, name: str, to: F64, done: bool, gesture: str) -> None:
        panel = self.build_bench.next
        if panel.plan.box is not None:
            panel.set_box(face_moved(panel.plan.box, name.removeprefix("box "), to), gesture)

    def commands(self) -> Sequence[Command]:
        return (
            Command("build.start", "Build", self._start, "Ctrl+B", self._can_build),
            Command("build.rest", "Pause the build, or go on", self.desk.builds.toggle_rest, "Ctrl+,", lambda: (
                self.desk.builds.running
            )),
            Command("build.later", "Add what is set to the queue", self.desk.queue.add, "", self._can_build),
            Command("build.queue", "Work through the queue, or stop", self.desk.queue.switch),
            Command("build.table", "All builds as a table, or the stage", self.toggle_table, "Ctrl+T"),
            Command(
                "build.stop", "Stop the build", self.desk.builds.stop, "Ctrl+.", lambda: self.desk.builds.running
            ),
        )  # fmt: skip

    def views(self) -> Sequence[View]:
        return (NOISE, WHOSE)

    def station(self) -> Station:
        words = "Press Build: light comes at once and gets better while you look. Every build is a knot on the rope."
        return Station(2, words, lambda: self.desk.go_to_step(self.id))

    def _can_build(self) -> bool:
        """Whether a build would do something: none is under way, or what is set changed since it began."""
        running = self.desk.builds.running
        return self.desk.level.now is not None and (not running or bool(self.desk.rope.behind))

    def _start(self) -> None:
        """Build, and turn to this step to watch."""
        self.desk.go_to_step(self.id)
        if self.desk.builds.running:
            self.desk.builds.again()
            return
        if self.desk.queue.running:
            self.desk.tell("The queue builds now. Stop it first, or add this to it.", "build")
            return
        if self._nothing_to_do():
            return
        asked = self._to_be_asked()
        if asked is None:
            self._begin()
        else:
            self.desk.telling.trouble(asked, "long build", *self._answers())

    def _nothing_to_do(self) -> bool:
        """Whether a build would come out as the newest one; says so, and offers to build all the same."""
        now, rope = self.desk.level.now, self.desk.rope
        # While anything is being found out, what is known may be of the moment before.
        if now is None or rope.due or self.desk.jobs.busy or not rope.finished:
            return False
        if rope.stale is None or not rope.stale.fresh:
            return False
        plan = plan_of(now.project)
        if plan.lights not in ("everything", "changed") or plan.stage:
            return False
        sentence = f"Nothing to do: nothing changed since build {rope.finished[-1]}."
        self.desk.telling.lasting(sentence, "long build", ("Build all the same", self._begin))
        return True

    def _begin(self) -> None:
        self.desk.telling.over("long build", "build")
        wanted(self.desk, self.desk.builds.start)

    def _predicted(self, recipe: Recipe) -> Estimate:
        now = self.desk.level.now
        assert now is not None
        return estimate(now.baking, recipe, recipe.limits.workers or cores(), self.desk.rope.rates)

    def _to_be_asked(self) -> str | None:
        """A sentence on a build that takes longer, or more memory, than anyone starts by a slip of the hand."""
        now, rope = self.desk.level.now, self.desk.rope
        assert now is not None
        # What is stale is not known yet for what was set just now.
        stale = None if rope.due else rope.stale
        whole = self._predicted(now.project.recipe)
        seconds = stale.seconds if stale is not None else whole.total_seconds
        much = too_much(seconds, whole.memory_bytes, machine_bytes())
        if much is None:
            return None
        parts = [f"about {clock(much.seconds)}"] if much.seconds else []
        if much.memory_bytes:
            parts.append(
                f"{megabytes(much.memory_bytes)} of memory, of which this machine has {megabytes(machine_bytes())}"
            )
        return f"This build takes {' and '.join(parts)}."

    def _answers(self) -> Iterator[Answer]:
        """The finest draft that takes no more than a person waits for, and the build as it is set."""
        now = self.desk.level.now
        assert now is not None
        recipe = now.project.recipe
        for draft in (d for d in DRAFTS if d > recipe.draft):
            shorter = with_value(recipe, "draft", draft)
            told = self._predicted(shorter)
            if too_much(told.total_seconds, told.memory_bytes, machine_bytes()) is None:
                title = DRAFT_TITLES[DRAFTS.index(draft)]
                yield f"Build a draft {title} ({clock(told.total_seconds)})", partial(self._as, shorter)
                break
        yield "Build it all the same", self._begin

    def _as(self, recipe: Recipe) -> None:
        self.desk.document.set_recipe(f"Build as {DRAFT_TITLES[DRAFTS.index(recipe.draft)]}", recipe)
        self._begin()
