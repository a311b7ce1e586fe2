"""The direction that each texel's light comes from, put together from a build's parts."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ropebell.build.outputs import Built
from ropebell.build.request import Request
from ropebell.level.model import AREA_KINDS, F32, F64, LUMINANCE
from ropebell.level.sky_picture import read_sky_picture
from ropebell.light.area_light import shape_of
from ropebell.light.direction import (
    Patches,
    add_patches,
    add_source,
    gathered_moments,
    mean_direction,
    texel_places,
    ways_to,
)  # fmt: skip
from ropebell.light.fields import Glow, Sources
from ropebell.light.sky import SkyMap, sky_seen
from ropebell.light.transport import Hits


def directions(built: Built, hits: Hits, sources: Sources, request: Request, tick: Callable[[float], None]) -> F32:
    """(N, 3) float32 D of every texel: see `light.direction`.

    Light of an area light, or of an emitter that fills little of any texel's view, is shared out among its pieces by
    what each brings if nothing is in between; larger emitters are seen by the gather rays.
    """
    leaving = built.albedo * built.solution.total[built.samples.target] / np.float32(np.pi)
    of_texel = Glow.of(built.scene, built.texels).of_texel
    luminance = (leaving @ LUMINANCE).astype(np.float32)
    wide = {e.name for e in built.scene.emitters if len(sources.emitters[e.name].gathered)}
    for number, emitter in enumerate(built.scene.emitters):
        if emitter.name in wide:
            luminance[of_texel == number] += np.float32(emitter.radiance @ LUMINANCE)
    total, vector, normals = gathered_moments(
        built.surface, built.samples, hits.table, luminance, _sky(request), request.recipe.light.seed,
        request.workers, tick,
    )  # fmt: skip
    places = texel_places(built.surface, built.samples)
    for light in built.scene.lights:
        field, strength = sources.lights[light.name], max(float(light.strength @ LUMINANCE), 0.0)
        lux = field.value * np.float32(strength)
        if not strength or not len(field.texel):
            continue
        if light.kind in AREA_KINDS:
            patches = Patches.of(shape_of(light) - built.space.centre, False)
            add_patches(total, vector, field.texel, lux, patches, places, normals)
        else:
            toward = ways_to(light, places[field.texel], built.space.centre)
            add_source(total, vector, field.texel, lux, toward, normals)
    for emitter in built.scene.emitters:
        field = sources.emitters[emitter.name]
        if not len(field.texel) or emitter.name in wide:
            continue
        lux = (field.rgb * emitter.radiance) @ LUMINANCE
        patches = Patches.of(built.scene.corners[emitter.triangles] - built.space.centre, emitter.double_sided)
        add_patches(total, vector, field.texel, lux, patches, places, normals)
    return mean_direction(total, vector)


def _sky(request: Request) -> Callable[[F32], F64]:
    mean = np.array(request.sky)
    if request.sky_picture is None:
        even = float(mean @ LUMINANCE)
        return lambda ways: np.full(len(ways), even)
    picture = SkyMap.of(read_sky_picture(request.sky_picture), request.brief.sky_now.turn)
    return lambda ways: (sky_seen(picture, ways) * mean) @ LUMINANCE
