"""Checks of lights, marks, tables and skies; findings as values."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from ropebell.checks.lights import worst_overlap
from ropebell.checks.remedies import MOVE, THICKEN, act, alternatives, apply_fix, spoils, with_marks
from ropebell.checks.run import check, sort_out
from ropebell.checks.subject import Subject
from ropebell.demo.builder import LevelBuilder
from ropebell.demo.shapes import box
from ropebell.level.arrange import transform
from ropebell.level.brief import Box, Brief, LightChange, Mark, Move, Pose, Region, Sky, TrialDensity
from ropebell.level.emitter_table import read_table
from ropebell.level.finding import Finding
from ropebell.level.prepare import prepare
from small_levels import Hall

FINE = Brief(region=Region((Box((-1e4,) * 3, (1e4,) * 3),)))


def found(hall: Hall, kind: str, brief: Brief = FINE, **more: object) -> list[Finding]:
    return [f for f in check(hall.subject(brief, **more)) if f.kind == kind]  # type: ignore[arg-type]


@pytest.mark.parametrize("lights", [3, 5, 8, 12])
def test_modes_of_lights(lights: int) -> None:
    hall = Hall()
    for i in range(lights):
        hall.light(f"extra {i}", (-3 + 0.4 * i, 2.0, 0.0), reach=9.0)
    odd = replace(FINE, lights={"lights/extra 0": LightChange(mode="live")})
    assert [f.object for f in found(hall, "live-light", odd)] == ["lights/extra 0"]
    fixed = apply_fix(odd, found(hall, "live-light", odd)[0])
    assert found(hall, "live-light", fixed) == []
    all_live = {f"lights/extra {i}": LightChange(mode="live") for i in range(lights)}
    crowd = replace(FINE, lights=all_live, most_live=lights - 1)
    assert found(hall, "live-light", crowd) == [] and len(found(hall, "live-overlap", crowd)) == 1
    assert worst_overlap(hall.subject(crowd))[0] == lights
    assert found(hall, "live-overlap", replace(crowd, most_live=lights)) == []
    later = replace(FINE, lights={"lights/lamp": LightChange(mode="undecided", work=True, subtracts=True)})
    kinds = {f.kind for f in check(hall.subject(later)) if f.object == "lights/lamp"}
    assert kinds == {"undecided-light", "work-light", "subtracting-light"}


def test_fixtures_follow_their_light() -> None:
    hall = Hall()
    brief = replace(FINE, lights={"lights/lamp": LightChange(fixture="hall/globe")})
    assert found(hall, "fixture-mismatch", brief) == []
    off = replace(brief, lights={"lights/lamp": LightChange(fixture="hall/globe", enabled=False)})
    assert [f.object for f in found(hall, "fixture-mismatch", off)] == ["lights/lamp"]
    dark = replace(brief, lights={"lights/lamp": LightChange(fixture="hall/crate")})
    assert len(found(hall, "fixture-mismatch", dark)) == 1


@pytest.mark.parametrize(
    ("mark", "kind"),
    [
        (Mark(bias={"wood": 4.0}), "density-bias"),
        (Mark(poses={"open": Pose((0, 1, 0)), "shut": Pose()}, pose="open", usual="shut"), "unusual-pose"),
        (Mark(poses={"open": Pose((0, 1, 0)), "shut": Pose()}, pose="open"), "pose"),
        (Mark(removable=True), "removable-shadow"),
        (Mark(work=True), "work-object"),
    ],
)
def test_marks_are_checked_and_their_remedies_work(mark: Mark, kind: str) -> None:
    hall = Hall()
    for name in ("hall/crate", "hall/table", "hall/floor", "hall/wall east"):
        brief = replace(FINE, marks={name: mark})
        hits = found(hall, kind, brief)
        assert [f.object for f in hits] == [name]
        if hits[0].fix:
            assert found(hall, kind, apply_fix(brief, hits[0])) == []
    quiet = {f.kind for f in check(hall.subject(replace(FINE, marks={"hall/crate": Mark(bias={"wood": 1.0})})))}
    assert "density-bias" not in quiet


def test_objects_at_test_density_are_listed_and_go_back_in_one_act() -> None:
    hall = Hall()
    brief = replace(FINE, test_density=TrialDensity(0.25, frozenset({"hall/crate", "hall/table"})))
    finding = found(hall, "test-density", brief)[0]
    assert "2 objects" in finding.reason and "crate" in finding.reason
    assert apply_fix(brief, finding).test_density.paths == frozenset()


def test_a_region_is_missed_and_what_is_too_fine_for_its_distance_is_told() -> None:
    hall = Hall()
    hall.add("far roof", box((-5, 12, -4), (5, 12.2, 4)))
    fine = Brief(marks={"hall/far roof": Mark(density=4.0), "hall/crate": Mark(density=4.0)})
    missing = found(hall, "no-region", fine)[0]
    assert "%" in missing.reason
    hits = found(hall, "too-fine", fine)
    assert [f.object for f in hits] == ["hall/far roof"]
    assert found(hall, "too-fine", apply_fix(fine, hits[0])) == []
    assert found(hall, "no-region") == []


def test_emitter_tables_are_read_and_judged(tmp_path: Path) -> None:
    hall = Hall()
    common, foreign, partly = (tmp_path / f"{n}.csv" for n in ("common", "foreign", "partly"))
    common.write_text("# ours\nmaterial,r,g,b,strength\nglow,1,0.5,0.25,2000\nnot here,1,1,1,5\n")
    foreign.write_text("material,r,g,b,strength\nlava,1,0.2,0,9000\nrune,0,0,1,40\n")
    partly.write_text("material,r,g,b,strength\nglow,1,1,1,500\ndim glow,1,1,1,400\nmisspelt,1,1,1,1\n")
    tables = tuple(read_table(p) for p in (common, foreign, partly))
    brief = replace(FINE, tables=("common.csv", "foreign.csv", "partly.csv"))
    subject = hall.subject(brief, tables)
    assert subject.emission["glow"].radiance == (500, 500, 500)
    assert subject.emission["glow"].source == "partly.csv"
    assert subject.emission["glow"].overruled == ("level", "common.csv")
    kinds = {f.kind: f for f in check(subject)}
    assert kinds["foreign-table"].object == "foreign.csv" and "misspelt" in kinds["table-unknown-material"].reason
    assert apply_fix(brief, kinds["foreign-table"]).tables == ("common.csv", "partly.csv")
    trouble = replace(subject, troubles=("x.csv, line 2: a value is not a number. Correct the line.",))
    assert next(f for f in check(trouble) if f.kind == "table-unreadable").severity == "error"


def test_skies_that_do_not_count_or_are_dark() -> None:
    hall = Hall()
    hall.add("yard", box((20, -0.2, -5), (30, 0, 5)))
    outside = replace(FINE, region=replace(FINE.region, start=tuple(hall.place((25, 0, 0)))))
    assert found(hall, "dark-sky") == [] and len(found(hall, "dark-sky", outside)) == 1
    seen_only = replace(outside, skies={"dusk": Sky((5.0, 5.0, 8.0), counts=False)}, sky="dusk")
    finding = found(hall, "sky-not-counted", seen_only)[0]
    lit = apply_fix(seen_only, finding)
    assert lit.sky_now.counts and found(hall, "sky-not-counted", lit) == []
    assert found(hall, "dark-sky", replace(lit, region=outside.region), sky=(5.0, 5.0, 8.0)) == []


def test_new_old_known_and_gone_are_told_apart() -> None:
    a, b, c = (Finding(k, "warning", "o", "r", "f") for k in ("a", "b", "c"))
    first = sort_out([a, b], None, {})
    assert (first.new, first.old) == ((), (a, b))
    later = sort_out([a, c], frozenset({"a o", "b o"}), {"a o": "meant so"})
    assert (later.new, later.old, later.known, later.gone) == ((c,), (), (a,), ("b o",))


def test_findings_survive_json_and_remedies_refuse_nonsense() -> None:
    other = ("cast-no-shadow", "p")
    finding = Finding("k", "note", "o", "r", "f", (1.0, 2.0, 3.0), ("leave-out", "o"), ("p",), others=(other,))
    assert Finding.of(json.loads(json.dumps(finding.as_json()))) == finding
    assert apply_fix(Brief(), finding).marks["o"].role == "left-out"
    (otherwise,) = alternatives(finding)
    assert apply_fix(Brief(), otherwise).marks == {"p": Mark(casts=False)} and "passes through it" in spoils(otherwise)
    assert not spoils(finding) and not alternatives(otherwise)
    for wrong in (3, ["a"], [[]], [[1]], [["a"]] * 99):
        with pytest.raises(ValueError):
            Finding.of({**finding.as_json(), "others": wrong})
    with pytest.raises(ValueError, match="no remedy 'nonsense'"):
        apply_fix(Brief(), replace(finding, fix=("nonsense",)))
    with pytest.raises(ValueError, match="no remedy that could"):
        apply_fix(Brief(), replace(finding, fix=()))
    marked = with_marks(Brief(), ("a", "b"), "density", 2.0)
    assert with_marks(marked, ("a", "b"), "density", None) == Brief()


@pytest.mark.parametrize("before", [Move(), Move((1.0, 2.0, 3.0), (10.0, 40.0, -20.0), 1.5, (1.0, 3.0, 1.0))])
def test_a_wall_is_made_thicker_about_its_own_middle_wherever_it_was_moved(before: Move) -> None:
    brief = replace(Brief(), moves={"wall": before})
    fault = Finding("k", "note", "floor", "r", "f", fix=THICKEN.of("wall", "Z", "4", "0.25"))
    after = apply_fix(brief, fault).moves["wall"]
    ends = np.array([[x, y, z, 1.0] for x in (0, 2) for y in (0, 3) for z in (0.2, 0.3)])
    was, is_ = (ends @ transform(move).T for move in (before, after))
    np.testing.assert_allclose(is_.mean(axis=0), was.mean(axis=0), atol=1e-6)
    np.testing.assert_allclose(is_[1] - is_[0], 4.0 * (was[1] - was[0]), atol=1e-6)
    np.testing.assert_allclose(is_[2] - is_[0], was[2] - was[0], atol=1e-6)
    # Put back on the grid, or moved by hand, it stays as thick.
    moved = apply_fix(
        replace(brief, moves={"wall": after}), replace(fault, fix=MOVE.of("wall", "[[0, 0, 0], [0, 0, 0], 1]"))
    )
    assert moved.moves["wall"] == Move(stretch=after.stretch)


def test_a_level_without_light_gets_a_plain_day_by_one_press() -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "crate", box((0, 0, 0), (1, 1, 1)), "m")
    level = b.level(Path("a.glb"))
    dark = Brief(skies={"plain day": Sky()}, region=FINE.region)
    (finding,) = [f for f in check(Subject(level, prepare(level, dark).scene, dark)) if f.kind == "no-light"]
    assert act(finding) == "Give it a sky and a sun"
    day = apply_fix(dark, finding)
    assert day.sky == "plain day 2" and min(day.sky_now.color) > 0, "a name that is taken is not written over"
    lit = prepare(level, day)
    (sun,) = lit.scene.lights
    assert sun.kind == "directional" and sun.intensity == 60_000 and sun.direction[1] < -0.8
    assert not {"no-light", "light-off"} & {f.kind for f in check(Subject(lit.level, lit.scene, day, sky=(1, 1, 1)))}
