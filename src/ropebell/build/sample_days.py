"""The sample level's own past: seven builds, one for each of the last seven working days.

They are really built, at draft quality; only the day they claim is made up. Nothing but light, sky and recipe changes
from one to the next, so that all after the first re-use its rays.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from ropebell.build import worker
from ropebell.build.manifest import read_manifest
from ropebell.build.outputs import BUILD_FILES, BUILD_FOLDERS
from ropebell.build.project import Project, find_project
from ropebell.build.recipe import with_value
from ropebell.build.request import Request
from ropebell.demo.write import write_demo
from ropebell.errors import Stopped, UsageError, why
from ropebell.files import remove_own
from ropebell.level.brief import LightChange

DRAFT = 8
AT_WORK = datetime.time(17, 40)


@dataclass(frozen=True)
class Day:
    """One recorded build.

    Attributes:
        note: what was tried, and what came of it.
        recipe: keys that differ from the project's recipe.
        brief: parts of the brief that differ from the first day's.
    """

    note: str
    recipe: dict[str, Any] = field(default_factory=dict)
    brief: dict[str, Any] = field(default_factory=dict)


_LAMP = {"lights/hall lamp": LightChange(intensity=260.0)}
DAYS = (
    Day("First light. Lamps only, no sky: the hull cannot be judged like this.", brief={"sky": ""}),
    Day("Sky on. Light where none should be behind the great gear; the quay burns out."),
    Day("Two bounces, to see what the others add: little, but the cellar goes dead.", recipe={"light.bounces": 2}),
    Day("Dusk tried for the mood. The office is too dark to read in.", brief={"sky": "dusk"}),
    Day("A limit far too short, to see what a stopped build keeps: all that was finished.",
        recipe={"limits.seconds": 0.2}),
    Day("Hall lamp up. Better; the beam on the boards still flickers.", brief={"lights": _LAMP}),
    Day("Occlusion on: the seams of the wall panels are worse.", recipe={"occlusion.enabled": True},
        brief={"lights": _LAMP}),
)  # fmt: skip


def write_demo_with_days(folder: Path, told: Callable[[int, int], None], today: datetime.date) -> Path:
    """Write the sample level and, unless it has builds already, record its days.

    They appear whole or not at all: an interrupted recording is begun anew the next time.

    Args:
        told: called with how many days are recorded, and of how many.
        today: the day after the last recorded one, or later.

    Raises:
        UsageError: the folder cannot be written.
        Stopped: interrupted; nothing of the recording is left.
    """
    write_demo(folder)
    project = find_project(folder)
    if project.builds.exists():
        return folder
    scratch = folder / "builds.part"
    try:
        remove_own(scratch, BUILD_FILES, BUILD_FOLDERS)
        scratch.mkdir()
        for number, (day, made) in enumerate(zip(DAYS, working_days(today, len(DAYS))), 1):
            told(number - 1, len(DAYS))
            _record(day, project, scratch / f"{number:04d}", made)
        told(len(DAYS), len(DAYS))
        scratch.rename(project.builds)
    except Stopped:
        remove_own(scratch, BUILD_FILES, BUILD_FOLDERS)
        raise
    except OSError as error:
        remedy = "Free some space or name another folder"
        raise UsageError(f"the sample's builds cannot be written ({why(error)})", folder, remedy) from error
    return folder


def working_days(today: datetime.date, count: int) -> list[datetime.datetime]:
    """The last `count` weekdays before a day, oldest first, at the end of work; universal time."""
    found: list[datetime.datetime] = []
    day = today
    while len(found) < count:
        day -= datetime.timedelta(days=1)
        if day.weekday() < 5:
            found.append(datetime.datetime.combine(day, AT_WORK, datetime.UTC))
    return found[::-1]


def _record(day: Day, project: Project, out: Path, made: datetime.datetime) -> None:
    # On those days the roof was not finer, the gate was still shut and all lamps were baked.
    brief = replace(project.brief, **{"marks": {}, "lights": {}, **day.brief})
    then = replace(project, brief=brief)
    recipe = with_value(project.recipe, "draft", DRAFT)
    for key, value in day.recipe.items():
        recipe = with_value(recipe, key, value)
    request = Request(then.level, out, then.cache, recipe, then.sky, brief, then.tables, note=day.note, pictures=False)
    said = made.isoformat(timespec="seconds")
    code = worker.run(request, gentle=False, begun=said)
    if code == worker.EXIT_STOPPED:
        raise Stopped()
    if code == worker.EXIT_DONE:
        manifest = read_manifest(out)
        manifest.model_copy(update={"made": said}).write(out)
