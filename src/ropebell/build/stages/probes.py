"""Light the probes that the brief asks for."""

from __future__ import annotations

from typing import Any

from ropebell.build.probe_file import make_probes, write_probes
from ropebell.build.stage import Stage, Work
from ropebell.build.stages.finish import FINISH


def _run(work: Work) -> dict[str, Any]:
    """What the manifest says of them, empty without any."""
    wanted = work.request.brief.probes
    if not wanted.spacing and not wanted.placed:
        return {}
    with work.log.stage(PROBES.name):
        probes, findings = make_probes(work[FINISH].built, work.request, work.check_stop)
        work.log.warn(findings)
        return write_probes(work.request.out, probes) if probes is not None else {}


PROBES = Stage("probes", "Probes", _run, lambda _size, _speed: 0.0)
