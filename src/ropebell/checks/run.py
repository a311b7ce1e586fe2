"""All checks in one go, and what is new since the last one."""

from __future__ import annotations

from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

from ropebell.checks import contacts, coordinates, emitters, grid, lights, settings, shapes
from ropebell.checks.contents import contents
from ropebell.checks.subject import Subject
from ropebell.checks.welded import Welded
from ropebell.level.finding import SEVERITIES, Finding
from ropebell.level.unmatched import unmatched

# So many of one kind are told one by one.
MOST_OF_A_KIND = 60
# Most of the checks' time is spent in calls that release the interpreter lock.
THREADS = 2


def check(s: Subject) -> list[Finding]:
    """Every finding before a build, gravest first."""
    found = contents(s.level, s.baking, s.sky)
    found += geometry(s)
    found += arrangement(s)
    found += lighting(s)
    return in_order(found)


def geometry(s: Subject) -> list[Finding]:
    """Findings that depend on shapes, marks and where lights stand."""
    if not len(s.baking):
        return []
    with ThreadPoolExecutor(THREADS, thread_name_prefix="checks") as pool:
        pool.submit(lambda: s.floors)  # and the tree of rays beneath it, while surfaces are welded here
        welded = Welded.of(s.baking, s.sizes)
        # The longest first; the order of the list of findings is `in_order`'s.
        rooms = [
            contacts.near_and_crossing(s, welded), shapes.slivers(s), shapes.inside_out(s, welded),
            shapes.open_sheets(s, welded), shapes.odd_angles(s), grid.off_grid(s), shapes.costly_blockers(s),
            shapes.opened_hull(s), shapes.thin_walls(s, welded), contacts.coplanar(s, welded),
            coordinates.coordinates(s), coordinates.tiny_charts(s),
        ]  # fmt: skip
        return [finding for found in pool.map(list[Finding], rooms) for finding in found]


def arrangement(s: Subject) -> list[Finding]:
    """Findings that depend on shapes and on what was decided about them."""
    return [*settings.density(s), *settings.region_and_distance(s), *settings.poses_and_props(s)]


def lighting(s: Subject) -> list[Finding]:
    """Findings that depend on lights, emitters and sky, and on all that was decided."""
    return [
        *lights.standing(s), *lights.modes(s), *lights.live_overlap(s), *lights.fixtures(s), *emitters.glowing(s),
        *emitters.tables(s), *emitters.sky(s), *unmatched(s.level, s.brief),
    ]  # fmt: skip


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
