"""`ropebell account`: why a spot of a build looks as it does."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np

from ropebell.account.history import history
from ropebell.account.texel import Account, Ledger, LightAccount
from ropebell.account.verdict import Verdict, verdict
from ropebell.account.what_if import what_if
from ropebell.build.reopened import reopen
from ropebell.cli.commands import Color
from ropebell.cli.said import say
from ropebell.errors import UsageError
from ropebell.faults.lit import Lit


def account(build: Path, point: Color, normal: Color | None, as_json: bool) -> int:
    """`ropebell account`."""
    if normal is not None and math.hypot(*normal) < 1e-30:
        raise UsageError("a normal of length zero has no direction", "--normal", "Give a direction")
    ledger = Ledger(reopen(build))
    spot = ledger.spot(np.array(point), None if normal is None else np.array(normal))
    found = ledger.account(spot)
    judged = verdict(ledger.lit, found)
    faces = ledger.lit.scene.face_normals[spot.triangle].astype(np.float64)
    past = history(build, spot.position, faces)
    if as_json:
        print(json.dumps(_json(ledger, found, judged, past)))
        return 0
    say(_lines(ledger, found, judged, past))
    return 0


def _json(ledger: Ledger, a: Account, judged: Verdict, past: list[tuple[str, list[float]]]) -> dict[str, object]:
    lit, spot = ledger.lit, a.spot
    return {
        "position": [round(float(v), 6) for v in spot.position], "node": a.node, "distance": round(spot.distance, 6),
        "page": spot.page, "texel": [int(lit.texels.column[spot.texel]), int(lit.texels.row[spot.texel])],
        "chart": int(lit.chart[spot.texel]), "density": round(a.density, 4),
        "irradiance": a.irradiance.tolist(), "before_finishing": a.raw.tolist(), "noise": round(a.noise, 6),
        "lights": [light.as_json(lit.scene.node_names) for light in a.lights], "sky": a.sky.tolist(),
        "sky_share": round(a.open_share, 4), "bounces": [b.tolist() for b in a.bounces],
        "from": [
            {"node": g.node, "irradiance": g.light.tolist(), "places": g.places.round(6).tolist()} for g in a.giving
        ],
        "mixed_with": [{"node": node, "share": round(share, 4)} for node, share in a.mixed_with],
        "back_faces": {"share": round(a.behind[0], 4), "nodes": list(a.behind[1])},
        "verdict": judged.as_json(), "history": [{"build": name, "irradiance": value} for name, value in past],
        "what_if": [w.as_json() for w in what_if(lit, a)],
        "build": ledger.build.folder.name or ledger.build.folder.absolute().name,
    }  # fmt: skip


def _lines(ledger: Ledger, a: Account, judged: Verdict, past: list[tuple[str, list[float]]]) -> str:
    def lux(value: object) -> str:
        return " ".join(f"{v:10.4g}" for v in np.asarray(value)) + " lx"

    lit, spot = ledger.lit, a.spot
    place = ", ".join(f"{v:.3f}" for v in spot.position)
    where = f"page {spot.page}, texel {lit.texels.column[spot.texel]}, {lit.texels.row[spot.texel]}"
    verdict_word = "proved" if judged.proved else "likely"
    head = [
        f"{a.node} at {place}: {where}, {a.density:.3g} texels/m",
        f"  {judged.text}" + (f" ({judged.finding.kind}, {verdict_word})" if judged.finding is not None else ""),
    ]
    rows: list[tuple[str, object, str]] = [("all its light", a.irradiance, f"± {100 * a.noise:.2g} %")]
    rows += [("direct" if number == 0 else f"bounce {number}", value, "") for number, value in enumerate(a.bounces)]
    rows += [(light.name, light.direct + light.bounced, _said(lit, light)) for light in a.lights]
    rows.append(("sky", a.sky, ""))
    rows += [(f"from {g.node}", g.light, "") for g in a.giving]
    for one in what_if(lit, a):
        inside = one.within
        told = "" if inside is None else f"{inside[0]:.4g} to {inside[1]:.4g} lx in the place of this texel"
        rows.append((one.what, one.light, told))
    rows += [(f"build {name}", value, "") for name, value in past]
    wide = max(len(name) for name, *_ in rows)
    lines = head + [f"  {name:<{wide}}{lux(value)}  {said}".rstrip() for name, value, said in rows]
    if a.behind[0] > 0:
        lines.append(f"  {100 * a.behind[0]:.0f} % of its rays meet backs of faces: {', '.join(a.behind[1])}")
    if a.mixed_with:
        names = ", ".join(f"{node} {100 * share:.0f} %" for node, share in a.mixed_with)
        lines.append(f"  at mip level {lit.settings.mip} it is read together with texels of {names}")
    return "\n".join(lines)


def _said(lit: Lit, light: LightAccount) -> str:
    """What is between the spot and a light."""
    w = light.way
    if w is not None and not w.in_reach:
        return "out of reach"
    if w is not None and not w.facing:
        return "behind its face"
    if w is not None and w.blocked_by:
        names = ", ".join(f"{lit.scene.node_names[n]} {100 * share:.0f} %" for n, share in w.blocked_by[:3])
        return f"blocked by {names}"
    return ""
