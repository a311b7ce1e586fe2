"""Probes: the light that arrives at points in open space, for things that move and have no lightmap."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ropebell.level.brief import Box
from ropebell.level.model import AREA_KINDS, F32, F64
from ropebell.level.placed_light import PlacedLight
from ropebell.level.scene import Scene
from ropebell.light.area_light import candela_per_radiance, shape_of
from ropebell.light.harmonics import COUNT, basis, projected
from ropebell.light.lookup import SKY, resolve
from ropebell.light.rays import END_SHORT, RaySpace
from ropebell.light.sampling import fibonacci_sphere
from ropebell.light.sky import SkyMap, sky_seen

RAYS = 512
# A probe of whose rays more than this share meet back faces stands inside a solid.
BURIED = 0.25
MOST_PROBES = 20_000
NEAREST = 4


@dataclass(frozen=True, eq=False)
class Probes:
    """Light at points, M of them.

    Attributes:
        position: (M, 3) float64 metres.
        coefficients: (M, 9, 3) float32 radiance in spherical harmonics of bands 0 to 2, cd/m².
        name: of those placed by hand, "" for those of a grid.
    """

    position: F64
    coefficients: F32
    name: tuple[str, ...]

    def __len__(self) -> int:
        return len(self.position)


@dataclass(frozen=True, eq=False)
class LitLevel:
    """A solved level, as far as probes look at it.

    Attributes:
        records, grid: of `hit_records` and the texel table. leaving: (N, 3) radiance that leaves each texel, cd/m².
        sky: radiance of an even sky, or the mean of `picture`.
    """

    scene: Scene
    space: RaySpace
    records: F32
    grid: NDArray[np.int32]
    leaving: F32
    sky: tuple[float, float, float]
    picture: SkyMap | None = None


def grid_positions(boxes: Sequence[Box], spacing: float) -> F64:
    """(M, 3) points of a lattice in boxes, none nearer than half its spacing to a box's faces where there is room.

    Raises:
        ValueError: there would be more than `MOST_PROBES`.
    """
    found: list[F64] = []
    for box in boxes:
        b = box.ordered()
        axes = []
        for low, high in zip(b.low, b.high):
            count = max(int((high - low) / spacing + 0.5), 1)
            axes.append(low + (high - low) * (np.arange(count) + 0.5) / count)
        if math.prod(len(a) for a in axes) > MOST_PROBES:
            raise ValueError(f"a spacing of {spacing:g} m gives more than {MOST_PROBES:,} probes")
        found.append(np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3))
    if not found:
        return np.zeros((0, 3))
    points = np.concatenate(found)
    cell = np.round(points / (0.4 * spacing)).astype(np.int64)
    _, first = np.unique(cell, axis=0, return_index=True)
    if len(first) > MOST_PROBES:
        raise ValueError(f"a spacing of {spacing:g} m gives more than {MOST_PROBES:,} probes")
    return points[np.sort(first)]


def lit_probes(
    lit: LitLevel, positions: F64, names: Sequence[str], tick: Callable[[float], None], rays: int = RAYS
) -> Probes:
    """Gather the light at points; those of the grid that stand inside solids are left out.

    Args:
        positions: (M, 3) metres. names: of each, "" for those of the grid.
        tick: called with the share done, may raise `Stopped`.
    """
    kept: list[int] = []
    found: list[F64] = []
    looks = fibonacci_sphere(rays)
    for number, position in enumerate(positions):
        light, buried = _gathered(lit, position - lit.space.centre, looks)
        if not buried or names[number]:
            found.append(light + _from_lights(lit, position))
            kept.append(number)
        if number % 32 == 0:
            tick(number / len(positions))
    tick(1.0)
    coefficients = np.array(found, np.float32).reshape(-1, COUNT, 3)
    return Probes(positions[kept], coefficients, tuple(names[i] for i in kept))


def _gathered(lit: LitLevel, place: F64, looks: F32) -> tuple[F64, bool]:
    """(9, 3) of surfaces, emitters and sky, and whether the place is inside a solid."""
    count = len(looks)
    origins = np.repeat(place.astype(np.float32)[None], count, axis=0)
    struck = lit.space.first_hit(origins, looks)
    texel = np.empty((1, count), np.int32)
    resolve(lit.records, lit.grid, np.zeros(1, np.int32), 0, count, origins, looks, struck, texel)
    seen, away = texel[0] >= 0, texel[0] == SKY
    radiance = np.zeros((count, 3))
    radiance[seen] = lit.leaving[texel[0][seen]]
    radiance[away] = sky_radiance(lit, looks[away])
    buried = (~seen & ~away).mean() > BURIED
    return projected(radiance, looks, 4 * math.pi / count), bool(buried)


def sky_radiance(lit: LitLevel, directions: F32) -> F64:
    """(n, 3) cd/m² of the sky in some directions."""
    if lit.picture is None:
        return np.repeat(np.array(lit.sky)[None], len(directions), axis=0)
    found: F64 = sky_seen(lit.picture, directions) * np.array(lit.sky)
    return found


def _from_lights(lit: LitLevel, position: F64) -> F64:
    """(9, 3) of punctual and area lights, with shadows."""
    total = np.zeros((COUNT, 3))
    for light in lit.scene.lights:
        strength = light.strength
        if not strength.any():
            continue
        toward, lux = _arrivals(light, position)
        open_ = ~lit.space.blocked(
            np.repeat((position - lit.space.centre).astype(np.float32)[None], len(toward), axis=0),
            toward.astype(np.float32), np.full(len(toward), 1e30 if light.kind == "directional" else 1 - END_SHORT,
                                               np.float32),
        )  # fmt: skip
        length = np.linalg.norm(toward, axis=1, keepdims=True)
        directions = toward / np.maximum(length, 1e-12)
        total += (basis(directions) * (lux * open_)[:, None]).sum(axis=0)[:, None] * strength
    return total


def _arrivals(light: PlacedLight, position: F64) -> tuple[F64, F64]:
    """Ways to a light (n, 3), and lux per candela (or lux) that each brings to a surface facing it."""
    if light.kind == "directional":
        return -light.direction[None], np.ones(1)
    if light.kind in AREA_KINDS:
        shape = shape_of(light)
        cross = np.cross(shape[:, 1] - shape[:, 0], shape[:, 2] - shape[:, 0])
        area = 0.5 * np.linalg.norm(cross, axis=1)
        toward = shape.mean(axis=1) - position
        square = np.maximum((toward**2).sum(axis=1), 1e-12)
        facing = np.maximum(-np.einsum("ij,ij->i", toward, cross / (2 * area[:, None])), 0.0) / np.sqrt(square)
        return toward, facing * area / square / candela_per_radiance(light)
    toward = light.position - position
    far = max(float(np.linalg.norm(toward)), max(light.size, 1e-6))
    lux = 1.0 / far**2
    if light.reach:
        lux *= min(max(1 - (far / light.reach) ** 4, 0.0), 1.0)
    if light.kind == "spot":
        inner, outer = math.cos(light.inner_cone), math.cos(light.outer_cone)
        cosine = float(-toward @ light.direction) / far
        lux *= min(max((cosine - outer) / max(inner - outer, 1e-4), 0.0), 1.0) ** 2
    return toward[None], np.array([lux])


def at_place(probes: Probes, space: RaySpace, place: F64) -> tuple[F64, list[tuple[int, float]]]:
    """The light at a place between probes: (9, 3) coefficients, and which probes have what share in it.

    The nearest probes that see the place, by the inverse square of their distance; the nearest at all where none does.
    """
    if not len(probes):
        return np.zeros((COUNT, 3)), []
    away = np.linalg.norm(probes.position - place, axis=1)
    order = np.argsort(away, kind="stable")[: 4 * NEAREST]
    start = np.repeat((place - space.centre).astype(np.float32)[None], len(order), axis=0)
    toward = (probes.position[order] - place).astype(np.float32)
    sees = ~space.blocked(start, toward, np.full(len(order), 0.999, np.float32)) | (away[order] < 1e-6)
    chosen = order[sees][:NEAREST] if sees.any() else order[:1]
    weight = 1.0 / np.maximum(away[chosen], 1e-6) ** 2
    weight /= weight.sum()
    mixed = np.einsum("k,kbc->bc", weight, probes.coefficients[chosen].astype(np.float64))
    return mixed, [(int(i), float(w)) for i, w in zip(chosen, weight)]
