"""The stages that shoot rays or lay out texels, each a pure function of what its digest names."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ropebell.build.fields import Glow, reflecting, throwing
from ropebell.build.layouts import StoredLayouts
from ropebell.build.recipe import Recipe
from ropebell.build.store import Artifact, Store, digest_of
from ropebell.charts.atlas import Atlas, ChartSettings, make_atlas
from ropebell.charts.shapes import placed_shapes
from ropebell.charts.texels import Texels, make_texels
from ropebell.errors import BuildError
from ropebell.level.cutouts import has_holes
from ropebell.level.model import AREA_KINDS, F32, I32, Level, Notice
from ropebell.level.placed_light import PlacedLight
from ropebell.level.scene import Emitter, Scene
from ropebell.level.sky_picture import read_sky_picture
from ropebell.light.direct import DirectField, emitter_field, light_field
from ropebell.light.footing import find_open_samples
from ropebell.light.kept import Kept, carried_dense, carried_field
from ropebell.light.near import TexelBlocks
from ropebell.light.rays import RaySpace
from ropebell.light.sky import SkyMap, sky_field
from ropebell.light.surface import OpenSamples, Surface
from ropebell.light.transport import Hits

Tick = Callable[[float], None]

# Raised when a stage's method changes, so that artifacts of older versions are not taken for new ones.
VERSIONS = {"charts": 5, "footing": 2, "direct": 3, "transport": 4, "albedo": 3, "sky": 2}


@dataclass(frozen=True)
class Digests:
    """Names of the stage artifacts of one scene and recipe; `ground` is no stage: it names what rays meet, however
    finely it is lit."""

    ground: str
    charts: str
    footing: str
    transport: str
    lights: dict[str, str]
    emitters: dict[str, str]


def digests(scene: Scene, recipe: Recipe) -> Digests:
    """What each stage depends on, and nothing else.

    Strengths and colours of lights, albedo, radiance, sky, bounces, gain: none of them is here, so changing
    them re-uses every artifact.
    """
    geometry = digest_of(scene.corners, scene.normals, scene.double_sided.astype(np.uint8), scene.node)
    settings = _settings(recipe)
    bare = [scene.bare] if scene.bare.any() else []
    charts = digest_of(
        VERSIONS["charts"], geometry, np.nan_to_num(scene.uv1, nan=-1e9),
        [settings.texels_per_metre, settings.page_size, settings.padding, settings.samples], scene.factor, *bare,
    )  # fmt: skip
    return names_on(charts, digest_of(geometry, settings.samples), scene, recipe)


def names_on(charts: str, ground: str, scene: Scene, recipe: Recipe) -> Digests:
    """The same on charts of some digest, which may be those of an earlier layout."""
    # Marks that change nothing are in no digest.
    ghosts = [scene.casts] if len(scene.casts) and not scene.casts.all() else []
    holes = scene.cutouts.arrays if scene.cutouts is not None else ()
    footing = digest_of(VERSIONS["footing"], charts, *ghosts, *holes)
    ground = digest_of(ground, *ghosts, *holes)
    lit = [scene.shadowed] if len(scene.shadowed) and not scene.shadowed.all() else []
    outside = [scene.effort] if len(scene.effort) and (scene.effort != 1.0).any() else []
    transport = digest_of(VERSIONS["transport"], footing, recipe.gather_rays, recipe.light.seed, *outside)
    lights = {light.name: _light_digest(footing, light, recipe, lit) for light in scene.lights}
    emitters = {
        e.name: digest_of(
            VERSIONS["direct"],
            footing,
            e.triangles,
            e.double_sided,
            recipe.direct_samples,
            recipe.light.seed,
            *lit,
            *((e.picture.uv, e.picture.pixels, e.picture.wrap) if e.picture is not None else ()),
        )
        for e in scene.emitters
    }
    return Digests(ground, charts, footing, transport, lights, emitters)


def _settings(recipe: Recipe) -> ChartSettings:
    return ChartSettings(recipe.texels_per_metre, recipe.density.page_size, recipe.padding, recipe.footprint_samples)


def _light_digest(footing: str, light: PlacedLight, recipe: Recipe, lit: list[NDArray[np.bool_]]) -> str:
    shape: list = [light.kind]
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
    return digest_of(VERSIONS["direct"], footing, shape, *lit)


def sky_digest(footing: str, picture: Path, turn: float, scene: Scene, recipe: Recipe) -> str:
    """Names the direct light of a sky picture.

    Raises:
        BuildError: the picture cannot be read.
    """
    try:
        content = hashlib.sha256(picture.read_bytes()).hexdigest()
    except OSError as error:
        raise BuildError(f"the sky picture cannot be read ({error.strerror})", picture, "Choose another") from error
    lit = [scene.shadowed] if len(scene.shadowed) and not scene.shadowed.all() else []
    return digest_of(VERSIONS["sky"], footing, content, turn, recipe.direct_samples, recipe.light.seed, *lit)


def charts_stage(scene: Scene, recipe: Recipe, digest: str, store: Store, workers: int, tick: Tick) -> Artifact:
    """Lay out, pack and rasterise."""
    shapes = placed_shapes(scene, StoredLayouts(store), workers, lambda share: tick(0.6 * share))
    atlas, notices = make_atlas(scene, shapes, _settings(recipe))
    tick(0.7)
    texels = make_texels(scene, atlas, recipe.footprint_samples, lambda share: tick(0.7 + 0.3 * share))
    arrays = {
        "uv": atlas.uv, "chart": atlas.chart, "rects": atlas.rects, "page": texels.page, "column": texels.column,
        "row": texels.row, "cover": texels.cover, "owner": texels.owner, "grid": texels.grid,
        "sample_triangle": texels.sample_triangle, "sample_weights": texels.sample_weights,
        "density": face_density(scene, recipe),
    }  # fmt: skip
    meta = {
        "pages": atlas.pages,
        "side": atlas.side,
        "written": atlas.written,
        "notices": [[n.kind, n.where, n.text] for n in notices],
    }
    return store.put(digest, arrays, meta)


def face_density(scene: Scene, recipe: Recipe) -> F32:
    """(T,) float32 texels per metre of each triangle."""
    factor = scene.factor if len(scene.factor) else np.ones(len(scene), np.float32)
    return (factor * np.float32(recipe.texels_per_metre)).astype(np.float32)


def read_charts(artifact: Artifact) -> tuple[Atlas, Texels, list[Notice]]:
    """The atlas, the texel table and the notices of a charts artifact."""
    a = artifact.arrays
    meta = artifact.meta
    atlas = Atlas(a["uv"], a["chart"], a["rects"], meta["pages"], meta["side"], meta["written"])
    texels = Texels(
        a["page"],
        a["column"],
        a["row"],
        a["cover"],
        a["owner"],
        a["sample_triangle"],
        a["sample_weights"],
        a["grid"],
    )
    return atlas, texels, [Notice(*n) for n in artifact.meta["notices"]]


def footing_stage(
    surface: Surface, space: RaySpace, texels: Texels, atlas: Atlas, digest: str, store: Store, workers: int,
    tick: Tick, known: Known | None,
) -> Artifact:  # fmt: skip
    """Find the samples that stand in the open."""
    earlier = (known.kept, read_footing(known.artifact)) if known is not None else None
    samples = find_open_samples(surface, space, texels, atlas, workers, tick, earlier)
    arrays = {
        "count": samples.count, "triangle": samples.triangle, "weights": samples.weights, "target": samples.target,
        "key": samples.key,
    }  # fmt: skip
    return store.put(digest, arrays)


def read_footing(artifact: Artifact) -> OpenSamples:
    """The open samples of a footing artifact."""
    a = artifact.arrays
    return OpenSamples(a["count"], a["triangle"], a["weights"], a["target"], a["key"])


@dataclass(frozen=True, eq=False)
class Known:
    """What a stage gave on an earlier layout, and which texels that still holds for."""

    kept: Kept
    artifact: Artifact


@dataclass(frozen=True, eq=False)
class Lighting:
    """What every direct stage of a build has in common.

    Attributes:
        shadowed: (N,) bool, texels that receive shadow; None: all.
        near: tells which texels a light with a reach can light; None: all are tried.
    """

    scene: Scene
    surface: Surface
    space: RaySpace
    samples: OpenSamples
    recipe: Recipe
    store: Store
    workers: int
    shadowed: NDArray[np.bool_] | None
    near: TexelBlocks | None = None

    @property
    def place(self) -> tuple[Surface, RaySpace]:
        """Where rays start and go."""
        return self.surface, self.space

    @property
    def effort(self) -> tuple[int, int]:
        """Rays of a texel, and the seed."""
        return self.recipe.direct_samples, self.recipe.light.seed

    def among(self, known: Known | None) -> tuple[OpenSamples, NDArray[np.bool_] | None]:
        """Samples, and who receives shadow, of the texels that are to be lit: all, or what is not known yet."""
        if known is None:
            return self.samples, self.shadowed
        rows = known.kept.fresh
        return self.samples.among(rows), self.shadowed[rows] if self.shadowed is not None else None


def light_stage(light: PlacedLight, lighting: Lighting, digest: str, tick: Tick, known: Known | None) -> Artifact:
    """Direct light of one light."""
    some, shadowed = lighting.among(known)
    near = lighting.near if known is None else None
    field = light_field(light, *lighting.place, some, lighting.workers, tick, *lighting.effort, shadowed, near)
    return _keep_field(field, digest, lighting.store, known)


def emitter_stage(emitter: Emitter, lighting: Lighting, digest: str, tick: Tick, known: Known | None) -> Artifact:
    """Direct light of one emitter."""
    some, shadowed = lighting.among(known)
    field = emitter_field(
        emitter, lighting.scene.areas, *lighting.place, some, *lighting.effort, lighting.workers, tick, shadowed
    )
    return _keep_field(field, digest, lighting.store, known)


def sky_stage(picture: Path, turn: float, lighting: Lighting, digest: str, tick: Tick, known: Known | None) -> Artifact:
    """Direct light of a sky picture."""
    sky = SkyMap.of(read_sky_picture(picture), turn)
    some, shadowed = lighting.among(known)
    field = sky_field(sky, *lighting.place, some, *lighting.effort, lighting.workers, tick, shadowed)
    if known is not None:
        field = carried_dense(known.kept, known.artifact.arrays["sky"], field)
    return lighting.store.put(digest, {"sky": field})


def _keep_field(field: DirectField, digest: str, store: Store, known: Known | None) -> Artifact:
    if known is not None:
        field = carried_field(known.kept, read_field(known.artifact), field)
    return store.put(digest, {"texel": field.texel, "value": field.value, "gathered": field.gathered})


def shadowed_texels(scene: Scene, texels: Texels) -> NDArray[np.bool_] | None:
    """(N,) whether each texel receives shadow, None where all do."""
    if not len(scene.shadowed) or scene.shadowed.all():
        return None
    return scene.shadowed[texels.owner]


def read_field(artifact: Artifact) -> DirectField:
    """The field of a direct artifact."""
    a = artifact.arrays
    return DirectField(a["texel"], a["value"], a["gathered"])


def ray_budget(effort: F32, texels: Texels, rays: int) -> I32:
    """(N,) rays of each texel: its share of all of them, at least one."""
    if not len(effort) or (effort == 1.0).all():
        return np.full(len(texels), rays, np.int32)
    return np.maximum(np.ceil(effort[texels.owner] * rays), 1).astype(np.int32)


def read_hits(artifact: Artifact) -> Hits:
    """The hits of a transport artifact."""
    a = artifact.arrays
    return Hits(a["hits"], a["counted"], a["open"], a["done"], a["hits"].shape[1])


def surfaces_digest(level: Level, scene: Scene, charts: str) -> str:
    """Names the texels' albedo: charts, base colours and pictures, and which of them lies where."""
    surfaces = [
        [m.base_color, None if m.base_texture is None else [m.base_texture.image, m.base_texture.texcoord,
         m.base_texture.wrap, m.base_texture.affine.tolist()], m.alpha_cutoff if has_holes(m) else None]
        for m in level.materials
    ]  # fmt: skip
    pictures = [hashlib.sha256(image.data).hexdigest() for image in level.images]
    where = np.nan_to_num(scene.uv0, nan=-1e9)
    return digest_of(VERSIONS["albedo"], charts, surfaces, pictures, where, scene.material)


def reading_stage(scene: Scene, texels: Texels, albedo: F32, surfaces: str, recipe: Recipe, store: Store) -> str:
    """Keep what each texel throws back and which emitter it belongs to, by which a build's light is traced back to its
    lamps, whatever has become of its level; the digest."""
    thrown_back, glow = reflecting(scene, texels, albedo, recipe), Glow.of(scene, texels)
    throws = throwing(scene, texels, albedo)
    digest = digest_of("reading", surfaces, throws, thrown_back, glow.of_texel)
    if not store.has(digest):
        arrays = {"throws": throws, "reflecting": thrown_back, "emitter": glow.of_texel}
        store.put(digest, arrays, durable=False)
    return digest


def part_of(tick: Tick, low: float, high: float) -> Tick:
    """A tick function for a part of a stage."""
    return lambda share: tick(low + share * (high - low))
