"""Settings that match nothing in the level: told, never dropped."""

from __future__ import annotations

from collections.abc import Iterator

from ropebell.checks.before import BEFORE
from ropebell.checks.remedies import DROP_SETTINGS, RENAME
from ropebell.checks.subject import Subject
from ropebell.level.brief import Brief
from ropebell.level.finding import Finding
from ropebell.level.model import Level
from ropebell.level.renamed import renamed


@BEFORE.detector({"unmatched-mark": "Mark without an object"}, version=2)
def lost_settings(s: Subject) -> Iterator[Finding]:
    """Settings for what is not in the level."""
    yield from unmatched(s.level, s.brief)


def unmatched(level: Level, brief: Brief) -> list[Finding]:
    """Findings for settings whose node or material is not in the level; they are kept."""
    known = {node.path for node in level.nodes}
    materials = {material.name for material in level.materials}
    # What a note or a fixture names may be no object at all; it was one if its print is kept.
    lost = sorted((brief.paths() | brief.named() & brief.prints.keys()) - known)
    lost += sorted(brief.emitters.keys() - materials)
    again = renamed(level, brief)
    return [_finding(name, again.get(name)) for name in lost]


def _finding(name: str, now: str | None) -> Finding:
    what = f"A setting is kept for '{name}', which is not in the level."
    if now is None:
        remedy = "Rename it back, or drop the setting"
        return Finding("unmatched-mark", "warning", name, what, remedy, fix=DROP_SETTINGS.of(name))
    reason = f"{what} Is it what is called '{now}' now? That has the same shape in the same place."
    return Finding("unmatched-mark", "warning", name, reason, "Take the setting over, or drop it",
                   fix=RENAME.of(name, now), also=(now,), others=(DROP_SETTINGS.of(name),))  # fmt: skip
