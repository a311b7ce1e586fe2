"""Who sees whom: held against rays between points, and told by the command."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, level_file, recipe
from ropebell.build.precheck import gather
from ropebell.build.sighting import known_sight, sight_of, ways_out
from ropebell.build.store import Store
from ropebell.checks.subject import Subject
from ropebell.cli.main import main
from ropebell.compare.opened import opened_by
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box
from ropebell.errors import UsageError
from ropebell.level.brief import Brief, LightChange, Mark, Move, Pose, Region
from ropebell.level.model import F64, Light
from ropebell.level.open import open_level
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace
from ropebell.sight.cells import PLACES
from ropebell.sight.in_sight import InSight
from ropebell.sight.mutual import BETWEEN, any_through
from ropebell.sight.sight import Sight, digest_of_sight
from ropebell.sight.sky_box import sky_boxes

START = (1.0, 0.0, 1.0)


def _two_rooms(folder: Path, hole: float = 0.0, glass: tuple[str, ...] = ()) -> Path:
    """Two rooms of 4 × 3 × 4 m with a doorway between them, a ball of many faces, a pillar; a hole in a far wall."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.material("glass", (0.5, 0.5, 0.5), holes=True, alpha=0.2)
    slabs = {
        "floor": ((-0.2, -0.2, -0.2), (8.4, 0, 4.2)), "ceiling": ((-0.2, 3, -0.2), (8.4, 3.2, 4.2)),
        "west": ((-0.2, 0, -0.2), (0, 3, 4.2)), "north": ((0, 0, -0.2), (8.2, 3, 0)),
        "south": ((0, 0, 4), (8.2, 3, 4.2)),
        "middle a": ((4.0, 0, 0), (4.2, 3, 2.8)), "middle b": ((4.0, 0, 3.7), (4.2, 3, 4)),
        "lintel": ((4.0, 2.1, 2.8), (4.2, 3, 3.7)), "pillar": ((1.8, 0, 1.8), (2.2, 3, 2.2)),
        "east low": ((8.2, 0, -0.2), (8.4, 1.5 - hole, 4.2)), "east high": ((8.2, 1.5, -0.2), (8.4, 3, 4.2)),
    }  # fmt: skip
    for name, (low, high) in slabs.items():
        b.add("r", name, box(low, high), "glass" if name in glass else "grey")
    b.add("r", "door", box((4.05, 0, 2.8), (4.15, 2.1, 3.7)), "glass" if "door" in glass else "grey")
    b.add("r", "ornament", ball(0.15, 24, 48), "grey", at(6.0, 0.4, 1.0))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 40.0), at(2.0, 2.0, 1.0))
    return level_file(folder, b)


SHUT = {"r/door": Mark(role="moving", poses={"open": Pose(move=(0.0, 0.0, -1.0))})}
OPEN = {"r/door": Mark(role="moving", pose="open", poses={"open": Pose(move=(0.0, 0.0, -1.0))})}


def _subject(level: Path, marks: dict[str, Mark], **more: object) -> Subject:
    brief = Brief(region=Region(start=START), marks=marks, **more)  # type: ignore[arg-type]
    return gather(open_level(level), brief, recipe(), (0.0, 0.0, 0.0), ()).subject


@pytest.fixture(scope="module")
def rooms(tmp_path_factory: pytest.TempPathFactory) -> tuple[Subject, Sight, Store]:
    folder = tmp_path_factory.mktemp("rooms")
    subject, store = _subject(_two_rooms(folder), OPEN), Store(folder / "cache")
    return subject, sight_of(subject, 0.5, 2, store)[0], store


def _points(count: int, rng: np.random.Generator) -> F64:
    """Spread over both rooms."""
    points = rng.uniform((0.01, 0.01, 0.01), (8.19, 2.99, 3.99), (count, 3))
    solid = ((points[:, 0] > 3.99) & (points[:, 0] < 4.21)) | (np.abs(points[:, [0, 2]] - 2.0).max(axis=1) < 0.21)
    near_ball = np.linalg.norm(points - [6.0, 0.4, 1.0], axis=1) < 0.16
    return points[~solid & ~near_ball]


def _cells(sight: Sight, points: F64) -> np.ndarray:
    index = np.floor((points - sight.low) / sight.size).astype(np.int64)
    return sight.number[index[:, 0], index[:, 1], index[:, 2]]


def test_remembered_triangles_stop_just_the_rays_that_would_be_stopped(tmp_path: Path) -> None:
    scene = _subject(_two_rooms(tmp_path), SHUT).scene
    space, rng = RaySpace(scene.corners), np.random.default_rng(6)
    places = (np.array([0.1, 0.1, 0.1]) + rng.random((60, 1, 3)) * [8.0, 2.8, 3.8] - space.centre).astype(np.float32)
    places = (places + 0.4 * rng.random((60, PLACES, 3))).astype(np.float32)
    pairs = rng.integers(0, 60, (3000, 2)).astype(np.int32)
    choice = np.random.default_rng((7, 0)).integers(0, PLACES, (3000, BETWEEN, 2), dtype=np.int8)
    start, end = places[pairs[:, :1], choice[..., 0]], places[pairs[:, 1:], choice[..., 1]]
    stopped = space.blocked(start.reshape(-1, 3), (end - start).reshape(-1, 3), np.ones(3000 * BETWEEN, np.float32))
    through = ~stopped.reshape(3000, BETWEEN).all(axis=1)
    traced: list[float] = []
    found, took = any_through(space, places, pairs, 7, 2, traced)
    np.testing.assert_array_equal(found, through)
    # Up to the first that came through, with it.
    free = ~stopped.reshape(3000, BETWEEN)
    np.testing.assert_array_equal(took, np.where(through, free.argmax(axis=1) + 1, BETWEEN))
    assert 0.2 < through.mean() < 0.9 and sum(traced) > 0


def test_nothing_that_can_be_seen_is_hidden(rooms: tuple[Subject, Sight, Store]) -> None:
    """A million pairs of points, by rays."""
    subject, sight, _ = rooms
    rng = np.random.default_rng(11)
    space = RaySpace(subject.scene.corners)
    a, b = _points(1_250_000, rng), _points(1_250_000, rng)
    count = min(len(a), len(b), 1_000_000)
    a, b = a[:count], b[:count]
    p, q = _cells(sight, a), _cells(sight, b)
    assert count == 1_000_000 and (p >= 0).all() and (q >= 0).all()
    said = (sight.seen[p, q >> 3] >> (7 - (q & 7)) & 1).astype(bool)
    hidden = np.flatnonzero(~said)
    start = (a[hidden] - space.centre).astype(np.float32)
    way = (b[hidden] - space.centre).astype(np.float32) - start
    missed = ~space.blocked(start, way, np.ones(len(hidden), np.float32))
    assert len(hidden) > 100_000 and missed.sum() == 0


def test_little_more_is_said_to_be_seen_than_can_be(rooms: tuple[Subject, Sight, Store]) -> None:
    subject, sight, _ = rooms
    rng = np.random.default_rng(12)
    n = len(sight.middles)
    space = RaySpace(subject.scene.corners)
    points = _points(400_000, rng)
    cell = _cells(sight, points)
    order = np.argsort(cell, kind="stable")
    first = np.searchsorted(cell[order], np.arange(n + 1))
    said = [(i, j) for i in range(n) for j in np.flatnonzero(sight.row(i)) if j > i]
    some = [said[k] for k in rng.choice(len(said), 1500, replace=False)]
    true = 0
    for i, j in some:
        a = points[rng.choice(order[first[i] : first[i + 1]], 1500)]
        b = points[rng.choice(order[first[j] : first[j + 1]], 1500)]
        start = (a - space.centre).astype(np.float32)
        true += bool(
            (~space.blocked(start, (b - space.centre).astype(np.float32) - start, np.ones(1500, np.float32))).any()
        )
    assert len(some) / true <= 1.15


def test_who_sees_whom_is_the_same_both_ways_and_stops_at_walls(rooms: tuple[Subject, Sight, Store]) -> None:
    _, sight, _ = rooms
    n = len(sight.middles)
    seen = np.unpackbits(sight.seen, axis=1, count=n).astype(bool)
    assert (seen == seen.T).all() and seen.diagonal().all() and sight.pairs == int(np.triu(seen, 1).sum())
    here, there, behind = np.array([0.5, 1.5, 3.3]), np.array([7.5, 1.0, 3.2]), np.array([7.5, 1.5, 0.3])
    assert sight.sees(here, there) and sight.sees(there, here)  # through the doorway
    assert not sight.sees(np.array([3.5, 1.5, 0.4]), behind)
    assert sight.sealed and sight.decided and not sight.leaks


def test_what_is_not_known_is_not_said_to_be_hidden(rooms: tuple[Subject, Sight, Store], tmp_path: Path) -> None:
    _, sight, _ = rooms
    inside, outside = np.array([0.5, 1.5, 3.3]), np.array([20.0, 1.5, 1.0])
    assert not sight.sees(inside, outside) and sight.sees(outside, outside + [1.0, 0.0, 0.0])
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "ground", box((-20, -0.2, -20), (20, 0, 20)), "grey")
    open_ = sight_of(_subject(level_file(tmp_path, b), {}), 1.0, 2, Store(tmp_path / "cache"))[0]
    assert open_.open and open_.sees(inside, outside)


def test_a_shut_door_hides_and_an_open_one_shows(rooms: tuple[Subject, Sight, Store], tmp_path: Path) -> None:
    shut = sight_of(_subject(_two_rooms(tmp_path), SHUT), 0.5, 2, Store(tmp_path / "cache"))[0]
    here, there = np.array([0.5, 1.5, 3.3]), np.array([7.5, 1.0, 3.2])
    assert not shut.sees(here, there) and shut.sealed and shut.pairs < rooms[1].pairs


def test_only_what_blocks_makes_it_stale(rooms: tuple[Subject, Sight, Store], tmp_path: Path) -> None:
    subject, sight, store = rooms
    name = digest_of_sight(subject.level, subject.scene, subject.brief, 0.5, False)
    same = _subject(_two_rooms(tmp_path), {**OPEN, "r/floor": Mark(density=2.0, note="words")}, lights={
        "lights/lamp": LightChange(intensity=900.0, color=(1.0, 0.0, 0.0))
    })  # fmt: skip
    assert digest_of_sight(same.level, same.scene, same.brief, 0.5, False) == name
    again, known = sight_of(same, 0.5, 2, store)
    assert known and again.pairs == sight.pairs and (again.seen == sight.seen).all()
    other = _subject(_two_rooms(tmp_path), {**OPEN, "r/pillar": Mark(blocks_sight=False)})
    assert digest_of_sight(other.level, other.scene, other.brief, 0.5, False) != name


def test_what_costs_much_and_hides_little_is_proposed_and_the_hull_never(rooms: tuple[Subject, Sight, Store]) -> None:
    _, sight, _ = rooms
    assert [b.node for b in sight.blockers][:1] == ["r/ornament"]
    assert sight.blockers[0].hides < 0.002 and sight.blockers[0].triangles > 1000
    hull = {"r/floor", "r/ceiling", "r/west", "r/north", "r/south", "r/east low", "r/east high", "r/middle a"}
    assert not hull & {b.node for b in sight.blockers}


def test_every_object_is_told_with_what_it_costs_and_what_it_hides(rooms: tuple[Subject, Sight, Store]) -> None:
    subject, sight, store = rooms
    costs = {c.node: c for c in sight.costs}
    assert set(costs) == {subject.scene.node_names[n] for n in np.unique(subject.scene.node)}
    assert [c.seconds for c in sight.costs] == sorted((c.seconds for c in sight.costs), reverse=True)
    assert sum(c.rays for c in sight.costs) <= sight.rays == round(float(sight.asked.sum()))
    assert (sight.asked >= 1024).all() and len(sight.asked) == len(sight.middles)
    assert not costs["r/pillar"].hull and costs["r/west"].hull
    # What it says of an object is what comes of leaving it out: cells, and pairs that see each other.
    for node, least in (("r/pillar", 10), ("r/ornament", -9), ("r/middle a", -9)):
        marks = {**OPEN, node: Mark(blocks_sight=False)}
        without = sight_of(replace(subject, scene=_marked(subject, marks)), 0.5, 2, store)[0]
        fewer = len(sight.middles) - len(without.middles)
        assert costs[node].cells == pytest.approx(fewer, abs=max(0.25 * abs(fewer), 4)) and fewer >= least
        shown = without.share_seen - sight.share_seen
        # Of few rays from cell to cell, so a little less than all that asks more of them.
        assert costs[node].hides == pytest.approx(shown, rel=0.25, abs=0.01), node
        # And back: what it would do if it blocked is about what it did.
        (back,) = without.passing
        assert back.node == node and back.cells == pytest.approx(fewer, abs=max(0.25 * abs(fewer), 4))
        assert back.hides == pytest.approx(shown, rel=0.3, abs=0.01), node
    assert sight.passing == ()
    assert costs["r/middle a"].hides > 0.1 > costs["r/pillar"].hides > costs["r/ornament"].hides


def _marked(subject: Subject, marks: dict[str, Mark]) -> Scene:
    """The scene of a subject with other marks."""
    names = subject.scene.node_names
    nodes = tuple(replace(m, **_set(marks.get(names[n]))) for n, m in enumerate(subject.scene.marks.nodes))
    return replace(subject.scene, marks=replace(subject.scene.marks, nodes=nodes))


def _set(mark: Mark | None) -> dict[str, bool]:
    return {} if mark is None or mark.blocks_sight is None else {"blocks_sight": mark.blocks_sight}


def test_faces_that_nobody_sees_are_those_outside(rooms: tuple[Subject, Sight, Store]) -> None:
    subject, sight, _ = rooms
    scene = subject.scene
    assert sight.unseen[scene.corners[..., 1].max(axis=1) < -0.1].all()  # from below
    inside = (scene.node == scene.node_names.index("r/floor")) & (scene.face_normals[:, 1] > 0.9)
    assert not sight.unseen[inside].any()


def test_the_command_tells_a_leak_and_what_sees_what(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    level = _two_rooms(tmp_path, hole=0.05)
    (tmp_path / "project.toml").write_text(
        'level = "level.glb"\n[region]\nstart = [1.0, 0.0, 1.0]\n[marks."r/door"]\n'
        'role = "moving"\n'
        '[marks."r/door".poses.open]\nmove = [0.0, 0.0, -1.0]\n'
    )
    pair = ["--sees", "0.5,1.5,3.3", "7.5,1.0,3.2"]
    assert main(["sight", str(tmp_path), "--set", "sight.cell=1.0", "--pose", "r/door=open", *pair, "--json"]) == 1
    told = json.loads(capsys.readouterr().out)
    assert told["sealed"] is False and told["sees"] == [True] and told["cells"] > 30 and told["pairs"] > told["cells"]
    (leak,) = told["leaks"]
    assert leak["gap"]["width"] == pytest.approx(0.05, rel=0.02) and leak["gap"]["place"][0] == pytest.approx(
        8.3, abs=0.12
    )
    assert {"r/east low", "r/east high"} <= set(leak["gap"]["nodes"])
    assert leak["trail"][0] == [1.0, 1.6, 1.0] and len(leak["trail"]) >= 3
    assert {"node", "triangles", "seconds", "hides"} <= told["blockers"][0].keys()
    assert told["unseen"]["area"] > 50 and told["unseen"]["texels"] > 1000
    # Behind a shut door there is no way to the hole.
    assert main(["sight", str(tmp_path), "--set", "sight.cell=1.0", *pair]) == 0
    said = capsys.readouterr().out
    assert "The level is sealed; of " in said and "pair 1: hidden" in said
    assert main(["sight", str(tmp_path), "--pose", "r/door=ajar"]) == UsageError("", "", "").exit_code
    assert "has no pose 'ajar'" in capsys.readouterr().err
    assert level.is_file()


def test_the_stage_finds_the_leak_keeps_what_it_found_and_trips_a_wire(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    _two_rooms(tmp_path, hole=0.05)
    (tmp_path / "project.toml").write_text(
        'level = "level.glb"\n[region]\nstart = [1.0, 0.0, 1.0]\n[marks."r/door"]\nrole = "left-out"\n'
    )
    asked = ["bake", str(tmp_path), "--recipe", "sketch", "--set", "draft=4", "--set", "sight.enabled=true"]
    assert main([*asked, "--out", str(tmp_path / "a"), "--stop-when", "fault:hull-leak"]) == 4
    assert main([*asked, "--out", str(tmp_path / "b")]) == 0
    events = [json.loads(line) for line in (tmp_path / "b" / "journal.jsonl").read_text().splitlines()]
    # The build that was stopped has left what it had found.
    assert [e["state"] for e in events if e.get("stage") == "sight" and "state" in e] == ["begun", "reused"]
    capsys.readouterr()
    assert main(["faults", str(tmp_path / "b"), "--json"]) == 1
    (leak,) = [f for f in json.loads(capsys.readouterr().out)["findings"] if f["kind"] == "hull-leak"]
    assert leak["proved"] and leak["severity"] == "error" and leak["measure"]["unit"] == "m"
    ((place, way),) = ways_out(tmp_path / "b")
    assert leak["place"] == pytest.approx(place.tolist(), abs=1e-3) and len(way) >= 3


def test_what_an_eye_sees_is_among_the_faces_in_sight_of_its_cell(rooms: tuple[Subject, Sight, Store]) -> None:
    subject, sight, _ = rooms
    scene, inside = subject.scene, InSight.of(sight, subject.scene)
    space, rng = RaySpace(scene.corners), np.random.default_rng(8)
    looks = rng.normal(size=(400, 3)).astype(np.float32)
    hidden_somewhere = np.zeros(len(scene), np.bool_)
    asked = rng.uniform((0.1, 0.1, 0.1), (8.1, 2.9, 3.9), (80, 3))
    asked = asked[[sight.cell_of(place) >= 0 for place in asked]]
    assert len(asked) > 40
    for place in asked:
        faces = inside.faces(sight.cell_of(place))
        start = np.tile((place - space.centre).astype(np.float32), (len(looks), 1))
        met = space.first_hit(start, looks)
        met = met[met >= 0]
        inner = (scene.face_normals[met] * looks[: len(met)]).sum(axis=1) != 0  # none lies edge on
        assert faces[met[inner]].all()
        hidden_somewhere |= ~faces
    # Each of the two rooms hides things from some place of the other; nobody sees all of both.
    assert hidden_somewhere.mean() > 0.3
    counts = inside.face_counts()
    some = rng.integers(0, len(counts), 12)
    assert [int(inside.faces(int(cell)).sum()) for cell in some] == counts[some].tolist()
    assert inside.cells[some].tolist() == [int(sight.row(int(cell)).sum()) - 1 for cell in some]
    assert inside.faces(-1).all()


def test_glass_closes_the_hull_and_hides_nothing(tmp_path: Path) -> None:
    west, east = np.array([3.0, 1.0, 3.2]), np.array([6.0, 1.0, 3.2])
    outside = np.array([9.5, 1.0, 2.0])
    found = []
    for glass, door_is in (((), SHUT), (("door",), SHUT), (("east high",), OPEN)):
        folder = tmp_path / "-".join(glass or ("none",))
        folder.mkdir()
        subject = _subject(_two_rooms(folder, glass=glass), door_is)
        sight, _ = sight_of(subject, 0.5, 2, Store(folder / "cache"))
        known = known_sight(subject, 0.5, Store(folder / "cache"))
        assert sight.sealed and known is not None and known.beyond_seen == sight.beyond_seen
        found.append((sight, subject.scene))
    solid, door, window = (sight for sight, _ in found)
    assert not solid.sees(west, east) and door.sees(west, east) and not solid.sees(east, west)
    assert [sight.beyond_seen for sight in (solid, door, window)] == [False, True, True]
    assert not solid.sees(west, outside) and window.sees(east, outside)
    # What is beyond may be seen through glass, but not what lies within walls.
    areas = [float(scene.areas[sight.unseen].sum()) for sight, scene in found]
    assert areas[0] > 100 and max(areas[1:]) < 0.3 * areas[0]


def _leak_of(folder: Path) -> tuple[F64, float]:
    place, _ = ways_out(folder)[0]
    return place, json.loads((folder / "sight.json").read_text())["leaks"][0]["gap"]["width"]


def test_what_opened_a_leak_is_what_changed_round_its_gap_since_it_was_sealed(tmp_path: Path) -> None:
    builds = tmp_path / "builds"
    builds.mkdir()
    made = recipe("sketch", draft=8, sight__enabled=True, sight__cell=2.0)
    brief = Brief(region=Region(start=START), marks={"r/door": Mark(role="left-out")})
    level = _two_rooms(tmp_path)
    bake(level, made, builds / "0001", brief=brief)
    # A wall is lowered, far from it the ornament goes elsewhere.
    level = _two_rooms(tmp_path, hole=0.05)
    moved = replace(brief, moves={"r/ornament": Move((0.0, 0.3, 0.0))})
    bake(level, made, builds / "0002", brief=moved)
    found = opened_by(builds / "0002", *_leak_of(builds / "0002"))
    assert found.sealed == 1 and [c.node for c in found.at_gap] == ["r/east low"] and found.elsewhere == 1
    assert found.sentence() == "Sealed in build 1. Since then: east low has another shape."
    # Two builds later it is still that; a mark that lets sight through is one more.
    bake(level, made, builds / "0003", brief=moved)
    assert opened_by(builds / "0003", *_leak_of(builds / "0003")).at_gap == found.at_gap
    through = replace(brief, sealed=True, marks={**brief.marks, "r/west": Mark(blocks_sight=False)})
    bake(_two_rooms(tmp_path), made, builds / "0004", brief=through)
    opened = opened_by(builds / "0004", *_leak_of(builds / "0004"))
    assert [c.node for c in opened.at_gap] == ["r/west"] and "west lets sight through" in opened.sentence()
    # Without a sealed build there is nothing to say.
    assert opened_by(builds / "0001", np.zeros(3), 0.1).sentence() == ""


def test_a_sky_box_is_told_from_a_room_and_counts_as_what_it_is_marked(tmp_path: Path) -> None:
    for unlit, size, boxes in ((True, 40.0, ("sky/dome",)), (False, 40.0, ()), (True, 3.0, ())):
        b = LevelBuilder()
        b.material("grey", (0.5, 0.5, 0.5))
        b.material("sky", (0.4, 0.6, 0.9), unlit=unlit)
        b.add("house", "floor", box((0, -0.2, 0), (6, 0, 6)), "grey")
        b.add("house", "post", box((1, 0, 1), (1.2, 2, 1.2)), "grey")
        h = size / 2
        b.add("sky", "dome", box((3 - h, -h, 3 - h), (3 + h, h, 3 + h)).turned_inside_out(), "sky")
        folder = tmp_path / f"{unlit}-{size}"
        folder.mkdir()
        level = level_file(folder, b)
        subject = _subject(level, {})
        assert tuple(subject.scene.node_names[n] for n in sky_boxes(subject.level, subject.scene)) == boxes
        if boxes:
            outside = _subject(level, {"sky/dome": Mark(blocks_sight=False)})
            lid, _ = sight_of(subject, 5.0, 2, Store(folder / "cache"))
            none, _ = sight_of(outside, 5.0, 2, Store(folder / "cache"))
            assert lid.sealed and not lid.open and none.open and not none.sealed
