"""A finished build as it lies in its folder, without its cache."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.build.events import End
from ropebell.build.journal import is_alive, read_events
from ropebell.build.manifest import MANIFEST, Manifest, read_manifest
from ropebell.build.outputs import BAKED_LEVEL
from ropebell.build.pages import read_page
from ropebell.errors import ProjectError
from ropebell.level.gltf_container import read_container
from ropebell.level.gltf_read import read_gltf
from ropebell.level.model import F32, I32, Level
from ropebell.level.prepare import flatten
from ropebell.level.scene import Scene


@dataclass(frozen=True)
class Outcome:
    """How a build ended.

    Attributes:
        state: done, stopped, tripwire, failed, died or running.
        sentence: for a person.
    """

    state: str
    sentence: str


def outcome(folder: Path) -> Outcome:
    """The one final state of the build in `folder`, decided by its manifest, its journal and whether it lives."""
    if (folder / MANIFEST).is_file():
        return Outcome("done", "Done.")
    end = next((e for e in reversed(read_events(folder)) if isinstance(e, End)), None)
    if end is not None:
        return Outcome(end.outcome, end.message)
    if is_alive(folder):
        return Outcome("running", "Running.")
    return Outcome("died", "The build process vanished before it was done; finished stages are kept.")


@dataclass(frozen=True, eq=False)
class Result:
    """A build's level and light.

    Attributes:
        scene: the baked level; `uv` are its lightmap coordinates.
        uv: (T, 3, 2) float32, in texels of the page.
        page: (T,) int32, −1 for what has no lightmap.
        total, direct: (P, H, W, 3) float32 lux.
        near: (P, H, W, 3) float32 lux without the direct light of hybrid lights, None without such lights.
        noise: (P, H, W, 1) float32 standard error of gathered light over all light, None for builds that do not say.
        origin: (P, H, W, 1) float32 which of the manifest's `parts` a texel's light is of, None where all is its own.
    """

    folder: Path
    manifest: Manifest
    level: Level
    scene: Scene
    uv: F32
    page: I32
    total: F32
    direct: F32
    near: F32 | None = None
    noise: F32 | None = None
    origin: F32 | None = None


def open_result(folder: Path) -> Result:
    """Read a finished build.

    Raises:
        ProjectError, LevelError: it is not done, or one of its files is missing or damaged.
    """
    manifest = read_manifest(folder)
    level = read_gltf(folder / BAKED_LEVEL)
    scene = flatten(level)
    side = manifest.pages[0].width if manifest.pages else 1
    total, direct = read_pages(folder, manifest)
    return Result(
        folder, manifest, level, scene, np.nan_to_num(scene.uv1 * side).astype(np.float32),
        _pages(folder / BAKED_LEVEL, level, scene, len(manifest.pages)), total, direct, read_near(folder, manifest),
        read_noise(folder, manifest), read_origin(folder, manifest),
    )  # fmt: skip


def read_pages(folder: Path, manifest: Manifest) -> tuple[F32, F32]:
    """Total and direct light of a finished build, each (P, H, W, 3) float32 lux.

    Raises:
        LevelError: a page is missing or damaged.
    """
    if not manifest.pages:
        return np.zeros((1, 1, 1, 3), np.float32), np.zeros((1, 1, 1, 3), np.float32)
    return read_layer(folder, manifest, "file", 3), read_layer(folder, manifest, "direct", 3)


def read_near(folder: Path, manifest: Manifest) -> F32 | None:
    """The near set of a finished build with hybrid lights, (P, H, W, 3) float32 lux.

    Raises:
        LevelError: a page is missing or damaged.
    """
    return read_layer(folder, manifest, "near", 3) if manifest.pages and manifest.pages[0].near else None


def read_noise(folder: Path, manifest: Manifest) -> F32 | None:
    """How noisy the light of a finished build is, (P, H, W, 1) float32; None for builds that do not say.

    Raises:
        LevelError: a page is missing or damaged.
    """
    return read_layer(folder, manifest, "noise", 1) if manifest.pages and manifest.pages[0].noise else None


def read_origin(folder: Path, manifest: Manifest) -> F32 | None:
    """Whose light each texel of a finished build has, (P, H, W, 1) float32 into its `parts`; None where all is its own.

    Raises:
        LevelError: a page is missing or damaged.
    """
    if not manifest.pages or not manifest.parts or manifest.pages[0].origin is None:
        return None
    return np.rint(read_layer(folder, manifest, "origin", 1))


def read_layer(folder: Path, manifest: Manifest, layer: str, channels: int) -> F32:
    """(P, H, W, channels) float32 of one layer of all pages, which are of one size.

    Raises:
        ProjectError, LevelError: a page is missing or damaged.
    """
    first, found = manifest.pages[0], []
    for page in manifest.pages:
        name = getattr(page, layer)
        if name is None or (page.width, page.height) != (first.width, first.height):
            remedy = "Build again, or restore the file"
            raise ProjectError(f"its pages do not go together ({layer})", folder / MANIFEST, remedy)
        found.append(read_page(folder / name, (first.height, first.width), channels))
    return np.stack(found)


def _pages(path: Path, level: Level, scene: Scene, count: int) -> I32:
    """(T,) page of each triangle, from the extras of the baked level's primitives."""
    meshes = read_container(path).json.get("meshes", [])
    page = np.zeros(len(scene), np.int32)
    for node, first, end in scene.node_ranges():
        primitives = meshes[level.nodes[node].mesh]["primitives"]
        of_primitive = np.array([_page_of(p.get("extras"), count, path) for p in primitives], np.int32)
        page[first:end] = of_primitive[scene.primitive[first:end]]
    return page


def _page_of(extras: Any, count: int, path: Path) -> int:
    """Page that a primitive's extras name, of so many; −1: without a lightmap, 0 where they name none."""
    named = extras.get("lightmap_page", None) if isinstance(extras, dict) else None
    if named is None:
        return 0
    if not isinstance(named, int) or not -1 <= named < count:
        what = f"it has faces on page {named!r}, of {count} pages"
        raise ProjectError(what, path, "Build again, or restore the file")
    return named
