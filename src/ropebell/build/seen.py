"""What the gather rays of a build bring, for telling how sure its light is."""

from __future__ import annotations

import numpy as np

from ropebell.build.request import Request
from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.level.model import F32
from ropebell.level.scene import Scene
from ropebell.light.certainty import Neighbours, SeenLight
from ropebell.light.fields import Glow, Sources


def seen_light(
    before: F32, thrown_back: F32, held: F32 | None, scene: Scene, texels: Texels, sources: Sources, request: Request
) -> SeenLight:
    """What each ray brings in the last of some bounces.

    Args:
        before: (N, 3) lux of all bounces but that one. held: (N, 3) of it, what does not go into the bounces.
        thrown_back: (N, 3) from `reflecting`.
    """
    leaving = (thrown_back * (before if held is None or not before.any() else before - held)).astype(np.float32)
    count = max(len(scene.emitters), 1)
    wide, glow = np.zeros((count, len(texels)), np.bool_), np.zeros((count, 3), np.float32)
    for number, emitter in enumerate(scene.emitters):
        wide[number, sources.emitters[emitter.name].gathered] = True
        glow[number] = np.pi * emitter.radiance
    # A sky picture is sampled by rays of its own.
    sky = request.sky if request.sky_picture is None else (0.0, 0.0, 0.0)
    bright = (np.pi * np.array(sky)).astype(np.float32)
    return SeenLight(leaving, bright, Glow.of(scene, texels).of_texel, glow, wide)


def neighbours(texels: Texels, atlas: Atlas) -> Neighbours:
    """Where the texels of a build lie."""
    chart = atlas.chart[texels.owner] if len(texels) else np.zeros(0, np.int32)
    return Neighbours(texels.page, texels.column, texels.row, chart, texels.grid)
