"""A face that is cut along a box is still the object's own: nothing has moved, nothing has another shape."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import bake, level_file, recipe, room
from ropebell.build.manifest import read_manifest
from ropebell.build.outdated import outdated
from ropebell.build.project import find_project
from ropebell.build.recut import recut
from ropebell.build.result import open_result
from ropebell.build.scope import Scope, box_of
from ropebell.build.since import changed_since
from ropebell.compare.changes import changes
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box
from ropebell.level.brief import Brief, DensityBox, Move
from ropebell.level.model import Light
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten, prepare
from ropebell.level.scene import Scene

MADE = recipe("sketch", density__texels_per_metre=4.0, light__gather_rays=16)
CORNER = DensityBox((-0.5, -0.5, -0.5), (1.7, 1.3, 1.6), 3.0)


def furnished() -> LevelBuilder:
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("g", "room", room(4, 3, 4), "wall")
    b.add("g", "globe", ball(0.5, 6, 9), "wall", at(1.5, 0.6, 1.4))
    b.add("g", "crate", box((0, 0, 0), (0.6, 0.5, 0.7)), "wall", at(1.4, 0.0, 2.4))
    b.add("g", "chest", box((0, 0, 0), (0.4, 0.3, 0.4)), "wall", at(0.3, 0.0, 0.4))
    b.add("g", "far crate", box((0, 0, 0), (0.6, 0.5, 0.7)), "wall", at(3.0, 0.0, 3.0))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 60.0), at(2, 2.5, 2))
    return b


def same_surface(a: Scene, b: Scene) -> dict[str, bool]:
    """By object, whether all of its faces are the same surface in both."""
    every = [np.ones(len(x), np.bool_) for x in (a, b)]
    found = recut(a, every[0], b, np.array([*range(len(b.node_names)), -1]), every[1])
    return dict(zip(a.node_names, found[:-1].tolist()))


@settings(max_examples=60, deadline=None)
@given(
    st.tuples(*[st.floats(-1.0, 3.5)] * 3), st.tuples(*[st.floats(0.1, 3.0)] * 3), st.floats(-3.1, 3.1),
    st.sampled_from((0.0, 50.0, -3000.0)),
)  # fmt: skip
def test_cut_along_any_box_all_is_the_same_and_what_is_not_is_told(
    low: tuple[float, ...], size: tuple[float, ...], turn: float, far: float
) -> None:
    level, away = furnished().level(Path("a.glb")), np.eye(4)
    away[:3, :3] = [[np.cos(turn), 0, np.sin(turn)], [0, 1, 0], [-np.sin(turn), 0, np.cos(turn)]]
    away[0, 3] = far
    level = replace(level, nodes=tuple(replace(n, world=away @ n.world) for n in level.nodes))
    at_box = np.array(low) + [far, 0, 0]
    cut = Brief(density_boxes=(DensityBox(tuple(at_box), tuple(at_box + size), 2.0),))
    plain, boxed = flatten(level), flatten(level, cut)
    names = [n for n in plain.node_names if n.count("/") and (plain.node == plain.node_names.index(n)).any()]
    assert all(same_surface(plain, boxed)[n] for n in names) and all(same_surface(boxed, plain)[n] for n in names)
    # One corner of the globe pulled out by a hundredth of its size, or the crate a hair longer.
    moved = plain.corners.copy()
    first = np.flatnonzero(plain.node == plain.node_names.index("g/globe"))[0]
    moved[first, 0] += 0.01 * plain.face_normals[first]
    crate = plain.node == plain.node_names.index("g/crate")
    moved[crate] += 0.001 * (moved[crate] > moved[crate].reshape(-1, 3).mean(axis=0))
    found = same_surface(boxed, replace(plain, corners=moved))
    assert [n for n in names if not found[n]] == ["g/globe", "g/crate"]


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("recut")
    bake(level_file(folder, furnished()), MADE, folder / "whole")
    return folder


def test_a_density_box_is_one_change_of_density(whole: Path, tmp_path: Path) -> None:
    brief, level = Brief(density_boxes=(CORNER,)), whole / "level.glb"
    bake(level, MADE, tmp_path / "boxed", brief=brief, cache=whole / "cache")
    for first, second in ((whole / "whole", tmp_path / "boxed"), (tmp_path / "boxed", whole / "whole")):
        found = changes(open_result(first), open_result(second))
        assert [(c.node, c.kind) for c in found.contents] == [("density boxes", "mark")]
    # A part build after it leaves nothing that stood still as old, and nothing is gone.
    project = replace(find_project(level), brief=brief, recipe=MADE)
    source = open_level(level)
    prepared = prepare(source, brief)
    since = changed_since(whole / "whole", source, prepared.scene, prepared.scene, project)
    assert not since.gone and set(since.objects) == {"g/room", "g/globe", "g/chest"}
    part = Scope(("g/globe",), since=whole / "whole")
    told = bake(level, MADE, tmp_path / "part", brief=brief, scope=part, cache=whole / "cache")
    assert told["left"] == []


def test_only_what_moved_is_told_as_old_of_a_cut_box_and_of_a_part_build(whole: Path, tmp_path: Path) -> None:
    folder = tmp_path / "project"
    folder.mkdir()
    level = folder / "level.glb"
    level.write_bytes((whole / "level.glb").read_bytes())
    project = replace(find_project(level), recipe=MADE)
    project.save()
    inside = Scope(box=box_of((-0.1, -0.1, -0.1, 2.6, 3.1, 4.1)))
    bake(level, MADE, folder / "cut", scope=inside)
    assert outdated(folder / "cut", read_manifest(folder / "cut")) == []
    bake(level, MADE, folder / "all")
    once, twice = (Brief(moves={"g/crate": Move((x, 0.0, 0.0))}) for x in (0.3, 0.6))
    only = Scope(("g/crate",), since=folder / "all")
    replace(project, brief=once).save()
    bake(level, MADE, folder / "part", brief=once, scope=only)
    of_part = read_manifest(folder / "part")
    assert "g/crate" not in {f.object for f in outdated(folder / "part", of_part)}
    replace(project, brief=twice).save()
    for build in ("cut", "part"):
        assert "g/crate" in {f.object for f in outdated(folder / build, read_manifest(folder / build))}
    assert "g/far crate" not in {f.object for f in outdated(folder / "part", of_part)}
