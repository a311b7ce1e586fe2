"""All checks in one go, and what is new since the last one."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Protocol

from ropebell import checks
from ropebell.checks.before import BEFORE, SHAPES
from ropebell.checks.detector import Detector
from ropebell.checks.subject import Subject
from ropebell.digest import digest_of
from ropebell.level.finding import SEVERITIES, Finding

# So many of one kind are told one by one.
MOST_OF_A_KIND = 60
# Most of the checks' time is spent in calls that release the interpreter lock.
THREADS = 2

# A detector is known by being in a module of this package.
for _module in pkgutil.iter_modules(checks.__path__, f"{checks.__name__}."):
    if _module.name != __name__:
        importlib.import_module(_module.name)
TITLES = BEFORE.titles
BLOCKING = BEFORE.blocking


class Shelf(Protocol):
    """Where findings are kept, by the parts they depend on and by detector."""

    def get(self, digest: str) -> dict[str, list[Finding]]:
        """What is known of these parts."""

    def put(self, digest: str, found: dict[str, list[Finding]]) -> None:
        """Keep it."""


def check(s: Subject, shelf: Shelf | None = None) -> list[Finding]:
    """Every finding before a build, gravest first; what the shelf knows of is not looked for again."""
    parts: dict[str, str] = {}
    found: dict[str, list[Finding]] = {}
    missing: dict[str, list[Detector[Subject]]] = {}
    shelves: dict[str, dict[str, list[Finding]]] = {}
    for one in BEFORE:
        digest = ""
        if shelf is not None and one.needs:
            parts |= {need: BEFORE.parts[need](s) for need in one.needs if need not in parts}
            digest = digest_of("findings", [[need, parts[need]] for need in one.needs])
            if digest not in shelves:
                shelves[digest] = shelf.get(digest)
        known = shelves.get(digest, {}).get(_mark(one))
        if known is None:
            missing.setdefault(digest, []).append(one)
        else:
            found[one.name] = known
    found |= _looked_for(s, [one for many in missing.values() for one in many])
    if shelf is not None:
        for digest, many in missing.items():
            if digest:
                shelf.put(digest, {**shelves[digest], **{_mark(one): found[one.name] for one in many}})
    return in_order(finding for one in BEFORE for finding in found[one.name])


def _mark(one: Detector[Subject]) -> str:
    return f"{one.name} {one.version}"


def _looked_for(s: Subject, detectors: list[Detector[Subject]]) -> dict[str, list[Finding]]:
    # Those that look at shapes take longest, and have the most to share out.
    detectors = sorted(detectors, key=lambda one: SHAPES not in one.needs)
    with ThreadPoolExecutor(THREADS, thread_name_prefix="checks") as pool:
        if len(s.baking) and any(SHAPES in one.needs for one in detectors):
            pool.submit(lambda: s.floors)  # and the tree of rays beneath it, while surfaces are welded here
            _ = s.welded
        lists = pool.map(lambda one: list(one.find(s)) if len(s.baking) or SHAPES not in one.needs else [], detectors)
        return {one.name: found for one, found in zip(detectors, lists)}


def in_order(found: Iterable[Finding]) -> list[Finding]:
    """Gravest first, within that as they came; of a kind that is all over the level, the first ones and the rest as
    one."""
    by_kind: dict[str, list[Finding]] = {}
    for finding in found:
        by_kind.setdefault(finding.kind, []).append(finding)
    kept: list[Finding] = []
    for many in by_kind.values():
        kept += many[:MOST_OF_A_KIND]
        rest = many[MOST_OF_A_KIND:]
        if rest:
            first = rest[0]
            reason = f"{first.reason} {len(rest) - 1:,} more are like it." if len(rest) > 1 else first.reason
            others = tuple(f.object for f in rest[1:])
            kept.append(replace(first, reason=reason, also=(*first.also, *others), fix=()))
    return sorted(kept, key=lambda f: SEVERITIES.index(f.severity))


@dataclass(frozen=True)
class Sorted:
    """Findings by what a person knows of them.

    Attributes:
        new: not there at the last check. old: there before. known: accepted with a note.
        gone: keys that were there and are not any more.
    """

    new: tuple[Finding, ...]
    old: tuple[Finding, ...]
    known: tuple[Finding, ...]
    gone: tuple[str, ...]


def sort_out(found: list[Finding], before: frozenset[str] | None, known: dict[str, str]) -> Sorted:
    """Set findings apart by what was there at the last check.

    Args:
        before: keys of the last check, None if there was none: then nothing counts as new.
        known: notes by key.
    """
    seen = {f.key for f in found}
    open_ = [f for f in found if f.key not in known]
    new = [f for f in open_ if before is not None and f.key not in before]
    old = [f for f in open_ if f not in new]
    gone = tuple(sorted((before or frozenset()) - seen))
    return Sorted(tuple(new), tuple(old), tuple(f for f in found if f.key in known), gone)
