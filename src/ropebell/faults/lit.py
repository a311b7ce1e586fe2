"""What the detectors look at after a build: a level and its light, texel by texel."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ropebell.charts.atlas import Atlas
from ropebell.charts.mip_levels import MIP
from ropebell.charts.texels import Texels, footprint_areas
from ropebell.checks.subject import Subject
from ropebell.level.brief import Brief
from ropebell.level.finding import Finding
from ropebell.level.model import F32, F64, I32, LUMINANCE, Mask, PerTexel3
from ropebell.level.scene import Scene
from ropebell.light.direct import DirectField
from ropebell.light.fields import SKY, Glow, Sources, ray_light
from ropebell.light.lookup import hit_records
from ropebell.light.occlusion import texel_places
from ropebell.light.probes import Probes
from ropebell.light.rays import RaySpace
from ropebell.light.seams import Seams
from ropebell.light.sky import SkyMap
from ropebell.light.solve import Solution
from ropebell.light.surface import OpenSamples, Surface
from ropebell.light.transport import Hits, targets
from ropebell.sight.walk import EYE

# White, without an exposure that is kept, is so many times the median light of what players see.
WHITE = 16.0
# Eyes of a play region without a start stand this closely, metres, and no more of them than this.
APART, MOST_EYES = 0.5, 2000


@dataclass(frozen=True)
class Settings:
    """What of a recipe the detectors need, after its draft factor.

    Attributes:
        bounces: that were solved for. mip: level of detail at which charts must not mix.
    """

    gather_rays: int
    direct_samples: int
    seed: int
    bounces: int
    padding: int
    draft: int = 1
    denoised: bool = False
    directional: bool = False
    mip: int = MIP
    workers: int = 1


@dataclass(frozen=True, eq=False)
class Lit:
    """A built level; N texels.

    Attributes:
        subject: the level with all decisions about it.
        solved: light before it was finished. total: (N, 3) float32 lux, finished.
        lamps: (N, 3) float32 lux of punctual lights alone, which no noise is in.
        noise: (N,) float32 standard error that was told, as a share of each texel's light; None: not judged.
        reflecting: (N, 3) what each texel throws back.
        sky: (3,) radiance that gather rays see; picture: a sky picture, sampled by rays of its own, of mean `tint`.
        seams: points along joints, None: not looked for yet. pages: (P, H, W, 3) float32 lux as written, or None.
        own: (N,) bool, texels whose light is of this build in full; None: all.
        posed: the level's scene under another brief.
        shown: findings so far, with the texels that show them.
    """

    subject: Subject
    surface: Surface
    space: RaySpace
    atlas: Atlas
    texels: Texels
    samples: OpenSamples
    hits: Hits
    sources: Sources
    glow: Glow
    solved: Solution
    total: PerTexel3
    lamps: PerTexel3
    noise: F32 | None
    reflecting: PerTexel3
    sky: tuple[float, float, float]
    settings: Settings
    picture: SkyMap | None = None
    tint: tuple[float, float, float] = (0.0, 0.0, 0.0)
    seams: Seams | None = None
    pages: F32 | None = None
    probes: Probes | None = None
    own: Mask | None = None
    posed: Callable[[Brief], Scene] | None = None
    shown: list[tuple[Finding, NDArray[np.int64]]] = field(default_factory=list)
    _beside: dict[tuple[int, int], I32] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.texels)

    @property
    def scene(self) -> Scene:
        """What was built."""
        return self.subject.baking

    @property
    def white(self) -> float:
        """Lux that are white: at the exposure kept, or as it would be chosen."""
        if self.subject.brief.white > 0:
            return self.subject.brief.white
        lit = self.counts & (self.light > 0)
        return WHITE * float(np.median(self.light[lit])) if lit.any() else 0.0

    # -- light

    @cached_property
    def light(self) -> F32:
        """(N,) luminance of the finished light that each texel shows, lux."""
        return np.asarray(self.total[self.samples.target] @ LUMINANCE.astype(np.float32), np.float32)

    @cached_property
    def raw(self) -> F32:
        """(N,) luminance before finishing, lux."""
        return np.asarray(self.solved.total[self.samples.target] @ LUMINANCE.astype(np.float32), np.float32)

    @cached_property
    def direct(self) -> F32:
        """(N,) luminance of direct light, lux."""
        return np.asarray(self.solved.direct[self.samples.target] @ LUMINANCE.astype(np.float32), np.float32)

    @cached_property
    def told_noise(self) -> F32:
        """(N,) share of each texel's light; nothing where it was not judged."""
        return self.noise[self.samples.target] if self.noise is not None else np.zeros(len(self), np.float32)

    @cached_property
    def usual(self) -> float:
        """Median luminance of what is lit at all, lux."""
        lit = self.light[self.counts & (self.light > 0)]
        return float(np.median(lit)) if len(lit) else 0.0

    @cached_property
    def by_light(self) -> dict[str, F32]:
        """(N,) luminance of direct light, lux, of every light, emitter and the sky that gives any."""
        found: dict[str, F32] = {}
        for light in self.scene.lights:
            self._add(found, light.name, self.sources.lights.get(light.name), light.strength)
        for emitter in self.scene.emitters:
            self._add(found, emitter.name, self.sources.emitters.get(emitter.name), emitter.radiance)
            field = self.sources.emitters.get(emitter.name)
            if field is not None and len(field.gathered):
                seen = ray_light(
                    self.hits, self.glow, self.sources, (0.0, 0.0, 0.0), self.settings.workers, emitter.name
                )
                found[emitter.name] = found.get(emitter.name, 0.0) + seen @ LUMINANCE.astype(np.float32)
        if max(self.tint) > 0 or max(self.sky) > 0:
            sky = self.sky if self.sources.sky is None else self.tint
            seen = ray_light(self.hits, self.glow, self.sources, sky, self.settings.workers, SKY)
            found[SKY] = seen @ LUMINANCE.astype(np.float32)
        return {name: value for name, value in found.items() if np.any(value)}

    def _add(self, found: dict[str, F32], name: str, field: DirectField | None, strength: F64) -> None:
        if field is None or not len(field.texel):
            return
        dense = np.zeros(len(self), np.float32)
        dense[field.texel] = (field.rgb * strength.astype(np.float32)) @ LUMINANCE.astype(np.float32)
        found[name] = dense

    # -- places

    @cached_property
    def area(self) -> F64:
        """(N,) m² of surface that each texel stands for."""
        return footprint_areas(self.scene, self.texels, self.atlas)

    @cached_property
    def pitch(self) -> F64:
        """(N,) metres that a texel is wide."""
        cover = np.maximum(self.texels.cover, 1e-6)
        return np.sqrt(self.area / cover)

    @cached_property
    def atlas_density(self) -> F64:
        """(N,) texels per metre of each texel's face."""
        return 1.0 / np.maximum(self.pitch, 1e-12)

    @cached_property
    def places(self) -> F64:
        """(N, 3) middle of each texel's samples, the open ones if there are any; metres."""
        s, texels = self.samples, self.texels
        used = np.where(s.count > 0, s.count, (texels.sample_triangle >= 0).sum(axis=1)).astype(np.int32)
        return texel_places(self.scene, s.triangle, s.weights, used)

    @cached_property
    def normals(self) -> F64:
        """(N, 3) unit normal of the face that each texel is most of."""
        return self.scene.face_normals[self.texels.owner].astype(np.float64)

    @cached_property
    def node(self) -> I32:
        """(N,) of each texel's object."""
        return self.scene.node[self.texels.owner]

    @cached_property
    def chart(self) -> I32:
        """(N,) of each texel."""
        return self.atlas.chart[self.texels.owner] if len(self) else np.zeros(0, np.int32)

    @cached_property
    def counts(self) -> Mask:
        """(N,) bool: texels of a lightmap that is written, that this build has lit in full."""
        found = self.texels.page < self.atlas.written
        if len(self.scene.bare):
            found &= ~self.scene.bare[self.texels.owner]
        return found if self.own is None else found & self.own

    @cached_property
    def open(self) -> Mask:
        """(N,) bool: texels that count and stand in the open."""
        found: Mask = self.counts & (self.samples.count > 0)
        return found

    def beside(self, dx: int, dy: int) -> I32:
        """(N,) texel so many columns and rows on in the same chart, −1 where there is none."""
        if (dx, dy) not in self._beside:
            self._beside[dx, dy] = self._found_beside(dx, dy)
        return self._beside[dx, dy]

    def _found_beside(self, dx: int, dy: int) -> I32:
        t = self.texels
        height, width = t.grid.shape[1:]
        x, y = t.column + dx, t.row + dy
        inside = (x >= 0) & (x < width) & (y >= 0) & (y < height)
        found = np.full(len(self), -1, np.int32)
        found[inside] = t.grid[t.page[inside], y[inside], x[inside]]
        other = (found >= 0) & (self.chart[np.maximum(found, 0)] != self.chart)
        found[other] = -1
        return found

    # -- who looks

    @cached_property
    def eyes(self) -> F64 | None:
        """(n, 3) where players' eyes can be; None where nothing says: then all may be seen."""
        floors, boxes = self.subject.floors, self.subject.brief.region.boxes
        if floors is not None and len(floors.floors):
            return floors.eyes
        if not boxes:
            return None
        points = []
        for box in (b.ordered() for b in boxes):
            low, high = np.array(box.low), np.array(box.high)
            steps = np.clip(((high - low) / APART).astype(np.int64), 1, 40)[[0, 2]]
            x, z = (low[a] + (high[a] - low[a]) * (np.arange(n) + 0.5) / n for a, n in zip((0, 2), steps))
            grid = np.stack(np.meshgrid(x, z, indexing="ij"), axis=-1).reshape(-1, 2)
            height = min(low[1] + EYE, (low[1] + high[1]) / 2 if high[1] - low[1] < EYE else high[1])
            points.append(np.stack([grid[:, 0], np.full(len(grid), height), grid[:, 1]], axis=1))
        found = np.concatenate(points)
        return found[:: max(len(found) // MOST_EYES, 1)]

    @cached_property
    def records(self) -> F32:
        """What a ray needs to know of the triangle that it meets."""
        return hit_records(self.surface, self.atlas)

    @cached_property
    def speaking(self) -> I32:
        """(P, H, W) texel whose light each pixel has."""
        return targets(self.texels, self.samples)

    def paths(self, nodes: NDArray[np.integer]) -> list[str]:
        """Paths of some objects, the most frequent first."""
        known, count = np.unique(nodes[nodes >= 0], return_counts=True)
        return [self.scene.node_names[n] for n in known[np.argsort(-count, kind="stable")]]
