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
from ropebell.build.recipe import with_value
from ropebell.build.result import Result, open_result
from ropebell.cli.main import main
from ropebell.compare.advice import Advice, advise, edited
from ropebell.compare.advised import FILE, judged, learned, read_taken, taking, write_taken
from ropebell.compare.expected import check_expected, write_expected
from ropebell.compare.layers import layers
from ropebell.compare.ledger import ledger
from ropebell.compare.light import light_difference
from ropebell.compare.places import luminance
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import ProjectError
from ropebell.level.brief import Brief, Mark
from ropebell.level.model import Light
from ropebell.level.open import open_level

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
    assert found.by("object")[0][0] == "far/shed"
    rays = sum(e.rays for e in found.entries if e.stage == "transport")
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


def test_the_price_of_fewer_rays_and_bounces_is_solved(tmp_path: Path) -> None:
    """What is foretold of a build with one bounce less is what that build then has."""
    result = _built(tmp_path, made=with_value(MADE, "light.bounces", 3))
    project = replace(find_project(_level(tmp_path)), brief=WASTEFUL, recipe=result.manifest.recipe)
    gathered = gather(open_level(project.level), project.brief, project.recipe, project.sky, project.tables)
    from ropebell.compare.advice import _Level

    level = _Level(project, gathered, result, {})
    np.testing.assert_allclose(level.solved(None, 3), level.light, rtol=2e-3, atol=1e-3)
    fewer = _built(tmp_path, "fewer", made=with_value(MADE, "light.bounces", 2))
    there = luminance(level.places.of(fewer.total))
    np.testing.assert_allclose(level.solved(None, 2), there, rtol=2e-3, atol=1e-3)
    halved = _built(tmp_path, "halved", made=with_value(with_value(MADE, "light.bounces", 3), "light.gather_rays", 32))
    np.testing.assert_allclose(level.solved(32, 3), luminance(level.places.of(halved.total)), rtol=2e-3, atol=1e-3)


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
    gains = dict.fromkeys(("density", "hardly-seen", "region", "tiny", "rays", "bounces"), learned([told])["density"])
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
