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

from helpers import KeptLayouts, bake, floor, level_file, meter, recipe, room
from ropebell.build.checked import read_checked, write_checked
from ropebell.build.precheck import check_kept, gather
from ropebell.build.project import find_project, load_project
from ropebell.build.result import open_result
from ropebell.build.stage import Inputs
from ropebell.build.stages import digests
from ropebell.build.store import Store
from ropebell.charts.atlas import ChartSettings, make_atlas
from ropebell.charts.shapes import placed_shapes
from ropebell.checks.before import BEFORE, BRIEF, LIGHTS, MARKS
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
from ropebell.level.emitter_table import read_table
from ropebell.level.faces import PROPERTIES, find_faces, grouped
from ropebell.level.guard import refusal
from ropebell.level.model import Level, Light
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten, prepare

FULL = Brief(
    marks={
        "g/crate": Mark("moving", casts=False, density=2.0, bias={"m": 0.5}, poses={"up": Pose((0, 1, 0))}, pose="up")
    },
    branches={"g": Mark("blocks", note="all of it")},
    lights={"lights/lamp": LightChange(5.0, (1, 0.5, 0), False, "hybrid", (1, 2, 3), (0, -1, 0), 4.0, template="t")},
    templates={"t": LightChange(9.0, share=0.5)},
    added={"new": AddedLight("spot", (0, 1, 0), (1, 0, 0))},
    emitters={"m": EmitterChange(False), "n": EmitterChange(None, (1, 2, 3))},
    moves={"g/crate": Move((1, 0, 0), (0, 90, 0), 2.0)},
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


def small() -> LevelBuilder:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.material("n", (0.5, 0.4, 0.3), glow=(10.0, 10.0, 10.0))
    b.add("g", "floor", floor(4), "m")
    b.add("g", "crate", box((0, 0, 0), (1, 1, 1)), "m", at(1, 0.5, 0))
    b.add("g", "glow", box((0, 0, 0), (0.1, 0.1, 0.1)), "n", at(-1, 1, 0))
    b.add("h", "post", box((0, 0, 0), (0.1, 2, 0.1)), "m", at(-1.5, 0, -1))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0, 5.0), at(0, 2, 0))
    return b


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


def test_density_decides_how_many_texels_an_object_gets(tmp_path: Path) -> None:
    path = level_file(tmp_path, small())
    made = recipe("sketch", density__texels_per_metre=8.0)
    plain = bake(path, made, tmp_path / "a", sky=(1, 1, 1))
    finer = bake(path, made, tmp_path / "b", sky=(1, 1, 1), brief=Brief(marks={"g/crate": Mark(density=3.0)}))
    # Five open faces and a bottom, 8 × 8 each, become 24 × 24.
    assert finer["texels"] - plain["texels"] == pytest.approx(6 * (24**2 - 8**2), rel=0.12)


def test_a_build_does_as_the_brief_says(tmp_path: Path) -> None:
    path = level_file(tmp_path, small())
    brief = Brief(
        marks={"g/crate": Mark("left-out"), "h/post": Mark("blocks", bounces=False), "gone/thing": Mark("baked")},
        lights={"lights/lamp": LightChange(mode="live")},
        added={"new": AddedLight("point", (0.0, 1.0, 0.0))},
    )
    brief = replace(brief, lights={**brief.lights, "added/new": LightChange(100.0, size=0.1, share=0.5)})
    manifest = bake(path, recipe("working", light__bounces=0), tmp_path / "out", brief=brief)
    assert list(manifest["lights"]) == ["added/new"]
    # E = I / d² below the added light; the floor under the missing crate is lit.
    below, under_crate = meter(tmp_path / "out", (0.1, 0, 0.1), (1.5, 0, -0.5))
    assert below.irradiance[0] == pytest.approx(100 / 1.02**1.5, rel=0.02)
    assert under_crate.irradiance[0] > 1
    assert [f["object"] for f in manifest["findings"] if f["kind"] == "unmatched-mark"] == ["gone/thing"]
    from ropebell.build.meter import Meter
    from ropebell.build.result import open_result

    split = Meter(open_result(tmp_path / "out")).read(np.array([0.1, 0, 0.1]), np.array([0.0, 1, 0]))
    assert split.lights["added/new"][0] == pytest.approx(below.irradiance[0], rel=1e-3)


def test_what_only_blocks_and_bounces_has_no_lightmap_but_the_same_say_in_the_light(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("white", (0.7, 0.7, 0.7))
    b.material("red", (0.8, 0.1, 0.1))
    b.add("g", "room", room(3, 2, 3), "white")
    b.add("g", "box", box((0.2, 0.2, 0.2), (1.2, 0.9, 1.2)), "red")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 100.0), at(2.2, 1.6, 2.2))
    path = level_file(tmp_path, b)
    made = recipe("working", density__texels_per_metre=12.0, light__gather_rays=256, finish__denoise=False)
    baked, blocks, gone = tmp_path / "baked", tmp_path / "blocks", tmp_path / "gone"
    whole = bake(path, made, baked)
    without = bake(path, made, blocks, brief=Brief(marks={"g/box": Mark("blocks")}))
    bake(path, made, gone, brief=Brief(marks={"g/box": Mark("left-out")}))
    places = [(x, 0.0, z) for x in (0.4, 0.7, 1.4, 2.2) for z in (0.4, 0.7, 1.4, 2.2)]
    a, c, d = (np.array([r.irradiance for r in meter(f, *places)]) for f in (baked, blocks, gone))
    # The box is lit more coarsely now, so its red light is the same within a few per cent.
    np.testing.assert_allclose(c, a, rtol=0.05, atol=0.3)
    assert np.abs(d - a).max() > 5.0
    assert without["texels"] < whole["texels"] and without["pages"][0]["texels"] < whole["pages"][0]["texels"]
    written = open_level(blocks / "level-baked.glb")
    pages = {m.name: [p.uv1 is not None for p in m.primitives] for m in written.meshes}
    assert pages == {"room": [True], "box": [False]}
    over = meter(blocks, (0.7, 0.9, 0.7), normal=None)[0]
    assert over.node == "g/room", "what has no lightmap cannot be read"
    split = meter(blocks, (2.2, 0.0, 2.2))[0]
    assert sum(split.lights.values())[0] == pytest.approx(split.irradiance[0], rel=1e-3)
    shown = open_result(blocks)
    assert (shown.page[shown.scene.node == shown.scene.node_names.index("g/box")] == -1).all()
    both = Brief(marks={"g/box": Mark("blocks"), "g/room": Mark("blocks")})
    empty = bake(path, made, tmp_path / "empty", brief=both)
    assert empty["pages"] == [] and open_result(tmp_path / "empty").total.shape == (1, 1, 1, 3)


def test_emitters_follow_tables_and_the_project(tmp_path: Path) -> None:
    path = level_file(tmp_path, small())
    (tmp_path / "t.csv").write_text("material,r,g,b,strength\nn,1,1,1,40\n")
    made = recipe("sketch")
    plain = bake(path, made, tmp_path / "a")
    table = bake(path, made, tmp_path / "b", tables=(tmp_path / "t.csv",))
    assert plain["emitters"]["g/glow"] == [10, 10, 10] and table["emitters"]["g/glow"] == [40, 40, 40]
    assert table["emission"] == {"n": [40, 40, 40]}
    assert {"charts", "transport", "direct"} <= set(table["reused"])
    off = bake(
        path, made, tmp_path / "c", brief=Brief(emitters={"n": EmitterChange(False)}), tables=(tmp_path / "t.csv",)
    )
    assert off["emitters"] == {}


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "no head line"),
        ("name,r,g,b\n", "no head line"),
        ("material,r,g,b,strength\na,1,1,1\n", "line 2: the line has 4 values, not 5"),
        ("material,r,g,b,strength\na,1,x,1,2\n", "line 2: a value is not a number"),
        ("material,r,g,b,strength\n\na,1,-1,1,2\n", "line 3: a radiance is outside"),
        ("material,r,g,b,strength\na,nan,1,1,2\n", "outside"),
    ],
)
def test_bad_tables_are_named_by_line(tmp_path: Path, text: str, words: str) -> None:
    (tmp_path / "t.csv").write_text(text)
    with pytest.raises(LevelError, match=words):
        read_table(tmp_path / "t.csv")
    with pytest.raises(LevelError, match="no such file"):
        read_table(tmp_path / "gone.csv")
    (tmp_path / "b.csv").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(LevelError, match="UTF-8"):
        read_table(tmp_path / "b.csv")


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


def test_checks_are_kept_by_digest_until_something_changes(tmp_path: Path) -> None:
    path = level_file(tmp_path, small())
    project = find_project(path)
    store = Store(tmp_path / "cache")
    level = open_level(path)

    def of(brief: Brief) -> list:
        return check_kept(gather(level, brief, project.recipe, (1.0, 1.0, 1.0), ()).subject, store)

    first = of(Brief())
    entries = len(list(store.folder.iterdir()))
    assert of(Brief()) == first and len(list(store.folder.iterdir())) == entries
    marked = of(Brief(marks={"g/crate": Mark(work=True)}))
    of_marks = {one.needs for one in BEFORE if {MARKS, BRIEF} & set(one.needs)}
    assert "work-object" in {f.kind for f in marked} and len(list(store.folder.iterdir())) == entries + len(of_marks)
    # A lamp's strength is no matter of shapes: only what is decided is looked at anew.
    entries = len(list(store.folder.iterdir()))
    of_briefs = {one.needs for one in BEFORE if BRIEF in one.needs}
    brighter = of(Brief(lights={"lights/lamp": LightChange(900.0, work=True)}))
    assert "work-light" in {f.kind for f in brighter} and len(list(store.folder.iterdir())) == entries + len(of_briefs)
    entries = len(list(store.folder.iterdir()))
    of(Brief(lights={"lights/lamp": LightChange(position=(1.5, 0.25, -0.5))}))
    of_places = {one.needs for one in BEFORE if {LIGHTS, BRIEF} & set(one.needs)}
    assert len(list(store.folder.iterdir())) == entries + len(of_places), "where it stands is one"


def test_only_what_matters_to_a_stage_is_in_its_digest(level: Level) -> None:
    made = recipe("working")
    plain = digests(Inputs(prepare(level).baking, made))
    noted = digests(Inputs(prepare(level, Brief(marks={"g/crate": Mark(note="x", guard=True)})).baking, made))
    assert noted == plain
    finer = digests(Inputs(prepare(level, Brief(marks={"g/crate": Mark(density=2.0)})).baking, made))
    assert finer.one("charts") != plain.one("charts")
    moved = digests(Inputs(prepare(level, Brief(lights={"lights/lamp": LightChange(position=(1, 1, 1))})).baking, made))
    assert moved.one("charts") == plain.one("charts") and moved.of["direct"] != plain.of["direct"]


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


def test_unlit_surfaces_get_no_lightmap_even_within_an_object(tmp_path: Path) -> None:
    """They are drawn in their own colour: they block and bounce light, and nothing of a page is spent on them."""
    b = LevelBuilder()
    b.material("white", (0.7, 0.7, 0.7))
    b.material("card", (0.2, 0.9, 0.2), unlit=True)
    b.add("g", "floor", floor(3), "white")
    b.add("g", "card", box((0, 0, 0), (0.5, 0.8, 0.1)), "card", at(0.3, 0.0, -0.5))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 60.0), at(0.4, 1.0, 0.9))
    manifest = bake(level_file(tmp_path, b), recipe("working"), tmp_path / "out")
    shown = open_result(tmp_path / "out")
    card = shown.scene.node == shown.scene.node_names.index("g/card")
    assert (shown.page[card] == -1).all() and (shown.page[~card] == 0).all()
    assert manifest["pages"][0]["texels"] == pytest.approx(30 * 30, rel=0.1)
    behind, aside, before = meter(tmp_path / "out", (0.45, 0, -0.9), (-1.2, 0, 0.9), (0.5, 0, -0.2))
    assert behind.direct[0] == 0.0 and aside.direct[0] > 5
    # The lit card throws green light back on the floor before it.
    assert before.bounced[1] > 3 * before.bounced[0] > 0
    level = b.level(Path("a.glb"))
    mesh = level.meshes[1]
    mixed = replace(mesh, primitives=(*mesh.primitives, replace(level.meshes[0].primitives[0])))
    both = replace(level, meshes=(level.meshes[0], mixed))
    atlas, _ = make_atlas(
        flatten(both), placed_shapes(flatten(both), KeptLayouts(), 1, lambda _: None), ChartSettings(8)
    )
    scene = flatten(both)
    assert ((atlas.lightmap == -1) == scene.bare).all() and 0 < scene.bare.sum() < len(scene)
    rects = atlas.rects[atlas.rects[:, 0] < atlas.written]
    assert (rects[:, 1:3] + rects[:, 3:5] <= atlas.side).all()
