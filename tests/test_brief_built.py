"""What a brief says is what a build does."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import KeptLayouts, bake, floor, level_file, meter, recipe, room
from ropebell.build.precheck import check_kept, gather
from ropebell.build.project import find_project
from ropebell.build.result import open_result
from ropebell.build.stage import Inputs
from ropebell.build.stages import digests
from ropebell.build.store import Store
from ropebell.charts.atlas import ChartSettings, make_atlas
from ropebell.charts.shapes import placed_shapes
from ropebell.checks.before import BEFORE, BRIEF, LIGHTS, MARKS
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import LevelError
from ropebell.level.brief import (
    AddedLight,
    Brief,
    EmitterChange,
    LightChange,
    Mark,
)
from ropebell.level.emitter_table import read_table
from ropebell.level.model import Level, Light
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten, prepare
from small_levels import small


@pytest.fixture
def level() -> Level:
    return small().level(Path("a.glb"))


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
