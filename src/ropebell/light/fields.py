"""Bounce 0 from the parts: punctual lights, emitters, sky."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ropebell.charts.texels import Texels
from ropebell.level.model import F32, F64, I32, PerTexel3
from ropebell.level.scene import Scene
from ropebell.light.direct import DirectField
from ropebell.light.solve import gathered_light, reflectance
from ropebell.light.transport import Hits

SKY = "sky"


@dataclass(frozen=True, eq=False)
class Sources:
    """Everything that gives light, with its field for unit strength.

    Attributes:
        lights, emitters: fields by name.
        sky: (N, 3) direct light of a sky picture per mean radiance, None for a uniform sky.
    """

    lights: dict[str, DirectField]
    emitters: dict[str, DirectField]
    sky: PerTexel3 | None = None


def shadow_ray_light(scene: Scene, sources: Sources, count: int) -> PerTexel3:
    """(N, 3) lux of all lights and emitters as far as shadow rays found it; sources not shot yet add nothing."""
    out = np.zeros((count, 3), np.float32)
    for light in scene.lights:
        if light.name in sources.lights:
            _add(out, sources.lights[light.name], light.strength)
    for emitter in scene.emitters:
        if emitter.name in sources.emitters:
            _add(out, sources.emitters[emitter.name], emitter.radiance)
    return out


def lamp_light(scene: Scene, sources: Sources, count: int) -> PerTexel3:
    """(N, 3) lux of punctual lights alone, not below zero."""
    out = np.zeros((count, 3), np.float32)
    for light in scene.lights:
        if light.name in sources.lights:
            _add(out, sources.lights[light.name], light.strength)
    return np.maximum(out, 0.0)


def hybrid_light(scene: Scene, sources: Sources, count: int) -> PerTexel3 | None:
    """(N, 3) lux of the direct light of hybrid lights, which the game adds itself near by; None without such lights."""
    hybrid = [x for x in scene.lights if x.mode == "hybrid" and x.name in sources.lights]
    if not hybrid:
        return None
    out = np.zeros((count, 3), np.float32)
    for light in hybrid:
        _add(out, sources.lights[light.name], light.strength)
    return out


def kept_back(scene: Scene, sources: Sources, count: int) -> PerTexel3 | None:
    """(N, 3) lux of direct light that does not go into the bounces, None where all of it does; may be negative."""
    odd = [x for x in scene.lights if x.name in sources.lights and not np.array_equal(x.strength, x.thrown)]
    if not odd:
        return None
    out = np.zeros((count, 3), np.float32)
    for light in odd:
        _add(out, sources.lights[light.name], light.strength - light.thrown)
    return out


def reflecting(scene: Scene, texels: Texels, albedo: PerTexel3, gain: float, saturation: float) -> PerTexel3:
    """(N, 3) what each texel throws back: its albedo under a recipe's gain and saturation, none where its object is
    marked to add no bounced light."""
    return reflectance(throwing(scene, texels, albedo), gain, saturation)


def throwing(scene: Scene, texels: Texels, albedo: PerTexel3) -> PerTexel3:
    """(N, 3) albedo, none where a texel's object is marked to add no bounced light."""
    if not len(scene.reflects) or scene.reflects.all():
        return albedo
    return np.where(scene.reflects[texels.owner][:, None], albedo, np.float32(0.0))


def _add(out: F32, field: DirectField, strength: F64) -> None:
    if len(field.texel) and strength.any():
        out[field.texel] += field.rgb * strength.astype(np.float32)


@dataclass(frozen=True, eq=False)
class Glow:
    """What of a level glows.

    Attributes:
        names: of the E emitters. radiance: (E, 3) float32 cd/m². of_texel: (N,) int32 emitter that a texel's owner
            belongs to, −1 for none.
    """

    names: tuple[str, ...]
    radiance: F32
    of_texel: I32

    @staticmethod
    def of(scene: Scene, texels: Texels) -> Glow:
        """Of a level as it is built."""
        of_triangle = np.full(max(len(scene), 1), -1, np.int32)
        for number, emitter in enumerate(scene.emitters):
            of_triangle[emitter.triangles] = number
        radiance = np.array([e.radiance for e in scene.emitters], np.float32).reshape(-1, 3)
        return Glow(tuple(e.name for e in scene.emitters), radiance, of_triangle[texels.owner])


def ray_light(
    hits: Hits, glow: Glow, sources: Sources, sky: tuple[float, float, float], workers: int, only: str | None = None
) -> PerTexel3:
    """(N, 3) lux that the gather rays themselves see: sky, and emitters that fill much of the view.

    Args:
        only: name of one emitter, or `SKY`, to get its part alone.
    """
    count = len(glow.of_texel)
    wide = np.zeros((len(glow.names), count), np.bool_)
    bright = np.zeros((len(glow.names), 3), np.float32)
    for number, name in enumerate(glow.names):
        field = sources.emitters.get(name)
        if field is not None and only in (None, name):
            wide[number, field.gathered] = True
            bright[number] = glow.radiance[number]
    radiance = np.array(sky if only in (None, SKY) else (0.0, 0.0, 0.0), np.float32)
    if sources.sky is not None:
        # The picture was sampled by shadow rays; what gather rays meet of the sky would count it twice.
        pictured = sources.sky * radiance
        rest = replace(sources, sky=None)
        return pictured + ray_light(hits, glow, rest, (0.0, 0.0, 0.0), workers, only)
    if not radiance.any() and not wide.any():
        return np.zeros((count, 3), np.float32)
    return gathered_light(hits, radiance, bright, glow.of_texel, wide, workers)
