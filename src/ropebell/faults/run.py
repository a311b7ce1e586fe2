"""All detectors after a build in one go."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable

from ropebell import faults
from ropebell.checks.run import in_order
from ropebell.faults.after import AFTER, Looked
from ropebell.faults.lit import Lit
from ropebell.level.finding import Finding

# A detector is known by being in a module of this package.
for _module in pkgutil.iter_modules(faults.__path__, f"{faults.__name__}."):
    if _module.name != __name__:
        importlib.import_module(_module.name)
# What is told of a build beside the level of now is no detector's: it needs no light.
TITLES = {**AFTER.titles, "stale-object": "Not as it was built"}


def inspect(lit: Lit, tick: Callable[[float], None]) -> list[Finding]:
    """Every fault of a build's light, gravest first.

    Args:
        tick: called with the share done, may raise `Stopped`.
    """
    if not len(lit) or not lit.counts.any():
        return []
    looked, found = Looked(lit), list[Finding]()
    detectors = list(AFTER)
    for number, one in enumerate(detectors):
        tick(number / len(detectors))
        found += one.find(looked)
    tick(1.0)
    return in_order(found)
