"""Probes of a build: made from its solution, kept as JSON in its folder."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.build.outputs import Built
from ropebell.build.request import Request
from ropebell.errors import BuildError, ProjectError
from ropebell.files import read_json, write_json
from ropebell.level.brief import Box
from ropebell.level.finding import Finding
from ropebell.level.sky_picture import read_sky_picture
from ropebell.light.fields import Glow
from ropebell.light.harmonics import COUNT
from ropebell.light.lookup import hit_records
from ropebell.light.probes import LitLevel, Probes, grid_positions, lit_probes
from ropebell.light.sky import SkyMap

# Metres, and cd/m²; single floats end at 3.4e38.
MOST = 1e30
PROBES = "probes.json"


def make_probes(built: Built, request: Request, tick: Callable[[float], None]) -> tuple[Probes | None, list[Finding]]:
    """The probes that the brief asks for, lit; None if it asks for none.

    Raises:
        BuildError: the grid would have too many.
    """
    wanted = request.brief.probes
    if not wanted.spacing and not wanted.placed:
        return None, []
    try:
        grid = grid_positions(_boxes(built, request), wanted.spacing) if wanted.spacing else np.zeros((0, 3))
    except ValueError as error:
        raise BuildError(str(error), request.level, "Choose a wider spacing, or a tighter play region") from error
    placed = np.array(list(wanted.placed.values()), dtype=np.float64).reshape(-1, 3)
    positions = np.concatenate([placed, grid])
    names = [*wanted.placed, *[""] * len(grid)]
    probes = lit_probes(_lit(built, request), positions, names, tick)
    lost = len(positions) - len(probes)
    findings = []
    if lost:
        reason = f"{lost} of {len(grid)} probes of the grid stand inside solids and are left out."
        findings.append(Finding("probes-buried", "note", "", reason, "Nothing, unless one is missed"))
    return probes, findings


def _boxes(built: Built, request: Request) -> tuple[Box, ...]:
    if request.brief.region.boxes:
        return request.brief.region.boxes
    low, high = built.scene.bounds()
    (a, b, c), (d, e, f) = low.tolist(), high.tolist()
    return (Box((a, b, c), (d, e, f)),)


def _lit(built: Built, request: Request) -> LitLevel:
    leaving = built.albedo * built.solution.total[built.samples.target] / np.float32(np.pi)
    of_texel = Glow.of(built.scene, built.texels).of_texel
    for number, emitter in enumerate(built.scene.emitters):
        leaving[of_texel == number] += emitter.radiance.astype(np.float32)
    picture = None
    if request.sky_picture is not None:
        picture = SkyMap.of(read_sky_picture(request.sky_picture), request.brief.sky_now.turn)
    grid = built.texels.grid
    return LitLevel(
        built.scene, built.space, hit_records(built.surface, built.atlas), grid, leaving, request.sky, picture
    )


def write_probes(out: Path, probes: Probes) -> dict[str, Any]:
    """Write the file; what the manifest says of it."""
    table = [
        {"name": name, "position": [round(float(v), 6) for v in place],
         "radiance": [[float(f"{v:.6g}") for v in row] for row in rows]}
        for name, place, rows in zip(probes.name, probes.position, probes.coefficients.tolist())
    ]  # fmt: skip
    write_json(out / PROBES, {"format": 1, "basis": "real spherical harmonics, bands 0 to 2, cd/m2", "probes": table})
    return {"file": PROBES, "count": len(probes)}


def read_probes(folder: Path) -> Probes | None:
    """The probes of a finished build, None where it has none.

    Raises:
        ProjectError: the file is damaged.
    """
    path = folder / PROBES
    if not path.is_file():
        return None
    remedy = "Build again, or restore the file"
    try:
        table = read_json(path)["probes"]
        position = np.array([p["position"] for p in table], dtype=np.float64).reshape(-1, 3)
        radiance = np.array([p["radiance"] for p in table], dtype=np.float64).reshape(-1, COUNT, 3)
        names = tuple(str(p["name"]) for p in table)
    except (OSError, ValueError, KeyError, TypeError, OverflowError) as error:
        raise ProjectError("the probes are damaged", path, remedy) from error
    if not (np.abs(position) < MOST).all() or not (np.abs(radiance) < MOST).all():  # which NaN is not either
        raise ProjectError("the probes have numbers that are no places or no light", path, remedy)
    return Probes(position, radiance.astype(np.float32), names)
