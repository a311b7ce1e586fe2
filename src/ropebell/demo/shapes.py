"""Solids the sample level is made of: flat-shaded boxes, round things with smooth normals; metres, wound outward."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ropebell.level.model import F32, I32


@dataclass(frozen=True, eq=False)
class Shape:
    """Triangles with normals and picture coordinates.

    Attributes:
        positions: (V, 3) float32; normals: (V, 3) float32; uv: (V, 2) float32; triangles: (T, 3) int32.
    """

    positions: F32
    normals: F32
    uv: F32
    triangles: I32

    def turned_inside_out(self) -> Shape:
        """The same solid with every face to the inside."""
        return Shape(self.positions, -self.normals, self.uv, self.triangles[:, ::-1].copy())

    def moved(self, x: float, y: float, z: float) -> Shape:
        """Shifted by metres."""
        moved = (self.positions + np.array([x, y, z], np.float32)).astype(np.float32)
        return Shape(moved, self.normals, self.uv, self.triangles)

    def rotated(self, axis: int, angle: float) -> Shape:
        """Turned about a coordinate axis by radians."""
        c, s = math.cos(angle), math.sin(angle)
        i, j = (axis + 1) % 3, (axis + 2) % 3
        turn = np.eye(3)
        turn[i, i], turn[i, j], turn[j, i], turn[j, j] = c, -s, s, c
        turned = (self.positions @ turn.T, self.normals @ turn.T)
        return Shape(turned[0].astype(np.float32), turned[1].astype(np.float32), self.uv, self.triangles)


def joined(shapes: Sequence[Shape]) -> Shape:
    """Several shapes as one."""
    starts = np.cumsum([0, *(len(s.positions) for s in shapes[:-1])])
    return Shape(
        np.concatenate([s.positions for s in shapes]),
        np.concatenate([s.normals for s in shapes]),
        np.concatenate([s.uv for s in shapes]),
        np.concatenate([s.triangles + start for s, start in zip(shapes, starts)]).astype(np.int32),
    )


def quad(corners: Sequence[Sequence[float]]) -> Shape:
    """A flat quadrilateral, counter-clockwise seen from its front; picture coordinates in metres."""
    p = np.array(corners, dtype=np.float64)
    u = (p[1] - p[0]) / np.linalg.norm(p[1] - p[0])
    n = np.cross(p[1] - p[0], p[2] - p[0])
    n /= np.linalg.norm(n)
    v = np.cross(n, u)
    uv = np.stack([(p - p[0]) @ u, -((p - p[0]) @ v)], axis=1)
    order = np.array([[0, 1, 2], [0, 2, 3]], np.int32)
    return Shape(p.astype(np.float32), np.repeat(n[None], 4, 0).astype(np.float32), uv.astype(np.float32), order)


def _unit_box() -> Shape:
    """The box from 0 to 1, four vertices a side."""
    o, i = 0.0, 1.0
    return joined(
        [
            quad([(o, o, i), (i, o, i), (i, i, i), (o, i, i)]),
            quad([(i, o, o), (o, o, o), (o, i, o), (i, i, o)]),
            quad([(i, o, i), (i, o, o), (i, i, o), (i, i, i)]),
            quad([(o, o, o), (o, o, i), (o, i, i), (o, i, o)]),
            quad([(o, i, i), (i, i, i), (i, i, o), (o, i, o)]),
            quad([(o, o, o), (i, o, o), (i, o, i), (o, o, i)]),
        ]
    )


def box(low: Sequence[float], high: Sequence[float]) -> Shape:
    """An axis-aligned box; picture coordinates in metres, u along the horizontal."""
    low_, size = np.array(low), np.array(high) - np.array(low)
    positions = (low_ + _UNIT_BOX.positions * size).astype(np.float32)
    # Which extents u and v run along, side by side as in `_unit_box`.
    scale = np.repeat(size[[[0, 1], [0, 1], [2, 1], [2, 1], [0, 2], [0, 2]]], 4, axis=0)
    return Shape(positions, _UNIT_BOX.normals, (_UNIT_BOX.uv * scale).astype(np.float32), _UNIT_BOX.triangles)


def cylinder(radius: float, length: float, sides: int, top: float | None = None) -> Shape:
    """A closed cylinder or cone along +Y from the origin; smooth round its side.

    Args:
        top: radius at the upper end, the same as `radius` if None.
    """
    upper = radius if top is None else top
    turn = np.linspace(0, 2 * np.pi, sides + 1)
    ring = np.stack([np.cos(turn), np.zeros_like(turn), np.sin(turn)], axis=1)
    slope = (radius - upper) / length
    normal = ring + [0, slope, 0]
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    uv = np.stack([turn * radius, np.zeros_like(turn)], axis=1)
    i = np.arange(sides)
    side = Shape(
        np.concatenate([ring * radius, ring * upper + [0, length, 0]]).astype(np.float32),
        np.concatenate([normal, normal]).astype(np.float32),
        np.concatenate([uv, uv + [0, length]]).astype(np.float32),
        np.concatenate(
            [np.stack([i, i + sides + 1, i + 1], 1), np.stack([i + 1, i + sides + 1, i + sides + 2], 1)]
        ).astype(np.int32),
    )
    return joined([side, *(_cap(r, y, up, sides) for r, y, up in ((radius, 0.0, -1), (upper, length, 1)) if r > 0)])


def _cap(radius: float, y: float, up: int, sides: int) -> Shape:
    turn = np.linspace(0, 2 * np.pi, sides, endpoint=False)
    ring = np.stack([np.cos(turn) * radius, np.full(sides, y), np.sin(turn) * radius], axis=1)
    i = np.arange(1, sides - 1)
    fan = np.stack([np.zeros_like(i), i + 1, i] if up > 0 else [np.zeros_like(i), i, i + 1], axis=1)
    normals = np.repeat([[0, float(up), 0]], sides, axis=0)
    return Shape(
        ring.astype(np.float32),
        normals.astype(np.float32),
        ring[:, [0, 2]].astype(np.float32),
        fan.astype(np.int32),
    )


def ball(radius: float, rows: int, columns: int, squash: float = 1.0) -> Shape:
    """A sphere about the origin, flattened in Y by `squash`."""
    down = np.linspace(0, np.pi, rows + 1)[:, None]
    turn = np.linspace(0, 2 * np.pi, columns + 1)[None, :]
    n = np.stack([np.sin(down) * np.cos(turn), np.cos(down) + 0 * turn, np.sin(down) * np.sin(turn)], axis=2).reshape(
        -1, 3
    )
    normal = n / [1, squash, 1]
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    uv = np.stack([(0 * down + turn) * radius, (down + 0 * turn) * radius], axis=2).reshape(-1, 2)
    width = columns + 1
    faces = []
    for r in range(rows):
        for c in range(columns):
            a = r * width + c
            if r > 0:
                faces.append([a, a + 1, a + width])
            if r < rows - 1:
                faces.append([a + 1, a + width + 1, a + width])
    positions = (n * [radius, radius * squash, radius]).astype(np.float32)
    return Shape(positions, normal.astype(np.float32), uv.astype(np.float32), np.array(faces, np.int32))


def wheel(radius: float, width: float, spokes: int, teeth: int, tooth: float) -> Shape:
    """A wooden wheel about the X axis: two rims, spokes, and teeth or paddles round it."""
    parts = []
    segments = max(teeth, 24)
    thick = 0.07 * radius
    for side in (-width / 2, width / 2 - 0.08):
        for k in range(segments):
            half = radius * math.tan(math.pi / segments)
            plank = box((side, radius - thick, -half), (side + 0.08, radius, half))
            parts.append(plank.rotated(0, 2 * math.pi * k / segments))
    for k in range(spokes):
        spoke = box((-0.06, 0.1 * radius, -0.05), (0.06, radius - thick, 0.05))
        parts.append(spoke.rotated(0, 2 * math.pi * k / spokes))
    for k in range(teeth):
        paddle = box((-width / 2, radius - 0.02, -0.03), (width / 2, radius + tooth, 0.03))
        parts.append(paddle.rotated(0, 2 * math.pi * (k + 0.5) / teeth))
    hub = cylinder(0.14 * radius, width * 1.3, 16).moved(0, -width * 0.65, 0).rotated(2, -math.pi / 2)
    return joined([*parts, hub])


_UNIT_BOX = _unit_box()
