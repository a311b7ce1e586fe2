"""What a spot would be if something were otherwise: by the parts that are known, or by rays shot anew for it alone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from ropebell.account.denser import denser
from ropebell.account.texel import Account
from ropebell.checks.remedies import CAST_NO_SHADOW, DIM, RAISE_DENSITY, SWITCH_OFF, Fix
from ropebell.checks.subject import short
from ropebell.faults.again import Again
from ropebell.faults.lit import Lit
from ropebell.level.model import F64, I32, LUMINANCE

# Of the lights that give most, and of what keeps light out, so many are tried.
MOST_LIGHTS, MOST_BLOCKERS = 3, 2
# A light brings at least this share of what there is, or taking it away says nothing.
LEAST = 0.02
# So many times the texels per metre are tried.
DENSER = {2: "twice as dense", 4: "four times as dense"}
# Rays of a spot that is looked at with more of them, or with something gone.
RAYS = 2048


@dataclass(frozen=True, eq=False)
class WhatIf:
    """One answer.

    Attributes:
        what: in words. light: (3,) lux of the texel then, before finishing. exact: from stored rays, as a build would
            have it; else from new rays of this spot alone, on the light around it as it is.
        fix: the remedy that makes it so, empty where there is none.
        within: (darkest, lightest) lux, luminance, of what would lie in the place of the texel; None: one texel.
    """

    what: str
    light: F64
    exact: bool
    fix: Fix = ()
    within: tuple[float, float] | None = None

    def as_json(self) -> dict[str, Any]:
        """Plain values."""
        return {
            "what": self.what, "irradiance": self.light.tolist(), "exact": self.exact, "fix": list(self.fix),
            "within": None if self.within is None else list(self.within),
        }  # fmt: skip


def what_if(lit: Lit, account: Account) -> list[WhatIf]:
    """What taking lights away, making them brighter, taking away what is in the way, more rays and more texels would
    do."""
    return [*_lights(lit, account), *_blockers(lit, account), *_finer(lit, account), *_denser(lit, account)]


def _lights(lit: Lit, account: Account) -> Iterator[WhatIf]:
    total = float(account.raw @ LUMINANCE)
    lamps = {light.name: light for light in lit.scene.lights}
    for number, light in enumerate(account.lights[:MOST_LIGHTS]):
        gives = light.direct + light.bounced
        if float(gives @ LUMINANCE) < LEAST * total:
            return
        name = short(light.name)
        lamp = lamps.get(light.name)
        off: Fix = SWITCH_OFF.of(lamp.name) if lamp is not None else ()
        up: Fix = DIM.of(lamp.name, f"{2.0 * lamp.intensity:.6g}") if lamp is not None else ()
        yield WhatIf(f"without {name}", account.raw - gives, True, off)
        if number == 0:
            yield WhatIf(f"{name} a stop brighter", account.raw + gives, True, up)


def _blockers(lit: Lit, account: Account) -> Iterator[WhatIf]:
    """Without the shadow of what keeps out most of the light there could be."""
    weight: dict[int, float] = {}
    for light in account.lights:
        if light.way is None or not light.way.in_reach or not light.way.facing:
            continue
        for node, share in light.way.blocked_by:
            weight[node] = weight.get(node, 0.0) + share * light.unblocked
    again, texel = Again(lit), _speaking(lit, account)
    before = again.of(texel, rays=RAYS)
    for node, _ in sorted(weight.items(), key=lambda pair: -pair[1])[:MOST_BLOCKERS]:
        free = again.of(texel, without=frozenset([node]), rays=RAYS)
        # The same rays on both sides, so that their noise goes out.
        light = account.raw + (free.light[0] - before.light[0]).astype(np.float64)
        path = lit.scene.node_names[node]
        what = f"without the shadow of {short(path)}"
        yield WhatIf(what, np.maximum(light, 0.0), False, CAST_NO_SHADOW.of(path))


def _finer(lit: Lit, account: Account) -> Iterator[WhatIf]:
    """With so many rays that noise is no matter any more."""
    texel = _speaking(lit, account)
    if lit.settings.gather_rays < RAYS and lit.samples.count[texel[0]]:
        found = Again(lit).of(texel, rays=RAYS)
        fix = "set", "light.gather_rays", str(RAYS * lit.settings.draft)
        yield WhatIf(f"with {RAYS:,} rays", found.light[0].astype(np.float64), False, fix)


def _denser(lit: Lit, account: Account) -> Iterator[WhatIf]:
    """With more texels: what the spot's own would then have, and what all that lie in its texel's place would."""
    for times, words in DENSER.items():
        found = denser(lit, account.spot, times, RAYS)
        if found is None:
            continue
        yield WhatIf(
            words, found.light.astype(np.float64), False,
            RAISE_DENSITY.of(account.node, str(times)), (found.darkest, found.lightest),
        )  # fmt: skip


def _speaking(lit: Lit, account: Account) -> I32:
    """(1,) the texel whose light the spot's shows."""
    return lit.samples.target[[account.spot.texel]]
