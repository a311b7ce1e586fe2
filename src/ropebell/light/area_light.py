"""Rectangles, disks and tubes of light: shapes that no ray meets, sampled as the glowing triangles they are made of.

All shine with the same radiance everywhere and in every direction of their front. Their strength is the luminous
intensity in candela where they are brightest: along the normal of a rectangle or disk, I = L·A; square to the axis of a
tube, I = L·2·r·l. So twice the area at the same strength is half the radiance, and from afar all are as a point light.
"""

from __future__ import annotations

import math

import numpy as np

from ropebell.level.arrange import aimed
from ropebell.level.model import F64
from ropebell.level.placed_light import PlacedLight

# Few enough that the kernel chooses among the triangles by the angle they fill.
DISK_SIDES, TUBE_SIDES = 48, 32


def frame_of(light: PlacedLight) -> F64:
    """(3, 3) rows: right, up and front of a light, the first two turned by its roll about the third."""
    world = aimed(light.position, light.direction)[:3, :3]
    right, up, front = world[:, 0], world[:, 1], -world[:, 2]
    c, s = math.cos(light.roll), math.sin(light.roll)
    return np.stack([c * right + s * up, c * up - s * right, front])


def shape_of(light: PlacedLight) -> F64:
    """(n, 3, 3) triangles of an area light in the level's frame, wound so that they face where it shines."""
    right, up, front = frame_of(light)
    if light.kind == "rectangle":
        x, y = right * light.width / 2, up * light.height / 2
        a, b, c, d = (light.position + i * x + j * y for i, j in ((-1, -1), (1, -1), (1, 1), (-1, 1)))
        # Right × up points away from the front: it is wound the other way round.
        return np.array([[a, c, b], [a, d, c]])
    if light.kind == "disk":
        # A polygon of the same area as the circle.
        radius = light.size * math.sqrt(2 * math.pi / (DISK_SIDES * math.sin(2 * math.pi / DISK_SIDES)))
        rim = light.position + radius * _ring(right, up, DISK_SIDES)
        middle = np.repeat(light.position[None], DISK_SIDES, axis=0)
        return np.stack([middle, np.roll(rim, -1, axis=0), rim], axis=1)
    # A prism of the same girth as the tube, so that it is as wide on average from all sides.
    radius = light.size * math.pi / (TUBE_SIDES * math.sin(math.pi / TUBE_SIDES))
    rim = radius * _ring(up, front, TUBE_SIDES)
    low, high = (light.position + rim + sign * right * light.width / 2 for sign in (-1, 1))
    next_low, next_high = np.roll(low, -1, axis=0), np.roll(high, -1, axis=0)
    sides = np.concatenate([np.stack([low, next_low, high], axis=1), np.stack([high, next_low, next_high], axis=1)])
    outward = np.cross(sides[:, 1] - sides[:, 0], sides[:, 2] - sides[:, 0])
    inward = np.einsum("ij,ij->i", outward, sides.mean(axis=1) - light.position) < 0
    sides[inward] = sides[inward][:, [0, 2, 1]]
    return sides


def _ring(a: F64, b: F64, count: int) -> F64:
    turn = (np.arange(count) + 0.5)[:, None] * 2 * math.pi / count
    return np.cos(turn) * a + np.sin(turn) * b


def candela_per_radiance(light: PlacedLight) -> float:
    """Largest projected area in m²: cd of a light that shines with 1 cd/m²."""
    if light.kind == "rectangle":
        return light.width * light.height
    if light.kind == "disk":
        return math.pi * light.size**2
    return 2 * light.size * light.width
