"""The floors that players can walk on from where they start.

A grid of columns is cast from above through all storeys: every upward face with head room is a floor. From the start,
a step leads to the next column if the floors differ by no more than a step and nothing stands between at knee and
chest height.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.level.brief import Box, Brief
from ropebell.level.model import F64, I32, I64, Level
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace

CELL = 0.3
MOST_COLUMNS = 40_000
MOST_STOREYS = 12
STEP, HEAD_ROOM, EYE = 0.45, 1.7, 1.6
DROP = 1.2  # players may jump down this far
FLOOR_NORMAL = 0.7
KNEE, CHEST = 0.55, 1.3
START_NAMES = re.compile(r"(^|[\W_])(start|spawn)", re.IGNORECASE)
MARGIN = 0.5


@dataclass(frozen=True, eq=False)
class Walkable:
    """Floors that can be walked from the start; n of them.

    Attributes:
        floors: (n, 3) float64 points on the floor, one per column and storey.
        cell: side of a column in metres.
        start: where the walk began, on the floor.
    """

    floors: F64
    cell: float
    start: tuple[float, float, float]

    @property
    def eyes(self) -> F64:
        """(n, 3) where a player's eye is."""
        return self.floors + [0.0, EYE, 0.0]


def start_point(level: Level, scene: Scene, brief: Brief) -> tuple[float, float, float] | None:
    """Where players begin: as set, else a node named so, else None."""
    if brief.region.start is not None:
        return brief.region.start
    for index, node in enumerate(level.nodes):
        if START_NAMES.search(node.name) and node.mesh < 0 and node.light < 0 and index < len(scene.node_world):
            x, y, z = (float(v) for v in node.world[:3, 3])
            return (x, y, z)
    return None


def walkable(scene: Scene, space: RaySpace, start: tuple[float, float, float]) -> Walkable:
    """Find every floor that can be reached on foot from `start`.

    Args:
        scene: what the rays of `space` meet.
    """
    low, high = scene.bounds()
    span = high - low
    if span.max() < HEAD_ROOM:
        return Walkable(np.zeros((0, 3)), CELL, start)  # too small to stand in
    cell = max(CELL, float(np.sqrt(max(span[0] * span[2], 1e-9) / MOST_COLUMNS)))
    shape = (int(span[0] / cell) + 1, int(span[2] / cell) + 1)
    # Columns stand so that one is right under the start.
    origin = np.array(
        [start[0] - np.floor((start[0] - low[0]) / cell) * cell, start[2] - np.floor((start[2] - low[2]) / cell) * cell]
    )
    column, height = _floors(scene, space, origin, cell, shape, float(high[1]))
    if not len(column):
        return Walkable(np.zeros((0, 3)), cell, start)
    reached = _reach(space, column, height, origin, cell, shape, start)
    x = origin[0] + (column[reached] // shape[1]) * cell
    z = origin[1] + (column[reached] % shape[1]) * cell
    return Walkable(np.stack([x, height[reached], z], axis=1), cell, start)


def _floors(
    scene: Scene, space: RaySpace, origin: F64, cell: float, shape: tuple[int, int], top: float
) -> tuple[I32, F64]:
    """Column number and height of every floor with head room, by column and from the top down."""
    count = shape[0] * shape[1]
    number = np.arange(count, dtype=np.int32)
    x = origin[0] + (number // shape[1]) * cell
    z = origin[1] + (number % shape[1]) * cell
    height = np.full(count, top + 1.0)
    columns, floors = [], []
    ceiling = np.full(count, np.inf)
    for _ in range(MOST_STOREYS * 2):
        if not len(number):
            break
        at = np.stack([x[number], height, z[number]], axis=1) - space.centre
        down = np.repeat(np.array([[0, -1, 0]], np.float32), len(number), axis=0)
        start = at.astype(np.float32)
        hit, far = space.nearest(start, down)
        struck = hit >= 0
        number, height, ceiling = number[struck], (height - far)[struck], ceiling[struck]
        up = scene.face_normals[hit[struck], 1]
        open_ = (up > FLOOR_NORMAL) & (ceiling - height > HEAD_ROOM)
        columns.append(number[open_])
        floors.append(height[open_])
        ceiling = height.copy()
        height = height - 1e-3
    if not columns:
        return np.zeros(0, np.int32), np.zeros(0)
    column, floor = np.concatenate(columns), np.concatenate(floors)
    order = np.lexsort((-floor, column))
    return column[order].astype(np.int32), floor[order]


def _reach(
    space: RaySpace, column: I32, height: F64, origin: F64, cell: float, shape: tuple[int, int],
    start: tuple[float, float, float],
) -> NDArray[np.int64]:  # fmt: skip
    """Indices of the floors that a walk from the start reaches."""
    first = np.searchsorted(column, np.arange(shape[0] * shape[1] + 1))
    a, b = _links(space, column, height, first, origin, cell, shape)
    away = np.abs(origin[0] + (column // shape[1]) * cell - start[0]) + np.abs(
        origin[1] + (column % shape[1]) * cell - start[2]
    )
    rise = height - start[1]
    # Not onto a roof that lies above the start: nobody steps up that far.
    cost = np.where((rise <= STEP) & (rise >= -DROP), away + 2.0 * np.abs(rise), np.inf)
    begin = int(np.argmin(cost))
    if away[begin] > 4 * cell or not np.isfinite(cost[begin]):
        return np.zeros(0, np.int64)  # nobody can stand where the start is
    from scipy.sparse import coo_matrix  # slow to load, and only wanted here
    from scipy.sparse.csgraph import breadth_first_order

    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(len(column), len(column))).tocsr()
    return np.sort(breadth_first_order(graph, begin, directed=True, return_predecessors=False)).astype(np.int64)


def _links(
    space: RaySpace, column: I32, height: F64, first: I64, origin: F64, cell: float, shape: tuple[int, int]
) -> tuple[I64, I64]:
    """Pairs of floors, the second of which one step from the first leads to."""
    froms, tos = [], []
    # Two columns at a time as well: a crack in the floor is stepped over.
    for dx, dz in ((1, 0), (0, 1), (-1, 0), (0, -1), (2, 0), (0, 2), (-2, 0), (0, -2)):
        cx, cz = column // shape[1] + dx, column % shape[1] + dz
        there = np.where((cx >= 0) & (cx < shape[0]) & (cz >= 0) & (cz < shape[1]), cx * shape[1] + cz, -1)
        rows = np.flatnonzero(there >= 0)
        for storey in range(MOST_STOREYS):
            at = first[there[rows]] + storey
            rows, at = rows[at < first[there[rows] + 1]], at[at < first[there[rows] + 1]]
            rise = height[at] - height[rows]
            ok = (rise <= STEP) & (rise >= -DROP)
            froms.append(rows[ok])
            tos.append(at[ok])
    a, b = np.concatenate(froms), np.concatenate(tos)
    free = _unblocked(space, column, height, a, b, origin, cell, shape)
    return a[free], b[free]


def _unblocked(
    space: RaySpace, column: I32, height: F64, a: I64, b: I64, origin: F64, cell: float, shape: tuple[int, int]
) -> NDArray[np.bool_]:
    def point(rows: I64, base: F64, up: float) -> F64:
        x = origin[0] + (column[rows] // shape[1]) * cell
        z = origin[1] + (column[rows] % shape[1]) * cell
        return np.stack([x, base + up, z], axis=1) - space.centre

    base = np.maximum(height[a], height[b])
    free = np.ones(len(a), np.bool_)
    for up in (KNEE, CHEST):
        start, end = point(a, base, up), point(b, base, up)
        run = (end - start).astype(np.float32)
        free &= ~space.blocked(start.astype(np.float32), run, np.ones(len(a), np.float32))
    return free


def proposed_boxes(found: Walkable, most: int = 6) -> tuple[Box, ...]:
    """A few tight boxes round the walkable floors and what a player can touch from them.

    One box is cut in two wherever that saves the most room, up to `most` boxes, as long as it saves a tenth.
    """
    if not len(found.floors):
        return ()
    groups = [found.floors]
    while len(groups) < most:
        best: tuple[float, int, F64, F64] | None = None
        whole = sum(_volume(g) for g in groups)
        for index, group in enumerate(groups):
            for left, right in _cuts(group):
                saved = _volume(group) - _volume(left) - _volume(right)
                if best is None or saved > best[0]:
                    best = (saved, index, left, right)
        if best is None or best[0] < 0.1 * whole:
            break
        groups[best[1] : best[1] + 1] = [best[2], best[3]]
    return tuple(_box(g, found.cell) for g in groups)


def _cuts(points: F64) -> list[tuple[F64, F64]]:
    cuts = []
    for axis in range(3):
        values = np.unique(np.round(points[:, axis], 2))
        for at in (
            values[np.linspace(1, len(values) - 1, min(len(values) - 1, 24)).astype(int)] if len(values) > 1 else ()
        ):
            left = points[:, axis] < at - 1e-6
            if left.any() and not left.all():
                cuts.append((points[left], points[~left]))
    return cuts


def _volume(points: F64) -> float:
    size = points.max(axis=0) - points.min(axis=0) + [2 * MARGIN, HEAD_ROOM + 1.0, 2 * MARGIN]
    return float(size.prod())


def _box(points: F64, cell: float) -> Box:
    low = points.min(axis=0) - [MARGIN + cell / 2, 0.2, MARGIN + cell / 2]
    high = points.max(axis=0) + [MARGIN + cell / 2, 2.6, MARGIN + cell / 2]
    a, b = (np.round(v, 2).tolist() for v in (low, high))
    return Box((a[0], a[1], a[2]), (b[0], b[1], b[2]))
