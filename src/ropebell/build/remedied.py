"""Remedies that were tried on faults, and whether they helped, kept beside the project."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from ropebell.build.scope import EVERYTHING, Scope
from ropebell.faults.over_builds import same
from ropebell.files import read_kept, write_json
from ropebell.level.finding import Finding

FILE = "remedies.json"
# Less than this change of a measure is none.
CHANGE = 0.1
MOST = 500


@dataclass(frozen=True)
class Tried:
    """A remedy that was applied.

    Attributes:
        finding: what it was for. remedy: in words. build: that showed the fault.
        after: the build by which it was judged, 0 while there is none. verdict: helped, less, no change, worse; empty
            until then.
    """

    finding: Finding
    remedy: str
    build: int
    after: int = 0
    verdict: str = ""


def read_tried(folder: Path) -> list[Tried]:
    """What was tried in a project; nothing where nothing is kept, or it is damaged."""
    return read_kept(folder / FILE, "tried", _of)


def _of(values: dict[str, Any]) -> Tried:
    finding = Finding.of(values["finding"])
    return Tried(finding, str(values["remedy"]), int(values["build"]), int(values["after"]), str(values["verdict"]))


def write_tried(folder: Path, tried: Sequence[Tried]) -> None:
    """Keep it, whole or not at all.

    Raises:
        OSError: the folder cannot be written.
    """
    values = [{**asdict(t), "finding": t.finding.as_json()} for t in tried[-MOST:]]
    write_json(folder / FILE, {"tried": values})


def judged(
    tried: Sequence[Tried], build: int, found: Sequence[Finding], scope: Scope = EVERYTHING
) -> list[Tried]:  # fmt: skip
    """The same, with those judged that were applied before a build which lit their objects.

    Args:
        found: of the build. scope: what it lit.
    """

    def told(t: Tried) -> Tried:
        if t.verdict or build <= t.build or not scope.lights(t.finding.object):
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
