"""How good builds foretell their time, their memory and their end, on levels of other shape than the sample."""

from __future__ import annotations

import json
import subprocess
import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.shapes import Shape, box, cylinder
from ropebell.demo.write import write_demo
from ropebell.interpreter import own_command
from ropebell.level.gltf_write import plain_glb
from ropebell.level.model import Light

SKY = "--sky=900,1000,1200"
# Of the terrain's sides.
HOUSES = ((0.2, 0.23), (0.5, 0.17), (0.73, 0.5), (0.33, 0.73), (0.83, 0.87), (0.13, 0.57))


def terrain(folder: Path, side: int = 60) -> Path:
    """Open hills, two metres a step, with houses on them, under a sun."""
    b = LevelBuilder()
    b.material("grass", (0.3, 0.4, 0.2))
    b.material("wall", (0.7, 0.65, 0.6))
    x, z = np.meshgrid(np.linspace(0, 2.0 * side, side + 1), np.linspace(0, 2.0 * side, side + 1), indexing="ij")
    y = 3.0 * np.sin(x / 17.0) * np.cos(z / 23.0)
    points = np.stack([x, y, z], axis=-1)
    b.add("land", "hills", _grid(points), "grass")
    for number, (i, j) in enumerate(HOUSES):
        px, py, pz = (float(v) for v in points[int(i * side), int(j * side)])
        b.add("houses", f"house {number}", box((-3, -1, -4), (3, 5, 4)), "wall", at(px, py, pz, 0.4 * number))
        b.add("houses", f"chimney {number}", cylinder(0.4, 2.0, 12), "wall", at(px, py + 5.0, pz))
    b.light("sun", Light("sun", "directional", (1, 0.95, 0.9), 20_000.0), aimed((0, 50, 0), (30, 0, 40)))
    return _written(folder / "terrain.glb", b)


def tunnel(folder: Path, lamps: int = 24) -> Path:
    """A long tunnel with a lamp every few metres and crates along its walls."""
    b = LevelBuilder()
    b.material("brick", (0.45, 0.35, 0.3))
    b.material("wood", (0.5, 0.35, 0.2))
    length = 5.0 * lamps
    b.add("tunnel", "tube", box((0, 0, 0), (4, 3, length)).turned_inside_out(), "brick")
    for number in range(lamps):
        z = 2.5 + 5.0 * number
        b.light(f"lamp {number}", Light(f"lamp {number}", "point", (1, 0.8, 0.6), 60.0, 12.0), at(2, 2.6, z))
        b.add("things", f"crate {number}", box((0, 0, 0), (0.8, 0.8, 0.8)), "wood", at(0.3 + 2.4 * (number % 2), 0, z))
    return _written(folder / "tunnel.glb", b)


def _grid(points: np.ndarray) -> Shape:
    """A height field as triangles that face up."""
    n, m = points.shape[0] - 1, points.shape[1] - 1
    index = np.arange((n + 1) * (m + 1)).reshape(n + 1, m + 1)
    a, b, c, d = index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]
    faces = np.concatenate([np.stack([a, c, b], -1).reshape(-1, 3), np.stack([a, d, c], -1).reshape(-1, 3)])
    corners = points.reshape(-1, 3)[faces].astype(np.float32)
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    flat = corners.reshape(-1, 3)
    return Shape(
        flat, np.repeat(normal, 3, axis=0).astype(np.float32), flat[:, [0, 2]].copy(),
        np.arange(len(flat), dtype=np.int32).reshape(-1, 3),
    )  # fmt: skip


def _written(path: Path, b: LevelBuilder) -> Path:
    path.write_bytes(plain_glb(b.level(path), "bench"))
    return path


def run(scale: float = 1.0) -> list[dict[str, Any]]:
    """Each level built from nothing in a process of its own: what was foretold, and what came.

    Args:
        scale: below 1, levels are smaller and the sample is left out.
    """
    found = []
    with tempfile.TemporaryDirectory(prefix="ropebell-foretell-") as scratch:
        folder, cases = Path(scratch), list[tuple[str, Path, list[str]]]()
        if scale >= 1.0:
            # Each in a folder of its own, and so with a cache of its own.
            for name, halls, draft in (("sample", 1, 8), ("sample", 1, 4), ("sample of 4 halls", 4, 8)):
                level = write_demo(folder / f"{name} {draft}", halls)
                cases.append((f"{name}, draft 1/{draft}", level, ["--set", f"draft={draft}"]))
        share = min(scale, 1.0)
        cases += [
            ("terrain with houses", terrain(folder, max(round(60 * share), 8)), ["--recipe", "sketch", SKY]),
            ("long tunnel", tunnel(folder, max(round(24 * share), 2)), ["--recipe", "working"]),
        ]
        for number, (name, level, more) in enumerate(cases):
            found.append({"level": name, **_built(level, folder / f"out-{number}", folder / f"cache-{number}", more)})
    return found


def _built(level: Path, out: Path, cache: Path, more: list[str]) -> dict[str, Any]:
    command = own_command("ropebell.cli.main", "bake", str(level), "--out", str(out), "--json", *more)
    environment = {"XDG_CACHE_HOME": str(cache), "HOME": str(cache), "PATH": "/usr/bin:/bin"}
    done = subprocess.run(command, capture_output=True, text=True, env=environment, check=True)
    m = json.loads(done.stdout)["manifest"]
    seconds, memory = m["seconds"]["total"], m["peak_memory_mb"]
    return {
        "texels": m["texels"], "seconds": round(seconds, 2), "seconds_foretold": m["predicted"]["seconds"],
        "memory_mb": memory, "memory_mb_foretold": m["predicted"]["memory_mb"],
        "time_factor": _factor(m["predicted"]["seconds"], seconds),
        "memory_factor": _factor(m["predicted"]["memory_mb"], memory),
        "remaining_error": m.get("remaining_error"), "stages": m["seconds"],
    }  # fmt: skip


def _factor(told: float, came: float) -> float:
    """How many times too much or too little, at least 1."""
    return round(max(told, came) / max(min(told, came), 1e-9), 2)
