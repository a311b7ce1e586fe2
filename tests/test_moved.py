"""What an object costs that came, went or moved: only rays that could have met it are shot again, and the light is the
very same as in a build from nothing."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import arrays, bake, events, level_file, recipe, room
from ropebell.build.kin import matched
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box
from ropebell.level.brief import AddedLight, Brief, LightChange, Mark, Move
from ropebell.level.model import Light
from ropebell.light.affected import MOST_BOXES, boxes_round

LIGHTS = Brief(
    added={
        "sun": AddedLight("directional", (0.0, 9.0, 0.0), (0.3, -1.0, 0.2)),
        "bar": AddedLight("rectangle", (4.0, 2.5, 4.0), (0.0, -1.0, 0.0)),
        "spot": AddedLight("spot", (0.5, 2.0, 0.5), (0.6, -1.0, 0.6)),
    },
    lights={
        "lights/lamp": LightChange(size=0.1),
        "added/sun": LightChange(intensity=500.0, size=1.0),
        "added/bar": LightChange(intensity=60.0, width=1.0, height=0.3),
        "added/spot": LightChange(intensity=90.0),
    },
)  # fmt: skip
SHIFT = Brief(moves={"g/crate 1": Move((0.0, 0.0, 0.9))})
CHANGES = {
    "moved": SHIFT,
    "turned": Brief(moves={"g/ball": Move(turn=(0.0, 30.0, 0.0), scale=1.2)}),
    "left out": Brief(marks={"g/crate 0": Mark(role="left-out")}),
    "lets light through": Brief(marks={"g/crate 2": Mark(casts=False)}),
    "two at once": Brief(moves={"g/crate 1": Move((0.0, 0.4, 0.0)), "g/crate 2": Move((-0.3, 0.0, 0.2))}),
    "the lamp's shade": Brief(moves={"g/panel": Move((0.5, -0.1, 0.0))}),
    "moved, and finer": Brief(moves=SHIFT.moves, marks={"g/ball": Mark(density=2.0)}),
}


def furnished(folder: Path) -> Path:
    """A room with crates, a ball, a lamp and a panel that glows, and a terrace with a post under the open sky."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.material("glow", (0.1, 0.1, 0.1), (40.0, 30.0, 20.0))
    b.add("g", "room", room(5, 3, 5), "wall")
    for number, x in enumerate((0.7, 2.2, 3.9)):
        b.add("g", f"crate {number}", box((x, 0, 2), (x + 0.6, 0.7 + 0.2 * number, 2.7)), "wall")
    b.add("g", "ball", ball(0.4, 6, 8), "wall", at(4.2, 1.6, 0.9))
    b.add("g", "panel", box((1, 2.6, 1), (2, 2.7, 2)), "glow")
    b.add("g", "terrace", box((6, -0.2, 0), (9, 0, 5)), "wall")
    b.add("g", "post", box((7, 0, 2), (7.3, 1.5, 2.3)), "wall")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    return level_file(folder, b)


def lit(brief: Brief) -> Brief:
    return replace(brief, added=LIGHTS.added, lights=LIGHTS.lights)


def told(folder: Path) -> dict[str, Any]:
    (found,) = [e for e in events(folder) if e["event"] == "shot"]
    return found


@pytest.fixture(scope="module")
def before(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the level and a cache that knows it."""
    folder = tmp_path_factory.mktemp("moved")
    bake(furnished(folder), MADE, folder / "a", brief=LIGHTS, sky=SKY)
    return folder


MADE, SKY = recipe("working", density__texels_per_metre=6.0, light__gather_rays=64), (30.0, 40.0, 50.0)


@pytest.mark.parametrize("change", CHANGES)
def test_light_after_a_change_is_that_of_a_build_from_nothing(before: Path, tmp_path: Path, change: str) -> None:
    level, brief = before / "level.glb", lit(CHANGES[change])
    ours = bake(level, MADE, tmp_path / "b", brief=brief, cache=before / "cache", sky=SKY)
    theirs = bake(level, MADE, tmp_path / "c", brief=brief, cache=tmp_path / "other", sky=SKY)
    kept, fresh = told(tmp_path / "b"), told(tmp_path / "c")
    assert kept["kept"] > 0.7 * fresh["rays"], (kept, fresh)
    found = arrays(ours, before / "cache")
    for name, array in arrays(theirs, tmp_path / "other").items():
        np.testing.assert_array_equal(found[name], array, err_msg=name)
    for page in theirs["pages"]:
        assert (tmp_path / "b" / page["file"]).read_bytes() == (tmp_path / "c" / page["file"]).read_bytes()


def test_put_back_nothing_is_shot(before: Path, tmp_path: Path) -> None:
    bake(before / "level.glb", MADE, tmp_path / "b", brief=lit(SHIFT), cache=before / "cache", sky=SKY)
    again = bake(before / "level.glb", MADE, tmp_path / "c", brief=LIGHTS, cache=before / "cache", sky=SKY)
    assert {"charts", "footing", "direct", "transport"} <= set(again["reused"])


@settings(max_examples=40, deadline=None)
@given(st.lists(st.integers(0, 6), max_size=12), st.lists(st.integers(0, 6), max_size=12))
def test_names_are_matched_once_each(before: list[int], now: list[int]) -> None:
    found = matched(np.array(before, np.uint64), np.array(now, np.uint64))
    used = found[found >= 0]
    assert len(np.unique(used)) == len(used)
    assert [before[i] for i in used] == [n for n, f in zip(now, found) if f >= 0]
    for name in set(now):
        assert (found[np.array(now) == name] >= 0).sum() == min(now.count(name), before.count(name))


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 40), st.integers(0, 10_000))
def test_boxes_hold_all_triangles_and_are_few(count: int, seed: int) -> None:
    corners = np.random.default_rng(seed).uniform(-20, 20, (count, 3, 3)).astype(np.float32)
    boxes = boxes_round(corners)
    assert len(boxes) == min(count, MOST_BOXES)
    inside = (corners[:, None] >= boxes[:, None, 0]) & (corners[:, None] <= boxes[:, None, 1])
    assert inside.all(axis=(2, 3)).any(axis=1).all()
