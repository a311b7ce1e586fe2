"""Relight: a finished build under other strengths, colours, emitters and sky, from its stored rays, without a build.

What is shown is what a build with these values and as many bounces would give: the same fields, summed.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ropebell.build import stages
from ropebell.build.fields import SKY, Glow, Sources, reflecting
from ropebell.build.manifest import Manifest
from ropebell.build.precheck import Gathered
from ropebell.build.recipe import Recipe, with_value
from ropebell.build.sound import CHARTS, FIELD, FOOTING, HITS, expecting
from ropebell.build.sound import SKY as SKY_FIELD
from ropebell.build.store import Store
from ropebell.charts.texels import Texels, footprint_areas
from ropebell.level.model import F32, F64, I32
from ropebell.level.scene import PlacedLight, Scene
from ropebell.light.albedo import texel_albedo
from ropebell.light.direct import DirectField
from ropebell.light.series import BounceSeries
from ropebell.light.solve import gathered_light
from ropebell.light.superpose import solved_fields, superposed
from ropebell.light.transport import Hits
from ropebell.light.workers import cores

# Fields of all sources may take so much memory; above it relight is not offered.
# A sky picture is a source for each colour.
SKY_CHANNELS = ("sky, red", "sky, green", "sky, blue")
MOST_BYTES = 3 << 29


@dataclass(frozen=True, eq=False)
class RelitLight:
    """Light of every texel.

    Attributes:
        total, direct: (N, 3) float32 lux.
    """

    total: F32
    direct: F32


@dataclass(frozen=True, eq=False)
class Relight:
    """The solved fields of one build.

    Attributes:
        names: of the J sources: lights, emitters, the sky.
        units: (N, J) float32 direct light for unit strength. fields: (N, J, 3) float32 with all bounces.
        texels, target: where texels lie, and which speaks for which.
        hits: what the build's rays met.
        albedo: (N, 3) of the level of now; recipe, bounces: that the fields are solved with.
        key: digests that these fields are of.
        surfaces: names the albedo.
    """

    names: tuple[str, ...]
    units: F32
    fields: F32
    texels: Texels
    target: I32
    hits: Hits
    albedo: F32
    recipe: Recipe
    bounces: int
    key: tuple[str, ...]
    surfaces: str
    workers: int
    _series: dict[bytes, BounceSeries] = field(default_factory=dict)

    @staticmethod
    def of(manifest: Manifest, now: Gathered, cache: Path, tick: Callable[[float], None]) -> Relight | None:
        """Solve the fields of a finished build of the level as it stands now; None where its artifacts are gone, it is
        of another geometry, or the fields would be too large.

        Args:
            tick: called with the share done, may raise `Stopped`.
        """
        recipe = manifest.recipe
        scene = now.subject.baking
        names = stages.digests(scene, recipe)
        if relight_key(names) != relight_key_of(manifest):
            return None
        store = Store(cache)
        charts = store.get(names.charts, expecting(CHARTS, T=len(scene)))
        if charts is None:
            return None
        atlas, texels, _ = stages.read_charts(charts)
        count = len(texels)
        footing = store.get(names.footing, expecting(FOOTING, N=count, T=len(scene)))
        transport = store.get(manifest.hits_digest, expecting(HITS, N=count))
        sources = _sources(scene, names, store, manifest.digests.sky, count)
        if footing is None or transport is None or sources is None:
            return None
        hits = stages.read_hits(transport)
        skies = (SKY,) if sources.sky is None else SKY_CHANNELS
        emitters = [n for e, field in sources.emitters.items() for n in _columns(e, field)]
        wanted = (*sources.lights, *emitters, *skies)
        if len(texels) * len(wanted) * 16 > MOST_BYTES:
            return None
        workers = recipe.limits.workers or cores()
        units = _unit_fields(scene, texels, sources, hits, wanted, workers)
        albedo = texel_albedo(now.subject.level, scene, texels, footprint_areas(scene, texels, atlas))
        thrown_back = reflecting(scene, texels, albedo, recipe)
        bounces = manifest.bounces
        fields = solved_fields(hits.table, units, thrown_back, bounces, workers, tick)
        target = footing.arrays["target"]
        key = relight_key(names)
        surfaces = stages.surfaces_digest(now.subject.level, scene, names.charts)
        return Relight(
            wanted, units, fields, texels, target, hits, albedo, recipe, bounces, key, surfaces, workers
        )  # fmt: skip

    def strengths(self, scene: Scene, sky: tuple[float, float, float], only: frozenset[str] | None = None) -> F64:
        """(J, 3) what each source is set to now; sources that are not in the scene any more give nothing.

        Args:
            only: names of the sources that shall give light, None for all.
        """
        return self._settings(scene, sky, only, lambda light: light.strength)

    def thrown(self, scene: Scene, sky: tuple[float, float, float], only: frozenset[str] | None = None) -> F64:
        """(J, 3) what of each source goes into the bounces."""
        return self._settings(scene, sky, only, lambda light: light.thrown)

    def _settings(
        self, scene: Scene, sky: tuple[float, float, float], only: frozenset[str] | None,
        of: Callable[[PlacedLight], F64],
    ) -> F64:  # fmt: skip
        now: dict[str, F64] = {light.name: of(light) for light in scene.lights}
        now |= {emitter.name: emitter.radiance for emitter in scene.emitters}
        now |= {n: e.radiance * np.eye(3)[c] for e in scene.emitters for c, n in enumerate(channels_of(e.name))}
        now[SKY] = np.array(sky)
        now |= {name: np.array(sky) * np.eye(3)[c] for c, name in enumerate(SKY_CHANNELS)}
        dark = np.zeros(3)
        return np.array([now.get(n, dark) if only is None or source_of(n) in only else dark for n in self.names])

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
        return bouncing(recipe) == bouncing(self.recipe)

    def bounced(self, strengths: F64, thrown: F64, scene: Scene, recipe: Recipe) -> tuple[RelitLight, int]:
        """The light with the bounces, gain and colour of a recipe, and how many bounces that takes.

        The first call at these strengths solves, the next ones add up what is there.
        """
        series, direct = self._series_of(strengths, thrown, scene, recipe)
        gain = recipe.light.bounce_gain
        total, count = series.light(recipe.bounces, gain, lambda _: None)
        return RelitLight(total, np.maximum(direct, 0.0)), count

    def one_bounce(self, strengths: F64, thrown: F64, bounce: int, scene: Scene, recipe: Recipe) -> RelitLight:
        """What one bounce alone adds; 0 is direct light."""
        series, direct = self._series_of(strengths, thrown, scene, recipe)
        if bounce == 0:
            return RelitLight(np.maximum(direct, 0.0), np.maximum(direct, 0.0))
        return RelitLight(series.one(bounce, recipe.light.bounce_gain), np.zeros_like(direct))

    def _series_of(self, strengths: F64, thrown: F64, scene: Scene, recipe: Recipe) -> tuple[BounceSeries, F32]:
        """The bounces at these strengths, of which the newest are kept, and the direct light."""
        direct = superposed(self.units, strengths, self.workers)
        key = strengths.tobytes() + thrown.tobytes() + np.float64(recipe.light.bounce_saturation).tobytes()
        found = self._series.get(key)
        if found is None:
            held = None if np.array_equal(thrown, strengths) else superposed(
                self.units, strengths - thrown, self.workers
            )  # fmt: skip
            unit = with_value(recipe, "light.bounce_gain", 1.0)
            thrown_back = reflecting(scene, self.texels, self.albedo, unit)
            into = direct if held is None else direct - held
            found = BounceSeries(self.hits.table, into, held, thrown_back, self.workers)
            self._series.clear()
            self._series[key] = found
        return found, direct

    def unmoved(self, scene: Scene, names: stages.Digests) -> frozenset[str]:
        """Sources that are still where and what they were, so that their fields hold."""
        known = set(self.key)
        now = {**names.lights, **names.emitters}
        return frozenset(
            n for n in self.names if n == SKY or n in SKY_CHANNELS or f"{source_of(n)} {now.get(source_of(n))}" in known
        )

    def covers(self, scene: Scene) -> bool:
        """Whether every source of a scene has a field here."""
        return {x.name for x in scene.lights} | {e.name for e in scene.emitters} <= {source_of(n) for n in self.names}


def bouncing(recipe: Recipe) -> tuple[int | None, float, float]:
    """What of a recipe decides the bounces."""
    return recipe.bounces, recipe.light.bounce_gain, recipe.light.bounce_saturation


def channels_of(name: str) -> tuple[str, str, str]:
    """Names of the three fields of an emitter with a picture: what is red of it, green, blue."""
    return (f"{name}\nr", f"{name}\ng", f"{name}\nb")


def source_of(field: str) -> str:
    """The source that a field belongs to."""
    return field.split("\n")[0]


def _columns(name: str, field: DirectField) -> tuple[str, ...]:
    return (name,) if field.value.ndim == 1 else channels_of(name)


def relight_key(names: stages.Digests) -> tuple[str, ...]:
    """What solved fields depend on: geometry, rays, and where the lights stand."""
    lights = tuple(f"{n} {d}" for n, d in sorted({**names.lights, **names.emitters}.items()))
    return (names.transport, *lights)


def relight_key_of(manifest: Manifest) -> tuple[str, ...]:
    """The same of a finished build."""
    d = manifest.digests
    return (d.transport, *(f"{n} {x}" for n, x in sorted({**d.lights, **d.emitters}.items())))


def _sources(scene: Scene, names: stages.Digests, store: Store, pictured: str, count: int) -> Sources | None:
    lights: dict[str, DirectField] = {}
    emitters: dict[str, DirectField] = {}
    for group, digests in ((lights, names.lights), (emitters, names.emitters)):
        for name, digest in digests.items():
            artifact = store.get(digest, expecting(FIELD, N=count))
            if artifact is None:
                return None
            group[name] = stages.read_field(artifact)
    sky = store.get(pictured, expecting(SKY_FIELD, N=count)) if pictured else None
    if pictured and sky is None:
        return None
    return Sources(lights, emitters, sky.arrays["sky"] if sky is not None else None)


def _unit_fields(
    scene: Scene, texels: Texels, sources: Sources, hits: Hits, names: tuple[str, ...], workers: int
) -> F32:
    """(N, J) direct light of each source at unit strength, shadow rays and gather rays together."""
    units = np.zeros((len(texels), len(names)), np.float32)
    of_texel = Glow.of(scene, texels).of_texel
    number = {e.name: i for i, e in enumerate(scene.emitters)}
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
            wide = np.zeros((len(scene.emitters), len(texels)), np.bool_)
            wide[number[name], field.gathered] = True
            glow = np.zeros((len(scene.emitters), 3), np.float32)
            glow[number[name]] = 1.0
            seen = gathered_light(hits, np.zeros(3, np.float32), glow, of_texel, wide, workers)
            units[:, column] += seen[:, 0]
    return units
