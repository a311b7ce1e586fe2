"""What is out of the ordinary in a recipe, said where it is set, and what a build would take that nobody starts by a
slip of the hand."""

from __future__ import annotations

import os
from dataclasses import dataclass

from ropebell.build.estimate import Estimate
from ropebell.build.recipe import Recipe

# A texel of a centimetre: finer than the eye tells at arm's length, and than a game's pages can be held in memory.
FINEST_TEXELS_PER_METRE = 100.0
# Interpolation reads one texel beyond a chart's edge, on either side.
LEAST_PADDING = 2
# Below, a texel's light is a handful of points; above, twice the rays still leave 71 % of its noise.
FEWEST_RAYS, MOST_RAYS = 16, 4096
PHYSICAL_GAIN = 1.0
LONG_SECONDS = 600.0


def machine_bytes() -> int:
    """Memory of this machine."""
    return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")


def extremes(recipe: Recipe, predicted: Estimate) -> dict[str, str]:
    """By setting, what is to be known of a value that is out of the ordinary, as half a sentence."""
    found: dict[str, str] = {}
    if recipe.texels_per_metre > FINEST_TEXELS_PER_METRE:
        size = 1000.0 / recipe.texels_per_metre
        found["density.texels_per_metre"] = f"a texel of {size:.2g} mm: finer than anyone sees, and its square in cost"
    if recipe.padding < LEAST_PADDING:
        found["density.padding"] = "light of one chart will show along the edges of others"
    if recipe.gather_rays < FEWEST_RAYS:
        found["light.gather_rays"] = "too few for more than a first look: light will be blotchy"
    if recipe.gather_rays > MOST_RAYS:
        found["light.gather_rays"] = "noise falls by the root of the count: a noise target spends such rays better"
    if recipe.bounces == 0:
        found["light.bounces"] = "what no light reaches directly is black"
    if recipe.light.bounce_gain > PHYSICAL_GAIN:
        found["light.bounce_gain"] = "surfaces throw back more than they get; pale rooms may brighten without end"
    limit, seconds = recipe.limits.seconds, predicted.total_seconds
    if 0 < limit < seconds:
        found["limits.seconds"] = "shorter than the build from nothing is predicted to take"
    if 0 < recipe.limits.memory_mb << 20 < predicted.least_bytes:
        found["limits.memory_mb"] = f"the build needs about {predicted.least_bytes >> 20:,} MB, and will be refused"
    return found


@dataclass(frozen=True)
class TooMuch:
    """What a build would take that it is asked about first.

    Attributes:
        seconds: predicted, 0 if that is nothing out of the ordinary.
        memory_bytes: predicted, 0 if the machine has it.
    """

    seconds: float
    memory_bytes: int


def too_much(seconds: float, memory_bytes: int, of_machine: int) -> TooMuch | None:
    """What is worth asking before such a build is begun, None if it may just begin."""
    long, large = seconds > LONG_SECONDS, memory_bytes > of_machine
    return TooMuch(seconds if long else 0.0, memory_bytes if large else 0) if long or large else None
