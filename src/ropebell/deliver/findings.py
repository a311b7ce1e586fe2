"""Findings of a build for machines and for print: JSON, SARIF, CSV, HTML."""

from __future__ import annotations

import base64
import csv
import io
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from PIL import Image, ImageDraw

import ropebell
from ropebell.build.result import Result
from ropebell.deliver.page import escaped
from ropebell.faults.over_builds import Seen
from ropebell.faults.run import TITLES
from ropebell.level.display import tone
from ropebell.level.finding import Finding, area_words, short_number
from ropebell.level.model import F32

# SARIF's levels by our severities.
LEVELS = {"error": "error", "warning": "warning", "note": "note"}
SCHEMA = "https://json.schemastore.org/sarif-2.1.0.json"
# Texels to either side of a finding's own that its picture shows, and pixels of it for each.
AROUND, PIXELS = 16, 6
HEAD = ("state", "severity", "kind", "object", "also", "x", "y", "z", "area_m2", "measure", "unit", "proved", "page",
        "texel_x", "texel_y", "reason", "remedy")  # fmt: skip


def as_json(build: str, seen: Seen) -> dict[str, Any]:
    """The contract's JSON."""
    return {
        "build": build,
        "findings": [{**f.as_json(), "state": state} for f, state in seen.found],
        "gone": [
            *({**f.as_json(), "why": "mended"} for f in seen.gone),
            *({**f.as_json(), "why": "object gone"} for f in seen.taken_away),
        ],
    }


def as_sarif(build: str, level: str, seen: Seen) -> dict[str, Any]:
    """A log of SARIF 2.1.0 (OASIS standard), one run.

    Args:
        build: name of the build. level: URI of its level file.
    """
    kinds = sorted({f.kind for f, _ in seen.found} | {f.kind for f in (*seen.gone, *seen.taken_away)})
    rules = [
        {"id": kind, "name": kind, "shortDescription": {"text": TITLES.get(kind, kind)}} for kind in kinds
    ]  # fmt: skip
    states = {"new": "new", "still": "unchanged", "known": "unchanged"}
    results = [_sarif_result(f, level, kinds, states[state], state == "known") for f, state in seen.found]
    results += [_sarif_result(f, level, kinds, "absent", False) for f in (*seen.gone, *seen.taken_away)]
    driver = {"name": "Rope Bell", "version": ropebell.__version__, "rules": rules}
    run = {"tool": {"driver": driver}, "automationDetails": {"id": f"build/{build}"}, "results": results}
    return {"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}


def _sarif_result(f: Finding, level: str, kinds: Sequence[str], state: str, known: bool) -> dict[str, Any]:
    location: dict[str, Any] = {"physicalLocation": {"artifactLocation": {"uri": level}}}
    if f.object:
        location["logicalLocations"] = [{"fullyQualifiedName": f.object, "kind": "object"}]
    found: dict[str, Any] = {
        "ruleId": f.kind, "ruleIndex": kinds.index(f.kind), "level": LEVELS[f.severity], "baselineState": state,
        "message": {"text": f"{f.reason} {f.remedy}."}, "locations": [location],
        "properties": {
            key: value for key, value in f.as_json().items()
            if key in ("place", "area", "measure", "page", "texel", "proved", "also") and value is not None
        },
    }  # fmt: skip
    if known:
        found["suppressions"] = [{"kind": "external", "justification": "Known here"}]
    return found


def as_csv(seen: Seen) -> str:
    """One line for each finding; those that are gone too."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(HEAD)
    gone = [(f, "mended") for f in seen.gone] + [(f, "object gone") for f in seen.taken_away]
    for f, state in (*seen.found, *gone):
        x, y, z = f.place if f.place is not None else ("", "", "")
        value, unit = f.measure if f.measure is not None else ("", "")
        column, row = f.texel if f.texel is not None else ("", "")
        cells = [
            state, f.severity, f.kind, f.object, "; ".join(f.also), x, y, z, f.area, value, unit, f.proved, f.page,
            column, row, f.reason, f.remedy,
        ]  # fmt: skip
        table.writerow([_plain(cell) if isinstance(cell, str) else cell for cell in cells])
    return out.getvalue()


def _plain(text: str) -> str:
    """Text that a table does not take for a formula."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@", "\t", "\r") else text


def crop(pages: F32, page: int, texel: tuple[int, int], white: float) -> bytes:
    """A PNG of the page around a texel, which is outlined.

    Args:
        pages: (P, H, W, 3) lux. white: lux that are white.
    """
    x, y = texel
    part = pages[page, max(y - AROUND, 0) : y + AROUND + 1, max(x - AROUND, 0) : x + AROUND + 1]
    shown = (tone(part, 1.0 / max(white / 4.0, 1e-12)) * 255).clip(0, 255).astype(np.uint8)
    picture = Image.fromarray(shown).resize(
        (shown.shape[1] * PIXELS, shown.shape[0] * PIXELS), Image.Resampling.NEAREST
    )
    left, top = min(x, AROUND) * PIXELS, min(y, AROUND) * PIXELS
    ImageDraw.Draw(picture).rectangle((left - 1, top - 1, left + PIXELS, top + PIXELS), outline=(209, 154, 85), width=2)
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()


STYLE = """body{font:14px/1.5 Inter,sans-serif;margin:32px;color:#222;max-width:900px}h1{font-size:20px}
h2{font-size:15px;margin:0 0 4px}section{display:flex;gap:20px;border-top:1px solid #ccc;padding:16px 0;
break-inside:avoid}img{image-rendering:pixelated;width:198px;height:auto;flex:none}p{margin:2px 0}
.more{color:#555}.none{width:198px;flex:none}"""


def as_html(build: str, seen: Seen, result: Result, notes: Mapping[str, str]) -> str:
    """A page that can be printed and sent: one file, pictures in it.

    Args:
        notes: on findings that are known here, by place in `seen.found`.
    """
    lux = result.total.reshape(-1, 3).mean(axis=1)
    lit = lux[lux > 0]
    white = result.manifest.brief.white or (16.0 * float(np.median(lit)) if len(lit) else 1.0)
    parts = [
        "<!DOCTYPE html><html lang='en'><meta charset='utf-8'>",
        f"<title>Faults of build {escaped(build)}</title><style>{STYLE}</style>",
        f"<h1>{escaped(_headline(build, seen))}</h1>",
    ]
    for number, (f, state) in enumerate(seen.found):
        parts.append(_section(f, state, result, white, notes.get(str(number), "")))
    for title, gone in (("Mended", seen.gone), ("Gone with its object", seen.taken_away)):
        parts += [f"<p class='more'>{title}: {escaped(_title(f))}</p>" for f in gone]
    return "\n".join([*parts, "</html>"])


def _headline(build: str, seen: Seen) -> str:
    counts: dict[str, int] = {}
    for _, state in seen.found:
        counts[state] = counts.get(state, 0) + 1
    told = ", ".join(f"{count} {state}" for state, count in counts.items()) or "none found"
    return f"Faults of build {build}: {told}"


def _title(f: Finding) -> str:
    return f"{TITLES.get(f.kind, f.kind)}: {f.object or 'the level'}"


def _section(f: Finding, state: str, result: Result, white: float, note: str) -> str:
    picture = "<div class='none'></div>"
    if f.page is not None and f.texel is not None and f.page < len(result.total):
        data = base64.b64encode(crop(result.total, f.page, f.texel, white)).decode("ascii")
        picture = f"<img alt='the page around it' src='data:image/png;base64,{data}'>"
    facts = [state, f.severity, "proved" if f.proved else "likely"]
    facts += [f"{short_number(f.measure[0], 3)} {f.measure[1]}"] if f.measure is not None else []
    facts += [area_words(f.area)] if f.area else []
    facts += ["at " + ", ".join(f"{v:.2f}" for v in f.place)] if f.place is not None else []
    lines = [
        f"<h2>{escaped(_title(f))}</h2>",
        f"<p>{escaped(f.reason)}</p>",
        f"<p>{escaped(f.remedy)}.</p>",
        f"<p class='more'>{escaped(' · '.join(facts))}</p>",
    ]
    lines += [f"<p class='more'>Known here: {escaped(note)}</p>"] if note else []
    return f"<section>{picture}<div>{''.join(lines)}</div></section>"
