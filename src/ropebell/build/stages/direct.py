"""Direct light of every light, emitter and sky picture, for unit strength, by shadow rays."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.build.forms import FIELD, SKY
from ropebell.build.kin import Known
from ropebell.build.progress import Tick, part_of
from ropebell.build.recipe import Recipe
from ropebell.build.speed import Speed
from ropebell.build.stage import Inputs, Item, Names, Size, Stage, Work
from ropebell.build.stages.charts import CHARTS
from ropebell.build.stages.footing import FOOTING
from ropebell.build.stages.scene import SCENE
from ropebell.build.store import Artifact
from ropebell.digest import digest_of
from ropebell.level.model import AREA_KINDS
from ropebell.level.placed_light import PlacedLight
from ropebell.level.scene import Emitter, Scene
from ropebell.level.sky_picture import read_sky_picture
from ropebell.light.affected import facing, shaded_by_emitter, shaded_by_light
from ropebell.light.direct import DirectField, emitter_field, light_field
from ropebell.light.fields import Sources, shadow_ray_light
from ropebell.light.kept import carried_dense, carried_field
from ropebell.light.near import TexelBlocks
from ropebell.light.rays import RaySpace
from ropebell.light.sky import SkyMap, sky_field
from ropebell.light.surface import OpenSamples, Surface

# With fewer lamps than this, finding out whom they reach costs more than it saves.
FEW_LAMPS = 4
SKY_ITEM: Item = ("sky picture", "")
SKY_VERSION = 2


def _inputs(of: Inputs, names: Names) -> Mapping[Item, str]:
    scene, recipe, footing = of.scene, of.recipe, names.one(FOOTING.name)
    # Marks that change nothing are in no digest.
    dry = [scene.node_names[n] for n in np.unique(scene.node[~scene.shadowed])] if len(scene.shadowed) else []
    lit = [dry] if dry else []
    found: dict[Item, str] = {}
    for light in scene.lights:
        found["light", light.name] = digest_of(DIRECT.version, footing, _shape(light, recipe), *lit)
    for e in scene.emitters:
        picture = (e.picture.uv, e.picture.pixels, e.picture.wrap) if e.picture is not None else ()
        found["emitter", e.name] = digest_of(
            DIRECT.version, footing, scene.corners[e.triangles], e.double_sided, recipe.direct_samples,
            recipe.light.seed, *lit, *picture,
        )  # fmt: skip
    if of.sky is not None:
        found[SKY_ITEM] = digest_of(
            SKY_VERSION, footing, of.sky.content, of.sky.turn, recipe.direct_samples, recipe.light.seed, *lit
        )  # fmt: skip
    return found


def _shape(light: PlacedLight, recipe: Recipe) -> list[Any]:
    """What the direct light of a light of unit strength depends on."""
    shape: list[Any] = [light.kind]
    if light.kind != "directional":
        shape += [light.position.tolist(), light.reach]
    if light.kind != "point":
        shape.append(light.direction.tolist())
    if light.kind == "spot":
        shape += [light.inner_cone, light.outer_cone]
    if light.kind in AREA_KINDS:
        shape += [light.width, light.height, light.roll]
    if light.size > 0:
        shape += [light.size, recipe.direct_samples, recipe.light.seed]
    return shape


@dataclass(frozen=True, eq=False)
class Lighting:
    """What the items of this stage have in common.

    Attributes:
        shadowed: (N,) bool, texels that receive shadow; None: all.
        many: so many lights that it pays to find out first whom each can reach.
    """

    scene: Scene
    surface: Surface
    space: RaySpace
    samples: OpenSamples
    recipe: Recipe
    workers: int
    shadowed: NDArray[np.bool_] | None
    many: bool = False

    @staticmethod
    def of(work: Work) -> Lighting:
        """Of a build."""
        placed, texels = work[SCENE], work[CHARTS].texels
        scene, samples, shadowed = placed.scene, work[FOOTING].samples, None
        if len(scene.shadowed) and not scene.shadowed.all():
            shadowed = scene.shadowed[texels.owner]
        lit = work.names.kind(DIRECT.name, "light")
        missing = [x for x in scene.lights if x.reach and not work.store.has(lit[x.name])]
        many = len(missing) >= FEW_LAMPS
        return Lighting(scene, placed.surface, placed.space, samples, work.recipe, work.workers, shadowed, many)

    def light(self, light: PlacedLight, known: Known | None, tick: Tick) -> DirectField:
        """Of a light."""
        some, shadowed = self._among(known)
        near = self.blocks if self.many and known is None else None
        return light_field(light, *self._place, some, self.workers, tick, *self._effort, shadowed, near)

    def emitter(self, emitter: Emitter, known: Known | None, tick: Tick) -> DirectField:
        """Of an emitter."""
        some, shadowed = self._among(known)
        areas = self.scene.areas
        return emitter_field(emitter, areas, *self._place, some, *self._effort, self.workers, tick, shadowed)

    def sky(self, sky: SkyMap, known: Known | None, tick: Tick) -> NDArray[np.float32]:
        """(N, 3) of a sky picture."""
        some, shadowed = self._among(known)
        return sky_field(sky, *self._place, some, *self._effort, self.workers, tick, shadowed)

    def still_so(self, known: Known | None, source: PlacedLight | Emitter | None) -> Known | None:
        """What is known of a light, less the texels for which something may have come before it, or have gone.

        Args:
            source: None is the sky.
        """
        if known is None or known.change is None:
            return known
        if source is None:
            # Anywhere above the horizon, for what is new as for what is gone.
            rows = facing(known.change.both, self.surface, self.samples.spots)
        elif isinstance(source, Emitter):
            rows = shaded_by_emitter(known.change, source, self.blocks, self.surface)
        else:
            rows = shaded_by_light(known.change, source, self.blocks, self.surface, self.space)
        return replace(known, kept=known.kept.without(rows))

    @cached_property
    def blocks(self) -> TexelBlocks:
        """Where texels lie."""
        return TexelBlocks.of(self.surface, self.samples)

    @property
    def _place(self) -> tuple[Surface, RaySpace]:
        return self.surface, self.space

    @property
    def _effort(self) -> tuple[int, int]:
        return self.recipe.direct_samples, self.recipe.light.seed

    def _among(self, known: Known | None) -> tuple[OpenSamples, NDArray[np.bool_] | None]:
        """Samples, and who receives shadow, of the texels that are to be lit: all, or what is not known yet."""
        if known is None:
            return self.samples, self.shadowed
        rows = known.kept.fresh
        return self.samples.among(rows), self.shadowed[rows] if self.shadowed is not None else None


def _run(work: Work) -> Sources:
    scene, earlier, count = work[SCENE].scene, work[FOOTING].earlier, len(work[CHARTS].texels)
    lighting, glanced = Lighting.of(work), work[FOOTING].glanced
    sources = Sources({}, {})
    everything: list[tuple[str, PlacedLight | Emitter]] = [
        *(("light", x) for x in scene.lights),
        *(("emitter", e) for e in scene.emitters),
    ]
    began, shot, total = time.monotonic(), 0.0, len(everything)
    for number, (kind, source) in enumerate(everything):
        make = _field_of(work, lighting, source, (kind, source.name), (number / total, (number + 1) / total))
        field: DirectField = work.kept(DIRECT, (kind, source.name), make, N=count)
        lost = int(np.count_nonzero(~np.isfinite(field.value)))
        if lost:
            work.wires.unsound(source.name, lost)
        (sources.lights if kind == "light" else sources.emitters)[source.name] = field
        if not work.log.done[-1].reused:
            lamp = kind == "light"
            shot += (
                lighting.samples.triangle.shape[1] / 2 if lamp else (1 + EMITTER_RAY) * work.recipe.direct_samples / 2
            )
        if work.pictures.due():
            # Lamps whose turn is still to come as they were seen at a glance.
            known = replace(sources, lights={**glanced, **sources.lights})
            so_far = np.maximum(shadow_ray_light(scene, known, count), 0.0)
            work.pictures.show(so_far, f"direct light {number + 1} of {total}")
    if work.names.one(DIRECT.name, SKY_ITEM):
        sources = replace(sources, sky=work.kept(DIRECT, SKY_ITEM, _sky_of(work, lighting), N=count))
    elapsed = time.monotonic() - began
    if shot and elapsed > 0.05 and earlier.closest is None:
        work.log.rates[DIRECT.name] = shot * count / elapsed / work.workers
    work.progress.stage(DIRECT.name)(1.0)
    if work.wires.looks_at_light and not any((x.strength < 0).any() for x in scene.lights):
        work.wires.lit(shadow_ray_light(scene, sources, count), work.baked, whole=False)
    return sources


def _field_of(
    work: Work, lighting: Lighting, source: PlacedLight | Emitter, item: Item, part: tuple[float, float]
) -> Callable[[Tick], Artifact]:  # fmt: skip
    def make(tick: Tick) -> Artifact:
        known = lighting.still_so(
            work[FOOTING].earlier.known(FIELD, lambda names: names.one(DIRECT.name, item)), source
        )
        tick = part_of(tick, *part)
        if isinstance(source, PlacedLight):
            field = lighting.light(source, known, tick)
        else:
            field = lighting.emitter(source, known, tick)
        if known is not None:
            field = carried_field(known.kept, FIELD.read(known.artifact), field)
        arrays = {"texel": field.texel, "value": field.value, "gathered": field.gathered}
        return work.store.put(work.names.one(DIRECT.name, item), arrays)

    return make


def _sky_of(work: Work, lighting: Lighting) -> Callable[[Tick], Artifact]:
    def make(_tick: Tick) -> Artifact:
        sky = work.sky
        assert sky is not None  # or it had no name
        earlier = work[FOOTING].earlier
        known = lighting.still_so(earlier.known(SKY, lambda names: names.one(DIRECT.name, SKY_ITEM)), None)
        field = lighting.sky(SkyMap.of(read_sky_picture(sky.path), sky.turn), known, work.check_stop)
        if known is not None:
            field = carried_dense(known.kept, SKY.read(known.artifact), field)
        return work.store.put(work.names.one(DIRECT.name, SKY_ITEM), {"sky": field})

    return make


# A ray to a glowing surface takes so many times longer again than one to a lamp.
EMITTER_RAY = 2.0


def _predict(size: Size, speed: Speed) -> float:
    # Of a glowing surface a ray has to be sought first.
    toward = size.emitters * size.recipe.direct_samples * size.texels / 2
    return (size.shadow + EMITTER_RAY * toward) / speed.all("direct")


DIRECT = Stage(
    "direct", "Direct light", _run, _predict, _inputs, version=3, forms={"light": FIELD, "emitter": FIELD,
    SKY_ITEM[0]: SKY}, rate=1.8e6, carried="texels",
)  # fmt: skip
