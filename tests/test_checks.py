"""Every kind of finding on small levels of other sizes, turns and places; nothing on the clean ones."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from ropebell.checks.before import BEFORE, BRIEF, GLOW, LIGHTS, MARKS, SHAPES, SIGHT, SKY
from ropebell.checks.blocking import hull_refusal
from ropebell.checks.coordinates import report_coordinates
from ropebell.checks.detector import Detector
from ropebell.checks.grid import grid_step, square_sides
from ropebell.checks.remedies import act, apply_fix, with_marks
from ropebell.checks.run import check
from ropebell.demo.shapes import Shape, ball, box, cylinder, joined, quad
from ropebell.level.brief import Box, Brief, LightChange, Move, Region
from ropebell.level.finding import Finding
from ropebell.level.model import Level, Primitive
from ropebell.light.sampling import fibonacci_sphere
from ropebell.sight.hull import hull_pieces
from ropebell.sight.walk import EYE, Walkable
from small_levels import SQUARE_WORLDS, WORLDS, Hall

FINE = Brief(region=Region((Box((-1e4,) * 3, (1e4,) * 3),)))


def found(hall: Hall, kind: str, brief: Brief = FINE, **more: object) -> list[Finding]:
    return [f for f in check(hall.subject(brief, **more)) if f.kind == kind]  # type: ignore[arg-type]


@pytest.mark.parametrize(("size", "turn"), WORLDS)
def test_a_clean_hall_has_nothing_that_harms(size: float, turn: float) -> None:
    kinds = {f.kind for f in check(Hall(size, turn).subject(FINE)) if f.kind != "odd-angle"}
    # Such a hall may well not have been modelled in metres.
    assert kinds <= {"scale"}


def sliver(h: Hall) -> None:
    h.add("sliver", box((0, 0, 0), (0.6, 0.00003, 0.05)).rotated(2, 0.3).moved(2, 1, 1))


def inside_out(h: Hall) -> None:
    h.add("chest", box((2, 0.01, -1), (2.8, 0.5, -0.4)).turned_inside_out())


def in_plane(h: Hall) -> None:
    h.add("beam", box((-1, -0.2, -1), (1, 0.0, -0.7)))


def near(h: Hall) -> None:
    h.add("picture", box((-1, 1, 3.54), (0.5, 2, 3.5996)))


def crossing(h: Hall) -> None:
    # Through the side of the crate, and a corner of the crate through it: nothing that is planted.
    h.add("post", box((-2.4, 0.1, -1.4), (-2.0, 0.9, -1.0)).rotated(1, 0.02))


def thin_wall(h: Hall) -> None:
    h.add("partition", joined([box((-4 + i, 0, 0), (-3.02 + i, 3.9, 0.02)) for i in range(8)]))


def louvres(h: Hall) -> None:
    blades = [box((0, 0, 0), (0.01, 0.02, 0.05)).moved(3, 0.02 * i, 0.07 * j) for i in range(30) for j in range(8)]
    h.add("louvres", joined(blades))


def nails(h: Hall) -> None:
    nail = cylinder(0.006, 0.03, 6)
    for i in range(3):
        h.b.add("hall", f"nail {i}", nail, "wood", h.at((i, 0, 1.0)))


def overlapping(h: Hall) -> None:
    sides = [quad([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]), quad([(1, 0, 0), (0, 0, 0), (0, 1, 0), (1, 1, 0)])]
    h.add("flag", joined([s.moved(-1, 1, 1) for s in sides]), uv1=True)


def buried(h: Hall) -> None:
    h.light("buried lamp", (-2.6, 0.4, -1.6))


def behind(h: Hall) -> None:
    h.add("shell", box((6, 0, 0), (7, 1, 1)))
    inside = quad([(8, 0, 0), (8, 0, 3), (8, 3, 3), (8, 3, 0)])
    h.add("backdrop", inside)
    h.light("lost lamp", (8.4, 1.5, 1.5))


def far_away(h: Hall) -> None:
    h.light("far lamp", (0, 40.0, 0), 5.0)


def one_sided(h: Hall) -> None:
    h.add("sheet", quad([(2, 0.5, 0), (3, 0.5, 0), (3, 1.5, 0), (2, 1.5, 0)]))


def looks_lit(h: Hall) -> None:
    h.add("lantern", ball(0.1, 6, 8).moved(0, 3, 0), "painted light")


def blinding(h: Hall) -> None:
    h.add("flare", ball(0.1, 6, 8).moved(0, 3, 0), "bright glow")


PLANTED: dict[str, tuple[Callable[[Hall], None], str]] = {
    "sliver": (sliver, "hall/sliver"),
    "inside-out": (inside_out, "hall/chest"),
    "coplanar": (in_plane, "hall/beam"),
    "hair-gap": (near, "hall/picture"),
    "crossing": (crossing, "hall/post"),
    "thin-wall": (thin_wall, "hall/partition"),
    "costly-blocker": (louvres, "hall/louvres"),
    "tiny-chart": (nails, "hall/nail 0"),
    "coordinates-overlapping": (overlapping, "hall/flag"),
    "light-in-solid": (buried, "lights/buried lamp"),
    "light-outside": (behind, "lights/lost lamp"),
    "light-reaches-nothing": (far_away, "lights/far lamp"),
    "open-back": (one_sided, "hall/sheet"),
    "glow-not-counted": (looks_lit, "hall/lantern"),
    "emitter-outlier": (blinding, "hall/flare"),
}


@pytest.mark.parametrize("kind", PLANTED)
@pytest.mark.parametrize(("size", "turn"), WORLDS)
def test_planted_troubles_are_found_at_their_object(kind: str, size: float, turn: float) -> None:
    plant, name = PLANTED[kind]
    hall = Hall(size, turn)
    plant(hall)
    hits = found(hall, kind)
    assert [f.object for f in hits] == [name]
    assert hits[0].place is not None and len(hits[0].reason) > 15 and not hits[0].reason.endswith("..")
    scene = hall.subject().scene
    rows = scene.node == scene.node_names.index(name)
    if rows.any():
        low, high = scene.corners[rows].reshape(-1, 3).min(axis=0), scene.corners[rows].reshape(-1, 3).max(axis=0)
        slack = 0.02 * float((high - low).max()) + 1e-4
        assert (np.array(hits[0].place) > low - slack).all() and (np.array(hits[0].place) < high + slack).all()


@pytest.mark.parametrize(("size", "turn"), [(0.05, 0.3), (1.0, 0.0), (30.0, 1.1)])
def test_a_thin_wall_is_made_thick_enough_in_one_act(size: float, turn: float) -> None:
    hall = Hall(size, turn)
    thin_wall(hall)
    (finding,) = found(hall, "thin-wall")
    mended = apply_fix(FINE, finding)
    assert found(hall, "thin-wall", mended) == []
    before, now = (hall.subject(brief).scene for brief in (FINE, mended))
    rows = before.node == before.node_names.index("hall/partition")
    middles = [scene.corners[rows].mean(axis=(0, 1)) for scene in (before, now)]
    np.testing.assert_allclose(middles[1], middles[0], atol=1e-6 * size)


@pytest.mark.parametrize(("size", "turn"), [(0.05, 0.3), (1.0, 0.0), (30.0, 1.1)])
@pytest.mark.parametrize("kind", ["light-in-solid", "light-outside", "light-reaches-nothing"])
def test_lights_that_stand_wrong_are_put_right_in_one_act(kind: str, size: float, turn: float) -> None:
    hall = Hall(size, turn)
    plant, about = PLANTED[kind]
    plant(hall)
    (finding,) = found(hall, kind)
    mended = apply_fix(FINE, finding)
    left = [f.kind for f in check(hall.subject(mended)) if f.object == about]
    assert not {"light-in-solid", "light-outside", "light-reaches-nothing"} & set(left)
    if kind != "light-reaches-nothing":
        moved = np.linalg.norm(np.array(mended.lights[about].position) - finding.place)
        assert moved < 2.0 * size, "no further than it takes"


@pytest.mark.parametrize(("size", "turn"), SQUARE_WORLDS)
def test_a_hair_off_the_axes_is_a_risk_and_a_good_turn_is_none(size: float, turn: float) -> None:
    hall = Hall(size, turn)
    hall.add("crooked", box((0, 1, 0), (1, 1.5, 0.5)).rotated(1, math.radians(0.4)))
    hall.add("turned on purpose", box((2, 1, -2), (3, 1.5, -1.5)).rotated(1, math.radians(12)))
    assert [f.object for f in found(hall, "odd-angle")] == ["hall/crooked"]


@pytest.mark.parametrize(("size", "turn"), SQUARE_WORLDS)
@pytest.mark.parametrize("moved", [False, True])
def test_a_hair_off_the_grid_is_told_and_moved_back(size: float, turn: float, moved: bool) -> None:
    hall = Hall(size, turn)
    step = grid_step(square_sides(hall.subject(FINE)), hall.subject(FINE).extent)
    assert step > 0 and [f.object for f in found(hall, "off-grid")] == []
    hair = 0.03 * step / size
    hall.b.add("hall", "nudged", box((0, 0, 0), (1, 1, 1)), "wood", hall.at((2 + hair, 0.2, 1)))
    hall.b.add("hall", "set freely", box((0, 0, 0), (1, 1, 1)), "wood", hall.at((-2 + 0.37 * step / size, 0.2, 1)))
    # A move of the project's own stands between the object's frame and the level's.
    own = replace(FINE, moves={"hall/nudged": Move((0.0, 0.0, -1.0), (0.0, 90.0, 0.0))}) if moved else FINE
    hits = found(hall, "off-grid", own)
    assert [f.object for f in hits] == ["hall/nudged"]
    back = apply_fix(own, hits[0])
    assert found(hall, "off-grid", back) == []
    before, after = (hall.subject(b) for b in (own, back))
    mine = before.scene.node == before.scene.node_names.index("hall/nudged")
    went = (after.scene.corners - before.scene.corners)[mine]
    assert np.allclose(np.linalg.norm(went, axis=2), 0.03 * step, rtol=1e-3)
    assert (after.scene.corners == before.scene.corners)[~mine].all()


def test_a_level_without_a_grid_has_nothing_off_it() -> None:
    turned = Hall(1.0, 0.7)
    assert found(turned, "off-grid") == []
    hall = Hall(1.0)
    rng = np.random.default_rng(3)
    for i in range(60):
        low = rng.uniform(-4, 3, 3)
        hall.add(f"stone {i}", box(tuple(low), tuple(low + rng.uniform(0.1, 0.9, 3))))
    subject = hall.subject(FINE)
    sides = square_sides(subject)
    assert len(sides.low) > 180 and grid_step(sides, subject.extent) == 0
    assert found(hall, "off-grid") == []


@pytest.mark.parametrize(("size", "turn"), [w for w in WORLDS if w[0] != 0.01])
def test_pieces_of_the_hull_stay_sight_blockers(size: float, turn: float) -> None:
    hall = Hall(size, turn)
    hall.add("yard", box((20, -0.2, -5), (30, 0, 5)))
    # Rooms are asked where players can stand; one metre of the level is one of the player's.
    start = tuple(float(v) for v in hall.place((-1.0, 0.0, 2.0)))
    here = replace(FINE, region=replace(FINE.region, start=start))
    subject = hall.subject(here)
    floors = Walkable(np.array([hall.place((x, 0, 2)) for x in (-3, -1, 0, 2)]) - [0, EYE - size, 0], 0.3, start)
    subject.__dict__["floors"] = floors
    pieces = {subject.baking.node_names[n] for n in np.flatnonzero(subject.hull)}
    walls = {f"hall/{n}" for n in ("floor", "ceiling", "wall south", "wall north", "wall east", "wall west")}
    assert pieces == walls
    opened = with_marks(here, ("hall/wall east",), "blocks_sight", False)
    assert "'hall/wall east' is a piece of the outer hull" in hull_refusal(subject, opened)
    branch = with_marks(here, ("hall",), "blocks_sight", False, branch=True)
    assert "is a piece of the outer hull" in hull_refusal(subject, branch)
    assert hull_refusal(subject, with_marks(here, ("hall/table",), "blocks_sight", False)) == ""
    assert hull_refusal(subject, with_marks(here, ("hall/wall east",), "density", 2.0)) == ""
    leaky = hall.subject(opened)
    leaky.__dict__["floors"] = floors
    hits = [f for f in check(leaky) if f.kind == "hull-opened"]
    assert [f.object for f in hits] == ["hall/wall east"] and hits[0].severity == "error"
    assert apply_fix(opened, hits[0]).marks["hall/wall east"].blocks_sight is True


def test_a_room_with_a_hole_is_no_closed_room() -> None:
    hall = Hall()
    places = np.array([hall.place((x, 1.6, 2)) for x in (-3, -1, 0, 2)])
    whole, holed = hall.subject(FINE), hall.subject(with_marks(FINE, ("hall/ceiling",), "role", "left-out"))
    assert hull_pieces(whole.baking, whole.space, places).sum() == 6
    assert hull_pieces(holed.baking, holed.space, places).sum() == 0
    assert hull_pieces(whole.baking, whole.space, np.zeros((0, 3))).sum() == 0


def test_a_costly_blocker_in_the_hull_has_no_button() -> None:
    hall = Hall()
    louvres(hall)
    free = found(hall, "costly-blocker")[0]
    assert act(free) == "Let it not block sight"
    subject = hall.subject(FINE)
    hull = subject.hull.copy()
    hull[subject.baking.node_names.index("hall/louvres")] = True
    subject.__dict__["hull_by_rays"] = hull
    closing = next(f for f in check(subject) if f.kind == "costly-blocker")
    assert closing.fix == () and act(closing) == "" and "plain wall" in closing.remedy


def test_rooms_modelled_as_one_shell_are_not_inside_out() -> None:
    hall = Hall()
    hall.add("shell", box((-9, -2, -9), (9, 9, 9)).turned_inside_out())
    assert found(hall, "inside-out") == []


def test_faces_in_one_plane_count_only_where_they_can_be_seen() -> None:
    hall = Hall()
    # Bottoms of two crates on the floor lie in one plane, but nobody will ever see them.
    hall.add("crate a", box((1, 0, -3), (2, 0.5, -2)))
    hall.add("crate b", box((1.5, 0, -2.5), (2.5, 0.6, -1.5)))
    assert found(hall, "coplanar") == []


def with_uv1(uv: Callable[[np.ndarray], np.ndarray]) -> Hall:
    """A hall with a cloth of a hundred quads whose lightmap coordinates are its picture's, changed."""
    hall = Hall()
    quads = [
        quad([(i, 0, -j), (i + 1, 0, -j), (i + 1, 0, -j - 1), (i, 0, -j - 1)]) for i in range(10) for j in range(10)
    ]
    cloth = joined(quads).moved(0, 0.5, 0)
    positions = cloth.positions * [0.1, 1, 0.1]
    flat = (cloth.positions[:, [0, 2]] * [0.1, -0.1]).astype(np.float32)
    shape = Shape(positions.astype(np.float32), cloth.normals, cloth.uv, cloth.triangles)
    hall.add("cloth", shape)
    level = hall.b.level(Path("hall.glb"))
    index = next(i for i, m in enumerate(level.meshes) if m.name == "cloth")
    primitive: Primitive = replace(level.meshes[index].primitives[0], uv1=uv(flat).astype(np.float32))
    meshes = (*level.meshes[:index], replace(level.meshes[index], primitives=(primitive,)), *level.meshes[index + 1 :])
    made: Level = replace(level, meshes=meshes)
    hall.b.level = lambda _source: made  # type: ignore[method-assign]
    return hall


@pytest.mark.parametrize(
    ("uv", "kind"),
    [
        (lambda p: p * 0.98 + 0.01, ""),
        (lambda p: p * [1, 0.5], ""),
        (lambda p: p * 2.5, "coordinates-out-of-range"),
        (lambda p: p - 0.4, "coordinates-out-of-range"),
        (lambda p: p * [1, 0], "coordinates-collapsed"),
        (lambda p: np.abs(p - 0.5), "coordinates-overlapping"),
        (lambda p: np.stack([p[:, 0] ** 5, p[:, 1]], axis=1) * 0.9 + 0.02, "coordinates-stretched"),
    ],
)
def test_lightmap_coordinates_are_judged(uv: Callable[[np.ndarray], np.ndarray], kind: str) -> None:
    hall = with_uv1(uv)
    kinds = [f.kind for f in check(hall.subject(FINE)) if f.kind.startswith("coordinates")]
    assert kinds == ([kind] if kind else [])
    report = next(r for r in report_coordinates(hall.subject(FINE)) if r.kind not in ("missing",))
    assert report.kind == (kind.removeprefix("coordinates-") or "fine")


def test_directions_all_round_are_even() -> None:
    directions = fibonacci_sphere(500)
    np.testing.assert_allclose(np.linalg.norm(directions, axis=1), 1, atol=1e-6)
    np.testing.assert_allclose(directions.mean(axis=0), 0, atol=3e-3)


class Watched:
    """Notes which parts of a subject a detector reads."""

    def __init__(self, thing: object, seen: set[str], depth: int = 2) -> None:
        self._thing, self._seen, self._depth = thing, seen, depth

    def __len__(self) -> int:
        return len(self._thing)

    def __getattr__(self, name: str) -> object:
        value = getattr(self._thing, name)
        self._seen.add(name)
        return Watched(value, self._seen, 1) if name in ("scene", "baking", "brief") and self._depth > 1 else value


# What is made of each part; see `checks/before.py`. What every subject has the same is of none.
OF_SHAPES = {
    "scene", "baking", "level", "space", "extent", "sizes", "node_bounds", "centre", "welded", "corners",
    "face_normals", "areas", "faces", "uv1", "node", "material", "part", "bare", "double_sided", "factor", "node_names",
    "texels_per_metre", "node_ranges", "normals", "casts", "blocking", "frame",
}  # fmt: skip


PARTS = {
    SHAPES: OF_SHAPES,
    LIGHTS: {"scene", "lights"},
    GLOW: {"level", "emission"},
    SKY: {"sky", "brief", "sky_now", "sky_trouble"},
    MARKS: {"scene", "baking", "brief", "marks", "floors", "hull", "hull_by_rays", "test_density", "region", "moves",
            "sets"},
    BRIEF: {"brief", "most_live", "light"},
    SIGHT: {"sight", "hull"},
}  # fmt: skip


@pytest.mark.parametrize("one", [d for d in BEFORE if d.needs], ids=lambda d: d.name)
def test_a_detector_reads_no_part_that_it_does_not_name(one: Detector) -> None:
    seen: set[str] = set()
    hall = Hall()
    for plant in (sliver, inside_out, in_plane, near, crossing, thin_wall, louvres, overlapping, one_sided, blinding):
        plant(hall)
    brief = replace(FINE, lights={"lights/lamp": LightChange(fixture="hall/globe", mode="live")}, most_live=0)
    list(one.find(Watched(hall.subject(brief), seen)))
    assert seen and seen <= set().union(*(PARTS[need] for need in one.needs))
