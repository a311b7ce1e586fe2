"""Checks of objects against each other: faces in one plane, gaps of a hair, solids that cross."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.checks.before import BEFORE, LIGHTS, SHAPES
from ropebell.checks.contact_kernels import overlapping_pairs
from ropebell.checks.shapes import turned_pieces
from ropebell.checks.subject import Subject, as_place, listed, rows_by, short
from ropebell.level.finding import Finding, area_words
from ropebell.level.model import F32, F64, I32, I64
from ropebell.level.welded import totals
from ropebell.light.rays import RaySpace
from ropebell.light.workers import cores

# Planes nearer than this share of the level's diagonal are one: a depth buffer cannot tell them apart.
SAME_PLANE = 1e-5
NORMAL_STEPS = 700.0
MOST_PAIRS = 200_000
LEAST_SHARE = 2e-3
# A gap below these shares of the smaller object and of the level is too narrow to be meant, unless it is none at all.
HAIR, HAIR_OF_LEVEL = 2e-3, 6e-5
NO_GAP = 4e-6
# How far an edge must run on inside another solid, as a share of the smaller object; what is left out at its ends.
CROSSING, ENDS = 5e-3, 1e-3
# Faces at an edge that make one flat face: by this share their normals' sum is shorter than as many units.
FLAT_EDGE = 1e-6
# What is so many times larger than something, or than the hole that it needs, is what that may be planted in.
PLANTED, OF_HOLE = 3.0, 10.0


# The longest first: they are run in this order.


@BEFORE.detector({"crossing": "Solids cross"}, SHAPES, version=3)
def crossing_solids(s: Subject) -> Iterator[Finding]:
    """Solids that run into one another: what cuts space along planes may stumble."""
    scene = s.baking
    edges = _Edges.of(s)
    inside, outside, every = edges.lifted(-1.0), edges.lifted(1.0), np.arange(len(edges.face))
    found = [_entered(s, edges, ends, every) for ends in (inside, inside[::-1])]
    # What lies in the other's own face enters it from one side of that only.
    for (hit, _), ends in zip(found, (outside, outside[::-1])):
        rows = np.flatnonzero(hit >= 0)
        again = _entered(s, edges, ends, rows)[0]
        hit[rows[(again < 0) | (scene.node[again] != scene.node[hit[rows]])]] = -1
    (there, share), (back, share_back) = found
    hit = np.where(there >= 0, there, back)
    crossing = hit >= 0
    # What comes out again on the far side is not planted: seen from its end, such an edge enters, too.
    through = (there >= 0) & (back >= 0) & (scene.node[there] == scene.node[back])
    along = np.where(there >= 0, share, 1.0 - share_back)
    start, end = inside
    at = start + (end - start) * np.where(crossing, along, 0.0)[:, None]
    crossing &= ~_planted(s, edges.face, hit, at, crossing, through)
    pairs: dict[int, dict[int, int]] = {}
    for row in np.flatnonzero(crossing).tolist():
        a, b = int(scene.node[edges.face[row]]), int(scene.node[hit[row]])
        small, large = (a, b) if s.sizes[a] <= s.sizes[b] else (b, a)
        pairs.setdefault(small, {}).setdefault(large, row)
    for small, larges in sorted(pairs.items()):
        others = sorted(short(scene.node_names[n]) for n in larges)
        place = as_place(at[min(larges.values())] + s.space.centre)
        reason = f"It runs into {listed(others)}."
        yield Finding("crossing", "note", scene.node_names[small], reason, "Nothing, unless a build fails there", place)


@dataclass(frozen=True, eq=False)
class _Edges:
    """Every edge that is not flat, once.

    Attributes:
        start, end: (n, 3) relative to the centre. normal: (n, 3) unit, off its own object.
        face: (n,) one that it is of. closed: (n,) bool, whether that is of a solid.
        step: metres that rays need to be off a face.
    """

    start: F64
    end: F64
    normal: F64
    face: I64
    closed: NDArray[np.bool_]
    step: float

    @staticmethod
    def of(s: Subject) -> _Edges:
        """Of a level."""
        scene = s.baking
        first, edge = s.welded.edge_place, s.welded.edge.ravel()
        faces = np.repeat(scene.face_normals.astype(np.float64), 3, axis=0)
        normal = np.stack([totals(edge, faces[:, axis], len(first)) for axis in range(3)], axis=1)
        length = np.linalg.norm(normal, axis=1, keepdims=True)
        normal = np.divide(normal, length, out=np.zeros_like(normal), where=length > 1e-6)
        # What only cuts a flat face in triangles is no edge of anything.
        around = np.bincount(edge, minlength=len(first))
        real = (around < 2) | (length[:, 0] < (1.0 - FLAT_EDGE) * around)
        local = scene.corners - s.space.centre
        a = local.reshape(-1, 3)[first]
        b = np.roll(local, -1, axis=1).reshape(-1, 3)[first]
        # What rounds to a point in the ray library's precision cannot cross anything.
        real &= np.abs((b - a).astype(np.float32)).max(axis=1, initial=0.0) > 0
        a, b, face = a[real], b[real], first[real] // 3
        closed = s.welded.closed[s.welded.piece[face]]
        # Edges of solids do not begin in the faces at their ends.
        inset = (b - a) * np.where(closed, ENDS, 0.0)[:, None]
        # No more than rays need, or what crosses by little would be missed.
        return _Edges(a + inset, b - inset, normal[real], face, closed, s.extent * 5e-6)

    def lifted(self, sign: float) -> tuple[F64, F64]:
        """Starts and ends a little outside (1) of their solids, or inside (-1); of sheets, always off the face."""
        lift = self.normal * (np.where(self.closed, sign, 1.0) * self.step)[:, None]
        return self.start + lift, self.end + lift


def _entered(s: Subject, edges: _Edges, ends: tuple[F64, F64], rows: I64) -> tuple[I32, F64]:
    """The face by which each of some edges enters another solid, -1 for none, and how far along it lies.

    Args:
        ends: (n, 3) where each edge starts and ends. rows: (m,) edges.
    """
    scene = s.baking
    start, run = ends[0][rows], ends[1][rows] - ends[0][rows]
    if not len(rows):
        return np.zeros(0, np.int32), np.zeros(0)
    hit, share = _first_within(s.space, start.astype(np.float32), run.astype(np.float32), 1.0)
    length = np.linalg.norm(run, axis=1)
    own, other = scene.node[edges.face[rows]], scene.node[hit]
    into = np.einsum("ij,ij->i", scene.face_normals[hit], run) < 0
    smaller = np.minimum(s.sizes[own], s.sizes[other])
    deep = np.minimum(share, 1.0 - share) * length > CROSSING * smaller
    enters = (hit >= 0) & (share < 1.0) & (other != own) & into & deep & s.welded.closed[s.welded.piece[hit]]
    return np.where(enters, hit, -1).astype(np.int32), share


def _planted(
    s: Subject, face: I64, hit: I32, places: F64, crossing: NDArray[np.bool_], through: NDArray[np.bool_]
) -> NDArray[np.bool_]:  # fmt: skip
    """(n,) which crossing edges are of something that is meant to stand in something far larger, as a post in the
    ground or a beam in a wall: the larger one's own edges do not enter it, and it goes in by one side.

    Args:
        face: (n,) that each edge is of. hit: (n,) that it enters by. places: (n, 3) where. through: (n,) bool, whether
            it comes out again.
    """
    count, piece = len(s.baking.node_names), s.welded.piece[face]
    own, other = s.baking.node[face].astype(np.int64), s.baking.node[hit].astype(np.int64)
    key = own * count + other
    entered = set(key[crossing].tolist())
    normals = s.baking.face_normals[hit].astype(np.float64)
    offset = np.einsum("ij,ij->i", normals, s.baking.corners[hit, 0] - s.space.centre)
    planted = np.zeros(len(face), np.bool_)
    rows = np.flatnonzero(crossing)
    for _, mine in rows_by(_numbered(key[rows])):
        at = rows[mine]
        a, b = int(own[at[0]]), int(other[at[0]])
        # Each leg of a table needs a hole of its own.
        hole = max(float(np.linalg.norm(np.ptp(places[at[part]], axis=0))) for _, part in rows_by(piece[at]))
        larger = s.sizes[b] >= min(PLANTED * s.sizes[a], OF_HOLE * hole)
        # By shares of the level's extent, so that a level in other units or far from its origin is judged alike.
        one_side = (
            not through[at].any()
            and np.ptp(normals[at], axis=0).max() < 1e-3
            and np.ptp(offset[at]) < 10 * SAME_PLANE * s.extent
        )
        planted[at] = larger and one_side and b * count + a not in entered
    return planted


def _numbered(keys: I64) -> I32:
    """The same keys as small numbers."""
    return np.unique(keys, return_inverse=True)[1].astype(np.int32)


@BEFORE.detector({"hair-gap": "Gap of a hair"}, SHAPES, version=2)
def nearly_touching(s: Subject) -> Iterator[Finding]:
    """Objects that nearly touch: what cuts space along planes may stumble."""
    scene = s.baking
    if not len(scene):
        return
    middle = scene.corners.mean(axis=1, keepdims=True)
    points = (scene.corners * 0.96 + middle * 0.04).reshape(-1, 3) - s.space.centre
    owner = np.repeat(np.arange(len(scene)), 3)
    normal = np.repeat(scene.face_normals, 3, axis=0)
    lift = s.extent * 1e-6
    start = (points + normal * lift).astype(np.float32)
    hit, far = _first_within(s.space, start, normal, HAIR_OF_LEVEL * s.extent)
    other = scene.node[hit]
    own = scene.node[owner]
    least = np.minimum(s.sizes[own], s.sizes[other])
    faced = np.einsum("ij,ij->i", scene.face_normals[hit], normal) < -0.5
    near = (hit >= 0) & (other != own) & faced & (far > NO_GAP * s.extent) & (far < HAIR_OF_LEVEL * s.extent)
    # A round thing touches in one point: beside it there is a gap of every width.
    near &= ~_rounding(s, owner, hit)
    rows = np.flatnonzero(near & (far < HAIR * least))
    own, other, far = own[rows], other[rows], far[rows]
    named = set(_smaller_first(s, own, other))
    for node, mine in rows_by(own):
        if node not in named:
            continue
        others = sorted({short(scene.node_names[n]) for n in other[mine]})
        name = scene.node_names[node]
        reason = f"It stands {_length(float(np.median(far[mine])))} off {listed(others)}, too little to be meant."
        at = as_place(points[rows[mine[0]]] + s.space.centre)
        yield Finding("hair-gap", "note", name, reason, "Let it touch, or move it clear", at)


def _rounding(s: Subject, face: NDArray[np.int64], hit: I32) -> NDArray[np.bool_]:
    """(n,) whether a face, or the one that it faces, is a small piece of a round surface."""
    scene = s.baking
    shading = scene.normals.astype(np.float64)
    flat = np.einsum("tck,tk->tc", shading, scene.face_normals.astype(np.float64)).min(axis=1) > 1.0 - 1e-5
    found: NDArray[np.bool_] = ~flat[face] | ~flat[hit]
    return found


def _length(metres: float) -> str:
    return f"{1e3 * metres:.2g} mm" if metres < 0.1 else f"{metres:.2g} m"


def _smaller_first(s: Subject, a: I32, b: I32) -> list[int]:
    """Of each pair, the object to name; every pair is told once.

    Args:
        a: objects whose rays met objects b.
    """
    swap = (s.sizes[a] > s.sizes[b]) | ((s.sizes[a] == s.sizes[b]) & (a > b))
    pairs = {(int(y), int(x)) if w else (int(x), int(y)) for x, y, w in zip(a, b, swap)}
    seen_from = set(a.tolist())
    # A gap is told of the smaller object, or of the larger where only its rays met the smaller one.
    return sorted({small if small in seen_from else large for small, large in pairs})


def _first_within(space: RaySpace, start: F32, direction: F32, reach: float) -> tuple[I32, F64]:
    """First triangle along each ray, and its distance in lengths of the direction; -1 and infinity for none.

    Most rays meet nothing within their reach, which a shadow query tells far sooner than a search for the first hit.
    """
    direction = np.ascontiguousarray(direction, np.float32)
    lengths = np.full(len(start), reach, np.float32)
    rows = np.flatnonzero(space.blocked_by(start, direction, lengths, cores()))
    hit, far = np.full(len(start), -1, np.int32), np.full(len(start), np.inf)
    hit[rows] = space.first_hit(start[rows], direction[rows])
    rows = rows[hit[rows] >= 0]
    if len(rows):
        triangle = space.vertices[hit[rows]].astype(np.float64)
        normal = np.cross(triangle[:, 1] - triangle[:, 0], triangle[:, 2] - triangle[:, 0])
        along = np.einsum("ij,ij->i", normal, direction[rows])
        offset = np.einsum("ij,ij->i", normal, triangle[:, 0] - start[rows])
        far[rows] = offset / np.where(np.abs(along) > 1e-300, along, 1e-300)
    return hit, far


@BEFORE.detector({"coplanar": "Faces in one plane"}, SHAPES, LIGHTS)
def coplanar(s: Subject) -> Iterator[Finding]:
    """Faces of different objects that lie in one plane, look the same way and cover each other in the open."""
    scene = s.baking
    if len(scene) < 2:
        return
    first, second, area, places = _pairs(s)
    if not len(first):
        return
    # What is inside out is told as that.
    turned = turned_pieces(s)[s.welded.piece]
    open_ = _in_the_open(s, first, places) & ~turned[first] & ~turned[second]
    first, second, area, places = first[open_], second[open_], area[open_], places[open_]
    a, b = scene.node[first], scene.node[second]
    # The smaller object is the one to move.
    swap = s.sizes[a] > s.sizes[b]
    small, large = np.where(swap, b, a), np.where(swap, a, b)
    for node, mine in rows_by(small):
        covered = float(area[mine].sum())
        if covered < LEAST_SHARE * s.sizes[node] ** 2:
            continue
        others = sorted({short(scene.node_names[n]) for n in large[mine]})
        name = scene.node_names[node]
        at = places[mine[np.argmax(area[mine])]]
        reason = (
            f"{area_words(covered)} of it lie in the plane of {listed(others)}: both claim the same texels of the "
            f"picture, which flickers and darkens."
        )
        yield Finding("coplanar", "warning", name, reason, "Move it off the plane by a few millimetres", as_place(at))


def _pairs(s: Subject) -> tuple[I64, I64, F64, F64]:
    """Faces that share a plane and cover each other: first, second, area, place."""
    scene = s.baking
    normals = scene.face_normals.astype(np.float64)
    offset = np.einsum("ij,ij->i", normals, scene.corners.mean(axis=1) - s.space.centre)
    keys = np.round(normals * NORMAL_STEPS).astype(np.int64) + 1024
    direction = (keys[:, 0] * 4096 + keys[:, 1]) * 4096 + keys[:, 2]
    by_plane = np.lexsort((offset, direction))
    gap = np.diff(offset[by_plane]) > SAME_PLANE * s.extent
    step = np.append(False, gap | (np.diff(direction[by_plane]) != 0))
    plane = np.cumsum(step)
    group = np.empty(len(scene), np.int64)
    group[by_plane] = plane
    crowded = np.bincount(plane)[group] > 1
    along = np.argmin(np.abs(normals), axis=1)
    axis = np.eye(3)[along] - normals * normals[np.arange(len(normals)), along][:, None]
    # All faces of a plane need the same frame: that of its first one.
    lead = np.zeros(int(plane.max()) + 1, np.int64)
    lead[plane[::-1]] = by_plane[::-1]
    axis = axis[lead[group]]
    axis /= np.linalg.norm(axis, axis=1, keepdims=True)
    across = np.cross(normals[lead[group]], axis)
    local = scene.corners - s.space.centre
    reach = np.einsum("tck,tk->tc", local, axis)
    low, high = reach.min(axis=1), reach.max(axis=1)
    rows = np.flatnonzero(crowded)
    order = rows[np.lexsort((low[rows], group[rows]))]
    frames = np.stack([axis[order], across[order]], axis=1)
    room = (np.zeros(MOST_PAIRS, np.int64), np.zeros(MOST_PAIRS, np.int64), np.zeros(MOST_PAIRS))
    places = np.zeros((MOST_PAIRS, 3))
    least = (s.extent * 1e-4) ** 2
    found = overlapping_pairs(
        order, group[order], low[order], high[order], scene.node, np.ascontiguousarray(local), frames, least, *room,
        places,
    )  # fmt: skip
    return room[0][:found], room[1][:found], room[2][:found], places[:found] + s.space.centre


def _in_the_open(s: Subject, faces: I64, places: F64) -> NDArray[np.bool_]:
    """(n,) whether a place on a face is not inside some solid: a ray along the normal meets no back face first."""
    scene = s.baking
    normals = scene.face_normals[faces]
    start = (places - s.space.centre + normals * (s.extent * 3e-5)).astype(np.float32)
    hit = s.space.first_hit(start, np.ascontiguousarray(normals))
    back = np.einsum("ij,ij->i", scene.face_normals[hit], normals) > 0
    found: NDArray[np.bool_] = ~((hit >= 0) & back & ~scene.double_sided[hit])
    return found
