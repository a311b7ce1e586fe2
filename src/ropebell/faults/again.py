"""Light of a few texels computed once more, with something taken away and nothing else: the proof of a cause."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.faults.lit import Lit
from ropebell.level.model import F32, F64, I32, LUMINANCE, Mask, PerTexel3
from ropebell.level.scene import Scene
from ropebell.light.direct import emitter_field, light_field
from ropebell.light.footing import find_open_samples
from ropebell.light.lookup import BACK, NONE, SKY, hit_records
from ropebell.light.rays import RaySpace
from ropebell.light.sky import sky_field
from ropebell.light.solve import bounce
from ropebell.light.surface import OpenSamples, Surface
from ropebell.light.transport import Gather


class Regathered:
    """What a few texels get.

    Attributes:
        light: (m, 3) lux. hits: (m, R) what their rays met: a texel, or a code of `light.lookup`.
        by_light: (m,) luminance of direct light by lamp and emitter, lux.
    """

    def __init__(self, light: PerTexel3, hits: I32, by_light: dict[str, F32]) -> None:
        self.light, self.hits, self.by_light = light, hits, by_light

    @property
    def value(self) -> F32:
        """(m,) luminance, lux."""
        return np.asarray(self.light @ LUMINANCE.astype(np.float32), np.float32)

    @property
    def behind(self) -> F64:
        """(m,) share of the counted rays that met the back of a face."""
        counted = np.maximum((self.hits != NONE).sum(axis=1), 1)
        found: F64 = (self.hits == BACK).sum(axis=1) / counted
        return found


class Again:
    """Computes light of texels again, by the same methods as the build did, on the light that it stored.

    Args:
        lit: the build.
    """

    def __init__(self, lit: Lit) -> None:
        self.lit = lit
        self._spaces = lru_cache(maxsize=8)(self._space)

    def of(
        self, rows: NDArray[Any] | None, *, without: frozenset[int] = frozenset(), flipped: bool = False,
        samples: OpenSamples | None = None, rays: int | None = None, scene: Scene | None = None, lamps: bool = True,
    ) -> Regathered:  # fmt: skip
        """Light of some texels.

        Args:
            rows: (m,) texels; None with `samples` of their own.
            without: objects that rays no longer meet. flipped: seen from the other side of their faces.
            samples: (m,) where rays start, instead of the texels' open samples. rays: as many, instead of the build's.
            scene: the same triangles in other places. lamps: whether light straight from them is wanted, too.
        """
        lit, s = self.lit, self.lit.settings
        if scene is not None:
            space = RaySpace(scene.corners, scene.casts if len(scene.casts) else None, scene.cutouts)
        else:
            space = self._spaces(without) if without else lit.space
        base = lit.surface
        if scene is not None:
            base = Surface(_relative(scene, lit, space), scene.normals, scene.face_normals, lit.surface.two_sided)
        surface = replace(base, normals=-base.normals, faces=-base.faces) if flipped else base
        if samples is None:
            assert rows is not None
            samples = lit.samples.among(np.asarray(rows, dtype=np.int32))
        count, rays = len(samples.count), rays or s.gather_rays
        direct, by_light = np.zeros((count, 3), np.float32), dict[str, tuple[F32, I32]]()
        if lamps:
            direct, by_light = self._direct(surface, space, samples, s.direct_samples)
        records = lit.records if scene is None else hit_records(base, lit.atlas)
        gather = Gather(surface, space, samples, records, lit.speaking, np.zeros(count, np.int32), s.seed)
        hits = np.full((count, rays), NONE, np.int32)
        mine = np.flatnonzero(samples.count > 0).astype(np.int32)
        gather.shoot(mine, (0, rays), hits, s.workers, lambda _: None)
        return Regathered(direct + self._gathered(hits, by_light), hits, {k: v for k, (v, _) in by_light.items()})

    def open_samples(self, texels: Texels, atlas: Atlas) -> OpenSamples:
        """Samples of other texels of the same triangles, as a build would sort them."""
        lit = self.lit
        return find_open_samples(lit.surface, lit.space, texels, atlas, lit.settings.workers, lambda _: None)

    def _space(self, without: frozenset[int]) -> RaySpace:
        scene = self.lit.scene
        met = ~np.isin(scene.node, list(without))
        if len(scene.casts):
            met &= scene.casts
        return RaySpace(scene.corners, met, scene.cutouts)

    def _direct(
        self, surface: Surface, space: RaySpace, samples: OpenSamples, effort: int
    ) -> tuple[PerTexel3, dict[str, tuple[F32, I32]]]:  # fmt: skip
        """(m, 3) direct light by shadow rays; by name its luminance, and which texels take it from gather rays."""
        lit = self.lit
        total = np.zeros((len(samples.count), 3), np.float32)
        found: dict[str, tuple[F32, I32]] = {}
        receives, seed, workers = self._receives(samples), lit.settings.seed, lit.settings.workers
        by = (seed, workers, lambda _: None, receives)
        for light in lit.scene.lights:
            if not light.strength.any():
                continue
            args = (surface, space, samples, workers, lambda _: None, effort, seed, receives)
            field = light_field(light, *args)
            self._add(
                total, found, light.name, field.texel, field.rgb * light.strength.astype(np.float32), field.gathered
            )
        for e in lit.scene.emitters:
            field = emitter_field(e, lit.scene.areas, surface, space, samples, effort, *by)
            self._add(total, found, e.name, field.texel, field.rgb * e.radiance.astype(np.float32), field.gathered)
        if lit.picture is not None:
            field_of_sky = sky_field(lit.picture, surface, space, samples, effort, *by)
            total += field_of_sky * np.array(lit.tint, np.float32)
        return total, found

    def _receives(self, samples: OpenSamples) -> Mask | None:
        shadowed = self.lit.scene.shadowed
        if not len(shadowed) or shadowed.all():
            return None
        return np.asarray(shadowed[np.maximum(samples.triangle[:, 0], 0)], np.bool_)

    @staticmethod
    def _add(
        total: PerTexel3, found: dict[str, tuple[F32, I32]], name: str, texel: I32, lux: F32, gathered: I32
    ) -> None:  # fmt: skip
        value = np.zeros(len(total), np.float32)
        lux = np.broadcast_to(lux, (len(texel), 3))
        total[texel] += lux
        value[texel] = lux @ LUMINANCE.astype(np.float32)
        found[name] = value, gathered

    def _gathered(self, hits: I32, by_light: dict[str, tuple[F32, I32]]) -> PerTexel3:
        """(m, 3) lux that gather rays bring: what leaves the texels they met, sky, and wide emitters."""
        lit = self.lit
        out = np.zeros((len(hits), 3), np.float32)
        leaving = np.ascontiguousarray(lit.solved.before * lit.reflecting, np.float32)
        bounce(hits, hits.shape[1], leaving, 0, len(hits), out)
        counted = np.maximum((hits != NONE).sum(axis=1), 1)
        out += ((hits == SKY).sum(axis=1) / counted)[:, None] * (np.pi * np.array(lit.sky, np.float32))
        for number, name in enumerate(lit.glow.names):
            wide = by_light.get(name, (np.zeros(0), np.zeros(0, np.int32)))[1]
            if len(wide):
                on = (hits[wide] >= 0) & (lit.glow.of_texel[np.maximum(hits[wide], 0)] == number)
                out[wide] += (on.sum(axis=1) / counted[wide])[:, None] * (np.pi * lit.glow.radiance[number])
        return out


def _relative(scene: Scene, lit: Lit, space: RaySpace) -> F32:
    """(T, 3, 3) corners of a scene in other places, relative to the centre of its own space: samples start there, and
    meet what is there, only if both are told from one centre."""
    if not np.array_equal(space.centre, lit.space.centre):
        return np.ascontiguousarray((scene.corners - space.centre).astype(np.float32))
    return space.vertices


def spread(rows: NDArray[Any], most: int) -> NDArray[np.int64]:
    """Some of many rows, evenly."""
    if len(rows) <= most:
        return np.asarray(rows, np.int64)
    return np.asarray(rows[np.linspace(0, len(rows) - 1, most).astype(np.int64)], np.int64)
