"""Small changes of one object that may make a fault go away, the least first."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import asdict, dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np

from ropebell.checks.remedies import BY_NAME, act, apply_fix, with_marks
from ropebell.level.arrange import transform
from ropebell.level.brief import Brief, Move
from ropebell.level.finding import Finding
from ropebell.level.model import F64, Level, Mesh, Primitive
from ropebell.level.nearest import NearestSurface
from ropebell.level.subset import shells

Edit = dict[str, Any]
# Metres: vertices nearer than this are one; a face thinner than that is a sliver if it is so many times as long.
WELD, ASPECT = 1e-4, 1000.0
GRID = 0.01
THIN, THICK = 0.002, 0.005
# Metres within which another object counts as a neighbour.
REACH = 0.1


@dataclass(frozen=True)
class Fix:
    """A change of one object.

    Attributes:
        what: in words. node: path. amount, unit: how much. changed: largest distance that any of its points moved, mm.
        level: the level with it. brief: the brief with it.
        edit: as the project writes it: a `move`, a `mark`, or a `remedy` and what it is done to. Empty: it changes the
            object's shape, which the project cannot.
    """

    what: str
    node: str
    amount: float
    unit: str
    changed: float
    level: Callable[[Level], Level]
    brief: Callable[[Brief], Brief] = lambda brief: brief
    edit: Edit = field(default_factory=dict)

    @property
    def move(self) -> Move | None:
        """What it moves the object by."""
        return Move(**self.edit["move"]) if "move" in self.edit else None

    @property
    def rank(self) -> tuple[int, float]:
        """Less is tried and told before: what a finding about it advises, then less of a change: moving a thing, then
        reshaping it, then treating it otherwise; each by how far its points go."""
        if "remedy" in self.edit:
            return -1, self.changed
        return (0 if "move" in self.edit else 2 if self.edit else 1), self.changed

    @property
    def key(self) -> str:
        """Names it."""
        return f"{self.what} {self.amount:g} {self.unit} {self.node}"


def advised_fixes(path: str, findings: Iterable[Finding]) -> Iterator[Fix]:
    """The remedies that findings about an object name, as their buttons do, each once.

    Args:
        path: of the object. findings: about it, those first that say most.
    """
    told = set[tuple[str, ...]]()
    for finding in findings:
        for one in (replace(finding, fix=remedy) for remedy in (finding.fix, *finding.others)):
            words = act(one)
            if words and one.fix not in told:
                told.add(one.fix)
                change, edit = partial(_remedied, finding=one), {"remedy": list(one.fix)}
                yield Fix(words[0].lower() + words[1:], path, 0.0, "", 0.0, _same, change, edit)


def _remedied(brief: Brief, finding: Finding) -> Brief:
    return apply_fix(brief, finding)


def candidates(level: Level, node: int, own: bool) -> Iterator[Fix]:
    """Changes that can be tried on an object that nothing is known of, the least first.

    Args:
        level: as it is built. own: this program builds it, so that marks count.
    """
    path = level.nodes[node].path
    away = _away(level, node)
    thin = _thinnest(level, node)

    def turns(degrees: float) -> Iterator[Fix]:
        for axis in "XYZ":
            turn = tuple(degrees if axis == a else 0.0 for a in "XYZ")
            yield _moved(level, node, f"turn about its {axis}", degrees, "degrees", Move(turn=turn))  # type: ignore[arg-type]

    def moves(millimetres: float) -> Iterator[Fix]:
        if away is not None:
            shift = away * millimetres / 1000.0
            yield _moved(level, node, "move off its neighbour", millimetres, "mm", _shift(level, node, shift))

    yield from turns(0.1)
    yield from moves(1.0)
    yield from _cleaned(level, node)
    if own:
        yield _marked(path, "turn its faces inside out", "turned", True)
    yield from _snapped(level, node)
    yield from turns(0.5)
    yield from moves(3.0)
    if thin < THIN:
        yield from _thickened(level, node)
    yield from moves(10.0)
    yield from turns(2.0)
    yield from _created_anew(level, node)
    if own:
        if any(p.uv1 is not None for p in level.meshes[level.nodes[node].mesh].primitives):
            yield _marked(path, "unwrap it again", "unwrap", True)
        yield _marked(path, "give it no lightmap", "role", "blocks")


def _moved(level: Level, node: int, what: str, amount: float, unit: str, move: Move) -> Fix:
    step = transform(move)
    spots = _points(level.meshes[level.nodes[node].mesh])
    world = level.nodes[node].world
    there = (spots @ step[:3, :3].T + step[:3, 3] - spots) @ world[:3, :3].T
    changed = 1000.0 * float(np.linalg.norm(there, axis=1).max())
    path = level.nodes[node].path

    def apply(other: Level) -> Level:
        nodes = list(other.nodes)
        for index, n in enumerate(other.nodes):
            if n.path == path:
                nodes[index] = replace(n, local=n.local @ step, world=n.world @ step)
        return replace(other, nodes=tuple(nodes))

    return Fix(what, path, amount, unit, changed, apply, edit={"move": asdict(move)})


def _shift(level: Level, node: int, shift: F64) -> Move:
    """A shift in the level's frame as a move in the object's own."""
    own = np.linalg.solve(level.nodes[node].world[:3, :3], shift)
    return Move(move=(float(own[0]), float(own[1]), float(own[2])))


def _marked(path: str, what: str, key: str, value: Any) -> Fix:
    edit: Edit = {"mark": {key: value}}
    return Fix(what, path, 0.0, "", 0.0, _same, lambda brief: with_edit(brief, path, edit), edit)


def with_edit(brief: Brief, path: str, edit: Edit) -> Brief:
    """A brief with a fix of an object written into it.

    Raises:
        ValueError: it is no such edit.
    """
    match edit:
        case {"move": dict(values)}:
            before, more = brief.moves.get(path), Move(**values)
            if before is not None and replace(before, move=more.move) == more == Move(more.move):
                x, y, z = (a + b for a, b in zip(before.move, more.move))
                more = replace(more, move=(x, y, z))
            elif before is not None:
                raise ValueError(f"'{path}' is turned or scaled by hand already: take that back first")
            return replace(brief, moves={**brief.moves, path: more})
        case {"mark": dict(values)}:
            ((key, value),) = values.items()
            return with_marks(brief, (path,), str(key), value)
        case {"remedy": [name, *to]} if name in BY_NAME:
            return BY_NAME[name].change(brief, tuple(str(one) for one in to))
    raise ValueError("it is no edit that a project can take")


def _same(level: Level) -> Level:
    return level


def _shaped(level: Level, node: int, what: str, amount: float, unit: str, mesh: Mesh) -> Fix:
    """A fix that gives an object another mesh."""
    path, old = level.nodes[node].path, level.meshes[level.nodes[node].mesh]
    world = level.nodes[node].world[:3, :3]
    scale = float(np.linalg.norm(world, 2))
    changed = 1000.0 * scale * max(_farthest(_points(mesh), _points(old)), _farthest(_points(old), _points(mesh)))

    def apply(other: Level) -> Level:
        index = next((i for i, n in enumerate(other.nodes) if n.path == path), -1)
        if index < 0:
            return other
        nodes = list(other.nodes)
        nodes[index] = replace(nodes[index], mesh=len(other.meshes))
        return replace(other, nodes=tuple(nodes), meshes=(*other.meshes, mesh))

    return Fix(what, path, amount, unit, changed, apply)


def _cleaned(level: Level, node: int) -> Iterator[Fix]:
    mesh = level.meshes[level.nodes[node].mesh]
    found = [_clean(p) for p in mesh.primitives]
    gone = sum(len(a.triangles) - len(b.triangles) for a, b in zip(mesh.primitives, found))
    kept = tuple(p for p in found if len(p.triangles))
    if gone and kept:
        yield _shaped(level, node, "weld and take out slivers", gone, "triangles", Mesh(mesh.name, kept))


def _clean(p: Primitive) -> Primitive:
    """Without faces that vanish once points nearer than `WELD` are one, and without slivers."""
    corners = p.positions[p.triangles].astype(np.float64)
    edges = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2)
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    longest = np.maximum(edges.max(axis=1), 1e-30)
    height = 2 * area / longest
    good = (edges.min(axis=1) > WELD) & (height * ASPECT > longest)
    return p if good.all() else replace(p, triangles=np.ascontiguousarray(p.triangles[good]))


def _snapped(level: Level, node: int) -> Iterator[Fix]:
    at = level.nodes[node].world[:3, 3]
    shift = np.round(at / GRID) * GRID - at
    far = 1000.0 * float(np.linalg.norm(shift))
    if far > 1e-3:
        yield _moved(level, node, "set it on the centimetre grid", far, "mm", _shift(level, node, shift))


def _thickened(level: Level, node: int) -> Iterator[Fix]:
    """Each shell that is thinner than `THIN` along one of its axes is stretched to `THICK` there."""
    mesh = level.meshes[level.nodes[node].mesh]
    scale = float(np.linalg.norm(level.nodes[node].world[:3, :3], 2)) or 1.0
    made = []
    for p in mesh.primitives:
        spots = p.positions.astype(np.float64)
        of = shells(p, np.arange(len(p.triangles)))
        for shell in range(int(of.max(initial=-1)) + 1):
            used = np.unique(p.triangles[of == shell])
            middle = spots[used].mean(axis=0)
            _, _, axes = np.linalg.svd(spots[used] - middle, full_matrices=False)
            along = (spots[used] - middle) @ axes.T
            size = np.ptp(along, axis=0) * scale
            for axis in np.flatnonzero((size > 0) & (size < THIN)):
                along[:, axis] *= THICK / size[axis]
            spots[used] = along @ axes + middle
        made.append(replace(p, positions=spots.astype(np.float32)))
    yield _shaped(level, node, "thicken", 1000.0 * THICK, "mm", Mesh(mesh.name, tuple(made)))


def _created_anew(level: Level, node: int) -> Iterator[Fix]:
    """Its hull in place of it: what a person would build again by hand, as far as a machine can tell."""
    from scipy.spatial import ConvexHull, QhullError

    mesh = level.meshes[level.nodes[node].mesh]
    if len(mesh.primitives) != 1 or int(shells(mesh.primitives[0], np.arange(len(mesh.primitives[0].triangles))).max()):
        return
    spots = np.unique(_points(mesh), axis=0)
    try:
        hull = ConvexHull(spots)
    except (QhullError, ValueError):
        return
    corners = spots[hull.simplices]
    outward = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    inward = np.einsum("ij,ij->i", outward, hull.equations[:, :3]) < 0
    triangles = np.where(inward[:, None], hull.simplices[:, ::-1], hull.simplices)
    corners, numbers = spots[triangles].reshape(-1, 3), np.arange(3 * len(triangles), dtype=np.int32)
    made = Primitive(corners.astype(np.float32), numbers.reshape(-1, 3), mesh.primitives[0].material)
    yield _shaped(level, node, "create it again as its hull", len(triangles), "triangles", Mesh(mesh.name, (made,)))


def _points(mesh: Mesh) -> F64:
    return np.concatenate([p.positions[np.unique(p.triangles)].astype(np.float64) for p in mesh.primitives])


def _farthest(of: F64, to: F64) -> float:
    """The largest distance of some points from the nearest of others."""
    from scipy.spatial import cKDTree

    return float(cKDTree(to).query(of)[0].max(initial=0.0))


def _placed(level: Level, node: int) -> F64:
    world = level.nodes[node].world
    found: F64 = _points(level.meshes[level.nodes[node].mesh]) @ world[:3, :3].T + world[:3, 3]
    return found


def _thinnest(level: Level, node: int) -> float:
    """Metres that the thinnest shell of an object measures along its own axes."""
    thin = np.inf
    world = level.nodes[node].world
    for p in level.meshes[level.nodes[node].mesh].primitives:
        of = shells(p, np.arange(len(p.triangles)))
        for shell in range(int(of.max(initial=-1)) + 1):
            spots = p.positions[np.unique(p.triangles[of == shell])].astype(np.float64) @ world[:3, :3].T
            _, _, axes = np.linalg.svd(spots - spots.mean(axis=0), full_matrices=False)
            size = np.ptp((spots - spots.mean(axis=0)) @ axes.T, axis=0)
            thin = min(thin, float(size[size > 0].min(initial=np.inf)) if len(axes) == 3 else 0.0)
    return thin


def _away(level: Level, node: int) -> F64 | None:
    """(3,) unit direction from the nearest surface of another object, None where none is within `REACH`."""
    own = _placed(level, node)
    low, high = own.min(axis=0) - REACH, own.max(axis=0) + REACH
    parts = []
    for index, n in enumerate(level.nodes):
        for p in level.meshes[n.mesh].primitives if index != node and n.mesh >= 0 else ():
            corners = p.positions[p.triangles].astype(np.float64) @ n.world[:3, :3].T + n.world[:3, 3]
            parts.append(corners[((corners.min(axis=1) <= high) & (corners.max(axis=1) >= low)).all(axis=1)])
    near = np.concatenate([np.zeros((0, 3, 3)), *parts])
    cross = np.cross(near[:, 1] - near[:, 0], near[:, 2] - near[:, 0])
    length = np.linalg.norm(cross, axis=1)
    near, faces = near[length > 0], cross[length > 0] / length[length > 0, None]
    triangle, weights, far = NearestSurface(near, faces).at(own)
    at = int(far.argmin())
    if triangle[at] < 0 or far[at] > REACH:
        return None
    b, c = weights[at]
    corners = near[triangle[at]]
    towards = own[at] - ((1 - b - c) * corners[0] + b * corners[1] + c * corners[2])
    found: F64 = towards / far[at] if far[at] > 1e-9 else faces[triangle[at]]
    return found
