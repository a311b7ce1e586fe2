"""`ropebell hunt`: narrows a fault down to what causes it."""

from __future__ import annotations

import argparse
import contextlib
import hashlib
import json
import signal
import sys
from dataclasses import replace
from pathlib import Path

from ropebell.build.conditions import Condition, parse_condition
from ropebell.build.project import Project, uniform_sky
from ropebell.build.request import Request
from ropebell.build.stages import STAGES
from ropebell.cli.bake import recipe_of
from ropebell.cli.commands import project_of
from ropebell.cli.said import say
from ropebell.deliver.case import write_case
from ropebell.errors import Stopped, UsageError
from ropebell.files import write_json
from ropebell.hunt.hunt import FIRST_LIMIT, Hunt
from ropebell.hunt.last_watch import Watched
from ropebell.hunt.options import Options
from ropebell.hunt.outcome import Outcome, as_json
from ropebell.hunt.outside import OutsideCommand
from ropebell.hunt.own import OwnBuild, Way
from ropebell.hunt.record import RESULT, Entry, Record
from ropebell.hunt.steadiness import PRESENT, Verdict
from ropebell.hunt.trial import Runner
from ropebell.level.arrange import arranged, marks_in_force
from ropebell.level.brief import to_values
from ropebell.level.model import Level
from ropebell.level.open import open_level
from ropebell.level.subset import objects
from ropebell.light.arithmetic import WORKERS, worker_named

# Instead of a worker's name: look at which of them it shows.
EVERY = "all"


def hunt(o: argparse.Namespace) -> int:
    """`ropebell hunt`: 1 when a culprit was found, 130 when it was stopped."""
    if o.worker != EVERY:
        worker_named(o.worker)
    condition = parse_condition(o.condition, tuple(stage.name for stage in STAGES))
    if o.most_trials < 1:
        raise UsageError(f"--most-trials {o.most_trials} leaves nothing to do", "", "Allow one or more")
    project = project_of(o.level, o.no_project)
    if o.sky is not None:
        project = replace(project, brief=replace(project.brief, **uniform_sky(o.sky)))
    project.require_sky()
    source = open_level(project.level)
    if not objects(source):
        raise UsageError("there is no object in it", project.level, "Name a level with meshes")
    about = {
        "level": str(project.level.absolute()), "content": _content(project), "objects": len(objects(source)),
        "while": condition.text, "worker": o.worker, "command": o.outside, "settings": [o.recipe, *o.settings],
    }  # fmt: skip
    with contextlib.ExitStack() as stack:
        work = stack.enter_context(Watched()).folder
        judge, level = _judge(o, project, source, work, condition)
        who = _who_sees(judge, level, o) if isinstance(judge, OwnBuild) and o.worker == EVERY else {}
        about["worker"] = judge.request.worker if isinstance(judge, OwnBuild) else ""
        record = Record(o.out, about)
        stack.callback(record.close)
        options = Options(
            o.most_trials, max(o.time_limit, 0.0), not o.as_built, not o.no_fixes,
            lambda entry, left: _tell(entry, left, len(record.entries), o.json),
        )  # fmt: skip
        one = Hunt(level, judge, record, options)
        before = signal.signal(signal.SIGTERM, _interrupted)
        stack.callback(lambda: signal.signal(signal.SIGTERM, before))
        try:
            found = one.run()
        except (Stopped, KeyboardInterrupt):
            say("ropebell: stopped; with --out it goes on from where it was", aside=True)
            return 130
        finally:
            if isinstance(judge, OwnBuild):
                judge.close()
        if o.out is not None:
            write_case(o.out, found, record.entries, level, project.name)
        told = {**as_json(found), **({"workers": who} if who else {})}
        if o.out is not None:
            write_json(o.out / RESULT, told)
    if o.json:
        print(json.dumps(told))
    else:
        say("\n".join([*(f"  {name}: {verdict}" for name, verdict in who.items()), _lines(found)]))
    return 1 if found.culprits else 0


def _content(project: Project) -> str:
    """Names what is hunted on: a log of another state of the level says nothing of this one."""
    read = hashlib.sha256(project.level.read_bytes())
    read.update(json.dumps(to_values(project.brief), sort_keys=True).encode())
    return read.hexdigest()[:16]


def _interrupted(_signal: int, _frame: object) -> None:
    """Ended from outside, what runs for the hunt goes with it."""
    raise KeyboardInterrupt


def _judge(
    o: argparse.Namespace, project: Project, source: Level, work: Path, condition: Condition
) -> tuple[Runner, Level]:  # fmt: skip
    if o.outside:
        level = arranged(source, project.brief, marks_in_force(source, project.brief))
        names = tuple(node.path for node in level.nodes if node.mesh >= 0)
        return OutsideCommand(o.outside, condition, work, names, o.shell), level
    recipe = recipe_of(o.recipe, o.settings, project)
    request = Request(
        project.level, work / "build", project.cache, recipe, project.sky, project.brief, project.tables,
        project.sky_picture, pictures=False, worker="" if o.worker == EVERY else o.worker,
    )  # fmt: skip
    # Names by which marks find their objects stay what they are when others are left out.
    level = replace(source, nodes=tuple(replace(n, name=n.path.rsplit("/", 1)[-1]) for n in source.nodes))
    return OwnBuild(request, condition, work, Way(recipe)), level


def _who_sees(judge: OwnBuild, level: Level, o: argparse.Namespace) -> dict[str, Verdict]:
    """Whether the condition shows, by worker; the hunt goes on with the first on which it does."""
    found: dict[str, Verdict] = {}
    for name in WORKERS:
        judge.request = replace(judge.request, worker=name)
        found[name] = judge.run(level, o.time_limit or FIRST_LIMIT).verdict
    first = next((name for name, verdict in found.items() if verdict == PRESENT), "")
    judge.request = replace(judge.request, worker=first)
    return found


def _tell(entry: Entry, left: int | None, number: int, quiet: bool) -> None:
    if quiet or not sys.stderr.isatty():
        return
    more = f", about {left} more" if left else ""
    say(f"{number:>4}  {entry.run.verdict:<11} {entry.objects:>6,} in  {entry.run.seconds:6.1f} s  {entry.what}{more}",
        aside=True)  # fmt: skip


def _lines(found: Outcome) -> str:
    lines = [found.words]
    lines += [f"  {what}: {says}" + ("" if says == should else f", though it should be {should}")
              for what, should, says in found.rows]  # fmt: skip
    if found.carriers:
        lines.append(f"  to see it, these had to be there: {', '.join(found.carriers)}")
    if found.share < 1:
        lines.append(f"  it shows in about {100 * found.share:.0f} % of the runs")
    for t in found.fixes:
        amount = f" {t.fix.amount:g} {t.fix.unit}" if t.fix.unit else ""
        again = f"; on the whole level {t.again}" if t.again is not None else ""
        lines.append(f"  {t.fix.what}{amount}: {t.verdict}{again}")
    if found.shown:
        saved = f"; a run takes {found.saved[1]:.1f} s instead of {found.saved[0]:.1f} s" if found.way else ""
        lines.append(f"{found.trials} trials, {found.seconds:.0f} s{saved}")
    return "\n".join([*lines, *found.unknown])
