"""What was decided about an object that is called otherwise in a new export."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import pytest

from helpers import floor
from ropebell.checks.remedies import act, alternatives, apply_fix
from ropebell.checks.unmatched import unmatched
from ropebell.demo.builder import LevelBuilder, at
from ropebell.level.brief import Brief, LightChange, Mark, Move
from ropebell.level.model import Level, Light
from ropebell.level.renamed import prints_of, renamed


def hall(crate: str = "crate", lamp: str = "lamp", shift: float = 0.0, twin: bool = False) -> Level:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4), "grey")
    b.add("g", crate, floor(1), "grey", at(1 + shift, 0.2, 1))
    if twin:
        b.add("g", "twin", floor(1), "grey", at(1, 0.2, 1))
    b.light(lamp, Light(lamp, "point", (1, 1, 1), 9.0), at(0, 2, 0))
    return b.level(Path("a.glb"))


def decided() -> Brief:
    brief = Brief(
        marks={"g/crate": Mark("moving")}, moves={"g/crate": Move((0, 1, 0))}, lights={"lights/lamp": LightChange(5.0)},
        sets={"mine": {"g/crate": 2.0}}, known={"tiny g/crate": "fine"},
    )  # fmt: skip
    return Brief(**{**vars_of(brief), "prints": prints_of(hall(), brief)})


def vars_of(brief: Brief) -> dict:
    return {name: getattr(brief, name) for name in Brief.__dataclass_fields__}


def test_what_has_the_same_shape_in_the_same_place_is_offered_and_taken_over_whole() -> None:
    brief, now = decided(), hall("box 7", "lantern")
    assert renamed(now, brief) == {"g/crate": "g/box 7", "lights/lamp": "lights/lantern"}
    findings = {f.object: f for f in unmatched(now, brief)}
    assert "g/box 7" in findings["g/crate"].reason and act(findings["g/crate"]) == "Take it over"
    taken = apply_fix(brief, findings["g/crate"])
    assert taken.marks == {"g/box 7": Mark("moving")} and list(taken.moves) == ["g/box 7"]
    assert taken.sets == {"mine": {"g/box 7": 2.0}} and taken.known == {"tiny g/box 7": "fine"}
    assert [f.object for f in unmatched(now, taken)] == ["lights/lamp"]
    (other,) = alternatives(findings["g/crate"])
    assert act(other) == "Drop the setting"
    dropped = apply_fix(brief, other)
    assert "g/crate" not in dropped.paths() and "g/crate" not in dropped.prints and "lights/lamp" in dropped.paths()


def test_notes_of_places_and_fixtures_follow_a_rename_and_go_with_what_is_dropped() -> None:
    brief = Brief(
        lights={"lights/lamp": LightChange(fixture="g/crate")}, sets={"mine": {"g/crate": 2.0}},
        known={"seam g/crate @ 1.0,-2.0,3.5": "by design", "noise g/crate": "fine",
               "seam g/crate 2 @ 1.0,2.0,3.0": "x"},
    )  # fmt: skip
    brief = replace(brief, prints=prints_of(hall(), brief))
    assert "g/crate" in brief.prints and "g/crate 2" not in brief.prints
    (finding,) = unmatched(hall("box 7"), brief)
    assert (finding.object, finding.severity) == ("g/crate", "warning")
    taken = apply_fix(brief, finding)
    assert taken.known == {
        "seam g/box 7 @ 1.0,-2.0,3.5": "by design", "noise g/box 7": "fine", "seam g/crate 2 @ 1.0,2.0,3.0": "x",
    }  # fmt: skip
    assert taken.lights["lights/lamp"].fixture == "g/box 7" and taken.sets == {"mine": {"g/box 7": 2.0}}
    assert unmatched(hall("box 7"), taken) == []
    dropped = apply_fix(brief, alternatives(finding)[0])
    assert list(dropped.known) == ["seam g/crate 2 @ 1.0,2.0,3.0"] and dropped.lights["lights/lamp"].fixture is None
    assert unmatched(hall("box 7"), dropped) == []


@pytest.mark.parametrize("now", [hall("box", shift=0.5), hall("box", twin=True)])
def test_what_stands_elsewhere_or_is_there_twice_is_not_guessed(now: Level) -> None:
    brief = decided()
    assert "g/crate" not in renamed(now, brief)
    finding = next(f for f in unmatched(now, brief) if f.object == "g/crate")
    assert act(finding) == "Drop the setting" and not alternatives(finding)


def test_prints_of_what_is_gone_are_kept_and_of_what_is_not_decided_dropped() -> None:
    brief = decided()
    assert prints_of(hall("box"), brief) == brief.prints
    assert prints_of(hall(), Brief(**{**vars_of(brief), "lights": {}})).keys() == {"g/crate"}


def test_settings_without_prints_are_only_told() -> None:
    brief = Brief(marks={"g/gone": Mark(density=2.0)})
    assert renamed(hall(), brief) == {} and [f.fix[0] for f in unmatched(hall(), brief)] == ["drop-settings"]
