"""How sure the light is; noise out, creases darkened, seams closed, as the recipe asks; and laid out on pages."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, NamedTuple

from ropebell.build.directions import directions
from ropebell.build.fields import hybrid_light, lamp_light
from ropebell.build.finish import finish
from ropebell.build.outputs import Built
from ropebell.build.progress import part_of
from ropebell.build.refining import judged
from ropebell.build.stage import Size, Speed, Stage, Work
from ropebell.build.stages.charts import CHARTS
from ropebell.build.stages.direct import DIRECT
from ropebell.build.stages.footing import FOOTING
from ropebell.build.stages.scene import SCENE
from ropebell.build.stages.solve import SOLVE
from ropebell.build.stages.surfaces import SURFACES
from ropebell.build.stages.transport import TRANSPORT
from ropebell.level.model import F32


class Finished(NamedTuple):
    """The level with its light, (P, H, W, C) pages by layer, and what was done, as figures for the manifest."""

    built: Built
    fields: dict[str, F32]
    told: dict[str, Any]


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
    hits, table, _ = work[TRANSPORT]
    with work.log.stage(FINISH.name):
        tick = work.progress.stage(FINISH.name)
        rays = work.names.one(TRANSPORT.name)
        built, sure = judged(
            _solved(work), hits, sources, request, work.store, rays, table, work.memory.watch, work.check_stop
        )  # fmt: skip
        built, told = finish(built, hits, request, part_of(tick, 0.0, 0.7))
        if recipe.output.directional:
            built = replace(built, direction=directions(built, hits, sources, request, work.check_stop))
        fields = built.page_fields(recipe.padding, work.workers, part_of(tick, 0.7, 1.0))
        told = {**sure, **told}
        work.journal.write("finish", **told)
    return Finished(built, fields, told)


def _predict(size: Size, speed: Speed) -> float:
    waves = size.gather * speed.waves if size.recipe.light.noise_target else 0.0
    return size.texels / 3e6 + size.gather / speed.all("solve") + waves / speed.all("transport") + 0.05


FINISH = Stage("finish", "Finish", _run, _predict)
