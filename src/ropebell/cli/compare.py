"""`ropebell compare`, `expect`, `ledger` and `advise`: builds against each other, and where their time goes."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

from ropebell.build.estimate import calibrated
from ropebell.build.precheck import gather
from ropebell.build.result import open_result
from ropebell.build.setting_words import setting_title
from ropebell.build.store import Store
from ropebell.cli.commands import project_of
from ropebell.cli.said import say
from ropebell.compare.advice import advise
from ropebell.compare.advice import as_json as advice_json
from ropebell.compare.advised import learned, read_taken
from ropebell.compare.compare import Comparison, as_json, compare, in_words, times
from ropebell.compare.expected import check_expected, write_expected
from ropebell.compare.ledger import PROGRAM, ledger
from ropebell.compare.ledger import as_json as ledger_json
from ropebell.deliver.compared import as_html
from ropebell.errors import UsageError, step, why
from ropebell.files import write_text
from ropebell.level.open import open_level

MOST_LINES = 20


def run_compare(a: Path, b: Path, in_json: bool, page: Path | None) -> int:
    """`ropebell compare`: 1 if the light differs beyond noise."""
    found = compare(a, b)
    if page is not None:
        try:
            write_text(page, as_html(found))
        except OSError as error:
            raise UsageError(f"it cannot be written ({why(error)})", page, step(error)) from error
    if in_json:
        print(json.dumps(as_json(found)))
    else:
        say(_lines(found))
    return 1 if found.light.differ else 0


def _lines(c: Comparison) -> str:
    lines = [in_words(c)]
    lines += [f"  {s.words}" for s in c.changes.settings]
    lines += [f"  {x.node}: {x.what}" for x in c.changes.contents[:20]]
    if len(c.changes.contents) > 20:
        lines.append(f"  and {len(c.changes.contents) - 20} more")
    if len(c.changes.of_light) > 1:
        lines.append("More than one thing changed:")
        lines += [f"  {100 * x.share:5.1f} %  {setting_title(x.name)}" for x in c.causes.causes]
    if c.causes.told:
        lines.append(c.causes.told)
    if (worst := c.worst) is not None:
        place = ", ".join(f"{v:.2f}" for v in worst[0])
        lines.append(f"Largest difference: {worst[1]:+.3g} lx at {place}")
    if c.light.matched < 0.999:
        lines.append(f"{100 * (1 - c.light.matched):.1f} % of the area has no partner in the other build")
    new = sum(state == "new" for _, state in c.faults.found)
    lines.append(f"Faults: {new} new, {len(c.faults.gone) + len(c.faults.taken_away)} gone, "
                 f"{len(c.faults.found) - new} still")  # fmt: skip
    apart = [setting_title(s.key).lower() for s in c.changes.conditions]
    for stage, x, y in times(c.a.manifest, c.b.manifest)[-1:]:
        under = f" (not comparable: {', '.join(apart[:3])} differ)" if apart else ""
        lines.append(f"Time, {stage}: {x or 0:.1f} s → {y or 0:.1f} s{under}")
    return "\n".join(lines)


def expect(build: Path, save: Path | None, against: Path | None) -> int:
    """`ropebell expect`: 1 if a build does not agree with the numbers."""
    result = open_result(build)
    if save is not None:
        try:
            write_expected(save, result)
        except OSError as error:
            raise UsageError(f"it cannot be written ({why(error)})", save, step(error)) from error
    if against is None:
        return 0
    check = check_expected(against, result)
    if check.agrees:
        say(f"It agrees at all of {check.places} places, in the energy of each bounce and in its faults.")
        return 0
    more = len(check.off) - MOST_LINES
    say("\n".join(["It does not agree:", *(f"  {line}" for line in check.off[:MOST_LINES]),
                   *([f"  and {more} more"] if more > 0 else [])]))  # fmt: skip
    return 1


def run_ledger(build: Path, in_json: bool) -> int:
    """`ropebell ledger`: where the time and memory of a build went."""
    found = ledger(open_result(build))
    if in_json:
        print(json.dumps(ledger_json(found)))
        return 0
    lines = []
    for what in ("stage", "object", "light"):
        lines.append(f"By {what}:")
        held = dict(found.by(what, quantity="memory_mb"))
        lines += [f"  {s:8.2f} s  {held.get(name, 0.0):7.1f} MB  {name}" for name, s in found.by(what)[:MOST_LINES]]
    own = dict(found.by("stage", quantity="memory_mb")).get(PROGRAM, 0.0)
    whole = f"{found.total:.2f} s in all, {found.memory_mb:,} MB at the peak, {own:,.0f} of them the program itself"
    say("\n".join([*lines, whole]))
    return 0


def run_advise(target: Path, build: Path, in_json: bool, no_project: bool = False) -> int:
    """`ropebell advise`: what would shorten builds, and what that costs."""
    project, result = project_of(target, no_project), open_result(build)
    project = replace(project, recipe=result.manifest.recipe)
    level, store = open_level(project.level), Store(project.cache)
    gathered = gather(level, project.brief, project.recipe, project.sky, project.tables, store=store)
    found = advise(project, gathered, result, calibrated([result.manifest]), learned(read_taken(project.folder)))
    if in_json:
        print(json.dumps(advice_json(found)))
        return 0
    lines = [
        f"{a.seconds[0]:7.1f} s → {a.seconds[1]:.1f} s, {100 * a.loss:.1f} % of what is seen changes: {a.title}"
        if not a.memory[0]
        else f"{a.memory[0]:7.1f} MB → {a.memory[1]:.1f} MB of pages, no light changes: {a.title}"
        for a in found
    ]
    say("\n".join(lines) or "Nothing would save a fiftieth of the time at a price worth it.")
    return 0
