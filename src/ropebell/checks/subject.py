"""What the checks look at."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ropebell.level.brief import NO_BRIEF, Brief
from ropebell.level.emitter_table import EmissionSource, EmitterTable
from ropebell.level.model import F64, Level
from ropebell.level.scene import Scene, taking_part
from ropebell.level.triangles import bounds_by
from ropebell.level.welded import Welded
from ropebell.light.rays import RaySpace
from ropebell.sight.hull import hull_pieces
from ropebell.sight.sight import Sight
from ropebell.sight.walk import Walkable, start_point, walkable

Place = tuple[float, float, float]
# Upright faces are counted by their angle in such steps, degrees; the level keeps to one if so much of them does.
FRAME_STEP, FRAME_SHARE = 0.02, 0.4


@dataclass(frozen=True, eq=False)
class Subject:
    """A level with all decisions about it.

    Attributes:
        level: as arranged. scene: all its triangles and lights.
        space: the triangles that take part in a build, to shoot at.
        texels_per_metre, page_size, padding: of the recipe, without its draft factor.
        sky: uniform radiance in cd/m².
        emission: who says how strongly each material glows.
        tables: emitter tables that were read. troubles: sentences on files that could not be.
        sky_trouble: why the picture of its sky cannot be read; empty where it can.
        looked_into: what is known of who sees whom in a level, None for nothing.
    """

    level: Level
    scene: Scene
    brief: Brief = NO_BRIEF
    texels_per_metre: float = 10.0
    page_size: int = 1024
    padding: int = 2
    sky: Place = (0.0, 0.0, 0.0)
    emission: dict[str, EmissionSource] = field(default_factory=dict)
    tables: tuple[EmitterTable, ...] = ()
    troubles: tuple[str, ...] = ()
    sky_trouble: str = ""
    looked_into: Callable[[Subject], Sight | None] = lambda _: None

    @cached_property
    def baking(self) -> Scene:
        """What takes part in a build."""
        return taking_part(self.scene)

    @cached_property
    def space(self) -> RaySpace:
        """Rays against what takes part in a build."""
        return RaySpace(self.baking.corners)

    @cached_property
    def blocking(self) -> RaySpace:
        """Rays against what blocks light: a globe round a bulb that is marked to cast none is not in its way."""
        casts = self.baking.casts
        return self.space if not len(casts) or casts.all() else RaySpace(self.baking.corners, casts)

    @cached_property
    def floors(self) -> Walkable | None:
        """Floors that can be walked from the start point, None without one."""
        start = start_point(self.level, self.baking, self.brief)
        return walkable(self.baking, self.space, start) if start is not None and len(self.baking) else None

    @property
    def sight(self) -> Sight | None:
        """Who sees whom, None where that is not known, or the level has no inside."""
        found = self.looked_into(self)
        return found if found is not None and len(found.middles) else None

    @property
    def hull(self) -> NDArray[np.bool_]:
        """(nodes,) whether an object closes rooms off from the outside: by the flood where that is known."""
        sight = self.sight
        return sight.hull if sight is not None else self.hull_by_rays

    @cached_property
    def hull_by_rays(self) -> NDArray[np.bool_]:
        """(nodes,) the same by rays from where players can stand; none where no start point tells."""
        floors = self.floors
        return hull_pieces(self.baking, self.space, floors.eyes if floors is not None else np.zeros((0, 3)))

    @cached_property
    def frame(self) -> F64:
        """(3, 3) orthonormal columns: the ways that most faces of the level look, the upright first kept upright.

        The world's axes, unless more of its upright faces keep to other ones.
        """
        return level_frame(self.baking)

    @cached_property
    def welded(self) -> Welded:
        """What takes part in a build, as connected surfaces."""
        return Welded.of(self.baking, self.sizes)

    @cached_property
    def extent(self) -> float:
        """Diagonal of what is built, metres."""
        return max(self.space.extent, 1e-9)

    @cached_property
    def sizes(self) -> F64:
        """(nodes,) largest extent of each object, metres; 0 without triangles."""
        low, high = self.node_bounds
        return np.where(np.isfinite(low).all(axis=1), (high - low).max(axis=1), 0.0)

    @cached_property
    def node_bounds(self) -> tuple[F64, F64]:
        """(nodes, 3) lowest and highest corner of each object; infinite without triangles."""
        return bounds_by(self.baking.corners, self.baking.node, len(self.baking.node_names))

    def under(
        self, scene: Scene, brief: Brief, emission: dict[str, EmissionSource], sky: tuple[float, float, float],
        sky_trouble: str = "",
    ) -> Subject:  # fmt: skip
        """The same triangles under other lights, emitters and sky; the rays are kept.

        Args:
            scene: whose triangles are the same arrays as before.
        """
        made = replace(self, scene=scene, brief=brief, emission=emission, sky=sky, sky_trouble=sky_trouble)
        made.__dict__["space"] = self.space
        return made

    def centre(self, node: int) -> Place:
        """Middle of an object's bounds."""
        low, high = self.node_bounds
        return as_place((low[node] + high[node]) / 2)


def level_frame(scene: Scene) -> F64:
    """(3, 3) the axes that the level keeps to: those of the world, turned about the upright."""
    normals = scene.face_normals.astype(np.float64)
    upright = np.abs(normals[:, 1]) < 0.05
    angle = np.degrees(np.arctan2(normals[upright, 2], normals[upright, 0])) % 90.0
    weight = scene.areas[upright]
    frame: F64 = np.eye(3)
    if not len(angle) or weight.sum() <= 0:
        return frame
    step = np.round(angle / FRAME_STEP).astype(np.int64) % round(90.0 / FRAME_STEP)
    total = np.bincount(step, weight, round(90.0 / FRAME_STEP))
    best = int(total.argmax())
    # Of the winning step, the exact angle; a level that keeps to the world's axes is not turned by rounding.
    near = np.minimum(np.abs(angle - best * FRAME_STEP), 90.0 - np.abs(angle - best * FRAME_STEP)) <= FRAME_STEP
    away = (angle[near] - best * FRAME_STEP + 45.0) % 90.0 - 45.0
    turn = best * FRAME_STEP + float(np.median(away)) if near.any() else 0.0
    if total[best] < FRAME_SHARE * weight.sum() or abs((turn + 45.0) % 90.0 - 45.0) < 1e-4:
        return frame
    c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
    return np.array([[c, 0.0, -s], [0.0, 1.0, 0.0], [s, 0.0, c]])


def rows_by(owner: NDArray[np.int32]) -> Iterator[tuple[int, NDArray[np.int64]]]:
    """(owner, its rows) for every owner, in one pass whatever their number.

    Args:
        owner: (n,) of each row.
    """
    order = np.argsort(owner, kind="stable")
    if not len(order):
        return
    starts = np.flatnonzero(np.append(True, np.diff(owner[order]) != 0))
    for first, end in zip(starts, np.append(starts[1:], len(order))):
        yield int(owner[order[first]]), order[first:end]


def as_place(point: F64) -> Place:
    """A point as plain numbers, to the tenth of a millimetre."""
    return (round(float(point[0]), 4), round(float(point[1]), 4), round(float(point[2]), 4))


def short(path: str) -> str:
    """The last name of a path."""
    return path.rsplit("/", 1)[-1]


def listed(names: list[str], most: int = 3) -> str:
    """A few names, and how many more."""
    shown = ", ".join(names[:most])
    return shown if len(names) <= most else f"{shown} and {len(names) - most} more"
