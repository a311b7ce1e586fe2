"""Whether a level keeps its light and its sight in: what blocks, where the inside is, and every leak."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass, replace

import numpy as np

from ropebell.level.arrange import chosen_pose
from ropebell.level.brief import Brief, Mark
from ropebell.level.model import F64, I64, Level, Mask
from ropebell.level.scene import Scene
from ropebell.level.welded import Welded
from ropebell.light.rays import RaySpace
from ropebell.sight.free_space import FreeSpace
from ropebell.sight.leaks import Leak, escaping, leaks_of
from ropebell.sight.sealing import INSIDE, Bodies, Flood, flood
from ropebell.sight.walk import EYE, start_point, walkable

# A level is open by nature if more of the rays from where players can stand leave it; a place, likewise.
OPEN, MOST_EYES = 0.05, 400
# The first cells that room is flooded through are no larger, metres; in a large level, than this share of it.
LARGEST, OF_LEVEL = 1.0, 1 / 60
# Places each way over a level, of which one may lie in a room where nothing says where players are; what counts as
# flat, and how far beside it places lie then, as shares of its size.
LATTICE, FLAT, BESIDE = 9, 1e-3, 0.05
# Faces that one leg of a way goes through.
MOST_CROSSED = 256
# What a mark takes out of the way opens a gap if the way goes through it so near its place, in widths.
AT_GAP = 1.5


@dataclass(frozen=True, eq=False)
class Sealing:
    """What is known of a level's hull.

    Attributes:
        sealed: no way leads out. open: it is open by nature, so leaks were not looked for.
        leaks: the widest first; nodes: of each, objects round the gap, those that a mark takes out of the way first.
        seeds: (n, 3) metres, where the inside was flooded from; none: there is no inside to speak of.
        decided: whether all was looked at as closely as it had to be. flood: how far in and outside come, None where
            leaks were not looked for.
        inside: whether there is any room that the open does not reach but by a leak.
    """

    sealed: bool
    open: bool
    leaks: tuple[Leak, ...]
    nodes: tuple[tuple[int, ...], ...]
    seeds: F64
    decided: bool = True
    flood: Flood | None = None
    inside: bool = True


def movable(scene: Scene) -> list[str]:
    """Paths of what need not stay as it stands: what moves, has other poses, or may be taken away."""
    present = set(np.unique(scene.node).tolist())
    nodes = enumerate(scene.marks.nodes)
    return [scene.node_names[n] for n, m in nodes if n in present and (m.role == "moving" or m.poses or m.removable)]


def in_any_pose(scene: Scene, paths: Collection[str]) -> Scene:
    """A scene in which some objects are in nobody's way: what can be seen in any of their poses can be seen in it, and
    what gets out in any of them gets out. What they hide in all of their poses counts as seen, too."""
    names = scene.node_names
    nodes = tuple(replace(m, blocks_sight=False) if names[n] in paths else m for n, m in enumerate(scene.marks.nodes))
    return replace(scene, marks=replace(scene.marks, nodes=nodes))


def blocks_sight(scene: Scene) -> Mask:
    """(T,) whether a triangle is in the way of sight: all that stand in the level, also those that move, but for what
    a mark takes out, or a pose in which it is not there."""
    out = np.append(np.array([_absent(m) or m.blocks_sight is False for m in scene.marks.nodes], np.bool_), False)
    out = np.concatenate([out, np.zeros(max(len(scene.node_names) + 1 - len(out), 0), np.bool_)])
    found: Mask = ~out[scene.node]
    return found


def let_through(scene: Scene) -> Mask:
    """(nodes,) whether an object stands in the level, and only a mark keeps it from being in the way of sight."""
    passing = [m.blocks_sight is False and not _absent(m) for m in scene.marks.nodes]
    found = np.zeros(len(scene.node_names), np.bool_)
    found[: len(passing)] = passing
    found[np.setdiff1d(np.arange(len(found)), scene.node)] = False
    return found


def _absent(mark: Mark) -> bool:
    """Whether an object is left out, or in a pose in which it is not there."""
    pose = chosen_pose(mark)
    return mark.role == "left-out" or (pose is not None and pose.absent)


def see_through(level: Level, scene: Scene) -> Mask:
    """(T,) whether one can look through a triangle, as through glass or a grille: it closes the hull, and hides
    nothing."""
    through = np.array([m.alpha_mode != "OPAQUE" for m in level.materials] + [False], np.bool_)
    found: Mask = through[scene.material]
    return found


def survey(
    level: Level, scene: Scene, brief: Brief, meant_sealed: bool = False,
    tick: Callable[[float], None] = lambda _: None,
) -> Sealing:  # fmt: skip
    """Find out whether a level is sealed.

    Args:
        scene: all its triangles, in the poses they have. meant_sealed: look for leaks though it seems open.
        tick: called with the share done, may raise `Stopped`.
    """
    solid = blocks_sight(scene)
    corners = scene.corners[solid]
    nothing = np.zeros((0, 3))
    if not len(corners):
        return Sealing(False, True, (), (), nothing)
    space, bodies = RaySpace(corners), bodies_of(scene, solid)
    stand = _eyes(level, scene, brief)
    seeds = seeds_of(level, scene, brief, space)
    known = len(seeds) > 0
    if not known:
        # Nothing says where players are: all over the level, but in no body.
        seeds = _lattice(corners)
        seeds = seeds[~bodies.hold(seeds)]
    if not len(seeds):
        return Sealing(False, True, (), (), nothing, inside=False)
    away = escaping(space, stand if len(stand) else seeds)
    if float(away.mean()) > OPEN and not meant_sealed:
        return Sealing(False, True, (), (), seeds, inside=known or bool((away <= OPEN).any()))
    # What stands in the open is not inside, but the start is.
    seeds = np.concatenate([seeds, stand])
    indoors = escaping(space, seeds) <= OPEN
    indoors[0] |= known or not indoors.any()
    seeds = seeds[indoors]
    largest = max(LARGEST, OF_LEVEL * float(np.ptp(corners.reshape(-1, 3), axis=0).max()))
    found = flood(FreeSpace(corners, largest), seeds, bodies.hold, tick)
    leaks = leaks_of(found, seeds, corners, space)
    if not leaks and not _has_inside(found, seeds, bodies):
        return Sealing(False, True, (), (), seeds, inside=False)
    rows, held_back = np.flatnonzero(solid), np.flatnonzero(~solid)
    nodes = tuple(
        tuple(dict.fromkeys([*_at_gap(scene, held_back, leak), *scene.node[rows[leak.triangles]].tolist()]))
        for leak in leaks
    )
    return Sealing(not leaks, False, tuple(leaks), nodes, seeds, found.decided, found)


def seeds_of(level: Level, scene: Scene, brief: Brief, space: RaySpace) -> F64:
    """(n, 3) where the inside may be: at eye height over the start, at probes placed by hand, in things that move."""
    found = []
    start = start_point(level, scene, brief)
    if start is not None:
        found.append(over(space, np.array(start)))
    found += [np.array(place, np.float64) for place in brief.probes.placed.values()]
    moving = [n for n, m in enumerate(scene.marks.nodes) if m.role == "moving"]
    for node, first, end in scene.node_ranges():
        if node in moving:
            low, high = scene.corners[first:end].min(axis=(0, 1)), scene.corners[first:end].max(axis=(0, 1))
            found.append(
                np.array([(low[0] + high[0]) / 2, high[1] + 0.02 * float((high - low).max()), (low[2] + high[2]) / 2])
            )
    return np.array(found, np.float64).reshape(-1, 3)


def _lattice(corners: F64) -> F64:
    """(n, 3) places spread over a level, those near its middle first and none on its rim."""
    low, high = corners.min(axis=(0, 1)), corners.max(axis=(0, 1))
    # A flat level has no place that is not on it; a long corridor, and a tall shaft, have.
    flat = (high - low < FLAT * (high - low).max()) * BESIDE * (high - low).max()
    low, high = low - flat, high + flat
    # Off the round numbers that levels are built on.
    steps = (np.arange(LATTICE) + 0.4867) / LATTICE
    shares = np.stack(np.meshgrid(steps, steps, steps, indexing="ij"), axis=-1).reshape(-1, 3)
    order = np.argsort(np.abs(shares - 0.5).max(axis=1), kind="stable")
    found: F64 = low + shares[order] * (high - low)
    return found


def _has_inside(found: Flood, seeds: F64, bodies: Bodies) -> bool:
    """Whether the flood from inside fills any cell that the one from outside did not reach, and that is no body's."""
    inner = seeds[found.sides(seeds) == INSIDE]
    return bool(len(inner)) and not bool(bodies.hold(inner).all())


def over(space: RaySpace, start: F64) -> F64:
    """Eye height over a start, or as far up as there is room."""
    at = (start - space.centre).astype(np.float32)[None]
    up = np.array([[0, 1, 0]], np.float32)
    lifted = at + up * np.float32(0.02)
    room = float(space.distances(lifted, up)[0])
    rise = EYE if not np.isfinite(room) or room > 1.1 * EYE else 0.5 * room
    return start + [0.0, rise, 0.0]


def _eyes(level: Level, scene: Scene, brief: Brief) -> F64:
    start = start_point(level, scene, brief)
    if start is None:
        return np.zeros((0, 3))
    eyes = walkable(scene, RaySpace(scene.corners), start).eyes
    return eyes[np.linspace(0, len(eyes) - 1, min(MOST_EYES, len(eyes))).astype(np.int64)] if len(eyes) else eyes


def bodies_of(scene: Scene, solid: Mask) -> Bodies:
    """What of a scene is closed and looks outward."""
    low, high = scene.corners.min(axis=1), scene.corners.max(axis=1)
    sizes = np.zeros(len(scene.node_names))
    np.maximum.at(sizes, scene.node, (high - low).max(axis=1))
    welded = Welded.of(scene, np.maximum(sizes, 1e-3))
    closed = (welded.closed & (welded.volume > 0))[welded.piece]
    return Bodies(scene.corners[closed & solid])


def _at_gap(scene: Scene, rows: I64, leak: Leak) -> list[int]:
    """Objects among triangles that are out of the way, which a way out goes through at its gap."""
    reach = AT_GAP * leak.width
    return [n for n, place in crossed(scene, rows, leak.trail) if np.linalg.norm(place - leak.place) <= reach]


def crossed(scene: Scene, rows: I64, trail: F64) -> list[tuple[int, F64]]:
    """Objects among some triangles that a way goes through, in its order, and (3,) where.

    Args:
        rows: numbers of triangles. trail: (n, 3) metres.
    """
    if not len(rows):
        return []
    space, found = RaySpace(scene.corners[rows]), list[tuple[int, F64]]()
    nudge = space.extent * 1e-5
    for begin, end in zip(trail[:-1], trail[1:]):
        length = float(np.linalg.norm(end - begin))
        way, gone = (end - begin) / max(length, 1e-300), 0.0
        for _ in range(MOST_CROSSED):
            start = (begin + gone * way - space.centre).astype(np.float32)[None]
            (hit,), (far,) = space.nearest(start, way.astype(np.float32)[None])
            gone += float(far) + nudge
            if hit < 0 or gone > length:
                break
            found.append((int(scene.node[rows[hit]]), begin + gone * way))
    return found
