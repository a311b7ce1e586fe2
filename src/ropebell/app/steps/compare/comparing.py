"""Which two builds are compared, what came of it, and what would shorten the builds of this level."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from ropebell.app.desk import Desk
from ropebell.app.reading import Opened
from ropebell.app.stage.backdrop import backdrop_of
from ropebell.app.stage.drawn import Charted, vertex_table
from ropebell.app.stage.picture import StagePicture
from ropebell.build.knots import Knot
from ropebell.build.manifest import Manifest, read_manifest
from ropebell.build.remedied import changed_by
from ropebell.build.result import Result, open_result
from ropebell.compare.advice import Advice, advise
from ropebell.compare.advised import Taken, judged, learned, not_undone, read_taken, taking, write_taken
from ropebell.compare.apart import one_at_a_time
from ropebell.compare.candidates import edited
from ropebell.compare.causes import Causes, causes
from ropebell.compare.compare import Comparison, compare
from ropebell.compare.layers import NOT_THERE, layers
from ropebell.compare.ledger import Ledger
from ropebell.compare.light import light_difference
from ropebell.errors import RopeBellError, step, why
from ropebell.level.model import F64
from ropebell.light.rays import RaySpace

MOST_WORST, APART = 8, 1.0
# No path of an object begins so.
SPOT = "/spot"


@dataclass(frozen=True, eq=False)
class Compared:
    """Two builds.

    Attributes:
        numbers: of A and B. comparison: all of it. picture: B's level with the light of both. worst: where they differ
            most beyond noise: place, object, lux in A and in B.
    """

    numbers: tuple[int, int]
    comparison: Comparison
    picture: StagePicture
    worst: tuple[tuple[F64, str, float, float], ...]


def compared(numbers: tuple[int, int], a: Path, b: Path, project: Any) -> Compared:
    """Compare two builds and make the picture, on any thread.

    Raises:
        ProjectError, LevelError, UsageError: they cannot be compared.
    """
    comparison = compare(a, b)
    on_b = comparison.light
    if on_b.on_a:
        on_b = light_difference(comparison.a, comparison.b, on_a=False)
    found = layers(on_b)
    margin = np.where(found.both > NOT_THERE, found.margin, -1.0)
    other = np.concatenate([found.a, margin], axis=3).astype(np.float32)
    title = f"Builds {numbers[0]} and {numbers[1]}"
    picture = replace(_picture(comparison.b, project, comparison.ledgers[1]), other=other, title=title)
    light = comparison.light
    spots = light.places.position(light.base.scene.corners)
    scene, worst = light.base.scene, dict[str, tuple[F64, str, float, float]]()
    for row in light.worst(4 * MOST_WORST, APART):
        # Of each object the worst place: of a large one many are alike.
        name = scene.node_names[scene.node[light.places.triangle[row]]]
        worst.setdefault(name, (spots[row], name, float(light.a[row]), float(light.b[row])))
    places = tuple(worst.values())[:MOST_WORST]
    return Compared(numbers, comparison, picture, places)


def _picture(result: Result, project: Any, spent: Ledger) -> StagePicture:
    """A build on the level that it left in its folder; where density stands else, what each object's surface cost."""
    space = RaySpace(result.scene.corners)
    charted = Charted(result.uv, result.page, result.total.shape[1])
    vertices = vertex_table(result.scene, space, charted, _cost(result, spent))
    bare = StagePicture(result.level, result.scene, space, vertices, charted)
    sky = result.manifest.brief.sky_now
    file = project.beside(sky.picture) if sky.picture else None
    bare = replace(bare, sky=backdrop_of(sky, file, result.manifest.sky), noise=result.noise)
    return bare.lit(result.total, result.direct)


def _cost(result: Result, spent: Ledger) -> F64:
    """(T,) time per square metre of each triangle's object, over the mean of all."""
    scene, seconds = result.scene, dict(spent.by("object", of_all=False))
    areas = np.bincount(scene.node, scene.areas, len(scene.node_names))
    each = np.array([seconds.get(name, 0.0) for name in scene.node_names])
    mean = max(float(each.sum()), 1e-12) / max(float(areas.sum()), 1e-12)
    found: F64 = (each / np.maximum(areas, 1e-12) / mean)[scene.node]
    return found


class Comparing(QObject):
    """The pair, and the advice.

    Attributes:
        pair: numbers of A and B, 0 for none. found: what came of it, None until then. trouble: why nothing did.
        on: what `shares` of the difference are of: an object's path, `SPOT`, or empty for the whole level.
        spot: (3,) metres, the place that was clicked last, None for none. busy: whether it is being compared.
        advice: None until it was asked for. taken: advice that was taken.

    Signals:
        changed: any of that is new.
    """

    changed = pyqtSignal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self._desk = desk
        self.pair = (0, 0)
        self.found: Compared | None = None
        self.trouble = self.on = ""
        self.shares: Causes | None = None
        self.spot: F64 | None = None
        self.busy = self.advising = False
        self.advice: list[Advice] | None = None
        self.advised_on = 0
        self.taken: list[Taken] = []
        desk.level.opened.connect(self._opened)
        desk.rope.builds_changed.connect(self._builds_changed)
        desk.document.edited.connect(self._forget_undone)

    def _opened(self) -> None:
        self.pair, self.found, self.trouble, self.advice = (0, 0), None, "", None
        self.busy = self.advising = False
        now = self._desk.level.now
        self.taken = read_taken(now.project.folder) if now is not None else []
        self.changed.emit()

    def _builds_changed(self) -> None:
        done = self._desk.rope.finished
        if any(number and number not in done for number in self.pair):
            self.pair, self.found = (0, 0), None
        self._judge()
        self.changed.emit()

    @property
    def offered(self) -> list[Advice] | None:
        """The advice that is not taken yet, None until it was asked for."""
        open_ = {t.title for t in self.taken if t.actual is None}
        return None if self.advice is None else [a for a in self.advice if a.title not in open_]

    def _forget_undone(self) -> None:
        now, project = self._desk.level.now, self._desk.document.project
        if now is None or project is None:
            return
        left = not_undone(self.taken, project.brief, project.recipe)
        if len(left) < len(self.taken):
            self.taken = left
            self._keep(now)
            self.changed.emit()

    def _judge(self) -> None:
        """Hold what was foretold of advice against the builds since then."""
        open_ = [t for t in self.taken if t.actual is None]
        done = [k for k in self._desk.rope.knots if k.outcome.state == "done"]
        now = self._desk.level.now
        if not open_ or not done or done[-1].number <= max(t.build for t in open_) or now is None:
            return
        before = next((k for k in done if k.number == open_[0].build), None)
        manifest, last = _manifest(before), _manifest(done[-1])
        if last is not None:
            told = judged(self.taken, manifest, done[-1].number, last)
            if told != self.taken:
                self.taken = told
                self._keep(now)

    def _keep(self, now: Opened) -> None:
        try:
            write_taken(now.project.folder, self.taken)
        except OSError as error:
            self._desk.tell(f"What advice saved cannot be kept: {why(error)}. {step(error)}.", "advice")

    def choose(self, a: int, b: int) -> None:
        """Compare two builds, by number."""
        knots = {k.number: k for k in self._desk.rope.knots if k.outcome.state == "done"}
        now = self._desk.level.now
        if now is None or a not in knots or b not in knots or (self.busy and self.pair == (a, b)):
            return
        self.pair, self.found, self.trouble, self.busy = (a, b), None, "", True
        self.on, self.shares, self.spot = "", None, None
        first, second, project = knots[a].folder, knots[b].folder, now.project

        def work() -> Compared | str:
            try:
                return compared((a, b), first, second, project)
            except RopeBellError as error:
                return str(error)

        def receive(found: Compared | str) -> None:
            self.busy = False
            if isinstance(found, str):
                self.trouble = found
            elif found.numbers == self.pair:
                self.found = found
            self.changed.emit()

        self._desk.jobs.start("compare", work, receive)
        self.changed.emit()

    def share_on(self, path: str) -> None:
        """Share the difference on one object, or on the spot, out among its causes; empty: on all of the level again.

        Args:
            path: of the object, or `SPOT`.
        """
        found = self.found
        self.on, self.shares = path, None
        if found is None or not path:
            self.changed.emit()
            return
        c, spot = found.comparison, self.spot
        scene, places = c.light.base.scene, c.light.places

        def work() -> Causes:
            if path == SPOT:
                assert spot is not None
                far = np.linalg.norm(places.position(scene.corners) - spot, axis=1)
                # The texel that one clicked on, if both builds have such a place.
                only = np.arange(len(places)) == int(np.where(c.light.there, far, np.inf).argmin())
            else:
                only = np.array([name == path for name in scene.node_names])[scene.node][places.triangle]
            return causes(c.a, c.b, c.light, c.changes, only)

        def receive(shares: Causes) -> None:
            if self.on == path:
                self.shares = shares
                self.changed.emit()

        self._desk.jobs.start("causes", work, receive)
        self.changed.emit()

    def build_apart(self) -> None:
        """Let the queue build A with one change of B at a time.

        Raises:
            ProjectError: a build's journal does not say what was built.
        """
        found, queue = self.found, self._desk.queue
        if found is None:
            return
        c = found.comparison
        apart = one_at_a_time(c.a.folder, c.b.folder, c.changes)
        for name, request in apart.requests:
            queue.add_made(f"Build {found.numbers[0]} with {name}", request)
        left = ", ".join(apart.not_so)
        words = f"{len(apart.requests)} builds of A with one change each are queued."
        if left:
            words += f" In the level's own file, and so not built apart: {left}."
        self._desk.telling.news(words)
        if apart.requests and not queue.on:
            queue.switch()

    # -- advice

    def ask_advice(self) -> None:
        """Find out what would shorten the builds, by the newest finished build of everything."""
        now, rope = self._desk.level.now, self._desk.rope
        whole = [k for k in rope.knots if k.outcome.state == "done" and not k.scope and not k.whose]
        if now is None or not whole or self.advising:
            return
        knot, rates, gain = whole[-1], rope.rates, learned(self.taken)
        self.advising, self.advised_on = True, knot.number

        def work() -> list[Advice] | str:
            try:
                return advise(now.project, now.gathered, open_result(knot.folder), rates, gain)
            except RopeBellError as error:
                return str(error)

        def receive(found: list[Advice] | str) -> None:
            self.advising = False
            if isinstance(found, str):
                self._desk.tell(f"No advice can be given: {found}", "advice")
            else:
                self.advice = found
            self.changed.emit()

        self._desk.jobs.start("advice", work, receive)
        self.changed.emit()

    def take(self, advice: Advice) -> None:
        """Write an advice into the project, as one edit that can be undone."""
        now, document = self._desk.level.now, self._desk.document
        if now is None or document.project is None or self.advice is None:
            return
        before, made = document.project, edited(document.project, advice.edit)
        document.edit_all(f"Advice: {advice.title}", made.brief, made.recipe)
        changed = changed_by((before.brief, before.recipe), (made.brief, made.recipe))
        self.taken = [*self.taken, taking(advice, self.advised_on, changed)]
        self._keep(now)
        self.changed.emit()


def _manifest(knot: Knot | None) -> Manifest | None:
    if knot is None:
        return None
    try:
        return read_manifest(knot.folder)
    except RopeBellError:
        return None
