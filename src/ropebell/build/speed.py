"""How fast this machine works, and what share of its rays a build comes to shoot: what predictions rest on."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from statistics import NormalDist

import numpy as np

from ropebell.build.recipe import Recipe
from ropebell.level.model import F64
from ropebell.light.refine import MOST_WAVES

# Of a texel's rays, after which a noise target is looked at.
PASSES = (0.125, 0.25, 0.5, 1.0)
# The 64 parts of a spread of texels that are looked at, in standard deviations; and the one nine in ten stay below.
PARTS, NINE_IN_TEN = np.array([NormalDist().inv_cdf((k + 0.5) / 64) for k in range(64)]), NormalDist().inv_cdf(0.9)


@dataclass(frozen=True)
class Speed:
    """How fast this machine works.

    Attributes:
        rates: work of a stage per second and worker, by its name; shares of rays that builds with a noise target shot
            (`until`, `waves`) and that `target`; the noise of one ray that half, and nine in ten, of the texels stay
            below (`noise_half`, `noise_most`). workers: how many.
    """

    rates: Mapping[str, float]
    workers: int

    def one(self, stage: str) -> float:
        """Work of a stage per second, of one worker."""
        return self.rates[stage]

    def all(self, stage: str) -> float:
        """Work of a stage per second, of all workers."""
        return self.rates[stage] * self.workers

    def shares(self, recipe: Recipe) -> tuple[float, float]:
        """Rays that are shot of those that may be, and more in waves: as builds with the same noise target took,
        or as the noise of others lets one expect; until there is any, all and none."""
        target, known = recipe.light.noise_target, self.rates
        if not target:
            return 1.0, 0.0
        if "until" in known and (known.get("target") == target or "noise_half" not in known):
            return known["until"], known["waves"]
        if "noise_half" not in known:
            return 1.0, 0.0
        # How noisy texels are spreads about like a log-normal law; a texel's error falls with the root of its rays.
        half, most = known["noise_half"], known["noise_most"]
        spread = math.log(max(most / half, 1.0)) / NINE_IN_TEN
        first, waves = rays_until(half * np.exp(spread * PARTS) / math.sqrt(recipe.gather_rays), target)
        return float(first.mean()), waves


def rays_until(noise: F64, target: float) -> tuple[F64, float]:
    """(N,) share of the rays after which texels are as sure as wanted, and what waves would add, as a share of all.

    Args:
        noise: (N,) of texels with all of their rays; it falls with the root of their number.
    """
    part = np.full(len(noise), 1.0)
    for passed in PASSES[::-1]:
        part[noise <= target * math.sqrt(passed)] = passed
    more = np.clip(np.ceil((noise / target) ** 2) - 1.0, 0.0, MOST_WAVES)
    return part, float(more.mean())
