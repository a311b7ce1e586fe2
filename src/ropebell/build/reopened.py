"""A finished build with all that its detectors looked at: its level, its rays, its light."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from ropebell.build.journal import read_events
from ropebell.build.knots import asked_for
from ropebell.build.manifest import Manifest, read_manifest
from ropebell.build.precheck import gather
from ropebell.build.probe_file import read_probes
from ropebell.build.request import Request
from ropebell.build.result import read_noise, read_pages
from ropebell.build.stage import Inputs, SkyFile
from ropebell.build.stages import CHARTS, FOOTING, digests
from ropebell.build.stages.scene import Placed
from ropebell.build.stored import StoredBuild
from ropebell.errors import ProjectError
from ropebell.faults.lit import Lit, Settings
from ropebell.level.brief import Brief
from ropebell.level.open import open_level
from ropebell.level.prepare import prepare
from ropebell.level.scene import Scene
from ropebell.level.sky_picture import read_sky_picture
from ropebell.light.fields import Glow, kept_back, lamp_light, ray_light, shadow_ray_light
from ropebell.light.sky import SkyMap
from ropebell.light.solve import solve


@dataclass(frozen=True, eq=False)
class Reopened:
    """A build as it was, to be looked into."""

    folder: Path
    manifest: Manifest
    lit: Lit


def reopen(folder: Path) -> Reopened:
    """Bring a build's level, rays and light together again, from what it kept.

    Raises:
        ProjectError: it is not done, its level has changed since, or what it kept in the cache is gone.
        LevelError: its level or a page of it cannot be read.
    """
    manifest = read_manifest(folder)
    if manifest.scope.properties and manifest.scope.since is not None:
        return replace(reopen(manifest.scope.since), folder=folder, manifest=manifest)
    request = asked_for(read_events(folder), folder)
    if request is None:
        raise ProjectError("its journal does not say what was built", folder, "Build again")
    again = "Build again to look into its light"
    if not manifest.texels or not manifest.pages:
        raise ProjectError("the build has no baked light", folder, "Name a build of a level with baked surfaces")
    stored = StoredBuild.of(manifest)
    if stored is None:
        raise ProjectError(f"what the build kept in {manifest.cache} is gone", folder, again)
    placed = _placed(request, manifest, folder)
    scene, recipe, sources = placed.scene, request.recipe, stored.sources
    texels, atlas = stored.layout.texels, stored.layout.atlas
    count, workers = len(texels), request.workers
    glow = Glow.of(scene, texels)
    direct = shadow_ray_light(scene, sources, count) + ray_light(stored.hits, glow, sources, request.sky, workers)
    held = kept_back(scene, sources, count)
    solved = solve(
        stored.hits.table, direct, stored.reflecting, manifest.bounces, workers, lambda _: None, held
    )  # fmt: skip
    pages, _ = read_pages(folder, manifest)
    noise = read_noise(folder, manifest)
    at = np.minimum(texels.page, len(pages) - 1), texels.row, texels.column
    on_page = texels.page < len(pages)
    total = np.where(on_page[:, None], pages[at], solved.total).astype(np.float32)
    told = np.where(on_page, noise[at][:, 0], 0.0).astype(np.float32) if noise is not None else None
    sky = SkyFile.of(request.sky_picture, request.brief)
    r, g, b = (float(v) for v in request.gathered_sky)
    settings = Settings(
        recipe.gather_rays, recipe.direct_samples, recipe.light.seed, manifest.bounces, recipe.padding, recipe.draft,
        recipe.finish.denoise, recipe.output.directional, workers=workers,
    )  # fmt: skip
    gathered = placed.gathered

    def posed(brief: Brief) -> Scene:
        return prepare(gathered.source, brief, gathered.emission).baking

    picture = SkyMap.of(read_sky_picture(sky.path), sky.turn) if sky is not None else None
    lit = Lit(
        gathered.subject, placed.surface, placed.space, atlas, texels, stored.samples, stored.hits, sources, glow,
        solved, total, lamp_light(scene, sources, count), told, stored.reflecting, (r, g, b), settings, picture,
        request.sky, stored.finishing.seams if stored.finishing is not None else None, pages, read_probes(folder),
        posed=posed,
    )  # fmt: skip
    return Reopened(folder, manifest, lit)


def _placed(request: Request, manifest: Manifest, folder: Path) -> Placed:
    """The level as it was built.

    Raises:
        ProjectError: it is not that any more.
    """
    r = request
    placed = Placed(gather(open_level(r.level), r.brief, r.recipe, r.sky, r.tables, r.scope.box))
    names = digests(Inputs(placed.scene, r.recipe, SkyFile.of(r.sky_picture, r.brief), r.scope.part))
    same = (names.one(CHARTS.name), names.one(FOOTING.name)) == (manifest.digests.charts, manifest.digests.footing)
    if not same:
        what = f"its level, {r.level.name}, has changed since it was built"
        raise ProjectError(what, folder, "Build again to look into its light")
    return placed
