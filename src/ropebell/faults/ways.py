"""The ways from a spot to each light: in reach, facing it, and what stands in between."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ropebell.faults.lit import Lit
from ropebell.level.model import AREA_KINDS, F32, F64, I32
from ropebell.level.placed_light import PlacedLight
from ropebell.level.scene import Emitter
from ropebell.light.area_light import shape_of
from ropebell.light.footing import footprints
from ropebell.light.rays import END_SHORT
from ropebell.light.sampling import fibonacci_sphere
from ropebell.light.surface import OpenSamples

# Points of a light with a size, and of a glowing surface, that are looked at from each sample.
POINTS = 16
FAR = 1e6


@dataclass(frozen=True)
class Way:
    """From some samples to one light.

    Attributes:
        in_reach: whether any lies within its reach and cone. facing: whether any faces it, of those in reach if any is.
        open: share of the ways, of those in reach and facing, that nothing blocks.
        blocked_by: (node, share of those ways), the first thing in the way, most first.
        metres: to its middle, infinite for a sun.
    """

    name: str
    in_reach: bool
    facing: bool
    open: float
    blocked_by: tuple[tuple[int, float], ...]
    metres: float


def samples_of(lit: Lit, rows: I32) -> OpenSamples:
    """Open samples of some texels; of those without any, all they have."""
    found, spare = lit.samples.among(rows), footprints(lit.texels, rows)
    closed = found.count == 0
    count = np.where(closed, spare.open, found.count).astype(np.int32)
    triangle = np.where(closed[:, None], spare.triangle, found.triangle)
    weights = np.where(closed[:, None, None], spare.weights, found.weights)
    return OpenSamples(count, triangle, weights, found.target, found.key)


def starts(lit: Lit, samples: OpenSamples) -> tuple[F64, F64, I32]:
    """(k, 3) where rays start, relative to the centre, (k, 3) unit shading normals, and (k,) the sample's row."""
    row, column = np.nonzero(np.arange(samples.triangle.shape[1]) < samples.count[:, None])
    triangle, weights = samples.triangle[row, column], samples.weights[row, column].astype(np.float64)
    b, c = weights[:, :1], weights[:, 1:]
    surface = lit.surface
    corners, normals = surface.vertices[triangle].astype(np.float64), surface.normals[triangle].astype(np.float64)
    at, normal = (x[:, 0] * (1 - b - c) + x[:, 1] * b + x[:, 2] * c for x in (corners, normals))
    face = surface.faces[triangle].astype(np.float64)
    length = np.linalg.norm(normal, axis=1, keepdims=True)
    normal = np.where(length > 1e-6, normal / np.maximum(length, 1e-9), face)
    return at + face * surface.ground.lift[triangle][:, None], normal, row.astype(np.int32)


def ways(lit: Lit, samples: OpenSamples) -> list[Way]:
    """From some samples to every light and emitter of the level."""
    at, normal, _ = starts(lit, samples)
    found = [_to_light(lit, at, normal, light) for light in lit.scene.lights]
    return found + [_to_emitter(lit, at, normal, emitter) for emitter in lit.scene.emitters]


def _to_light(lit: Lit, at: F64, normal: F64, light: PlacedLight) -> Way:
    if light.kind == "directional":
        toward = np.broadcast_to(-np.asarray(light.direction, dtype=np.float64) * FAR, at.shape)
        return _way(lit, light.name, at, normal, toward, np.ones(len(at), np.bool_), math.inf, 1.0)
    middle = np.asarray(light.position, dtype=np.float64) - lit.space.centre
    points = middle[None]
    if light.kind in AREA_KINDS:
        points = _points(shape_of(light) - lit.space.centre)
    elif light.size > 0:
        points = np.concatenate([points, middle + light.size * fibonacci_sphere(POINTS - 1)])
    start, end, n = _pairs(at, normal, points)
    far = np.linalg.norm(end - start, axis=1)
    near = np.ones(len(far), np.bool_) if not light.reach else far <= light.reach
    if light.kind == "spot":
        along = np.einsum("ij,j->i", end - start, -np.asarray(light.direction, dtype=np.float64))
        near &= along >= far * math.cos(light.outer_cone)
    metres = float(np.linalg.norm(at - middle, axis=1).mean())
    return _way(lit, light.name, start, n, end - start, near, metres, 1.0 - END_SHORT)


def _to_emitter(lit: Lit, at: F64, normal: F64, emitter: Emitter) -> Way:
    points = _points(lit.surface.vertices[emitter.triangles].astype(np.float64))
    start, end, n = _pairs(at, normal, points)
    metres = float(np.linalg.norm(at[:, None] - points.mean(axis=0), axis=2).mean())
    everywhere = np.ones(len(start), np.bool_)
    return _way(lit, emitter.name, start, n, end - start, everywhere, metres, 1.0 - 1e-3)


def _points(corners: F64) -> F64:
    """(k, 3) points spread over triangles by area."""
    areas = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    running = np.cumsum(areas)
    if not len(areas) or running[-1] <= 0:
        return corners.reshape(-1, 3)[:1]
    place = (np.arange(POINTS) + 0.5) / POINTS
    which = np.minimum(np.searchsorted(running, place * running[-1]), len(areas) - 1)
    u, v = (place * 7.13) % 1.0, (place * 3.71 + 0.29) % 1.0
    b, c = 1 - np.sqrt(u), v * np.sqrt(u)
    t = corners[which]
    found: F64 = t[:, 0] * (1 - b - c)[:, None] + t[:, 1] * b[:, None] + t[:, 2] * c[:, None]
    return found


def _pairs(at: F64, normal: F64, points: F64) -> tuple[F64, F64, F64]:
    count = len(points)
    return np.repeat(at, count, axis=0), np.tile(points, (len(at), 1)), np.repeat(normal, count, axis=0)


def _way(
    lit: Lit, name: str, start: F64, normal: F64, toward: F64, near: F32 | np.ndarray, metres: float, end: float
) -> Way:
    facing = np.einsum("ij,ij->i", toward, normal) > 0
    rows = np.flatnonzero(near & facing)
    if not len(rows):
        # Of what lies in reach nothing faces it, or nothing lies in reach at all: never both yes.
        in_reach = bool(np.any(near))
        return Way(name, in_reach, not in_reach and bool(facing.any()), 0.0, (), metres)
    origin, way = start[rows].astype(np.float32), toward[rows].astype(np.float32)
    blocked = lit.space.blocked(origin, way, np.full(len(rows), end, np.float32))
    hit = lit.space.first_hit(origin[blocked], way[blocked])
    nodes, counts = np.unique(lit.scene.node[hit[hit >= 0]], return_counts=True)
    by = sorted(zip(nodes.tolist(), (counts / len(rows)).tolist()), key=lambda pair: -pair[1])
    return Way(name, True, True, float(1.0 - blocked.mean()), tuple(by), metres)
