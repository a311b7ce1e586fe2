"""The same fault in two builds: told by its kind, its object and its place, as its numbers change."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from ropebell.level.finding import Finding

# Two findings of one kind on one object are the same within this many metres, or within the width of either.
NEAR = 1.0


@dataclass(frozen=True)
class Seen:
    """Findings of a build beside those of the one before.

    Attributes:
        found: with "new", "still" or "known". gone: mended since then. taken_away: whose object is no longer there.
    """

    found: tuple[tuple[Finding, str], ...]
    gone: tuple[Finding, ...]
    taken_away: tuple[Finding, ...]

    @property
    def unknown(self) -> int:
        """How many nobody has taken note of."""
        return sum(state != "known" for _, state in self.found)


def same(a: Finding, b: Finding) -> bool:
    """Whether two findings are of one fault."""
    if a.kind != b.kind or a.object != b.object:
        return False
    if a.place is None or b.place is None:
        return a.place == b.place
    return math.dist(a.place, b.place) <= max(NEAR, *(math.sqrt(x.area or 0.0) for x in (a, b)))


def known_key(finding: Finding) -> str:
    """Under which a note on a finding is kept: with its place, where it is of a build's light."""
    if finding.proved is None or finding.place is None:
        return finding.key
    x, y, z = finding.place
    return f"{finding.key} @ {x:.1f},{y:.1f},{z:.1f}"


def note_on(finding: Finding, known: Mapping[str, str]) -> str:
    """The note by which a finding is fine here, empty if there is none."""
    if finding.key in known:
        return known[finding.key]
    reach = max(NEAR, math.sqrt(finding.area or 0.0))
    for key, note in known.items():
        head, at, where = key.rpartition(" @ ")
        if not at or head != finding.key or finding.place is None:
            continue
        try:
            x, y, z = (float(v) for v in where.split(","))
        except ValueError:
            continue
        if math.dist(finding.place, (x, y, z)) <= reach:
            return note
    return ""


def over_builds(
    found: Sequence[Finding], before: Sequence[Finding] | None, known: Mapping[str, str], objects: Collection[str],
    everywhere: bool = True,
) -> Seen:  # fmt: skip
    """Set findings apart by what was found before, and by what is known.

    Args:
        before: of the build before, None where there is none: then everything is new.
        known: notes by key. objects: paths that the level has now. everywhere: whether all of it was looked at, or is
            as it was; else nothing can be said to be gone.
    """
    left = list(before or ())
    told = []
    for finding in found:
        partners = [b for b in left if same(finding, b)]
        if partners:
            nearest = min(
                partners, key=lambda b: math.dist(b.place, finding.place) if b.place and finding.place else 0.0
            )
            left.remove(nearest)
        state = "known" if note_on(finding, known) else "still" if partners else "new"
        told.append((finding, state))
    if not everywhere:
        return Seen(tuple(told), (), ())
    # Several old ones may have grown into one.
    left = [b for b in left if not any(same(f, b) for f in found)]
    away = tuple(b for b in left if b.object and b.object not in objects)
    return Seen(tuple(told), tuple(b for b in left if b not in away), away)
