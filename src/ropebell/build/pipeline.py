"""A build, from level file to finished folder: walks the table of stages, each of which re-uses what is there."""

from __future__ import annotations

from collections.abc import Callable

from ropebell.build.estimate import RATES
from ropebell.build.journal import Journal
from ropebell.build.manifest import Manifest
from ropebell.build.request import Request
from ropebell.build.stage import Work
from ropebell.build.stages import STAGES
from ropebell.build.stages.write import WRITE
from ropebell.build.stored import names_kept
from ropebell.errors import Stopped


def build(request: Request, journal: Journal, stop_wanted: Callable[[], Stopped | None] = lambda: None) -> Manifest:
    """Build, write the results, and return the manifest.

    Args:
        request: what to build.
        journal: where it is told.
        stop_wanted: asked between steps.

    Raises:
        RopeBellError: the level is unreadable or cannot be built.
        Stopped: on request or by a tripwire; finished stages are kept.
    """
    work = Work(STAGES, request, journal, {**RATES, **request.rates}, stop_wanted)
    with work.store.at_work(), work.memory.watching():
        work.store.trim(set())
        for stage in STAGES:
            work.run(stage)
        work.store.trim(work.names.everything() | names_kept(work[WRITE]).everything())
    return work[WRITE]
