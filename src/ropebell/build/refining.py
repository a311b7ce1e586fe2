"""Telling how sure a build's light is, and refining it to a noise target."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from ropebell.build.outputs import Built
from ropebell.build.request import Request
from ropebell.build.seen import neighbours, seen_light
from ropebell.build.sound import REFINED, expecting
from ropebell.build.store import Artifact, Store
from ropebell.build.waves import Waves
from ropebell.digest import digest_of
from ropebell.level.model import I32
from ropebell.light.certainty import SeenLight, luminance, relative_noise, tally
from ropebell.light.fields import Sources, kept_back, reflecting
from ropebell.light.refine import refined
from ropebell.light.transport import Gather, Hits


def judged(
    built: Built, hits: Hits, sources: Sources, request: Request, store: Store, base: str, hits_digest: str,
    watch: Callable[[I32], None], tick: Callable[[float], None],
) -> tuple[Built, dict[str, Any]]:  # fmt: skip
    """The build with the noise of each texel; with a noise target, those still noisier than that are lit by more rays.

    Args:
        base: names what gather rays depend on. hits_digest: names the hit table, and with a target the light too.
        watch: told of tables that memory may be given back of.

    Returns:
        The build, and for the manifest how noisy it is and what refining took.
    """
    thrown_back = reflecting(built.scene, built.texels, built.albedo, *request.recipe.bouncing)
    held = kept_back(built.scene, sources, len(built.texels))
    seen = seen_light(built.solution.before, thrown_back, held, built.scene, built.texels, sources, request)
    target = request.recipe.light.noise_target
    told: dict[str, Any] = {}
    if target:
        digest = digest_of("refined", hits_digest, built.solution.bounces)
        found = store.get(digest, expecting(REFINED, N=len(built.texels)))
        if found is None:
            found = _refined(built, hits, seen, request, store, base, digest, watch, tick)
        noise, told["refined"] = found.arrays["noise"], found.meta
        refined_light = replace(built.solution, total=found.arrays["total"], direct=found.arrays["direct"])
        built = replace(built, solution=refined_light)
    else:
        everything = np.arange(len(hits.table), dtype=np.int32)
        sums = tally(hits.table, hits.shot, everything, seen, request.workers)
        tick(1.0)
        near, light = neighbours(built.texels, built.atlas), luminance(built.solution.total)
        noise = relative_noise(sums, light, near, request.workers)
    gathered = noise[hits.counted > 1]
    half, most = np.quantile(gathered, (0.5, 0.9)) if len(gathered) else (0.0, 0.0)
    told["noise"] = {"half_within": round(float(half), 6), "most_within": round(float(most), 6)}
    return replace(built, noise=noise), told


def _refined(
    built: Built, hits: Hits, seen: SeenLight, request: Request, store: Store, base: str, digest: str,
    watch: Callable[[I32], None], tick: Callable[[float], None],
) -> Artifact:  # fmt: skip
    workers, seed, rays = request.workers, request.recipe.light.seed, hits.table.shape[1]
    gather = Gather.of(built.surface, built.space, built.texels, built.atlas, built.samples, seed)
    # As much again as the stored rays may be kept.
    waves = Waves(gather, store, base, rays, hits.table.nbytes, watch, workers, tick)
    solution = built.solution
    done = refined(
        solution.total, solution.direct, hits.table, hits.shot, hits.shot >= rays, seen,
        neighbours(built.texels, built.atlas), request.recipe.light.noise_target, waves.shoot, workers, tick,
    )  # fmt: skip
    told = {
        "target": request.recipe.light.noise_target, "texels": done.texels, "left": done.left, "rays": done.rays,
        "kept": waves.known, "noise_before": round(done.noise_before, 6), "noise_after": round(done.noise_after, 6),
    }  # fmt: skip
    return store.put(digest, {"total": done.total, "direct": done.direct, "noise": done.noise}, told, durable=False)
