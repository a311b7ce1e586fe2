"""Lay out charts, pack them on pages, and find where each texel lies; then look what earlier layouts know."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from ropebell.build.forms import CHARTS as FORM
from ropebell.build.forms import Laid
from ropebell.build.kin import Earlier, Ground
from ropebell.build.layouts import StoredLayouts
from ropebell.build.progress import Tick
from ropebell.build.recipe import Recipe
from ropebell.build.speed import Speed
from ropebell.build.stage import ONLY, Inputs, Item, Names, Size, Stage, Work, names_of
from ropebell.build.stages.scene import SCENE
from ropebell.build.store import Artifact
from ropebell.charts.atlas import Atlas, ChartSettings, make_atlas
from ropebell.charts.shapes import placed_shapes
from ropebell.charts.texels import Texels, make_texels
from ropebell.digest import digest_of
from ropebell.level.finding import from_notice
from ropebell.level.scene import Scene
from ropebell.light.rays import centred
from ropebell.light.surface import Surface, named_rows

# Of the next stage, by which that of an earlier layout is named.
FOOTING_NAME = "footing"


class Charted(NamedTuple):
    """Where texels lie, and what is known of them from earlier layouts of the same ground."""

    atlas: Atlas
    texels: Texels
    earlier: Earlier[Names]


def chart_settings(recipe: Recipe) -> ChartSettings:
    """What of a recipe charts are laid out by."""
    return ChartSettings(recipe.texels_per_metre, recipe.density.page_size, recipe.padding, recipe.footprint_samples)


def ground_of(scene: Scene, recipe: Recipe) -> str:
    """Names what rays meet, however finely it is lit."""
    # Marks that change nothing are in no digest.
    return digest_of(digest_of(_geometry(scene), recipe.footprint_samples), *met(scene))


def met(scene: Scene) -> list[object]:
    """What rays pass through, where there is anything of the kind."""
    ghosts = [scene.casts] if len(scene.casts) and not scene.casts.all() else []
    return [*ghosts, *(scene.cutouts.arrays if scene.cutouts is not None else ())]


def _ground(work: Work) -> Ground:
    """What rays meet, triangle by triangle."""
    placed = work[SCENE]
    return Ground(work.names.ground, met_faces(placed.scene, placed.surface), placed.surface.vertices)


def met_faces(scene: Scene, surface: Surface) -> NDArray[np.uint64]:
    """(T,) names each triangle by all that rays which start from it, or meet it, depend on."""
    told = np.zeros((len(scene), 8), np.float32)
    if len(scene.casts):
        told[:, 0] = ~scene.casts
    cut = scene.cutouts
    if cut is not None:
        # Any other picture with holes makes all of what has some another.
        told[cut.triangle, 1] = 1 + cut.mask
        told[cut.triangle, 2:] = cut.uv.reshape(-1, 6)
        told[cut.triangle, 0] = int(digest_of(cut.shape, cut.solid)[:6], 16)
    return surface.names ^ named_rows(told)


def faces_met(scene: Scene) -> NDArray[np.uint64]:
    """`met_faces` of a scene that no rays are shot in."""
    sided = np.ascontiguousarray(scene.double_sided, dtype=np.bool_)
    return met_faces(scene, Surface(centred(scene.corners)[2], scene.normals, scene.face_normals, sided))


def _geometry(scene: Scene) -> str:
    return digest_of(scene.corners, scene.normals, scene.double_sided.astype(np.uint8), scene.node)


def _inputs(of: Inputs, _names: Names) -> Mapping[Item, str]:
    scene, settings = of.scene, chart_settings(of.recipe)
    bare = [scene.bare] if scene.bare.any() else []
    digest = digest_of(
        CHARTS.version, _geometry(scene), np.nan_to_num(scene.uv1, nan=-1e9),
        [settings.texels_per_metre, settings.page_size, settings.padding, settings.samples], scene.factor, *bare,
    )  # fmt: skip
    return {ONLY: digest}


def _run(work: Work) -> Charted:
    scene = work[SCENE].scene
    work.names = names_of(work.stages, work.inputs(scene), Names(ground_of(scene, work.recipe)))
    laid: Laid = work.kept(CHARTS, ONLY, lambda tick: _make(work, scene, tick), T=len(scene))
    work.log.warn([from_notice(n) for n in laid.notices])
    size = Size.of(scene, work.recipe, len(laid.texels))
    work.rate(CHARTS, _amount(size))
    work.expect(size)
    made_now = not work.log.done[-1].reused
    for stage, items in work.names.of.items():
        if stage == CHARTS.name and made_now:
            continue  # it is there by now, but it took its time
        # What is there takes no time; the remaining time should know from the start.
        work.expect_share(stage, sum(not work.store.has(digest) for digest in items.values()) / max(len(items), 1))
    return Charted(laid.atlas, laid.texels, _look_back(work, scene, laid))


def _make(work: Work, scene: Scene, tick: Tick) -> Artifact:
    recipe, store = work.recipe, work.store
    shapes = placed_shapes(scene, StoredLayouts(store), work.workers, lambda share: tick(0.6 * share))
    atlas, notices = make_atlas(scene, shapes, chart_settings(recipe))
    tick(0.7)
    texels = make_texels(scene, atlas, recipe.footprint_samples, lambda share: tick(0.7 + 0.3 * share))
    arrays: dict[str, NDArray[Any]] = {
        "uv": atlas.uv, "chart": atlas.chart, "rects": atlas.rects, "page": texels.page, "column": texels.column,
        "row": texels.row, "cover": texels.cover, "owner": texels.owner, "grid": texels.grid,
        "sample_triangle": texels.sample_triangle, "sample_weights": texels.sample_weights,
        "density": scene.density(recipe.texels_per_metre),
        "vertices": work[SCENE].surface.vertices,
    }  # fmt: skip
    meta = {
        "pages": atlas.pages, "side": atlas.side, "written": atlas.written,
        "notices": [[n.kind, n.where, n.text] for n in notices],
    }  # fmt: skip
    return store.put(work.names.one(CHARTS.name), arrays, meta)


def _look_back(work: Work, scene: Scene, laid: Laid) -> Earlier[Names]:
    """What earlier layouts of the same ground know."""
    inputs = work.inputs(scene)

    def on(charts: str, footing: str) -> Names:
        return names_of(work.stages, inputs, Names("", {CHARTS.name: {ONLY: charts}, FOOTING_NAME: {ONLY: footing}}))

    wanted = work.names.everything() - {work.names.one(CHARTS.name)}
    # With a noise target the hit table has a name of its own, and may begin with rays of another.
    if not work.recipe.light.noise_target and all(work.store.has(digest) for digest in wanted):
        return Earlier(work.store, [], {})
    earlier = Earlier.of(work.store, _ground(work), work.names.one(CHARTS.name), work.recipe.light.seed, laid, on)
    closest = earlier.closest
    if closest is not None:
        work.journal.write("kept", texels=len(closest.rows), of=len(laid.texels))
        for stage in work.stages:
            if stage.carried == "texels" and not (earlier.change is not None and stage.name == FOOTING_NAME):
                work.expect_share(stage.name, 1.0 - closest.share)
    return earlier


def _amount(size: Size) -> float:
    """Work, in texels: a curved triangle costs the more, the more of them there are in one shape."""
    return size.texels + 4.0 * size.triangles + 1.2 * size.unwrapping


def _predict(size: Size, speed: Speed) -> float:
    return _amount(size) / speed.one("charts")


CHARTS = Stage(
    "charts", "Charts and texels", _run, _predict, _inputs, version=6, forms={"": FORM}, rate=400_000.0, alone=True
)
