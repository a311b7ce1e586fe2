"""Find what is wrong with the light that was built."""

from __future__ import annotations

import numpy as np

from ropebell.build.manifest import read_manifest
from ropebell.build.outputs import Built
from ropebell.build.sighting import LEAK
from ropebell.build.speed import Speed
from ropebell.build.stage import Size, Stage, Work
from ropebell.build.stages.charts import CHARTS
from ropebell.build.stages.direct import DIRECT
from ropebell.build.stages.finish import FINISH
from ropebell.build.stages.footing import FOOTING
from ropebell.build.stages.probes import PROBES
from ropebell.build.stages.scene import SCENE
from ropebell.build.stages.solve import SOLVE
from ropebell.build.stages.transport import TRANSPORT
from ropebell.digest import digest_of
from ropebell.faults.after import Looked
from ropebell.faults.carried import carried
from ropebell.faults.lit import Lit, Settings
from ropebell.faults.run import TITLES, inspect
from ropebell.faults.seen import SIDES, far_from
from ropebell.level.brief import Brief, to_values
from ropebell.level.finding import SEVERITIES, Finding
from ropebell.level.prepare import prepare
from ropebell.level.scene import Scene
from ropebell.level.sky_picture import read_sky_picture
from ropebell.light.fields import Glow, reflecting
from ropebell.light.sky import SkyMap
from ropebell.sight.walk import start_point

KEPT = {"eyes", *SIDES.values(), *(far_from(name) for name in SIDES.values())}


def _run(work: Work) -> list[Finding]:
    with work.log.stage(INSPECT.name):
        lit = lit_of(work)
        if work.pictures.wanted:
            # Who watches need not wait for the faults to see the light.
            work.pictures.show(lit.total, "finished light")
        digest = _seen_by(work, lit)
        known = work.store.get(digest)
        if known is not None and set(known.arrays) == KEPT and len(known.arrays["front"]) == len(lit):
            eyes = known.arrays["eyes"].astype(np.float64)
            lit.__dict__["eyes"] = eyes if len(eyes) else None
            looked = Looked(lit, known.arrays)
        else:
            looked = Looked(lit)

        def failed(name: str, error: Exception) -> None:
            text = (
                f"The detector '{name}' met a fault of this program ({type(error).__name__}): its faults are missing."
            )
            work.journal.write("note", text=text)

        found = inspect(lit, work.progress.stage(INSPECT.name), looked, failed)
        eyes = lit.eyes if lit.eyes is not None else np.zeros((0, 3))
        work.store.put(digest, {**looked.seen.kept, "eyes": eyes}, durable=False, over=True)
        work.log.warn(_news(work, found))
        work.log.keep(_of_the_rest(work, lit))
        work.log.findings.sort(key=_place_of)
    work.rate(INSPECT, _amount(len(work[CHARTS].texels), len(work[SCENE].scene)))
    return found


def _place_of(finding: Finding) -> tuple[int, int]:
    """Where a finding stands: those of before as they came, those of the light by weight, and by kind."""
    if finding.proved is None:
        return -1, 0
    kinds = list(TITLES)
    return SEVERITIES.index(finding.severity), kinds.index(finding.kind) if finding.kind in kinds else len(kinds)


def _of_the_rest(work: Work, lit: Lit) -> list[Finding]:
    """Faults of the light that is taken over, in a part build; leaks are looked for in every one."""
    since = work.request.scope.since
    if since is None or lit.own is None:
        return []
    before = [f for f in read_manifest(since).findings if f.kind != LEAK]
    return carried(lit, before, work.log.findings)


def _news(work: Work, found: list[Finding]) -> list[Finding]:
    """What was not told yet; what was told before the rays is what it is in the finished light now."""
    told = {(f.kind, f.object) for f in work.log.findings}
    ahead = {(f.kind, f.object) for f in work[TRANSPORT].ahead}
    kept = work.log.findings
    kept[:] = [f for f in kept if (f.kind, f.object) not in ahead]
    kept += [f for f in found if (f.kind, f.object) in ahead]
    known = ahead | {pair for pair in told if pair[0] == "non-finite"}
    return [f for f in found if (f.kind, f.object) not in known]


def _seen_by(work: Work, lit: Lit) -> str:
    """Names who can look at what: it depends on the texels, on what stands in the way, and on where players can be."""
    subject = lit.subject
    start = start_point(subject.level, subject.baking, subject.brief)
    region = to_values(subject.brief).get("region", {})
    return digest_of("seen", 1, work.names.one(CHARTS.name), work.names.one(FOOTING.name), list(start or ()), region)


def lit_of(work: Work) -> Lit:
    """What the detectors look at."""
    finished, placed, request, recipe = work[FINISH], work[SCENE], work.request, work.recipe
    built: Built = finished.built
    scene, gathered = built.scene, placed.gathered
    light = recipe.light
    settings = Settings(
        recipe.gather_rays, recipe.direct_samples, light.seed, work[SOLVE].bounces, recipe.padding, recipe.draft,
        recipe.finish.denoise, recipe.output.directional, workers=work.workers,
    )  # fmt: skip
    sky = work.sky
    picture = SkyMap.of(read_sky_picture(sky.path), sky.turn) if sky is not None else None

    def posed(brief: Brief) -> Scene:
        return prepare(gathered.source, brief, gathered.emission).baking

    r, g, b = (float(v) for v in request.gathered_sky)
    return Lit(
        gathered.subject, placed.surface, placed.space, built.atlas, built.texels, built.samples, work[TRANSPORT].hits,
        work[DIRECT], Glow.of(scene, built.texels), work[SOLVE], built.solution.total, built.lamps, built.noise,
        reflecting(scene, built.texels, built.albedo, *recipe.bouncing), (r, g, b), settings,
        picture, request.sky, finished.seams, finished.fields.get("total"), work[PROBES].probes, work[TRANSPORT].lit,
        posed if request.scope.box is None else None,
    )  # fmt: skip


def _amount(texels: int, triangles: int) -> float:
    """Work, in texels: what stands where, and who can see it, is asked by triangle."""
    return texels + 5.0 * triangles


def _predict(size: Size, speed: Speed) -> float:
    return 0.1 + _amount(size.texels, size.triangles) / speed.one("inspect")


INSPECT = Stage("inspect", "Look for faults", _run, _predict, rate=1.2e5, alone=True, stale=True)
