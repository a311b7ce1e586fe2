"""A build's journal as a person reads it: by stage, what was found grouped, and whether it is new, old or gone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from ropebell.build.events import End, Event, Fact, Stage, Warned
from ropebell.build.knots import Knot
from ropebell.build.stages import STAGES, WORDS
from ropebell.level.finding import Finding

# Groups that are no stage.
ENDED, GONE = "Why it ended", "Gone since the build before"
WEIGHT = {"error": 0, "warning": 1, "note": 2}


@dataclass(frozen=True)
class Line:
    """One line.

    Attributes:
        severity: error, warning, note; empty for what is no finding. object: path of a node, or empty.
        place: where, None for nowhere. count: how many like it, of other objects, it stands for. since: such as
            "new", "since build 4", "again, last in build 2".
    """

    text: str
    severity: str = ""
    object: str = ""
    place: tuple[float, float, float] | None = None
    count: int = 1
    since: str = ""


@dataclass(frozen=True)
class Group:
    """What is told of one stage.

    Attributes:
        title: of the stage. seconds: it took. state: done, reused, begun (it never ended).
    """

    title: str
    seconds: float = 0.0
    state: str = "done"
    lines: tuple[Line, ...] = ()


@dataclass
class _Gathering:
    seconds: float = 0.0
    state: str = "begun"
    items: int = 0
    lines: list[Line] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)


def grouped(events: Sequence[Event], number: int, knots: Sequence[Knot]) -> list[Group]:
    """A journal by stage, in working order; why it ended, where it was not done, comes first, and what is gone since
    the build before last.

    Args:
        number: of the build. knots: all builds, oldest first, by which it is told what is new.
    """
    stages: dict[str, _Gathering] = {}
    now, end = "scene", None
    for event in events:
        if isinstance(event, Stage):
            now = event.stage
            mine = stages.setdefault(now, _Gathering())
            if event.state != "begun":
                mine.items += 1
                mine.seconds += event.seconds
                mine.state = "done" if event.state == "done" or mine.state == "done" else "reused"
                if event.item:
                    took = "re-used" if event.state == "reused" else f"{event.seconds:.2f} s"
                    mine.lines.append(Line(f"{event.item}: {took}"))
            elif mine.items == 0:
                mine.state = "begun"
        elif isinstance(event, Warned):
            stages.setdefault(now, _Gathering()).findings.append(event.finding)
        elif isinstance(event, Fact):
            line = _fact(event)
            if line is not None:
                stages.setdefault(now, _Gathering()).lines.append(line)
        elif isinstance(event, End):
            end = event
    order = {stage.name: index for index, stage in enumerate(STAGES)}
    groups = []
    for name in sorted(stages, key=lambda n: order.get(n, len(order))):
        mine = stages[name]
        lines = (*_merged(mine.findings, number, knots), *mine.lines)
        groups.append(Group(WORDS.get(name, name), mine.seconds, mine.state, lines))
    gone = _gone({f.key for mine in stages.values() for f in mine.findings}, number, knots)
    if gone:
        groups.append(Group(GONE, lines=gone))
    if end is not None and end.outcome != "done":
        # It is read for this first.
        groups.insert(0, Group(ENDED, end.t, "begun", (Line(end.message, "error", end.object),)))
    return groups


def _fact(event: Fact) -> Line | None:
    values = event.values
    if event.event == "note":
        return Line(str(values.get("text", "")))
    if event.event == "kept":
        return Line(f"{values.get('texels', 0):,} of {values.get('of', 0):,} texels are as in an earlier build")
    if event.event == "shot":
        return Line(f"{values.get('rays', 0):,} rays shot, {values.get('kept', 0):,} taken over")
    if event.event == "energy":
        bounces = values.get("bounces", [])
        told = ", ".join(f"{float(lux):.3g}" for lux in bounces[:9]) if isinstance(bounces, list) else ""
        return Line(f"lux that each bounce adds, direct light first: {told}")
    return None


def _merged(findings: list[Finding], number: int, knots: Sequence[Knot]) -> list[Line]:
    """Findings of one kind and wording as one line, the heaviest first."""
    alike: dict[tuple[str, str], list[Finding]] = {}
    for finding in findings:
        alike.setdefault((finding.kind, finding.reason), []).append(finding)
    lines = []
    for some in alike.values():
        first = some[0]
        since = {history(f.key, number, knots) for f in some}
        name = first.object.rsplit("/", 1)[-1]
        text = f"{name}: {first.reason}" if name else first.reason
        if len(some) > 1:
            text = f"{len(some)} objects: {first.reason}"
        told = since.pop() if len(since) == 1 else ""
        lines.append(Line(text, first.severity, first.object, first.place, len(some), told))
    return sorted(lines, key=lambda line: WEIGHT.get(line.severity, 3))


def history(key: str, number: int, knots: Sequence[Knot]) -> str:
    """Whether a finding was there before.

    Args:
        key: of the finding. number: of the build that has it now.
    """
    before = [knot for knot in knots if knot.number < number]
    had = [knot.number for knot in before if key in knot.findings]
    if not before:
        return ""
    if not had:
        return "new"
    if had[-1] != before[-1].number:
        return f"again, last in build {had[-1]}"
    first = had[-1]
    for knot in reversed(before):
        if key not in knot.findings:
            break
        first = knot.number
    return f"since build {first}"


def _gone(keys: set[str], number: int, knots: Sequence[Knot]) -> tuple[Line, ...]:
    before = [knot for knot in knots if knot.number < number and knot.outcome.state == "done"]
    if not before:
        return ()
    lost = [key for key in before[-1].findings if key not in keys]
    return tuple(Line(key, since=f"was in build {before[-1].number}") for key in lost)


def as_text(groups: Sequence[Group], title: str) -> str:
    """The same as plain text, for a mail or a ticket."""
    lines = [title, ""]
    for group in groups:
        state = {"reused": "re-used", "begun": "not ended"}.get(group.state, f"{group.seconds:.1f} s")
        lines.append(f"{group.title} ({state})")
        for line in group.lines:
            weight = f"{line.severity}: " if line.severity else ""
            about = f" [{line.object}]" if line.object else ""
            since = f" ({line.since})" if line.since else ""
            lines.append(f"  {weight}{line.text}{about}{since}")
    return "\n".join(lines) + "\n"
