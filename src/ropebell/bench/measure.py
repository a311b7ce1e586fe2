"""`ropebell bench`: our transport against the bare ray library, relight against a full build, memory per texel."""

from __future__ import annotations

import json
import os
import platform
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.bench import engine, foretelling
from ropebell.bench.ready import SKY, Ready, ready
from ropebell.build.events import Stage
from ropebell.build.manifest import Manifest, read_manifest
from ropebell.build.precheck import gather
from ropebell.build.project import find_project
from ropebell.build.recipe import Recipe, named, with_value
from ropebell.build.request import Request
from ropebell.build.runner import BuildProcess, Standby
from ropebell.checks.run import check
from ropebell.demo.write import LEVEL_NAME, write_demo
from ropebell.errors import BuildError
from ropebell.level.brief import Brief, LightChange, Mark, Move
from ropebell.level.model import F32, Level, Primitive
from ropebell.level.open import open_level
from ropebell.light.gather_rays import make_rays
from ropebell.light.sampling import plain_points
from ropebell.light.transport import Gather, empty_hits
from ropebell.light.workers import cores

RAYS = 64
REPEATS, CHECKED = 5, 3
BATCH = 65_536
# Of the demo's lights, the one whose strength is changed for the relight figure.
LAMP = "lights/hall lamp"
STRENGTHS = (100.0, 300.0)
# An object that is moved, and one that is left out.
MOVED = Brief(moves={"props/crate 1": Move((0.4, 0.0, 0.3))})
LEFT_OUT = Brief(marks={"detail/nail 1": Mark(role="left-out")})
# A waiting process has loaded everything by then.
READY_SECONDS = 4.0
STOPPED_IN = ("charts", "footing", "direct", "transport")
CHECKED_HALLS, CHECKED_TRIANGLES = 4, 200_000
BIG_HALLS, BIG_TEXELS_PER_METRE = 8, 5.6


def run(scale: float = 1.0, long: bool = True) -> dict[str, Any]:
    """The figures. Each ratio is measured within this run, alternating its two sides.

    Args:
        scale: size of the level relative to the usual one; small values are for trying out.
        long: also those that take minutes: large levels, a noise target, memory limits, the path tracer.
    """
    figures: dict[str, Any] = {
        "machine": {"processor": platform.processor() or platform.machine(), "cores": os.cpu_count()}
    }
    took: dict[str, float] = {}
    with tempfile.TemporaryDirectory(prefix="ropebell-bench-") as scratch:
        folder = Path(scratch)
        level = write_demo(folder / "one") / LEVEL_NAME
        parts: dict[str, Callable[[], dict[str, Any]]] = {
            "transport": lambda: _transport_against_bare(level, 8.0 * scale**0.5),
            "relight": lambda: _relight_against_full(level, folder, 10.0 * scale**0.5),
            "stopping": lambda: _stopping(level, folder, 8.0 * min(scale, 1.0) ** 0.5),
            "checks": lambda: _checks(folder, scale),
            "live relight": lambda: engine.live_relight(folder, scale, long),
        }
        if long:
            parts |= {
                "large level": lambda: _large_level(folder, scale),
                "foretelling": lambda: {"foretold": foretelling.run(scale)},
                "scaling": lambda: engine.scaling(level, scale),
                "denoising": lambda: engine.denoising(level, folder, scale),
                "noise target": lambda: engine.noise_target(level, folder, scale),
                "limited memory": lambda: engine.limited_memory(folder, scale),
                "brute force": lambda: (
                    engine.against_brute_force() if scale >= 1 else engine.against_brute_force(4, 1000)
                ),
            }
        for name, part in parts.items():
            began = time.monotonic()
            figures |= part()
            took[name] = round(time.monotonic() - began, 1)
    return {**figures, "measured_in_s": took}


def _transport_against_bare(level: Path, density: float) -> dict[str, Any]:
    """Rays per second of the transport stage and of the ray library alone, on the same rays and threads."""
    workers = cores()
    r = ready(level, density, workers)
    active = Gather.of(r.surface, r.space, r.texels, r.atlas, r.samples, 1).rows
    hits = empty_hits(len(r.texels), RAYS)
    batches = list(_rays_of(r, active))
    count = len(active) * RAYS

    def ours() -> None:
        rays = (0, RAYS)
        gather = Gather.of(r.surface, r.space, r.texels, r.atlas, r.samples, 1)
        gather.shoot(gather.rows, rays, hits, workers, lambda _: None)

    def bare() -> None:
        with ThreadPoolExecutor(workers) as pool:
            list(pool.map(lambda batch: r.space.first_hit(*batch), batches))

    ours()
    times = [(_seconds(bare), _seconds(ours)) for _ in range(REPEATS)]
    bare_rate, our_rate = count / min(t[0] for t in times), count / min(t[1] for t in times)
    return {
        "transport_rays": count,
        "transport_rays_per_s": round(our_rate),
        "bare_rays_per_s": round(bare_rate),
        "transport_vs_bare": round(float(np.median([b / o for b, o in times])), 3),
    }


def _rays_of(r: Ready, active: np.ndarray) -> Any:
    """The very rays that the transport stage shoots, in its batches."""
    step = BATCH // RAYS
    plain = plain_points(0, RAYS)
    for first in range(0, len(active), step):
        rows = active[first : first + step]
        origins: F32 = np.empty((len(rows) * RAYS, 3), np.float32)
        directions = np.empty_like(origins)
        make_rays(r.surface.ground, r.samples.spots, rows, plain, 1, origins, directions)
        yield origins, directions


def _seconds(act: Callable[[], None]) -> float:
    began = time.perf_counter()
    act()
    return time.perf_counter() - began


def _relight_against_full(level: Path, folder: Path, density: float) -> dict[str, Any]:
    """Time of a build after a lamp's strength changed against a build of everything, both in processes of their own."""
    recipe = with_value(named("working"), "density.texels_per_metre", density)
    cache = folder / "relight-cache"
    full, _ = _build(level, folder / "full", cache, recipe, Brief())
    change = {LAMP: LightChange(STRENGTHS[0])}
    relit, manifest = _build(level, folder / "relight", cache, recipe, Brief(lights=change))
    if not set(manifest.reused) >= {"charts", "footing", "direct", "transport"}:
        raise BuildError(f"the relight re-used only {manifest.reused}", level, "Report this")
    return {
        "full_build_s": round(full, 2),
        "relight_s": round(relit, 2),
        "relight_vs_full": round(relit / full, 3),
        **_relight_waiting(level, folder, recipe),
        **_changed_density(level, folder, cache, recipe, full),
    }


def _relight_waiting(level: Path, folder: Path, recipe: Recipe) -> dict[str, Any]:
    """The same in processes that had time to get ready, as those of the window have."""
    cache = folder / "waiting-cache"
    lamps = [Brief(lights={LAMP: LightChange(strength)}) for strength in STRENGTHS]
    times = []
    for number, brief in enumerate((Brief(), *lamps, MOVED, LEFT_OUT)):
        standby = Standby()
        time.sleep(READY_SECONDS)
        request = Request(level, folder / f"waiting-{number}", cache, recipe, SKY, brief, pictures=False)
        began = time.perf_counter()
        times.append(_ended(BuildProcess(request, standby), began))
    full, *relit, moved, left_out = times
    again = float(np.median(relit))
    return {
        "full_waiting_s": round(full, 2), "relight_waiting_s": round(again, 2),
        "relight_waiting_vs_full": round(again / full, 3), "moved_crate_vs_full": round(moved / full, 3),
        "left_out_nail_vs_full": round(left_out / full, 3),
    }  # fmt: skip


def _build(level: Path, out: Path, cache: Path, recipe: Recipe, brief: Brief) -> tuple[float, Manifest]:
    """Wall-clock seconds of a build process from start to end, and its manifest."""
    request = Request(level, out, cache, recipe, SKY, brief, pictures=False)
    began = time.perf_counter()
    return _ended(BuildProcess(request), began), read_manifest(out)


def _ended(process: BuildProcess, began: float) -> float:
    """Wall-clock seconds from a moment to the end of a build."""
    while (ended := process.poll()) is None:
        time.sleep(0.01)
    seconds = time.perf_counter() - began
    if ended.state != "done":
        raise BuildError(f"a build ended as {ended.state}", process.request.out, ended.sentence)
    return seconds


def _changed_density(level: Path, folder: Path, cache: Path, recipe: Recipe, full: float) -> dict[str, Any]:
    """Seconds of a build after one object's density changed, over those of the full one.

    Args:
        cache: of the full build. full: its seconds.
    """
    nodes = [n.path for n in open_level(level).nodes if n.mesh >= 0]
    changed = Brief(marks={nodes[len(nodes) // 2]: Mark(density=2.0)})
    again, manifest = _build(level, folder / "changed", cache, recipe, changed)
    kept = manifest.kept
    return {
        "changed_density_s": round(again, 2), "changed_density_vs_full": round(again / full, 3),
        "changed_density_rays_kept": round(kept.rays / max(kept.rays + kept.shot, 1), 4),
    }  # fmt: skip


def _stopping(level: Path, folder: Path, density: float) -> dict[str, Any]:
    """Seconds from asking a build to stop until its process is gone, in every long stage."""
    recipe = with_value(named("working"), "density.texels_per_metre", density)
    times = []
    for stage in STOPPED_IN:
        out = folder / f"stopped-{stage}"
        process = BuildProcess(Request(level, out, folder / f"cache-{stage}", recipe, pictures=False))
        while process.poll() is None:
            if any(isinstance(e, Stage) and e.stage == stage for e in process.new_events()):
                break
            time.sleep(0.005)
        began = time.perf_counter()
        process.stop()
        while process.poll() is None:
            time.sleep(0.005)
        times.append(time.perf_counter() - began)
    return {"stop_s": round(max(times), 2)}


def _large_level(folder: Path, scale: float) -> dict[str, Any]:
    """Peak memory of a build of some 200,000 triangles and a million texels, and per million texels."""
    halls = max(round(BIG_HALLS * scale), 1)
    level = write_demo(folder / "big", halls) / LEVEL_NAME
    density = BIG_TEXELS_PER_METRE * min(scale * BIG_HALLS, 1.0) ** 0.5
    recipe = with_value(named("working"), "density.texels_per_metre", density)
    seconds, manifest = _build(level, folder / "big-out", folder / "big-cache", recipe, Brief())
    peak, texels = manifest.peak_memory_mb, manifest.texels
    return {
        "large_triangles": manifest.level.triangles,
        "large_texels": texels,
        "large_build_s": round(seconds, 1),
        "large_peak_memory_mb": peak,
        "peak_memory_mb_per_million_texels": round(peak / texels * 1e6),
    }


def _checks(folder: Path, scale: float) -> dict[str, Any]:
    """Seconds of all checks before a build, on a level of some 200,000 triangles in 500 objects; nothing kept."""
    project = find_project(write_demo(folder / "checked", max(round(CHECKED_HALLS * scale), 1)))
    level = open_level(project.level)
    level = _finer(level, round(CHECKED_TRIANGLES * min(scale * CHECKED_HALLS, 1.0)))

    def once() -> None:
        check(gather(level, project.brief, project.recipe, project.sky, project.tables).subject)

    once()
    seconds = min(_seconds(once) for _ in range(CHECKED))
    subject = gather(level, project.brief, project.recipe, project.sky, project.tables).subject
    objects = len(np.unique(subject.scene.node))
    return {"check_triangles": len(subject.scene), "check_objects": objects, "check_s": round(seconds, 2)}


def _finer(level: Level, wanted: int) -> Level:
    """A level with the triangles of some meshes cut in four at the middles of their edges, until there are so many."""
    users = np.bincount([n.mesh for n in level.nodes if n.mesh >= 0], minlength=len(level.meshes))
    total, meshes = level.triangle_count(), list(level.meshes)
    for number, mesh in enumerate(meshes):
        more = 3 * users[number] * sum(len(p.triangles) for p in mesh.primitives)
        if total + more <= wanted:
            total += more
            meshes[number] = replace(mesh, primitives=tuple(_in_four(p) for p in mesh.primitives))
    return replace(level, meshes=tuple(meshes))


def _in_four(p: Primitive) -> Primitive:
    ends = np.sort(np.stack([p.triangles, np.roll(p.triangles, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
    edges, number = np.unique(ends, axis=0, return_inverse=True)
    middle = (number.reshape(-1, 3) + len(p.positions)).astype(np.int32)

    def longer(values: F32 | None) -> F32 | None:
        return None if values is None else np.concatenate([values, values[edges].mean(axis=1)]).astype(np.float32)

    (a, b, c), (ab, bc, ca) = p.triangles.T, middle.T
    parts = [np.stack(t, axis=1) for t in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))]
    positions = longer(p.positions)
    assert positions is not None
    return replace(
        p, positions=positions, normals=longer(p.normals), uv0=longer(p.uv0), uv1=longer(p.uv1),
        triangles=np.concatenate(parts).astype(np.int32),
    )  # fmt: skip


def report(figures: dict[str, Any]) -> str:
    """The figures for people."""
    return "\n".join(f"{name:<36}{json.dumps(value)}" for name, value in figures.items())
