"""A remedy is judged by a build that holds it, by values and not by numbers; one that was undone was never tried."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from ropebell.build.recipe import named, with_value
from ropebell.build.remedied import Tried, changed_by, judged, not_undone, read_tried, write_tried
from ropebell.checks.remedies import apply_fix
from ropebell.level.brief import NO_BRIEF, Mark
from ropebell.level.finding import Finding

CHEST = Finding(
    "inside-out", "error", "props/chest.1", "It is inside out.", "Turn it", fix=("turn-round", "props/chest.1")
)
PLAIN = named("working")


def _fix() -> Finding:
    """A finding with a remedy that there is."""
    from ropebell.checks.remedies import BY_NAME

    name = next(n for n, r in BY_NAME.items() if "faces" in r.words.lower() and "turn" in r.words.lower())
    return replace(CHEST, fix=(name, "props/chest.1"))


def _tried(build: int = 1) -> Tried:
    finding = _fix()
    after = apply_fix(NO_BRIEF, finding)
    return Tried(finding, "Turn its faces round", build, changed=changed_by((NO_BRIEF, PLAIN), (after, PLAIN)))


def test_a_build_without_the_remedy_does_not_judge_it() -> None:
    tried, held = [_tried()], apply_fix(NO_BRIEF, _fix())
    assert tried[0].changed
    # Undone before the build, or applied while it ran: its source does not hold it.
    assert judged(tried, 2, [CHEST], settings=(NO_BRIEF, PLAIN)) == tried
    (one,) = judged(tried, 3, [], settings=(held, PLAIN))
    assert (one.verdict, one.after) == ("helped", 3)
    # What else was changed meanwhile does not matter.
    more = replace(held, marks={**held.marks, "other": Mark(role="moving")})
    (one,) = judged(tried, 4, [], settings=(more, with_value(PLAIN, "draft", 4)))
    assert one.verdict == "helped"


def test_an_undone_remedy_is_forgotten_and_a_judged_one_is_kept() -> None:
    tried, held = _tried(), apply_fix(NO_BRIEF, _fix())
    done = replace(tried, verdict="helped", after=2)
    assert not_undone([tried, done], NO_BRIEF, PLAIN) == [done]
    assert not_undone([tried, done], held, PLAIN) == [tried, done]


def test_a_setting_is_told_from_its_value_whatever_the_recipe_is_called() -> None:
    finer = with_value(PLAIN, "light.gather_rays", 999)
    one = Tried(CHEST, "More rays", 1, changed=changed_by((NO_BRIEF, PLAIN), (NO_BRIEF, finer)))
    assert one.held_by(NO_BRIEF, finer.model_copy(update={"name": "mine"})) and not one.held_by(NO_BRIEF, PLAIN)


def test_what_was_tried_is_read_as_it_was_written(tmp_path: Path) -> None:
    tried = [_tried(), replace(_tried(), verdict="worse", after=4)]
    write_tried(tmp_path, tried)
    assert [(t.changed, t.verdict, t.after) for t in read_tried(tmp_path)] == [
        (t.changed, t.verdict, t.after) for t in tried
    ]
