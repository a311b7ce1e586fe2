"""Steps of a brief that concern lights: each does what it says and keeps the rest; templates move all that follow."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import level_file, room
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.level.brief import Brief, BriefError, LightChange
from ropebell.level.light_edits import (
    following,
    free_name,
    nearest_objects,
    template_of,
    with_added,
    with_copy,
    with_light,
    with_settings,
    with_template,
    without_added,
    without_changes,
)
from ropebell.level.model import Level, Light
from ropebell.level.open import open_level
from ropebell.level.placed_light import PlacedLight
from ropebell.level.prepare import prepare
from ropebell.level.scene import index_of

LAMP, SPOT, SUN = "lights/lamp", "lights/spot", "lights/sun"


@pytest.fixture
def level(tmp_path: Path) -> Level:
    b = LevelBuilder()
    b.material("wall", (0.5, 0.5, 0.5))
    b.add("house", "room", room(6, 3, 6), "wall")
    b.add("things", "shade", box((0, 0, 0), (0.2, 0.1, 0.2)), "wall", at(2.0, 2.2, 2.0))
    b.add("things", "far shade", box((0, 0, 0), (0.2, 0.1, 0.2)), "wall", at(5.0, 2.2, 5.0))
    b.light("lamp", Light("lamp", "point", (1, 0.9, 0.8), 80.0, 6.0), at(2, 2, 2))
    b.light("spot", Light("spot", "spot", (1, 1, 1), 60.0, 5.0, 0.2, 0.6), at(4, 2.5, 4))
    b.light("sun", Light("sun", "directional", (1, 1, 1), 9000.0, None), at(0, 8, 0))
    return open_level(level_file(tmp_path, b))


def placed(level: Level, brief: Brief, path: str) -> PlacedLight:
    return next(x for x in prepare(level, brief).scene.lights if x.name == path)


def test_settings_change_only_what_they_name_and_only_there() -> None:
    brief = with_settings(Brief(), (LAMP, SPOT), intensity=5.0, mode="live")
    brief = with_settings(brief, (SPOT,), intensity=7.0)
    assert brief.lights == {LAMP: LightChange(5.0, mode="live"), SPOT: LightChange(7.0, mode="live")}
    assert without_changes(brief, (LAMP,)).lights == {SPOT: LightChange(7.0, mode="live")}
    # What says nothing is not kept, so that the project file holds only decisions.
    assert with_settings(brief, (LAMP,), intensity=None, mode=None).lights.keys() == {SPOT}
    assert with_light(brief, SPOT, LightChange()) == without_changes(brief, (SPOT,))


@pytest.mark.parametrize("wrong", [{"intensity": -1.0}, {"size": float("nan")}, {"saturation": 1.5}, {"share": -0.1}])
def test_a_setting_out_of_its_range_is_refused(wrong: dict[str, float]) -> None:
    with pytest.raises(BriefError):
        with_settings(Brief(), (LAMP,), **wrong)


@pytest.mark.parametrize("path", [LAMP, SPOT, SUN])
def test_a_light_that_becomes_a_template_looks_as_before(level: Level, path: str) -> None:
    brief = with_settings(Brief(), (path,), intensity=33.0, color=(1, 0.5, 0), note="old", position=(1, 1, 1))
    before = placed(level, brief, path)
    after_brief = with_template(brief, "t", before)
    after = placed(level, after_brief, path)
    for name in ("intensity", "color", "reach", "mode", "size", "share", "saturation", "subtracts"):
        assert getattr(after, name) == getattr(before, name), name
    np.testing.assert_array_equal(after.position, before.position)
    # Its own values are the template's now; what belongs to it alone stays with it.
    own = after_brief.lights[path]
    assert own == LightChange(template="t", position=(1, 1, 1), note="old")
    assert after_brief.templates["t"].note is None and after_brief.templates["t"].position is None


def test_all_that_follow_a_template_change_with_it_whatever_they_were(level: Level) -> None:
    brief = with_settings(Brief(), (LAMP,), intensity=10.0)
    brief = with_template(brief, "t", placed(level, brief, LAMP))
    brief = following(with_settings(brief, (SPOT,), intensity=99.0, enabled=False), (SPOT,), "t")
    assert brief.lights[SPOT] == LightChange(enabled=False, template="t")
    changed = with_settings(brief, (LAMP,), intensity=20.0)
    written = with_template(changed, "t", placed(level, changed, LAMP))
    assert placed(level, written, LAMP).intensity == 20.0
    assert written.light(SPOT).intensity == 20.0 and placed(level, written, SPOT).intensity == 0.0, "still off"
    # Leaving it, a light is again as the level has it.
    alone = following(written, (SPOT,), None)
    assert placed(level, with_settings(alone, (SPOT,), enabled=True), SPOT).intensity == 60.0


def test_a_template_of_a_light_that_is_off_is_of_what_it_would_be(level: Level) -> None:
    brief = with_settings(Brief(), (LAMP,), intensity=12.0, enabled=False)
    made = template_of(placed(level, brief, LAMP), brief)
    assert made.intensity == 12.0 and made.enabled


@pytest.mark.parametrize("path", [LAMP, SPOT, SUN])
def test_a_copy_is_as_the_original_was_and_stays_so(level: Level, path: str) -> None:
    brief = with_copy(Brief(), "twin", placed(level, Brief(), path))
    original, twin = placed(level, brief, path), placed(level, brief, "added/twin")
    for name in ("kind", "intensity", "color", "reach"):
        assert getattr(twin, name) == getattr(original, name), name
    assert twin.inner_cone == pytest.approx(original.inner_cone) and twin.outer_cone == pytest.approx(
        original.outer_cone
    )
    np.testing.assert_allclose(twin.direction, original.direction, atol=1e-3)
    np.testing.assert_allclose(twin.position, original.position + [0.5, 0, 0])
    later = with_settings(brief, (path,), intensity=1.0)
    assert placed(level, later, "added/twin").intensity == original.intensity


def test_added_lights_are_named_apart_and_go_without_a_trace(level: Level) -> None:
    brief = Brief()
    for kind in ("point", "point", "directional"):
        brief = with_added(brief, free_name(brief, kind), kind, (1.0, 2.0, 3.0))
    assert set(brief.added) == {"point 1", "point 2", "directional 1"}
    assert placed(level, brief, "added/point 2").reach == 10.0
    assert placed(level, brief, "added/directional 1").reach is None
    fewer = without_added(brief, ("added/point 1", LAMP))
    assert free_name(fewer, "point") == "point 1"
    assert placed(level, fewer, LAMP).intensity == 80.0, "a light of the level stays"
    assert without_added(fewer, (f"added/{n}" for n in list(fewer.added))) == Brief()


def test_fixtures_are_proposed_by_nearness_and_walls_do_not_win(level: Level) -> None:
    scene = prepare(level, Brief()).scene
    lamp = placed(level, Brief(), LAMP)
    assert nearest_objects(scene, lamp) == ["things/shade", "house/room", "things/far shade"]
    far = replace(lamp, position=np.array([5.0, 2.0, 5.0]))
    assert nearest_objects(scene, far, most=1) == ["things/far shade"]
    assert index_of(scene, "things/shade") >= 0 and index_of(scene, "things/gone") == -1
