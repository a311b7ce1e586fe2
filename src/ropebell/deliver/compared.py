"""Two builds compared, on a page that can be printed and sent: one file, pictures in it."""

from __future__ import annotations

import base64
from collections.abc import Iterable

import numpy as np

from ropebell.build.setting_words import setting_in_words, setting_title
from ropebell.compare.changes import Setting
from ropebell.compare.compare import Comparison, in_words, spent, times
from ropebell.deliver.findings import crop
from ropebell.deliver.page import escaped, page, table
from ropebell.level.model import F32

WORST, APART = 6, 1.0
MOST_SPENT = 20


def as_html(c: Comparison) -> str:
    """The page."""
    e = escaped
    name_a, name_b = c.a.folder.name, c.b.folder.name
    parts = [f"<h1>Build {e(name_b)} against build {e(name_a)}</h1><p class=lead>{e(in_words(c))}</p>"]
    if c.changes.settings:
        parts.append("<h2>Settings</h2>" + table(("", "A", "B"), _rows(c.changes.settings)))
    if c.changes.contents:
        parts.append("<h2>Contents</h2>" + table(("", ""), [(x.node, x.what) for x in c.changes.contents]))
    if c.causes.causes and len(c.changes.of_light) > 1:
        rows = [(setting_title(x.name), f"{100 * x.share:.1f} %") for x in c.causes.causes]
        parts.append("<h2>Causes of the difference</h2>" + table(("", "Share"), rows))
    if c.causes.told:
        parts.append(f"<p class=more>{e(c.causes.told)}</p>")
    pictures = _pictures(c)
    if pictures:
        parts.append(f"<h2>Where it differs most</h2>{pictures}")
    faults = [(state, f.kind, f.object, f.reason) for f, state in c.faults.found if state == "new"]
    faults += [("gone", f.kind, f.object, f.reason) for f in (*c.faults.gone, *c.faults.taken_away)]
    if faults:
        parts.append("<h2>Faults</h2>" + table(("", "Kind", "Object", ""), faults))
    rows_of_time = [(s, _seconds(x), _seconds(y)) for s, x, y in times(c.a.manifest, c.b.manifest)]
    parts.append("<h2>Times, seconds</h2>" + table(("Stage", "A", "B"), rows_of_time))
    for what, title in (("object", "Objects"), ("light", "Lights")):
        longest = [(name, _seconds(x), _seconds(y)) for name, x, y in spent(c, what)[:MOST_SPENT]]
        if longest:
            parts.append(f"<h2>{title} that took longest, seconds</h2>" + table(("", "A", "B"), longest))
    if c.changes.conditions:
        parts.append("<p class=more>The times were taken under other conditions: no verdict on them.</p>")
        parts.append(table(("", "A", "B"), _rows(c.changes.conditions)))
    return page(f"Build {name_b} against {name_a}", "\n".join(parts))


def _seconds(value: float | None) -> str:
    return "" if value is None else f"{value:.2f}"


def _pictures(c: Comparison) -> str:
    light = c.light
    positions = light.places.position(light.base.scene.corners)
    lit = light.a[light.a > 0]
    white = c.b.manifest.brief.white or (16.0 * float(np.median(lit)) if len(lit) else 1.0)
    found = []
    for row in light.worst(WORST, APART):
        p = light.places
        here = int(p.page[row]), (int(p.column[row]), int(p.row[row]))
        at = light.partners.uv[row]
        there = int(light.partners.page[row]), (int(at[0]), int(at[1]))
        of_a, of_b = (here, there) if light.on_a else (there, here)
        pictures = "".join(
            f"<img alt='' width=198 src='data:image/png;base64,{_crop(r.total, *where, white)}'>"
            for r, where in ((c.a, of_a), (c.b, of_b))
        )
        place = ", ".join(f"{v:.2f}" for v in positions[row])
        node = light.base.scene.node_names[light.base.scene.node[p.triangle[row]]]
        words = f"{node} at {place}: {light.a[row]:.3g} lx in A, {light.b[row]:.3g} lx in B"
        found.append(f"<figure>{pictures}<figcaption>{escaped(words)}</figcaption></figure>")
    return "".join(found)


def _crop(pages: F32, number: int, texel: tuple[int, int], white: float) -> str:
    return base64.b64encode(crop(pages, number, texel, white)).decode("ascii")


def _rows(settings: Iterable[Setting]) -> list[tuple[str, str, str]]:
    return [(setting_title(s.key), setting_in_words(s.key, s.a), setting_in_words(s.key, s.b)) for s in settings]
