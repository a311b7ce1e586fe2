"""Parts of the mill's houses: walls with holes, gables, roofs, a hopper; in metres, Y up."""

from __future__ import annotations

import math

import numpy as np

from ropebell.demo.shapes import Shape, box, joined, quad

# Metres that a wall is thick.
WALL = 0.3


def wall_x(
    x0: float, x1: float, y0: float, y1: float, z: float, holes: list[tuple[float, float, float, float]]
) -> Shape:
    """A wall along X, `WALL` thick from z on, with rectangular holes (x0, x1, y0, y1) in ascending order."""
    parts = []
    at_x = x0
    for hx0, hx1, hy0, hy1 in holes:
        parts.append(box((at_x, y0, z), (hx0, y1, z + WALL)))
        if hy0 > y0:
            parts.append(box((hx0, y0, z), (hx1, hy0, z + WALL)))
        if hy1 < y1:
            parts.append(box((hx0, hy1, z), (hx1, y1, z + WALL)))
        at_x = hx1
    parts.append(box((at_x, y0, z), (x1, y1, z + WALL)))
    return joined(parts)


def wall_z(
    z0: float, z1: float, y0: float, y1: float, x: float, holes: list[tuple[float, float, float, float]]
) -> Shape:
    """A wall along Z, `WALL` thick from x on, with holes (z0, z1, y0, y1)."""
    # Swapping X and Z mirrors the solid, which the reversed winding undoes.
    w = wall_x(z0, z1, y0, y1, x, holes)
    return Shape(w.positions[:, [2, 1, 0]].copy(), w.normals[:, [2, 1, 0]].copy(), w.uv, w.triangles[:, ::-1].copy())


def gable(half: float, height: float) -> Shape:
    """A triangular wall across Z, `WALL` thick along X."""
    a, b, c = (0, 0, -half), (0, 0, half), (0, height, 0)
    front = np.array([a, b, c], np.float32)
    back = front + np.array([WALL, 0, 0], np.float32)

    def face(points: np.ndarray, order: list[int]) -> Shape:
        p = points[order]
        n = np.cross(p[1] - p[0], p[2] - p[0])
        n = n / np.linalg.norm(n)
        return Shape(
            p.astype(np.float32),
            np.repeat(n[None], 3, 0).astype(np.float32),
            p[:, [2, 1]].astype(np.float32),
            np.array([[0, 1, 2]], np.int32),
        )

    sides = [
        quad([front[1], back[1], back[2], front[2]]),
        quad([front[2], back[2], back[0], front[0]]),
        quad([front[0], back[0], back[1], front[1]]),
    ]
    return joined([face(front, [0, 1, 2]), face(back, [0, 2, 1]), *sides])


def roof_slab(length: float, run: float, slope: float) -> Shape:
    """Rows of tiles on a slope that rises with Z."""
    rows = []
    count = 22
    depth = run / math.cos(slope) / count
    for i in range(count):
        low = i * depth * 0.98
        for k in range(14):
            width = length / 14
            tile = box((k * width + 0.005, 0, low), ((k + 1) * width - 0.005, 0.035, low + depth * 1.1))
            rows.append(tile.moved(0, 0.012 * (i % 2), 0))
    under = box((0, -0.12, 0), (length, -0.01, run / math.cos(slope)))
    return joined([*rows, under]).rotated(0, -slope)


def hopper(low: float, high: float, height: float) -> Shape:
    """Four sloping sides, open above and below, both faces solid; every side has the same picture coordinates."""
    parts = []
    for k in range(4):
        outer = quad([(-low, 0, low), (low, 0, low), (high, height, high), (-high, height, high)])
        inner = quad(
            [
                (low, 0, low - 0.03),
                (-low, 0, low - 0.03),
                (-high, height, high - 0.03),
                (high, height, high - 0.03),
            ]
        )
        parts += [outer.rotated(1, k * math.pi / 2), inner.rotated(1, k * math.pi / 2)]
    return joined(parts)
