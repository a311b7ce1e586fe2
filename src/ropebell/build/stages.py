"""The stages that shoot rays or lay out texels, each a pure function of what its digest names."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ropebell.build.recipe import Recipe
from ropebell.build.store import Artifact, Store, StoredLayouts, digest_of
from ropebell.charts.atlas import Atlas, ChartSettings, make_atlas
from ropebell.charts.shapes import placed_shapes
from ropebell.charts.texels import Texels, make_texels
from ropebell.errors import BuildError
from ropebell.level.cutouts import has_holes
from ropebell.level.model import AREA_KINDS, F32, I32, Level, Notice
from ropebell.level.scene import Emitter, PlacedLight, Scene
from ropebell.level.sky_picture import read_sky_picture
from ropebell.light.direct import DirectField, emitter_field, light_field
from ropebell.light.footing import find_open_samples
from ropebell.light.near import TexelBlocks
from ropebell.light.rays import RaySpace
from ropebell.light.sky import SkyMap, sky_field
from ropebell.light.surface import OpenSamples, Surface
from ropebell.light.transport import Hits, empty_hits, passes, trace

Tick = Callable[[float], None]

# Raised when a stage's method changes, so that artifacts of older versions are not taken for new ones.
VERSIONS = {"charts": 3, "footing": 1, "direct": 2, "transport": 2, "albedo": 2, "sky": 1}


@dataclass(frozen=True)
class Digests:
    """Names of the stage artifacts of one scene and recipe."""

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
    # Marks that change nothing are in no digest.
    ghosts = [scene.casts] if len(scene.casts) and not scene.casts.all() else []
    holes = scene.cutouts.arrays if scene.cutouts is not None else ()
    footing = digest_of(VERSIONS["footing"], charts, *ghosts, *holes)
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
    return Digests(charts, footing, transport, lights, emitters)


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


def sky_stage(
    picture: Path, turn: float, surface: Surface, space: RaySpace, samples: OpenSamples, recipe: Recipe, digest: str,
    store: Store, workers: int, tick: Tick, shadowed: NDArray[np.bool_] | None,
) -> Artifact:  # fmt: skip
    """Direct light of a sky picture."""
    sky = SkyMap.of(read_sky_picture(picture), turn)
    rays, seed = recipe.direct_samples, recipe.light.seed
    field = sky_field(sky, surface, space, samples, rays, seed, workers, tick, shadowed)
    return store.put(digest, {"sky": field})


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
    }  # fmt: skip
    meta = {
        "pages": atlas.pages,
        "side": atlas.side,
        "written": atlas.written,
        "notices": [[n.kind, n.where, n.text] for n in notices],
    }
    return store.put(digest, arrays, meta)


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
    tick: Tick,
) -> Artifact:  # fmt: skip
    """Find the samples that stand in the open."""
    samples = find_open_samples(surface, space, texels, atlas, workers, tick)
    arrays = {
        "count": samples.count, "triangle": samples.triangle, "weights": samples.weights, "target": samples.target
    }  # fmt: skip
    return store.put(digest, arrays)


def read_footing(artifact: Artifact) -> OpenSamples:
    """The open samples of a footing artifact."""
    a = artifact.arrays
    return OpenSamples(a["count"], a["triangle"], a["weights"], a["target"])


def light_stage(
    light: PlacedLight, surface: Surface, space: RaySpace, samples: OpenSamples, recipe: Recipe, digest: str,
    store: Store, workers: int, tick: Tick, shadowed: NDArray[np.bool_] | None, near: TexelBlocks | None,
) -> Artifact:  # fmt: skip
    """Direct light of one light."""
    rays, seed = recipe.direct_samples, recipe.light.seed
    field = light_field(light, surface, space, samples, workers, tick, rays, seed, shadowed, near)
    return _keep_field(field, digest, store)


def emitter_stage(
    emitter: Emitter, scene: Scene, surface: Surface, space: RaySpace, samples: OpenSamples, recipe: Recipe,
    digest: str, store: Store, workers: int, tick: Tick, shadowed: NDArray[np.bool_] | None,
) -> Artifact:  # fmt: skip
    """Direct light of one emitter."""
    rays, seed = recipe.direct_samples, recipe.light.seed
    field = emitter_field(emitter, scene.areas, surface, space, samples, rays, seed, workers, tick, shadowed)
    return _keep_field(field, digest, store)


def _keep_field(field: DirectField, digest: str, store: Store) -> Artifact:
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


def transport_stage(
    surface: Surface, space: RaySpace, texels: Texels, atlas: Atlas, samples: OpenSamples, recipe: Recipe,
    digest: str, store: Store, workers: int, tick: Tick, after_pass: Callable[[I32, int], None],
    effort: F32,
) -> Artifact:  # fmt: skip
    """Shoot the gather rays, in passes, straight into the artifact's file.

    Args:
        after_pass: called with the table so far and the number of its rays that are shot.
        effort: (T,) share of the rays that texels of each face get.
    """
    rays = recipe.gather_rays
    shape = (len(texels), rays)
    budget = ray_budget(effort, texels, rays)
    with store.writing(digest) as folder:
        if 0 in shape:
            np.save(folder / "hits.npy", empty_hits(*shape))
            for name in ("counted", "open"):
                np.save(folder / f"{name}.npy", np.zeros(shape[0], np.int32))
        else:
            hits = np.lib.format.open_memmap(folder / "hits.npy", mode="w+", dtype=np.int32, shape=shape)
            _fill(hits)
            for first, end in passes(rays):
                trace(
                    surface, space, texels, atlas, samples, hits, (first, end), recipe.light.seed, workers,
                    part_of(tick, first / rays, end / rays), budget,
                )  # fmt: skip
                after_pass(hits, end)
            hits.flush()
            tally = Hits.of(hits)
            np.save(folder / "counted.npy", tally.counted)
            np.save(folder / "open.npy", tally.open)
            del hits, tally
        count = [shape[0]]
        store.describe(folder, {"hits": list(shape), "counted": count, "open": count}, None)
    artifact = store.get(digest)
    assert artifact is not None
    return artifact


def ray_budget(effort: F32, texels: Texels, rays: int) -> I32 | None:
    """(N,) rays of each texel, None where all get all; at least the first pass."""
    if not len(effort) or (effort == 1.0).all():
        return None
    return np.maximum(np.ceil(effort[texels.owner] * rays), 1).astype(np.int32)


def read_hits(artifact: Artifact) -> Hits:
    """The hits of a transport artifact."""
    return Hits(artifact.arrays["hits"], artifact.arrays["counted"], artifact.arrays["open"])


def albedo_digest(level: Level, charts: str) -> str:
    """Names the texels' albedo: charts, base colours and pictures."""
    surfaces = [
        [m.base_color, None if m.base_texture is None else [m.base_texture.image, m.base_texture.texcoord,
         m.base_texture.wrap, m.base_texture.affine.tolist()], m.alpha_cutoff if has_holes(m) else None]
        for m in level.materials
    ]  # fmt: skip
    pictures = [hashlib.sha256(image.data).hexdigest() for image in level.images]
    return digest_of(VERSIONS["albedo"], charts, surfaces, pictures)


def part_of(tick: Tick, low: float, high: float) -> Tick:
    """A tick function for a part of a stage."""
    return lambda share: tick(low + share * (high - low))


def _fill(hits: I32) -> None:
    """Mark every ray as not counted, a piece at a time so that it stays interruptible."""
    for first in range(0, len(hits), 100_000):
        hits[first : first + 100_000] = -3
