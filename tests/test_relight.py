"""Relight from stored rays against builds with the same values."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, floor, level_file, recipe, room
from ropebell.build.manifest import parse_manifest
from ropebell.build.meter import Meter
from ropebell.build.precheck import gather
from ropebell.build.recipe import CONVERGED
from ropebell.build.relight import Relight
from ropebell.build.result import open_result, read_pages
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import RelightError
from ropebell.level.brief import Brief, EmitterChange, LightChange
from ropebell.level.model import Light
from ropebell.level.open import open_level
from ropebell.light.fields import SKY, reflecting
from ropebell.light.pages import Filling
from ropebell.light.solve import reflectance, solve
from ropebell.light.superpose import solved_fields, superposed

SKIES = (40.0, 60.0, 90.0)


@pytest.fixture
def level(tmp_path: Path) -> Path:
    b = LevelBuilder()
    b.material("wall", (0.7, 0.4, 0.3))
    b.material("glow", (0.5, 0.5, 0.5), glow=(300.0, 200.0, 100.0))
    b.add("g", "room", room(4, 3, 4), "wall")
    b.add("g", "block", box((0, 0, 0), (0.7, 1.1, 0.6)), "wall", at(1.5, 0, 1.5))
    b.add("g", "panel", floor(0.6).turned_inside_out(), "glow", at(2, 2.99, 3))
    b.add("g", "yard", floor(3), "wall", at(9, 0, 0))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0, 9.0), at(1, 2, 3))
    b.light("spot", Light("spot", "spot", (1, 0.5, 0.2), 120.0, 9.0, 0.3, 0.9), at(3, 2.5, 1))
    return level_file(tmp_path, b)


def relight(level: Path, manifest: dict, brief: Brief) -> tuple[Relight, object]:
    made = recipe("working", density__texels_per_metre=5.0)
    gathered = gather(open_level(level), brief, made, SKIES, ())
    return Relight.of(parse_manifest(manifest), lambda _: None).on(gathered), gathered


def test_relit_light_is_that_of_a_build_with_these_values(level: Path, tmp_path: Path) -> None:
    made = recipe("working", density__texels_per_metre=5.0)
    manifest = bake(level, made, tmp_path / "a", sky=SKIES)
    changed = Brief(
        lights={"lights/lamp": LightChange(410.0, (0.2, 0.9, 1.0)), "lights/spot": LightChange(enabled=False)},
        emitters={"glow": EmitterChange(None, (10.0, 700.0, 20.0))},
    )
    found, gathered = relight(level, manifest, changed)
    assert found.names == ("lights/lamp", "lights/spot", "g/panel", SKY)
    sky = (7.0, 0.0, 3.0)
    lit = found.light(found.as_set(gathered.subject.baking, sky)[0])
    built = bake(level, made, tmp_path / "b", sky=sky, brief=changed)
    assert {"charts", "footing", "direct", "transport"} <= set(built["reused"])
    result = open_result(tmp_path / "b")
    grid = found.layout.texels
    for field, pages in ((lit.total, result.total), (lit.direct, result.direct)):
        mine = Filling.of(grid, 2).pages(field, found.layout.target)
        inside = grid.grid >= 0
        # Pages are half floats: 2⁻¹¹ of each value.
        np.testing.assert_allclose(mine[inside], pages[inside], rtol=6e-4, atol=1e-3)


def test_relit_light_is_finished_as_a_build_finishes_it(level: Path, tmp_path: Path) -> None:
    made = recipe(
        "working", density__texels_per_metre=5.0, light__gather_rays=64, finish__denoise=True,
        finish__stitch_seams=True, occlusion__enabled=True,
    )  # fmt: skip
    found = Relight.of(parse_manifest(bake(level, made, tmp_path / "a", sky=SKIES)), lambda _: None)
    changed = Brief(lights={"lights/lamp": LightChange(410.0, (0.2, 0.9, 1.0))})
    now = gather(open_level(level), changed, made, SKIES, ())
    strengths, thrown = found.as_set(now.subject.baking, SKIES)
    solved = found.light(strengths, thrown)
    lit = found.finished(solved, strengths, made, SKIES, lambda _: None)
    bake(level, made, tmp_path / "b", sky=SKIES, brief=changed)
    result, texels = open_result(tmp_path / "b"), found.layout.texels
    for field, pages in ((lit.total, result.total), (lit.direct, result.direct)):
        built = pages[texels.page, texels.row, texels.column]
        np.testing.assert_allclose(field[found.layout.target], built, rtol=1e-3, atol=2e-3)
    assert np.abs(lit.total - solved.total).mean() > 0.01 * solved.total.mean()
    # Where one chart alone is filtered, the others keep their noise.
    one = np.arange(len(found.layout.atlas.rects)) == np.bincount(found.layout.atlas.chart[texels.owner]).argmax()
    part = found.finished(solved, strengths, made, SKIES, lambda _: None, one)
    mine = one[found.layout.atlas.chart[texels.owner]]
    spread = [np.abs(light.total - lit.total)[mine].mean() for light in (part, solved)]
    assert spread[0] < 0.2 * spread[1]
    others = np.setdiff1d(np.flatnonzero(~mine), found.finishing.seams.columns)
    np.testing.assert_array_equal(part.total[others], found.finishing.darkened(solved.total)[others])


def test_relit_light_agrees_with_the_solve_to_a_hundred_thousandth(level: Path, tmp_path: Path) -> None:
    made = recipe("working", density__texels_per_metre=5.0)
    manifest = bake(level, made, tmp_path / "a", sky=SKIES)
    found, gathered = relight(level, manifest, Brief(lights={"lights/lamp": LightChange(3333.0)}))
    strengths = found.as_set(gathered.subject.baking, SKIES)[0]
    lit = found.light(strengths)
    baking = gathered.subject.baking
    thrown_back = reflecting(baking, found.layout.texels, found.throws, *made.bouncing)
    whole = solve(found.hits.table, lit.direct, thrown_back, found.bounces, 2, lambda _: None)
    np.testing.assert_allclose(lit.total, whole.total, rtol=1e-5, atol=1e-5 * float(whole.total.max()))
    # The bounces add up to the whole, and each source alone to all of them.
    parts = sum(found.one_bounce(strengths, strengths, b, made).total for b in range(found.bounces + 1))
    np.testing.assert_allclose(parts, lit.total, rtol=1e-4, atol=1e-4 * float(lit.total.max()))
    alone = [found.light(found.as_set(gathered.subject.baking, SKIES, frozenset({n}))[0]).total for n in found.names]
    np.testing.assert_allclose(sum(alone), lit.total, rtol=1e-5, atol=1e-4)


@pytest.mark.parametrize(
    "values",
    [{"bounces": 1}, {"bounces": 9}, {"bounce_gain": 1.7}, {"bounce_gain": 0.0}, {"bounce_saturation": 0.3},
     {"bounces": CONVERGED, "bounce_gain": 0.6, "bounce_saturation": 0.5}],
)  # fmt: skip
def test_bounces_gain_and_their_colour_are_relit_as_a_build_has_them(
    level: Path, tmp_path: Path, values: dict[str, float]
) -> None:
    made = recipe("working", density__texels_per_metre=5.0)
    share = Brief(lights={"lights/lamp": LightChange(410.0, (0.2, 0.9, 1.0), share=0.4, saturation=0.5)})
    manifest = bake(level, made, tmp_path / "a", sky=SKIES, brief=share)
    found, gathered = relight(level, manifest, share)
    other = recipe("working", density__texels_per_metre=5.0, **{f"light__{k}": v for k, v in values.items()})
    assert found.bounces_alike(made) and not found.bounces_alike(other)
    scene = gathered.subject.baking
    strengths, thrown = found.as_set(scene, SKIES)
    for _ in range(2):  # solved, then added up
        lit, bounces = found.bounced(strengths, thrown, other)
    direct = superposed(found.units, strengths, 2)
    held = superposed(found.units, strengths - thrown, 2)
    thrown_back = reflecting(scene, found.layout.texels, found.throws, *other.bouncing)
    whole = solve(found.hits.table, direct, thrown_back, other.bounces, 2, lambda _: None, held)
    assert bounces == whole.bounces
    np.testing.assert_allclose(lit.total, whole.total, rtol=1e-5, atol=1e-5 * float(whole.total.max()))
    built = bake(level, other, tmp_path / "b", sky=SKIES, brief=share)
    assert built["bounces"] == bounces and {"direct", "transport"} <= set(built["reused"])
    mine = Filling.of(found.layout.texels, 2).pages(lit.total, found.layout.target)
    inside = found.layout.texels.grid >= 0
    np.testing.assert_allclose(mine[inside], open_result(tmp_path / "b").total[inside], rtol=6e-4, atol=1e-3)


def test_surfaces_of_another_colour_are_relit(level: Path, tmp_path: Path) -> None:
    made = recipe("working", density__texels_per_metre=5.0)
    manifest = bake(level, made, tmp_path / "a", sky=SKIES)
    before = relight(level, manifest, Brief())[0]
    assert before is not None
    loaded = open_level(level)
    loaded = replace(loaded, materials=tuple(
        replace(m, base_color=(0.1, 0.6, 0.2, 1.0)) if m.name == "wall" else m for m in loaded.materials
    ))  # fmt: skip
    gathered = gather(loaded, Brief(), made, SKIES, ())
    found = Relight.of(parse_manifest(manifest), lambda _: None).on(gathered)
    assert found is not None and (found.throws != before.throws).any()
    strengths = found.as_set(gathered.subject.baking, SKIES)[0]
    green = found.light(strengths).total - found.light(strengths).direct
    red = before.light(strengths).total - before.light(strengths).direct
    assert green[:, 1].sum() > green[:, 0].sum() and red[:, 0].sum() > red[:, 1].sum()


def test_rays_to_a_noise_target_are_relit_and_metered_too(level: Path, tmp_path: Path) -> None:
    target = 0.05
    made = recipe("working", density__texels_per_metre=5.0, light__noise_target=target)
    manifest = bake(level, made, tmp_path / "a", sky=SKIES)
    assert manifest["digests"]["hits"] != manifest["digests"]["transport"]
    gathered = gather(open_level(level), Brief(lights={"lights/lamp": LightChange(410.0)}), made, SKIES, ())
    found = Relight.of(parse_manifest(manifest), lambda _: None).on(gathered)
    assert found is not None and (found.hits.shot < found.hits.table.shape[1]).any()
    relit = found.light(found.as_set(gathered.subject.baking, SKIES)[0]).total
    brief = Brief(lights={"lights/lamp": LightChange(410.0)})
    again = bake(level, made, tmp_path / "b", sky=SKIES, brief=brief)
    total, _ = read_pages(tmp_path / "b", parse_manifest(again))
    built = total[found.layout.texels.page, found.layout.texels.row, found.layout.texels.column]
    open_ = found.layout.target == np.arange(len(found.layout.target))
    # Its build may judge otherwise which texels are sure, so they agree to within the target only.
    assert relit[open_].mean() == pytest.approx(built[open_].mean(), rel=0.2 * target)
    assert np.median(np.abs(relit - built)[open_] / np.maximum(built[open_], 1.0)) < target
    reading = Meter(open_result(tmp_path / "a")).read(np.array([2.0, 0.0, 2.0]))
    assert sum(reading.lights.values())[0] == pytest.approx(reading.irradiance[0], rel=0.01)
    assert reading.noise is not None and 0 <= reading.noise < 0.5


def test_relight_is_not_offered_for_other_rays_or_without_artifacts(level: Path, tmp_path: Path) -> None:
    made = recipe("working", density__texels_per_metre=5.0)
    manifest = bake(level, made, tmp_path / "a", sky=SKIES)
    moved = Brief(lights={"lights/lamp": LightChange(position=(1.0, 1.0, 1.0))})
    found = relight(level, manifest, moved)[0]
    assert found is not None and found.moved == ("lights/lamp",)
    other = {**manifest, "recipe": {**manifest["recipe"], "draft": 2}}
    assert relight(level, other, Brief())[0] is None
    with pytest.raises(RelightError, match="no longer in the cache"):
        Relight.of(parse_manifest({**manifest, "cache": str(tmp_path / "nowhere")}), lambda _: None)
    found = relight(level, manifest, Brief())[0]
    assert found is not None and not found.moved


def test_fields_of_many_sources_are_those_of_one_after_the_other() -> None:
    rng = np.random.default_rng(5)
    hits = rng.integers(-3, 400, (400, 32)).astype(np.int32)
    albedo = reflectance(rng.random((400, 3)).astype(np.float32), 1.0, 1.0)
    units = rng.random((400, 3)).astype(np.float32)
    shares: list[float] = []
    together = solved_fields(hits, units, albedo, 4, 2, shares.append)
    assert shares[-1] == pytest.approx(1.0) and shares == sorted(shares)
    for j in range(3):
        alone = solve(hits, np.repeat(units[:, j : j + 1], 3, axis=1), albedo, 4, 1, lambda _: None)
        np.testing.assert_allclose(together[:, j], alone.total, rtol=2e-5)
    strengths = rng.random((3, 3))
    np.testing.assert_allclose(
        superposed(together, strengths, 2), np.einsum("njc,jc->nc", together, strengths), rtol=1e-5
    )
    np.testing.assert_allclose(superposed(units, strengths, 1), units @ strengths, rtol=1e-5)
