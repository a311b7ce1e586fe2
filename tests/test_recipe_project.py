"""Recipes, projects, what is stale."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from helpers import bake, floor, level_file, recipe
from ropebell.build.estimate import RATES, calibrated, estimate
from ropebell.build.manifest import parse_manifest
from ropebell.build.plan import (
    Plan,
    active_profile,
    plan_of,
    with_plan,
    with_profile,
    with_profile_dropped,
    with_profile_kept,
)
from ropebell.build.project import Project, find_project, load_project, uniform_sky
from ropebell.build.recipe import (
    SHIPPED,
    differences,
    from_differences,
    get,
    keys,
    load,
    named,
    told_apart,
    unfinished,
    with_setting,
    with_value,
)
from ropebell.build.scope import box_of
from ropebell.build.setting_words import TITLES, setting_in_words, setting_title
from ropebell.build.settings_cost import step_costs
from ropebell.build.shelf import (
    checked_name,
    dropped_from,
    kept_in,
    known,
    put_on_shelf,
    shelf_folder,
    take_off_shelf,
)
from ropebell.build.speed import Speed
from ropebell.build.stale import stale_stages
from ropebell.demo.builder import LevelBuilder, at
from ropebell.errors import ProjectError, RecipeError
from ropebell.level.brief import LightChange, Mark
from ropebell.level.model import Light
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten, prepare, with_lights

CONTRACT = [
    "density.texels_per_metre",
    "density.page_size",
    "density.padding",
    "light.gather_rays",
    "light.direct_samples",
    "light.bounces",
    "light.bounce_gain",
    "light.bounce_saturation",
    "light.seed",
    "occlusion.enabled",
    "occlusion.radius",
    "occlusion.strength",
    "finish.denoise",
    "finish.stitch_seams",
    "output.directional",
    "output.format",
    "sight.enabled",
    "sight.cell",
    "limits.seconds",
    "limits.memory_mb",
    "limits.workers",
    "draft",
]


def test_every_setting_has_one_title_and_a_way_to_write_it() -> None:
    def keys(values: dict[str, Any], head: str = "") -> Iterator[str]:
        for key, value in values.items():
            yield from keys(value, f"{head}{key}.") if isinstance(value, dict) else (f"{head}{key}",)

    assert set(keys(named("final").model_dump())) <= TITLES.keys()
    assert setting_title("occlusion.enabled") == "Ambient occlusion" and setting_title("lights/lamp") == "lights/lamp"
    assert [setting_in_words("occlusion.enabled", on) for on in (False, True)] == ["off", "on"]
    assert setting_in_words("worker", "") == "as usual" and setting_in_words("worker", "hasty") == "hasty"
    assert setting_in_words("density.texels_per_metre", 20.0) == "20 tx/m"
    assert setting_in_words("sky", [1.0, 0.5, 0.25]) == "1, 0.5, 0.25 cd/m²"
    assert setting_in_words("light.bounces", "converged") == "converged"


def test_the_contract_keys_are_all_there_with_usable_defaults() -> None:
    assert set(keys()) == {*CONTRACT, "light.noise_target"}
    for name, made in SHIPPED.items():
        assert made.name == name
        for key in keys():
            assert with_value(made, key, get(made, key)) == made


@pytest.mark.parametrize("draft", [1, 2, 4, 8])
def test_the_draft_factor_divides_without_touching_the_recipe(draft: int) -> None:
    final = named("final")
    drafted = with_value(final, "draft", draft)
    assert drafted.density == final.density and drafted.light == final.light
    assert drafted.texels_per_metre == final.density.texels_per_metre / draft
    # Light must stay smooth enough to be judged: a draft saves by its texels first.
    assert drafted.gather_rays == max(final.light.gather_rays // draft, 256)
    many, few = (with_value(drafted, "light.gather_rays", n) for n in (8192, 64))
    assert (many.gather_rays, few.gather_rays) == (8192 // draft, 64)
    assert drafted.padding == max(4 // draft, 3)
    assert with_value(drafted, "draft", 1) == final


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("light.bounces", "KEY=VALUE"),
        ("light.nonsense=1", "no setting 'light.nonsense'"),
        ("light.bounces=-1", "outside 0 … 512"),
        ("light.bounces=many", "light.bounces"),
        ("density.texels_per_metre=0", "greater than or equal"),
        ("density.texels_per_metre=nan", "not usable"),
        ("density.texels_per_metre=1e-300", "not usable"),
        ("limits.seconds=inf", "not usable"),
        ("draft=3", "draft"),
        ("sight.cell=0.05", "greater than or equal"),
    ],
)
def test_bad_settings_are_named(text: str, words: str) -> None:
    with pytest.raises(RecipeError, match=words):
        with_setting(named("working"), text)


def test_settings_from_text_and_files(tmp_path: Path) -> None:
    made = with_setting(with_setting(named("working"), "light.bounces=converged"), "density.texels_per_metre=2.5")
    assert made.bounces is None and made.density.texels_per_metre == 2.5
    (tmp_path / "mine.toml").write_text("draft = 2\n[light]\ngather_rays = 99\n")
    mine = load(str(tmp_path / "mine.toml"))
    assert (mine.name, mine.draft, mine.light.gather_rays) == ("mine", 2, 99)
    (tmp_path / "bad.toml").write_text("draft = ")
    for name, words in (("bad.toml", "not valid TOML"), ("gone.toml", "cannot be read")):
        with pytest.raises(RecipeError, match=words):
            load(str(tmp_path / name))
    with pytest.raises(RecipeError, match="no recipe 'fancy'"):
        load("fancy")


def level(folder: Path) -> Path:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4), "m")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(0, 2, 0))
    return level_file(folder, b)


def test_projects_round_trip_and_keep_what_they_do_not_know(tmp_path: Path) -> None:
    path = level(tmp_path)
    project = find_project(path)
    assert project.folder == tmp_path / "level-light"
    assert not project.folder.exists()
    edited = project.with_light("lights/lamp", LightChange(12.5, (1.0, 0.5, 0.0), False))
    edited = replace(edited.with_brief(**uniform_sky((1.0, 2.0, 3.0))), rest={"view": {"yaw": 1.5}, "strange": [1, 2]})
    edited.save()
    again = load_project(project.folder / "project.toml")
    assert again == edited or replace(again, level=edited.level) == edited
    assert find_project(path).lights == edited.lights
    assert find_project(project.folder).sky == (1.0, 2.0, 3.0)
    assert not edited.with_light("lights/lamp", LightChange()).lights


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("level = ", "not valid TOML"),
        ("name = 'x'", "names no level"),
        ("level = 'a.glb'\nsky = [1]", "skies.sky.color"),
        ("level = 'a.glb'\n[recipe]\nlight = 3", "light"),
        ("level = 'a.glb'\n[lights.a]\nintensity = -1", "intensity"),
        ("level = 'a.glb'\nlights = 3", "lights"),
    ],
)
def test_damaged_projects_are_named_and_left_alone(tmp_path: Path, text: str, words: str) -> None:
    (tmp_path / "project.toml").write_text(text)
    with pytest.raises(ProjectError, match=words):
        find_project(tmp_path)
    assert (tmp_path / "project.toml").read_text() == text


def test_folders_without_a_level_or_with_several(tmp_path: Path) -> None:
    with pytest.raises(ProjectError, match=r"no project\.toml and no level"):
        find_project(tmp_path)
    level(tmp_path)
    assert find_project(tmp_path).level.name == "level.glb"
    (tmp_path / "b.obj").write_text("")
    with pytest.raises(ProjectError, match="2 levels"):
        find_project(tmp_path)


def test_stale_names_the_change_and_the_smallest_build(tmp_path: Path) -> None:
    path = level(tmp_path)
    project = Project(tmp_path / "p", path, "p", recipe("sketch"))
    loaded = open_level(path)
    scene = flatten(loaded)
    assert stale_stages(scene, project, None, {}).changes == ("never built",)
    project.builds.mkdir(parents=True)
    manifest = bake(
        path,
        project.recipe,
        project.builds / "0001",
        cache=project.cache,
    )
    built = parse_manifest(manifest)
    assert stale_stages(scene, project, built, {}).fresh
    brighter = project.with_light("lights/lamp", LightChange(90.0))
    stale = stale_stages(with_lights(scene, loaded, brighter.brief), brighter, built, {})
    assert (stale.changes, stale.stages) == (("1 light",), ("solve", "inspect"))
    fewer = replace(project, recipe=with_value(project.recipe, "light.gather_rays", 32))
    stale = stale_stages(scene, fewer, built, {})
    assert (stale.changes, stale.stages) == (("recipe",), ("solve", "inspect"))  # the first 32 of 64 are there
    costs = {}
    for count in (128, 1024):
        more = replace(project, recipe=with_value(project.recipe, "light.gather_rays", count))
        stale = stale_stages(scene, more, built, {"transport": 1e3})
        assert (stale.changes, stale.stages) == (("recipe",), ("transport", "solve", "inspect"))
        costs[count] = stale.seconds
    # Of 128 rays half are to be shot, of 1024 all but 64.
    assert (costs[1024] - 2) / (costs[128] - 2) == pytest.approx(15, rel=0.1)
    drafted = replace(project, recipe=with_value(project.recipe, "draft", 2))
    stale = stale_stages(scene, drafted, built, {})
    assert stale.changes == ("draft factor",)
    crate = scene.node_names[int(scene.node[0])]
    for words in ({"note": "mind the step"}, {"guard": True}, {"work": True}):
        marked = project.with_brief(marks={crate: Mark(**words)})
        assert stale_stages(prepare(loaded, marked.brief).baking, marked, built, {}).fresh, words
    finer = project.with_brief(marks={crate: Mark(density=2.0, note="finer")})
    stale = stale_stages(prepare(loaded, finer.brief).baking, finer, built, {})
    assert stale.changes == ("marks",) and "charts" in stale.stages
    both = replace(finer, recipe=with_value(finer.recipe, "light.bounces", 7))
    assert set(stale_stages(prepare(loaded, both.brief).baking, both, built, {}).changes) == {"marks", "recipe"}
    assert stale.stages == ("charts", "footing", "direct", "transport", "solve", "inspect")


def test_estimates_grow_as_the_work_does_and_learn_from_builds(tmp_path: Path) -> None:
    scene = flatten(open_level(level(tmp_path)))
    one, four = (estimate(scene, recipe("working", density__texels_per_metre=d), 2) for d in (10.0, 20.0))
    assert four.texels == pytest.approx(4 * one.texels, rel=0.05)
    assert four.seconds["transport"] == pytest.approx(4 * one.seconds["transport"], rel=0.05)
    manifest = bake(level(tmp_path), recipe("working", density__texels_per_metre=10.0))
    assert one.texels == pytest.approx(manifest["texels"], rel=0.3)
    slow = {**manifest, "rates": {"transport": RATES["transport"] / 10, "strange": 1}}
    learned = calibrated([parse_manifest(slow)])
    assert learned["transport"] == RATES["transport"] / 10 and "strange" not in learned
    later = estimate(scene, recipe("working", density__texels_per_metre=10.0), 2, calibrated([parse_manifest(slow)]))
    assert later.seconds["transport"] == pytest.approx(10 * one.seconds["transport"])


def test_a_noise_target_is_foretold_by_the_noise_of_builds_without_one() -> None:
    def shares(target: float, /, **known: float) -> tuple[float, float]:
        return Speed(known, 2).shares(recipe("working", light__noise_target=target, light__gather_rays=100))

    even = {"noise_half": 0.5, "noise_most": 0.5}  # of one ray: 5 % after 100
    assert shares(0.0, **even) == (1.0, 0.0) and shares(0.05) == (1.0, 0.0)
    assert shares(0.05, **even) == (1.0, 0.0) and shares(0.1, **even) == (0.25, 0.0)
    assert shares(0.025, **even) == (1.0, 3.0) and shares(0.001, **even) == (1.0, 8.0)
    uneven = {"noise_half": 0.5, "noise_most": 5.0}
    first, more = shares(0.05, **uneven)
    assert 0.4 < first < 0.8 and 1.0 < more < 4.0
    # What builds with this very target took is known better; with another one it says nothing.
    took = {"until": 0.6, "waves": 0.1, "target": 0.05}
    assert shares(0.05, **uneven, **took) == (0.6, 0.1) and shares(0.025, **uneven, **took)[1] > more


def test_two_levels_of_one_stem_have_projects_of_their_own(tmp_path: Path) -> None:
    for suffix in (".glb", ".obj"):
        (tmp_path / f"hall{suffix}").write_bytes(b"")
    first = find_project(tmp_path / "hall.glb")
    first.save()
    other = find_project(tmp_path / "hall.obj")
    assert other.level == tmp_path / "hall.obj" and other.folder != first.folder
    other.save()
    assert find_project(tmp_path / "hall.obj").folder == other.folder
    assert find_project(tmp_path / "hall.glb").level.name == "hall.glb"


def test_only_what_differs_from_the_shipped_recipe_is_written() -> None:
    assert differences(named("final")) == {"name": "final"}
    made = with_value(with_value(named("final"), "draft", 4), "light.gather_rays", 96)
    assert differences(made) == {"name": "final", "draft": 4, "light": {"gather_rays": 96}}
    own = made.model_copy(update={"name": "night"})
    for one in (named("final"), made, own, unfinished(made)):
        assert from_differences(differences(one)) == one
        assert from_differences(one.model_dump()) == one  # as older versions wrote it
    assert from_differences({}) == named("working")
    with pytest.raises(RecipeError, match="not a table"):
        from_differences([1])
    with pytest.raises(RecipeError, match="light"):
        from_differences({"light": 3})


def test_an_edited_recipe_says_so_and_is_kept_short() -> None:
    edited = told_apart(with_value(named("final"), "light.gather_rays", 300))
    assert edited.name == "final, edited" and told_apart(with_value(named("final"), "draft", 4)).name == "final"
    assert told_apart(with_value(edited, "light.gather_rays", 512)) == named("final")
    assert differences(edited) == {"name": "final, edited", "light": {"gather_rays": 300}}
    assert from_differences(differences(edited)) == edited


def test_recipes_of_ones_own_are_found_by_name(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    project = Project(tmp_path, tmp_path / "a.glb", "a", named("working"))
    own = with_value(named("sketch"), "light.bounces", 6).model_copy(update={"name": "Harbour"})
    kept = kept_in(project, own)
    assert known(kept)["Harbour"] == own and list(known(project)) == list(SHIPPED)
    put_on_shelf(own)
    assert known(project)["Harbour"] == own
    # None takes the name of one that ships, whatever a file says.
    (shelf_folder() / "working.toml").write_text("[light]\nbounces = 0\n")
    (shelf_folder() / "broken.toml").write_text("[")
    assert known(project)["working"] == named("working") and "broken" not in known(project)
    take_off_shelf("Harbour")
    assert "Harbour" not in known(project) and "Harbour" not in known(dropped_from(kept, "Harbour"))
    for odd in ("", "working", "a/b", "Harbour", ".x", "n" * 90):
        with pytest.raises(RecipeError):
            checked_name(odd, known(kept))


def test_a_plan_and_its_profiles_travel_with_the_project(tmp_path: Path) -> None:
    box = box_of((0, 0, 0, 1, 2, 3))
    plan = Plan("box", box, "", ("black>0.3",))
    project = with_plan(Project(tmp_path, tmp_path / "a.glb", "a", named("working")), plan)
    project = with_profile_kept(project, "Night")
    project.save()
    again = load_project(tmp_path / "project.toml")
    assert plan_of(again) == plan and active_profile(again) == ("Night", True)
    other = with_plan(replace(again, recipe=named("final")), Plan())
    assert active_profile(other) == ("Night", False) and with_profile(other, "Night").recipe == named("working")
    assert plan_of(with_profile(other, "Night")) == plan
    assert active_profile(with_profile_dropped(again, "Night")) == ("", False)
    with pytest.raises(ProjectError, match="not there"):
        with_profile(again, "Day")
    for odd in (3, {"lights": "box"}, {"lights": [], "box": [1], "stop_when": "x", "stage": 3}):
        assert Plan.of(odd) == Plan()


def test_a_step_of_a_setting_is_told_in_time_and_memory(tmp_path: Path) -> None:
    scene = flatten(open_level(level(tmp_path)))
    made = recipe("working", density__texels_per_metre=10.0)
    whole = estimate(scene, made, 2)
    up, down = step_costs(scene, made, "light.gather_rays", 2, {}, whole)
    assert up is not None and down is not None and (up.value, down.value) == (256, 64)
    assert up.seconds > 0 > down.seconds and up.memory_bytes > 0 > down.memory_bytes
    assert step_costs(scene, made, "light.seed", 2, {}, whole) == (None, None)
    # A draft has a least number of rays: a step of the final one changes nothing of it.
    drafted = with_value(named("final"), "draft", 8)
    rays, density = (step_costs(scene, drafted, key, 2, {}, estimate(scene, drafted, 2, {}))
                     for key in ("light.gather_rays", "density.texels_per_metre"))  # fmt: skip
    assert [c.felt for c in rays if c is not None] == [False, False]
    assert all(c is not None and c.felt for c in density)
    assert step_costs(scene, named("final"), "light.bounces", 2, {}, whole) == (None, None)  # converged
