"""Where the time of a build went, what would shorten it, and the numbers that another machine is held against."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, level_file, recipe, room
from ropebell.build.manifest import Manifest
from ropebell.build.precheck import gather
from ropebell.build.project import Project, find_project
from ropebell.build.recipe import Recipe, with_value
from ropebell.build.result import Result, open_result
from ropebell.build.sighting import sight_of
from ropebell.build.stage import bytes_of_texel
from ropebell.build.store import Store
from ropebell.cli.main import main
from ropebell.compare.advice import Advice, advise, as_json, page_size
from ropebell.compare.advised import FILE, judged, learned, read_taken, taking, write_taken
from ropebell.compare.advised_level import AdvisedLevel, Plan
from ropebell.compare.candidates import Candidate, candidates, edited
from ropebell.compare.expected import check_expected, write_expected
from ropebell.compare.layers import layers
from ropebell.compare.ledger import ledger
from ropebell.compare.light import light_difference
from ropebell.compare.places import luminance
from ropebell.compare.quiet_box import STEPS, quiet_box
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import ProjectError
from ropebell.level.brief import Brief, Mark
from ropebell.level.model import Light
from ropebell.level.open import open_level
from ropebell.sight.blockers import Candidate as Blocker
from ropebell.sight.sight import Sight

MADE = recipe("sketch", density__texels_per_metre=8.0, light__gather_rays=64)
# A shed that nobody can look into takes most of the texels.
WASTEFUL = Brief(marks={"far/shed": Mark(density=4.0)})


def _level(folder: Path) -> Path:
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.add("house", "room", room(4, 3, 4), "wall")
    b.add("house", "crate", box((0, 0, 0), (0.5, 0.5, 0.5)), "wall", at(1, 0, 1))
    b.add("far", "shed", box((0, 0, 0), (2, 2, 2)), "wall", at(20, 0, 20))
    b.spot("marks", "start", at(2, 0, 2))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    b.light("spot", Light("spot", "point", (1, 0.6, 0.3), 30.0), at(1, 1.5, 3))
    return level_file(folder, b)


def _built(folder: Path, name: str = "out", **more: object) -> Result:
    bake(_level(folder), more.pop("made", MADE), folder / name, brief=more.pop("brief", WASTEFUL), **more)  # type: ignore[arg-type]
    return open_result(folder / name)


def _advice(folder: Path, result: Result, gains: dict[str, float] | None = None) -> tuple[Project, list[Advice]]:
    project = replace(find_project(_level(folder)), brief=WASTEFUL, recipe=result.manifest.recipe)
    gathered = gather(open_level(project.level), project.brief, project.recipe, project.sky, project.tables)
    return project, advise(project, gathered, result, {}, gains)


def test_a_ledger_adds_up_to_the_build(tmp_path: Path) -> None:
    result = _built(tmp_path)
    found = ledger(result)
    assert sum(e.seconds for e in found.entries) == pytest.approx(found.total, rel=0.02)
    for stage, seconds in found.by("stage"):
        if stage in result.manifest.seconds:
            assert seconds == pytest.approx(result.manifest.seconds[stage], rel=1e-6, abs=1e-6)
    lights = [name for name, _ in found.by("light") if not name.startswith("(")]
    assert set(lights) == {"lights/lamp", "lights/spot"}
    assert next(name for name, _ in found.by("object") if not name.startswith("(")) == "far/shed"
    # So does memory, and what is known of it is named.
    assert sum(e.memory_mb for e in found.entries) == pytest.approx(found.memory_mb, rel=0.02)
    held, texels = dict(found.by("object", False, "memory_mb")), result.manifest.texels
    assert max(held, key=lambda name: held[name]) == "far/shed"
    known = texels * (4 * result.manifest.recipe.gather_rays + bytes_of_texel(result.manifest.recipe)) / 2**20
    assert sum(held.values()) == pytest.approx(known, rel=0.1)
    assert {name for name, _ in found.by("light", False, "memory_mb")} == {"lights/lamp", "lights/spot"}
    assert sum(count for _, count in found.by("object", False, "texels")) == pytest.approx(texels, rel=0.05)
    rays = sum(count for _, count in found.by("object", False, "rays"))
    assert rays == pytest.approx(result.manifest.rays.gather, rel=0.1)


def test_the_best_advice_is_the_waste_and_it_saves_what_it_says(tmp_path: Path) -> None:
    result = _built(tmp_path)
    project, found = _advice(tmp_path, result)
    best = found[0]
    assert best.object == "far/shed" and best.kind == "density" and best.loss < 0.001
    assert best.seconds[1] < best.seconds[0] and all(a.seconds[1] == b.seconds[0] for a, b in zip(found, found[1:]))
    after = edited(project, best.edit)
    assert after.brief.marks["far/shed"].density == pytest.approx(1.0)
    # Built so, it has the fewer texels that were foretold, and what players see is as it was.
    bake(_level(tmp_path), MADE, tmp_path / "after", brief=after.brief)
    then = open_result(tmp_path / "after")
    assert then.manifest.texels < 0.5 * result.manifest.texels
    light = light_difference(result, then, on_a=True)
    room_ = light.base.scene.node[light.places.triangle] == light.base.scene.node_names.index("house/room")
    assert not light.beyond[room_ & light.there].any()


def test_a_quiet_box_is_the_best_of_all_boxes() -> None:
    rng = np.random.default_rng(3)
    places = rng.uniform(-5.0, 7.0, (400, 3)) * [1.0, 0.3, 2.0]
    loss = np.where(rng.random(400) < 0.2, rng.random(400), 0.0)
    best = quiet_box(places, loss, 1.5)
    assert best is not None and best.loss == pytest.approx(float(loss[best.inside].sum())) and best.loss <= 1.5
    held = ((places > best.low) & (places < best.high)).all(axis=1)
    np.testing.assert_array_equal(held, best.inside)
    # No box that ends where this grid does holds more for so little.
    ends = [np.unique(np.concatenate([best.low[[a]], places[:, a]])) for a in range(3)]
    for _ in range(3000):
        low, high = (np.sort([rng.choice(e, 2) for e in ends], axis=1)[:, k] for k in (0, 1))
        step = (places.max(axis=0) - places.min(axis=0)) / STEPS
        inner = ((places >= low + step) & (places <= high - step)).all(axis=1)
        outer = ((places >= low - step) & (places <= high + step)).all(axis=1)
        assert loss[outer].sum() > 1.5 or inner.sum() <= best.inside.sum()
    assert quiet_box(places, np.ones(400), 0.5) is None and quiet_box(places, np.zeros(400), 0.5) is None


def test_half_the_density_in_a_box_spares_what_it_says(tmp_path: Path) -> None:
    result = _built(tmp_path)
    told, saving, loss = _candidates(tmp_path, result)["density-box"]
    assert saving > 0 and loss <= 0.005 and told.ratio["far/shed"] == pytest.approx(0.5)
    project = replace(find_project(_level(tmp_path)), brief=WASTEFUL, recipe=result.manifest.recipe)
    after = edited(project, told.edit)
    assert len(after.brief.density_boxes) == 1 and after.brief.density_boxes[0].factor == 0.5
    then = _built(tmp_path, "after", brief=after.brief)
    baking = _advised(project, result).gathered.subject.baking
    names = baking.node_names
    whole = np.bincount(baking.node, baking.areas * baking.factor.astype(float) ** 2, len(names))
    left = sum(whole[n] * told.ratio.get(name, 1.0) ** 2 for n, name in enumerate(names))
    assert then.manifest.texels / result.manifest.texels == pytest.approx(left / whole.sum(), abs=0.05)
    light = light_difference(result, then, on_a=True)
    room_ = light.base.scene.node[light.places.triangle] == light.base.scene.node_names.index("house/room")
    assert light.beyond[room_ & light.there].mean() < 0.01
    assert "density-box" not in {c.kind for c in candidates(_advised(after, then))}, "one box at a time"


def _advised(project: Project, result: Result) -> AdvisedLevel:
    gathered = gather(open_level(project.level), project.brief, project.recipe, project.sky, project.tables)
    return AdvisedLevel(project, gathered, result, {})


def test_the_price_of_fewer_rays_and_bounces_is_solved(tmp_path: Path) -> None:
    """What is foretold of a build with one bounce less is what that build then has."""
    result = _built(tmp_path, made=with_value(MADE, "light.bounces", 3))
    project = replace(find_project(_level(tmp_path)), brief=WASTEFUL, recipe=result.manifest.recipe)
    gathered = gather(open_level(project.level), project.brief, project.recipe, project.sky, project.tables)
    level = AdvisedLevel(project, gathered, result, {})
    np.testing.assert_allclose(level.solved(None, 3), level.light, rtol=2e-3, atol=1e-3)
    fewer = _built(tmp_path, "fewer", made=with_value(MADE, "light.bounces", 2))
    there = luminance(level.places.of(fewer.total))
    np.testing.assert_allclose(level.solved(None, 2), there, rtol=2e-3, atol=1e-3)
    halved = _built(tmp_path, "halved", made=with_value(with_value(MADE, "light.bounces", 3), "light.gather_rays", 32))
    np.testing.assert_allclose(level.solved(32, 3), luminance(level.places.of(halved.total)), rtol=2e-3, atol=1e-3)


def _candidates(
    folder: Path, result: Result, made: Recipe | None = None, sight: Sight | None = None
) -> dict[str, tuple[Candidate, float, float]]:
    """By kind, what may be advised, seconds that it saves, and what it costs in light."""
    project = replace(find_project(_level(folder)), brief=WASTEFUL, recipe=made or result.manifest.recipe)
    gathered = gather(open_level(project.level), project.brief, project.recipe, project.sky, project.tables)
    gathered = replace(gathered, subject=replace(gathered.subject, looked_into=lambda _: sight))
    level = AdvisedLevel(project, gathered, result, {})
    number = {name: i for i, name in enumerate(gathered.subject.baking.node_names)}
    plan = Plan(np.ones(len(number)), project.recipe)
    whole = level.seconds(plan)
    return {c.kind: (c, whole - level.seconds(c.on(plan, number)), c.loss(level)) for c in candidates(level)}


def test_a_lamp_is_given_the_reach_beyond_which_it_does_not_show(tmp_path: Path) -> None:
    """Two lamps in a room are tried on every texel of a shed far off, that neither can light."""
    result = _built(tmp_path)
    told, saving, loss = _candidates(tmp_path, result)["reach"]
    assert told.edit["lights"].keys() == {"lights/lamp", "lights/spot"} and loss < 0.001 and saving > 0
    after = edited(replace(find_project(_level(tmp_path)), brief=WASTEFUL), told.edit)
    assert 4.0 < (after.brief.lights["lights/lamp"].reach or 0.0) < 12.0
    bake(_level(tmp_path), MADE, tmp_path / "after", brief=after.brief)
    then = open_result(tmp_path / "after")
    # What has one needs none, and what players see is as it was.
    project = replace(find_project(_level(tmp_path)), brief=after.brief, recipe=MADE)
    gathered = gather(open_level(project.level), project.brief, project.recipe, project.sky, project.tables)
    level = AdvisedLevel(project, gathered, result, {})
    assert level.share_changed(level.light, luminance(level.places.of(then.total))) < 0.01
    assert "reach" not in {c.kind for c in candidates(AdvisedLevel(project, gathered, then, {}))}


def test_a_noise_target_is_advised_where_few_texels_need_all_rays(tmp_path: Path) -> None:
    many = with_value(MADE, "light.gather_rays", 512)
    result = _built(tmp_path, made=many)
    told, saving, _ = _candidates(tmp_path, result)["noise-target"]
    target = told.edit["recipe"]["light.noise_target"]
    share = told.rates["until"] + told.rates["waves"]
    assert 0.002 <= target <= 0.2 and share < 0.9 and saving > 0
    m = _built(tmp_path, "after", made=with_value(many, "light.noise_target", target)).manifest
    waves = m.finish.refined.rays if m.finish.refined is not None else 0
    assert (m.rays.gather + waves) / result.manifest.rays.gather == pytest.approx(share, abs=0.15)
    few = _built(tmp_path, "few", made=with_value(MADE, "light.gather_rays", 32))
    assert "noise-target" not in _candidates(tmp_path, few)


def test_sight_is_let_through_what_hides_nothing_and_never_the_hull(tmp_path: Path) -> None:
    result = _built(tmp_path)
    looking = with_value(MADE, "sight.enabled", True)
    level = _level(tmp_path)
    subject = gather(open_level(level), WASTEFUL, MADE, (0.0, 0.0, 0.0), ()).subject
    known, _ = sight_of(subject, 1.0, 2, Store(tmp_path / "cache"))
    idle, dear = Blocker("house/crate", 1200, 0.8, 0.0), Blocker("house/room", 12, 0.9, 0.4)
    # Another that hides nothing alone may hide much with the first gone: one at a time.
    seen = replace(known, blockers=(Blocker("far/shed", 12, 0.3, 0.0), idle, dear))
    told, saving, loss = _candidates(tmp_path, result, looking, seen)["blockers"]
    assert told.edit == {"marks": {"house/crate": {"blocks_sight": False}}}
    assert saving == pytest.approx(0.8) and loss == 0.0 and "1,200 triangles" in told.why
    assert "blockers" not in _candidates(tmp_path, result, None, seen)
    assert "blockers" not in _candidates(tmp_path, result, looking)


def test_faces_that_nobody_sees_are_left_out_by_advice(tmp_path: Path) -> None:
    """The shed and the outside of the room: where nothing that moves could show them."""
    result = _built(tmp_path)
    subject = gather(open_level(_level(tmp_path)), WASTEFUL, MADE, (0.0, 0.0, 0.0), ()).subject
    known, _ = sight_of(subject, 1.0, 2, Store(tmp_path / "cache"))
    told, saving, loss = _candidates(tmp_path, result, None, known)["unseen"]
    assert "far/shed" in told.edit["left_out"] and saving > 0 and loss == 0.0
    project = edited(replace(find_project(_level(tmp_path)), brief=WASTEFUL, recipe=MADE), told.edit)
    after = _built(tmp_path, "after", brief=project.brief)
    assert after.manifest.texels < 0.7 * result.manifest.texels
    assert "unseen" not in _candidates(tmp_path, result)


def test_pages_of_a_size_that_wastes_less_are_advised(tmp_path: Path) -> None:
    made = with_value(MADE, "density.page_size", 128)
    result = _built(tmp_path, made=made)
    project = replace(find_project(_level(tmp_path)), brief=WASTEFUL, recipe=made)
    gathered = gather(open_level(project.level), project.brief, project.recipe, project.sky, project.tables)
    plan = Plan(np.ones(len(gathered.subject.baking.node_names)), made)
    level = AdvisedLevel(project, gathered, result, {})
    (sized,) = page_size(level, plan, 3.0)
    assert sized.edit == {"recipe": {"density.page_size": 256}} and sized.loss == sized.saving == 0.0
    assert sized.memory[1] <= 0.9 * sized.memory[0] and as_json([sized])[0]["memory"] == list(sized.memory)
    after = _built(tmp_path, "after", made=edited(project, sized.edit).recipe)
    pages = [r.total.shape[0] * r.total.shape[1] * r.total.shape[2] for r in (result, after)]
    assert [6 * texels / 2**20 for texels in pages] == pytest.approx(sized.memory)
    # Then nothing is left to gain.
    assert page_size(level, replace(plan, recipe=after.manifest.recipe), 3.0) == []


def test_what_was_taken_is_kept_judged_and_learned_from(tmp_path: Path) -> None:
    result = _built(tmp_path)
    _, found = _advice(tmp_path, result)
    write_taken(tmp_path, [taking(found[0], 3)])
    (kept,) = read_taken(tmp_path)
    assert kept.actual is None and kept.predicted == pytest.approx(found[0].saving)

    def of(seconds: float) -> Manifest:
        times = {"total": seconds}
        return result.manifest.model_copy(update={"seconds": times, "reused": ()})

    (told,) = judged([kept], of(10.0), 4, of(10.0 - 0.5 * kept.predicted))
    assert told.actual == pytest.approx(0.5 * kept.predicted)
    assert learned([told]) == {"density": pytest.approx(0.5)}
    gains = dict.fromkeys(
        ("density", "hardly-seen", "density-box", "region", "tiny", "rays", "bounces"), learned([told])["density"]
    )
    _, again = _advice(tmp_path, result, gains)
    assert again[0].saving == pytest.approx(0.5 * found[0].saving, rel=1e-6)
    # Times that took over what earlier builds left say nothing.
    reused = of(1.0).model_copy(update={"reused": ("charts",)})
    assert judged([kept], of(10.0), 4, reused) == [kept]
    (tmp_path / FILE).write_text("[")
    assert read_taken(tmp_path) == []


def test_expected_numbers_agree_or_say_where_not(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    result = _built(tmp_path)
    numbers = tmp_path / "numbers.json"
    write_expected(numbers, result)
    check = check_expected(numbers, result)
    assert check.agrees and check.places == 400
    assert check_expected(numbers, _built(tmp_path, "again", worker="backwards", cache=tmp_path / "c2")).agrees
    lit = _built(tmp_path, "lit", brief=Brief(lights={"lights/lamp": {"intensity": 120.0}}, marks=WASTEFUL.marks))  # type: ignore[dict-item]
    off = check_expected(numbers, lit).off
    assert any("bounce 0 brings" in line for line in off) and any("on house/room" in line for line in off)
    assert main(["expect", str(result.folder), "--against", str(numbers)]) == 0
    assert main(["expect", str(lit.folder), "--against", str(numbers)]) == 1
    assert main(["expect", str(lit.folder)]) == 2
    with pytest.raises(ProjectError, match="no expected numbers"):
        check_expected(result.folder / "findings.json", result)
    capsys.readouterr()
    assert main(["ledger", str(result.folder), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["total"] == result.manifest.total_seconds
    assert main(["advise", str(_level(tmp_path)), str(result.folder), "--json"]) == 0
    assert isinstance(json.loads(capsys.readouterr().out), list)


def test_layers_show_both_lights_on_one_build(tmp_path: Path) -> None:
    a, b = _built(tmp_path), _built(tmp_path, "b", made=with_value(MADE, "density.texels_per_metre", 12.0))
    light = light_difference(a, b, on_a=False)
    found = layers(light)
    assert found.a.shape == found.b.shape == b.total.shape and found.margin.shape[3] == 1
    p = light.places
    at = p.page, p.row, p.column
    assert (found.both[at] == 1.0).all()
    apart = np.abs(luminance(found.a[at]) - luminance(found.b[at]))
    assert float((apart > found.margin[at][:, 0]).mean()) < 0.01
    with pytest.raises(ValueError, match="texels of B"):
        layers(light_difference(a, b, on_a=True))
