"""Write pages, layers, the baked level, and last of all the manifest, which makes it a build that is done."""

from __future__ import annotations

from typing import Any

from ropebell.build.forms import READING
from ropebell.build.manifest import Manifest
from ropebell.build.outputs import write_outputs
from ropebell.build.speed import Speed
from ropebell.build.stage import Size, Stage, Work
from ropebell.build.stages.charts import CHARTS
from ropebell.build.stages.direct import DIRECT, SKY_ITEM
from ropebell.build.stages.finish import FINISH
from ropebell.build.stages.footing import FOOTING
from ropebell.build.stages.probes import PROBES
from ropebell.build.stages.scene import SCENE
from ropebell.build.stages.surfaces import SURFACES
from ropebell.build.stages.transport import TRANSPORT
from ropebell.digest import digest_of
from ropebell.light.fields import Glow, reflecting, throwing
from ropebell.light.gate import GATE


def _run(work: Work) -> Manifest:
    began = GATE.now()
    facts = _facts(work)
    work.journal.write("stage", stage=WRITE.name, state="begun")

    def written() -> dict[str, float]:
        took = round(GATE.now() - began, 4)
        return {WRITE.name: took, "total": round(work.journal.seconds, 4)}

    finished = work[FINISH]
    manifest = write_outputs(work.request, finished.built, finished.fields, facts, written, work.progress)
    work.journal.write("stage", stage=WRITE.name, state="done", seconds=manifest.seconds[WRITE.name])
    return manifest


def _facts(work: Work) -> dict[str, Any]:
    """What only the build itself knows."""
    seconds: dict[str, float] = {}
    reused: dict[str, bool] = {}
    for done in work.log.done:
        seconds[done.name] = round(seconds.get(done.name, 0.0) + done.seconds, 4)
        reused[done.name] = reused.get(done.name, True) and done.reused
    hits, table, shot, *_ = work[TRANSPORT]
    names = work.names
    return {
        "load": work.load,
        "predicted": {"seconds": round(work.foreseen, 3), "memory_mb": work.foreseen_bytes >> 20},
        "seconds": seconds,
        "reused": [name for name, value in reused.items() if value],
        "rates": {name: round(rate) for name, rate in work.log.rates.items()},
        "digests": {
            "charts": names.one(CHARTS.name),
            "footing": names.one(FOOTING.name),
            "transport": names.one(TRANSPORT.name),
            "hits": table,
            "lights": names.kind(DIRECT.name, "light"),
            "emitters": names.kind(DIRECT.name, "emitter"),
            "sky": names.one(DIRECT.name, SKY_ITEM),
            "surfaces": work[SURFACES].digest,
            "reading": _keep_reading(work),
            "finish": work[FINISH].digest,
        },
        "rays": {"gather": int(hits.shot.sum()), "most": int(hits.table.size)},
        "kept": {"rays": shot.kept, "shot": shot.rays},
        "finish": work[FINISH].told,
        "probes": work[PROBES].told,
        "scope": work.request.scope.as_values(),
        "parts": [part.model_dump() for part in work[FINISH].parts],
        "left": [left.model_dump() for left in work[FINISH].left],
        "findings": work.log.findings,
    }


def _keep_reading(work: Work) -> str:
    """Keep by what the build's light is traced back to its lamps; the digest."""
    scene, texels, (albedo, surfaces) = work[SCENE].scene, work[CHARTS].texels, work[SURFACES]
    thrown_back, glow = reflecting(scene, texels, albedo, *work.recipe.bouncing), Glow.of(scene, texels)
    throws = throwing(scene, texels, albedo)
    digest = digest_of("reading", surfaces, throws, thrown_back, glow.of_texel)
    if not work.store.has(digest):
        arrays = {"throws": throws, "reflecting": thrown_back, "emitter": glow.of_texel}
        work.store.put(digest, arrays, durable=False)
    return digest


def _predict(size: Size, speed: Speed) -> float:
    return 1.4 * size.texels / speed.one("write") + 0.3


WRITE = Stage("write", "Write", _run, _predict, forms={"": READING}, rate=2.4e6, alone=True)
