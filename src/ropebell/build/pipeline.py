"""A build, from level file to finished folder: runs the stages whose artifacts are missing, re-uses the rest."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from ropebell.build import stages
from ropebell.build.directions import directions
from ropebell.build.estimate import RATES, estimate_for, predicted_texels
from ropebell.build.fields import (
    Glow,
    Sources,
    hybrid_light,
    kept_back,
    lamp_light,
    ray_light,
    reflecting,
    shadow_ray_light,
)
from ropebell.build.finish import finish
from ropebell.build.journal import Journal
from ropebell.build.kin import Earlier, remember
from ropebell.build.manifest import Manifest
from ropebell.build.memory import MemoryKeeper
from ropebell.build.outputs import Built, write_outputs
from ropebell.build.pictures import Pictures
from ropebell.build.precheck import BLOCKING, Gathered, check_kept, gather
from ropebell.build.probe_file import make_probes, write_probes
from ropebell.build.progress import Progress
from ropebell.build.refining import judged
from ropebell.build.request import Request
from ropebell.build.rough import RoughPictures
from ropebell.build.shooting import shoot_hits
from ropebell.build.sound import ALBEDO, CHARTS, FIELD, FOOTING, HITS, SKY, expecting
from ropebell.build.stage_log import StageLog
from ropebell.build.store import Artifact, Store
from ropebell.build.until import NoiseTarget
from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels, footprint_areas
from ropebell.checks.subject import Subject
from ropebell.errors import BuildError, Stopped
from ropebell.level.finding import Finding, from_notice
from ropebell.level.model import F32, Level
from ropebell.level.open import open_level
from ropebell.level.placed_light import PlacedLight
from ropebell.level.scene import Emitter, Scene
from ropebell.light.albedo import texel_albedo
from ropebell.light.direct import DirectField
from ropebell.light.glance import glance
from ropebell.light.near import TexelBlocks
from ropebell.light.rays import RaySpace
from ropebell.light.solve import Solution, solve
from ropebell.light.surface import OpenSamples, Surface
from ropebell.light.transport import Gather, Hits
from ropebell.light.view import seen_texels

Source = PlacedLight | Emitter
# With fewer lamps than this, finding out whom they reach costs more than it saves.
FEW_LAMPS = 4


class Pipeline:
    """One build.

    Args:
        request: what to build.
        journal: where it is told.
        stop_wanted: asked between steps.
    """

    def __init__(self, request: Request, journal: Journal, stop_wanted: Callable[[], Stopped | None]) -> None:
        self.request, self.journal = request, journal
        self.recipe = request.recipe
        self.store = Store(request.cache)
        self._sky_digest, self._surfaces, self._hits_digest = "", "", ""
        self._earlier = Earlier(self.store, [], {})
        self._expected: dict[str, float] = {}
        self._memory = MemoryKeeper(self.recipe.limits.memory_mb << 20)
        self._taken_over = {"rays": 0, "shot": 0}
        self._glanced: dict[str, DirectField] = {}
        self._limit = self.recipe.limits.seconds
        self._stop_wanted = stop_wanted
        guess = estimate_for(20_000, 20_000, 8, 2, self.recipe, request.workers, {**RATES, **request.rates})
        self._progress = Progress(guess.seconds, self._tell, self._stop)
        self._log = StageLog(journal, self._progress, self.store, request.workers)
        self._pictures = Pictures(request.out, journal, request.pictures)

    def run(self) -> Manifest:
        """Build, write the results, and return the manifest.

        Raises:
            RopeBellError: the level is unreadable or cannot be built.
            Stopped: on request or by a tripwire; finished stages are kept.
        """
        with self.store.at_work(), self._memory.watching():
            self.store.trim(set())
            return self._run()

    def _run(self) -> Manifest:
        gathered = self._scene()
        level, scene = gathered.subject.level, gathered.subject.baking
        self._check(gathered.subject)
        names = stages.digests(scene, self.recipe)
        self._set_expectations(scene, 0)
        space, surface = self._ray_space(gathered.subject)
        atlas, texels = self._charts(scene, names.charts)
        self._set_expectations(scene, len(texels))
        self._look_back(scene, names, atlas, texels)
        self._glance(scene, surface, space, atlas, texels, names)
        samples = self._footing(surface, space, texels, atlas, names.footing)
        self._pictures.table(names.charts, self.store.folder, samples.target, self.request.out)
        lighting = stages.Lighting(
            scene, surface, space, samples, self.recipe, self.store, self.request.workers,
            stages.shadowed_texels(scene, texels),
        )  # fmt: skip
        sources = self._direct(lighting, names, len(texels))
        albedo = self._albedo(level, scene, texels, atlas, names.charts)
        hits = self._transport(scene, surface, space, texels, atlas, samples, sources, albedo, names)
        solution = self._solve(scene, texels, hits, sources, albedo)
        built = Built(
            level,
            scene,
            space,
            surface,
            atlas,
            texels,
            samples,
            albedo,
            solution,
            gathered.emission,
            lamp_light(scene, sources, len(texels)),
            hybrid_light(scene, sources, len(texels)),
        )
        manifest = self._finish(built, names, hits, sources)
        self.store.trim(
            {names.charts, names.footing, self._hits_digest, *names.lights.values(), *names.emitters.values()}
        )
        return manifest

    # -- telling

    def _tell(self, stage: str, share: float, remaining: float) -> None:
        self.journal.write("progress", stage=stage, share=round(share, 4), remaining=round(remaining, 2))

    def _stop(self) -> Stopped | None:
        if self._limit and self.journal.seconds > self._limit:
            return Stopped("limit", f"the limit of {self._limit:g} seconds (limits.seconds) was reached")
        return self._stop_wanted()

    def _set_expectations(self, scene: Scene, texels: int) -> None:
        """Predict all stages anew once the texels are known, or from the surface before that."""
        count = texels or predicted_texels(scene, self.recipe)
        rates = {**RATES, **self.request.rates}
        workers = self.request.workers
        got = estimate_for(count, len(scene), len(scene.lights), len(scene.emitters), self.recipe, workers, rates)
        self._expected = got.seconds
        for stage, seconds in got.seconds.items():
            self._progress.expect(stage, seconds)
        limit = self.recipe.limits.memory_mb
        if limit and got.least_bytes > limit << 20:
            what = (
                f"it is predicted to need {got.least_bytes >> 20:,} MB beside its stored rays, "
                f"more than limits.memory_mb = {limit:,}"
            )
            raise BuildError(what, "", "Lower the density, or raise the limit")

    # -- stages

    def _scene(self) -> Gathered:
        with self._log.stage("scene"):
            r = self.request
            gathered = gather(open_level(r.level), r.brief, r.recipe, r.sky, r.tables)
            self._progress.stage("scene")(1.0)
        return gathered

    def _check(self, subject: Subject) -> None:
        with self._log.stage("check"):
            found = check_kept(subject, self.store)
            self._log.warn([f for f in found if f.key not in self.request.brief.known])
            errors = [f for f in found if f.kind in BLOCKING]
            if errors:
                reason = errors[0].reason.rstrip(".")
                raise BuildError(reason[0].lower() + reason[1:], self.request.level, errors[0].remedy)
            self._progress.stage("check")(1.0)

    def _ray_space(self, subject: Subject) -> tuple[RaySpace, Surface]:
        scene, space = subject.baking, subject.space
        if (len(scene.casts) and not scene.casts.all()) or scene.cutouts is not None:
            space = RaySpace(scene.corners, scene.casts, scene.cutouts)
        return space, Surface.of(scene, space)

    def _charts(self, scene: Scene, digest: str) -> tuple[Atlas, Texels]:
        artifact = self._log.cached(
            "charts", digest, expecting(CHARTS, T=len(scene)),
            lambda tick: stages.charts_stage(scene, self.recipe, digest, self.store, self.request.workers, tick),
        )  # fmt: skip
        atlas, texels, notices = stages.read_charts(artifact)
        self._log.warn([from_notice(n) for n in notices])
        self._log.rate("charts", len(texels) + 4 * len(scene))
        return atlas, texels

    def _footing(self, surface: Surface, space: RaySpace, texels: Texels, atlas: Atlas, digest: str) -> OpenSamples:
        sizes = dict(zip("NS", texels.sample_triangle.shape))
        artifact = self._log.cached(
            "footing", digest, expecting(FOOTING, T=len(atlas.uv), **sizes),
            lambda tick: stages.footing_stage(
                surface, space, texels, atlas, digest, self.store, self.request.workers, tick,
                self._earlier.known(FOOTING, lambda names: names.footing),
            ),
        )  # fmt: skip
        if self._earlier.closest is None:
            self._log.rate("footing", 2 * texels.sample_triangle.size)
        return stages.read_footing(artifact)

    def _albedo(self, level: Level, scene: Scene, texels: Texels, atlas: Atlas, charts: str) -> F32:
        """Kept like a stage's artifact, but too quick to be called one."""
        digest = self._surfaces = stages.surfaces_digest(level, scene, charts)
        found = self.store.get(digest, expecting(ALBEDO, N=len(texels)))
        if found is None:
            albedo = texel_albedo(level, scene, texels, footprint_areas(scene, texels, atlas))
            found = self.store.put(digest, {"albedo": albedo}, durable=False)
        return found.arrays["albedo"]

    def _look_back(self, scene: Scene, names: stages.Digests, atlas: Atlas, texels: Texels) -> None:
        """Find what earlier layouts of the same ground know."""
        self._earlier = Earlier.of(self.store, scene, self.recipe, names, atlas, texels)
        closest = self._earlier.closest
        if closest is not None:
            self.journal.write("kept", texels=len(closest.rows), of=len(texels))
            for stage in ("footing", "direct"):
                self._progress.expect(stage, (1.0 - closest.share) * self._expected[stage])

    def _glance(
        self, scene: Scene, surface: Surface, space: RaySpace, atlas: Atlas, texels: Texels, names: stages.Digests
    ) -> None:
        """Show the lamps at a glance while better is long in coming."""
        lamps = [x for x in scene.lights if x.strength.any()]
        known = any(self.store.has(names.lights[x.name]) for x in lamps)
        if not self._pictures.wanted or not lamps or known or self._earlier.closest is not None:
            return
        seed, workers = self.recipe.light.seed, self.request.workers
        everything = np.arange(len(texels), dtype=np.int32)
        # Told first, so that who watches reads where the texels lie meanwhile.
        self._pictures.table(names.charts, self.store.folder, everything, self.request.out)
        self._glanced = glance(
            scene.lights, surface, space, texels, atlas, seed, workers, lambda _: self._check_stop()
        )  # fmt: skip
        light = shadow_ray_light(scene, Sources(self._glanced, {}), len(texels))
        if light.any():
            self._pictures.show(np.maximum(light, 0.0), "lamps at a glance")

    def _direct(self, lighting: stages.Lighting, names: stages.Digests, count: int) -> Sources:
        sources, scene = Sources({}, {}), lighting.scene
        total = len(scene.lights) + len(scene.emitters)
        began, shot = time.monotonic(), 0
        missing = [x for x in scene.lights if x.reach and not self.store.has(names.lights[x.name])]
        if len(missing) >= FEW_LAMPS:
            lighting = replace(lighting, near=TexelBlocks.of(lighting.surface, lighting.samples))
        everything: list[Source] = [*scene.lights, *scene.emitters]
        for number, source in enumerate(everything):
            punctual = isinstance(source, PlacedLight)
            digest = names.lights[source.name] if punctual else names.emitters[source.name]

            def make(tick: stages.Tick, source: Source = source, digest: str = digest, n: int = number) -> Artifact:
                part = stages.part_of(tick, n / total, (n + 1) / total)
                if isinstance(source, PlacedLight):
                    known = self._earlier.known(FIELD, lambda names: names.lights[source.name])
                    return stages.light_stage(source, lighting, digest, part, known)
                known = self._earlier.known(FIELD, lambda names: names.emitters[source.name])
                return stages.emitter_stage(source, lighting, digest, part, known)

            field = stages.read_field(self._log.cached("direct", digest, expecting(FIELD, N=count), make, source.name))
            (sources.lights if punctual else sources.emitters)[source.name] = field
            per_texel = lighting.samples.triangle.shape[1] if punctual else self.recipe.direct_samples
            shot += 0 if self._log.done[-1].reused else per_texel // 2
            self._show_direct(scene, sources, count, f"direct light {number + 1} of {total}")
        if self.request.sky_picture is not None:
            sources = replace(sources, sky=self._sky(lighting, names))
        elapsed = time.monotonic() - began
        if shot and elapsed > 0.05 and self._earlier.closest is None:
            self._log.rates["direct"] = shot * count / elapsed / self.request.workers
        self._progress.stage("direct")(1.0)
        self._glanced = {}
        return sources

    def _sky(self, lighting: stages.Lighting, names: stages.Digests) -> F32:
        """Direct light of the sky picture."""
        picture, turn = self.request.sky_picture, self.request.brief.sky_now.turn
        assert picture is not None

        def digest_on(names: stages.Digests) -> str:
            return stages.sky_digest(names.footing, picture, turn, lighting.scene, self.recipe)

        self._sky_digest = digest_on(names)
        fits = expecting(SKY, N=len(lighting.samples.count))

        def make(_tick: stages.Tick) -> Artifact:
            known = self._earlier.known(SKY, digest_on)
            return stages.sky_stage(picture, turn, lighting, self._sky_digest, lambda _: self._check_stop(), known)

        return self._log.cached("direct", self._sky_digest, fits, make, "sky picture").arrays["sky"]

    def _show_direct(self, scene: Scene, sources: Sources, count: int, what: str) -> None:
        """Direct light so far; lamps whose turn is still to come as they were seen at a glance."""
        if self._pictures.due():
            known = replace(sources, lights={**self._glanced, **sources.lights})
            self._pictures.show(np.maximum(shadow_ray_light(scene, known, count), 0.0), what)

    def _transport(
        self, scene: Scene, surface: Surface, space: RaySpace, texels: Texels, atlas: Atlas, samples: OpenSamples,
        sources: Sources, albedo: F32, names: stages.Digests,
    ) -> Hits:  # fmt: skip
        digest, workers = names.transport, self.request.workers
        rays, seed = self.recipe.gather_rays, self.recipe.light.seed
        target = None
        if self.recipe.light.noise_target:
            target = NoiseTarget(
                self.request, scene, texels, atlas, sources, albedo, lambda _: self._check_stop()
            )  # fmt: skip
            digest = target.digest(names)
        rough = RoughPictures(self._pictures, self.request, scene, texels, sources, albedo, self._check_stop)
        if not self.store.has(digest):
            rough.show_direct()

        def make(tick: stages.Tick) -> Artifact:
            want = stages.ray_budget(scene.effort, texels, rays)
            share = self._earlier.rays(want, digest) / max(int(want.sum(dtype=np.int64)), 1)
            self._progress.expect("transport", (1.0 - share) * self._expected["transport"])
            remember(self.store, names.ground, names.charts, digest, seed)
            gather = Gather.of(surface, space, texels, atlas, samples, seed)
            view = self.request.view
            first = seen_texels(view, surface, space, samples) if view is not None else None
            artifact, shot = shoot_hits(
                gather,
                want,
                rays,
                first,
                digest,
                self.store,
                self._earlier.kin,
                workers,
                tick,
                rough.show,
                self._memory,
                target.unsure if target is not None else None,
            )
            self._taken_over = {"rays": shot.kept, "shot": shot.rays}
            self.journal.write("shot", rays=shot.rays, kept=shot.kept)
            return artifact

        artifact = self._log.cached("transport", digest, expecting(HITS, N=len(texels), R=rays), make)
        hits = stages.read_hits(artifact)
        self._hits_digest = digest
        self._memory.watch(hits.table)
        if not self._taken_over["rays"]:
            self._log.rate("transport", float(hits.shot.sum()))
        return hits

    def _check_stop(self) -> None:
        stop = self._stop()
        if stop is not None:
            raise stop

    def _solve(self, scene: Scene, texels: Texels, hits: Hits, sources: Sources, albedo: F32) -> Solution:
        workers = self.request.workers
        with self._log.stage("solve"):
            direct = shadow_ray_light(scene, sources, len(texels))
            direct += ray_light(hits, Glow.of(scene, texels), sources, self.request.sky, workers)
            thrown_back = reflecting(scene, texels, albedo, self.recipe)
            held = kept_back(scene, sources, len(texels))
            tick = self._progress.stage("solve")
            solution = solve(hits.table, direct, thrown_back, self.recipe.bounces, workers, tick, held)
        self._log.rate("solve", hits.table.size * (solution.bounces + 1.5))
        self.journal.write(
            "energy", bounces=[round(e, 6) for e in solution.energy], cut_below_zero=round(solution.cut, 6),
            not_finite=list(solution.lost),
        )  # fmt: skip
        for node in np.unique(scene.node[texels.owner[solution.first_lost]]):
            count = int((scene.node[texels.owner[solution.first_lost]] == node).sum())
            name = scene.node_names[node]
            reason = f"{count} texel{'s' if count > 1 else ''} of it came out non-finite and are black."
            self._log.warn(
                [Finding("non-finite", "error", name, reason, "Check the object's mesh and the lights near it")]
            )
        return solution

    def _probes(self, built: Built) -> dict[str, Any]:
        """Light the probes and write them; what the manifest says of them, empty without any."""
        wanted = self.request.brief.probes
        if not wanted.spacing and not wanted.placed:
            return {}
        with self._log.stage("probes"):
            probes, findings = make_probes(built, self.request, lambda _: self._check_stop())
            self._log.warn(findings)
            return write_probes(self.request.out, probes) if probes is not None else {}

    def _finish(self, built: Built, names: stages.Digests, hits: Hits, sources: Sources) -> Manifest:
        with self._log.stage("finish"):
            tick = self._progress.stage("finish")
            built, sure = judged(
                built, hits, sources, self.request, self.store, names.transport, self._hits_digest,
                self._memory.watch, lambda _: self._check_stop(),
            )  # fmt: skip
            built, finished = finish(built, hits, self.request, stages.part_of(tick, 0.0, 0.7))
            finished = {**sure, **finished}
            if self.recipe.output.directional:
                found = directions(built, hits, sources, self.request, lambda _: self._check_stop())
                built = replace(built, direction=found)
            fields = built.page_fields(self.recipe.padding, self.request.workers, stages.part_of(tick, 0.7, 1.0))
            self.journal.write("finish", **finished)
        probes = self._probes(built)
        began = time.monotonic()
        seconds: dict[str, float] = {}
        reused = {s.name: True for s in self._log.done}
        for stage in self._log.done:
            seconds[stage.name] = round(seconds.get(stage.name, 0.0) + stage.seconds, 4)
            reused[stage.name] &= stage.reused
        facts = {
            "seconds": seconds,
            "reused": [name for name, value in reused.items() if value],
            "rates": {name: round(rate) for name, rate in self._log.rates.items()},
            "digests": {
                "charts": names.charts, "footing": names.footing, "transport": names.transport,
                "hits": self._hits_digest, "lights": names.lights, "emitters": names.emitters, "sky": self._sky_digest,
                "surfaces": self._surfaces,
                "reading": stages.reading_stage(
                    built.scene, built.texels, built.albedo, self._surfaces, self.recipe, self.store
                ),
            },
            "rays": {"gather": int(hits.shot.sum()), "most": int(hits.table.size)},
            "kept": self._taken_over,
            "finish": finished,
            "probes": probes,
            "findings": self._log.findings,
        }  # fmt: skip
        self.journal.write("stage", stage="write", state="begun")

        def written() -> dict[str, float]:
            took = round(time.monotonic() - began, 4)
            return {"write": took, "total": round(self.journal.seconds, 4)}

        manifest = write_outputs(self.request, built, fields, facts, written, self._progress.stage("write"))
        self.journal.write("stage", stage="write", state="done", seconds=manifest.seconds["write"])
        return manifest
