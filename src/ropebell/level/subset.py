"""A copy of a level with some of its objects, or pieces of objects, only. Lights and empty nodes always stay."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ropebell.level.connected import connected
from ropebell.level.model import F64, I32, Level, Mask, Mesh, Node, Primitive

# A piece of an object that hangs together is cut into so many clusters at most.
CLUSTERS = 16


@dataclass(frozen=True, eq=False)
class Piece:
    """Some of an object's triangles.

    Attributes:
        node: index. words: what it is, such as "primitive 2, shell 3".
        rows: of each primitive of the mesh, (T,) bool which triangles.
    """

    node: int
    words: str
    rows: tuple[Mask, ...]

    @property
    def triangles(self) -> int:
        """How many."""
        return int(sum(rows.sum() for rows in self.rows))


def objects(level: Level) -> list[int]:
    """Indices of the nodes that place a mesh with triangles."""
    return [i for i, n in enumerate(level.nodes) if n.mesh >= 0 and _triangles(level.meshes[n.mesh])]


def _triangles(mesh: Mesh) -> int:
    return sum(len(p.triangles) for p in mesh.primitives)


def subset(level: Level, whole: frozenset[int], pieces: Mapping[int, tuple[Mask, ...]] | None = None) -> Level:
    """Only some objects. Others vanish with their nodes, unless something stands below those.

    Args:
        whole: nodes that stay as they are. pieces: of other nodes, which triangles of each primitive stay.
    """
    given = pieces or {}
    meshes, nodes = list(level.meshes), list(level.nodes)
    for index, node in enumerate(level.nodes):
        if node.mesh < 0 or index in whole:
            continue
        rows = given.get(index)
        if rows is None or not any(r.any() for r in rows):
            nodes[index] = replace(node, mesh=-1)
            continue
        meshes.append(_of_rows(level.meshes[node.mesh], rows))
        nodes[index] = replace(node, mesh=len(meshes) - 1)
    return _used(replace(level, nodes=_without_bare(level, nodes), meshes=tuple(meshes)))


def _of_rows(mesh: Mesh, rows: tuple[Mask, ...]) -> Mesh:
    kept = [_compact(p, r) for p, r in zip(mesh.primitives, rows) if r.any()]
    return Mesh(mesh.name, tuple(kept))


def _compact(p: Primitive, rows: Mask) -> Primitive:
    """Some triangles of a primitive, and the vertices that they use."""
    used, at = np.unique(p.triangles[rows], return_inverse=True)
    normals, uv0, uv1 = (None if array is None else array[used] for array in (p.normals, p.uv0, p.uv1))
    triangles = at.reshape(-1, 3).astype(np.int32)
    return replace(p, positions=p.positions[used], triangles=triangles, normals=normals, uv0=uv0, uv1=uv1)


def _without_bare(level: Level, nodes: list[Node]) -> tuple[Node, ...]:
    """Without nodes that lost their mesh and carry nothing else."""
    carries = [n.mesh >= 0 or n.light >= 0 or level.nodes[i].mesh < 0 for i, n in enumerate(nodes)]
    for index in range(len(nodes) - 1, -1, -1):
        if carries[index] and nodes[index].parent >= 0:
            carries[nodes[index].parent] = True
    number = np.cumsum(carries) - 1
    return tuple(
        replace(n, parent=int(number[n.parent]) if n.parent >= 0 else -1) for i, n in enumerate(nodes) if carries[i]
    )  # fmt: skip


def _used(level: Level) -> Level:
    """Without meshes that no node places."""
    used = sorted({n.mesh for n in level.nodes if n.mesh >= 0})
    number = {mesh: i for i, mesh in enumerate(used)}
    nodes = tuple(replace(n, mesh=number.get(n.mesh, -1)) for n in level.nodes)
    return replace(level, nodes=nodes, meshes=tuple(level.meshes[m] for m in used))


def pieces_of(level: Level, node: int) -> list[Piece]:
    """What an object can be taken apart into: its primitives; if it has one, its connected shells; if it has one of
    those, clusters of neighbouring triangles. One piece: it cannot be taken apart.
    """
    mesh = level.meshes[level.nodes[node].mesh]
    full = [np.ones(len(p.triangles), np.bool_) for p in mesh.primitives]
    none = [np.zeros(len(p.triangles), np.bool_) for p in mesh.primitives]
    filled = [i for i, rows in enumerate(full) if rows.any()]

    def alone(primitive: int, rows: Mask) -> tuple[Mask, ...]:
        return tuple(rows if i == primitive else empty for i, empty in enumerate(none))

    if len(filled) > 1:
        return [Piece(node, f"primitive {i}", alone(i, full[i])) for i in filled]
    only = filled[0]
    return [Piece(node, words, alone(only, rows)) for words, rows in _parts(mesh.primitives[only])]


def joined(pieces: Sequence[Piece]) -> Piece:
    """Several pieces of one object as one."""
    if len(pieces) == 1:
        return pieces[0]
    first, _, whole = pieces[0].words.partition(" of ")
    kind, _, _ = first.rpartition(" ")
    numbers = [int(p.words.partition(" of ")[0].rpartition(" ")[2]) for p in pieces]
    in_row = numbers == list(range(numbers[0], numbers[-1] + 1)) and len(numbers) > 2
    some = f"{', '.join(map(str, numbers[:-1]))} and {numbers[-1]}"
    words = f"{kind}s {numbers[0]} to {numbers[-1]}" if in_row else f"{kind}s {some}"
    rows = tuple(np.logical_or.reduce(r) for r in zip(*(p.rows for p in pieces)))
    return Piece(pieces[0].node, f"{words} of {whole}" if whole else words, rows)


def taken_apart(level: Level, piece: Piece) -> list[Piece]:
    """The same of a piece: a primitive into shells, a shell into clusters."""
    filled = [i for i, rows in enumerate(piece.rows) if rows.any()]
    if len(filled) != 1:
        return [piece]
    only, mesh = filled[0], level.meshes[level.nodes[piece.node].mesh]
    found = []
    for words, inner in _parts(mesh.primitives[only], piece.rows[only]):
        rows = tuple(inner if i == only else empty for i, empty in enumerate(piece.rows))
        found.append(Piece(piece.node, f"{words} of {piece.words}", rows))
    return found if len(found) > 1 else [piece]


def _parts(p: Primitive, among: Mask | None = None) -> list[tuple[str, Mask]]:
    rows = np.flatnonzero(among if among is not None else np.ones(len(p.triangles), np.bool_))
    shell = shells(p, rows)
    if len(rows) and shell.max() > 0:
        return [(f"shell {i + 1}", _mask(p, rows[shell == i])) for i in range(int(shell.max()) + 1)]
    middles = p.positions[p.triangles[rows]].astype(np.float64).mean(axis=1)
    return [(f"cluster {i + 1}", _mask(p, rows[some])) for i, some in enumerate(_clusters(middles))]


def _mask(p: Primitive, rows: np.ndarray) -> Mask:
    found: Mask = np.zeros(len(p.triangles), np.bool_)
    found[rows] = True
    return found


def shells(p: Primitive, rows: np.ndarray) -> I32:
    """(n,) shell of each of some triangles: those that share a place hang together, though their vertices be split.

    Args:
        rows: (n,) numbers of triangles.
    """
    _, place = np.unique(p.positions, axis=0, return_inverse=True)
    corners = place.ravel()[p.triangles[rows]]
    label = connected(int(place.max()) + 1, np.r_[corners[:, 0], corners[:, 1]], np.r_[corners[:, 1], corners[:, 2]])
    _, found = np.unique(label[corners[:, 0]], return_inverse=True)
    return found.ravel().astype(np.int32)


def _clusters(middles: F64) -> list[np.ndarray]:
    """Triangles halved again and again along the longest axis of their middles."""
    parts = [np.arange(len(middles))]
    while len(parts) < CLUSTERS:
        largest = max(range(len(parts)), key=lambda i: len(parts[i]))
        rows = parts.pop(largest)
        if len(rows) < 2:
            return [*parts, rows]
        axis = int(np.ptp(middles[rows], axis=0).argmax())
        order = rows[np.argsort(middles[rows, axis], kind="stable")]
        parts += [order[: len(order) // 2], order[len(order) // 2 :]]
    return parts
