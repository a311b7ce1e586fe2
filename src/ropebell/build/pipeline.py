"""A build, from level file to finished folder: walks the table of stages, each of which re-uses what is there."""

from __future__ import annotations

from collections.abc import Callable

from ropebell.build.estimate import RATES
from ropebell.build.journal import Journal
from ropebell.build.manifest import Manifest
from ropebell.build.request import Request
from ropebell.build.stage import Work
from ropebell.build.stages import PROPERTIES_ALONE, STAGES
from ropebell.build.stages.write import WRITE
from ropebell.build.stored import names_kept
from ropebell.build.tripwires import Tripwires
from ropebell.errors import Stopped

StopWanted = Callable[[], Stopped | None]


def build(
    request: Request, journal: Journal, stop_wanted: StopWanted = lambda: None, wires: Tripwires | None = None
) -> Manifest:  # fmt: skip
    """Build, write the results, and return the manifest.

    Args:
        request: what to build.
        journal: where it is told.
        stop_wanted: asked between steps. wires: what stops it by itself.

    Raises:
        RopeBellError: the level is unreadable or cannot be built.
        Stopped: on request or by a tripwire; finished stages are kept.
    """
    return build_up_to(WRITE.name, request, journal, stop_wanted, wires)[WRITE]


def build_up_to(
    stage: str, request: Request, journal: Journal, stop_wanted: StopWanted = lambda: None,
    wires: Tripwires | None = None,
) -> Work:  # fmt: skip
    """The same up to a stage and with it; what the stages gave is kept for the next build.

    Args:
        stage: name of the last one.
    """
    stages = PROPERTIES_ALONE if request.scope.properties else STAGES
    work = Work(stages, request, journal, {**RATES, **request.rates}, stop_wanted, wires)
    with work.store.at_work(), work.memory.watching():
        work.store.trim(set())
        for one in stages:
            work.run(one)
            if one.name == stage:
                break
        used = names_kept(work[WRITE]).everything() if stage == WRITE.name else set()
        work.store.trim(work.names.everything() | used)
    return work
