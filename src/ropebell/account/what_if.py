"""What a spot would be if something were otherwise: by the parts that are known, or by rays shot anew for it alone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from ropebell.account.texel import Account
from ropebell.checks.subject import short
from ropebell.faults.again import Again
from ropebell.faults.lit import Lit
from ropebell.level.model import F64, LUMINANCE

# Of the lights that give most, and of what keeps light out, so many are tried.
MOST_LIGHTS, MOST_BLOCKERS = 3, 2
# A light brings at least this share of what there is, or taking it away says nothing.
LEAST = 0.02
# Rays of a spot that is looked at with more of them, or with something gone.
RAYS = 2048


@dataclass(frozen=True, eq=False)
class WhatIf:
    """One answer.

    Attributes:
        what: in words. light: (3,) lux of the texel then, before finishing. exact: from stored rays, as a build would
            have it; else from new rays of this spot alone, on the light around it as it is.
    """

    what: str
    light: F64
    exact: bool

    def as_json(self) -> dict[str, Any]:
        """Plain values."""
        return {"what": self.what, "irradiance": self.light.tolist(), "exact": self.exact}


def what_if(lit: Lit, account: Account) -> list[WhatIf]:
    """What taking lights away, making them brighter, taking away what is in the way, and more rays would do."""
    return [*_lights(account), *_blockers(lit, account), *_finer(lit, account)]


def _lights(account: Account) -> Iterator[WhatIf]:
    total = float(account.raw @ LUMINANCE)
    for number, light in enumerate(account.lights[:MOST_LIGHTS]):
        gives = light.direct + light.bounced
        if float(gives @ LUMINANCE) < LEAST * total:
            return
        name = short(light.name)
        yield WhatIf(f"without {name}", account.raw - gives, True)
        if number == 0:
            yield WhatIf(f"{name} a stop brighter", account.raw + gives, True)


def _blockers(lit: Lit, account: Account) -> Iterator[WhatIf]:
    """Without the shadow of what keeps out most of the light there could be."""
    weight: dict[int, float] = {}
    for light in account.lights:
        if light.way is None or not light.way.in_reach or not light.way.facing:
            continue
        for node, share in light.way.blocked_by:
            weight[node] = weight.get(node, 0.0) + share * light.unblocked
    again, texel = Again(lit), np.array([account.spot.texel])
    before = again.of(texel, rays=RAYS)
    for node, _ in sorted(weight.items(), key=lambda pair: -pair[1])[:MOST_BLOCKERS]:
        free = again.of(texel, without=frozenset([node]), rays=RAYS)
        # The same rays on both sides, so that their noise goes out.
        light = account.raw + (free.light[0] - before.light[0]).astype(np.float64)
        yield WhatIf(f"without the shadow of {short(lit.scene.node_names[node])}", np.maximum(light, 0.0), False)


def _finer(lit: Lit, account: Account) -> Iterator[WhatIf]:
    """With so many rays that noise is no matter any more."""
    if lit.settings.gather_rays < RAYS and lit.samples.count[account.spot.texel]:
        found = Again(lit).of(np.array([account.spot.texel]), rays=RAYS)
        yield WhatIf(f"with {RAYS:,} rays", found.light[0].astype(np.float64), False)
