"""Bounce by bounce, on the stored rays: strengths, colours, albedo, gains and the sky come in here."""

from __future__ import annotations

import numpy as np

from ropebell.build.speed import Speed
from ropebell.build.stage import Size, Stage, Work
from ropebell.build.stages.charts import CHARTS
from ropebell.build.stages.direct import DIRECT
from ropebell.build.stages.scene import SCENE
from ropebell.build.stages.surfaces import SURFACES
from ropebell.build.stages.transport import TRANSPORT
from ropebell.level.finding import Finding
from ropebell.light.arithmetic import worker_named
from ropebell.light.fields import Glow, kept_back, ray_light, reflecting, shadow_ray_light
from ropebell.light.solve import Solution, solve


def _run(work: Work) -> Solution:
    scene, texels, sources, hits = work[SCENE].scene, work[CHARTS].texels, work[DIRECT], work[TRANSPORT].hits
    workers, recipe = work.workers, work.recipe
    with work.log.stage(SOLVE.name):
        direct = shadow_ray_light(scene, sources, len(texels))
        direct += ray_light(hits, Glow.of(scene, texels), sources, work.request.sky, workers)
        worker = worker_named(work.request.worker)
        if not worker.usual:
            at, on = texels.sample_triangle, texels.sample_triangle >= 0
            broken = worker.broken(scene.corners, scene.node)[np.maximum(at, 0)] & on
            direct = worker.irradiance(direct, np.asarray(broken.any(axis=1)))
        thrown_back = reflecting(scene, texels, work[SURFACES].albedo, *recipe.bouncing)
        held = kept_back(scene, sources, len(texels))
        tick = work.progress.stage(SOLVE.name)
        solution = solve(hits.table, direct, thrown_back, recipe.bounces, workers, tick, held, None, worker)
    work.rate(SOLVE, hits.table.size * (solution.bounces + 1.5))
    energy, cut = [round(e, 6) for e in solution.energy], round(solution.cut, 6)
    work.journal.write("energy", bounces=energy, cut_below_zero=cut, not_finite=list(solution.lost))
    nodes, counts = np.unique(scene.node[texels.owner[solution.first_lost]], return_counts=True)
    for node, count in zip(nodes, counts):
        reason = f"{count} texel{'s' if count > 1 else ''} of it came out non-finite and are black."
        remedy = "Check the object's mesh and the lights near it"
        work.log.warn([Finding("non-finite", "error", scene.node_names[node], reason, remedy)])
        work.wires.unsound(scene.node_names[node], int(count))
    if work.wires.looks_at_light:
        work.wires.lit(solution.total, work.baked, whole=True)
    return solution


def _predict(size: Size, speed: Speed) -> float:
    return size.gather * (size.bounces + 1.5) / speed.all("solve") + 0.05


# Stored hits times bounces.
SOLVE = Stage("solve", "Bounces", _run, _predict, rate=220e6, stale=True)
