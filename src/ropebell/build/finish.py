"""The finish stage: noise out, creases darkened, seams closed; each only if the recipe asks for it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.build.outputs import Built
from ropebell.build.progress import Tick, part_of
from ropebell.build.recipe import Recipe
from ropebell.build.request import Request
from ropebell.level.model import F32
from ropebell.light.denoise import Layout
from ropebell.light.fields import reflecting
from ropebell.light.finishing import Finishing, Gathering, without_noise
from ropebell.light.occlusion import occlusion, texel_places
from ropebell.light.seams import NO_SEAMS, Standing, find_seams
from ropebell.light.transport import Hits


def finishing(built: Built, hits: Hits, recipe: Recipe, workers: int, tick: Tick) -> dict[str, NDArray[Any]]:
    """Arrays of `sound.FINISHING`: what a recipe's finish needs beside the light."""
    shade, seams = np.ones(len(built.texels), np.float32), NO_SEAMS
    if len(built.texels) and len(hits.table):
        s = built.samples
        places = texel_places(built.scene, s.triangle, s.weights, s.count)
        if recipe.occlusion.enabled:
            found = occlusion(hits.table, places, recipe.occlusion.radius, workers, part_of(tick, 0.0, 0.5))
            shade = (1.0 - recipe.occlusion.strength * found).astype(np.float32)
        if recipe.finish.stitch_seams:
            standing = Standing(places, s.count > 0, built.space)
            seams = find_seams(built.scene, built.atlas, built.texels, part_of(tick, 0.5, 1.0), standing)
    return {"shade": shade, "point": seams.rows, "column": seams.columns, "weight": seams.weights}


def finish(built: Built, hits: Hits, request: Request, by: Finishing, tick: Tick) -> tuple[Built, dict[str, Any]]:
    """Apply what the recipe asks for.

    Returns:
        The built level with its light finished, and what was done, as figures for the manifest.
    """
    done = dict[str, Any]()
    if not len(built.texels) or not len(hits.table):
        return built, done
    total, direct = built.solution.total, built.solution.direct
    if request.recipe.finish.denoise:
        total = _denoised(built, hits, request, total, part_of(tick, 0.0, 0.8))
    if request.recipe.occlusion.enabled:
        done["occlusion"] = {"mean": round(1.0 - float(by.shade.mean()), 5)}
    total, direct = by.darkened(total), by.darkened(direct)
    if request.recipe.finish.stitch_seams:
        before = total
        total, direct = by.seams.closed(total), by.seams.closed(direct)
        steps = {"step_before": by.seams.mean_step(before), "step_after": by.seams.mean_step(total)}
        done["seams"] = {"points": by.seams.points, **{name: round(step, 4) for name, step in steps.items()}}
    tick(1.0)
    return replace(built, solution=replace(built.solution, total=total, direct=direct)), done


def _denoised(built: Built, hits: Hits, request: Request, total: F32, tick: Tick) -> F32:
    thrown_back = reflecting(built.scene, built.texels, built.albedo, *request.recipe.bouncing)
    layout = Layout.of(built.texels, built.atlas, built.samples)
    by = Gathering(hits.table, thrown_back, request.gathered_sky)
    return without_noise(total, built.lamps, by, layout, request.workers, tick)
