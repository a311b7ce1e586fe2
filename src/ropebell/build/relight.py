"""Relight: a finished build under other strengths, colours, emitters and sky, from its stored rays, without a build.

What is shown is what a build with these values and as many bounces would give: the same fields, summed.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from ropebell.build.forms import CHARTS
from ropebell.build.manifest import Manifest
from ropebell.build.precheck import Gathered
from ropebell.build.recipe import Recipe
from ropebell.build.stage import Inputs
from ropebell.build.stages import DIRECT, TRANSPORT, digests
from ropebell.build.stages.surfaces import surfaces_digest
from ropebell.build.store import Store
from ropebell.build.stored import StoredBuild
from ropebell.charts.texels import footprint_areas
from ropebell.errors import RelightError
from ropebell.level.model import F32, F64, I32, Mask, PerTexel3
from ropebell.level.scene import Scene
from ropebell.light.albedo import texel_albedo
from ropebell.light.denoise import Layout
from ropebell.light.direct import DirectField
from ropebell.light.fields import SKY, Sources, throwing
from ropebell.light.finishing import Finishing, Gathering, without_noise
from ropebell.light.pages import Filling
from ropebell.light.series import BounceSeries
from ropebell.light.solve import gathered_light, reflectance
from ropebell.light.superpose import solved_fields, superposed
from ropebell.light.transport import Hits
from ropebell.light.workers import cores

# Fields of all sources may take so much memory; above it relight is not offered.
# A sky picture is a source for each colour.
SKY_CHANNELS = ("sky, red", "sky, green", "sky, blue")
MOST_BYTES = 3 << 29
Radiance = tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class RelitLight:
    """Light of every texel.

    Attributes:
        total, direct: (N, 3) float32 lux.
    """

    total: PerTexel3
    direct: PerTexel3


@dataclass(frozen=True, eq=False)
class Relight:
    """The solved fields of one build, from what it kept; its level is not needed.

    Attributes:
        manifest: of the build.
        names: of the J sources: lights, emitters, the sky.
        units: (N, J) float32 direct light for unit strength. fields: (N, J, 3) float32 with all bounces.
        hits: what the build's rays met.
        filling: how texels fill pages.
        layout, finishing: where texels lie, and what light is finished by, None in builds of older versions.
        throws: (N, 3) albedo, none where a texel adds no bounced light; of the build, or of the level of now.
        moved: sources of the level of now that the build's rays say nothing of, as they are new or stand elsewhere.
    """

    manifest: Manifest
    names: tuple[str, ...]
    units: F32
    fields: F32
    hits: Hits
    throws: PerTexel3
    workers: int
    layout: Layout
    finishing: Finishing | None
    filling: Filling
    moved: tuple[str, ...] = ()
    _series: dict[bytes, BounceSeries] = field(default_factory=dict)

    @staticmethod
    def of(manifest: Manifest, tick: Callable[[float], None]) -> Relight:
        """Solve the fields of a finished build.

        Args:
            tick: called with the share done, may raise `Stopped`.

        Raises:
            RelightError: its rays are gone, or the fields would be too large.
        """
        m, stored = manifest, StoredBuild.of(manifest)
        if stored is None:
            raise _gone(m)
        texels, hits, sources = stored.layout.texels, stored.hits, stored.sources
        wanted = names_of_fields(sources)
        if len(texels) * len(wanted) * 16 > MOST_BYTES:
            what = f"{len(wanted)} lights on {len(texels):,} texels are too many to be relit at once"
            raise RelightError(what, "", "Build to see a change, or lower the density")
        workers = m.recipe.limits.workers or cores()
        units = unit_fields(tuple(m.emitters), stored.emitter, sources, hits, wanted, workers)
        fields = solved_fields(hits.table, units, stored.reflecting, m.bounces, workers, tick)
        filling = Filling.of(texels, max(m.recipe.padding, 1))
        return Relight(
            m, wanted, units, fields, hits, stored.throws, workers, stored.layout, stored.finishing, filling
        )  # fmt: skip

    def on(self, now: Gathered) -> Relight | None:
        """The same for the level as it stands now; None where its surfaces lie otherwise than they were built."""
        scene, recipe = now.subject.baking, self.manifest.recipe
        names, built = digests(Inputs(scene, recipe)), self.manifest.digests
        if names.one(TRANSPORT.name) != built.transport:
            return None
        then = {**built.lights, **built.emitters}
        moved = tuple(name for (_, name), digest in names.of[DIRECT.name].items() if then.get(name) != digest)
        surfaces = surfaces_digest(now.subject.level, scene, built.charts)
        if surfaces == built.surfaces:
            return replace(self, moved=moved)
        laid = CHARTS.of(Store(Path(self.manifest.cache)), built.charts, T=len(scene))
        if laid is None:
            return None
        atlas, texels, *_ = laid
        albedo = texel_albedo(now.subject.level, scene, texels, footprint_areas(scene, texels, atlas), self.workers)
        throws = throwing(scene, texels, albedo)
        bounced = reflectance(throws, recipe.light.bounce_gain, recipe.light.bounce_saturation)
        bounces, workers = self.bounces, self.workers
        fields = solved_fields(self.hits.table, self.units, bounced, bounces, workers, lambda _: None)
        return replace(self, throws=throws, fields=fields, moved=moved, _series={})

    @property
    def bounces(self) -> int:
        """That the fields are solved with."""
        return self.manifest.bounces

    def as_built(self, only: frozenset[str] | None = None) -> tuple[F64, F64]:
        """(J, 3) what each source was built with, and what of it went into the bounces.

        Args:
            only: names of the sources that shall give light, None for all.
        """
        return built_strengths(self.manifest, self.names, only)

    def as_set(self, scene: Scene, sky: Radiance, only: frozenset[str] | None = None) -> tuple[F64, F64]:
        """(J, 3) what each source is set to now, and what of it goes into the bounces; sources that are not in the
        scene any more give nothing."""
        emitters = {e.name: e.radiance for e in scene.emitters}
        strengths = {x.name: x.strength for x in scene.lights}, {x.name: x.thrown for x in scene.lights}
        full, thrown = (_table(self.names, lights, emitters, sky, only) for lights in strengths)
        return full, thrown

    def light(self, strengths: F64, thrown: F64 | None = None) -> RelitLight:
        """The light at these strengths.

        Args:
            thrown: (J, 3) what of them goes into the bounces; None: all.
        """
        direct = superposed(self.units, strengths, self.workers)
        if thrown is None or np.array_equal(thrown, strengths):
            total = superposed(self.fields, strengths, self.workers)
        else:
            total = superposed(self.fields, thrown, self.workers)
            total += superposed(self.units, strengths - thrown, self.workers)
        return RelitLight(np.maximum(total, 0.0), np.maximum(direct, 0.0))

    def bounces_alike(self, recipe: Recipe) -> bool:
        """Whether the solved fields bounce as a recipe asks for."""
        return bouncing(recipe) == bouncing(self.manifest.recipe)

    def bounced(self, strengths: F64, thrown: F64, recipe: Recipe) -> tuple[RelitLight, int]:
        """The light with the bounces, gain and colour of a recipe, and how many bounces that takes.

        The first call at these strengths solves, the next ones add up what is there.
        """
        series, direct = self._series_of(strengths, thrown, recipe)
        gain = recipe.light.bounce_gain
        total, count = series.light(recipe.bounces, gain, lambda _: None)
        return RelitLight(total, np.maximum(direct, 0.0)), count

    def one_bounce(self, strengths: F64, thrown: F64, bounce: int, recipe: Recipe) -> RelitLight:
        """What one bounce alone adds; 0 is direct light."""
        series, direct = self._series_of(strengths, thrown, recipe)
        if bounce == 0:
            return RelitLight(np.maximum(direct, 0.0), np.maximum(direct, 0.0))
        return RelitLight(series.one(bounce, recipe.light.bounce_gain), np.zeros_like(direct))

    @property
    def finishes(self) -> bool:
        """Whether the build finished its light in a way that this can follow."""
        asked = self.manifest.recipe
        return self.finishing is not None and (
            asked.finish.denoise or asked.finish.stitch_seams or asked.occlusion.enabled
        )

    def finished(
        self, light: RelitLight, strengths: F64, recipe: Recipe, sky: Radiance, tick: Callable[[float], None],
        charts: Mask | None = None,
    ) -> RelitLight:  # fmt: skip
        """Light as the build would finish it.

        Args:
            strengths: (J, 3) of the sources that the light is of.
            recipe: that the light bounced by; what is finished is what the build's own recipe asks for.
            sky: radiance in cd/m².
            tick: called with the share done, may raise `Stopped`.
            charts: (C,) those whose noise is taken out, None for all.
        """
        assert self.finishing is not None
        total, asked = light.total, self.manifest.recipe
        if asked.finish.denoise:
            # A sky picture is sampled by rays of its own.
            even = np.array((0.0, 0.0, 0.0) if SKY_CHANNELS[0] in self.names else sky, np.float32)
            by = Gathering(self.hits.table, self._thrown_back(recipe), even)
            lamps = self._lamp_light(strengths)
            chart = self.layout.atlas.chart[self.layout.texels.owner]
            rows = None if charts is None else np.flatnonzero(charts[chart]).astype(np.int32)
            total = without_noise(total, lamps, by, self.layout, self.workers, tick, rows)
        return RelitLight(self.finishing.of(total), self.finishing.of(light.direct))

    def _lamp_light(self, strengths: F64) -> F32:
        """(N, 3) lux of punctual lights alone."""
        columns = [i for i, name in enumerate(self.names) if name in self.manifest.lights]
        units = np.ascontiguousarray(self.units[:, columns])
        return np.maximum(superposed(units, strengths[columns], self.workers), 0.0)

    def _thrown_back(self, recipe: Recipe) -> PerTexel3:
        return reflectance(self.throws, recipe.light.bounce_gain, recipe.light.bounce_saturation)

    def _series_of(self, strengths: F64, thrown: F64, recipe: Recipe) -> tuple[BounceSeries, F32]:
        """The bounces at these strengths, of which the newest are kept, and the direct light."""
        direct = superposed(self.units, strengths, self.workers)
        key = strengths.tobytes() + thrown.tobytes() + np.float64(recipe.light.bounce_saturation).tobytes()
        found = self._series.get(key)
        if found is None:
            held = None if np.array_equal(thrown, strengths) else superposed(
                self.units, strengths - thrown, self.workers
            )  # fmt: skip
            thrown_back = reflectance(self.throws, 1.0, recipe.light.bounce_saturation)
            into = direct if held is None else direct - held
            found = BounceSeries(self.hits.table, into, held, thrown_back, self.workers)
            self._series.clear()
            self._series[key] = found
        return found, direct


def built_strengths(m: Manifest, names: tuple[str, ...], only: frozenset[str] | None = None) -> tuple[F64, F64]:
    """(J, 3) what each field's source was built with, and what of it went into the bounces.

    Args:
        names: of the fields. only: names of the sources that shall give light, None for all.
    """
    emitters = {n: np.array(r) for n, r in m.emitters.items()}
    strengths = {n: x.strength for n, x in m.lights.items()}, {n: x.thrown for n, x in m.lights.items()}
    full, thrown = (_table(names, lights, emitters, m.sky, only) for lights in strengths)
    return full, thrown


def _table(
    names: tuple[str, ...], lights: dict[str, F64], emitters: dict[str, F64], sky: Radiance, only: frozenset[str] | None
) -> F64:  # fmt: skip
    now: dict[str, F64] = {**lights, **emitters, SKY: np.array(sky)}
    now |= {n: r * np.eye(3)[c] for e, r in emitters.items() for c, n in enumerate(channels_of(e))}
    now |= {name: np.array(sky) * np.eye(3)[c] for c, name in enumerate(SKY_CHANNELS)}
    dark = np.zeros(3)
    return np.array([now.get(n, dark) if only is None or source_of(n) in only else dark for n in names])


def bouncing(recipe: Recipe) -> tuple[int | None, float, float]:
    """What of a recipe decides the bounces."""
    return recipe.bounces, recipe.light.bounce_gain, recipe.light.bounce_saturation


def channels_of(name: str) -> tuple[str, str, str]:
    """Names of the three fields of an emitter with a picture: what is red of it, green, blue."""
    return (f"{name}\nr", f"{name}\ng", f"{name}\nb")


def source_of(field: str) -> str:
    """The source that a field belongs to."""
    return field.split("\n")[0]


def names_of_fields(sources: Sources) -> tuple[str, ...]:
    """Of all that gives light, a name for each field that is solved by itself."""
    skies = (SKY,) if sources.sky is None else SKY_CHANNELS
    emitters = [n for e, field in sources.emitters.items() for n in _columns(e, field)]
    return (*sources.lights, *emitters, *skies)


def _columns(name: str, field: DirectField) -> tuple[str, ...]:
    return (name,) if field.value.ndim == 1 else channels_of(name)


def _gone(m: Manifest) -> RelightError:
    if not m.digests.reading:
        return RelightError("this build is of an older version, so its light cannot be changed", "", "Build again")
    return RelightError("the rays of this build are no longer in the cache", m.cache, "Build again")


def unit_fields(
    emitters: tuple[str, ...], of_texel: I32, sources: Sources, hits: Hits, names: tuple[str, ...], workers: int
) -> F32:
    """(N, J) direct light of each source at unit strength, shadow rays and gather rays together."""
    units = np.zeros((len(of_texel), len(names)), np.float32)
    number = {name: i for i, name in enumerate(emitters)}
    for column, name in enumerate(names):
        if name == SKY:
            units[:, column] = np.pi * hits.sky_share()
            continue
        if name in SKY_CHANNELS and sources.sky is not None:
            units[:, column] = sources.sky[:, SKY_CHANNELS.index(name)]
            continue
        source = source_of(name)
        field = sources.lights.get(source) or sources.emitters[source]
        if field.value.ndim == 2:
            units[field.texel, column] = field.value[:, channels_of(source).index(name)]
            continue
        units[field.texel, column] = field.value
        if len(field.gathered):
            wide = np.zeros((len(emitters), len(of_texel)), np.bool_)
            wide[number[name], field.gathered] = True
            glow = np.zeros((len(emitters), 3), np.float32)
            glow[number[name]] = 1.0
            seen = gathered_light(hits, np.zeros(3, np.float32), glow, of_texel, wide, workers)
            units[:, column] += seen[:, 0]
    return units
