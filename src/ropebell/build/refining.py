"""Refining a build's light to a noise target, from its parts."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from ropebell.build.fields import Sources, emitter_of_texel, kept_back, reflecting
from ropebell.build.outputs import Built
from ropebell.build.request import Request
from ropebell.level.model import F32, I32
from ropebell.light.refine import SeenLight, refined
from ropebell.light.solve import solve
from ropebell.light.transport import Gather, Hits, empty_hits


def refine(
    built: Built, hits: Hits, sources: Sources, first: F32, request: Request, tick: Callable[[float], None]
) -> tuple[Built, dict[str, Any]]:
    """The build with noisy texels lit by more rays, and what that took, for the manifest.

    Args:
        first: (N, 3) direct light as it went into the solve.
    """
    target, workers = request.recipe.light.noise_target, request.workers
    rays, seed = hits.table.shape[1], request.recipe.light.seed
    gather = Gather.of(built.surface, built.space, built.texels, built.atlas, built.samples, seed)

    def shoot(rows: I32, wave: int) -> I32:
        # Every texel anew among the noisy ones, under a seed of the wave's own.
        table = empty_hits(len(rows), rays)
        fresh = gather.among(rows, seed + 7919 * wave)
        fresh.shoot(fresh.rows, (0, rays), table, workers, lambda _: tick(0.0))
        return table

    solution = built.solution
    done = refined(
        solution.total, solution.direct, hits.table, _seen(built, hits, sources, first, request), target, shoot,
        workers, tick,
    )  # fmt: skip
    told = {
        "target": target, "texels": done.texels, "left": done.left, "rays": done.rays,
        "noise_before": round(done.noise[0], 5), "noise_after": round(done.noise[1], 5),
    }  # fmt: skip
    return replace(built, solution=replace(solution, total=done.total, direct=done.direct)), told


def _seen(built: Built, hits: Hits, sources: Sources, first: F32, request: Request) -> SeenLight:
    scene, texels, workers = built.scene, built.texels, request.workers
    thrown_back = reflecting(scene, texels, built.albedo, request.recipe)
    held = kept_back(scene, sources, len(texels))
    bounces = built.solution.bounces
    leaving = np.zeros_like(first)
    if bounces > 0:
        before = solve(hits.table, first, thrown_back, bounces - 1, workers, lambda _: None, held).total
        leaving = (thrown_back * (before if held is None else before - held)).astype(np.float32)
    count = max(len(scene.emitters), 1)
    wide, glow = np.zeros((count, len(texels)), np.bool_), np.zeros((count, 3), np.float32)
    for number, emitter in enumerate(scene.emitters):
        wide[number, sources.emitters[emitter.name].gathered] = True
        glow[number] = np.pi * emitter.radiance
    sky = request.sky if request.sky_picture is None else (0.0, 0.0, 0.0)
    bright = (np.pi * np.array(sky)).astype(np.float32)
    return SeenLight(leaving, bright, emitter_of_texel(scene, texels), glow, wide)
