"""How sure the light is; noise out, creases darkened, seams closed, as the recipe asks; and laid out on pages."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, NamedTuple

from ropebell.build.composing import Base, compose
from ropebell.build.directions import directions
from ropebell.build.finish import finish, finishing
from ropebell.build.forms import FINISHING as FORM
from ropebell.build.left import left_stale
from ropebell.build.manifest import LeftStale, PartOf
from ropebell.build.outputs import Built
from ropebell.build.progress import part_of
from ropebell.build.refining import judged
from ropebell.build.speed import Speed
from ropebell.build.stage import Size, Stage, Work
from ropebell.build.stages.charts import CHARTS
from ropebell.build.stages.direct import DIRECT
from ropebell.build.stages.footing import FOOTING
from ropebell.build.stages.scene import SCENE
from ropebell.build.stages.solve import SOLVE
from ropebell.build.stages.surfaces import SURFACES
from ropebell.build.stages.transport import TRANSPORT
from ropebell.digest import digest_of
from ropebell.level.model import F32
from ropebell.light.fields import hybrid_light, lamp_light
from ropebell.light.finishing import Finishing
from ropebell.light.seams import Seams


class Finished(NamedTuple):
    """The level with its light, (P, H, W, C) pages by layer, what was done, as figures for the manifest, the digest
    that what finishing needs beside the light is kept under, whose light it is, where it is not of one build, and the
    points along its joints, none where nobody asked to close them."""

    built: Built
    fields: dict[str, F32]
    told: dict[str, Any]
    digest: str
    parts: tuple[PartOf, ...]
    left: tuple[LeftStale, ...]
    seams: Seams


def _solved(work: Work) -> Built:
    placed, (atlas, texels, _), sources = work[SCENE], work[CHARTS], work[DIRECT]
    gathered, scene = placed.gathered, placed.scene
    return Built(
        gathered.subject.level, scene, placed.space, placed.surface, atlas, texels, work[FOOTING].samples,
        work[SURFACES].albedo, work[SOLVE], gathered.emission, lamp_light(scene, sources, len(texels)),
        hybrid_light(scene, sources, len(texels)),
    )  # fmt: skip


def _run(work: Work) -> Finished:
    recipe, request, sources = work.recipe, work.request, work[DIRECT]
    hits, table, *_ = work[TRANSPORT]
    with work.log.stage(FINISH.name):
        tick = work.progress.stage(FINISH.name)
        rays = work.names.one(TRANSPORT.name)
        built, sure = judged(
            _solved(work), hits, sources, request, work.store, rays, table, work.memory.watch, work.check_stop
        )  # fmt: skip
        digest, by = _needed(work, built)
        built, told = finish(built, hits, request, by, part_of(tick, 0.0, 0.7))
        if recipe.output.directional:
            built = replace(built, direction=directions(built, hits, sources, request, work.check_stop))
        texels, parts, left = built.fields, tuple[PartOf, ...](), tuple[LeftStale, ...]()
        lit = work[TRANSPORT].lit
        if lit is not None:
            base, own = request.scope.since, PartOf(build=request.out.name, draft=recipe.draft, recipe=recipe.name)
            earlier = Base.of(base, built.scene) if base is not None else None
            composed = compose(texels, lit, built.texels, earlier, own)
            texels, parts = composed.fields, composed.parts
            left = left_stale(earlier, built, lit) if earlier is not None else ()
        fields = built.page_fields(texels, recipe.padding, work.workers, part_of(tick, 0.7, 1.0))
        told = {**sure, **told}
        work.journal.write("finish", **told)
    return Finished(built, fields, told, digest, parts, left, by.seams)


def _needed(work: Work, built: Built) -> tuple[str, Finishing]:
    """What finishing needs beside the light, from an earlier build of the same ground if there was one; its digest."""
    recipe, (hits, table, *_) = work.recipe, work[TRANSPORT]
    ground = [work.names.one(CHARTS.name), work.names.one(FOOTING.name)]
    shade = [table, recipe.occlusion.model_dump()] if recipe.occlusion.enabled else []
    digest = digest_of("finish", FINISH.version, *ground, recipe.finish.stitch_seams, *shade)
    fits = FORM.fits(N=len(built.texels))
    found = work.store.get(digest, fits)
    if found is None:
        arrays = finishing(built, hits, recipe, work.workers, work.check_stop)
        found = work.store.put(digest, arrays, durable=False)
    return digest, FORM.read(found)


def _predict(size: Size, speed: Speed) -> float:
    waves = size.gather * speed.shares(size.recipe)[1]
    wanted = size.recipe.finish
    filtered = 0.25 + size.texels / 5e5 if wanted.denoise else 0.0
    seams = size.texels / 1e6 if wanted.stitch_seams else 0.0
    judged = size.texels / 1.5e6 + size.gather / speed.all("solve") + waves / speed.all("transport")
    return judged + filtered + seams + 0.05


FINISH = Stage("finish", "Finish", _run, _predict, version=3, forms={"": FORM})
