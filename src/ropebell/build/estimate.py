"""What a build will cost, before it starts: texels, rays, memory, seconds per stage."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from ropebell.build.manifest import Manifest
from ropebell.build.recipe import Recipe
from ropebell.build.speed import Speed
from ropebell.build.stage import Size
from ropebell.build.stages import STAGES
from ropebell.level.density import BARE_SHARE
from ropebell.level.model import Mask
from ropebell.level.scene import Scene

# Work per second and worker on the reference machine; `calibrated` adapts them.
RATES = {stage.name: stage.rate for stage in STAGES if stage.rate}


@dataclass(frozen=True)
class Estimate:
    """Predicted cost of a build.

    Attributes:
        texels: number of texels.
        rays: gather and shadow rays.
        seconds: per stage.
        memory_bytes: resident at the peak. least_bytes: without the stored rays, which may stay in their file.
    """

    texels: int
    rays: int
    seconds: dict[str, float]
    memory_bytes: int
    least_bytes: int

    @property
    def total_seconds(self) -> float:
        """Seconds for the whole build from nothing."""
        return sum(self.seconds.values())


def estimate(scene: Scene, recipe: Recipe, workers: int, rates: Mapping[str, float] | None = None) -> Estimate:
    """Predict a build of everything.

    Args:
        rates: from `calibrated`, where known.
    """
    return estimate_for(Size.of(scene, recipe), Speed({**RATES, **(rates or {})}, workers))


def saved_without(
    scene: Scene, faces: Mask, recipe: Recipe, workers: int, rates: Mapping[str, float] | None = None
) -> float:  # fmt: skip
    """Seconds of a build of everything that it saves to leave faces out of the lightmaps.

    Args:
        scene: what takes part in a build. faces: (T,) of it.
    """
    if not faces.any():
        return 0.0
    factor = np.where(faces, BARE_SHARE * scene.factor, scene.factor).astype(np.float32)
    left = replace(scene, bare=scene.bare | faces, factor=factor)
    before, after = (estimate(s, recipe, workers, rates) for s in (scene, left))
    return before.total_seconds - after.total_seconds


def estimate_for(size: Size, speed: Speed) -> Estimate:
    """The same for a known number of texels."""
    shares = sum(speed.shares(size.recipe))
    seconds = {stage.name: stage.predict(size, speed) for stage in STAGES}
    rays, least = int(size.gather * shares) + size.shadow, size.least_bytes
    return Estimate(size.texels, rays, seconds, least + 4 * size.gather, least)


def calibrated(manifests: list[Manifest]) -> dict[str, float]:
    """What `Speed` knows, measured by earlier builds of this project, newest last; stages they re-used do not count."""
    rates: dict[str, float] = {}
    for manifest in manifests[-5:]:
        for stage, rate in manifest.rates.items():
            if stage in RATES and rate > 0:
                rates[stage] = rate if stage not in rates else 0.5 * (rates[stage] + rate)
        refined, most = manifest.finish.refined, manifest.rays.most
        if refined is not None and most:
            shares = {"until": manifest.rays.gather / most, "waves": refined.rays / most}
            rates |= {**shares, "target": refined.target}
        told = manifest.finish.noise
        if refined is None and told is not None and told.half_within > 0:
            of_one_ray = math.sqrt(manifest.recipe.gather_rays)
            rates |= {"noise_half": told.half_within * of_one_ray, "noise_most": told.most_within * of_one_ray}
    return rates
