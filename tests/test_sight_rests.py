"""What rests on who sees whom: checks, faces that are left out, poses, finer cells, and blockers let through."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, level_file, meter, recipe
from ropebell.build.precheck import check_kept, gather
from ropebell.build.sighting import Known, known_sight, sight_of
from ropebell.build.spared import in_words, judged, read_spared, sparing, write_spared
from ropebell.build.store import Store
from ropebell.checks.blocking import hull_refusal
from ropebell.checks.remedies import apply_fix
from ropebell.checks.subject import Subject
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box
from ropebell.level.brief import Brief, BriefError, LeftOut, Mark, Move, Pose, Region, SightBox, from_values, to_values
from ropebell.level.finding import Finding
from ropebell.level.guard import refusal
from ropebell.level.left_out import changed_since, left_out_faces, with_left_out
from ropebell.level.model import Light
from ropebell.level.open import open_level
from ropebell.light.rays import RaySpace
from ropebell.sight import sight as sight_module
from ropebell.sight.sight import Sight
from ropebell.sight.survey import in_any_pose, movable

BRIEF = Brief(region=Region(start=(1.0, 0.0, 1.0)), marks={"r/door": Mark(role="left-out")})
AJAR = Mark(role="moving", poses={"open": Pose(move=(0.0, 0.0, -1.0))})
WEST, EAST = np.array([0.5, 1.5, 3.3]), np.array([7.5, 1.0, 3.2])


def _rooms(folder: Path) -> Path:
    """Two rooms with a doorway and a door. A rug covers most of a floor that goes on under the walls; a grille of many
    bars closes a window, a ball of many faces hides nothing."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    slabs = {
        "floor": ((-6.0, -0.2, -3.0), (14.0, 0, 7.0)), "ceiling": ((-0.2, 3, -0.2), (8.4, 3.2, 4.2)),
        "west": ((-0.2, 0, -0.2), (0, 3, 4.2)), "north": ((0, 0, -0.2), (8.2, 3, 0)),
        "south": ((0, 0, 4), (8.2, 3, 4.2)), "east": ((8.2, 0, -0.2), (8.4, 3, 4.2)),
        "middle a": ((4.0, 0, 0), (4.2, 3, 2.8)), "middle b": ((4.0, 0, 3.7), (4.2, 3, 4)),
        "lintel": ((4.0, 2.1, 2.8), (4.2, 3, 3.7)),
    }  # fmt: skip
    for name, (low, high) in slabs.items():
        b.add("r", name, box(low, high), "grey")
    b.add("r", "door", box((4.05, 0, 2.8), (4.15, 2.1, 3.7)), "grey")
    b.add("r", "ornament", ball(0.15, 30, 60), "grey", at(6.0, 0.4, 1.0))
    b.add("r", "safe", box((2.0, 0, 0.5), (2.6, 0.8, 1.1)), "grey")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 40.0), at(2.0, 2.0, 2.0))
    return level_file(folder, b)


def _subject(folder: Path, brief: Brief) -> Subject:
    store = Store(folder / "cache")
    return gather(open_level(folder / "level.glb"), brief, recipe(sight__cell=1.0), (0, 0, 0), (), store=store).subject


def _look(folder: Path, brief: Brief) -> tuple[Subject, Sight]:
    subject = _subject(folder, brief)
    return subject, sight_of(subject, 1.0, 2, Store(folder / "cache"))[0]


@pytest.fixture(scope="module")
def rooms(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Subject, Sight]:
    folder = tmp_path_factory.mktemp("rests")
    _rooms(folder)
    return folder, *_look(folder, BRIEF)


def _of_kind(folder: Path, subject: Subject, kind: str) -> list[Finding]:
    return [f for f in check_kept(subject, Store(folder / "cache")) if f.kind == kind]


def test_the_hull_is_what_keeps_the_inside_in(rooms: tuple[Path, Subject, Sight]) -> None:
    _, subject, sight = rooms
    names = np.array(subject.scene.node_names)
    shell = {f"r/{n}" for n in ("floor", "ceiling", "west", "north", "south", "east")}
    assert set(names[sight.hull]) == shell
    assert subject.sight is not None and set(names[subject.hull]) == shell


def test_checks_say_what_is_known_of_sight(rooms: tuple[Path, Subject, Sight], tmp_path: Path) -> None:
    folder, subject, sight = rooms
    _rooms(tmp_path)
    guessed = _of_kind(tmp_path, _subject(tmp_path, BRIEF), "costly-blocker")
    assert [f.object for f in guessed] == ["r/ornament"] and "hide little" in guessed[0].reason
    (told,) = _of_kind(folder, subject, "costly-blocker")
    share = 100 * next(b for b in sight.blockers if b.node == "r/ornament").hides
    assert told.object == "r/ornament" and f"they hide {share:.2g} % of all pairs" in told.reason and told.fix
    # What many faces hide, they may well be for.
    hiding = replace(sight, blockers=())
    assert _of_kind(tmp_path, replace(subject, looked_into=lambda _: hiding), "costly-blocker") == []


def test_an_opened_hull_is_what_a_way_out_goes_through(rooms: tuple[Path, Subject, Sight]) -> None:
    folder, subject, _ = rooms
    through = {name: Mark(blocks_sight=False) for name in ("r/east", "r/ornament", "r/middle a")}
    opened = replace(BRIEF, sealed=True, marks={**BRIEF.marks, **through})
    assert "'r/east' is a piece of the outer hull" in hull_refusal(subject, opened)
    assert hull_refusal(subject, replace(opened, marks={**BRIEF.marks, "r/middle a": Mark(blocks_sight=False)})) == ""
    leaky, sight = _look(folder, opened)
    assert not sight.sealed
    assert [f.object for f in _of_kind(folder, leaky, "hull-opened")] == ["r/east"]


def test_what_is_known_is_read_once_and_only_of_the_level_as_it_stands(rooms: tuple[Path, Subject, Sight]) -> None:
    folder, subject, sight = rooms
    known = Known(1.0, Store(folder / "cache"))
    first = known(subject)
    assert first is not None and first.pairs == sight.pairs and known(subject) is first
    assert known(_subject(folder, replace(BRIEF, moves={"r/safe": Move((0.1, 0.0, 0.0))}))) is None


def test_a_face_that_is_seen_in_a_small_part_is_seen(rooms: tuple[Path, Subject, Sight]) -> None:
    """The floor reaches far beyond the walls, and its two faces are large: most of each nobody can see."""
    _, subject, sight = rooms
    scene = subject.scene
    floor = scene.node == scene.node_names.index("r/floor")
    top = floor & (scene.face_normals[:, 1] > 0.9)
    assert not sight.unseen[top].any() and sight.unseen[floor & ~top].all()
    # A safe on the floor is seen but for its bottom, the ornament all round.
    safe = scene.node == scene.node_names.index("r/safe")
    assert (sight.unseen[safe] == (scene.face_normals[safe, 1] < -0.9)).all()
    assert not sight.unseen[scene.node == scene.node_names.index("r/ornament")].any()


def test_left_out_faces_take_no_texels_and_change_no_light_that_is_seen(
    rooms: tuple[Path, Subject, Sight], tmp_path: Path
) -> None:
    folder, subject, sight = rooms
    scene = subject.scene
    brief = with_left_out(BRIEF, scene, sight.unseen & scene.part)
    assert from_values(json.loads(json.dumps(to_values(brief)))) == brief
    assert (left_out_faces(scene, brief) == (sight.unseen & scene.part)).all()
    made = recipe("working", draft=2, light__gather_rays=256, finish__denoise=False)
    before = bake(folder / "level.glb", made, tmp_path / "before", brief=BRIEF)
    after = bake(folder / "level.glb", made, tmp_path / "after", brief=brief)
    assert after["texels"] < 0.75 * before["texels"]
    places = ((1.0, 0.0, 3.0), (6.0, 0.0, 2.0), (3.999, 1.0, 1.0))
    lit = [[r.irradiance[1] for r in meter(tmp_path / name, *places, normal=None)] for name in ("before", "after")]
    np.testing.assert_allclose(lit[1], lit[0], rtol=0.08)
    # What is left out blocks and throws light back as before, and no page has room for it.
    baked = open_level(next((tmp_path / "after").glob("*.glb")))
    assert {n.path for n in baked.nodes} >= {"r/floor", "r/east"}


def test_what_is_left_out_and_seen_again_is_told_and_given_back(rooms: tuple[Path, Subject, Sight]) -> None:
    folder, subject, sight = rooms
    brief = with_left_out(BRIEF, subject.scene, sight.unseen)
    kept = _subject(folder, brief)
    assert kept.sight is not None and _of_kind(folder, kept, "seen-left-out") == []
    floor = subject.scene.node == subject.scene.node_names.index("r/floor")
    dug = replace(sight, unseen=sight.unseen & ~floor)
    (told,) = _of_kind(folder, replace(kept, looked_into=lambda _: dug), "seen-left-out")
    assert told.object == "r/floor" and f"{(floor & sight.unseen).sum()} of its faces have no lightmap" in told.reason
    assert apply_fix(brief, told).left_out.keys() == brief.left_out.keys() - {"r/floor"}


def test_what_moved_or_changed_is_no_longer_left_out(rooms: tuple[Path, Subject, Sight]) -> None:
    folder, subject, sight = rooms
    brief = with_left_out(BRIEF, subject.scene, sight.unseen)
    assert changed_since(subject.scene, brief) == []
    moved = _subject(folder, replace(brief, moves={"r/safe": Move((0.0, 0.5, 0.0))}))
    safe = moved.scene.node == moved.scene.node_names.index("r/safe")
    assert changed_since(moved.scene, brief) == ["r/safe"] and not moved.scene.bare[safe].any()
    assert moved.scene.bare.sum() == sight.unseen.sum() - 2
    guarded = replace(brief, marks={**brief.marks, "r/safe": Mark(guard=True)})
    assert "'r/safe' is guarded" in refusal(subject.level, guarded, replace(guarded, left_out={}))


def test_numbers_that_no_object_has_cost_nothing(rooms: tuple[Path, Subject, Sight]) -> None:
    _, subject, _ = rooms
    huge = LeftOut(
        " ".join(["2-99999999"] * 1000),
        with_left_out(BRIEF, subject.scene, subject.scene.part).left_out["r/safe"].shape,
    )
    safe = subject.scene.node == subject.scene.node_names.index("r/safe")
    left = left_out_faces(subject.scene, replace(BRIEF, left_out={"r/safe": huge}))
    assert left[safe].sum() == safe.sum() - 2 and left.sum() == safe.sum() - 2


def test_what_is_not_there_hides_nothing_and_what_may_go_is_movable(rooms: tuple[Path, Subject, Sight]) -> None:
    folder, _, _ = rooms
    away = Mark(role="moving", pose="away", poses={"away": Pose(absent=True)})
    marks = {"r/door": away, "r/safe": Mark(removable=True), "r/ornament": Mark(density=2.0)}
    subject, sight = _look(folder, replace(BRIEF, marks=marks))
    assert sight.sealed and sight.sees(WEST, EAST)
    assert movable(subject.scene) == ["r/door", "r/safe"]
    _, there = _look(folder, replace(BRIEF, marks={**marks, "r/door": replace(away, pose=None)}))
    assert not there.sees(WEST, EAST)


def test_a_box_of_coarse_cells_is_no_trouble_where_all_cells_have_to_grow(
    rooms: tuple[Path, Subject, Sight], monkeypatch: pytest.MonkeyPatch
) -> None:
    folder, _, fine = rooms
    monkeypatch.setattr(sight_module, "MOST_CELLS", 150)
    _, sight = _look(folder, replace(BRIEF, sight_boxes=(SightBox((0, 0, 0), (2, 2, 2), 100.0),)))
    assert sight.sealed and 0 < len(sight.middles) <= 150 < len(fine.middles) and sight.cell > fine.cell


@pytest.mark.parametrize("faces", ["", "x", "3-", "1,2", "99999999999", "1  2"])
def test_faces_that_make_no_sense_are_refused(faces: str) -> None:
    with pytest.raises(BriefError, match="left_out"):
        from_values({"left_out": {"r/safe": {"faces": faces, "shape": "0"}}})


def test_any_pose_is_what_can_be_seen_in_one_of_them(rooms: tuple[Path, Subject, Sight]) -> None:
    folder, _, _ = rooms
    shut = replace(BRIEF, marks={"r/door": AJAR})
    subject, hides = _look(folder, shut)
    assert movable(subject.scene) == ["r/door"]
    free = replace(subject, scene=in_any_pose(subject.scene, movable(subject.scene)))
    either, _ = sight_of(free, 1.0, 2, Store(folder / "cache"))
    rng = np.random.default_rng(3)
    a, b = rng.uniform((0.1, 0.1, 0.1), (8.1, 2.9, 3.9), (2, 2000, 3))
    for marks in (shut.marks, {"r/door": replace(AJAR, pose="open")}):
        space = RaySpace(_subject(folder, replace(shut, marks=marks)).scene.corners)
        start, way = (a - space.centre).astype(np.float32), (b - a).astype(np.float32)
        seen = ~space.blocked(start, way, np.ones(len(a), np.float32))
        assert seen.sum() > 500 and all(either.sees(p, q) for p, q in zip(a[seen], b[seen]))
    assert either.sees(WEST, EAST) and not hides.sees(WEST, EAST)
    # Faces of the far room can be seen in one pose, so that nobody leaves them out.
    assert hides.unseen.sum() > either.unseen.sum() and not (either.unseen & ~hides.unseen).any()


def test_the_command_takes_all_poses_at_once(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    _rooms(tmp_path)
    (tmp_path / "project.toml").write_text(
        'level = "level.glb"\n[region]\nstart = [1.0, 0.0, 1.0]\n[marks."r/door"]\nrole = "moving"\n'
        '[marks."r/door".poses.open]\nmove = [0.0, 0.0, -1.0]\n'
        "[[sight_boxes]]\nlow = [0.0, 0.0, 0.0]\nhigh = [1.0, 1.0, 1.0]\ncell = 0.5\n"
    )
    pair = ["--sees", "0.5,1.5,3.3", "7.5,1.0,3.2", "--json"]
    for pose, seen in (([], False), (["--pose", "r/door=*"], True)):
        assert main(["sight", str(tmp_path), *pose, *pair]) == 0
        assert json.loads(capsys.readouterr().out)["sees"] == [seen]


def test_cells_are_finer_in_a_box_and_as_they_were_elsewhere(rooms: tuple[Path, Subject, Sight]) -> None:
    folder, subject, coarse = rooms
    finer, fine = _look(folder, replace(BRIEF, sight_boxes=(SightBox((0, 0, 0), (2.0, 1.0, 4.0), 0.25),)))
    assert fine.size == pytest.approx(coarse.size / 4) and fine.cell == coarse.cell == 1.0
    held = np.argwhere(fine.number >= 0)
    widths = np.bincount(fine.number[tuple(held.T)]) ** (1 / 3) * fine.size
    inside = ((fine.middles > [0.3, -0.2, 0.3]) & (fine.middles < [1.7, 0.9, 3.7])).all(axis=1)
    far = fine.middles[:, 0] > 3.0
    assert widths[inside].min() == pytest.approx(0.25) and widths[far].min() == pytest.approx(1.0)
    assert (
        inside.sum() > 4 * ((coarse.middles > [0.3, -0.2, 0.3]) & (coarse.middles < [1.7, 0.9, 3.7])).all(axis=1).sum()
    )
    # A level with them is another one to look into, and nothing that can be seen is hidden.
    assert known_sight(replace(finer, brief=BRIEF), 1.0, Store(folder / "cache")) is not None
    space, rng = RaySpace(subject.baking.corners), np.random.default_rng(4)
    a, b = rng.uniform((0.01, 0.01, 0.01), (8.19, 2.99, 3.99), (2, 60_000, 3))
    free = ~space.blocked(
        (a - space.centre).astype(np.float32), (b - a).astype(np.float32), np.ones(len(a), np.float32)
    )
    places = [np.floor((p - fine.low) / fine.size).astype(np.int64) for p in (a, b)]
    p, q = (fine.number[tuple(place.T)] for place in places)
    both = free & (p >= 0) & (q >= 0)
    said = (fine.seen[p, q >> 3] >> (7 - (q & 7)) & 1).astype(bool)
    assert both.sum() > 10_000 and said[both].all()


def test_what_letting_sight_through_saved_is_kept_and_told(rooms: tuple[Path, Subject, Sight], tmp_path: Path) -> None:
    _, _, sight = rooms
    taken = [sparing(b, sight) for b in sight.blockers[:1]]
    write_spared(tmp_path, taken)
    assert read_spared(tmp_path) == taken and "look again to see" in in_words(taken[0])
    quicker = replace(sight, seeing=sight.seeing - 0.25)
    assert judged(taken, quicker, []) == taken, "it blocks sight again"
    (after,) = judged(taken, quicker, [taken[0].node])
    assert after.saved == pytest.approx(0.25) and after.more == 0.0 and "0.25 s less" in in_words(after)
    assert judged([after], sight, [after.node]) == [after], "judged once"
    # Two at once share what was saved by what was foretold of each.
    two = [replace(taken[0], foretold=0.3), replace(taken[0], node="r/safe", foretold=0.1)]
    assert [s.saved for s in judged(two, quicker, ["r/safe", taken[0].node])] == pytest.approx([0.1875, 0.0625])
    (tmp_path / "sight-spared.json").write_text("{")
    assert read_spared(tmp_path) == []
