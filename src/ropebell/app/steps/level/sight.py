"""Leaks and sight before a build: the ways out, what is seen from where, what need not block, what nobody sees."""

from __future__ import annotations

import threading
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QWidget

from ropebell.app.desk import Desk
from ropebell.app.parts import Choice, Sentences, button, label, rows_in
from ropebell.app.reading import Opened
from ropebell.app.words import short_count
from ropebell.build.sighting import in_words, known_sight, sight_of, unseen_of
from ropebell.build.store import Store
from ropebell.checks.remedies import with_marks
from ropebell.errors import RopeBellError, Stopped
from ropebell.level.model import I64
from ropebell.level.scene import Scene
from ropebell.light.workers import cores
from ropebell.sight.in_sight import InSight
from ropebell.sight.sight import Sight
from ropebell.sight.sky_box import sky_boxes

# What the stage shows: as ever, what is seen from where the eye is, or cells in plan.
AS_EVER, FROM_HERE, MAP = range(3)
# Objects that nobody sees get no lightmaps: they block and bounce light as before.
NO_LIGHTMAP = "blocks"


@dataclass(frozen=True, eq=False)
class Looked:
    """What is known of a level's sight.

    Attributes:
        inside: faces by cells. faces: (n,) how many can be seen from each cell. unseen: paths of baked objects that
            nobody can see any face of.
    """

    now: Opened
    sight: Sight
    inside: InSight
    faces: I64
    unseen: tuple[str, ...]

    @staticmethod
    def of(now: Opened, sight: Sight) -> Looked:
        """All that the window shows of it."""
        scene = now.scene
        inside = InSight.of(sight, scene)
        return Looked(now, sight, inside, inside.face_counts(), unseen_objects(sight, scene))


def ground_of(now: Opened) -> tuple[Any, ...]:
    """What sight depends on, quickly compared: lights, colours and densities are none of it."""
    brief = now.project.brief
    places = tuple(sorted(brief.probes.placed.items()))
    cell = now.project.recipe.sight.cell
    return id(now.scene.corners), now.scene.marks.nodes, brief.region.start, places, brief.sealed, cell


def unseen_objects(sight: Sight, scene: Scene) -> tuple[str, ...]:
    """Paths of objects that have a lightmap though nobody can see any face of them."""
    if sight.open or not len(sight.middles):
        return ()
    seen = np.bincount(scene.node, ~sight.unseen, len(scene.node_names)) > 0
    baked = np.zeros(len(scene.node_names), np.bool_)
    mapped = np.ones(len(scene), np.bool_) if not len(scene.part) else scene.part.copy()
    if len(scene.bare):
        mapped &= ~scene.bare
    baked[scene.node[mapped]] = True
    return tuple(scene.node_names[n] for n in np.flatnonzero(baked & ~seen))


class SightPanel(QWidget):
    """What is found, with the acts that follow from it.

    Attributes:
        looked: what is known of the level as it stands, None for nothing. shows: one of `AS_EVER`, `FROM_HERE`, `MAP`.

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
        self._stop: threading.Event | None = None
        rows = rows_in(self, scrolled=True)
        self.about = label("")
        self.look = button("Look for leaks and sight", "main")
        self.box_title, self.box = label("", "second"), Choice(["A lid", "Outside"], "The sky box counts as")
        self.ways_title, self.ways = label("Ways out", "heading"), Sentences("Ways out", 160)
        self.show_title, self.show_as = (
            label("On the stage", "heading"),
            Choice(["As ever", "From here", "Map"], "Show"),
        )
        self.legend = label("", "second")
        self.blockers_title = label("Need not block sight", "heading")
        self.blockers, self.through = QListWidget(), button("Let sight through")
        self.blockers.setAccessibleName("Objects that need not block sight")
        self.unseen_title, self.unseen = label("Seen by nobody", "heading"), label("", "second")
        self.bare = button("No lightmaps for these")
        for part in (
            self.about, self.box_title, self.box, self.look, self.ways_title, self.ways, self.show_title,
            self.show_as, self.legend, self.blockers_title, self.blockers, self.through, self.unseen_title, self.unseen,
            self.bare,
        ):  # fmt: skip
            rows.addWidget(part)
        rows.addStretch(1)
        self.show_as.set_current(AS_EVER)
        self.look.clicked.connect(self._look)
        self.box.chosen.connect(self._count_box)
        self.ways.itemClicked.connect(self._go)
        self.ways.currentRowChanged.connect(lambda _: self.changed.emit())
        self.show_as.chosen.connect(self._show)
        self.blockers.itemClicked.connect(lambda item: self._select(item.data(Qt.ItemDataRole.UserRole)))
        self.through.clicked.connect(self._let_through)
        self.bare.clicked.connect(self._no_lightmaps)
        self._came.connect(lambda share: self.look.setText(f"Stop   {100 * share:.0f} %"))
        desk.level.follow(self.refresh)
        # A build may have looked into it meanwhile.
        desk.rope.builds_changed.connect(self.refresh)

    def refresh(self) -> None:
        """Find out whether the level as it stands was looked into before."""
        now = self._desk.level.now
        if self.looked is not None and now is not None and ground_of(self.looked.now) == ground_of(now):
            return
        if not self.isVisible():
            return  # it is asked for again when it is shown
        self.looked = None
        self._tell()
        self._tell_box(now)
        if now is None or self._stop is not None:
            return

        def work() -> Looked | None:
            known = known_sight(now.gathered.subject, now.project.recipe.sight.cell, Store(now.project.cache))
            return Looked.of(now, known) if known is not None else None

        self._desk.jobs.start("known sight", work, self._receive)

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        self.refresh()

    def _receive(self, looked: Looked | None) -> None:
        now = self._desk.level.now
        if looked is not None and now is not None and ground_of(looked.now) == ground_of(now):
            self.looked = looked
        self._tell()

    def _look(self) -> None:
        now = self._desk.level.now
        if self._stop is not None:
            self._stop.set()
            return
        if now is None:
            return
        self._stop = stop = threading.Event()
        recipe, store = now.project.recipe, Store(now.project.cache)

        def tick(share: float) -> None:
            if stop.is_set():
                raise Stopped()
            self._came.emit(share)

        def work() -> Looked | str:
            try:
                workers = recipe.limits.workers or cores()
                return Looked.of(now, sight_of(now.gathered.subject, recipe.sight.cell, workers, store, tick)[0])
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
            in_words(sight) if sight is not None
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

    def _tell_blockers(self, sight: Sight | None) -> None:
        found = sight.blockers if sight is not None else ()
        self.blockers.clear()
        for b in found:
            words = f"{b.node.rsplit('/', 1)[-1]}   {short_count(b.triangles)} triangles, hides {100 * b.hides:.2g} %"
            item = QListWidgetItem(words)
            item.setData(Qt.ItemDataRole.UserRole, b.node)
            item.setToolTip(f"{b.node}: saves {b.seconds:.2g} s of finding out who sees whom")
            self.blockers.addItem(item)
        self.blockers.setFixedHeight(min(len(found), 8) * max(self.blockers.sizeHintForRow(0), 1) + 6)
        for part in (self.blockers_title, self.blockers, self.through):
            part.setVisible(bool(found))

    def _tell_unseen(self, looked: Looked | None) -> None:
        self.bare.setVisible(looked is not None and bool(looked.unseen))
        if looked is None:
            return
        now, names = looked.now, looked.unseen
        area, texels = unseen_of(looked.sight, now.scene, now.project.recipe.texels_per_metre)
        words = f"{area:,.0f} m² of what is baked, {short_count(texels)} texels."
        if names:
            some = ", ".join(n.rsplit("/", 1)[-1] for n in names[:3]) + (" …" if len(names) > 3 else "")
            words += f" Of {len(names)} object{'s' if len(names) > 1 else ''} nobody sees anything: {some}"
        self.unseen.setText(words)
        self.unseen.setToolTip("\n".join(names))

    def _tell_legend(self) -> None:
        self.legend.setText((
            "",
            "Plain: what can be seen from the cell in which you stood when you chose this. Barred: what nobody there "
            "can see. Fly out and look; choose it again to take another cell.",
            "Each cell by how many others it sees: dark few, bright many. Point for numbers, click to stand there.",
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
        if item is not None:
            path = item.data(Qt.ItemDataRole.UserRole)
            change = partial(with_marks, paths=(path,), key="blocks_sight", value=False)
            self._desk.document.edit_brief(f"Sight goes through {path.rsplit('/', 1)[-1]}", change)

    def _no_lightmaps(self) -> None:
        if self.looked is not None:
            change = partial(with_marks, paths=self.looked.unseen, key="role", value=NO_LIGHTMAP)
            self._desk.document.edit_brief("No lightmaps for what nobody sees", change)
