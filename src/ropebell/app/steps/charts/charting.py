"""What the Charts step knows: charts, pages, coordinates and density, found in the background."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ropebell.app.reading import Opened
from ropebell.build.layouts import StoredLayouts
from ropebell.build.stage import Inputs
from ropebell.build.stages import CHARTS, digests
from ropebell.build.store import Store
from ropebell.charts.atlas import ChartSettings
from ropebell.charts.shapes import PlacedShape, placed_shapes
from ropebell.charts.survey import Survey, survey
from ropebell.checks.coordinates import CoordinateReport, report_coordinates
from ropebell.level.model import F64
from ropebell.level.scene import Scene
from ropebell.sight.viewing import viewing
from ropebell.sight.walk import start_point, walkable


@dataclass(frozen=True, eq=False)
class Charting:
    """What the Charts step knows, found in the background.

    Attributes:
        survey: pages at the recipe and draft of now. final: pages of the final build.
        scene: what takes part. whole: density against what is right, for every triangle that is placed.
        reports: of the files' own coordinates. shapes: layouts by node.
        shares: of the area that is too low, right, too high, never seen.
        digest: names the charts of a build made now.
    """

    survey: Survey
    final: Survey
    scene: Scene
    whole: F64
    reports: dict[int, CoordinateReport]
    shapes: dict[int, PlacedShape]
    shares: tuple[float, float, float, float] | None
    digest: str


def chart(now: Opened) -> Charting:
    """Lay the level out as it would be built."""
    recipe, scene = now.project.recipe, now.baking
    shapes = placed_shapes(scene, StoredLayouts(Store(now.project.cache)), 2, lambda _: None)
    d = recipe.density
    drafted = survey(scene, shapes, ChartSettings(recipe.texels_per_metre, d.page_size, recipe.padding))
    whole_settings = ChartSettings(d.texels_per_metre, d.page_size, d.padding)
    final = drafted if recipe.draft == 1 else survey(scene, shapes, whole_settings)
    reports = {r.node: r for r in report_coordinates(now.gathered.subject)}
    ratio = np.ones(len(now.scene))
    shares = None
    start = start_point(now.level, now.scene, now.project.brief)
    if start is not None and len(scene):
        found = viewing(scene, now.gathered.subject.space, walkable(scene, now.gathered.subject.space, start).eyes)
        ratio[now.scene.part] = np.where(np.isfinite(found.distance), found.ratio, np.inf)
        verdict, area = found.verdict, scene.areas / max(float(scene.areas.sum()), 1e-300)
        low, right, high, unseen = (float(area[verdict == v].sum()) for v in (-1, 0, 1, 2))
        shares = (low, right, high, unseen)
    return Charting(
        drafted,
        final,
        scene,
        ratio,
        reports,
        {s.node: s for s in shapes},
        shares,
        digests(Inputs(scene, recipe)).one(CHARTS.name),
    )


def page_words(s: Survey) -> str:
    """How many pages, and their side."""
    return f"{s.atlas.written} page{'s' if s.atlas.written != 1 else ''} of {s.atlas.side}²"
