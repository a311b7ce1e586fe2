"""What a finding's button changes: a pure step from one brief to the next, so it can be undone."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

from ropebell.level.brief import NO_MARK, Brief, LightChange, Mark, Move, TrialDensity
from ropebell.level.finding import Finding
from ropebell.level.renamed import with_renamed, without


def apply_fix(brief: Brief, finding: Finding) -> Brief:
    """The brief with a finding's remedy applied.

    Raises:
        ValueError: the finding has none, or one of an unknown kind.
    """
    if not finding.fix:
        raise ValueError(f"{finding.kind} has no remedy that could be applied")
    verb, *rest = finding.fix
    if verb == "mark":
        path, key, value = rest
        return with_marks(brief, (path,), key, _value(value))
    if verb == "marks":
        key, value, *paths = rest
        return with_marks(brief, tuple(paths), key, _value(value))
    if verb == "clear-bias":
        return with_marks(brief, (rest[0],), "bias", {})
    if verb == "light":
        path, key, value = rest
        change = brief.lights.get(path, LightChange())
        return replace(brief, lights={**brief.lights, path: replace(change, **{key: _value(value)})})
    if verb == "move":
        path, value = rest
        shift, turn, scale = json.loads(value)
        return replace(brief, moves={**brief.moves, path: Move(tuple(shift), tuple(turn), scale)})
    if verb == "drop-table":
        return replace(brief, tables=tuple(t for t in brief.tables if t != rest[0]))
    if verb == "own-density":
        return replace(brief, test_density=TrialDensity(brief.test_density.factor))
    if verb == "sky-counts":
        sky = replace(brief.sky_now, counts=True)
        return replace(brief, skies={**brief.skies, brief.sky: sky})
    if verb == "rename":
        return with_renamed(brief, *rest)
    if verb == "drop-settings":
        return without(brief, rest[0])
    raise ValueError(f"there is no remedy '{verb}'")


def other_fix(finding: Finding) -> Finding | None:
    """A finding with the second thing that can be done about it, None where there is one thing only."""
    if finding.fix and finding.fix[0] == "rename":
        return replace(finding, fix=("drop-settings", finding.fix[1]))
    return None


ACTS = {
    ("mark", "role"): "Leave it out",
    ("marks", "role"): "Leave them out",
    ("mark", "unwrap"): "Unwrap it for good",
    ("mark", "two_sided"): "Make it two-sided",
    ("mark", "density"): "Give it the level's density",
    ("mark", "pose"): "Bake the usual pose",
    ("light", "enabled"): "Switch it off",
    ("light", "mode"): "Bake it",
    ("clear-bias", ""): "Clear the bias",
    ("own-density", ""): "Own density again",
    ("drop-table", ""): "Take it off the list",
    ("sky-counts", ""): "Let it count",
    ("move", ""): "Move it onto the grid",
    ("rename", ""): "Take it over",
    ("drop-settings", ""): "Drop the setting",
}


def act(finding: Finding) -> str:
    """What a finding's button does, in two to five words; empty where it has none."""
    if not finding.fix:
        return ""
    verb, *rest = finding.fix
    key = {"mark": 1, "light": 1, "marks": 0}.get(verb)
    name = rest[key] if key is not None else ""
    if (verb, name) == ("mark", "blocks_sight"):
        return "Let it block sight" if _value(rest[2]) else "Let it not block sight"
    return ACTS[verb, name]


def with_marks(brief: Brief, paths: tuple[str, ...], key: str, value: Any, branch: bool = False) -> Brief:
    """One setting of many objects changed; marks that then say nothing are dropped.

    Args:
        value: None leaves the setting to what is above again.
        branch: for everything below as well.
    """
    table = dict(brief.branches if branch else brief.marks)
    for path in paths:
        mark: Mark = replace(table.get(path, NO_MARK), **{key: value})
        if mark == NO_MARK:
            table.pop(path, None)
        else:
            table[path] = mark
    return replace(brief, branches=table) if branch else replace(brief, marks=table)


def with_density_set(brief: Brief, name: str) -> Brief:
    """Every object's own factor as the set has it; objects that are not in the set get none."""
    factors = brief.sets.get(name, {})
    for path in {p for p, m in brief.marks.items() if m.density is not None} | factors.keys():
        brief = with_marks(brief, (path,), "density", factors.get(path))
    return brief


def _value(text: str) -> Any:
    """A fix's value: JSON, or the text itself."""
    try:
        return json.loads(text)
    except json.JSONDecodeError:
        return text
