"""The commands that need no window."""

from __future__ import annotations

import datetime
import json
import math
import os
import sys
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.build.meter import Meter, Reading
from ropebell.build.mover import SIDES, Lightmapped, MoverLight, mover_light
from ropebell.build.precheck import gather
from ropebell.build.probe_file import read_probes
from ropebell.build.project import Project, find_project, projects_of
from ropebell.build.recipe import named
from ropebell.build.result import open_result
from ropebell.build.sample_days import write_demo_with_days
from ropebell.build.store import Store
from ropebell.checks.run import check as run_checks
from ropebell.cli.said import say
from ropebell.demo.write import write_demo
from ropebell.errors import Stopped, UsageError
from ropebell.level.finding import Finding
from ropebell.level.open import LEVEL_SUFFIXES, open_level
from ropebell.light.rays import RaySpace

CLEARING = "bake with --clear-earlier removes such once a build is done"
EXITS = {"done": 0, "failed": 3, "died": 3, "tripwire": 4, "stopped": 130}
Color = tuple[float, float, float]


def cache_folder() -> Path:
    """Where artifacts of levels without a project are kept."""
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return Path(base) / "ropebell" / "stages"


class _Loose(Project):
    """A level that belongs to no project: artifacts go to the shared cache, and nothing is ever saved."""

    @property
    def cache(self) -> Path:
        """The shared cache."""
        return cache_folder()


def project_of(target: Path, left_aside: bool = False) -> Project:
    """The project of a target, found as the window finds it; a level that belongs to none gets one that is never saved,
    with the shared cache. Which one counts, or is left aside, is said on standard error.

    Args:
        left_aside: the level alone, whatever a project decides about it.
    """
    if target.suffix.lower() not in LEVEL_SUFFIXES or target.is_dir():
        project = find_project(target)
        if not left_aside:
            return project
        say(f"ropebell: the project {project.folder} is left aside", aside=True)
        return _loose(project.level)
    found = projects_of(target) if target.is_file() else []
    counts = found[: 0 if left_aside else 1]
    for project in counts:
        say(f"ropebell: {target.name} belongs to the project {project.folder}, which counts", aside=True)
    for project in found[len(counts) :]:
        say(f"ropebell: the project {project.folder} names {target.name}, too, and is left aside", aside=True)
    return counts[0] if counts else _loose(target)


def _loose(level: Path) -> Project:
    return _Loose(level.parent, level, level.stem, named("working"))


def check(level: Path, sky: Color | None, as_json: bool, no_project: bool = False) -> int:
    """`ropebell check`: 1 if any finding is an error."""
    project = project_of(level, no_project)
    path = project.level
    source, store = open_level(path), Store(project.cache)
    gathered = gather(
        source, project.brief, project.recipe, sky or project.sky, project.tables, store=store,
        sky_trouble=project.sky_trouble if sky is None else None,
    )  # fmt: skip
    findings = [f for f in run_checks(gathered.subject) if f.key not in project.brief.known]
    errors = sum(f.severity == "error" for f in findings)
    if as_json:
        print(json.dumps({"level": str(path), "errors": errors, "findings": [f.as_json() for f in findings]}))
    else:
        for finding in findings:
            say(_finding_line(finding))
        print(f"{len(findings)} findings, {errors} errors")
    return 1 if errors else 0


def _finding_line(finding: Finding) -> str:
    place = "" if finding.place is None else " at " + ", ".join(f"{v:.2f}" for v in finding.place)
    what = f" {finding.object}:" if finding.object else ""
    return f"{finding.severity} ({finding.kind}){what} {finding.reason}{place} {finding.remedy}."


def mover(build: Path, points: list[Color], as_json: bool) -> int:
    """`ropebell meter --mover`: what lights a moving thing at these places."""
    result = open_result(build)
    surfaces = Lightmapped.of(result, RaySpace(result.scene.corners))
    probes = read_probes(build)
    found = [mover_light(surfaces, probes, np.array(point)) for point in points]
    if as_json:
        print(json.dumps({"points": [m.as_json() for m in found]}))
        return 0
    for m in found:
        say(_mover_lines(m))
    return 0


def _mover_lines(m: MoverLight) -> str:
    def lux(value: np.ndarray) -> str:
        return " ".join(f"{v:10.4g}" for v in value) + " lx"

    lines = ["at " + ", ".join(f"{v:.3f}" for v in m.position)]
    lines += (
        [f"  by probes, {side:<17}{lux(m.on(way))}" for side, way in SIDES.items()] if m.sources else ["  no probes"]
    )
    lines += [f"    {100 * share:3.0f} % of {name}" for name, share in m.sources]
    lines.append(f"  by {m.node:<24} {lux(m.below)}" if m.below is not None else "  no lightmap below")
    return "\n".join(lines)


def meter(build: Path, points: list[Color], normal: Color | None, as_json: bool) -> int:
    """`ropebell meter`."""
    if normal is not None and math.hypot(*normal) < 1e-30:
        raise UsageError("a normal of length zero has no direction", "--normal", "Give a direction")
    reader = Meter(open_result(build))
    facing = None if normal is None else np.array(normal)
    readings = reader.read_many(np.array(points), facing)
    if as_json:
        print(json.dumps({"points": [_finite(r.as_json()) for r in readings], "untold": reader.untold}))
        return 0
    for reading in readings:
        say(_reading_lines(reading))
    if reader.untold:
        say(reader.untold)
    return 0


def _finite(values: dict[str, Any]) -> dict[str, Any]:
    """JSON has no infinity: a point of a level without surfaces has no distance."""
    return {**values, "distance": values["distance"] if values["node"] else None}


def _reading_lines(reading: Reading) -> str:
    if not reading.node:
        return "no surface"

    def lux(value: np.ndarray) -> str:
        return " ".join(f"{v:10.4g}" for v in value) + " lx"

    place = ", ".join(f"{v:.3f}" for v in reading.position)
    lines = [f"{reading.node} at {place}, {reading.distance:.3f} m away"]
    parts = {
        "total": reading.irradiance,
        "direct": reading.direct,
        "bounced": reading.bounced,
        **reading.lights,
    }
    lines += [f"  {name:<28}{lux(value)}" for name, value in parts.items()]
    if reading.noise is not None:
        lines.append(f"  ± {100 * reading.noise:.2g} % of it by the noise of its rays")
    return "\n".join(lines)


def demo(folder: Path, halls: int, bare: bool) -> int:
    """`ropebell demo`: the level, and the builds of its past unless it is bare or made larger for a load test."""
    if bare or halls > 1:
        say(write_demo(folder, halls))
        return 0

    def told(done: int, of: int) -> None:
        print(f"\rrecording the sample's builds: {done} of {of} ", end="", file=sys.stderr, flush=True)

    try:
        say(write_demo_with_days(folder, told, datetime.date.today()))
    except Stopped:
        print("\nropebell: stopped; the sample's builds are recorded the next time", file=sys.stderr)
        return EXITS["stopped"]
    print(file=sys.stderr)
    return 0
