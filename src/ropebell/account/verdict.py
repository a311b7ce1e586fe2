"""One plain sentence on a spot: the fault that is there, proved or likely, or where its light comes from."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ropebell.account.texel import Account
from ropebell.checks.subject import short
from ropebell.faults.lit import Lit
from ropebell.faults.run import inspect
from ropebell.level.finding import SEVERITIES, Finding
from ropebell.level.model import LUMINANCE

# A spot is of a finding that shows within so many texels of it.
NEAR = 1.5


@dataclass(frozen=True)
class Verdict:
    """What is wrong at a spot, if anything is.

    Attributes:
        finding: the gravest fault there, None without one. others: further ones.
    """

    text: str
    proved: bool
    finding: Finding | None = None
    others: tuple[Finding, ...] = ()

    def as_json(self) -> dict[str, Any]:
        """The contract's JSON."""
        f = self.finding
        return {
            "kind": f.kind if f is not None else None, "object": f.object if f is not None else "",
            "also": list(f.also) if f is not None else [], "text": self.text, "proved": self.proved,
            "remedy": f.remedy if f is not None else "", "others": [o.kind for o in self.others],
        }  # fmt: skip


def verdict(lit: Lit, account: Account) -> Verdict:
    """Judge a spot by the detectors themselves: which faults show at its texel."""
    if not lit.shown:
        inspect(lit, lambda _: None)
    found = _here(lit, account)
    if found:
        return Verdict(found[0].reason, bool(found[0].proved), found[0], tuple(found[1:]))
    return Verdict(where_from(account), True)


def _here(lit: Lit, account: Account) -> list[Finding]:
    """Faults that a texel shows, gravest first; of one severity what is proved, then what is told of the fewest
    m²."""
    texel, place = account.spot.texel, lit.places[account.spot.texel]
    reach = NEAR * float(lit.pitch[texel])
    found: list[tuple[float, Finding]] = []
    for finding, rows in lit.shown:
        if (rows == texel).any():
            found.append((0.0, finding))
        elif finding.place is not None and math.dist(finding.place, account.spot.position) <= reach:
            found.append((1.0, finding))
        elif (lit.node[rows] == lit.node[texel]).any():
            near = np.linalg.norm(lit.places[rows] - place, axis=1).min()
            if near <= reach:
                found.append((1.0, finding))
    # What is beside counts less than what is here.
    found.sort(key=lambda pair: (
        SEVERITIES.index(pair[1].severity), not pair[1].proved, (pair[1].area or 0.0) * (1.0 + 4.0 * pair[0]),
    ))  # fmt: skip
    return [finding for _, finding in found]


def where_from(account: Account) -> str:
    """Where the light of a spot comes from, most first."""
    total = _lux(account.raw)
    if total <= 0:
        return "No light arrives here."
    parts: list[tuple[float, str]] = []
    for light in account.lights:
        for value, how in ((light.direct, "straight from"), (light.bounced, "bounced, of")):
            parts.append((_lux(value) / total, f"{how} '{short(light.name)}'"))
    parts.append((_lux(account.sky) / total, "of the sky"))
    parts.sort(key=lambda pair: -pair[0])
    told = [f"{100 * share:.0f} % {words}" for share, words in parts[:3] if share >= 0.01]
    return f"It gets {_lux(account.irradiance):.3g} lux: {', '.join(told)}." if told else "It gets hardly any light."


def _lux(value: Sequence[float] | np.ndarray) -> float:
    return float(np.asarray(value, dtype=np.float64) @ LUMINANCE)
