"""The brief: round trips, branches and exceptions, poses and moves, density exactly back, guards."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import tomli_w
from hypothesis import given
from hypothesis import strategies as st

from helpers import floor, level_file
from ropebell.build.checked import read_checked, write_checked
from ropebell.build.project import find_project, load_project
from ropebell.checks.remedies import with_density_set, with_marks
from ropebell.checks.unmatched import unmatched
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import LevelError, ProjectError
from ropebell.level.arrange import marks_in_force
from ropebell.level.brief import (
    AddedLight,
    Box,
    Brief,
    BriefError,
    DensityBox,
    EmitterChange,
    LightChange,
    Mark,
    Move,
    Pose,
    Region,
    Sky,
    TrialDensity,
    from_values,
    to_values,
)
from ropebell.level.density import density_factors
from ropebell.level.differences import differences
from ropebell.level.faces import PROPERTIES, find_faces, grouped
from ropebell.level.guard import refusal
from ropebell.level.model import Level, Light
from ropebell.level.prepare import prepare
from small_levels import small

FULL = Brief(
    marks={
        "g/crate": Mark("moving", casts=False, density=2.0, bias={"m": 0.5}, poses={"up": Pose((0, 1, 0))}, pose="up")
    },
    branches={"g": Mark("blocks", note="all of it")},
    lights={"lights/lamp": LightChange(5.0, (1, 0.5, 0), False, "hybrid", (1, 2, 3), (0, -1, 0), 4.0, template="t")},
    templates={"t": LightChange(9.0, share=0.5)},
    added={"new": AddedLight("spot", (0, 1, 0), (1, 0, 0))},
    emitters={"m": EmitterChange(False), "n": EmitterChange(None, (1, 2, 3))},
    moves={"g/crate": Move((1, 0, 0), (0, 90, 0), 2.0, (1.0, 1.0, 3.0))},
    tables=("emitters/a.csv",),
    skies={"noon": Sky((1, 2, 3), 2.0, "sky.hdr", 30.0)},
    sky="noon",
    density_boxes=(DensityBox((0, 0, 0), (1, 1, 1), 3.0, "corner"),),
    test_density=TrialDensity(0.5, frozenset({"g/crate", "g/floor"})),
    sets={"fine": {"g/crate": 4.0}},
    region=Region((Box((0, 0, 0), (1, 2, 3)),), 8.0, (0.5, 0, 0.5)),
    known={"sliver g/crate": "meant so"},
    guard=True,
)


@pytest.fixture
def level() -> Level:
    return small().level(Path("a.glb"))


def test_everything_survives_toml_and_json() -> None:
    values = to_values(FULL)
    assert from_values(json.loads(json.dumps(values))) == FULL
    import tomllib

    assert from_values(tomllib.loads(tomli_w.dumps(values))) == FULL
    assert to_values(Brief()) == {}


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"marks": {"a b": {"role": "flying"}}}, 'marks."a b".role'),
        ({"marks": {"a": {"densitee": 2}}}, "marks.a.densitee: there is no such setting"),
        ({"marks": {"a": {"density": 0}}}, "marks.a.density"),
        ({"marks": {"a": {"density": float("nan")}}}, "marks.a.density"),
        ({"lights": {"l": {"intensity": -1}}}, "lights.l.intensity"),
        ({"skies": {"s": {"color": [1, 2]}}}, "skies.s.color"),
        ({"region": {"boxes": [{"low": [0, 0, 0]}]}}, "region.boxes.0"),
        ({"test_density": 3}, "test_density"),
    ],
)
def test_unusable_values_are_named(values: dict, words: str) -> None:
    with pytest.raises(BriefError, match=words.replace(".", r"\.")):
        from_values(values)


@given(st.dictionaries(st.text(min_size=1, max_size=30), st.floats(0.01, 60), max_size=8))
def test_any_name_can_be_a_key(factors: dict[str, float]) -> None:
    brief = Brief(marks={name: Mark(density=value) for name, value in factors.items()}, sets={"now": dict(factors)})
    assert from_values(json.loads(json.dumps(to_values(brief)))) == brief


def test_marks_come_from_the_node_then_the_branch_then_the_default(level: Level) -> None:
    brief = Brief(
        branches={"g": Mark("moving", casts=False)}, marks={"g/crate": Mark("baked"), "g/floor": Mark(density=3.0)}
    )
    found = marks_in_force(level, brief)
    of = {node.path: mark for node, mark in zip(level.nodes, found.nodes)}
    assert (of["g/crate"].role, of["g/crate"].casts) == ("baked", False)
    assert (of["g/floor"].role, of["g/floor"].density) == ("moving", 3.0)
    assert (of["h/post"].role, of["h/post"].casts, of["h/post"].density) == ("baked", True, 1.0)
    assert found.exceptions(level, brief, "g") == [("g/crate", "role")]
    assert found.exceptions(level, brief, "h") == []


def test_roles_decide_what_a_build_sees(level: Level) -> None:
    whole = prepare(level)
    brief = Brief(
        marks={"g/crate": Mark("left-out"), "g/glow": Mark("moving")}, lights={"lights/lamp": LightChange(mode="live")}
    )
    made = prepare(level, brief)
    assert len(made.scene) == len(whole.scene) and len(made.scene.lights) == 1
    assert set(made.baking.node.tolist()) == {n for n, x in enumerate(level.nodes) if x.path in ("g/floor", "h/post")}
    assert made.baking.lights == () and made.baking.emitters == ()
    assert len(whole.baking.emitters) == 1
    gone = prepare(level, Brief(marks={"g/crate": Mark(poses={"away": Pose(absent=True)}, pose="away")}))
    assert len(gone.baking) == len(whole.scene) - 12


def test_poses_moves_and_added_lights_stand_where_they_should(level: Level) -> None:
    brief = Brief(
        marks={"g/crate": Mark(poses={"up": Pose((0, 2, 0), (0, 90, 0))}, pose="up")},
        moves={"h": Move((1, 0, 0)), "h/post": Move(scale=2.0)},
        added={"sun": AddedLight("directional", (0, 9, 0), (0, -1, 0))},
        lights={"added/sun": LightChange(700.0, (1, 1, 0.5))},
    )
    made = prepare(level, brief)
    crate = made.scene.corners[made.scene.node == made.scene.node_names.index("g/crate")].reshape(-1, 3)
    np.testing.assert_allclose([crate.min(axis=0), crate.max(axis=0)], [[1, 2.5, -1], [2, 3.5, 0]], atol=1e-9)
    post = made.scene.corners[made.scene.node == made.scene.node_names.index("h/post")].reshape(-1, 3)
    np.testing.assert_allclose([post.min(axis=0), post.max(axis=0)], [[-0.5, 0, -1], [-0.3, 4, -0.8]], atol=1e-9)
    sun = made.scene.lights[-1]
    assert (sun.name, sun.kind, sun.intensity) == ("added/sun", "directional", 700.0)
    np.testing.assert_allclose(sun.direction, [0, -1, 0], atol=1e-12)


def test_light_settings_and_templates(level: Level) -> None:
    brief = Brief(
        templates={"lamps": LightChange(30.0, (1, 0, 0), reach=3.0)},
        lights={"lights/lamp": LightChange(color=(0, 1, 0), template="lamps", position=(1, 1, 1), size=0.2, share=0.5)},
    )
    lamp = prepare(level, brief).scene.lights[0]
    assert (lamp.intensity, lamp.color, lamp.reach, lamp.size, lamp.share) == (30.0, (0, 1, 0), 3.0, 0.2, 0.5)
    np.testing.assert_array_equal(lamp.position, [1, 1, 1])
    # One change of the template reaches every copy.
    brighter = replace(brief, templates={"lamps": LightChange(60.0)})
    assert prepare(level, brighter).scene.lights[0].intensity == 60.0
    endless = replace(brief, lights={"lights/lamp": LightChange(reach=0.0)})
    assert prepare(level, endless).scene.lights[0].reach is None


def factors(level: Level, brief: Brief) -> dict[str, float]:
    scene = prepare(level, brief).scene
    return {
        name: float(scene.factor[scene.node == n].max())
        for n, name in enumerate(scene.node_names)
        if (scene.node == n).any()
    }


def test_density_is_factor_times_bias_times_box_and_less_outside_the_region(level: Level) -> None:
    brief = Brief(
        marks={"g/crate": Mark(density=2.0, bias={"m": 3.0}), "h/post": Mark(density=0.5)},
        density_boxes=(DensityBox((-9, 0.9, -9), (9, 9, 9), 4.0), DensityBox((-9, 0.9, -9), (9, 9, 9), 2.0)),
        region=Region((Box((0, 0, -1), (3, 3, 3)),), 8.0),
    )
    assert factors(level, brief) == pytest.approx({"g/floor": 1, "g/crate": 24, "g/glow": 4 / 8, "h/post": 0.5 * 4 / 8})
    assert factors(level, Brief()) == {"g/floor": 1, "g/crate": 1, "g/glow": 1, "h/post": 1}


def test_everything_to_test_density_and_each_back_exactly(level: Level) -> None:
    own = Brief(
        marks={"g/crate": Mark(density=1.7, bias={"m": 0.3}), "h/post": Mark(density=1 / 3)},
        branches={"g": Mark(density=0.7)}, density_boxes=(DensityBox((0, 0, 0), (1, 1, 1), 1.1),),
    )  # fmt: skip
    before = prepare(level, own).scene.factor
    names = frozenset(n.path for n in level.nodes)
    trial = replace(own, test_density=TrialDensity(0.125, names))
    assert set(prepare(level, trial).scene.factor.tolist()) == {0.125}
    back = replace(trial, test_density=TrialDensity(0.125))
    assert back == replace(own, test_density=TrialDensity(0.125))
    np.testing.assert_array_equal(prepare(level, back).scene.factor, before)
    # Only some of them.
    some = replace(trial, test_density=TrialDensity(0.125, names - {"h/post"}))
    assert factors(level, some)["h/post"] == np.float32(1 / 3)
    # Named sets: what was kept comes back exactly, and what had no factor has none again.
    kept = replace(own, sets={"a": {p: m.density for p, m in own.marks.items()}})
    other = with_marks(with_marks(kept, ("g/crate",), "density", 9.0), ("g/floor",), "density", 5.0)
    assert with_density_set(other, "a") == kept


def test_projects_keep_the_brief_and_refuse_what_they_cannot_use(tmp_path: Path) -> None:
    path = level_file(tmp_path, small())
    project = replace(find_project(path), brief=FULL)
    project.save()
    again = load_project(project.folder / "project.toml")
    assert again.brief == FULL and not again.rest
    with pytest.raises(LevelError, match="leads out"):
        _ = project.with_brief(tables=("../x.csv",)).tables
    text = (project.folder / "project.toml").read_text()
    for old, new, words in (
        ('sky = "noon"', 'sky = "night"', "no sky 'night'"),
        ('role = "moving"', 'role = "dancing"', r"marks\.\"g/crate\"\.role"),
        ("most", "most", ""),
    ):
        (project.folder / "project.toml").write_text(text.replace(old, new))
        if words:
            with pytest.raises(ProjectError, match=words):
                load_project(project.folder / "project.toml")
    assert load_project(project.folder / "project.toml").brief == FULL


def test_what_was_seen_is_kept_and_a_damaged_note_of_it_is_no_trouble(tmp_path: Path) -> None:
    project = find_project(level_file(tmp_path, small()))
    assert read_checked(project) is None
    write_checked(project, frozenset({"b", "a"}))
    assert read_checked(project) == {"a", "b"}
    (project.folder / "checked.json").write_text("{")
    assert read_checked(project) is None


def test_guards_refuse_with_a_reason_until_they_are_taken_off(level: Level) -> None:
    guarded = Brief(marks={"g/crate": Mark(guard=True)}, branches={"h": Mark(guard=True)})
    heavier = with_marks(guarded, ("g/crate",), "density", 2.0)
    assert "'g/crate' is guarded" in refusal(level, guarded, heavier)
    assert "'h/post' is guarded" in refusal(level, guarded, with_marks(guarded, ("h/post",), "role", "moving"))
    assert "'g/crate'" in refusal(level, guarded, with_marks(guarded, ("g",), "role", "moving", branch=True))
    assert refusal(level, guarded, with_marks(guarded, ("g/floor",), "role", "moving")) == ""
    assert refusal(level, guarded, with_marks(guarded, ("g/crate",), "guard", None)) == ""
    assert "guarded" in refusal(level, guarded, replace(guarded, moves={"g/crate": Move((1, 0, 0))}))
    whole = Brief(guard=True)
    assert "level is guarded" in refusal(level, whole, replace(whole, sky="x", skies={"x": Sky()}))
    assert refusal(level, whole, replace(whole, guard=False)) == ""
    assert refusal(level, whole, replace(whole, known={"a": "fine"})) == ""


def test_two_readings_of_a_level_are_compared_by_path() -> None:
    before = small()
    after = LevelBuilder()
    after.material("m", (0.5, 0.5, 0.4))
    after.material("n", (0.5, 0.4, 0.3), glow=(10.0, 10.0, 10.0))
    after.add("g", "floor", floor(5), "n")
    after.add("g", "glow", box((0, 0, 0), (0.1, 0.1, 0.1)), "n", at(-1, 2, 0))
    after.add("h", "post", box((0, 0, 0), (0.1, 2, 0.1)), "m", at(-1.5, 0, -1))
    after.add("h", "rail", box((0, 0, 0), (2, 0.1, 0.1)), "m")
    after.light("lamp", Light("lamp", "point", (1, 1, 1), 90.0, 5.0), at(0, 2, 0))
    found = differences(before.level(Path("a.glb")), after.level(Path("a.glb")))
    assert (found.added, found.removed, found.reshaped) == (("h/rail",), ("g/crate",), ("g/floor",))
    assert (found.rematerialed, found.moved, found.relit) == (("h/post",), ("g/glow",), ("lights/lamp",))
    assert "1 added (rail)" in found.sentence() and not found.nothing
    assert differences(before.level(Path("a.glb")), small().level(Path("a.glb"))).nothing


def test_faces_are_found_by_material_and_property(level: Level) -> None:
    scene = prepare(level, Brief(marks={"h/post": Mark("left-out"), "g/crate": Mark(density=2.0)})).scene
    assert len(find_faces(level, scene)) == 0
    assert len(find_faces(level, scene, "m")) == len(scene) - 12
    assert len(find_faces(level, scene, "n", "glowing")) == 12 and len(find_faces(level, scene, "m", "glowing")) == 0
    counts = {name: len(find_faces(level, scene, quality=name)) for name in PROPERTIES}
    assert (counts["not part of a build"], counts["with another density"], counts["two-sided"]) == (12, 12, 0)
    assert counts["facing up"] == 2 * 4
    groups = grouped(scene, find_faces(level, scene, "m"))
    assert [level.nodes[g.node].path for g in groups] == ["g/floor", "g/crate", "h/post"]
    assert groups[0].area == pytest.approx(16.0) and groups[1].faces == 12


def test_what_matches_nothing_is_named(level: Level) -> None:
    brief = replace(FULL, marks={"g/crate": Mark(receives=False)}, emitters={"zinc": EmitterChange(False)})
    lost = {f.object for f in unmatched(level, replace(brief, lights={"lights/gone": LightChange(1.0)}))}
    assert lost == {"lights/gone", "zinc"}
    plain = prepare(level).scene
    assert density_factors(plain, level, Brief(), plain.marks).tolist() == [1.0] * len(plain)
