"""What the window reads and prepares in the background: levels as they are arranged, builds as they are shown."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from ropebell.app.movers import lit_movers
from ropebell.app.stage.backdrop import backdrop_of
from ropebell.app.stage.drawn import Charted, Half, Vertices, charted_on, vertex_table
from ropebell.app.stage.picture import StagePicture
from ropebell.build.carry import carry
from ropebell.build.estimate import calibrated
from ropebell.build.forms import CHARTS as CHARTS_FORM
from ropebell.build.knots import Knot
from ropebell.build.manifest import Manifest, parts_in_words, read_manifest
from ropebell.build.mover import Lightmapped
from ropebell.build.precheck import Gathered, gather
from ropebell.build.probe_file import read_probes
from ropebell.build.project import Project, find_project
from ropebell.build.result import (
    Result,
    open_result,
    read_near,
    read_noise,
    read_origin,
    read_pages,
)
from ropebell.build.rope_index import read_knots
from ropebell.build.stage import Inputs
from ropebell.build.stages import CHARTS, digests
from ropebell.build.store import Store
from ropebell.errors import RopeBellError
from ropebell.level.brief import Box
from ropebell.level.emitter_table import emission_of, emission_sources
from ropebell.level.model import F32, F64, Level
from ropebell.level.open import open_level
from ropebell.level.prepare import with_lights
from ropebell.level.renamed import prints_of
from ropebell.level.scene import Scene
from ropebell.light.pages import warm
from ropebell.light.probes import Probes
from ropebell.light.rays import RaySpace

# A build of which less than this share of the faces is still there is shown on its own level.
MOSTLY_THE_SAME = 0.5
# Builds that tell how fast this machine works.
TELLING = 5
NOTHING: F64 = np.zeros((0, 3, 3))


@dataclass(frozen=True, eq=False)
class Opened:
    """A level that was read in the background.

    Attributes:
        source: as the file has it. gathered: arranged, with all that is decided about it.
        space: everything that is placed, to point at. vertices: the same as the stage draws it.
        prints: of all that something is decided about; see `level.renamed`.
    """

    project: Project
    source: Level
    gathered: Gathered
    space: RaySpace
    vertices: Vertices
    prints: dict[str, str] = field(default_factory=dict)

    @property
    def picture(self) -> StagePicture:
        """As the stage shows it without charts or light."""
        return StagePicture(self.level, self.scene, self.space, self.vertices)

    @property
    def level(self) -> Level:
        """As the brief arranges it."""
        return self.gathered.subject.level

    @property
    def scene(self) -> Scene:
        """All triangles and lights, also those that take no part in a build."""
        return self.gathered.subject.scene

    @property
    def baking(self) -> Scene:
        """What takes part in a build."""
        return self.gathered.subject.baking


@dataclass(frozen=True, eq=False)
class Shown:
    """A build that was read in the background, ready for the stage.

    Attributes:
        picture: what the stage shows of it. near: the same by the near set of pages, None without hybrid lights.
        surfaces: what a moving thing sees below it; probes: of the build, None without any.
        movers: (1, H, W, 3) lux of moving things, a page behind the lightmaps; None without any.
    """

    result: Result
    picture: StagePicture
    near: StagePicture | None = None
    surfaces: Lightmapped | None = None
    probes: Probes | None = None
    movers: F32 | None = None

    def relit(self, total: F32, direct: F32, half: tuple[Half, Half]) -> StagePicture:
        """The same picture under other light, (P, H, W, 3) lux; moving things keep theirs."""
        if self.movers is None:
            return self.picture.lit(total, direct, half)
        return self.picture.lit(with_page(total, self.movers), with_page(direct, self.movers))


def read_level(target: Path) -> Opened:
    """A project or level, arranged and ready for the stage.

    Raises:
        LevelError, ProjectError: what cannot be read, and what to do.
    """
    warm()
    project = find_project(target)
    return arranged(project, open_level(project.level), None)


def arranged(project: Project, source: Level, before: Opened | None) -> Opened:
    """A level with its brief applied.

    Args:
        before: whose rays and vertices serve again where no triangle moved.
    """
    store = Store(project.cache)
    gathered = gather(
        source, project.brief, project.recipe, project.sky, project.tables, store=store,
        sky_trouble=project.sky_trouble,
    )  # fmt: skip
    subject, prints = gathered.subject, prints_of(source, project.brief)
    if before is not None and np.array_equal(subject.scene.corners, before.scene.corners):
        return Opened(project, source, gathered, before.space, before.vertices, prints)
    whole = subject.baking.corners is subject.scene.corners
    space = subject.space if whole else RaySpace(subject.scene.corners)
    return Opened(project, source, gathered, space, vertex_table(subject.scene, space, None), prints)


def within(opened: Opened, box: Box) -> Opened:
    """A level with everything outside a box cut away, as a build of the box has it."""
    p = opened.project
    gathered = gather(opened.source, p.brief, p.recipe, p.sky, p.tables, box, sky_trouble=p.sky_trouble)
    scene = gathered.scene
    space = RaySpace(scene.corners)
    return replace(opened, gathered=gathered, space=space, vertices=vertex_table(scene, space, None))


def relit(gathered: Gathered, project: Project) -> Gathered:
    """The same triangles under the project's lights, emitters and sky."""
    old, brief = gathered.subject, project.brief
    sources = emission_sources(gathered.source, brief, list(old.tables))
    emission = emission_of(sources)
    scene = with_lights(old.scene, old.level, brief, emission)
    subject = old.under(scene, brief, sources, project.sky, str(project.sky_trouble or ""))
    return Gathered(gathered.source, subject, emission)


def read_build(folder: Path, now: Opened, below: bool = False) -> Shown:
    """A build is shown on the level as it is now, its light where faces are still the same; one of another level
    altogether on the level that it left in its folder.

    Args:
        below: moving things are lit by the surface below them instead of by probes.
    """
    same = _on_level(folder, now)
    if same is not None:
        return _with_movers(same, now, Charted(same.uv, same.page, same.total.shape[1]), (), NOTHING, below)
    result = open_result(folder)
    carried = carry(result, now.scene)
    if carried.share < MOSTLY_THE_SAME:
        space = RaySpace(result.scene.corners)
        charted = Charted(result.uv, result.page, result.total.shape[1])
        bare = StagePicture(result.level, result.scene, space, vertex_table(result.scene, space, charted), charted)
        surfaces, probes = Lightmapped.of(result, space), read_probes(folder)
        return _shown(result, bare, None, surfaces, probes, now.project)
    charted = Charted(carried.uv, carried.page, result.total.shape[1])
    shown = replace(result, level=now.level, scene=now.scene)
    return _with_movers(shown, now, charted, carried.fresh, carried.gone, below)


def _with_movers(
    result: Result, now: Opened, charted: Charted, fresh: tuple[str, ...], gone: F64, below: bool
) -> Shown:
    """A build on the level of now, moving things lit."""
    charted = charted_on(now.scene, charted)
    baking, part = now.baking, now.scene.part
    surfaces = Lightmapped(
        now.gathered.subject.space, baking.corners, baking.node_names, baking.node, charted.uv[part],
        charted.page[part], result.total,
    )  # fmt: skip
    probes = read_probes(result.folder)
    charted, movers = lit_movers(now.scene, surfaces, probes, charted, below)
    vertices = vertex_table(now.scene, now.space, charted)
    bare = StagePicture(now.level, now.scene, now.space, vertices, charted, fresh=fresh, gone=gone)
    return _shown(result, bare, movers, surfaces, probes, now.project)


def _shown(
    result: Result, bare: StagePicture, movers: F32 | None, surfaces: Lightmapped, probes: Probes | None,
    project: Project,
) -> Shown:  # fmt: skip
    """A build with its light; moving things, if there are any, on one more page, without noise of their own."""
    direct = with_page(result.direct, movers)
    sky = result.manifest.brief.sky_now
    file = project.beside(sky.picture) if sky.picture else None
    bare = replace(bare, sky=backdrop_of(sky, file, result.manifest.sky))
    picture = bare.lit(with_page(result.total, movers), direct)
    more = ((0, len(direct) - len(result.direct)), (0, 0), (0, 0), (0, 0))
    if result.noise is not None:
        picture = replace(picture, noise=np.pad(result.noise, more))
    if result.origin is not None:
        picture = replace(picture, origin=np.pad(result.origin, more), parts=parts_in_words(result.manifest))
    near = picture.lit(with_page(result.near, movers), direct) if result.near is not None else None
    return Shown(result, picture, near, surfaces, probes, movers)


def with_page(pages: F32, extra: F32 | None) -> F32:
    """Pages with one more behind them, if it is of their size."""
    if extra is None or extra.shape[1:] != pages.shape[1:]:
        return pages
    return np.concatenate([pages, extra])


def _on_level(folder: Path, now: Opened) -> Result | None:
    """The build with the charts of the open level, if the level has not changed and its charts are in the cache."""
    manifest = read_manifest(folder)
    try:
        charts = digests(Inputs(now.baking, manifest.recipe)).one(CHARTS.name)
        laid = CHARTS_FORM.of(Store(now.project.cache), charts, T=len(now.baking))
        if laid is None or charts != manifest.digests.charts:
            return None
    except RopeBellError:
        return None
    atlas = laid.atlas
    total, direct = read_pages(folder, manifest)
    return Result(
        folder,
        manifest,
        now.level,
        now.scene,
        np.asarray(atlas.uv),
        atlas.lightmap,
        total,
        direct,
        read_near(folder, manifest),
        read_noise(folder, manifest),
        read_origin(folder, manifest),
    )


def read_builds(builds: Path) -> tuple[list[Knot], Manifest | None, dict[str, float]]:
    """All builds, oldest first; the manifest of the last finished one; seconds per unit of work, by stage."""
    knots = read_knots(builds)
    # Of this machine, and of everything: a part build says nothing of the rest.
    done = [knot.folder for knot in knots if knot.outcome.state == "done" and not knot.whose and not knot.scope]
    found = [manifest for folder in done[-TELLING:] if (manifest := _manifest(folder)) is not None]
    return knots, (found[-1] if found else None), calibrated(found)


def _manifest(folder: Path) -> Manifest | None:
    try:
        return read_manifest(folder)
    except RopeBellError:
        return None
