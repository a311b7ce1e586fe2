"""What a build will cost, before it starts: texels, rays, memory, seconds per stage."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ropebell.build.manifest import Manifest
from ropebell.build.recipe import Recipe
from ropebell.level.scene import Scene

# Work per second and worker on the reference machine (2 cores at 2.5 GHz); `calibrated` adapts them.
RATES = {
    "charts": 400_000.0,  # texels and triangles
    "footing": 1.0e6,  # rays
    "direct": 1.1e6,  # shadow rays
    "transport": 0.9e6,  # gather rays
    "solve": 55e6,  # stored hits times bounces
    "write": 1.2e6,  # page texels
}
# With a noise target: rays that are shot of those that may be, and more rays in waves, as shares; until a build has
# shown them, all that may be shot are counted, and no waves.
SHARES = {"until": 1.0, "waves": 0.0}
STAGES = ("scene", "check", "charts", "footing", "direct", "transport", "solve", "finish", "write")
TYPICAL_CONVERGED = 8
BYTES_FIXED = 450 << 20


@dataclass(frozen=True)
class Estimate:
    """Predicted cost of a build.

    Attributes:
        texels: number of texels.
        rays: gather and shadow rays.
        seconds: per stage.
        memory_bytes: resident at the peak.
        least_bytes: the same with the stored rays left in their file, as `limits.memory_mb` may ask for.
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


def estimate(scene: Scene, recipe: Recipe, workers: int, rates: dict[str, float] | None = None) -> Estimate:
    """Predict a build of everything.

    Args:
        rates: from `calibrated`, where known.
    """
    return estimate_for(
        predicted_texels(scene, recipe),
        len(scene),
        len(scene.lights),
        len(scene.emitters),
        recipe,
        workers,
        {**RATES, **(rates or {})},
    )


def predicted_texels(scene: Scene, recipe: Recipe) -> int:
    """About how many texels a scene will have: its area at the density of each face, and what borders add."""
    factor = scene.factor if len(scene.factor) else np.ones(len(scene), np.float32)
    area = float((scene.areas * factor.astype(np.float64) ** 2).sum())
    return int(area * recipe.texels_per_metre**2 * 1.15 + 0.5 * len(scene))


def estimate_for(
    texels: int,
    triangles: int,
    lights: int,
    emitters: int,
    recipe: Recipe,
    workers: int,
    rates: dict[str, float],
) -> Estimate:
    """The same from a known number of texels."""
    footprint = recipe.footprint_samples
    gather = texels * recipe.gather_rays
    shadow = texels * (lights * footprint // 2 + emitters * recipe.direct_samples // 2)
    bounces = TYPICAL_CONVERGED if recipe.bounces is None else recipe.bounces
    per = {name: rates[name] * (1 if name in ("charts", "write") else workers) for name in RATES}
    shot, waves = gather, 0
    if recipe.light.noise_target:
        shares = {**SHARES, **rates}
        shot, waves = int(gather * shares["until"]), int(gather * shares["waves"])
    seconds = {
        "scene": 0.1 + triangles / 1e6,
        "check": 0.02,
        "charts": (texels + 4 * triangles) / per["charts"],
        "footing": texels * footprint * 2 / per["footing"],
        "direct": shadow / per["direct"],
        "transport": shot / per["transport"],
        "solve": gather * (bounces + 1.5) / per["solve"] + 0.05,
        "finish": texels / 3e6 + gather / per["solve"] + waves / per["transport"] + 0.05,
        "write": 1.4 * texels / per["write"] + 0.3,
    }
    least = BYTES_FIXED + texels * (24 * footprint + 200) + triangles * 600
    return Estimate(texels, shot + waves + shadow, seconds, least + 4 * gather, least)


def calibrated(manifests: list[Manifest]) -> dict[str, float]:
    """Rates and `SHARES` measured by earlier builds of this project, newest last; stages they re-used do not count."""
    rates: dict[str, float] = {}
    for manifest in manifests[-5:]:
        for stage, rate in manifest.rates.items():
            if stage in RATES and rate > 0:
                rates[stage] = rate if stage not in rates else 0.5 * (rates[stage] + rate)
        refined, most = manifest.finish.refined, manifest.rays.most
        if refined is not None and most:
            rates |= {"until": manifest.rays.gather / most, "waves": refined.rays / most}
    return rates
