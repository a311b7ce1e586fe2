"""From what the plan says to what a build is asked for: which objects are meant now, and since when."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ropebell.app.desk import Desk
from ropebell.app.reading import Opened
from ropebell.build.plan import plan_of
from ropebell.build.scope import Scope
from ropebell.build.since import Since, changed_since

Begin = Callable[[Scope], None]


def wanted(desk: Desk, begin: Begin) -> None:
    """Find out what is meant, and begin; says so where that is nothing."""
    now = desk.level.now
    if now is None:
        return
    plan, base = plan_of(now.project), _newest(desk)
    names = now.scene.node_names
    if plan.lights == "box" and plan.box is not None:
        begin(Scope(box=plan.box, stage=plan.stage))
    elif plan.lights == "selection":
        chosen = tuple(names[node] for node in desk.selection.chosen)
        if not chosen:
            desk.tell("Nothing is selected. Select what shall be lit, or light everything.", "build")
            return
        begin(Scope(chosen, since=base, stage=plan.stage))
    elif plan.lights == "shown" and desk.selection.hidden:
        hidden = desk.selection.hidden
        shown = tuple(names[node] for node, _, _ in now.scene.node_ranges() if names[node] not in hidden)
        begin(Scope(shown, since=base, stage=plan.stage))
    elif plan.lights == "camera":
        begin(Scope(seen=desk.builds.looks_from(), since=base, stage=plan.stage))
    elif plan.lights == "properties":
        if base is None:
            desk.tell("There is no build yet whose light could be taken. Light everything first.", "build")
            return
        begin(Scope(since=base, properties=True))
    elif plan.lights == "changed" and base is not None:
        _changed(desk, now, base, plan.stage, begin)
    else:
        begin(Scope(stage=plan.stage))


def _newest(desk: Desk) -> Path | None:
    """The newest finished build of this level that is no cut box's."""
    done = [k for k in desk.rope.knots if k.outcome.state == "done" and not k.whose and "cut box" not in k.scope]
    return done[-1].folder if done else None


def _changed(desk: Desk, now: Opened, base: Path, stage: str, begin: Begin) -> None:
    def find() -> Since:
        return changed_since(base, now.source, now.scene, now.baking, now.project)

    def receive(since: Since) -> None:
        number = int(base.name)
        if since.nothing:
            desk.news(f"Nothing to do: nothing changed since build {number}.")
        elif since.part:
            begin(Scope(since.objects, since=base, stage=stage))
        else:
            why = ", ".join(since.everywhere) or "something is gone that cast its shadow on others"
            desk.news(f"Everything is lit: changed since build {number}: {why}.")
            begin(Scope(stage=stage))

    desk.jobs.start("since", find, receive)
