"""`ropebell compare`: what changed between two builds, and because of what."""

from __future__ import annotations

import json
from pathlib import Path

from ropebell.cli.said import say
from ropebell.compare.compare import Comparison, as_json, compare, in_words, times
from ropebell.deliver.compared import as_html
from ropebell.errors import UsageError, step, why
from ropebell.files import write_text


def run_compare(a: Path, b: Path, in_json: bool, page: Path | None) -> int:
    """`ropebell compare`: 1 if the light differs beyond noise."""
    found = compare(a, b)
    if page is not None:
        try:
            write_text(page, as_html(found))
        except OSError as error:
            raise UsageError(f"it cannot be written ({why(error)})", page, step(error)) from error
    if in_json:
        print(json.dumps(as_json(found)))
    else:
        say(_lines(found))
    return 1 if found.light.differ else 0


def _lines(c: Comparison) -> str:
    lines = [in_words(c)]
    lines += [f"  {s.key}: {s.a} → {s.b}" for s in c.changes.settings]
    lines += [f"  {x.node}: {x.what}" for x in c.changes.contents[:20]]
    if len(c.changes.contents) > 20:
        lines.append(f"  and {len(c.changes.contents) - 20} more")
    if len(c.changes.of_light) > 1:
        lines.append("More than one thing changed:")
        lines += [f"  {100 * x.share:5.1f} %  {x.name}" for x in c.causes.causes]
    if c.causes.told:
        lines.append(c.causes.told)
    if (worst := c.worst) is not None:
        place = ", ".join(f"{v:.2f}" for v in worst[0])
        lines.append(f"Largest difference: {worst[1]:+.3g} lx at {place}")
    if c.light.matched < 0.999:
        lines.append(f"{100 * (1 - c.light.matched):.1f} % of the area has no partner in the other build")
    new = sum(state == "new" for _, state in c.faults.found)
    lines.append(f"Faults: {new} new, {len(c.faults.gone) + len(c.faults.taken_away)} gone, "
                 f"{len(c.faults.found) - new} still")  # fmt: skip
    apart = [s.key for s in c.changes.conditions]
    for stage, x, y in times(c.a.manifest, c.b.manifest)[-1:]:
        under = f" (not comparable: {', '.join(apart[:3])} differ)" if apart else ""
        lines.append(f"Time, {stage}: {x or 0:.1f} s → {y or 0:.1f} s{under}")
    return "\n".join(lines)
