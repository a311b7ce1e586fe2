"""The account of a texel: its parts are its light, what is in the way is named, its verdict is that of the faults."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from helpers import bake, facing_down, floor, level_file, recipe, room
from ropebell.account.around import around
from ropebell.account.between_texels import read_between
from ropebell.account.history import history
from ropebell.account.proof import proof_of
from ropebell.account.texel import Account, Ledger
from ropebell.account.verdict import verdict
from ropebell.account.what_if import DENSER, what_if
from ropebell.bench.detection import findings_of
from ropebell.bench.detection_levels import cases
from ropebell.build.remedied import Tried, judged, read_tried, record, write_tried
from ropebell.build.reopened import reopen
from ropebell.checks.remedies import apply_fix
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import ProjectError
from ropebell.faults.run import inspect
from ropebell.level.brief import Brief, LightChange, Mark
from ropebell.level.finding import Finding
from ropebell.level.model import LUMINANCE, Light
from ropebell.light.occlusion import texel_places

UP = np.array([0.0, 1.0, 0.0])


def _level(folder: Path) -> Path:
    """A room with two lamps, a glowing plate, and a screen between one lamp and a corner of the floor."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.material("glow", (0.5, 0.5, 0.5), glow=(30.0, 20.0, 10.0))
    b.add("g", "room", room(6.0, 3.0, 4.0), "grey")
    b.add("g", "screen", box((2.9, 0, 0.5), (3.1, 2.6, 3.5)), "grey")
    b.add("g", "plate", box((0.2, 2.8, 0.2), (1.2, 2.9, 1.2)), "glow")
    b.light("left", Light("left", "point", (1, 1, 1), 40.0), at(1.0, 2.0, 2.0))
    b.light("right", Light("right", "point", (1, 0.5, 0.2), 40.0, 1.5), at(5.0, 2.0, 2.0))
    return level_file(folder, b)


@pytest.fixture(scope="module")
def build(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("account")
    bake(_level(folder), recipe(light__gather_rays=64, density__texels_per_metre=6.0), sky=(1.0, 2.0, 3.0))
    return folder / "out"


@pytest.fixture(scope="module")
def ledger(build: Path) -> Ledger:
    return Ledger(reopen(build))


def _at(ledger: Ledger, *place: float) -> Account:
    return ledger.account(ledger.spot(np.array(place), UP))


@pytest.mark.parametrize("place", [(1.0, 0.0, 2.0), (5.0, 0.0, 2.0), (3.6, 0.0, 2.0), (0.3, 0.0, 3.7)])
def test_lights_and_sky_and_bounces_each_sum_to_the_light(ledger: Ledger, place: tuple[float, float, float]) -> None:
    a = _at(ledger, *place)
    assert np.allclose(sum((x.direct + x.bounced for x in a.lights), a.sky), a.raw, rtol=2e-4, atol=1e-6)
    assert np.allclose(sum(a.bounces), a.raw, rtol=2e-4, atol=1e-6)
    straight = sum((x.direct for x in a.lights), a.sky_direct)
    assert np.allclose(straight, a.bounces[0], rtol=2e-4, atol=1e-6)
    assert a.node == "g/room" and a.density == pytest.approx(6.0, rel=0.1)


def test_what_gives_it_is_what_has_bounced(ledger: Ledger) -> None:
    a = _at(ledger, 3.6, 0.0, 2.0)
    given = sum((g.light for g in a.giving), np.zeros(3))
    # All bounces but the last are what its rays met; the last one is small.
    assert np.allclose(given, sum(a.bounces[1:]), rtol=0.02)
    assert {g.node for g in a.giving} <= {"g/room", "g/screen", "g/plate"}


def test_what_is_in_the_way_of_each_lamp_is_named(ledger: Ledger) -> None:
    behind = {x.name: x.way for x in _at(ledger, 4.5, 0.0, 2.0).lights}
    left, right = behind["lights/left"], behind["lights/right"]
    names = ledger.lit.scene.node_names
    assert left is not None and right is not None
    assert left.open == 0.0 and [names[n] for n, _ in left.blocked_by] == ["g/screen"]
    assert left.metres == pytest.approx(np.hypot(3.5, 2.0), rel=0.05) and left.in_reach and left.facing
    assert not right.in_reach  # two metres up, and it reaches one and a half
    free = {x.name: x.way for x in _at(ledger, 1.0, 0.0, 2.0).lights}["lights/left"]
    assert free is not None and free.open == 1.0 and free.blocked_by == ()


def test_what_is_below_a_thing_is_where_it_takes_its_light_from(ledger: Ledger) -> None:
    np.testing.assert_allclose(ledger.below(np.array([1.0, 0.4, 2.0])), [1.0, 0.0, 2.0], atol=1e-5)
    outside = np.array([1.0, -500.0, 2.0])
    np.testing.assert_array_equal(ledger.below(outside), outside)


def test_a_spot_is_the_nearest_of_a_baked_surface(ledger: Ledger) -> None:
    spot = ledger.spot(np.array([1.0, 0.4, 2.0]), UP)
    assert np.allclose(spot.position, [1.0, 0.0, 2.0], atol=1e-6) and spot.distance == pytest.approx(0.4)
    t = ledger.lit.texels
    assert abs(t.column[spot.texel] + 0.5 - spot.uv[0]) <= 0.5 and abs(t.row[spot.texel] + 0.5 - spot.uv[1]) <= 0.5


def test_the_command_tells_the_whole_account(build: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["account", str(build), "4.5,0,2", "--normal", "0,1,0", "--json"]) == 0
    told: dict[str, Any] = json.loads(capsys.readouterr().out)
    assert told.keys() >= {
        "position", "node", "page", "texel", "density", "irradiance", "noise", "lights", "sky", "bounces", "from",
        "back_faces", "verdict", "history",
    }  # fmt: skip
    assert told["lights"][0].keys() >= {"name", "direct", "bounced", "in_reach", "facing", "open", "blocked_by"}
    assert told["verdict"].keys() >= {"kind", "object", "text", "proved"}
    assert told["history"] == [{"build": "out", "irradiance": pytest.approx(told["irradiance"], rel=1e-6)}]
    assert main(["meter", str(build), "4.5,0,2", "--normal", "0,1,0", "--json"]) == 0
    metered = json.loads(capsys.readouterr().out)["points"][0]
    assert metered["irradiance"] == pytest.approx(told["irradiance"], rel=1e-6)
    assert main(["account", str(build), "4.5,0,2"]) == 0 and "g/screen" in capsys.readouterr().out
    assert main(["account", str(build), "4.5,0,2", "--normal", "0,0,0"]) == 2


def test_a_level_that_changed_since_is_refused_with_what_to_do(tmp_path: Path) -> None:
    path = _level(tmp_path)
    bake(path, recipe(light__gather_rays=8, density__texels_per_metre=2.0))
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(3.0), "grey")
    level_file(tmp_path, b)
    with pytest.raises(ProjectError, match="has changed since"):
        reopen(tmp_path / "out")


@pytest.mark.parametrize("kind", ["black-patch", "light-leak"])
def test_the_verdict_on_a_fault_is_that_fault_and_elsewhere_there_is_none(kind: str, tmp_path: Path) -> None:
    case = next(c for c in cases(1) if c.kind == kind and c.planted)
    found = next(f for f in findings_of(case, tmp_path) if f.kind == kind)
    ledger = Ledger(reopen(tmp_path / "out"))
    assert found.place is not None
    judged = verdict(ledger.lit, ledger.account(ledger.spot(np.array(found.place))))
    assert judged.finding is not None and judged.finding.kind == kind and judged.finding.object == found.object
    assert judged.proved == found.proved
    lit = ledger.lit
    flagged = np.concatenate([rows for f, rows in lit.shown])
    quiet = np.setdiff1d(np.flatnonzero(lit.open & (lit.light > 0.3 * lit.usual)), flagged)
    far = quiet[
        np.argmax(np.min(np.linalg.norm(lit.places[quiet][:, None] - lit.places[flagged][None, ::7], axis=2), 1))
    ]
    calm = verdict(lit, ledger.account(ledger.spot(lit.places[far], lit.normals[far])))
    assert calm.finding is None and "lux" in calm.text


@pytest.mark.parametrize("kind", ["black-patch", "light-leak", "clipped", "noise", "seam"])
def test_a_proof_takes_away_the_cause_and_nothing_else(kind: str, tmp_path: Path) -> None:
    case = next(c for c in cases(1) if c.kind == kind and c.planted)
    told = [f for f in findings_of(case, tmp_path) if f.kind == kind]
    lit = Ledger(reopen(tmp_path / "out")).lit
    assert proof_of(lit, told[0]) is None, "nothing was looked for yet"
    inspect(lit, lambda _: None)
    # Where light leaks between two texels, no texel is to blame: others show how it is read between them.
    found, proof = next(
        ((f, p) for f in told if (p := proof_of(lit, f)) is not None and "past it" not in p.what), (told[0], None)
    )
    for p in (proof_of(lit, f) for f in told if kind == "light-leak"):
        if p is not None and "past it" in p.what:
            before, after = p.values
            assert after < 0.8 * before and p.changed[p.at] and p.changed.mean() < 0.5
            same = ~p.changed & np.isfinite(p.before[..., 0])
            np.testing.assert_allclose(p.after[same], p.before[same], rtol=0.05, atol=1e-3 * np.nanmax(p.before))
            assert (p.before.shape[0] % 4, p.before.shape[1] % 4) == (0, 0)
            break
    else:
        assert kind != "light-leak"
    if kind == "seam":
        assert proof is None, "no cause of it can be taken away from a texel"
        return
    assert proof is not None and proof.changed[proof.at] and proof.before.shape == (*proof.changed.shape, 3)
    same = ~proof.changed & np.isfinite(proof.before[..., 0])
    np.testing.assert_array_equal(proof.before[same], proof.after[same])
    before, after = proof.values
    if kind == "black-patch":
        assert after > 10.0 * before
    elif kind == "light-leak":
        assert after < 0.2 * before and "own side" in proof.what
    elif kind == "clipped":
        assert proof.what == f"without {found.also[0].rsplit('/', 1)[-1]}" and after < 0.5 * before
    else:
        # Neighbours differ less from each other with sixteen times the rays.
        light = (x.mean(axis=-1)[proof.changed.any(axis=1)] for x in (proof.before, proof.after))
        rough, smooth = (float(np.nanstd(np.diff(x, axis=1))) for x in light)
        assert "4,096 rays" in proof.what and smooth < rough


def test_what_a_dark_mover_takes_its_light_from_says_so(tmp_path: Path) -> None:
    case = next(c for c in cases(1) if c.kind == "dark-mover" and c.planted)
    found = next(f for f in findings_of(case, tmp_path) if f.kind == "dark-mover")
    ledger = Ledger(reopen(tmp_path / "out"))
    assert found.place is not None and found.also == ("room/bottom",)
    x, _, z = found.place
    top = ledger.lit.scene.corners[ledger.lit.scene.node == ledger.lit.scene.node_names.index("room/bottom")].max(
        axis=(0, 1)
    )[1]
    judged = verdict(ledger.lit, ledger.account(ledger.spot(np.array([x, top, z]), UP)))
    told = [f for f in (judged.finding, *judged.others) if f is not None]
    assert ("dark-mover", found.object) in [(f.kind, f.object) for f in told]


def test_history_looks_back_over_the_builds_of_a_rope(tmp_path: Path) -> None:
    path = _level(tmp_path)
    builds = tmp_path / "builds"
    builds.mkdir()
    for number in (1, 2):
        bake(path, recipe(light__gather_rays=8, density__texels_per_metre=2.0), builds / f"{number:04d}")
    place = np.array([1.0, 0.0, 2.0])
    assert [name for name, _ in history(builds / "0002", place, UP)] == ["0001", "0002"]
    assert [name for name, _ in history(builds / "0001", place, UP)] == ["0001"]


def test_what_if_answers_as_a_build_would(tmp_path: Path) -> None:
    path = _level(tmp_path)
    made = recipe(light__gather_rays=128, density__texels_per_metre=6.0, light__bounces=2)
    bake(path, made, sky=(1.0, 2.0, 3.0))
    ledger = Ledger(reopen(tmp_path / "out"))
    place = np.array([4.5, 0.0, 2.0])
    account = ledger.account(ledger.spot(place, UP))
    told = {w.what: w for w in what_if(ledger.lit, account)}
    without = told["without left"]
    bake(path, made, tmp_path / "dark", sky=(1.0, 2.0, 3.0), lights={"lights/left": LightChange(enabled=False)})
    dark = Ledger(reopen(tmp_path / "dark"))
    after = dark.account(dark.spot(place, UP)).raw
    assert without.exact and np.allclose(without.light, after, rtol=1e-3)
    # Without the screen's shadow the spot is about as light as where the screen casts none: what that throws about in
    # the rest of the room is not looked at.
    free = told["without the shadow of screen"]
    marks = {"g/screen": Mark(casts=False)}
    bake(path, made, tmp_path / "free", sky=(1.0, 2.0, 3.0), brief=Brief(marks=marks))
    open_ = Ledger(reopen(tmp_path / "free"))
    wanted = open_.account(open_.spot(place, UP)).raw - account.raw
    assert not free.exact and np.allclose(free.light - account.raw, wanted, rtol=0.3)


def test_every_texel_is_told_what_if_even_on_the_rim_of_its_chart(ledger: Ledger) -> None:
    lit, rng = ledger.lit, np.random.default_rng(2)
    rim = np.flatnonzero(np.any([lit.beside(*way) < 0 for way in ((1, 0), (-1, 0), (0, 1), (0, -1))], axis=0))
    for row in [*rng.choice(rim, 16), *rng.integers(0, len(lit), 4)]:
        account = ledger.account(ledger.spot(lit.places[row], lit.normals[row]))
        told = what_if(lit, account)
        assert all(np.isfinite(w.light).all() and (w.light >= 0).all() for w in told)
        assert any(w.within is not None for w in told)


def test_denser_here_is_what_a_denser_build_has_there(tmp_path: Path) -> None:
    """Across the edge of a post's shadow, which lies within one or two of the build's texels."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4.0), "grey")
    b.add("g", "post", box((-0.3, 0.0, -0.8), (0.3, 1.2, -0.6)), "grey")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 60.0), at(0.0, 2.0, -1.8))
    path, built = level_file(tmp_path, b), dict[int, Ledger]()
    for times in (1, 2, 4):
        made = recipe(light__gather_rays=64, density__texels_per_metre=4.0 * times, light__bounces=1)
        bake(path, made, tmp_path / str(times))
        built[times] = Ledger(reopen(tmp_path / str(times)))
    coarse, crossed = built[1], False
    for x in np.linspace(0.2, 0.9, 5):
        account = coarse.account(coarse.spot(np.array([x, 0.0, 0.1]), UP))
        told = {w.what: w for w in what_if(coarse.lit, account)}
        for times, words in DENSER.items():
            wanted = built[times].account(built[times].spot(account.spot.position, UP)).raw
            found = told[words]
            assert found.within is not None and not found.exact
            assert np.allclose(found.light, wanted, rtol=0.05)
            # The texel of now is about the mean of what would lie in its place.
            low, high = found.within
            assert 0.95 * low <= float(account.raw @ LUMINANCE) <= 1.05 * high
            crossed |= low < 0.2 * high
        assert apply_fix(Brief(), Finding("", "note", "", "", "", fix=found.fix)).marks["g/floor"].density == 4.0
    assert crossed


def test_remedies_are_judged_by_the_build_after_and_remembered(tmp_path: Path) -> None:
    fault = Finding("noise", "warning", "hall/floor", "It is noisy all over.", "More rays", (0, 0, 0), (), (), 2.0,
                    (0.2, "share"), 0, (1, 1), False)  # fmt: skip
    tried = [Tried(fault, "Set gather rays to 512", 3)]
    write_tried(tmp_path, tried)
    assert read_tried(tmp_path) == tried
    assert "next build" in record(tried, fault)
    assert judged(tried, 3, [fault]) == tried
    for now, verdict_ in ((None, "helped"), (0.1, "less"), (0.2, "no change"), (0.5, "worse")):
        found = [] if now is None else [replace(fault, measure=(now, "share"))]
        after = judged(tried, 4, found)
        assert [t.verdict for t in after] == [verdict_] and after[0].after == 4
        assert judged(after, 5, []) == after
        assert "build 4" in record(after, fault)
    (tmp_path / "remedies.json").write_text("{", encoding="utf-8")
    assert read_tried(tmp_path) == [] and record([], fault) == ""


@pytest.mark.parametrize("front", [True, False])
def test_what_rays_tell_of_a_place_is_the_closed_form(front: bool, tmp_path: Path) -> None:
    """Below the middle of a square as wide as its height: rays that meet it, by Lambert's formula; those that
    meet its front count by how near they end, by a sum over the square."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4.0), "grey")
    b.add("g", "lid", facing_down(1.0, 1.0) if front else floor(1.0, 1.0), "grey")
    made = recipe(light__gather_rays=512, density__texels_per_metre=4.0, occlusion__radius=3.0)
    bake(level_file(tmp_path, b), made, sky=(1.0, 1.0, 1.0))
    reopened = reopen(tmp_path / "out")
    lit = reopened.lit
    pages = around(lit, reopened.manifest)
    assert pages.shape[3] == 2 and pages.dtype == np.float32
    on_floor = lit.scene.node[lit.texels.owner] == lit.scene.node_names.index("g/floor")
    places = texel_places(lit.scene, lit.samples.triangle, lit.samples.weights, lit.samples.count)
    nearest = np.flatnonzero(on_floor)[np.argmin(np.linalg.norm(places[on_floor], axis=1))]
    page, row, column = (int(x[nearest]) for x in (lit.texels.page, lit.texels.row, lit.texels.column))
    closed, backs = pages[page, row, column]
    x, z = np.meshgrid(*[(np.arange(400) + 0.5) / 400 - 0.5] * 2)
    r2 = (x - places[nearest, 0]) ** 2 + (z - places[nearest, 2]) ** 2 + 1.0
    share = 1.0 / (np.pi * r2**2) * (1.0 / 400) ** 2  # cos θ cos θ′ / (π r²)
    met, near = float(share.sum()), float((share * (1.0 - np.sqrt(r2) / 3.0)).sum())
    assert met == pytest.approx(0.235, abs=0.01)
    assert backs == pytest.approx(0.0 if front else met, abs=0.02)
    assert closed == pytest.approx(near if front else 0.0, abs=0.02)


def test_what_is_read_between_texels_stops_where_something_parts_them() -> None:
    """Two rows of two texels, black on the left and white on the right."""
    light = np.repeat(np.array([[0.0, 1.0], [0.0, 1.0]])[..., None], 3, axis=2)
    held, nothing = np.ones((2, 2), np.bool_), np.zeros((1, 2), np.bool_)
    ramp = np.array([0, 0, 0.125, 0.375, 0.625, 0.875, 1, 1])
    open_, same = read_between(light, held, np.zeros((2, 1), np.bool_), nothing)
    assert open_.shape == (8, 8, 3) and np.allclose(open_[..., 0], ramp) and np.array_equal(open_, same)
    # A wall between both pairs is a step; between one of them it lets light round its end alone.
    _, shut = read_between(light, held, np.ones((2, 1), np.bool_), nothing)
    assert np.allclose(shut[..., 0], [0, 0, 0, 0, 1, 1, 1, 1])
    _, half = read_between(light, held, np.array([[True], [False]]), nothing)
    assert np.allclose(half[:2, :, 0], [0, 0, 0, 0, 1, 1, 1, 1]) and np.allclose(half[6:, :, 0], ramp)
    # Where no texel is, nothing is read, nor from there.
    held[:, 0] = False
    alone, _ = read_between(light, held, np.zeros((2, 1), np.bool_), nothing)
    assert np.isnan(alone[:, :2]).all() and np.allclose(alone[:, 2:], 1.0)
    one, _ = read_between(
        light[:1, :1], np.ones((1, 1), np.bool_), np.zeros((1, 0), np.bool_), np.zeros((0, 1), np.bool_)
    )
    assert one.shape == (4, 4, 3) and (one == 0).all()
