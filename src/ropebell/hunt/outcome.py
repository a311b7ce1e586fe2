"""What a hunt found."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ropebell.files import read_json
from ropebell.hunt.fixes import Fix
from ropebell.hunt.steadiness import ABSENT, Verdict


@dataclass(frozen=True)
class FixTried:
    """A fix, and whether the fault shows with it.

    Attributes:
        again: the same with the whole level, as it is built in earnest. touches: what it newly runs into or nearly
            touches, of the one that is best. pixels: how many look otherwise from five places, and of how many.
        sight: pairs of sight cells that see each other, without it and with it; None where that is not known.
    """

    fix: Fix
    verdict: Verdict
    again: Verdict | None = None
    touches: tuple[str, ...] = ()
    pixels: tuple[int, int] = (0, 0)
    sight: tuple[int, int] | None = None


@dataclass
class Outcome:
    """What a hunt found.

    Attributes:
        shown: the condition shows on the whole level. culprits: each a list of (path, piece or None).
        carriers: paths of what had to be there to see it. rows: of the proof: what, what it should say, what it says.
        saved: seconds of a whole run, and of the shortest that shows the fault. words: what was found, in a sentence.
    """

    condition: str
    shown: bool = False
    control: Verdict = ABSENT
    culprits: list[list[tuple[str, str | None]]] = field(default_factory=list)
    carriers: list[str] = field(default_factory=list)
    proved: bool = False
    rows: list[tuple[str, Verdict, Verdict]] = field(default_factory=list)
    fixes: list[FixTried] = field(default_factory=list)
    trials: int = 0
    seconds: float = 0.0
    saved: tuple[float, float] = (0.0, 0.0)
    way: str = ""
    share: float = 1.0
    words: str = ""
    unknown: list[str] = field(default_factory=list)


def in_words(found: Outcome) -> str:
    """What a hunt found, in a sentence or two."""
    if not found.shown:
        seen = "cannot be told" if found.control != ABSENT else "does not show"
        return f"'{found.condition}' {seen} on the whole level: there is nothing to hunt."
    if not found.culprits:
        return " ".join([f"No culprit was found for '{found.condition}'.", *found.unknown])
    many = []
    for culprit in found.culprits:
        names = [node if piece is None else f"{node} ({piece})" for node, piece in culprit]
        many.append(" together with ".join(names))
    says = "Proved" if found.proved else "Likely, not proved"
    return f"{says}: {'; and '.join(many)}."


def sight_words(pairs: Sequence[int]) -> str:
    """What a fix does to sight, in a sentence.

    Args:
        pairs: of cells that see each other, without it and with it.
    """
    before, after = pairs
    more = after - before
    if not more:
        return f"As much can be seen as before: {before:,} pairs of sight cells."
    return f"{abs(more):,} pairs of sight cells {'more' if more > 0 else 'fewer'} see each other, of {before:,}."


def as_json(found: Outcome) -> dict[str, Any]:
    """As the command line's contract has it."""
    culprit = [
        {"node": node, "piece": piece, "group": number}
        for number, group in enumerate(found.culprits)
        for node, piece in group
    ]
    fixes = [
        {"what": t.fix.what, "node": t.fix.node, "amount": round(t.fix.amount, 4), "unit": t.fix.unit,
         "verdict": t.verdict, "changed": round(t.fix.changed, 4), "again": t.again,
         "touches": list(t.touches), "pixels": list(t.pixels),
         "sight": list(t.sight) if t.sight is not None else None, "edit": t.fix.edit or None}
        for t in found.fixes
    ]  # fmt: skip
    return {
        "condition": found.condition, "shown": found.shown, "control": found.control, "trials": found.trials,
        "seconds": round(found.seconds, 3), "culprit": culprit, "carriers": found.carriers, "proved": found.proved,
        "proof": [{"what": what, "expected": should, "verdict": says} for what, should, says in found.rows],
        "fixes": fixes, "shortest": {"how": found.way, "seconds": [round(s, 3) for s in found.saved]},
        "shows_in": found.share, "words": found.words, "unknown": found.unknown,
    }  # fmt: skip


def read_result(path: Path) -> dict[str, Any]:
    """What a hunt found, as it was kept; empty where nothing is, or it is not what a hunt writes."""
    try:
        v = read_json(path)
        shortest = v.get("shortest") or {}
        first, second = (float(s) for s in shortest.get("seconds") or (0.0, 0.0))
        return {
            "words": str(v["words"]), "proved": bool(v["proved"]), "trials": int(v["trials"]),
            "seconds": float(v["seconds"]), "shows_in": float(v.get("shows_in", 1.0)),
            "shortest": {"how": str(shortest.get("how", "")), "seconds": [first, second]},
            "culprit": [{"node": str(c["node"]), "piece": c.get("piece")} for c in v["culprit"]],
            "proof": [{key: str(row[key]) for key in ("what", "expected", "verdict")} for row in v["proof"]],
            "fixes": [_fix_of(f) for f in v["fixes"]],
            "workers": {str(name): str(says) for name, says in (v.get("workers") or {}).items()},
        }  # fmt: skip
    except (OSError, ValueError, LookupError, TypeError, AttributeError, OverflowError):
        return {}


def _fix_of(f: dict[str, Any]) -> dict[str, Any]:
    edit = f.get("edit")
    return {
        **{key: str(f[key]) for key in ("what", "node", "unit", "verdict")},
        "amount": float(f["amount"]), "changed": float(f["changed"]),
        "again": None if f.get("again") is None else str(f["again"]),
        "touches": [str(path) for path in f.get("touches") or ()],
        "pixels": [int(v) for v in f.get("pixels") or (0, 0)], "sight": [int(v) for v in f.get("sight") or ()],
        "edit": edit if isinstance(edit, dict) else None,
    }  # fmt: skip
