"""Remedies that were tried on faults, and whether they helped, kept beside the project."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from ropebell.build.recipe import Recipe
from ropebell.build.scope import EVERYTHING, Scope
from ropebell.faults.over_builds import same
from ropebell.files import read_kept, write_json
from ropebell.level.brief import Brief, to_values
from ropebell.level.finding import Finding

FILE = "remedies.json"
# Less than this change of a measure is none.
CHANGE = 0.1
MOST = 500
Changed = tuple[tuple[tuple[str, ...], Any], ...]


@dataclass(frozen=True)
class Tried:
    """A remedy that was applied.

    Attributes:
        finding: what it was for. remedy: in words. build: that showed the fault.
        after: the build by which it was judged, 0 while there is none. verdict: helped, less, no change, worse; empty
            until then.
        changed: what it set, as places among the values of brief and recipe and what stands there, None for nothing.
    """

    finding: Finding
    remedy: str
    build: int
    after: int = 0
    verdict: str = ""
    changed: Changed = ()

    def held_by(self, brief: Brief, recipe: Recipe) -> bool:
        """Tells if these settings are as the remedy made them."""
        return holds(self.changed, brief, recipe)


def holds(changed: Changed, brief: Brief, recipe: Recipe) -> bool:
    """Tells if these settings are as a change made them."""
    values = _flat(_values(brief, recipe))
    return all(values.get(key) == value for key, value in changed)


def changed_from(values: Any) -> Changed:
    """Reads a change back as JSON keeps it."""
    return tuple((tuple(str(part) for part in key), value) for key, value in values)


def changed_by(before: tuple[Brief, Recipe], after: tuple[Brief, Recipe]) -> Changed:
    """Lists the values that differ before and after a remedy."""
    old, new = _flat(_values(*before)), _flat(_values(*after))
    return tuple((key, new.get(key)) for key in sorted({*old, *new}) if old.get(key) != new.get(key))


def _values(brief: Brief, recipe: Recipe) -> dict[str, Any]:
    # As JSON has them, which is how they are kept.
    settings = recipe.model_dump(exclude={"name"})  # a name changes no light
    found: dict[str, Any] = json.loads(json.dumps({"brief": to_values(brief), "recipe": settings}))
    return found


def _flat(values: Any, at: tuple[str, ...] = ()) -> dict[tuple[str, ...], Any]:
    """Single values by their places in nested ones; a list is one."""
    if not isinstance(values, dict):
        return {at: values}
    return {key: value for name, inner in values.items() for key, value in _flat(inner, (*at, name)).items()}


def not_undone(tried: Sequence[Tried], brief: Brief, recipe: Recipe) -> list[Tried]:
    """The same without remedies that were taken back before any build judged them."""
    return [t for t in tried if t.verdict or t.held_by(brief, recipe)]


def read_tried(folder: Path) -> list[Tried]:
    """What was tried in a project; nothing where nothing is kept, or it is damaged."""
    return read_kept(folder / FILE, "tried", _of)


def _of(values: dict[str, Any]) -> Tried:
    finding = Finding.of(values["finding"])
    changed = changed_from(values.get("changed", ()))
    return Tried(
        finding, str(values["remedy"]), int(values["build"]), int(values["after"]), str(values["verdict"]), changed
    )  # fmt: skip


def write_tried(folder: Path, tried: Sequence[Tried]) -> None:
    """Keep it, whole or not at all.

    Raises:
        OSError: the folder cannot be written.
    """
    values = [{**asdict(t), "finding": t.finding.as_json()} for t in tried[-MOST:]]
    write_json(folder / FILE, {"tried": values})


def judged(
    tried: Sequence[Tried], build: int, found: Sequence[Finding], scope: Scope = EVERYTHING,
    settings: tuple[Brief, Recipe] | None = None,
) -> list[Tried]:  # fmt: skip
    """The same, with those judged that a build holds which lit their objects.

    Args:
        found: of the build. scope: what it lit. settings: what it was built with; None: what is tried now.
    """

    def told(t: Tried) -> Tried:
        if t.verdict or build <= t.build or not scope.lights(t.finding.object):
            return t
        # One that was applied while the build ran, or undone before it, is not in it.
        if settings is not None and not t.held_by(*settings):
            return t
        return replace(t, after=build, verdict=_verdict(t, found))

    return [told(t) for t in tried]


def _verdict(t: Tried, found: Sequence[Finding]) -> str:
    partners = [f for f in found if same(f, t.finding)]
    if not partners:
        return "helped"
    before, now = _how_bad(t.finding), max(_how_bad(f) for f in partners)
    if now < (1 - CHANGE) * before:
        return "less"
    return "worse" if now > (1 + CHANGE) * before else "no change"


def _how_bad(finding: Finding) -> float:
    """A number that is larger the worse it is: how much, times on how much."""
    value = finding.measure[0] if finding.measure is not None else 1.0
    return value * (finding.area if finding.area else 1.0)


def record(tried: Sequence[Tried], finding: Finding) -> str:
    """What is known of earlier tries on a fault, in a sentence; empty if nothing is."""
    mine = [t for t in tried if same(t.finding, finding)]
    if not mine:
        return ""
    words = {"helped": "helped", "less": "made it less", "no change": "changed nothing", "worse": "made it worse"}
    last = mine[-1]
    if not last.verdict:
        return f"{last.remedy} is applied; the next build shows whether it helps."
    return f"Tried after build {last.build}: {last.remedy.lower()} {words[last.verdict]}, as build {last.after} shows."
