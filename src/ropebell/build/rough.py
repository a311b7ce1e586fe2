"""Pictures of bounced light while rays are still being shot."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np

from ropebell.build.pictures import Pictures
from ropebell.build.request import Request
from ropebell.charts.texels import Texels
from ropebell.level.model import HitTable, PerTexel3
from ropebell.level.scene import Scene
from ropebell.light.denoise import Layout
from ropebell.light.fields import Glow, Sources, kept_back, lamp_light, ray_light, reflecting, shadow_ray_light
from ropebell.light.finishing import Gathering, without_noise
from ropebell.light.solve import solve
from ropebell.light.transport import Hits

BOUNCES = 2
# Between two pictures, so many times as long as one takes.
PATIENCE = 5.0


class RoughPictures:
    """Solves what is there of a hit table, as often as that costs little of the build.

    Args:
        albedo: (N, 3). check_stop: raises `Stopped` when asked to.
        layout: where texels lie, for recipes that take noise out: rough light is shown without it, too.
    """

    def __init__(
        self, pictures: Pictures, request: Request, scene: Scene, texels: Texels, sources: Sources, albedo: PerTexel3,
        check_stop: Callable[[], None], layout: Layout,
    ) -> None:  # fmt: skip
        self._pictures, self._request, self._scene, self._texels = pictures, request, scene, texels
        self._sources, self._check_stop = sources, check_stop
        self._glow = Glow.of(scene, texels)
        self._direct = shadow_ray_light(scene, sources, len(texels))
        self._thrown_back = reflecting(scene, texels, albedo, *request.recipe.bouncing)
        self._held = kept_back(scene, sources, len(texels))
        self._lamps = lamp_light(scene, sources, len(texels))
        self._layout = layout if request.recipe.finish.denoise else None
        self._not_before = 0.0

    def show_direct(self) -> None:
        """Direct light alone, before the first ray."""
        self._pictures.show(np.maximum(self._direct, 0.0), "direct light")

    def show(self, hits: HitTable, end: int) -> None:
        """The light of the first `end` columns of a table, unless the last picture is too recent."""
        began = time.monotonic()
        if not self._pictures.wanted or began < self._not_before:
            return
        workers, rays = self._request.workers, hits.shape[1]
        part = Hits.of(hits, end)
        seen = ray_light(part, self._glow, self._sources, self._request.sky, workers)
        first = self._direct + seen
        rough = solve(
            hits, first, self._thrown_back, BOUNCES, workers, lambda _: self._check_stop(), self._held, end
        )  # fmt: skip
        total, words = rough.total, f"{end} of {rays} rays, {BOUNCES} bounces"
        if self._layout is not None:
            by = Gathering(hits, self._thrown_back, self._request.gathered_sky, end)
            total = without_noise(total, self._lamps, by, self._layout, workers, lambda _: self._check_stop())
            words += ", smoothed"
        self._pictures.show(total, words)
        self._not_before = time.monotonic() + PATIENCE * (time.monotonic() - began)
