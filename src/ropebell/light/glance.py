"""A first glance at a level: its lamps alone, with one sample a texel, before it is known which samples stand in the
open. Rough, but there long before anything better is."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.level.model import LUMINANCE
from ropebell.level.placed_light import PlacedLight
from ropebell.light.direct import DirectField, light_field
from ropebell.light.footing import texel_keys
from ropebell.light.rays import RaySpace
from ropebell.light.surface import OpenSamples, Surface

# Shadow rays in all; about a third of a second of both cores.
MOST_RAYS = 2_000_000
# Of a light with a size.
RAYS = 4


def glance(
    lights: tuple[PlacedLight, ...], surface: Surface, space: RaySpace, texels: Texels, atlas: Atlas, seed: int,
    workers: int, tick: Callable[[float], None],
) -> dict[str, DirectField]:  # fmt: skip
    """Fields of the strongest lights by name, as many as there is time for.

    Args:
        tick: called now and then, may raise `Stopped`.
    """
    found: dict[str, DirectField] = {}
    samples = _one_each(texels, atlas, surface)
    left = MOST_RAYS
    for light in sorted(lights, key=lambda x: -float(np.abs(x.strength) @ LUMINANCE)):
        cost = len(texels) * (RAYS if light.size > 0 else 1)
        if light.strength.any() and cost <= left:
            left -= cost
            found[light.name] = light_field(light, surface, space, samples, workers, tick, RAYS, seed)
    return found


def _one_each(texels: Texels, atlas: Atlas, surface: Surface) -> OpenSamples:
    """The first footprint sample of each texel, as if it stood in the open."""
    own = np.arange(len(texels), dtype=np.int32)
    used = texels.sample_triangle >= 0
    first = used.argmax(axis=1)
    count = np.zeros(len(texels), np.int32)
    count[used.any(axis=1)] = 1
    return OpenSamples(
        count,
        np.ascontiguousarray(texels.sample_triangle[own, first][:, None]),
        np.ascontiguousarray(texels.sample_weights[own, first][:, None]),
        own,
        texel_keys(texels, atlas, surface.names),
    )
