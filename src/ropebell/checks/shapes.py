"""Checks of each object's own shape: thin faces, sides, angles a hair off."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.checks.before import BEFORE, LIGHTS, MARKS, SHAPES
from ropebell.checks.remedies import LEAVE_OUT, TURN_FACES, TWO_SIDED
from ropebell.checks.subject import Subject, as_place, rows_by
from ropebell.checks.walls import thicker
from ropebell.level.finding import Finding
from ropebell.level.model import F64
from ropebell.level.scene import Scene
from ropebell.level.triangles import longest_squared
from ropebell.light.sampling import fibonacci_sphere

# Lower than this share of its longest edge, a face's normal and its hits hang on the last bits of a float.
SLIVER = 1e-4
# Faces between these angles from an axis look meant to lie along it. Degrees.
ODD_LEAST, ODD_MOST = 0.03, 1.5
ODD_SHARE = 0.3
OPEN_LOOKS = 6
# Eyes that are tried for a back, and looks round where there are none, of which so many must fall on something.
EYES, OPEN_LOOKS_ROUND, LOOKS_OUT = 160, 8, 0.6
# A board begins at so many texels in height and width, and is upright within about 30°.
BOARD_TEXELS, UPRIGHT = 8.0, 0.5


@BEFORE.detector({"sliver": "Sliver"}, SHAPES)
def slivers(s: Subject) -> Iterator[Finding]:
    """Objects with faces so thin that the ray library may answer with anything."""
    scene = s.baking
    edges = np.sqrt(longest_squared(scene.corners))
    thin = 2.0 * scene.areas < SLIVER * edges * edges
    found = np.flatnonzero(thin)
    for node, mine in rows_by(scene.node[found]):
        rows = found[mine]
        name = scene.node_names[node]
        count = f"{len(rows)} faces are" if len(rows) > 1 else "A face is"
        height = 2 * scene.areas[rows[0]] / edges[rows[0]]
        reason = (
            f"{count} slivers: {1e3 * edges[rows[0]]:.3g} mm long and {1e3 * height:.2g} mm high. On some machines "
            f"such a face gives a non-finite value, and the whole level goes black."
        )
        place = as_place(scene.corners[rows[0]].mean(axis=0))
        yield Finding(
            "sliver", "warning", name, reason, "Clean the mesh, or leave the object out", place,
            LEAVE_OUT.of(name),
        )  # fmt: skip


@BEFORE.detector({"inside-out": "Inside out"}, SHAPES, LIGHTS)
def inside_out(s: Subject) -> Iterator[Finding]:
    """Closed solids whose faces look inward, unless something is inside: then it is a room."""
    welded = s.welded
    turned = turned_pieces(s)
    whole = np.bincount(welded.node, welded.area, len(s.baking.node_names))
    part = np.bincount(welded.node, welded.area * turned, len(s.baking.node_names))
    for node in np.unique(welded.node[turned]):
        share = part[node] / whole[node]
        name = s.baking.node_names[node]
        what = "It is" if share > 0.99 else f"{100 * share:.0f} % of it is"
        reason = f"{what} inside out: its faces look inward, so from outside it is black."
        where, fix = ("", TURN_FACES.of(name)) if share > 0.99 else (" in the editor", ())
        yield Finding("inside-out", "error", name, reason, f"Turn its faces round{where}", s.centre(int(node)), fix)


def turned_pieces(s: Subject) -> NDArray[np.bool_]:
    """(K,) whether a piece is closed, faces inward and holds nothing."""
    welded = s.welded
    size = np.maximum((welded.high - welded.low).max(axis=1), 1e-9)
    turned = welded.closed & (welded.volume < -1e-7 * size**3)
    for piece in np.flatnonzero(turned):
        turned[piece] = not _contains_anything(s, int(piece))
    found: NDArray[np.bool_] = turned
    return found


def _contains_anything(s: Subject, piece: int) -> bool:
    welded = s.welded
    low, high = welded.low[piece], welded.high[piece]
    margin = 0.02 * (high - low)
    node_low, node_high = s.node_bounds
    inside = (node_low > low + margin * 0.01).all(axis=1) & (node_high < high - margin * 0.01).all(axis=1)
    if (inside & np.isfinite(node_low).all(axis=1)).any():
        return True
    middles = [light.position for light in s.scene.lights if light.kind != "directional"]
    return any(((m > low + margin) & (m < high - margin)).all() for m in middles)


@BEFORE.detector({"open-back": "Open back"}, SHAPES, MARKS, version=2)
def open_sheets(s: Subject) -> Iterator[Finding]:
    """One-sided surfaces with a border whose back can be seen: black from there."""
    welded = s.welded
    scene = s.baking
    one_sided = ~scene.double_sided
    rows = np.flatnonzero(one_sided & ~welded.closed[welded.piece]) if len(scene) else np.zeros(0, np.int64)
    if not len(rows):
        return
    # A few faces a piece are enough to tell.
    order = rows[np.argsort(welded.piece[rows], kind="stable")]
    rank = np.arange(len(order)) - np.searchsorted(welded.piece[order], welded.piece[order])
    rows = order[rank < OPEN_LOOKS]
    seen = _back_is_seen(s, scene, rows)
    rows = rows[seen]
    for node, which in rows_by(scene.node[rows]):
        mine = rows[which]
        name = scene.node_names[node]
        reason = "It is open and one-sided, and its back lies in the open: from there it is black."
        yield Finding(
            "open-back", "note", name, reason, "Make it two-sided, or close it",
            as_place(scene.corners[mine[0]].mean(axis=0)), TWO_SIDED.of(name),
        )  # fmt: skip


def _back_is_seen(s: Subject, scene: Scene, rows: np.ndarray) -> np.ndarray:
    """(n,) whether players can see a face's back; where nothing says who looks, whether it looks out on lit sides of
    other things, and not into the ground, a solid or the void."""
    middle = scene.corners[rows].mean(axis=1) - s.space.centre
    into = -scene.face_normals[rows].astype(np.float64)
    start = middle + into * s.extent * 2e-5
    if s.floors is not None and len(s.floors.floors):
        eyes = s.floors.eyes - s.space.centre
        return _any_eye(s, start, into, eyes[np.linspace(0, len(eyes) - 1, min(EYES, len(eyes))).astype(np.int64)])
    looks = fibonacci_sphere(4 * OPEN_LOOKS_ROUND).astype(np.float64)
    seen = np.zeros(len(rows), np.int64)
    for look in looks:
        way = np.where((into @ look > 0)[:, None], look, -look)
        way = (way + 0.2 * into).astype(np.float32)
        hit = s.space.first_hit(start.astype(np.float32), way)
        front = np.einsum("ij,ij->i", scene.face_normals[hit], way) < 0
        other = scene.node[hit] != scene.node[rows]
        seen += (hit >= 0) & other & (front | scene.double_sided[hit])
    return seen > LOOKS_OUT * len(looks)


def _any_eye(s: Subject, start: np.ndarray, into: np.ndarray, eyes: np.ndarray) -> np.ndarray:
    """(n,) whether any of some eyes sees a point from the side that it looks to."""
    found = np.zeros(len(start), np.bool_)
    nearest = (
        np.argsort(((start[:, None] - eyes[None]) ** 2).sum(axis=2), axis=1, kind="stable") if len(start) else None
    )
    for k in range(len(eyes)):
        left = np.flatnonzero(~found)
        if not len(left) or nearest is None:
            break
        way = eyes[nearest[left, k]] - start[left]
        left, way = (x[np.einsum("ij,ij->i", way, into[left]) > 0] for x in (left, way))
        free = ~s.space.blocked(
            start[left].astype(np.float32), way.astype(np.float32), np.full(len(left), 0.999, np.float32)
        )  # fmt: skip
        found[left[free]] = True
    return found


@BEFORE.detector({"odd-angle": "A hair off the axes"}, SHAPES, version=2)
def odd_angles(s: Subject) -> Iterator[Finding]:
    """Objects most of whose faces lie a hair off an axis: a risk for what cuts space along axes."""
    scene = s.baking
    if not len(scene):
        return
    # The level as a whole may stand askew: what counts is how objects stand to the rest of it.
    along = np.abs(scene.face_normals.astype(np.float64) @ s.frame).max(axis=1).clip(0, 1)
    off = np.degrees(np.arccos(along))
    odd = (off > ODD_LEAST) & (off < ODD_MOST)
    count = len(scene.node_names)
    share = np.bincount(scene.node, scene.areas * odd, count) / np.maximum(
        np.bincount(scene.node, scene.areas, count), 1e-300
    )
    rows = np.flatnonzero(odd & (share[scene.node] > ODD_SHARE))
    for node, which in rows_by(scene.node[rows]):
        name = scene.node_names[node]
        angle = float(np.median(off[rows[which]]))
        reason = f"It stands {angle:.2g}° off the axes, too little to be meant."
        yield Finding("odd-angle", "note", name, reason, "Turn it onto the grid in the editor", s.centre(int(node)))


@BEFORE.detector({"thin-wall": "Thinner than a texel"}, SHAPES, version=3)
def thin_walls(s: Subject) -> Iterator[Finding]:
    """Boards thinner than a texel of the final density that stand on a surface which runs on behind them: texels of it
    lie on both of their sides."""
    found: dict[int, list[float]] = {}
    for board in thin_boards(s):
        if _stands_on_both_sides(s, board):
            found.setdefault(board.node, []).append(board.thick)
    for node, thick in found.items():
        name = s.baking.node_names[node]
        texel = 1.0 / s.texels_per_metre
        reason = (
            f"It is {1e3 * float(np.median(thick)):.3g} mm thick and a texel {1e3 * texel:.3g} mm wide: light of one "
            f"side will show along its foot on the other."
        )
        fix = thicker(s.level, node, float(np.median(thick)), texel)
        yield Finding(
            "thin-wall", "warning", name, reason, "Make it thicker, or raise the density there", s.centre(int(node)),
            fix[0] if fix else (),
        )  # fmt: skip


@dataclass(frozen=True, eq=False)
class Board:
    """A flat piece.

    Attributes:
        node: its object. middle: (3,) metres. across: (3,) unit normal of its large faces. sides: two (3,) unit ways
            along them. half: metres from the middle to its rim along each. thick: metres.
    """

    node: int
    middle: F64
    across: F64
    sides: tuple[F64, F64]
    half: tuple[float, float]
    thick: float


def thin_boards(s: Subject) -> Iterator[Board]:
    """Upright walls of boards thinner than a texel, and several texels wide and high; boards side by side are one."""
    welded, texel = s.welded, 1.0 / s.texels_per_metre
    if not len(welded.node):
        return
    flat = 2.0 * np.abs(welded.volume) / np.maximum(welded.area, 1e-300)
    thin = (welded.closed & (flat < texel))[welded.piece]
    faces = s.baking.face_normals.astype(np.float64)
    # The large faces of a board are most of it.
    largest = np.zeros(len(welded.node), np.int64)
    order = np.argsort(s.baking.areas, kind="stable")
    largest[welded.piece[order]] = order
    across = faces[largest]
    across *= np.where(np.abs(across).max(axis=1) == across.max(axis=1), 1.0, -1.0)[:, None]
    middle = 0.5 * (welded.low + welded.high) - s.space.centre
    offset = np.round(np.einsum("ij,ij->i", across, middle) / texel).astype(np.int64)
    keys = np.concatenate([np.round(across * 200).astype(np.int64), offset[:, None], welded.node[:, None]], axis=1)
    _, number = np.unique(keys, axis=0, return_inverse=True)
    rows = np.flatnonzero(thin & (np.abs(across[welded.piece, 1]) < UPRIGHT))
    for _, mine in rows_by(number.ravel()[welded.piece[rows]].astype(np.int32)):
        board = _board_of(s, rows[mine], across[welded.piece[rows[mine[0]]]])
        if board is not None:
            yield board


def _board_of(s: Subject, rows: NDArray[np.int64], across: F64) -> Board | None:
    """Faces as a board, None where they are none, or not thinner than a texel.

    Args:
        across: (3,) unit normal of the large ones.
    """
    texel = 1.0 / s.texels_per_metre
    normals, areas = s.baking.face_normals[rows].astype(np.float64), s.baking.areas[rows]
    if areas[np.abs(normals @ across) > 0.999].sum() < 0.5 * areas.sum():
        return None
    up = np.array([0.0, 1.0, 0.0]) - across[1] * across
    up /= np.linalg.norm(up)
    side = np.cross(up, across)
    points = s.baking.corners[rows].reshape(-1, 3)
    (a, b), (c, d), (e, f) = ((float((points @ way).min()), float((points @ way).max())) for way in (across, side, up))
    if b - a >= texel or min(d - c, f - e) < BOARD_TEXELS * texel:
        return None
    middle = 0.5 * ((a + b) * across + (c + d) * side + (e + f) * up)
    return Board(int(s.baking.node[rows[0]]), middle, across, (side, up), ((d - c) / 2, (f - e) / 2), b - a)


def _stands_on_both_sides(s: Subject, board: Board) -> bool:
    """Whether a surface runs on from one side of a board to the other along one of its rims, with room on both."""
    texel = 1.0 / s.texels_per_metre
    clear = board.thick / 2 + texel
    (side, up), (wide, high) = board.sides, board.half
    places = np.linspace(-0.8, 0.8, 7)
    for along, reach, toward, rim in (
        (side, wide, -up, high),
        (side, wide, up, high),
        (up, high, side, wide),
        (up, high, -side, wide),
    ):
        foot = board.middle + toward * (rim - 0.5 * texel) + np.outer(places * reach, along)
        met = []
        for sign in (1.0, -1.0):
            start = foot + sign * clear * board.across - s.space.centre
            # From the board's own place outward nothing is in the way, and below the rim there is something.
            free = ~s.space.blocked(
                (start - sign * texel * 0.5 * board.across).astype(np.float32),
                np.repeat(sign * board.across[None], len(start), axis=0).astype(np.float32),
                np.full(len(start), 1.5 * texel, np.float32),
            )  # fmt: skip
            down = np.repeat(toward[None], len(start), axis=0).astype(np.float32)
            ground = s.space.blocked(start.astype(np.float32), down, np.full(len(start), 1.2 * texel, np.float32))
            met.append(free & ground)
        if (met[0] & met[1]).sum() >= 3:
            return True
    return False
