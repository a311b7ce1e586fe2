"""A finished build as it lies in its folder, without its cache."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.build.journal import is_alive, read_events
from ropebell.build.outputs import BAKED_LEVEL, MANIFEST
from ropebell.build.pages import read_page
from ropebell.errors import ProjectError
from ropebell.level.gltf_container import read_container
from ropebell.level.gltf_read import read_gltf
from ropebell.level.model import F32, I32, Level
from ropebell.level.scene import Scene, flatten


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
    end = next((e for e in reversed(read_events(folder)) if e["event"] == "end"), None)
    if end is not None:
        return Outcome(str(end.get("outcome", "failed")), str(end.get("message", "")))
    if is_alive(folder):
        return Outcome("running", "Running.")
    return Outcome("died", "The build process vanished before it was done; finished stages are kept.")


def read_manifest(folder: Path) -> dict[str, Any]:
    """The manifest of a finished build.

    Raises:
        ProjectError: there is no finished build, or its manifest is damaged.
    """
    path = folder / MANIFEST
    try:
        manifest = json.loads(path.read_text(encoding="utf-8"))
        if not isinstance(manifest, dict) or not isinstance(manifest["pages"], list):
            raise ValueError("not a manifest")
    except OSError as error:
        remedy = "Name the folder of a build that was done"
        raise ProjectError("there is no finished build here", folder, remedy) from error
    except (ValueError, KeyError) as error:
        raise ProjectError("the manifest is damaged", path, "Build again, or restore the file") from error
    return manifest


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
    """

    folder: Path
    manifest: dict[str, Any]
    level: Level
    scene: Scene
    uv: F32
    page: I32
    total: F32
    direct: F32
    near: F32 | None = None
    noise: F32 | None = None


def open_result(folder: Path) -> Result:
    """Read a finished build.

    Raises:
        ProjectError, LevelError: it is not done, or one of its files is missing or damaged.
    """
    manifest = read_manifest(folder)
    level = read_gltf(folder / BAKED_LEVEL)
    scene = flatten(level)
    side = manifest["pages"][0]["width"] if manifest["pages"] else 1
    total, direct = read_pages(folder, manifest)
    return Result(
        folder, manifest, level, scene, np.nan_to_num(scene.uv1 * side).astype(np.float32),
        _pages(folder / BAKED_LEVEL, level, scene), total, direct, read_near(folder, manifest),
        read_noise(folder, manifest),
    )  # fmt: skip


def read_pages(folder: Path, manifest: dict[str, Any]) -> tuple[F32, F32]:
    """Total and direct light of a finished build, each (P, H, W, 3) float32 lux.

    Raises:
        LevelError: a page is missing or damaged.
    """
    if not manifest["pages"]:
        return np.zeros((1, 1, 1, 3), np.float32), np.zeros((1, 1, 1, 3), np.float32)
    total = np.stack([read_page(folder / p["file"]) for p in manifest["pages"]])
    direct = np.stack([read_page(folder / p["direct"]) for p in manifest["pages"]])
    return total, direct


def read_near(folder: Path, manifest: dict[str, Any]) -> F32 | None:
    """The near set of a finished build with hybrid lights, (P, H, W, 3) float32 lux.

    Raises:
        LevelError: a page is missing or damaged.
    """
    files = [p["near"] for p in manifest["pages"] if "near" in p]
    return np.stack([read_page(folder / file) for file in files]) if files else None


def read_noise(folder: Path, manifest: dict[str, Any]) -> F32 | None:
    """How noisy the light of a finished build is, (P, H, W, 1) float32; None for builds that do not say.

    Raises:
        LevelError: a page is missing or damaged.
    """
    files = [p["noise"] for p in manifest["pages"] if "noise" in p]
    return np.stack([read_page(folder / file) for file in files])[..., None] if files else None


def _pages(path: Path, level: Level, scene: Scene) -> I32:
    """(T,) page of each triangle, from the extras of the baked level's primitives."""
    meshes = read_container(path).json.get("meshes", [])
    page = np.zeros(len(scene), np.int32)
    for node, first, end in scene.node_ranges():
        primitives = meshes[level.nodes[node].mesh]["primitives"]
        of_primitive = np.array([p.get("extras", {}).get("lightmap_page", 0) for p in primitives], np.int32)
        page[first:end] = of_primitive[scene.primitive[first:end]]
    return page
