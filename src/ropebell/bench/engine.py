"""How the light engine scales: with texels, with cores, against brute force, and how fast it relights."""

from __future__ import annotations

import importlib.util
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.bench.ready import SKY, ready
from ropebell.build.journal import Journal
from ropebell.build.manifest import read_manifest
from ropebell.build.meter import Meter
from ropebell.build.pipeline import build
from ropebell.build.precheck import gather
from ropebell.build.project import find_project
from ropebell.build.recipe import named, unfinished, with_value
from ropebell.build.relight import Relight
from ropebell.build.request import Request
from ropebell.build.result import open_result
from ropebell.build.runner import BuildProcess
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box, quad
from ropebell.demo.write import LEVEL_NAME, write_demo
from ropebell.level.brief import Brief, LightChange
from ropebell.level.gltf_write import plain_glb
from ropebell.level.model import F64, Light
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten, with_lights
from ropebell.light.refine import MOST_WAVES
from ropebell.light.transport import Gather, empty_hits
from ropebell.light.workers import cores

# The tracer is a test's, written apart from the engine; without a checkout there is none to compare with.
TRACER = Path(__file__).parents[3] / "tests" / "reference_tracer.py"
SCALING_RAYS = 16
# Large enough that no chart is made coarser to fit.
SCALING_PAGE = 4096
PROBED = (3.0, 8.0)
SIZES = (50_000, 200_000, 800_000, 4_000_000)
# Each size is shot again until so many seconds went by: short runs are noisy.
LEAST_SECONDS = 3.0
DENOISED = {"density.texels_per_metre": 8.0, "light.gather_rays": 128}
# Of the level whose stored rays do not fit into its memory limit.
LIMITED_HALLS, LIMITED_TEXELS_PER_METRE, LIMITED_RAYS, LIMIT_MB = 4, 5.6, 512, 1000
TARGET, TARGETED = 0.05, 4.0
LIVE_SIZES = (200_000, 1_000_000)
LAMP = "lights/hall lamp"


def scaling(level: Path, scale: float) -> dict[str, Any]:
    """Seconds of the transport stage per million texels at growing density, and on one thread against all."""
    workers = cores()
    table, one_thread = [], 0.0
    # Small charts have a texel at any density: there are a + b·d² of them.
    few, more = (len(ready(level, d, workers, SCALING_PAGE).texels) for d in PROBED)
    slope = (more - few) / (PROBED[1] ** 2 - PROBED[0] ** 2)
    base = few - slope * PROBED[0] ** 2
    for wanted in SIZES:
        density = (max(wanted * scale - base, 0.1 * wanted * scale) / slope) ** 0.5
        r = ready(level, density, workers, SCALING_PAGE)
        hits = empty_hits(len(r.texels), SCALING_RAYS)

        def shoot(threads: int, r: Any = r, hits: Any = hits) -> float:
            began = time.perf_counter()
            rays = (0, SCALING_RAYS)
            gather = Gather.of(r.surface, r.space, r.texels, r.atlas, r.samples, 1)
            gather.shoot(gather.rows, rays, hits, threads, lambda _: None)
            return time.perf_counter() - began

        shoot(workers)
        times: list[float] = []
        while sum(times) < LEAST_SECONDS or len(times) < 2:
            times.append(shoot(workers))
        seconds = min(times)
        if wanted == SIZES[1]:
            one_thread = shoot(1) / seconds
        count = len(r.texels)
        table.append({"texels": count, "seconds": round(seconds, 3), "per_million": round(seconds / count * 1e6, 3)})
    rates = [row["per_million"] for row in table]
    return {
        "scaling": table, "scaling_spread": round(max(rates) / min(rates) - 1, 3),
        "threads": workers, "threads_vs_one": round(one_thread, 3),
    }  # fmt: skip


def denoising(level: Path, folder: Path, scale: float) -> dict[str, Any]:
    """What denoising adds to a full build, from nothing, as a share of it."""
    made = named("working")
    for key, value in DENOISED.items():
        made = with_value(made, key, value * scale**0.5 if key.startswith("density") else value)
    cache, times = folder / "denoise-cache", []
    for number, on in enumerate((False, True, False, True)):
        out = folder / f"denoise-{number}"
        out.mkdir()
        journal = Journal(out)
        request = Request(
            level, out, cache, with_value(made, "finish.denoise", on), (300.0, 350.0, 450.0), pictures=False
        )
        times.append(build(request, journal).seconds)
        journal.close()
    # The first build also loads the kernels; what comes after it finds all but the finishing done.
    plain, filtered = times[2]["finish"], times[3]["finish"]
    whole = times[0]["total"] - times[0]["finish"] + plain
    return {"denoise_s": round(filtered - plain, 2), "denoise_share": round((filtered - plain) / whole, 3)}


def noise_target(level: Path, folder: Path, scale: float) -> dict[str, Any]:
    """Rays and seconds to a noise target, against a count of rays that is even over the level."""
    made = with_value(named("working"), "density.texels_per_metre", TARGETED * scale**0.5)
    made = with_value(with_value(made, "light.gather_rays", 512), "light.noise_target", TARGET)
    found = []
    for number, brief in enumerate((Brief(), Brief(lights={LAMP: LightChange(300.0)}))):
        out = folder / f"target-{number}"
        out.mkdir()
        journal = Journal(out)
        request = Request(level, out, folder / "target-cache", made, SKY, brief, pictures=False)
        found.append(build(request, journal))
        journal.close()
    first, again = found
    refined, then = first.finish.refined, again.finish.refined
    assert refined is not None and then is not None  # both builds have a target
    spent = first.rays.gather + refined.rays
    # What the texel that got most had, for all of them.
    even = first.rays.most * (1 + MOST_WAVES if refined.left else 1)
    return {
        "target": TARGET, "target_stored_share": round(first.rays.gather / first.rays.most, 3),
        "target_rays_vs_even": round(spent / even, 3),
        "target_left": round(refined.left / first.texels, 3),
        "target_s": first.total_seconds, "target_again_s": again.total_seconds,
        "target_again_rays": again.kept.shot + then.rays - then.kept,
    }  # fmt: skip


def limited_memory(folder: Path, scale: float) -> dict[str, Any]:
    """Peak memory of a build whose table of stored rays is larger than its limit."""
    level = write_demo(folder / "limited", max(round(LIMITED_HALLS * scale), 1)) / LEVEL_NAME
    made = named("working")
    for key, value in {
        "density.texels_per_metre": LIMITED_TEXELS_PER_METRE * min(scale * LIMITED_HALLS, 1.0) ** 0.5,
        "light.gather_rays": LIMITED_RAYS, "light.bounces": 2, "limits.memory_mb": LIMIT_MB,
    }.items():  # fmt: skip
        made = with_value(made, key, value)
    out = folder / "limited-out"
    process = BuildProcess(Request(level, out, folder / "limited-cache", made, (300.0, 350.0, 450.0), pictures=False))
    while process.poll() is None:
        time.sleep(0.05)
    manifest = read_manifest(out)
    return {
        "limit_mb": LIMIT_MB, "limited_peak_memory_mb": manifest.peak_memory_mb,
        "limited_table_mb": round(manifest.rays.most * 4 / 2**20), "limited_texels": manifest.texels,
        "limited_seconds": manifest.seconds,
    }  # fmt: skip


def closed_room() -> LevelBuilder:
    """Coloured walls, a table, a pillar and two lamps."""
    b = LevelBuilder()
    for name, color in {"white": (0.75,) * 3, "red": (0.7, 0.1, 0.1), "green": (0.1, 0.6, 0.2)}.items():
        b.material(name, (color[0], color[1], color[2]))
    b.add("g", "room", box((0, 0, 0), (4, 3, 4)).turned_inside_out(), "white")
    b.add("g", "red wall", quad([(0.01, 0, 4), (0.01, 0, 0), (0.01, 3, 0), (0.01, 3, 4)]), "red")
    b.add("g", "green wall", quad([(3.99, 0, 0), (3.99, 0, 4), (3.99, 3, 4), (3.99, 3, 0)]), "green")
    b.add("g", "table", box((1.4, 0.8, 1.0), (2.6, 0.9, 2.0)), "white")
    b.add("g", "pillar", box((2.5, 0, 2.4), (2.8, 3, 2.7)), "white")
    for number, (position, color, candela) in enumerate(
        (((1.0, 2.4, 1.2), (1, 0.83, 0.67), 120.0), ((3.2, 1.2, 3.4), (0.17, 0.33, 1), 60.0))
    ):
        b.light(f"lamp {number}", Light(f"lamp {number}", "point", color, candela), at(*position))
    return b


def against_brute_force(places: int = 32, paths: int = 20_000) -> dict[str, Any]:
    """How much longer a plain path tracer takes for the error that a build has, four bounces, same ray library.

    The tracer is given as many cores as the engine by dividing its time by their number.
    """
    tracer_type = _tracer()
    if tracer_type is None:
        return {"equal_error_speedup": None}
    with tempfile.TemporaryDirectory(prefix="ropebell-bench-") as scratch:
        folder = Path(scratch)
        path = folder / "room.glb"
        path.write_bytes(plain_glb(closed_room().level(path), "bench"))
        made = unfinished(named("working"))
        for key, value in {"density.texels_per_metre": 12.0, "light.bounces": 4}.items():
            made = with_value(made, key, value)
        seconds, texels = [], 0
        for run in range(2):  # the first one loads the kernels
            out = folder / f"out-{run}"
            out.mkdir()
            journal = Journal(out)
            began = time.perf_counter()
            request = Request(path, out, folder / f"cache-{run}", made, pictures=False)
            texels = build(request, journal).texels
            seconds.append(time.perf_counter() - began)
            journal.close()
        rng = np.random.default_rng(5)
        # Middles of texels, or the meter's interpolation would smooth the engine's noise.
        spots: F64 = (rng.integers(2, 46, (4 * places, 2)) + np.float64(0.5)) / 12.0
        # Not under the pillar.
        spots = spots[((spots < 2.3) | (spots > 2.9)).any(axis=1)][:places]
        errors, spreads, took = _against(tracer_type, path, out, spots, paths)
    # The tracer's own noise is part of the difference; what is left is the engine's.
    spread = float(np.square(spreads).mean())
    engine_error = max(float(np.square(errors).mean()) - spread / paths, 1e-8) ** 0.5
    needed = spread / engine_error**2
    per_path = took / (places * paths) / cores()
    return {
        "engine_seconds": round(min(seconds), 3), "engine_texels": texels, "engine_error": round(engine_error, 4),
        "tracer_paths_for_it": round(needed), "tracer_paths_per_s": round(1 / per_path),
        "equal_error_speedup": round(needed * texels * per_path / min(seconds), 1),
    }  # fmt: skip


def _against(tracer_type: Any, path: Path, out: Path, spots: F64, paths: int) -> tuple[list[float], list[float], float]:
    """At each spot of a floor (n, 2): how far a build is off from the tracer, the spread of one of the tracer's paths,
    both relative; and the tracer's seconds."""
    level = open_level(path)
    scene = flatten(level)
    albedo = np.array([m.base_color[:3] for m in level.materials])[scene.material]
    lights = [(tuple(x.position), tuple(np.array(x.color) * x.intensity)) for x in scene.lights]
    tracer = tracer_type(scene.corners, albedo, lights)
    reader = Meter(open_result(out))
    errors: list[float] = []
    spreads: list[float] = []
    took = 0.0
    for number, (x, z) in enumerate(spots):
        spot = np.array([x, 0.0, z])
        ours = reader.read(spot, np.array([0.0, 1, 0]), per_light=False).irradiance
        began = time.perf_counter()
        mean, error = tracer.irradiance(tuple(spot), (0, 1, 0), paths, 4, seed=number)
        took += time.perf_counter() - began
        errors.append(float(((ours - mean) / mean).mean()))
        spreads.append(float((error / mean).mean() * paths**0.5))
    return errors, spreads, took


def _tracer() -> Any:
    if not TRACER.is_file():
        return None
    spec = importlib.util.spec_from_file_location("reference_tracer", TRACER)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module.Reference


def live_relight(folder: Path, scale: float, long: bool) -> dict[str, Any]:
    """Seconds in which a changed lamp is relit from stored fields, and in which these are solved once before.

    Args:
        long: on a level of a million texels, too.
    """
    table = []
    for number, wanted in enumerate(LIVE_SIZES if long else LIVE_SIZES[:1]):
        project = find_project(write_demo(folder / f"live-{number}"))
        level = open_level(project.level)
        made = with_value(named("working"), "light.gather_rays", 64)
        probe = ready(project.level, 2.0, cores())
        made = with_value(made, "density.texels_per_metre", 2.0 * (wanted * scale / len(probe.texels)) ** 0.5)
        out = folder / f"live-out-{number}"
        out.mkdir()
        journal = Journal(out)
        request = Request(project.level, out, folder / f"live-cache-{number}", made, (300.0, 350.0, 450.0))
        manifest = build(request, journal)
        journal.close()
        brief = project.brief.__class__()
        now = gather(level, brief, made, request.sky, ())
        began = time.perf_counter()
        fields = Relight.of(manifest, lambda _: None).on(now)
        prepared = time.perf_counter() - began
        assert fields is not None
        times = []
        for candela in (100.0, 300.0, 500.0):
            changed = brief.__class__(lights={LAMP: LightChange(candela)})
            began = time.perf_counter()
            scene = with_lights(now.subject.scene, level, changed)
            fields.light(*fields.as_set(scene, request.sky))
            times.append(time.perf_counter() - began)
        table.append({"texels": manifest.texels, "seconds": round(min(times), 3), "prepared": round(prepared, 2)})
    return {"live_relight": table}


def curve_svg(table: list[dict[str, Any]]) -> str:
    """Seconds of the transport stage over texels, both logarithmic, as an SVG picture."""
    width, height, left, low = 560, 340, 66, 46
    texels, seconds = ([row[key] for row in table] for key in ("texels", "seconds"))
    x0, x1 = np.log10(min(texels)) - 0.1, np.log10(max(texels)) + 0.1
    y0, y1 = np.log10(min(seconds)) - 0.2, np.log10(max(seconds)) + 0.2

    def at(t: float, s: float) -> str:
        x = left + (np.log10(t) - x0) / (x1 - x0) * (width - left - 20)
        y = height - low - (np.log10(s) - y0) / (y1 - y0) * (height - low - 30)
        return f"{x:.1f},{y:.1f}"

    straight = [(t, seconds[0] * t / texels[0]) for t in texels]
    text = [f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}" font-family="sans-serif"'
            ' font-size="12"><rect width="100%" height="100%" fill="#ffffff"/>',
            f'<polyline points="{" ".join(at(*p) for p in straight)}" fill="none" stroke="#b9b9b9"'
            ' stroke-dasharray="4 4"/>',
            f'<polyline points="{" ".join(at(*p) for p in zip(texels, seconds))}" fill="none" stroke="#8a5a1c"'
            ' stroke-width="2"/>']  # fmt: skip
    for t, s in zip(texels, seconds):
        x, y = at(t, s).split(",")
        text.append(f'<circle cx="{x}" cy="{y}" r="3.5" fill="#8a5a1c"/>')
        text.append(f'<text x="{x}" y="{height - low + 18}" text-anchor="middle">{t:,}</text>')
        text.append(f'<text x="{float(x) - 8}" y="{float(y) - 8}" text-anchor="end">{s:.2g} s</text>')
    text.append(f'<text x="{left}" y="{height - 8}">texels; dashed: in proportion to the first</text>')
    text.append(f'<text x="{left}" y="18">transport stage, {SCALING_RAYS} rays a texel</text></svg>')
    return "\n".join(text) + "\n"
