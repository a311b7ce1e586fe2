"""The finish stage: noise out, creases darkened, seams closed; each only if the recipe asks for it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ropebell.build.fields import reflecting
from ropebell.build.outputs import Built
from ropebell.build.progress import Tick, part_of
from ropebell.build.request import Request
from ropebell.level.model import F32
from ropebell.light.denoise import denoised
from ropebell.light.noise import standard_error
from ropebell.light.occlusion import occlusion, texel_places
from ropebell.light.seams import find_seams
from ropebell.light.transport import Hits


def finish(built: Built, hits: Hits, request: Request, tick: Tick) -> tuple[Built, dict[str, Any]]:
    """Apply what the recipe asks for, in working order.

    Returns:
        The built level with its light finished, and what was done, as figures for the manifest.
    """
    recipe, done = request.recipe, dict[str, Any]()
    if not len(built.texels) or not len(hits.table):
        return built, done
    total, direct = built.solution.total, built.solution.direct
    if recipe.finish.denoise:
        total = _denoise(built, hits, request, total, part_of(tick, 0.0, 0.6))
    if recipe.occlusion.enabled:
        shade = _occlusion(built, hits, request, done, part_of(tick, 0.6, 0.7))
        total, direct = total * shade, direct * shade
    if recipe.finish.stitch_seams:
        seams = find_seams(built.scene, built.atlas, built.texels, part_of(tick, 0.7, 0.8))
        before = np.abs(seams.steps(total)).mean() if seams.points else 0.0
        total, direct = seams.closed(total), seams.closed(direct)
        after = np.abs(seams.steps(total)).mean() if seams.points else 0.0
        steps = {"step_before": round(float(before), 4), "step_after": round(float(after), 4)}
        done["seams"] = {"points": seams.points, **steps}
    tick(1.0)
    return replace(built, solution=replace(built.solution, total=total, direct=direct)), done


def _denoise(built: Built, hits: Hits, request: Request, total: F32, tick: Tick) -> F32:
    """Filter what was gathered by rays; light of lamps is left as it is."""
    thrown_back = reflecting(built.scene, built.texels, built.albedo, request.recipe)
    # A sky picture is sampled by rays of its own.
    sky = np.array(request.sky if request.sky_picture is None else (0.0, 0.0, 0.0), np.float32)
    error = standard_error(hits.table, total, thrown_back, sky, request.workers, part_of(tick, 0.0, 0.3))
    lamps = np.minimum(built.lamps, total)
    clean = denoised(total - lamps, error, built.texels, built.atlas, built.samples, part_of(tick, 0.3, 1.0))
    return (clean + lamps).astype(np.float32)


def _occlusion(built: Built, hits: Hits, request: Request, done: dict[str, Any], tick: Tick) -> F32:
    """(N, 1) what is left of the light."""
    s, wanted = built.samples, request.recipe.occlusion
    places = texel_places(built.scene, s.triangle, s.weights, s.count)
    found = occlusion(hits.table, places, wanted.radius, request.workers, tick)
    done["occlusion"] = {"mean": round(float(found.mean()), 5)}
    return (1.0 - wanted.strength * found)[:, None].astype(np.float32)
