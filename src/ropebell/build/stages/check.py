"""Find what is wrong with a level before any ray is shot."""

from __future__ import annotations

from ropebell.build.precheck import check_kept
from ropebell.build.stage import Size, Stage, Work
from ropebell.build.stages.scene import SCENE
from ropebell.checks.run import BLOCKING
from ropebell.errors import BuildError


def _run(work: Work) -> None:
    subject = work[SCENE].gathered.subject
    with work.log.stage(CHECK.name):
        found = check_kept(subject, work.store)
        work.log.warn([f for f in found if f.key not in work.request.brief.known])
        errors = [f for f in found if f.kind in BLOCKING]
        if errors:
            reason = errors[0].reason.rstrip(".")
            raise BuildError(reason[0].lower() + reason[1:], work.request.level, errors[0].remedy)
        work.progress.stage(CHECK.name)(1.0)
    work.expect(Size.of(subject.baking, work.recipe))


CHECK = Stage("check", "Check it", _run, lambda size, _speed: 0.3 + size.triangles / 5e4)
