"""The case of a hunt, written up: one HTML file that can be sent to whoever owns the level or the compiler, with the
least fix beside it as a small glTF and as instructions in text."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from pathlib import Path

import numpy as np

import ropebell
from ropebell.deliver.page import escaped, page, table
from ropebell.files import write_bytes, write_text
from ropebell.hunt.outcome import FixTried, Outcome, sight_words
from ropebell.hunt.record import Entry
from ropebell.hunt.steadiness import ABSENT, PRESENT
from ropebell.level.gltf_write import plain_glb
from ropebell.level.model import F64, Level
from ropebell.level.subset import objects, subset

CASE = "case.html"
# Pixels of the plans, and of the map of trials.
PLAN, ROW = 420, 14
SHADES = {PRESENT: "#8a6a42", ABSENT: "#b9b9b9"}


def write_case(folder: Path, found: Outcome, entries: Sequence[Entry], level: Level, name: str) -> None:
    """Write the case, and the least fix that held, into a folder that is there.

    Args:
        level: as it was hunted on. name: of the level, for people.

    Raises:
        OSError: the disk is full or cannot be written.
    """
    best = next((t for t in found.fixes if t.verdict == ABSENT and t.again == ABSENT), None)
    if best is not None:
        _write_patch(folder, best, level)
    write_text(folder / CASE, case_html(found, entries, level, name, best))


def _write_patch(folder: Path, best: FixTried, level: Level) -> None:
    """The object with its fix, alone and in place."""
    fixed = best.fix.level(level)
    node = next(i for i, n in enumerate(fixed.nodes) if n.path == best.fix.node)
    alone = subset(fixed, frozenset([node]))
    write_bytes(folder / "fix.glb", plain_glb(alone, f"Rope Bell {ropebell.__version__}"))
    write_text(folder / "fix.txt", "\n".join(instructions(best)) + "\n")


def instructions(tried: FixTried) -> list[str]:
    """What a person does in any editor."""
    fix = tried.fix
    amount = f" by {fix.amount:g} {fix.unit}" if fix.unit in ("degrees", "mm") else ""
    lines = [f"Object: {fix.node}", f"What to do: {fix.what}{amount}."]
    if fix.move is not None:
        m = fix.move
        lines.append(f"In its own frame: shift {m.move} metres, turn {m.turn} degrees about X, then Y, then Z.")
    lines += [
        f"No point of it moves by more than {fix.changed:.3g} mm.",
        f"What it then runs into or nearly touches, and did not before: {', '.join(tried.touches) or 'nothing'}.",
        f"Pixels that then look otherwise, seen from five places: {tried.pixels[0]:,} of {tried.pixels[1]:,}.",
        *([sight_words(tried.sight)] if tried.sight is not None else []),
        "Or take the object out of fix.glb, where it stands in its place, in place of the old one.",
        "Then build, and look whether the fault is gone: it was, on a fresh copy of the whole level.",
    ]
    return lines


def case_html(
    found: Outcome, entries: Sequence[Entry], level: Level, name: str, best: FixTried | None
) -> str:  # fmt: skip
    """The page."""
    e = escaped
    boxes = _boxes(level)
    culprits = {node for group in found.culprits for node, _ in group}
    shown = f"{100 * found.share:.0f} % of the runs" if found.share < 1 else "every run"
    shows = f"in {shown} of what has it" if found.shown else "no"
    facts = [
        ("Level", name), ("Looked for", found.condition), ("Shows", shows),
        ("Built as", found.way or "by the command from outside"), ("Trials", f"{found.trials}, {found.seconds:.0f} s"),
        ("Written", f"{datetime.date.today().isoformat()} by Rope Bell {ropebell.__version__}"),
    ]  # fmt: skip
    parts = [f"<h1>{e(name)}: {e(found.condition)}</h1>", f"<p class=lead>{e(found.words)}</p>", table((), facts)]
    parts.append(f"<div class=plans>{_plan(boxes, culprits, entries, (0, 2), 'From above')}"
                 f"{_plan(boxes, culprits, entries, (0, 1), 'From the front')}</div>")  # fmt: skip
    if found.rows:
        parts.append("<h2>Proof</h2>")
        parts.append(table(("Trial", "Has to be", "Is"), [(what, should, says) for what, should, says in found.rows]))
    if found.carriers:
        parts.append(f"<p>To see the fault, these had to be there as well: {e(', '.join(found.carriers))}.</p>")
    if found.fixes:
        parts.append("<h2>Fixes tried</h2>")
        rows = [
            (t.fix.node, t.fix.what, f"{t.fix.amount:g} {t.fix.unit}" if t.fix.unit else "", f"{t.fix.changed:.3g}",
             t.verdict, t.again or "") for t in found.fixes
        ]  # fmt: skip
        parts.append(table(("Object", "What", "How much", "Moved at most, mm", "Fault is", "On the whole level"), rows))
    if best is not None:
        lines = "".join(f"<li>{e(line)}</li>" for line in instructions(best))
        parts.append(f"<h2>The least fix that held</h2><ul>{lines}</ul>")
    parts.append("<h2>What stays unknown</h2>")
    parts.append("<ul>" + "".join(f"<li>{e(line)}</li>" for line in _unknown(found)) + "</ul>")
    parts.append(f"<h2>Trials</h2>{_map(entries)}")
    runs = [
        (number + 1, entry.phase, entry.what, f"{entry.objects:,}", entry.run.verdict, f"{entry.run.seconds:.1f}",
         entry.run.told, ", ".join(entry.some) if entry.objects <= len(entry.some) else "")
        for number, entry in enumerate(entries)
    ]  # fmt: skip
    parts.append(table(("", "Phase", "What for", "In", "Fault is", "Seconds", "Told", "Which"), runs))
    return page(f"{name}: {found.condition}", "\n".join(parts))


def _unknown(found: Outcome) -> list[str]:
    lines = list(found.unknown)
    if not found.proved and found.culprits:
        wrong = [what for what, should, says in found.rows if should != says]
        lines.append(f"It is not proved: {'; '.join(wrong) or 'the search ended early'}.")
    if found.fixes and not any(t.again == ABSENT for t in found.fixes):
        lines.append("No fix that was tried held on the whole level.")
    lines.append("Why the arithmetic of the builder stumbles over it: a trial shows that it does, not how.")
    return lines


def _boxes(level: Level) -> list[tuple[str, F64, F64]]:
    found = []
    for i in objects(level):
        n = level.nodes[i]
        spots = np.concatenate([p.positions.astype(np.float64) for p in level.meshes[n.mesh].primitives])
        world = spots @ n.world[:3, :3].T + n.world[:3, 3]
        found.append((n.path, world.min(axis=0), world.max(axis=0)))
    return found


def _plan(
    boxes: list[tuple[str, F64, F64]], culprits: set[str], entries: Sequence[Entry], axes: tuple[int, int], title: str
) -> str:  # fmt: skip
    """Boxes of all objects, the shrinking boxes of the search, the culprit filled and ringed."""
    if not boxes:
        return ""
    pick = list(axes)
    low = np.min([b[1] for b in boxes], axis=0)[pick]
    high = np.max([b[2] for b in boxes], axis=0)[pick]
    scale = PLAN / max(float((high - low).max()), 1e-9)
    up = axes[1] == 1

    def rect(a: F64, b: F64, style: str) -> str:
        x, y = (a - low) * scale
        w, h = np.maximum((b - a) * scale, 0.5)
        top = (high[1] - low[1]) * scale - y - h if up else y
        return f'<rect x="{x:.1f}" y="{top:.1f}" width="{w:.1f}" height="{h:.1f}" {style}/>'

    shapes = [rect(a[pick], b[pick], 'fill="none" stroke="#999" stroke-width=".4"') for _, a, b in boxes]
    seen = [np.array(x.box) for x in entries if x.phase == "search" and x.run.verdict == PRESENT and len(x.box) == 6]
    shapes += [rect(s[:3][pick], s[3:][pick], 'fill="none" stroke="#8a6a42" stroke-width="1"') for s in seen]
    for path, a, b in boxes:
        if path in culprits:
            x, y = ((a + b) / 2)[pick] - low
            top = (high[1] - low[1] - y) * scale if up else y * scale
            shapes.append(rect(a[pick], b[pick], 'fill="#b06a1a" stroke="#b06a1a"'))
            shapes.append(
                f'<circle cx="{x * scale:.1f}" cy="{top:.1f}" r="9" fill="none" stroke="#b06a1a" stroke-width="2"/>'
            )
    w, h = (high - low) * scale + 24
    return (f'<figure><svg viewBox="-12 -12 {w:.0f} {h:.0f}" width="{w:.0f}">{"".join(shapes)}</svg>'
            f"<figcaption>{escaped(title)}</figcaption></figure>")  # fmt: skip


def _map(entries: Sequence[Entry]) -> str:
    """Each run as a bar as long as what was in, on a scale of logarithms; filled where the fault showed."""
    most = max((entry.objects for entry in entries), default=1)
    shapes = []
    for number, entry in enumerate(entries):
        wide = 10 + 380 * float(np.log2(entry.objects + 1) / np.log2(most + 2))
        verdict = entry.run.verdict
        style = f'fill="{SHADES[verdict]}"' if verdict == PRESENT else 'fill="none" stroke="#777"'
        dash = "" if verdict in SHADES else ' stroke-dasharray="2 2"'
        shapes.append(
            f'<rect x="30" y="{number * ROW + 2}" width="{wide:.0f}" height="{ROW - 5}" {style}{dash}/>'
            f'<text x="0" y="{number * ROW + 11}" font-size="10">{number + 1}</text>'
            f'<text x="{wide + 36:.0f}" y="{number * ROW + 11}" font-size="10">{entry.objects:,}</text>'
        )
    return f'<svg width="480" height="{len(entries) * ROW + 4}">{"".join(shapes)}</svg>'
