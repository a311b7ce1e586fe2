"""`ropebell bake`: builds in a process of its own and follows it."""

from __future__ import annotations

import json
import math
import signal
import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from ropebell.build.claim import claimed, clear_earlier, earlier
from ropebell.build.conditions import parse_conditions
from ropebell.build.events import End, Event, Progress, Warned
from ropebell.build.journal import is_alive, read_events
from ropebell.build.manifest import read_manifest
from ropebell.build.precheck import gather
from ropebell.build.project import PROJECT_FILE, Project, uniform_sky
from ropebell.build.recipe import Recipe, load, with_setting
from ropebell.build.request import Request
from ropebell.build.result import Outcome
from ropebell.build.runner import BuildProcess
from ropebell.build.scope import Scope, all_but, box_of, named_nodes
from ropebell.build.shelf import known
from ropebell.build.since import changed_since
from ropebell.build.stages import STAGES
from ropebell.build.tripwires import Tripwires
from ropebell.cli.commands import Color, project_of
from ropebell.cli.said import say
from ropebell.errors import UsageError, step, why
from ropebell.fault_report import EXIT_FAULT
from ropebell.level.open import LEVEL_SUFFIXES, open_level
from ropebell.light.arithmetic import worker_named
from ropebell.light.view import View

CLEARING = "bake with --clear-earlier removes such once a build is done"
# Metres between the places of a look.
LEAST_LOOK = 1e-6
EXITS = {"done": 0, "failed": 3, "died": 3, "tripwire": 4, "stopped": 130}


@dataclass(frozen=True)
class Wanted:
    """What is asked for beside the level and the folder, as it was written."""

    recipe: str | None
    settings: list[str]
    sky: Color | None
    only: list[str]
    all_but: list[str]
    seen_from: list[Color] | None
    seen_angle: float
    box: tuple[float, ...] | None
    since: Path | None
    properties_of: Path | None
    stage: str
    stop_when: list[str]
    worker: str = ""
    no_project: bool = False


def bake(level: Path, out: Path, wanted: Wanted, clear: bool, as_json: bool) -> int:
    """`ropebell bake`; the exit status of the contract."""
    worker_named(wanted.worker)
    project = project_of(level, wanted.no_project)
    open_level_quickly(project.level)
    if wanted.sky is not None:
        if min(wanted.sky) < 0:
            raise UsageError("a sky cannot be negative", "--sky", "Use numbers of 0 or more")
        project = replace(project, brief=replace(project.brief, **uniform_sky(wanted.sky)))
    project.require_sky()
    project = replace(project, recipe=recipe_of(wanted.recipe, wanted.settings, project))
    names = tuple(stage.name for stage in STAGES)
    if wanted.stage and wanted.stage not in names:
        raise UsageError(f"there is no stage '{wanted.stage}'", "--stage", f"The stages are {', '.join(names)}")
    Tripwires(parse_conditions(wanted.stop_when, names))
    scope, why_nothing = _scope(wanted, project)
    if why_nothing:
        return _nothing(why_nothing, out, as_json)
    request = _request(project, out, scope, wanted)
    sources = [project.level, project.folder / PROJECT_FILE, *project.tables]
    sources += [request.sky_picture] if request.sky_picture is not None else []
    try:
        with claimed(out, sources) as kept:
            if kept is not None:
                count = len(earlier(out))
                more = f", the last of {count}" if count > 1 else ""
                say(f"ropebell: the build that was in {out} is kept as {kept}{more}; {CLEARING}", aside=True)
            process = BuildProcess(request)
            while process.poll() is None and not is_alive(out):
                time.sleep(0.01)
    except OSError as error:
        raise UsageError(f"it cannot be written to ({why(error)})", out, step(error)) from error
    ended = _follow(process, quiet=as_json or not sys.stderr.isatty())
    if clear and ended.state == "done":
        for gone in clear_earlier(out):
            say(f"ropebell: removed {gone}", aside=True)
    return _report(ended, process, request, as_json)


def recipe_of(name: str | None, settings: Sequence[str], project: Project) -> Recipe:
    """The recipe that is asked for: by name or file, else the project's, with some settings changed.

    Raises:
        RecipeError: there is none of that name, or a setting is none.
    """
    recipe = project.recipe
    if name:
        own = known(project).get(name)
        recipe = own if own is not None else load(name)
    for setting in settings:
        recipe = with_setting(recipe, setting)
    return recipe


def _request(project: Project, out: Path, scope: Scope, wanted: Wanted) -> Request:
    return Request(
        project.level,
        out,
        project.cache,
        project.recipe,
        project.sky,
        project.brief,
        project.tables,
        project.sky_picture,
        pictures=False,
        scope=scope,
        stop_when=tuple(wanted.stop_when),
        worker=wanted.worker,
    )


def _scope(wanted: Wanted, project: Project) -> tuple[Scope, str]:
    """What is to be lit, and why that is nothing, if it is."""
    _only_one_way(wanted)
    if wanted.properties_of is not None:
        read_manifest(wanted.properties_of)
        return Scope(since=wanted.properties_of, properties=True), ""
    box = box_of(wanted.box) if wanted.box is not None else None
    seen = _look(wanted.seen_from, wanted.seen_angle)
    scope = Scope(box=box, seen=seen, stage=wanted.stage)
    if not (wanted.only or wanted.all_but) and wanted.since is None:
        return scope, ""
    source = open_level(project.level)
    gathered = gather(source, project.brief, project.recipe, project.sky, project.tables, box)
    only = named_nodes(gathered.scene, tuple(wanted.only))
    if wanted.all_but:
        only = all_but(gathered.scene, named_nodes(gathered.scene, tuple(wanted.all_but)))
        if not only:
            return scope, "nothing is left to light"
    if wanted.since is None:
        return replace(scope, only=only), ""
    since = changed_since(wanted.since, source, gathered.scene, gathered.subject.baking, project)
    if only or seen is not None:
        return replace(scope, only=only, since=wanted.since), ""
    if since.nothing:
        return scope, f"nothing changed since {wanted.since}"
    if not since.part:
        because = ", ".join(since.everywhere) or "something is gone that cast its shadow on others"
        say(f"ropebell: everything is lit: changed since {wanted.since}: {because}", aside=True)
        return scope, ""
    return replace(scope, only=since.objects, since=wanted.since), ""


def _only_one_way(wanted: Wanted) -> None:
    """Refuse scopes that contradict each other.

    Raises:
        UsageError: which, and what to leave out.
    """
    if wanted.box is not None and wanted.since is not None:
        raise UsageError("what lies in a cut box is another level", "--box", "Leave out --box or --changed-since")
    if wanted.only and wanted.all_but:
        raise UsageError("one names what is lit, the other what is not", "--all-but", "Leave out it or --only")
    others = (
        wanted.only, wanted.all_but, wanted.seen_from, wanted.box, wanted.since, wanted.stage, wanted.recipe,
        wanted.settings, wanted.sky, wanted.worker,
    )  # fmt: skip
    if wanted.properties_of is not None and any(others):
        what = "nothing is lit then, so no scope, setting, sky or worker counts"
        raise UsageError(what, "--properties-of", "Leave them out")


def _look(from_to: Sequence[Color] | None, angle: float) -> View | None:
    """A look from one place at another, so many degrees wide.

    Raises:
        UsageError: there is no such look.
    """
    if from_to is None:
        return None
    if not 1.0 <= angle <= 180.0:
        raise UsageError(f"{angle:g} is outside 1 … 180 degrees", "--seen-angle", "Choose another angle")
    eye, at = from_to
    far = math.dist(eye, at)
    if far < LEAST_LOOK:
        raise UsageError("both places are the same", "--seen-from", "Name a place, and another to look at")
    x, y, z = ((b - a) / far for a, b in zip(eye, at))
    return View(eye, (x, y, z), math.radians(angle / 2))


def _nothing(why_nothing: str, out: Path, as_json: bool) -> int:
    message = f"Nothing to do: {why_nothing}."
    if as_json:
        print(json.dumps({"outcome": "nothing", "message": message, "out": str(out), "manifest": None}))
    else:
        say(message)
    return 0


def open_level_quickly(path: Path) -> None:
    """Refuse unreadable levels before a build folder is made.

    Raises:
        LevelError: with file, place and remedy.
    """
    if path.suffix.lower() not in LEVEL_SUFFIXES or not path.is_file():
        open_level(path)


def _follow(process: BuildProcess, quiet: bool) -> Outcome:
    """Show progress until the build ends; Ctrl-C and SIGTERM stop it."""

    def stop(_signal: int, _frame: object) -> None:
        process.stop()

    before = {s: signal.signal(s, stop) for s in (signal.SIGINT, signal.SIGTERM)}
    try:
        while (ended := process.poll()) is None:
            _tell(process.new_events(), quiet)
            time.sleep(0.05)
        _tell(process.new_events(), quiet)
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
    if not quiet:
        print(file=sys.stderr)
    return ended


def _tell(events: list[Event], quiet: bool) -> None:
    for event in events:
        if isinstance(event, Progress) and not quiet:
            text = f"\r{event.stage:<10} {100 * event.share:5.1f} %  {event.remaining:6.1f} s to go "
            print(text, end="", file=sys.stderr, flush=True)
        elif isinstance(event, Warned) and event.severity != "note":
            about = f" {event.object}:" if event.object else ""
            say(f"{'' if quiet else chr(10)}{event.severity}:{about} {event.reason}", aside=True)


def _report(ended: Outcome, process: BuildProcess, request: Request, as_json: bool) -> int:
    code, out, stage = EXITS[ended.state], request.out, request.scope.stage
    if ended.state == "failed" and process.exit_code in (2, EXIT_FAULT):
        code = process.exit_code
    manifest = read_manifest(out) if ended.state == "done" and not stage else None
    if as_json:
        document: dict[str, Any] = {"outcome": ended.state, "message": ended.sentence, "out": str(out)}
        end = next((e for e in reversed(read_events(out)) if isinstance(e, End)), None)
        if end is not None and end.condition:
            told = {"condition": end.condition, "stage": end.stage, "object": end.object, "value": end.value}
            document["tripwire"] = told
        if stage:
            document["stage"] = stage
        print(json.dumps({**document, "manifest": manifest.as_json() if manifest is not None else None}))
    elif manifest is not None:
        reused = f", re-used {', '.join(manifest.reused)}" if manifest.reused else ""
        pages, total = len(manifest.pages), manifest.total_seconds
        part = "" if request.scope.everywhere else f" ({request.scope.words})"
        say(f"{manifest.texels:,} texels on {pages} pages in {total:.1f} s{part}{reused}: {out}")
    elif ended.state == "done":
        say(f"Done up to the stage '{stage}'; what it gave is kept for the next build: {out}")
    if ended.state != "done":
        say(f"ropebell: {ended.sentence}", aside=True)
    return code
