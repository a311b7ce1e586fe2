"""Shoot the gather rays: for every texel and ray, the texel that it meets, the sky, or the back of a face."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from ropebell.build.forms import HITS as FORM
from ropebell.build.kin import remember
from ropebell.build.looking_ahead import look_ahead
from ropebell.build.progress import Tick
from ropebell.build.rough import RoughPictures
from ropebell.build.scope import below, rough_rays
from ropebell.build.shooting import Shot, shoot_hits
from ropebell.build.speed import Speed
from ropebell.build.stage import ONLY, Inputs, Item, Names, Size, Stage, Work
from ropebell.build.stages.charts import CHARTS
from ropebell.build.stages.direct import DIRECT
from ropebell.build.stages.footing import FOOTING
from ropebell.build.stages.scene import SCENE
from ropebell.build.stages.surfaces import SURFACES
from ropebell.build.store import Artifact
from ropebell.build.until import NoiseTarget
from ropebell.charts.texels import Texels
from ropebell.digest import digest_of
from ropebell.level.finding import Finding
from ropebell.level.model import F32, I32, Mask
from ropebell.light.denoise import Layout
from ropebell.light.transport import Gather, Hits
from ropebell.light.view import seen_texels


class Gathered(NamedTuple):
    """What the rays met, the digest that is kept under, what shooting took, (N,) bool which texels are lit in full, or
    None for all, and what was found before."""

    hits: Hits
    digest: str
    shot: Shot
    lit: Mask | None
    ahead: list[Finding]


def _inputs(of: Inputs, names: Names) -> Mapping[Item, str]:
    effort = of.scene.effort
    outside = [effort] if len(effort) and (effort != 1.0).any() else []
    footing, recipe = names.one(FOOTING.name), of.recipe
    return {ONLY: digest_of(TRANSPORT.version, footing, recipe.gather_rays, recipe.light.seed, *outside, *of.part)}


def _run(work: Work) -> Gathered:
    scene, texels, sources = work[SCENE].scene, work[CHARTS].texels, work[DIRECT]
    albedo = work[SURFACES].albedo
    digest, target = work.names.one(TRANSPORT.name), None
    if work.recipe.light.noise_target:
        atlas = work[CHARTS].atlas
        target = NoiseTarget(work.request, scene, texels, atlas, sources, albedo, work.check_stop)
        # Unlike a table with a count of rays, what comes of it depends on the light.
        digest = target.digest(digest, work.names.kind(DIRECT.name, "emitter"))
    layout = Layout.of(texels, work[CHARTS].atlas, work[FOOTING].samples)
    rough = RoughPictures(work.pictures, work.request, scene, texels, sources, albedo, work.check_stop, layout)
    ahead = list[Finding]()
    if not work.store.has(digest):
        rough.show_direct()
        ahead = look_ahead(work)
    taken, lit = Shot(0, 0), _lit(work)

    def make(tick: Tick) -> Artifact:
        nonlocal taken
        artifact, taken = _shoot(work, digest, target, rough, lit, tick)
        work.journal.write("shot", rays=taken.rays, kept=taken.kept)
        return artifact

    hits: Hits = work.kept(TRANSPORT, ONLY, make, digest, N=len(texels), R=work.recipe.gather_rays)
    work.memory.watch(hits.table)
    if not taken.kept:
        work.rate(TRANSPORT, float(hits.shot.sum()))
    return Gathered(hits, digest, taken, lit, ahead)


def _shoot(
    work: Work, digest: str, target: NoiseTarget | None, rough: RoughPictures, lit: Mask | None, tick: Tick
) -> tuple[Artifact, Shot]:  # fmt: skip
    placed, (atlas, texels, _), (samples, _, earlier) = work[SCENE], work[CHARTS], work[FOOTING]
    rays, seed, view = work.recipe.gather_rays, work.recipe.light.seed, work.request.view
    want = _budget(placed.scene.effort, texels, rays)
    if lit is not None:
        want = np.where(lit, want, rough_rays(want))
    share = earlier.rays(want, digest) / max(int(want.sum(dtype=np.int64)), 1)
    work.expect_share(TRANSPORT.name, 1.0 - share)
    remember(work.store, work.names.ground, work.names.one(CHARTS.name), work.names.one(FOOTING.name), digest, seed)
    gather = Gather.of(placed.surface, placed.space, texels, atlas, samples, seed)
    first = seen_texels(view, placed.surface, placed.space, samples) if view is not None else None
    unsure = target.unsure if target is not None else None
    return shoot_hits(
        gather, want, rays, first, digest, work.store, earlier.kin, work.workers, tick, rough.show, work.memory, unsure
    )  # fmt: skip


def _lit(work: Work) -> Mask | None:
    """(N,) bool, which texels the build's scope lights; None: all."""
    scope, placed, texels = work.request.scope, work[SCENE], work[CHARTS].texels
    if scope.whole:
        return None
    lit = below(placed.scene, scope.only)[texels.owner] if scope.only else np.zeros(len(texels), np.bool_)
    if scope.seen is not None:
        lit |= seen_texels(scope.seen, placed.surface, placed.space, work[FOOTING].samples)
    return lit


def _budget(effort: F32, texels: Texels, rays: int) -> I32:
    """(N,) rays of each texel: its share of all of them, at least one."""
    if not len(effort) or (effort == 1.0).all():
        return np.full(len(texels), rays, np.int32)
    return np.maximum(np.ceil(effort[texels.owner] * rays), 1).astype(np.int32)


def _predict(size: Size, speed: Speed) -> float:
    return size.gather * speed.shares(size.recipe)[0] / speed.all("transport")


TRANSPORT = Stage(
    "transport", "Gather rays", _run, _predict, _inputs, version=4, forms={"": FORM}, rate=2.7e6, carried="rays"
)
