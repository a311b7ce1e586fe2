"""Small levels, and builds of them in this process."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.build.journal import JOURNAL, Journal
from ropebell.build.meter import Meter, Reading
from ropebell.build.pipeline import build
from ropebell.build.project import find_project, uniform_sky
from ropebell.build.recipe import Recipe, named, unfinished, with_value
from ropebell.build.request import Request
from ropebell.build.result import open_result
from ropebell.build.store import Store
from ropebell.charts.atlas import Atlas, ChartSettings, make_atlas
from ropebell.charts.layout import Layout
from ropebell.charts.shapes import placed_shapes
from ropebell.charts.texels import Texels, make_texels
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import Shape, box, quad
from ropebell.demo.write import LEVEL_NAME
from ropebell.level.brief import Brief
from ropebell.level.gltf_write import plain_glb
from ropebell.level.model import Light
from ropebell.level.prepare import flatten
from ropebell.level.scene import Scene

UP = (0.0, 1.0, 0.0)


def floor(size: float, y: float = 0.0) -> Shape:
    """A square floor about the Y axis, facing up."""
    h = size / 2
    return quad([(-h, y, h), (h, y, h), (h, y, -h), (-h, y, -h)])


def facing_down(size: float, y: float) -> Shape:
    """A square about the Y axis at a height, facing down."""
    h = size / 2
    return quad([(-h, y, -h), (h, y, -h), (h, y, h), (-h, y, h)])


def room(x: float, y: float, z: float) -> Shape:
    """The inside of a box with one corner at the origin."""
    return box((0, 0, 0), (x, y, z)).turned_inside_out()


def level_file(folder: Path, b: LevelBuilder, name: str = "level.glb") -> Path:
    """Write what a builder holds."""
    path = folder / name
    path.write_bytes(plain_glb(b.level(path), "test"))
    return path


def recipe(name: str = "working", **values: Any) -> Recipe:
    """A shipped recipe with its light as it is solved, and some keys changed; double underscores stand for dots."""
    made = unfinished(named(name))
    for key, value in values.items():
        made = with_value(made, key.replace("__", "."), value)
    return made


def bake(level: Path, made: Recipe, out: Path | None = None, **request: Any) -> dict[str, Any]:
    """Build in this process; the manifest."""
    out = out or level.parent / "out"
    out.mkdir(exist_ok=True)
    cache = request.pop("cache", level.parent / "cache")
    if "lights" in request:
        request["brief"] = Brief(lights=request.pop("lights"))
    journal, asked = Journal(out), Request(level, out, cache, made, **request)
    try:
        journal.write("begin", pid=os.getpid(), request=asked.to_json())
        return build(asked, journal).as_json()
    finally:
        journal.close()


def events(folder: Path) -> list[dict[str, Any]]:
    """What a build's journal tells, as plain values."""
    return [json.loads(line) for line in (folder / JOURNAL).read_text(encoding="utf-8").splitlines()]


def meter(
    folder: Path, *points: tuple[float, float, float], normal: tuple[float, float, float] | None = UP
) -> list[Reading]:
    """Readings of a finished build."""
    reader = Meter(open_result(folder))
    facing = None if normal is None else np.array(normal)
    return [reader.read(np.array(p), facing) for p in points]


class KeptLayouts:
    """Chart layouts in memory."""

    def __init__(self) -> None:
        self.layouts: dict[str, Layout] = {}

    def load(self, key: str) -> Layout | None:
        return self.layouts.get(key)

    def save(self, key: str, layout: Layout) -> None:
        self.layouts[key] = layout


def laid_out(b: LevelBuilder, density: float) -> tuple[Scene, Atlas, Texels]:
    """The scene of a builder with its charts, as a build lays them out."""
    scene = flatten(b.level(Path("a.glb")))
    shapes = placed_shapes(scene, KeptLayouts(), 1, lambda _: None)
    atlas, _ = make_atlas(scene, shapes, ChartSettings(density, 512, 3))
    return scene, atlas, make_texels(scene, atlas, 8, lambda _: None)


def arrays(manifest: dict[str, Any], cache: Path) -> dict[str, np.ndarray]:
    """Every array that the stages of a build gave, but the layout."""
    store, found = Store(cache), {}
    digests = manifest["digests"]
    named = {"hits": digests["transport"], "footing": digests["footing"], **digests["lights"], **digests["emitters"]}
    for name, digest in named.items():
        artifact = store.get(digest)
        assert artifact is not None
        found.update({f"{name} {part}": np.array(a) for part, a in artifact.arrays.items()})
    return found


def small_demo(folder: Path, _halls: int = 1) -> Path:
    """A project of a room and some crates, under the lamp that the bench changes."""
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("hall", "room", room(30.0, 8.0, 20.0), "m")
    for i in range(5):
        b.add("hall", f"crate {i}", box((0, 0, 0), (2, 1, 1)), "m", at(3.0 + 4 * i, 0.0, 5.0))
    b.light("hall lamp", Light("hall lamp", "point", (1, 1, 1), 4000.0), at(15, 6, 10))
    folder.mkdir(parents=True)
    project = find_project(level_file(folder, b, LEVEL_NAME))
    project.with_brief(**uniform_sky((100.0, 100.0, 100.0))).save()
    return folder
