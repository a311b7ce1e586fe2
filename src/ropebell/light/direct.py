"""The direct stage: per light, the irradiance of every texel for unit strength, white, with shadows."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ropebell.level.emission_picture import EmissionPicture
from ropebell.level.model import AREA_KINDS, F32, F64, I32, Mask
from ropebell.level.placed_light import PlacedLight
from ropebell.level.scene import Emitter
from ropebell.light import direct_kernels as kernels
from ropebell.light.area_light import candela_per_radiance, shape_of
from ropebell.light.near import TexelBlocks
from ropebell.light.rays import END_SHORT, RaySpace
from ropebell.light.shadow_rays import ShadowRays
from ropebell.light.surface import OpenSamples, Surface
from ropebell.light.workers import run_chunks

CHUNK = 4096
# An emitter that fills more than this (of 2π) is met by so many gather rays that they are the better estimate.
WIDE_EMITTER = 4.0
# Emitters of very many triangles are never treated as wide: testing each would cost more than it gains.
MOST_WIDE_TRIANGLES = 512


@dataclass(frozen=True, eq=False)
class DirectField:
    """Irradiance of one light at unit strength, only where it is not zero.

    Attributes:
        texel: (n,) int32, ascending.
        value: (n,) float32, lux per candela, lux per lux, or lux per cd/m²; (n, 3) of an emitter with a picture, each
            channel per cd/m² of its mean.
        gathered: (m,) int32 texels that take this emitter from their gather rays.
    """

    texel: I32
    value: F32
    gathered: I32

    @property
    def rgb(self) -> F32:
        """(n, 1) or (n, 3), to be multiplied with a strength."""
        return self.value[:, None] if self.value.ndim == 1 else self.value

    @staticmethod
    def of(dense: F32, gathered: Mask | None = None) -> DirectField:
        """Keep the non-zero entries of a dense (N,) or (N, 3) field."""
        texel = np.flatnonzero(dense if dense.ndim == 1 else dense.any(axis=1)).astype(np.int32)
        rows = np.flatnonzero(gathered) if gathered is not None else np.zeros(0)
        return DirectField(texel, dense[texel], rows.astype(np.int32))


def light_field(
    light: PlacedLight, surface: Surface, space: RaySpace, samples: OpenSamples, workers: int,
    tick: Callable[[float], None], rays_per_texel: int = 16, seed: int = 1,
    shadowed: Mask | None = None, near: TexelBlocks | None = None,
) -> DirectField:  # fmt: skip
    """Direct light of a punctual light: one shadow ray from every open footprint sample, or `rays_per_texel` to a light
    with a size.

    Args:
        shadowed: (N,) bool, texels that receive shadow; None: all.
        near: tells which texels a light with a reach can light; None: all are tried.

    Returns:
        E per candela (point, spot: cos θ / d² with window and cone; area lights) or per lux (directional: cos θ).
    """
    if light.kind in AREA_KINDS:
        return _area_field(light, surface, space, samples, workers, tick, rays_per_texel, seed, shadowed)
    position = (light.position - space.centre).astype(np.float64)
    rows = None
    if near is not None and light.reach and light.kind != "directional":
        # A start point is lifted off its surface by less than this.
        rows = near.within(position, light.reach + float(surface.ground.lift.max()))
        samples = samples.among(rows)
        shadowed = shadowed[rows] if shadowed is not None else None
    axis = np.asarray(light.direction, dtype=np.float64)
    sun = light.kind == "directional"
    far = np.float32(1e30) if sun else np.float32(1.0 - END_SHORT)
    outer = math.cos(light.outer_cone) if light.kind == "spot" else -4.0 if sun else -2.0
    size = math.radians(light.size) if sun else light.size
    lamp = kernels.Lamp(position, axis, light.reach or 0.0, math.cos(light.inner_cone), outer, size)
    per_texel = rays_per_texel if size > 0 else samples.triangle.shape[1]
    ground, spots = surface.ground, samples.spots

    def rays(first: int, end: int, out: ShadowRays) -> int:
        if size > 0:
            return kernels.round_light_rays(ground, spots, first, end, lamp, per_texel, seed, out)
        if sun:
            return kernels.directional_rays(ground, spots, first, end, axis, out)
        return kernels.point_rays(ground, spots, first, end, lamp, out)

    found = DirectField.of(_shoot(len(samples.count), per_texel, far, space, rays, workers, tick, shadowed))
    return found if rows is None else DirectField(rows[found.texel], found.value, found.gathered)


def emitter_field(
    emitter: Emitter, areas: F64, surface: Surface, space: RaySpace, samples: OpenSamples, rays_per_texel: int,
    seed: int, workers: int, tick: Callable[[float], None], shadowed: Mask | None = None,
) -> DirectField:  # fmt: skip
    """Direct light of a glowing surface for a radiance of 1 cd/m².

    Texels from which the emitter fills more than `WIDE_EMITTER` steradian are left to the gather rays and
    listed in `gathered`.

    Args:
        areas: (T,) areas of all triangles, m².
        shadowed: (N,) bool, texels that receive shadow; None: all.
    """
    glow = np.ascontiguousarray(emitter.triangles)
    gathered = np.zeros(len(samples.count), np.bool_)
    # What gather rays meet of an emitter has its mean colour only.
    if len(glow) <= MOST_WIDE_TRIANGLES and emitter.picture is None:
        angle = np.zeros(len(samples.count), np.float32)
        shining = kernels.Glow(glow, np.cumsum(areas[glow]), emitter.double_sided)

        def measure(first: int, end: int) -> None:
            kernels.emitter_solid_angle(surface.ground, samples.spots, first, end, shining, angle)

        run_chunks(len(samples.count), CHUNK, measure, workers, lambda share: tick(0.2 * share))
        gathered = angle > WIDE_EMITTER

    dense = _from_triangles(
        glow, areas[glow], emitter.double_sided, gathered, surface, space, samples, rays_per_texel, seed, workers,
        lambda share: tick(0.2 + 0.8 * share), shadowed, emitter.picture,
    )  # fmt: skip
    return DirectField.of(dense, gathered)


def _area_field(
    light: PlacedLight, surface: Surface, space: RaySpace, samples: OpenSamples, workers: int,
    tick: Callable[[float], None], rays_per_texel: int, seed: int, shadowed: Mask | None,
) -> DirectField:  # fmt: skip
    """Direct light of a rectangle, disk or tube, per candela."""
    shape = shape_of(light)
    glow = np.arange(len(shape), dtype=np.int32) + np.int32(len(surface.vertices))
    areas = 0.5 * np.linalg.norm(np.cross(shape[:, 1] - shape[:, 0], shape[:, 2] - shape[:, 0]), axis=1)
    none = np.zeros(len(samples.count), np.bool_)
    dense = _from_triangles(
        glow, areas, False, none, surface.with_shapes(shape - space.centre), space, samples, rays_per_texel, seed,
        workers, tick, shadowed,
    )  # fmt: skip
    return DirectField.of((dense / np.float32(candela_per_radiance(light))).astype(np.float32))


def _from_triangles(
    glow: I32, areas: F64, double_sided: bool, left_out: Mask, surface: Surface, space: RaySpace,
    samples: OpenSamples, rays_per_texel: int, seed: int, workers: int, tick: Callable[[float], None],
    shadowed: Mask | None, picture: EmissionPicture | None = None,
) -> F32:  # fmt: skip
    """(N,) float32 irradiance from triangles that shine with 1 cd/m²; (N, 3) with a picture.

    Args:
        glow: (n,) int32 into the surface. areas: (n,) m².
        left_out: (N,) bool, texels that get none.
    """
    shining = kernels.Glow(glow, np.cumsum(areas), double_sided)

    def rays(first: int, end: int, out: ShadowRays) -> int:
        ground, spots = surface.ground, samples.spots
        return kernels.emitter_rays(ground, spots, first, end, shining, left_out, rays_per_texel, seed, out)

    def pictured(made: int, blocked: Mask, out: ShadowRays, dense: F32) -> None:
        assert picture is not None
        kernels.accumulate_pictured(
            made, blocked, out, surface.vertices, glow, picture.uv, picture.pixels, picture.wrap, dense
        )  # fmt: skip

    far = np.float32(1.0 - END_SHORT)
    gain = pictured if picture is not None else None
    return _shoot(len(samples.count), rays_per_texel, far, space, rays, workers, tick, shadowed, gain)


def _shoot(
    count: int, per_texel: int, far: np.float32, space: RaySpace, rays: Callable[[int, int, ShadowRays], int],
    workers: int, tick: Callable[[float], None], shadowed: Mask | None,
    pictured: Callable[[int, Mask, ShadowRays, F32], None] | None = None,
) -> F32:  # fmt: skip
    """Fill, shoot and add up the rays of all texels; (N,) float32, or (N, 3) where `pictured` adds them up."""
    dense = np.zeros(count if pictured is None else (count, 3), np.float32)
    chunk = max(min(CHUNK, 65_536 // max(per_texel, 1)), 1)

    def work(first: int, end: int) -> None:
        out = ShadowRays.of((end - first) * per_texel)
        made = rays(first, end, out)
        lengths = np.full(made, far, np.float32)
        blocked = space.blocked(out.origins[:made], out.directions[:made], lengths)
        if shadowed is not None:
            blocked &= shadowed[out.owner[:made]]
        if pictured is not None:
            pictured(made, blocked, out, dense)
        else:
            kernels.accumulate(made, blocked, out, dense)

    run_chunks(count, chunk, work, workers, tick)
    return dense
