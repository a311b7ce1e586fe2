"""Two builds against each other where the truth is known: same settings, other seed, one lamp, a colour, several."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from itertools import product
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis.strategies import floats, integers

from helpers import bake, level_file, meter, recipe, room
from ropebell.build.recipe import Recipe, with_value
from ropebell.build.result import open_result
from ropebell.cli.main import main
from ropebell.compare.apart import one_at_a_time
from ropebell.compare.changes import changes
from ropebell.compare.compare import Comparison, as_json, compare, in_words
from ropebell.compare.light import light_difference
from ropebell.compare.places import luminance, partners, places_of
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import UsageError
from ropebell.level.brief import Brief, EmitterChange, LightChange, Mark
from ropebell.level.model import Light

MADE = recipe("sketch", density__texels_per_metre=6.0, light__gather_rays=64)
WALL, DARKER = (0.6, 0.5, 0.4), (0.5, 0.4, 0.35)
Builds = Callable[..., Path]


def _level(folder: Path, name: str, **what: object) -> Path:
    b = LevelBuilder()
    b.material("wall", what.get("wall", WALL))  # type: ignore[arg-type]
    b.material("oak", (0.5, 0.4, 0.2))
    b.material("glow", (0.5, 0.5, 0.5), (8.0, 6.0, 4.0))
    b.add("house", "room", room(4, 3, 4), "wall")
    b.add("things", "crate", box((0, 0, 0), (0.5, 0.5, 0.5)), "oak", at(*what.get("crate", (1, 0, 1))))  # type: ignore[misc]
    b.add("things", "panel", box((0, 0, 0), (0.6, 0.4, 0.05)), "glow", at(2, 1, 3.9))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(*what.get("lamp", (2, 2, 2))))  # type: ignore[misc]
    b.light("spot", Light("spot", "point", (1, 0.6, 0.3), 30.0), at(1, 1.5, 3))
    if "stray" in what:
        b.add("things", "stray", box((0, 0, 0), (0.5, 0.5, 0.5)), "oak", at(*what["stray"]))  # type: ignore[misc]
    if what.get("third"):
        b.light("third", Light("third", "point", (1, 1, 1), 20.0), at(3, 1, 1))
    return level_file(folder, b, f"{name}.glb")


@pytest.fixture
def builds(tmp_path: Path) -> Builds:
    number = iter(range(1000))

    def build(made: Recipe = MADE, brief: Brief | None = None, **what: object) -> Path:
        i = next(number)
        out = tmp_path / f"build-{i}"
        values = {} if brief is None else {"brief": brief}
        bake(_level(tmp_path, f"level-{i}", **what), made, out, cache=tmp_path / "cache", **values)
        return out

    return build


def _lamp(intensity: float) -> Brief:
    return Brief(lights={"lights/lamp": LightChange(intensity=intensity)})


def _only(c: Comparison) -> str:
    (cause,) = c.causes.causes
    assert cause.share == 1.0
    return cause.name


def test_the_same_and_another_seed_look_equal(builds: Builds) -> None:
    one = builds()
    same = compare(one, builds())
    assert not same.light.differ and same.light.beyond_noise == 0 and same.light.mean == 0 and same.worst is None
    assert same.changes.of_light == [] and same.causes.causes == () and "same within noise" in in_words(same)
    other = compare(one, builds(with_value(MADE, "light.seed", 7)))
    assert not other.light.differ and abs(other.light.mean) < 0.005 and _only(other) == "light.seed"
    assert not np.array_equal(other.light.a, other.light.b)


def test_one_lamp_a_moved_lamp_a_colour_an_emitter_a_bounce(builds: Builds) -> None:
    one = builds()
    brighter = compare(one, builds(brief=_lamp(88.0)))
    assert brighter.light.differ and _only(brighter) == "lights/lamp"
    assert [(c.node, c.what) for c in brighter.changes.contents] == [("lights/lamp", "intensity 80 → 88")]
    # The mean is that of the pages themselves.
    a, b = (open_result(c.folder) for c in (brighter.a, brighter.b))
    places = places_of(a)
    lux = [float((luminance(places.of(r.total)) * places.area).sum()) for r in (a, b)]
    assert brighter.light.mean == pytest.approx(lux[1] / lux[0] - 1, rel=1e-6)
    assert _only(compare(one, builds(lamp=(2.5, 2, 2)))) == "lights/lamp"
    darker = compare(one, builds(wall=DARKER))
    assert darker.light.differ and darker.light.mean < 0 and _only(darker) == "house/room"
    assert "0.60, 0.50, 0.40 → 0.50, 0.40, 0.35" in darker.changes.contents[0].what
    glow = builds(brief=Brief(emitters={"glow": EmitterChange(radiance=(40.0, 30.0, 20.0))}))
    assert _only(compare(one, glow)) == "things/panel"
    fewer = compare(one, builds(with_value(MADE, "light.bounces", 0)))
    assert fewer.light.mean < -0.1 and _only(fewer) == "light.bounces"
    assert [(s.a, s.b) for s in fewer.changes.settings] == [(2, 0)]


@settings(max_examples=5, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(power=floats(0.0, 9.0), way=integers(0, 2))
@example(power=6.0, way=0)
def test_a_stray_thing_however_far_off_changes_nothing_of_what_is_said(builds: Builds, power: float, way: int) -> None:
    far = [0.5, 0.2, 0.5]
    far[way] += 10.0**power
    coarse = with_value(MADE, "density.texels_per_metre", 3.0)
    one = builds(coarse, stray=far)
    same = compare(one, builds(coarse, stray=far))
    assert not same.light.differ and same.light.mean == 0 and same.changes.contents == () and same.light.matched > 0.999
    twice = compare(one, builds(with_value(coarse, "light.seed", 1), brief=_lamp(160.0), stray=far))
    assert [c.node for c in twice.changes.contents] == ["lights/lamp"] and twice.light.matched > 0.999
    moved = compare(one, builds(coarse, stray=far, crate=(1.02, 0, 1)))
    assert [(c.node, c.what) for c in moved.changes.contents] == [("things/crate", "moved by 0.02 m")]
    # What is compared at a place is what the meter reads there in each build.
    row = int(np.argmax(np.where(twice.light.beyond, twice.light.b - twice.light.a, 0.0)))
    spot = tuple(twice.light.places.position(twice.light.base.scene.corners)[row])
    for folder, lux in zip((twice.a.folder, twice.b.folder), (twice.light.a[row], twice.light.b[row])):
        (read,) = meter(folder, spot, normal=None)
        assert float(luminance(read.irradiance[None])[0]) == pytest.approx(lux, rel=1e-2)


def test_other_densities_are_one_light_and_either_way_round(builds: Builds) -> None:
    coarse, fine = builds(), builds(with_value(MADE, "density.texels_per_metre", 12.0))
    one, other = compare(coarse, fine), compare(fine, coarse)
    assert one.light.on_a and not other.light.on_a
    assert not one.light.differ and one.light.matched > 0.999
    assert other.light.beyond_noise == one.light.beyond_noise
    assert other.light.mean == pytest.approx(1 / (1 + one.light.mean) - 1, abs=1e-9)
    brighter = compare(fine, builds(brief=_lamp(120.0)))
    assert brighter.light.differ and {c.name for c in brighter.causes.causes} == {
        "lights/lamp", "density.texels_per_metre"
    }  # fmt: skip
    assert brighter.causes.causes[0].name == "lights/lamp"
    assert brighter.causes.causes[0].share == pytest.approx(1.0, abs=0.05)


def _shapley(values: dict[tuple[int, ...], float], player: int) -> float:
    count, total = len(next(iter(values))), 0.0
    for made, value in values.items():
        if not made[player]:
            others = sum(made)
            weight = math.factorial(others) * math.factorial(count - 1 - others) / math.factorial(count)
            total += weight * (values[(*made[:player], 1, *made[player + 1 :])] - value)
    return total


def test_causes_are_what_builds_with_one_change_at_a_time_say(builds: Builds) -> None:
    """Three at once — a lamp, a colour, an object that moves — and two of them, against builds of every combination."""
    combos = list(product((0, 1), repeat=3))
    made = {
        (lamp, wall, crate): builds(
            brief=_lamp(110.0 if lamp else 80.0), wall=(0.66, 0.56, 0.46) if wall else WALL,
            crate=(1.8, 0, 1) if crate else (1, 0, 1),
        )
        for lamp, wall, crate in combos
    }  # fmt: skip
    base = open_result(made[0, 0, 0])
    value = {(0, 0, 0): 0.0}
    for key in combos[1:]:
        light = light_difference(base, open_result(made[key]))
        value[key] = float((light.weight * (light.b - light.a)).sum())
    whole = value[1, 1, 1]
    names = ("lights/lamp", "house/room", "things/crate")
    three = {c.name: c.share for c in compare(made[0, 0, 0], made[1, 1, 1]).causes.causes}
    assert set(three) == set(names) and sum(three.values()) == pytest.approx(1.0)
    for player, name in enumerate(names):
        assert three[name] == pytest.approx(_shapley(value, player) / whole, abs=0.05), name
    two = {c.name: c.share for c in compare(made[0, 0, 0], made[1, 1, 0]).causes.causes}
    halved = {key[:2]: value[key] for key in combos if not key[2]}
    for player, name in enumerate(names[:2]):
        assert two[name] == pytest.approx(_shapley(halved, player) / halved[1, 1], abs=0.02), name


def test_what_stored_rays_cannot_tell_apart_is_said_so(builds: Builds, tmp_path: Path) -> None:
    one = builds()
    finer = with_value(with_value(MADE, "density.texels_per_metre", 9.0), "light.gather_rays", 32)
    c = compare(one, builds(finer, brief=_lamp(130.0), third=True))
    by = {x.name: x for x in c.causes.causes}
    ground = next(x for x in c.causes.causes if len(x.members) > 1)
    assert set(ground.members) == {"density.texels_per_metre", "light.gather_rays", "lights/third"}
    assert "cannot tell these apart" in c.causes.told and by["lights/lamp"].share > 0.3
    # Without the cache nothing is made up.
    (tmp_path / "cache").rename(tmp_path / "elsewhere")
    c = compare(one, c.b.folder)
    assert c.causes.causes == () and "no longer in its cache" in c.causes.told and c.light.differ


def test_one_change_at_a_time_is_asked_for_and_what_cannot_be_is_said(builds: Builds) -> None:
    one = builds()
    more = with_value(with_value(MADE, "light.bounces", 3), "light.gather_rays", 32)
    glow = Brief(lights={"lights/lamp": LightChange(intensity=120.0)}, marks={"things/crate": Mark(casts=False)})
    two = builds(more, brief=glow, wall=DARKER)
    changed = changes(open_result(one), open_result(two))
    apart = one_at_a_time(one, two, changed)
    assert apart.not_so == ("house/room",)  # its colour is in the level's own file
    made = dict(apart.requests)
    assert set(made) == {"light.bounces", "light.gather_rays", "lights/lamp", "things/crate"}
    assert (
        made["light.bounces"].recipe == with_value(MADE, "light.bounces", 3) and not made["light.bounces"].brief.lights
    )
    assert made["lights/lamp"].brief.lights["lights/lamp"].intensity == 120.0 and made["lights/lamp"].recipe == MADE
    assert made["things/crate"].brief.marks["things/crate"].casts is False and not made["things/crate"].brief.lights


def test_contents_tell_what_came_went_moved_and_is_marked_otherwise(builds: Builds) -> None:
    one = builds()
    c = compare(one, builds(brief=Brief(marks={"things/panel": Mark(casts=False)}), crate=(2, 0, 1), third=True))
    told = {x.node: x.what for x in c.changes.contents}
    assert told["things/crate"] == "moved by 1 m" and told["lights/third"] == "only in B"
    assert told["things/panel"] == "marked otherwise: casts"
    assert c.light.matched < 1.0 and c.light.matched > 0.9


def test_a_place_has_its_partner_wherever_its_charts_lie(builds: Builds) -> None:
    a, b = open_result(builds()), open_result(builds(with_value(MADE, "density.texels_per_metre", 9.0)))
    places = places_of(a)
    found = partners(a, places, b)
    assert found.there.all()
    spots = np.zeros((*b.total.shape[:3], 3), np.float32)
    theirs = places_of(b)
    spots[theirs.page, theirs.row, theirs.column] = theirs.position(b.scene.corners)
    off = np.linalg.norm(found.nearest(spots) - places.position(a.scene.corners), axis=1)
    assert np.quantile(off, 0.95) < 0.09  # within a texel of 1/9 m


def test_the_command_answers_as_agreed(builds: Builds, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    one, two = builds(), builds(brief=_lamp(100.0), wall=DARKER)
    page = tmp_path / "compared.html"
    assert main(["compare", str(one), str(two), "--json", "--html", str(page)]) == 1
    told = json.loads(capsys.readouterr().out)
    assert set(told) >= {"settings", "contents", "light", "causes", "faults", "times", "pages", "differ"}
    assert told["differ"] is True and set(told["faults"]) == {"new", "gone", "still"}
    assert sum(c["share"] for c in told["causes"]) == pytest.approx(1.0)
    spent = {row["name"]: (row["a"], row["b"]) for row in told["spent"]["object"]}
    assert len(spent) > 1 and all(a > 0 and b > 0 for a, b in spent.values())
    assert len(told["light"]["largest"]["place"]) == 3 and told["times"][-1]["stage"] == "total"
    html = page.read_text()
    assert "lights/lamp" in html and "data:image/png" in html and "Causes" in html
    assert main(["compare", str(one), str(one)]) == 0
    assert "same within noise" in capsys.readouterr().out
    assert main(["compare", str(one), str(tmp_path)]) == 2
    assert "no finished build" in capsys.readouterr().err


def test_builds_of_different_levels_are_refused(builds: Builds, tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("yard", "slab", box((50, 0, 50), (54, 0.2, 54)), "grey")
    b.light("moon", Light("moon", "directional", (1, 1, 1), 10.0), at(50, 5, 50))
    other = tmp_path / "other"
    bake(level_file(tmp_path, b, "other.glb"), MADE, other, cache=tmp_path / "cache")
    with pytest.raises(UsageError, match="different levels"):
        compare(builds(), other)


def test_a_part_build_beside_the_whole(builds: Builds) -> None:
    from ropebell.build.scope import Scope

    one = builds()
    manifest = json.loads((one / "journal.jsonl").read_text().splitlines()[0])
    level = Path(json.loads(manifest["request"])["level"])
    out = one.parent / "part"
    scope = Scope(only=("things/crate",), since=one)
    bake(level, MADE, out, cache=one.parent / "cache", scope=scope)
    told = as_json(compare(one, out))
    assert told["differ"] is False and [s["key"] for s in told["settings"]] == ["scope"]
