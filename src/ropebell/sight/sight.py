"""Who can see what in a level: sealed or not, cells, who sees whom, costly blockers, faces that nobody sees."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ropebell.digest import digest_of
from ropebell.errors import Stopped
from ropebell.level.brief import Brief, SightBox
from ropebell.level.model import F64, I32, U8, Level, Mask
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace
from ropebell.sight.blockers import Candidate, Cost, blockers_of
from ropebell.sight.cells import cells_of
from ropebell.sight.hull import closing
from ropebell.sight.mutual import who_sees_whom
from ropebell.sight.sealing import Flood
from ropebell.sight.survey import Sealing, blocks_sight, bodies_of, let_through, see_through, survey
from ropebell.sight.unseen import opens_view, unseen_faces
from ropebell.sight.walk import start_point

VERSION = 10
# With more cells than this, larger ones are taken: pairs grow with their square.
MOST_CELLS = 6000
# A box asks for no larger ones, metres.
COARSEST = 100.0
# Of all surfaces about one in so many is seen from inside.
SIDES = 4.0
# A place outside all cells is asked for by the cell nearest to it, if that is as near as so many of the smallest.
NEAREST = 2.0
# Shares of the time that the parts take, about.
FLOODED, SEEN = 0.4, 0.9


@dataclass(frozen=True, eq=False)
class Gap:
    """A leak.

    Attributes:
        trail: (n, 3) metres. place: (3,). width: metres. nodes: names of what stands round it.
    """

    trail: F64
    place: F64
    width: float
    nodes: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class Sight:
    """Who can see what.

    Attributes:
        sealed, open, decided: as of `Sealing`. leaks: the widest first.
        low, size: (3,) metres and metres of the grid of cells; number: (x, y, z) int32 cell of each place, −1 none.
        cell: metres, of the smallest cells where no box asks for finer ones.
        middles: (n, 3) metres. seen: (n, ceil(n / 8)) uint8, a bit for each pair of cells. narrow: (k,) cells that
            hardly fit where they are.
        beyond_seen: whether what is beyond the inside can be seen from there, through what keeps it in, as glass does.
        asked: (n,) float64 rays that each cell took; seconds: what all of it took. costs: of what blocks, the dearest
            first. passing: of what is let through, if it blocked. blockers: the best to leave out first.
        unseen: (T,) bool, faces nobody can see.
        hull: (nodes,) bool, objects without which the inside would open to the outside.
        seeing: seconds of who sees whom alone.
        inside: as of `Sealing`.
    """

    sealed: bool
    open: bool
    decided: bool
    leaks: tuple[Gap, ...]
    low: F64
    size: float
    number: I32
    middles: F64
    seen: U8
    narrow: I32
    asked: F64
    seconds: float
    costs: tuple[Cost, ...]
    passing: tuple[Cost, ...]
    blockers: tuple[Candidate, ...]
    unseen: NDArray[np.bool_]
    hull: NDArray[np.bool_]
    cell: float
    seeing: float
    beyond_seen: bool = False
    inside: bool = True

    @property
    def rays(self) -> int:
        """That it took to find out who sees whom."""
        return round(float(self.asked.sum()))

    @property
    def pairs(self) -> int:
        """Pairs of cells that see each other."""
        n = len(self.middles)
        return int((int(np.bitwise_count(self.seen).sum()) - n) // 2) if n else 0

    @property
    def share_seen(self) -> float:
        """Of all pairs of cells, those that see each other."""
        n = len(self.middles)
        return self.pairs / max(n * (n - 1) // 2, 1)

    def cell_of(self, place: F64) -> int:
        """The cell of a place or next to it, −1 for none."""
        index = np.floor((place - self.low) / self.size).astype(np.int64)
        if (index >= 0).all() and (index < np.array(self.number.shape)).all() and self.number[tuple(index)] >= 0:
            return int(self.number[tuple(index)])
        if not len(self.middles):
            return -1
        held = np.argwhere(self.number >= 0)
        gap = np.maximum(np.abs(held + 0.5 - (place - self.low) / self.size) - 0.5, 0.0)
        far = np.linalg.norm(gap, axis=1)
        return int(self.number[tuple(held[far.argmin()])]) if far.min() * self.size <= NEAREST * self.cell else -1

    def sees(self, a: F64, b: F64) -> bool:
        """Whether from the cell of one place anything of another's can be seen; where that is not known, it can.

        What is inside sees nothing of what is not, as long as the level is sealed and has no windows.
        """
        p, q = self.cell_of(a), self.cell_of(b)
        if p < 0 or q < 0:
            return p == q or not self.sealed or self.beyond_seen
        return bool(self.seen[p, q >> 3] >> (7 - (q & 7)) & 1)

    def row(self, cell: int) -> NDArray[np.bool_]:
        """(n,) cells that one sees."""
        return np.unpackbits(self.seen[cell], count=len(self.middles)).astype(np.bool_)


def digest_of_sight(level: Level, scene: Scene, brief: Brief, cell: float, meant_sealed: bool) -> str:
    """Names what it depends on: what blocks, where the inside is, how large cells are; no light, density or colour."""
    moving = [m.role == "moving" for m in scene.marks.nodes]
    return digest_of(
        "sight", VERSION, scene.corners, scene.node, blocks_sight(scene), see_through(level, scene),
        start_point(level, scene, brief), sorted(brief.probes.placed.items()), moving,
        scene.double_sided, list(scene.node_names), cell, meant_sealed,
        [[*box.low, *box.high, box.cell] for box in brief.sight_boxes],
    )  # fmt: skip


def look(
    level: Level, scene: Scene, brief: Brief, cell: float, workers: int, meant_sealed: bool = False,
    tick: Callable[[float], None] = lambda _: None,
) -> Sight:  # fmt: skip
    """Find out all of it.

    Args:
        scene: all its triangles, in the poses they have. cell: metres, side of the smallest cells, at least.
        tick: called with the share done, may raise `Stopped`.
    """
    begin = time.perf_counter()
    found = survey(level, scene, brief, meant_sealed, lambda share: tick(FLOODED * share))
    gaps = tuple(
        Gap(leak.trail, leak.place, leak.width, tuple(scene.node_names[n] for n in nodes))
        for leak, nodes in zip(found.leaks, found.nodes)
    )
    if found.flood is None:
        nothing = np.zeros(0, np.int32)
        return Sight(
            found.sealed, found.open, found.decided, gaps, np.zeros(3), cell, np.full((1, 1, 1), -1, np.int32),
            np.zeros((0, 3)), np.zeros((0, 0), np.uint8), nothing, np.zeros(0), time.perf_counter() - begin, (), (), (),
            np.zeros(len(scene), np.bool_), np.zeros(len(scene.node_names), np.bool_), cell,
            0.0, inside=found.inside,
        )  # fmt: skip
    return _seen(found, gaps, scene, see_through(level, scene), cell, brief.sight_boxes, workers, begin, tick)


def _seen(
    found: Sealing, gaps: tuple[Gap, ...], scene: Scene, glass: Mask, cell: float,
    finer: tuple[SightBox, ...], workers: int, begin: float, tick: Callable[[float], None],
) -> Sight:  # fmt: skip
    assert found.flood is not None
    solid = blocks_sight(scene)
    corners = scene.corners[solid]
    # Most cells lie along surfaces: of large levels it is plain before any is made that they are too many.
    wider = max(np.sqrt(float(scene.areas[solid].sum()) / SIDES / cell**2 / MOST_CELLS), 1.0)
    while True:
        cell *= wider
        finer = tuple(replace(box, cell=min(wider * box.cell, COARSEST)) for box in finer)
        cells = cells_of(found.flood, corners, cell, finer)
        if len(cells) <= MOST_CELLS:
            break
        wider = max(1.02 * np.sqrt(len(cells) / MOST_CELLS), 1.1)
    hiding, stopped = solid & ~glass, threading.Event()
    space = RaySpace(scene.corners[hiding])
    with ThreadPoolExecutor(1) as pool:
        # Of one thread, while others ask who sees whom.
        beside = pool.submit(_kept_in, scene, solid, glass, found.flood, stopped)
        started = time.perf_counter()
        try:
            mutual = who_sees_whom(cells, space, workers, lambda share: tick(FLOODED + (SEEN - FLOODED) * share))
        except BaseException:
            stopped.set()
            raise
        took = time.perf_counter() - started
        hull, unseen, beyond_seen = beside.result()
    costs, passing, blockers = blockers_of(
        scene, solid, hiding, hull, let_through(scene), mutual, lambda share: tick(SEEN + (1 - SEEN) * share)
    )  # fmt: skip
    return Sight(
        found.sealed, found.open, found.decided, gaps, cells.low, cells.size, cells.number, cells.middles, mutual.seen,
        cells.narrow.astype(np.int32), mutual.asked, time.perf_counter() - begin, tuple(costs), tuple(passing),
        tuple(blockers), unseen, hull, cell, took, beyond_seen,
    )  # fmt: skip


def _kept_in(
    scene: Scene, solid: Mask, glass: Mask, flooded: Flood, stopped: threading.Event
) -> tuple[Mask, Mask, bool]:  # fmt: skip
    """Pieces of the hull, faces that nobody can see, and whether what is beyond the inside can be seen."""

    def tick() -> None:
        if stopped.is_set():
            raise Stopped()

    hull, bodies = closing(scene, solid, flooded), bodies_of(scene, solid)
    beyond_seen = opens_view(scene, solid & glass, flooded, bodies)
    return hull, unseen_faces(scene, flooded, bodies if beyond_seen else None, tick), beyond_seen
