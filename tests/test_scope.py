"""Part builds: some objects, what changed, what a place sees, a cut box, some stages."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from gltf_files import write_glb
from helpers import bake, level_file, recipe, room
from ropebell.build.found import found_in
from ropebell.build.manifest import read_manifest
from ropebell.build.outputs import BAKED_LEVEL
from ropebell.build.recipe import unfinished
from ropebell.build.remedied import Tried, judged
from ropebell.build.reopened import reopen
from ropebell.build.request import Request
from ropebell.build.result import Result, open_result, read_layer
from ropebell.build.scope import Scope, box_of, named_nodes
from ropebell.build.since import changed_since
from ropebell.cli.main import main
from ropebell.compare.over_builds import mean_light
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import BuildError, UsageError
from ropebell.level.brief import AddedLight, Brief, LightChange, Mark, Move
from ropebell.level.gltf_container import read_container
from ropebell.level.model import F64, LUMINANCE, Light
from ropebell.level.open import open_level
from ropebell.level.prepare import prepare
from ropebell.light.view import View

MADE = unfinished(recipe("working", density__texels_per_metre=6.0, light__gather_rays=128))
DIMMED = Brief(lights={"lights/lamp": LightChange(5.0)})
OBJECTS = ("g/room", "g/other room", "g/crate 0", "g/crate 1")
SHIFT = Brief(moves={"g/crate 1": Move((0.0, 0.0, 0.8))})


def two_rooms(folder: Path) -> Path:
    """A lit room with two crates, another beside it with a lamp of its own, and a gate between them."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "room", room(4, 3, 4), "wall")
    b.add("g", "other room", room(4, 3, 4), "wall", at(6, 0, 0))
    for number, x in enumerate((0.5, 2.4)):
        b.add("g", f"crate {number}", box((x, 0, 1.2), (x + 0.6, 0.7, 1.8)), "wall")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 60.0), at(2, 2.2, 2))
    b.light("far lamp", Light("far lamp", "point", (1, 0.5, 0.2), 60.0), at(8, 2, 2))
    return level_file(folder, b)


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the level, its cache, and a whole build `whole`."""
    folder = tmp_path_factory.mktemp("scope")
    bake(two_rooms(folder), MADE, folder / "whole")
    return folder


def mean_on(result: Result, name: str, layer: np.ndarray | None = None) -> F64:
    """Mean light, linear RGB, of a node's triangles at their middles."""
    scene = result.scene
    rows = (scene.node == scene.node_names.index(name)) & (result.page >= 0)
    at_ = result.uv[rows].mean(axis=1).astype(int)
    pages = result.total if layer is None else layer
    found: F64 = pages[result.page[rows], at_[:, 1], at_[:, 0]].mean(axis=0)
    return found


def origins(folder: Path) -> dict[str, float]:
    """Which part the light of each object is of, at the middles of its triangles."""
    result = open_result(folder)
    layer = read_layer(folder, result.manifest, "origin", 1)
    return {
        name: float(mean_on(result, name, layer)[0]) for name in ("g/room", "g/other room", "g/crate 0", "g/crate 1")
    }


def test_one_object_has_the_light_of_a_whole_build(built: Path, tmp_path: Path) -> None:
    part = bake(built / "level.glb", MADE, tmp_path / "b", cache=tmp_path / "cache", scope=Scope(("g/crate 1",)))
    whole = read_manifest(built / "whole")
    assert part["rays"]["gather"] < 0.25 * whole.rays.gather
    ours, theirs = open_result(tmp_path / "b"), open_result(built / "whole")
    assert mean_on(ours, "g/crate 1") @ LUMINANCE == pytest.approx(mean_on(theirs, "g/crate 1") @ LUMINANCE, rel=0.03)
    assert origins(tmp_path / "b") == {"g/room": 0, "g/other room": 0, "g/crate 0": 0, "g/crate 1": 1}
    assert [p["build"] for p in part["parts"]] == ["", "b"] and part["parts"][0]["texels"] > part["parts"][1]["texels"]


def test_a_whole_build_after_a_part_takes_its_rays_over(built: Path, tmp_path: Path) -> None:
    bake(built / "level.glb", MADE, tmp_path / "b", cache=tmp_path / "cache", scope=Scope(("g/room",)))
    after = bake(built / "level.glb", MADE, tmp_path / "c", cache=tmp_path / "cache")
    assert after["kept"]["rays"] > 0.4 * after["rays"]["gather"] and after["parts"] == []
    for page in after["pages"]:
        assert (tmp_path / "c" / page["file"]).read_bytes() == (built / "whole" / page["file"]).read_bytes()


def test_the_rest_is_of_the_earlier_build_to_the_bit(built: Path, tmp_path: Path) -> None:
    scope = Scope(("g/crate 1",), since=built / "whole")
    part = bake(built / "level.glb", MADE, tmp_path / "b", cache=built / "cache", scope=scope, brief=SHIFT)
    ours, theirs = open_result(tmp_path / "b"), open_result(built / "whole")
    for name in ("g/crate 0", "g/other room", "g/room"):
        np.testing.assert_array_equal(mean_on(ours, name), mean_on(theirs, name))
    told = {p["build"]: p["texels"] for p in part["parts"]}
    assert told["b"] > 0 and told["whole"] > 10 * told["b"] and told[""] == 0
    assert origins(tmp_path / "b") == {"g/room": 2, "g/other room": 2, "g/crate 0": 2, "g/crate 1": 1}
    # The old shadow of the crate on the room's floor is told of; the other room never saw it.
    left = {entry["node"]: entry["texels"] for entry in part["left"]}
    assert left["g/room"] > 10 and "g/other room" not in left and "g/crate 1" not in left
    # A part on top of a part knows all three.
    again = bake(
        built / "level.glb", MADE, tmp_path / "c", cache=built / "cache", brief=SHIFT,
        scope=Scope(("g/crate 0",), since=tmp_path / "b"),
    )  # fmt: skip
    names = [p["build"] for p in again["parts"]]
    found = {name: names[int(k)] for name, k in origins(tmp_path / "c").items()}
    assert found == {"g/room": "whole", "g/other room": "whole", "g/crate 0": "c", "g/crate 1": "b"}
    # What nobody had finished is still that, and no part of its own.
    bake(built / "level.glb", MADE, tmp_path / "d", cache=tmp_path / "cache", scope=Scope(("g/crate 0",)))
    rough = bake(
        built / "level.glb", MADE, tmp_path / "e", cache=tmp_path / "cache",
        scope=Scope(("g/crate 1",), since=tmp_path / "d"),
    )  # fmt: skip
    assert [p["build"] for p in rough["parts"]] == ["", "e", "d"] and rough["parts"][0]["texels"] > 0


def test_what_the_camera_sees_is_lit_evenly_and_the_rest_is_not_run_on_into(built: Path, tmp_path: Path) -> None:
    view = View((1.0, 1.5, 3.5), (0.0, 0.0, -1.0), 0.6)
    part = bake(built / "level.glb", MADE, tmp_path / "b", cache=tmp_path / "cache", scope=Scope(seen=view))
    assert 0 < part["parts"][1]["texels"] < 0.4 * part["texels"]
    assert part["rays"]["gather"] < 0.5 * read_manifest(built / "whole").rays.gather
    assert origins(tmp_path / "b")["g/other room"] == 0


def _asked(capsys: Any, *words: object) -> dict[str, Any]:
    """The manifest of a build by the command line."""
    assert main(["bake", *map(str, words), "--json"]) == 0
    manifest: dict[str, Any] = json.loads(capsys.readouterr().out)["manifest"]
    return manifest


def test_scopes_of_the_window_are_on_the_command_line(
    built: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: Any
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    words = [built / "level.glb", "--recipe", "sketch", "--set", "draft=8"]
    rest = _asked(capsys, *words, "--out", tmp_path / "a", "--all-but", "g/room", "--all-but", "crate 0")
    assert rest["scope"]["only"] == ["g/other room", "g/crate 1"]
    seen = _asked(
        capsys, *words, "--out", tmp_path / "b", "--seen-from", "2,1.5,3.5", "2,0,1", "--seen-angle", 60,
        "--changed-since", tmp_path / "a",
    )  # fmt: skip
    look = View.of(seen["scope"]["seen"])
    assert look.half_angle == pytest.approx(np.pi / 6) and np.linalg.norm(look.toward) == pytest.approx(1)
    assert [p["build"] for p in seen["parts"]][:2] == ["", "b"] and "a" in [p["build"] for p in seen["parts"]]
    for wrong in (
        ["--seen-from", "1,1,1", "1,1,1"],
        ["--seen-from", "1,1,1", "1,1,2", "--seen-angle", "0"],
        ["--all-but", "crate 0", "--only", "crate 1"],
        ["--properties-of", str(tmp_path / "a"), "--only", "crate 1"],
        ["--properties-of", str(tmp_path / "nowhere")],
        ["--properties-of", str(tmp_path / "a")],  # a recipe is named, too
    ):
        assert main(["bake", *map(str, words), "--out", str(tmp_path / "e"), *wrong]) == 2
    assert main(["bake", *map(str, words), "--out", str(tmp_path / "e"), "--all-but", "g"]) == 0
    assert "nothing is left to light" in capsys.readouterr().out and not (tmp_path / "e").exists()


def test_properties_alone_take_the_light_as_it_is(built: Path, tmp_path: Path) -> None:
    """The baked level is of now, with names and extras of now; not a byte of light is another."""
    folder = tmp_path / "level"
    folder.mkdir()
    whole = read_manifest(built / "whole")
    container = read_container(built / "level.glb")
    document = container.json
    gate = next(node for node in document["nodes"] if node["name"] == "crate 0")
    gate["extras"] = {"opens_with": "the brass key"}
    document["nodes"].append({"name": "spawn"})
    document["scenes"][0]["nodes"].append(len(document["nodes"]) - 1)
    write_glb(folder / "level.glb", document, container.binary or b"")
    scope = Scope(since=built / "whole", properties=True)
    made = bake(folder / "level.glb", MADE, tmp_path / "b", cache=built / "cache", scope=scope, brief=DIMMED)
    assert set(made["seconds"]) == {"scene", "write", "total"} and made["level"]["nodes"] == whole.level.nodes + 1
    assert made["lights"] == whole.as_json()["lights"], (
        "dimmed since: that is no property, and is not said to be lit so"
    )
    for page in whole.pages:
        for name in (page.file, page.direct, page.noise):
            if name is not None:
                assert (tmp_path / "b" / name).read_bytes() == (built / "whole" / name).read_bytes()
    ours, theirs = open_result(tmp_path / "b"), open_result(built / "whole")
    for name in OBJECTS:
        np.testing.assert_array_equal(mean_on(ours, name), mean_on(theirs, name))
    nodes = read_container(tmp_path / "b" / BAKED_LEVEL).json["nodes"]
    assert {n["name"]: n["extras"] for n in nodes if "extras" in n} == {"crate 0": {"opens_with": "the brass key"}}
    assert "spawn" in [n["name"] for n in nodes]
    # Handed on once more it is still of the build that was lit, and nothing of that one's own work is claimed.
    bake(
        folder / "level.glb",
        MADE,
        tmp_path / "d",
        cache=built / "cache",
        scope=Scope(since=tmp_path / "b", properties=True),
    )
    again = read_manifest(tmp_path / "d")
    assert again.scope.since == built / "whole" and again.reused == () and not again.kept.rays
    # Its light can still be accounted for, by the build that it is of.
    assert reopen(tmp_path / "b").lit.total.shape == reopen(built / "whole").lit.total.shape
    with pytest.raises(BuildError, match="g/crate 1 came, moved or changed since whole"):
        bake(folder / "level.glb", MADE, tmp_path / "c", cache=built / "cache", scope=scope, brief=SHIFT)


def test_the_mean_light_of_objects_is_weighed_by_their_area(built: Path) -> None:
    whole = built / "whole"
    scene = open_result(whole).scene
    areas = {name: scene.areas[scene.node == n].sum() for n, name in enumerate(scene.node_names) if name in OBJECTS}
    each = {name: mean_light(whole, [name]) for name in OBJECTS}
    together = sum(each[name] * areas[name] for name in OBJECTS) / sum(areas.values())
    assert mean_light(whole, []) == mean_light(whole, ["g"]) == pytest.approx(together, rel=0.01)
    # Not by its triangles, of which those near the lamp are brighter than others; but much the same on a small thing.
    assert each["g/crate 1"] == pytest.approx(mean_on(open_result(whole), "g/crate 1") @ LUMINANCE, rel=0.25)
    assert mean_light(whole, ["g/cr"]) is None and mean_light(built / "nowhere", []) is None


def test_a_cut_box_is_sealed(built: Path, tmp_path: Path) -> None:
    """Round a whole room nothing changes; a cut through it lets nothing in, neither sun nor sky nor lamps outside."""
    brief = Brief(
        added={"sun": AddedLight("directional", (0, 9, 0), (0.2, -1, 0.1))}, lights={"added/sun": LightChange(900.0)}
    )
    room_box = Scope(box=box_of((-0.1, -0.1, -0.1, 4.1, 3.1, 4.1)))
    whole = bake(built / "level.glb", MADE, tmp_path / "a", cache=tmp_path / "cache", brief=brief)
    inside = bake(built / "level.glb", MADE, tmp_path / "b", cache=tmp_path / "cache", brief=brief, scope=room_box)
    assert list(inside["lights"]) == ["lights/lamp"] and set(whole["lights"]) == {
        "lights/lamp",
        "lights/far lamp",
        "added/sun",
    }
    ours, theirs = open_result(tmp_path / "b"), open_result(tmp_path / "a")
    for name in ("g/room", "g/crate 0", "g/crate 1"):
        np.testing.assert_allclose(mean_on(ours, name), mean_on(theirs, name), rtol=0.03)
    assert "g/other room" not in {ours.scene.node_names[n] for n in np.unique(ours.scene.node)}
    halved = Scope(box=box_of((0, 0, 0, 2, 3, 4)))
    cut = bake(built / "level.glb", MADE, tmp_path / "c", cache=tmp_path / "cache", brief=brief, scope=halved)
    half = open_result(tmp_path / "c")
    assert half.scene.corners[..., 0].max() < 2.0 + 1e-5
    # The lamp at x = 2 stands in the cut itself; the wall opposite of it is open, and takes light away.
    assert list(cut["lights"]) == ["lights/lamp"]
    assert (mean_on(half, "g/crate 0") < mean_on(theirs, "g/crate 0")).all()


def test_stages_run_apart(built: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: Any) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    words = ["bake", str(built / "level.glb"), "--recipe", "sketch", "--json", "--out"]
    assert main([*words, str(tmp_path / "b"), "--stage", "direct"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["outcome"] == "done" and told["stage"] == "direct" and told["manifest"] is None
    assert main([*words, str(tmp_path / "c")]) == 0
    assert {"charts", "footing", "direct"} <= set(json.loads(capsys.readouterr().out)["manifest"]["reused"])
    assert main([*words, str(tmp_path / "d"), "--stage", "bake"]) == 2


def test_objects_are_named_by_path_or_by_what_is_theirs_alone(built: Path) -> None:
    scene = prepare(open_level(built / "level.glb")).scene
    assert named_nodes(scene, ("crate 1", "g/room", "g")) == ("g/crate 1", "g/room", "g")
    with pytest.raises(UsageError, match="there is no object 'barrel'"):
        named_nodes(scene, ("barrel",))


@pytest.mark.parametrize(
    ("brief", "objects", "everywhere"),
    [(Brief(), (), ()), (SHIFT, ("g/crate 1",), ()), (DIMMED, (), ("1 light",))],
)  # fmt: skip
def test_what_changed_since_a_build(
    built: Path, brief: Brief, objects: tuple[str, ...], everywhere: tuple[str, ...]
) -> None:
    from ropebell.build.project import Project

    level = built / "level.glb"
    source = open_level(level)
    now = prepare(source, brief)
    found = changed_since(built / "whole", source, now.scene, now.baking, Project(built, level, "x", MADE, brief))
    assert (found.objects, found.everywhere) == (objects, everywhere)
    assert found.nothing == (not objects and not everywhere) and found.part == bool(objects)


def test_a_build_of_nothing_is_none(
    built: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    words = ["bake", str(built / "level.glb"), "--recipe", "sketch", "--json"]
    assert main([*words, "--out", str(tmp_path / "a")]) == 0
    capsys.readouterr()
    assert main([*words, "--out", str(tmp_path / "b"), "--changed-since", str(tmp_path / "a")]) == 0
    assert json.loads(capsys.readouterr().out)["outcome"] == "nothing" and not (tmp_path / "b").exists()
    assert (
        main([*words, "--out", str(tmp_path / "b"), "--only", "crate 0", "--changed-since", str(tmp_path / "a")]) == 0
    )
    assert [p["build"] for p in json.loads(capsys.readouterr().out)["manifest"]["parts"]] == ["", "b", "a"]
    for wrong in (
        ["--box", "1,2,3"],
        ["--box", "0,0,0,0,1,1"],
        ["--only", "nobody"],
        ["--changed-since", str(tmp_path)],
    ):
        assert main([*words, "--out", str(tmp_path / "e"), *wrong]) == 2
    assert not (tmp_path / "e").exists()


def test_faults_of_the_light_that_is_taken_over_are_still_there(tmp_path: Path) -> None:
    """A crate that is inside out in one room, while the other room alone is lit again."""
    builds, level = tmp_path / "builds", two_rooms(tmp_path)
    builds.mkdir()
    odd = Brief(marks={"g/crate 1": Mark(turned=True)})
    bake(level, MADE, builds / "0001", brief=odd)
    black = [f for f in found_in(builds / "0001")[0].findings if f.kind == "black-patch"]
    assert {f.object for f in black} == {"g/crate 1"}
    # Denser, so that all charts lie elsewhere on the pages.
    denser = replace(odd, marks={**odd.marks, "g/other room": Mark(density=2.0)})
    part = Scope(("g/other room",), since=builds / "0001")
    bake(level, MADE, builds / "0002", brief=denser, scope=part)
    manifest, seen = found_in(builds / "0002")
    assert [(f.place, state) for f, state in seen.found if f.kind == "black-patch"] == [
        (f.place, "still") for f in black
    ]
    assert not [f for f in seen.gone if f.object != "g/other room"] and not seen.taken_away
    # Their texels are those of now.
    lit = reopen(builds / "0002").lit
    for finding in (f for f in manifest.findings if f.kind == "black-patch"):
        assert finding.page is not None and finding.texel is not None and finding.place is not None
        at = lit.texels.grid[finding.page, finding.texel[1], finding.texel[0]]
        assert lit.scene.node_names[lit.node[at]] == "g/crate 1"
        assert np.linalg.norm(lit.places[at] - finding.place) < 0.5
    # A remedy of what was not lit again is not judged yet, one of what was is.
    tried = [Tried(black[0], "Turn its faces round", 1)]
    assert judged(tried, 2, [], manifest.scope) == tried
    assert judged(tried, 2, [], Scope(("g",), since=builds / "0001"))[0].verdict == "helped"
    # Without light to take over, nothing can be said of the rest; nor of what lies outside a cut box.
    for number, scope in enumerate((Scope(("g/other room",)), Scope(box=box_of((5, -1, -1, 11, 4, 5)))), 3):
        bake(level, MADE, builds / f"000{number}", brief=odd, scope=scope)
        seen = found_in(builds / f"000{number}", builds / "0001")[1]
        assert not seen.gone and not seen.taken_away and "black-patch" not in {f.kind for f, _ in seen.found}


@pytest.mark.parametrize(
    "values", [{"box": [1, 2]}, {"only": 3}, {"seen": {"eye": []}}, [], {"box": [0, 0, 0, 0, 1, 1]}]
)
def test_what_is_no_scope_is_refused(values: Any) -> None:
    with pytest.raises(ValueError):
        Scope.of(values)


def test_a_scope_comes_back_from_its_values() -> None:
    scope = Scope(("a/b",), box_of((3, 2, 1, 0, 0, 0)), Path("/x"), View((0, 0, 0), (0, 0, 1), 0.5), "solve", True)
    assert Scope.of(json.loads(json.dumps(scope.as_values()))) == scope
    assert Scope.of({}) == Scope() and Scope().everywhere and not scope.everywhere


def test_no_sky_with_a_cut_box(tmp_path: Path) -> None:
    asked = Request(tmp_path / "a.glb", tmp_path, tmp_path, MADE, (1.0, 2.0, 3.0), sky_picture=tmp_path / "sky.hdr")
    cut = replace(asked, scope=Scope(box=box_of((0, 0, 0, 1, 1, 1))))
    assert asked.sky == (1.0, 2.0, 3.0) and asked.sky_picture is not None
    assert cut.sky == (0.0, 0.0, 0.0) and cut.sky_picture is None
    assert Request.from_json(cut.to_json()) == cut
