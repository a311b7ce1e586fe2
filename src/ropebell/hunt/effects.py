"""What a fix does beside making a fault go away."""

from __future__ import annotations

from ropebell.build.precheck import gather
from ropebell.build.request import Request
from ropebell.checks.run import check
from ropebell.hunt.fixes import Fix
from ropebell.level.brief import Brief
from ropebell.level.model import Level

# Checks of how two objects stand to each other.
CONTACTS = ("coplanar", "hair-gap", "crossing")


def newly_touched(level: Level, fix: Fix, request: Request) -> tuple[str, ...]:
    """Paths of objects that the mended one runs into, lies in one plane with, or nearly touches, and did not before.

    Args:
        level: without the fix. request: how it is built.
    """
    before = _contacts(level, request.brief, fix.node, request)
    after = _contacts(fix.level(level), fix.brief(request.brief), fix.node, request)
    return tuple(sorted({other for _, other in after - before}))


def _contacts(level: Level, brief: Brief, node: str, request: Request) -> set[tuple[str, str]]:
    """(kind, other object) of all that one object has to do with."""
    found = set[tuple[str, str]]()
    for f in check(gather(level, brief, request.recipe, request.sky, request.tables).subject):
        if f.kind in CONTACTS and node in (f.object, *f.also):
            found |= {(f.kind, other) for other in (f.object, *f.also) if other != node}
    return found
