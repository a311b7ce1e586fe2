"""What a finished build leaves in its folder; the manifest comes last and makes it a build that is done."""

from __future__ import annotations

import os
import platform
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from importlib.metadata import version
from pathlib import Path
from typing import Any

import numpy as np

import ropebell
from ropebell.build.formats import ENCODERS, SUFFIXES, compared, errors
from ropebell.build.manifest import FORMAT, Manifest, parse_manifest, this_moment
from ropebell.build.memory import peak_bytes
from ropebell.build.pages import needs_single, write_page
from ropebell.build.progress import Progress
from ropebell.build.request import Request
from ropebell.build.thumbnail import thumbnail
from ropebell.charts.atlas import Atlas
from ropebell.charts.texels import Texels
from ropebell.errors import BuildError, step, why
from ropebell.files import make_folder, write_bytes, write_json
from ropebell.level.brief import to_values
from ropebell.level.gltf_write import LightmapPlacement, baked_glb
from ropebell.level.model import F32, Level, PerTexel, PerTexel3
from ropebell.level.prepare import Emission
from ropebell.level.scene import Scene
from ropebell.light.pages import Filling
from ropebell.light.rays import RaySpace
from ropebell.light.solve import Solution
from ropebell.light.surface import OpenSamples, Surface

BAKED_LEVEL, THUMBNAIL, FINDINGS = (
    "level-baked.glb",
    "thumbnail.png",
    "findings.json",
)
PAGES, LAYERS = "pages", "layers"
# What builds leave in their folders, as patterns: only these are ever removed.
BUILD_FILES = (
    r"(manifest|findings|probes|knot)\.json|journal\.jsonl|level-baked\.glb|thumbnail\.png|(stderr|fault)\.txt|"
    r"(|[0-9]+|target)(\.part)?\.npy|[a-z]+-[0-9]+\.(exr|png|hdr)|\..*\.(part|exr)"
)
BUILD_FOLDERS = rf"[0-9]+|{PAGES}|{LAYERS}|live"
# Beside the direct light; which of them there are depends on the level and the recipe.
OPTIONAL_LAYERS = ("near", "direction", "noise", "origin")
LIBRARIES = ("numpy", "numba", "embreex", "xatlas", "OpenEXR", "scipy")


@dataclass(frozen=True, eq=False)
class Built:
    """A solved level.

    Attributes:
        lamps: (N, 3) float32 lux of punctual lights alone, which no noise is in.
        hybrid: (N, 3) float32 lux of the direct light of hybrid lights, None without such lights.
        direction: (N, 3) float32 where each texel's light comes from, None where nobody asked.
        noise: (N,) float32 standard error of each texel's gathered light over all its light, None until judged.
    """

    level: Level
    scene: Scene
    space: RaySpace
    surface: Surface
    atlas: Atlas
    texels: Texels
    samples: OpenSamples
    albedo: PerTexel3
    solution: Solution
    emission: Emission
    lamps: PerTexel3
    hybrid: PerTexel3 | None = None
    direction: PerTexel3 | None = None
    noise: PerTexel | None = None

    @property
    def fields(self) -> dict[str, F32]:
        """Total and direct light, (N, 3) by layer; with hybrid lights also `near`, the total without their direct
        light; `noise` has one channel."""
        fields = {"total": self.solution.total, "direct": self.solution.direct}
        if self.hybrid is not None:
            fields["near"] = np.maximum(self.solution.total - self.hybrid, 0.0)
        if self.direction is not None:
            fields["direction"] = self.direction
        if self.noise is not None:
            fields["noise"] = self.noise[:, None]
        return fields

    def page_fields(
        self, fields: dict[str, F32], padding: int, workers: int, tick: Callable[[float], None]
    ) -> dict[str, F32]:  # fmt: skip
        """Fields as (P, H, W, C) pages, dilated through the padding."""
        filling = Filling.of(self.texels, padding)
        with ThreadPoolExecutor(workers, thread_name_prefix="pages") as pool:
            made = pool.map(lambda field: filling.pages(field, self.samples.target), fields.values())
            found = dict(zip(fields, made))
        tick(1.0)
        return found


def write_outputs(
    request: Request, built: Built, fields: dict[str, F32], facts: dict[str, Any],
    written: Callable[[], dict[str, float]], progress: Progress,
) -> Manifest:  # fmt: skip
    """Write pages, layers, baked level, thumbnail, findings, then the manifest.

    Args:
        facts: times, digests, rays and findings for the manifest.
        written: asked at the end for the times of this stage and of all. progress: of the build.

    Raises:
        BuildError: the disk is full or cannot be written; no manifest exists then.
    """
    out, tick = request.out, progress.stage("write")
    try:
        make_folder(out / PAGES)
        make_folder(out / LAYERS)
        placement = LightmapPlacement((built.atlas.uv / built.atlas.side).astype(np.float32), built.atlas.lightmap)

        def baked() -> None:
            generator = f"Rope Bell {ropebell.__version__}"
            write_bytes(out / BAKED_LEVEL, baked_glb(built.level, built.scene, placement, request.brief, generator))

        def picture() -> None:
            grid, total = built.texels.grid, built.solution.total
            made = thumbnail(built.scene, built.space, built.surface, built.atlas, grid, total, built.albedo)
            write_bytes(out / THUMBNAIL, made)

        # All of them at once: each is compressed on one thread.
        with ThreadPoolExecutor(request.workers, thread_name_prefix="write") as pool:
            others = [pool.submit(baked), pool.submit(picture)]
            pages = _write_pages(out, built, fields, request.recipe.output.format, pool, tick)
            for other in others:
                other.result()
        write_json(out / FINDINGS, {"findings": [f.as_json() for f in facts["findings"]]})
        tick(0.95)
        values = _manifest(request, built, pages, facts)
        values["seconds"] = {**values["seconds"], **written()}
        values["remaining_error"] = progress.error
        manifest = parse_manifest(values, out)
        manifest.write(out)
        tick(1.0)
    except OSError as error:
        remedy = f"{step(error)} and build again; earlier builds are untouched"
        raise BuildError(f"the results cannot be written ({why(error)})", out, remedy) from error
    return manifest


def _deliver(out: Path, number: int, page: F32, chosen: str) -> dict[str, Any]:
    """Write a page in the chosen format, if it is not the one that is kept anyway.

    Every format's error is told, that of the chosen one from all of the page.
    """
    told: dict[str, Any] = {"formats": compared(page)}
    if chosen != "half":
        made = ENCODERS[chosen](page)
        name = f"{PAGES}/page-{number:02d}{SUFFIXES[chosen]}"
        write_bytes(out / name, made.data)
        told["delivered"] = {"file": name, "format": chosen, "scale": made.scale}
        told["formats"][chosen] = {"bytes": len(made.data), **errors(page, made.decoded)}
    return told


def _write_pages(
    out: Path, built: Built, fields: dict[str, F32], chosen: str, pool: ThreadPoolExecutor,
    tick: Callable[[float], None],
) -> list[dict[str, Any]]:  # fmt: skip
    """Write every page of every layer; what the manifest says of each page."""
    count, side = built.atlas.written, built.atlas.side
    used = np.bincount(built.texels.page, minlength=max(count, 1))
    kept = ("direct", *(layer for layer in OPTIONAL_LAYERS if layer in fields))
    total = fields["total"]
    begun = []
    for number in range(count):
        name = f"{PAGES}/page-{number:02d}.exr"
        layers = {layer: f"{LAYERS}/{layer}-{number:02d}.exr" for layer in kept}
        files = {"total": name, **layers}
        writes = [pool.submit(write_page, out / file, fields[layer][number]) for layer, file in files.items()]
        begun.append((name, layers, writes, pool.submit(_deliver, out, number, total[number], chosen)))
    pages = []
    for number, (name, layers, writes, delivered) in enumerate(begun):
        for write in writes:
            write.result()
        pages.append({
            "file": name, **layers, **delivered.result(), "width": side, "height": side, "texels": int(used[number]),
            "fill": round(float(used[number]) / side**2, 4), "bytes": (out / name).stat().st_size,
            "channels": "single" if needs_single(total[number]) else "half",
        })  # fmt: skip
        tick(0.9 * (number + 1) / count)
    return pages


def _manifest(request: Request, built: Built, pages: list[dict[str, Any]], facts: dict[str, Any]) -> dict[str, Any]:
    solution, load = built.solution, facts.pop("load")
    return {
        "format": FORMAT,
        "program": {"name": "Rope Bell", "version": ropebell.__version__},
        "made": this_moment(),
        "level": {
            "file": str(request.level),
            "triangles": len(built.scene),
            "nodes": len(built.level.nodes),
            "lights": len(built.scene.lights),
            "emitters": len(built.scene.emitters),
        },
        "recipe": request.recipe.model_dump(),
        "settings": {
            "texels_per_metre": request.recipe.texels_per_metre,
            "gather_rays": request.recipe.gather_rays,
            "direct_samples": request.recipe.direct_samples,
            "draft": request.recipe.draft,
        },
        "sky": list(request.sky),
        "lights": {light.name: light.setting for light in built.scene.lights},
        "hybrid": {
            "lights": [x.name for x in built.scene.lights if x.mode == "hybrid"],
            "blend_distance": request.brief.blend_distance,
        },
        "brief": to_values(request.brief),
        "emission": {name: list(value) for name, value in built.emission.items()},
        "emitters": {emitter.name: emitter.radiance.tolist() for emitter in built.scene.emitters},
        "note": request.note,
        "texels": len(built.texels),
        "pages": pages,
        "bounces": solution.bounces,
        "energy": [float(e) for e in solution.energy],
        "cache": str(request.cache),
        "made_in": str(request.out.absolute()),
        "peak_memory_mb": peak_bytes() >> 20,
        "machine": {
            "system": platform.platform(),
            "processor": platform.machine(),
            "cores": os.cpu_count(),
            "workers": request.workers,
            "load": round(load, 2),
            "watched": request.pictures,
            "python": platform.python_version(),
            "libraries": {name: version(name) for name in LIBRARIES},
        },
        "seed": request.recipe.light.seed,
        "worker": request.worker,
        **facts,
    }
