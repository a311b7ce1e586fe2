"""A level that is ready for rays, as several measurements begin with it."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path

from ropebell.build.layouts import StoredLayouts
from ropebell.build.store import Store
from ropebell.charts.atlas import Atlas, ChartSettings, make_atlas
from ropebell.charts.shapes import placed_shapes
from ropebell.charts.texels import Texels, make_texels
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten
from ropebell.level.scene import Scene
from ropebell.light.footing import find_open_samples
from ropebell.light.rays import RaySpace
from ropebell.light.surface import OpenSamples, Surface

SKY = (300.0, 350.0, 450.0)


@dataclass(frozen=True, eq=False)
class Ready:
    """A level with its charts and open samples, ready for rays."""

    scene: Scene
    space: RaySpace
    surface: Surface
    atlas: Atlas
    texels: Texels
    samples: OpenSamples


def ready(level: Path, density: float, workers: int, page_size: int = 1024) -> Ready:
    """A level with its charts and open samples, ready for rays."""
    scene = flatten(open_level(level))
    space = RaySpace(scene.corners)
    surface = Surface.of(scene, space)
    with tempfile.TemporaryDirectory() as cache:
        layouts = StoredLayouts(Store(Path(cache)))
        shapes = placed_shapes(scene, layouts, workers, lambda _: None)
    atlas, _ = make_atlas(scene, shapes, ChartSettings(density, page_size))
    texels = make_texels(scene, atlas, 8, lambda _: None)
    samples = find_open_samples(surface, space, texels, atlas, workers, lambda _: None)
    return Ready(scene, space, surface, atlas, texels, samples)
