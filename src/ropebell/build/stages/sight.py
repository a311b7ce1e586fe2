"""Find out whether the level is sealed, and what can see what."""

from __future__ import annotations

from ropebell.build.sighting import hull_leaks, in_words, sight_of, write_sight
from ropebell.build.speed import Speed
from ropebell.build.stage import Size, Stage, Work
from ropebell.build.stages.scene import SCENE
from ropebell.sight.sight import Sight


def _run(work: Work) -> Sight | None:
    if not work.recipe.sight.enabled:
        return None
    subject = work[SCENE].gathered.subject
    with work.log.stage(SIGHT.name) as reused:
        tick = work.progress.stage(SIGHT.name)
        found, known = sight_of(subject, work.recipe.sight.cell, work.workers, work.store, tick)
        reused(known)
        tick(1.0)
        write_sight(work.request.out, found, subject.scene, subject.texels_per_metre)
        work.journal.write("note", text=in_words(found))
        work.log.warn(hull_leaks(found))
    return found


def _predict(size: Size, speed: Speed) -> float:
    return (4.0 + size.triangles / 1e4) * 4.0 / speed.workers if size.recipe.sight.enabled else 0.0


SIGHT = Stage("sight", "Who sees whom", _run, _predict)
