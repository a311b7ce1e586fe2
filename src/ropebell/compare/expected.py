"""Expected numbers of a build: few enough to be sent, enough to tell whether another machine or version agrees."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.build.found import of_light
from ropebell.build.result import Result
from ropebell.compare.light import ROUNDED, SURE
from ropebell.compare.places import bilinear, luminance, mixed, places_of
from ropebell.errors import ProjectError, UsageError
from ropebell.files import read_json, write_json
from ropebell.level.model import F64, I32, I64, Mask
from ropebell.level.nearest import NearestSurface
from ropebell.level.scene import Scene

VERSION, SAMPLES = 1, 400
# Of the energy of a bounce, beside the noise of its mean.
ENERGY = 0.01
# A place is found again on a surface within so many metres.
NEAR, LIFT, ALIKE = 5e-3, 5e-4, 0.9


@dataclass(frozen=True)
class Check:
    """How a build stands to expected numbers. off: what does not agree, in words. places: how many were looked at."""

    places: int
    off: tuple[str, ...]

    @property
    def agrees(self) -> bool:
        """Whether all of it does."""
        return not self.off


def expected(result: Result, seed: int = 1) -> dict[str, Any]:
    """The numbers of a build, as plain values: light at places spread over its surfaces, with tolerances from told
    noise; energy of each bounce; faults."""
    places = places_of(result)
    m = result.manifest
    if not len(places):
        raise UsageError("it has no baked light", result.folder, "Name a build of a level with baked surfaces")
    draw = np.random.default_rng(seed)
    weight = places.area / places.area.sum()
    rows = np.sort(draw.choice(len(places), min(SAMPLES, len(places)), replace=False, p=weight))
    light = luminance(places.of(result.total))[rows]
    noise = places.of(result.noise)[rows, 0] if result.noise is not None else np.zeros(len(rows))
    spots = places.position(result.scene.corners)[rows]
    normals = result.scene.face_normals[places.triangle[rows]]
    return {
        "expected": VERSION,
        "made": m.made,
        "level": m.level.file,
        "recipe": m.recipe.model_dump(),
        "energy": list(m.energy),
        "texels": m.texels,
        "faults": sorted({f"{f.kind} {f.object}" for f in of_light(m) if f.severity != "note"}),
        "places": [
            {"at": [round(float(v), 4) for v in p], "normal": [round(float(v), 3) for v in n],
             "lux": float(f"{x:.5g}"), "tolerance": float(f"{SURE * 1.5 * s * x + ROUNDED * x:.3g}")}
            for p, n, x, s in zip(spots, normals, light, noise)
        ],
    }  # fmt: skip


def write_expected(path: Path, result: Result) -> None:
    """Keep a build's numbers.

    Raises:
        OSError: it cannot be written.
    """
    write_json(path, expected(result))


def check_expected(path: Path, result: Result) -> Check:
    """Hold a build against numbers that were kept.

    Raises:
        ProjectError: the file is none of these.
    """
    try:
        values = read_json(path)
        wanted = [(v["at"], v["normal"], float(v["lux"]), float(v["tolerance"])) for v in values["places"]]
        energy, faults = [float(e) for e in values["energy"]], set(values["faults"])
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise ProjectError("it holds no expected numbers", path, "Save them from a build first") from error
    off: list[str] = []
    m, scene = result.manifest, result.scene
    if len(energy) != len(m.energy):
        off.append(f"{len(m.energy) - 1} bounces instead of {len(energy) - 1}")
    for bounce, (was, now) in enumerate(zip(energy, m.energy)):
        if abs(now - was) > ENERGY * max(was, 1e-12):
            off.append(f"bounce {bounce} brings {now:.4g} lx instead of {was:.4g}")
    rows = np.flatnonzero(result.page >= 0)
    spots = np.array([w[0] for w in wanted], np.float64).reshape(-1, 3)
    normals = np.array([w[1] for w in wanted], np.float64).reshape(-1, 3)
    at, weights, there = _surface_at(scene, rows, spots, normals)
    uv = mixed(result.uv, at, weights.astype(np.float32))
    light = luminance(bilinear(result.total, np.maximum(result.page[at], 0), uv))
    for (place, _, lux, tolerance), value, found, t in zip(wanted, light, there, at):
        words = ", ".join(f"{v:.2f}" for v in place)
        if not found:
            off.append(f"no baked surface at {words}")
        elif abs(value - lux) > tolerance:
            node = scene.node_names[scene.node[t]]
            off.append(f"{value:.4g} lx instead of {lux:.4g} (± {tolerance:.2g}) at {words} on {node}")
    now_faults = {f"{f.kind} {f.object}" for f in of_light(m) if f.severity != "note"}
    off += [f"new fault: {fault}" for fault in sorted(now_faults - faults)]
    off += [f"fault gone: {fault}" for fault in sorted(faults - now_faults)]
    return Check(len(wanted), tuple(off))


def _surface_at(scene: Scene, rows: I64, spots: F64, normals: F64) -> tuple[I32, F64, Mask]:
    """(n,) triangle of some at each place that looks the same way, (n, 2) where on it, (n,) whether there is one."""
    # From a little in front, so that of two faces in one plane the one that looks this way is met.
    surface = NearestSurface(scene.corners[rows], scene.face_normals[rows])
    triangle, weights, far = surface.at(spots + LIFT * normals)
    at = rows[np.maximum(triangle, 0)].astype(np.int32)
    there = (triangle >= 0) & (far <= NEAR) & (np.einsum("ij,ij->i", scene.face_normals[at], normals) > ALIKE)
    for i in np.flatnonzero(~there):
        # Where faces cross or hide each other, only those that look this way are asked.
        alike = rows[scene.face_normals[rows] @ normals[i] > ALIKE]
        if len(alike):
            one, where, distance = NearestSurface(scene.corners[alike], scene.face_normals[alike]).at(spots[i : i + 1])
            at[i], weights[i], there[i] = alike[one[0]], where[0], distance[0] <= NEAR
    return at, weights, there
