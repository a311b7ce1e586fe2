"""How fast this machine works, and what share of its rays a build comes to shoot: what predictions rest on."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from statistics import NormalDist

import numpy as np

from ropebell.build.recipe import Recipe
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
        wanted = (half * np.exp(spread * PARTS) / target) ** 2 / recipe.gather_rays
        passes = np.array(PASSES)
        first = passes[np.minimum(np.searchsorted(passes, wanted), len(passes) - 1)]
        return float(first.mean()), float(np.clip(np.ceil(wanted) - 1.0, 0.0, MOST_WAVES).mean())
