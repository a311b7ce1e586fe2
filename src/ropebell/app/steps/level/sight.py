"""Leaks and sight before a build: the ways out, what is seen from where, what need not block, what nobody sees."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QListWidgetItem, QWidget

from ropebell.app.desk import Desk
from ropebell.app.parts import Choice, Sentences, button, label, rows_in
from ropebell.app.reading import Opened
from ropebell.app.steps.level.looked import Looked, ground_of, subject_of
from ropebell.app.steps.level.sight_boxes import SightBoxes
from ropebell.app.words import count, short_count
from ropebell.build import spared
from ropebell.build.sighting import hidden_in_words, in_words, known_sight, sight_of, texels_of
from ropebell.build.store import Store
from ropebell.checks.remedies import with_marks
from ropebell.checks.subject import short
from ropebell.errors import RopeBellError, Stopped, why
from ropebell.level.brief import Brief
from ropebell.level.left_out import changed_since, with_left_out
from ropebell.light.workers import cores
from ropebell.sight.blockers import Cost
from ropebell.sight.sight import Sight
from ropebell.sight.sky_box import sky_boxes
from ropebell.sight.survey import movable

# What the stage shows: as ever, what is seen from where the eye is, or cells in plan.
AS_EVER, FROM_HERE, MAP = range(3)


# Objects that cost most are listed, so many.
MOST_COSTS = 40


def cost_in_words(cost: Cost) -> str:
    """What an object costs, and what it does for that."""
    cells = f", {cost.cells} cells" if cost.cells > 0 else ""
    does = "closes the hull, " if cost.hull else ""
    hides = hidden_in_words(cost.hides).replace(" ", "\N{NO-BREAK SPACE}")
    return f"{short(cost.node)}: {cost.seconds:.2g} s{cells}; {does}hides {hides}"


def passing_in_words(cost: Cost) -> str:
    """What an object that is let through would do if it blocked."""
    cells = f", {cost.cells} cells more" if cost.cells > 0 else ""
    hides = hidden_in_words(cost.hides).replace(" ", "\N{NO-BREAK SPACE}")
    return f"{short(cost.node)}: would hide about {hides}{cells}"


class SightPanel(QWidget):
    """What is found, with the acts that follow from it.

    Attributes:
        looked: what is known of the level as it stands, None for nothing. shows: one of `AS_EVER`, `FROM_HERE`, `MAP`.
        any_pose: things that move may stand in any of their poses.

    Signals:
        changed: something else is known, or shall be shown. go_to: (3,) a place to be looked at.
        from_here: what is seen from where the eye is now was asked for.
    """

    changed = pyqtSignal()
    go_to = pyqtSignal(object)
    from_here = pyqtSignal()
    _came = pyqtSignal(float)

    def __init__(self, desk: Desk, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._desk = desk
        self.looked: Looked | None = None
        self.shows = AS_EVER
        self.any_pose = False
        self._stop: threading.Event | None = None
        rows = rows_in(self, scrolled=True)
        self.about = label("")
        self.look = button("Look for leaks and sight", "main")
        self.box_title, self.box = label("", "second"), Choice(["A lid", "Outside"], "The sky box counts as")
        self.poses_title, self.poses = label("", "second"), Choice(["As they stand", "In any pose"], "Things that move")
        self.finer = SightBoxes(desk)
        self.ways_title, self.ways = label("Ways out", "heading"), Sentences("Ways out", 160)
        self.show_title, self.show_as = (
            label("On the stage", "heading"),
            Choice(["As ever", "From here", "Map"], "Show"),
        )
        self.legend = label("", "second")
        self.blockers_title = label("Need not block sight", "heading")
        self.blockers = Sentences("Objects that need not block sight", 170)
        self.through = button("Let sight through")
        self.through_words = label("", "second")
        self.passing_title, self.passing = label("Lets sight through", "heading"), Sentences("Let through", 120)
        self.back = button("Let it block again")
        self.costs_title, self.costs = label("What each object costs", "heading"), Sentences("What each costs", 200)
        self.unseen_title, self.unseen = label("Seen by nobody", "heading"), label("", "second")
        self.bare, self.lit = button("No lightmaps for these"), button("All lightmaps back", "flat")
        for part in (
            self.about, self.box_title, self.box, self.poses_title, self.poses, self.look, self.ways_title, self.ways,
            self.show_title, self.show_as, self.legend, self.blockers_title, self.blockers, self.through,
            self.through_words, self.passing_title, self.passing, self.back, self.costs_title, self.costs,
            self.unseen_title, self.unseen, self.bare, self.lit, self.finer,
        ):  # fmt: skip
            rows.addWidget(part)
        rows.addStretch(1)
        self.show_as.set_current(AS_EVER)
        self.poses.set_current(0)
        self.poses.chosen.connect(self._choose_poses)
        self.look.clicked.connect(self._look)
        self.box.chosen.connect(self._count_box)
        self.ways.itemClicked.connect(self._go)
        self.ways.currentRowChanged.connect(lambda _: self.changed.emit())
        self.show_as.chosen.connect(self._show)
        self.blockers.itemClicked.connect(lambda item: self._select(item.data(Qt.ItemDataRole.UserRole)))
        self.costs.itemClicked.connect(lambda item: self._select(item.data(Qt.ItemDataRole.UserRole)))
        self.through.clicked.connect(self._let_through)
        self.passing.itemClicked.connect(lambda item: self._select(item.data(Qt.ItemDataRole.UserRole)))
        self.back.clicked.connect(self._block_again)
        self.bare.clicked.connect(self._no_lightmaps)
        self.lit.clicked.connect(lambda: desk.document.edit_brief("All lightmaps back", with_nothing_left_out))
        self._came.connect(lambda share: self.look.setText(f"Stop   {100 * share:.0f} %"))
        desk.level.follow(self.refresh)
        # A build may have looked into it meanwhile.
        desk.rope.builds_changed.connect(self.refresh)

    def refresh(self) -> None:
        """Find out whether the level as it stands was looked into before."""
        now = self._desk.level.now
        if self.looked is not None and now is not None and self._fits(self.looked, now):
            return
        if not self.isVisible():
            return  # it is asked for again when it is shown
        self.looked = None
        self._tell()
        self._tell_box(now)
        self._tell_poses(now)
        self.finer.refresh()
        if now is None or self._stop is not None:
            return
        any_pose, rates = self.any_pose, self._desk.rope.rates

        def work() -> Looked | None:
            known = known_sight(subject_of(now, any_pose), now.project.recipe.sight.cell, Store(now.project.cache))
            return Looked.of(now, known, any_pose, rates) if known is not None else None

        self._desk.jobs.start("known sight", work, self._receive)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def _choose_poses(self, which: int) -> None:
        self.any_pose, self.looked = which == 1, None
        self.refresh()

    def _fits(self, looked: Looked, now: Opened) -> bool:
        left_out = looked.now.project.brief.left_out == now.project.brief.left_out
        return ground_of(looked.now) == ground_of(now) and left_out and looked.any_pose == self.any_pose

    def _receive(self, looked: Looked | None) -> None:
        now = self._desk.level.now
        if looked is not None and now is not None and self._fits(looked, now):
            self.looked = looked
            self._judge(looked)
        self._tell()

    def _judge(self, looked: Looked) -> None:
        """What became of blockers that were let through since the last look; the checks rest on what is known now."""
        folder, scene = looked.now.project.folder, looked.now.scene
        before = spared.read_spared(folder)
        passing = [scene.node_names[n] for n, m in enumerate(scene.marks.nodes) if m.blocks_sight is False]
        after = spared.judged(before, looked.sight, passing) if not looked.any_pose else before
        if after != before:
            self._keep(after)
        self._desk.findings.look_again()

    def _keep(self, found: list[spared.Spared]) -> None:
        now = self._desk.level.now
        try:
            if now is not None and not self._desk.document.read_only:
                spared.write_spared(now.project.folder, found)
        except OSError as error:
            self._desk.tell(f"What this saves cannot be kept ({why(error)}). Free some space.", "sight")

    def _look(self) -> None:
        now = self._desk.level.now
        if self._stop is not None:
            self._stop.set()
            return
        if now is None:
            return
        self._stop = stop = threading.Event()
        recipe, store = now.project.recipe, Store(now.project.cache)
        any_pose, rates = self.any_pose, self._desk.rope.rates

        def tick(share: float) -> None:
            if stop.is_set():
                raise Stopped()
            self._came.emit(share)

        def work() -> Looked | str:
            try:
                workers = recipe.limits.workers or cores()
                found, _ = sight_of(subject_of(now, any_pose), recipe.sight.cell, workers, store, tick)
                return Looked.of(now, found, any_pose, rates)
            except Stopped:
                return ""
            except RopeBellError as error:
                return str(error)

        def receive(found: Looked | str) -> None:
            self._stop = None
            if isinstance(found, str):
                if found:
                    self._desk.tell(f"Sight cannot be looked into: {found}", "sight")
                self._tell()
                return
            self._desk.telling.over("sight")
            self._receive(found)

        self._desk.jobs.start("sight", work, receive)
        self._came.emit(0.0)

    def close_down(self) -> None:
        """End what runs."""
        if self._stop is not None:
            self._stop.set()

    # -- telling

    def _tell(self) -> None:
        looked = self.looked
        sight = looked.sight if looked is not None else None
        shown = sight is not None and bool(len(sight.middles))
        if self._stop is None:
            self.look.setText("Look for leaks and sight")
        self.look.setVisible(looked is None or self._stop is not None)
        self.about.setText(
            in_words(sight, count) if sight is not None
            else "Finds every way out of the level, who sees whom, and what nobody sees. Kept until something that "
            "blocks sight moves."
        )  # fmt: skip
        self.ways.blockSignals(True)
        self.ways.clear()
        for gap in sight.leaks if sight is not None else ():
            wide = f"{gap.width:.2f} m" if gap.width >= 1 else f"{1e3 * gap.width:.3g} mm"
            beside = gap.nodes[0].rsplit("/", 1)[-1] if gap.nodes else "nothing near"
            self.ways.addItem(f"{wide} wide, beside {beside}")
        self.ways.blockSignals(False)
        self.ways.fit()
        self._tell_blockers(sight)
        self._tell_costs(sight)
        self._tell_unseen(looked)
        leaks = sight is not None and bool(sight.leaks)
        self.ways_title.setVisible(leaks)
        self.ways.setVisible(leaks)
        for part in (self.show_title, self.show_as, self.legend, self.unseen_title, self.unseen):
            part.setVisible(shown)
        if not shown:
            self.shows = AS_EVER
            self.show_as.set_current(AS_EVER)
        self._tell_legend()
        self.changed.emit()

    def _tell_box(self, now: Opened | None) -> None:
        """Whether there is a sky box, and what it counts as."""
        boxes = sky_boxes(now.level, now.scene) if now is not None else ()
        self.box_title.setVisible(bool(boxes))
        self.box.setVisible(bool(boxes))
        if now is not None and boxes:
            path = now.scene.node_names[boxes[0]]
            outside = now.scene.marks.nodes[boxes[0]].blocks_sight is False
            told = "counts as outside" if outside else "closes the level off; as outside, the walls have to"
            self.box_title.setText(f"The sky box {path.rsplit('/', 1)[-1]} {told}.")
            self.box.set_current(int(outside))

    def _tell_poses(self, now: Opened | None) -> None:
        """Whether there is anything that need not stay as it stands."""
        names = movable(now.scene) if now is not None else []
        self.poses_title.setVisible(bool(names))
        self.poses.setVisible(bool(names))
        some = ", ".join(n.rsplit("/", 1)[-1] for n in names[:3]) + (" …" if len(names) > 3 else "")
        self.poses_title.setText(f"May stand elsewhere: {some}")

    def _tell_blockers(self, sight: Sight | None) -> None:
        now = self._desk.level.now
        tried = spared.read_spared(now.project.folder) if now is not None else []
        self.through_words.setText("\n".join(spared.in_words(s) for s in tried[-3:]))
        self.through_words.setVisible(bool(tried))
        found = sight.blockers if sight is not None else ()
        self.blockers.clear()
        for b in found:
            words = f"{b.node.rsplit('/', 1)[-1]}: {short_count(b.triangles)} faces, hides {hidden_in_words(b.hides)}"
            if b.cells > 0:
                words += f", {b.cells} cells fewer"
            item = QListWidgetItem(words)
            item.setData(Qt.ItemDataRole.UserRole, b.node)
            item.setToolTip(f"{b.node}: saves {b.seconds:.2g} s of finding out who sees whom")
            self.blockers.addItem(item)
        self.blockers.fit()
        for part in (self.blockers_title, self.blockers, self.through):
            part.setVisible(bool(found))

    def _tell_costs(self, sight: Sight | None) -> None:
        costs, passing = (sight.costs[:MOST_COSTS], sight.passing) if sight is not None else ((), ())
        self._list(self.costs, costs, cost_in_words, "some {} rays end on it")
        self._list(self.passing, passing, passing_in_words, "no ray ends on it")
        for title, listing, found in (
            (self.costs_title, self.costs, costs), (self.passing_title, self.passing, passing)
        ):  # fmt: skip
            title.setVisible(bool(found))
            listing.setVisible(bool(found))
        self.back.setVisible(bool(passing))

    @staticmethod
    def _list(listing: Sentences, costs: Sequence[Cost], words: Callable[[Cost], str], rays: str) -> None:
        listing.blockSignals(True)
        listing.clear()
        for cost in costs:
            item = QListWidgetItem(words(cost))
            item.setData(Qt.ItemDataRole.UserRole, cost.node)
            item.setToolTip(f"{cost.node}: {cost.triangles:,} faces, {rays.format(short_count(cost.rays))}")
            listing.addItem(item)
        listing.blockSignals(False)
        listing.fit()

    def _tell_unseen(self, looked: Looked | None) -> None:
        now = self._desk.level.now
        self.bare.setVisible(False)
        self.lit.setVisible(now is not None and bool(now.project.brief.left_out))
        if looked is None:
            return
        scene, density, names = looked.now.scene, looked.now.project.recipe.texels_per_metre, looked.unseen
        area, texels = texels_of(scene, looked.hidden & ~looked.left, density)
        words = f"Nothing of what is baked{' but what is left out' if looked.left.any() else ''}."
        if names:
            some = ", ".join(n.rsplit("/", 1)[-1] for n in names[:3]) + (" …" if len(names) > 3 else "")
            takes = f"{short_count(texels)} texels, {looked.saves:.2g} s of a build"
            words = f"{area:,.0f} m² of what is baked, {takes}: {some}"
        if looked.left.any():
            words += f"\n{short_count(int(looked.left.sum()))} faces are left out."
        if looked.in_sight_again:
            words += f" {short_count(looked.in_sight_again)} of them can be seen now: leave out anew."
        changed = changed_since(scene, looked.now.project.brief)
        if changed:
            words += f"\n{changed[0].rsplit('/', 1)[-1]} has moved or changed, so nothing of it is left out."
        # What a door hides may be seen once it opens.
        certain = looked.any_pose or not movable(scene)
        if names and not certain:
            words += "\nChoose 'In any pose' to leave them out: what moves may show them."
        self.bare.setVisible(certain and (bool(names) or looked.in_sight_again > 0 or bool(changed)))
        self.unseen.setText(words)
        self.unseen.setToolTip("\n".join(names))

    def _tell_legend(self) -> None:
        self.legend.setText((
            "",
            "Plain: what can be seen from the cell in which you stood when you chose this. Barred: what nobody there "
            "can see. Fly out and look; choose it again to take another cell.",
            "Each cell by what is chosen above it: dark little, bright much. Point for numbers, click to stand there.",
        )[self.shows])  # fmt: skip
        self.legend.setVisible(self.shows != AS_EVER)

    # -- acts

    @property
    def way(self) -> np.ndarray | None:
        """(n, 3) the way out that is chosen, None for none."""
        row = self.ways.currentRow()
        leaks = self.looked.sight.leaks if self.looked is not None else ()
        return leaks[row].trail if 0 <= row < len(leaks) else None

    def _go(self, item: QListWidgetItem) -> None:
        if self.looked is not None:
            self.go_to.emit(self.looked.sight.leaks[self.ways.row(item)].place)

    def _show(self, shows: int) -> None:
        self.shows = shows
        self._tell_legend()
        if shows == FROM_HERE:
            self.from_here.emit()
        self.changed.emit()

    def _count_box(self, outside: int) -> None:
        now = self._desk.level.now
        if now is None:
            return
        paths = tuple(now.scene.node_names[n] for n in sky_boxes(now.level, now.scene))
        change = partial(with_marks, paths=paths, key="blocks_sight", value=False if outside else None)
        title = "Sky box counts as outside" if outside else "Sky box is a lid"
        self._desk.document.edit_brief(title, change)

    def _select(self, path: str) -> None:
        now = self._desk.level.now
        if now is not None and path in now.scene.node_names:
            self._desk.selection.select(now.scene.node_names.index(path))
            self._desk.commands.run("stage.focus")

    def _let_through(self) -> None:
        item = self.blockers.currentItem() or self.blockers.item(0)
        looked, now = self.looked, self._desk.level.now
        if item is None or looked is None or now is None:
            return
        path = item.data(Qt.ItemDataRole.UserRole)
        blocker = next(b for b in looked.sight.blockers if b.node == path)
        change = partial(with_marks, paths=(path,), key="blocks_sight", value=False)
        self._desk.document.edit_brief(f"Sight goes through {path.rsplit('/', 1)[-1]}", change)
        project = self._desk.document.project
        if project is not None and path in project.brief.marks and project.brief.marks[path].blocks_sight is False:
            before = [s for s in spared.read_spared(now.project.folder) if s.node != path]
            self._keep([*before, spared.sparing(blocker, looked.sight)])

    def _block_again(self) -> None:
        item = self.passing.currentItem() or self.passing.item(0)
        if item is not None:
            path = item.data(Qt.ItemDataRole.UserRole)
            change = partial(with_marks, paths=(path,), key="blocks_sight", value=None)
            self._desk.document.edit_brief(f"{short(path)} blocks sight again", change)

    def _no_lightmaps(self) -> None:
        if self.looked is not None:
            scene, faces = self.looked.now.scene, self.looked.hidden
            change = partial(with_left_out, scene=scene, faces=faces)
            self._desk.document.edit_brief("No lightmaps for what nobody sees", change)


def with_nothing_left_out(brief: Brief) -> Brief:
    """Every face has its lightmap again."""
    return replace(brief, left_out={})
