"""All detectors after a build in one go."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

from ropebell import faults
from ropebell.checks.detector import Detector
from ropebell.checks.run import in_order
from ropebell.errors import Stopped
from ropebell.faults.after import AFTER, Looked
from ropebell.faults.lit import Lit
from ropebell.level.finding import Finding

# A detector is known by being in a module of this package.
for _module in pkgutil.iter_modules(faults.__path__, f"{faults.__name__}."):
    if _module.name != __name__:
        importlib.import_module(_module.name)
THREADS = 2
SLOW = ("black_patches", "blotches", "light_leaks")
# What is told of a build beside the level of now is no detector's: it needs no light.
# Neither is a leak's, which the visibility stage finds.
TITLES = {**AFTER.titles, "stale-object": "Not as it was built", "hull-leak": "The level leaks"}


def inspect(
    lit: Lit, tick: Callable[[float], None], looked: Looked | None = None,
    failed: Callable[[str, Exception], None] | None = None,
) -> list[Finding]:  # fmt: skip
    """Every fault of a build's light, gravest first.

    Args:
        looked: the same build, with what is known of it; None: nothing is.
        failed: told of a detector that met a fault of this program, whose findings are then missing; None: raised.
        tick: called with the share done, may raise `Stopped`.
    """
    if not len(lit) or not lit.counts.any():
        return []
    at = looked or Looked(lit)
    # What they all need is made once, before any of them begins.
    for ready in ("light", "places", "area", "eyes", "by_light", "records", "speaking"):
        getattr(lit, ready)
        tick(0.0)
    _ = lit.subject.welded
    done = 0

    def find(one: Detector[Looked]) -> list[Finding]:
        nonlocal done
        tick(done / len(detectors))
        try:
            found = list(one.find(at))
        except Stopped:
            raise
        except Exception as error:
            if failed is None:
                raise
            # What was built for hours is not thrown away because one detector stumbles over it.
            failed(one.name, error)
            found = []
        done += 1
        return found

    detectors = list(AFTER)
    # Most of their time is spent in calls that release the interpreter lock; those that take longest begin first.
    order = sorted(detectors, key=lambda one: one.name not in SLOW)
    with ThreadPoolExecutor(THREADS, thread_name_prefix="faults") as pool:
        by_name = dict(zip((one.name for one in order), pool.map(find, order)))
    tick(1.0)
    return in_order(finding for one in detectors for finding in by_name[one.name])
