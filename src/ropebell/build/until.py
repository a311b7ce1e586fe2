"""A noise target instead of a count of rays: which texels of a hit table under way are not sure enough yet."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from ropebell.build.request import Request
from ropebell.build.seen import neighbours, seen_light
from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.digest import digest_of
from ropebell.level.model import I32, HitTable, PerTexel3
from ropebell.level.scene import Scene
from ropebell.light.certainty import BOUNCED, COUNTED, luminance, relative_noise, tally
from ropebell.light.fields import Glow, Sources, kept_back, ray_light, reflecting, shadow_ray_light
from ropebell.light.solve import solve
from ropebell.light.transport import Hits

# More bounces hardly change which texels are noisy.
BOUNCES = 3


class NoiseTarget:
    """Judges by the light as it is known so far.

    Args:
        albedo: (N, 3).
        tick: called now and then, may raise `Stopped`.
    """

    def __init__(
        self, request: Request, scene: Scene, texels: Texels, atlas: Atlas, sources: Sources, albedo: PerTexel3,
        tick: Callable[[float], None],
    ) -> None:  # fmt: skip
        self._request, self._scene, self._texels, self._sources = request, scene, texels, sources
        self._tick = tick
        self._glow = Glow.of(scene, texels)
        self._direct = shadow_ray_light(scene, sources, len(texels))
        self._thrown_back = reflecting(scene, texels, albedo, *request.recipe.bouncing)
        self._held = kept_back(scene, sources, len(texels))
        self._neighbours = neighbours(texels, atlas)
        bounces = request.recipe.bounces
        self._bounces = BOUNCES if bounces is None else min(bounces, BOUNCES)

    def digest(self, rays: str, emitters: dict[str, str]) -> str:
        """Names the hit table that comes of it: unlike one with a count of rays, it depends on the light.

        Args:
            rays: names all else that it depends on. emitters: name their direct light.
        """
        light = [self._direct, self._thrown_back, np.array(self._request.sky)]
        light += [x for x in (self._held, self._sources.sky) if x is not None]
        glow = [[e.name, e.radiance.tolist(), emitters[e.name]] for e in self._scene.emitters]
        target = self._request.recipe.light.noise_target
        return digest_of("until", rays, target, self._bounces, glow, *light)

    def unsure(self, hits: HitTable, done: I32, end: int) -> NDArray[np.bool_]:
        """(N,) which texels want more rays.

        Args:
            hits: (N, R) table, of which the first `end` columns are looked at. done: (N,) rays of each texel.
        """
        r, scene, texels, sources, workers = (
            self._request, self._scene, self._texels, self._sources, self._request.workers
        )  # fmt: skip
        part = Hits.of(hits, end)
        first = self._direct + ray_light(part, self._glow, sources, r.sky, workers)
        self._tick(0.0)
        before = np.zeros_like(first)
        if self._bounces:
            bounces = self._bounces - 1
            before = solve(hits, first, self._thrown_back, bounces, workers, self._tick, self._held, end).total
        seen = seen_light(before, self._thrown_back, self._held, scene, texels, sources, r)
        rows = np.arange(len(hits), dtype=np.int32)
        sums = tally(hits, np.minimum(done, end), rows, seen, workers)
        self._tick(0.0)
        light = luminance(first) + sums[:, BOUNCED] / np.maximum(sums[:, COUNTED], 1.0)
        return relative_noise(sums, light, self._neighbours, workers) > r.recipe.light.noise_target
