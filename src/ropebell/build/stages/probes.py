"""Light the probes that the brief asks for."""

from __future__ import annotations

from typing import Any, NamedTuple

from ropebell.build.probe_file import make_probes, write_probes
from ropebell.build.stage import Stage, Work
from ropebell.build.stages.finish import FINISH
from ropebell.light.probes import Probes


class Lit(NamedTuple):
    """Probes, if there are any, and what the manifest says of them."""

    probes: Probes | None
    told: dict[str, Any]


def _run(work: Work) -> Lit:
    wanted = work.request.brief.probes
    if not wanted.spacing and not wanted.placed:
        return Lit(None, {})
    with work.log.stage(PROBES.name):
        probes, findings = make_probes(work[FINISH].built, work.request, work.check_stop)
        work.log.warn(findings)
        return Lit(probes, write_probes(work.request.out, probes) if probes is not None else {})


PROBES = Stage("probes", "Probes", _run, lambda _size, _speed: 0.0)
