"""Leaks: levels that are sealed or not by how they were made, and openings whose width is known."""

from __future__ import annotations

from dataclasses import fields, replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial import ConvexHull
from scipy.spatial.transform import Rotation

from helpers import floor
from ropebell.build.project import find_project
from ropebell.demo.builder import LevelBuilder
from ropebell.demo.shapes import Shape, box, quad
from ropebell.demo.tide_mill import tide_mill
from ropebell.demo.write import write_demo
from ropebell.level.brief import Brief, Mark, Pose, Region
from ropebell.level.model import F64
from ropebell.level.open import open_level
from ropebell.level.prepare import prepare
from ropebell.light.rays import RaySpace
from ropebell.light.sampling import fibonacci_sphere
from ropebell.sight.leaks import sees
from ropebell.sight.survey import Sealing, blocks_sight, survey

PER_TRIANGLE = {
    "corners", "normals", "face_normals", "areas", "uv0", "uv1", "material", "primitive", "vertices", "double_sided",
}  # fmt: skip
W, H, D, T = 6.0, 3.0, 4.0, 0.2
# In mid-air, as rooms are turned all ways.
START = (3.0, 1.0, 2.0)


class Made:
    """A level under way, placed as a whole by one transform."""

    def __init__(self, world: F64 | None = None, start: tuple[float, float, float] = START) -> None:
        self.world = np.eye(4) if world is None else world
        self.b = LevelBuilder()
        self.b.material("grey", (0.5, 0.5, 0.5))
        x, y, z = (self.world @ [*start, 1.0])[:3]
        self.start = float(x), float(y), float(z)

    def add(self, name: str, shape: Shape) -> None:
        self.b.add("r", name, shape, "grey", self.world)

    def survey(self, brief: Brief | None = None, meant_sealed: bool = True) -> tuple[Sealing, tuple[str, ...]]:
        brief = brief or Brief()
        level = self.b.level(Path("made.glb"))
        brief = Brief(region=Region(start=self.start), marks=brief.marks, probes=brief.probes)
        made = prepare(level, brief)
        found = survey(made.level, made.scene, brief, meant_sealed)
        for leak in found.leaks:
            _is_a_way_out(leak.trail, made.scene.corners[blocks_sight(made.scene)])
            assert np.linalg.norm(leak.trail - leak.place, axis=1).min() < 1e-9
        return found, made.scene.node_names


def _is_a_way_out(trail: F64, corners: F64) -> None:
    space = RaySpace(corners)
    assert all(sees(space, np.array([a]), np.array([b]))[0] for a, b in pairwise(trail))
    low, high = corners.min(axis=(0, 1)), corners.max(axis=(0, 1))
    assert (trail[-1] < low).any() or (trail[-1] > high).any()


def _of_boxes(made: Made, gap: float = 0.0, scale: float = 1.0) -> Made:
    """A room of six thick slabs: walls stand on the floor, or so far above it on one side."""
    w, h, d, t = W * scale, H * scale, D * scale, T * scale
    for name, low, high in (
        ("floor", (-t, -t, -t), (w + t, 0, d + t)), ("ceiling", (-t, h, -t), (w + t, h + t, d + t)),
        ("west", (-t, gap, -t), (0, h, d + t)), ("east", (w, 0, -t), (w + t, h, d + t)),
        ("north", (0, 0, -t), (w, h, 0)), ("south", (0, 0, d), (w, h, d + t)),
    ):  # fmt: skip
        made.add(name, box(low, high))
    return made


def _of_sheets(made: Made, holes: tuple[tuple[float, float, float], ...] = (), w: float = W, d: float = D) -> Made:
    """A room of sheets that only just meet; holes in the floor at (x, z), so wide."""
    xs = sorted({0.0, w, *(x for x, _, _ in holes), *(x + s for x, _, s in holes)})
    zs = sorted({0.0, d, *(z for _, z, _ in holes), *(z + s for _, z, s in holes)})
    for i, (a, b) in enumerate(pairwise(xs)):
        for k, (c, e) in enumerate(pairwise(zs)):
            if not any(abs(a - x) < 1e-9 and abs(c - z) < 1e-9 for x, z, _ in holes):
                made.add(f"floor {i} {k}", quad([(a, 0, c), (a, 0, e), (b, 0, e), (b, 0, c)]))
    made.add("ceiling", quad([(0, H, 0), (w, H, 0), (w, H, d), (0, H, d)]))
    made.add("north", quad([(0, 0, 0), (w, 0, 0), (w, H, 0), (0, H, 0)]))
    made.add("south", quad([(w, 0, d), (0, 0, d), (0, H, d), (w, H, d)]))
    made.add("west", quad([(0, 0, d), (0, 0, 0), (0, H, 0), (0, H, d)]))
    made.add("east", quad([(w, 0, 0), (w, 0, d), (w, H, d), (w, H, 0)]))
    return made


def _turned(seed: int) -> F64:
    world = np.eye(4)
    world[:3, :3] = Rotation.random(random_state=seed).as_matrix()
    world[:3, 3] = np.random.default_rng(seed).uniform(-20, 20, 3)
    return world


@pytest.mark.parametrize("seed", [0, 1])
def test_rooms_whose_pieces_touch_are_sealed_however_they_stand(seed: int) -> None:
    """Contact, T-junctions, coplanar joints, sheets that meet in an edge: none is a leak."""
    world = _turned(seed) if seed else None
    for made in (_of_boxes(Made(world)), _of_sheets(Made(world))):
        found, _ = made.survey()
        assert found.sealed and found.decided and not found.open and found.leaks == ()


def test_what_reaches_into_another_piece_is_sealed() -> None:
    made = Made()
    for name, low, high in (
        ("floor", (-1, -0.3, -1), (7, 0.05, 5)), ("ceiling", (-0.5, 2.95, -0.5), (6.4, 3.4, 4.6)),
        ("west", (-0.1, -0.2, -0.7), (0, 3.2, 4.9)), ("east", (6, -0.1, -0.3), (6.3, 3.1, 4.4)),
        ("north", (-0.3, -0.25, -0.2), (6.2, 3.3, 0)), ("south", (-0.05, 0.01, 4), (6.1, 3, 4.3)),
    ):  # fmt: skip
        made.add(name, box(low, high))
    assert made.survey()[0].sealed


@pytest.mark.parametrize(
    ("gap", "seed"), [(0.0005, 0), (0.0009, 3), (0.003, 3), (0.02, 4), (0.15, 0)]
)  # fmt: skip
def test_a_slit_below_a_millimetre_is_contact_and_above_three_a_leak(gap: float, seed: int) -> None:
    found, names = _of_boxes(Made(_turned(seed) if seed else None), gap).survey()
    if gap < 0.001:
        assert found.sealed
        return
    assert not found.sealed and len(found.leaks) == 1
    assert found.leaks[0].width == pytest.approx(gap, rel=0.04)
    assert {"r/floor", "r/west"} <= {names[n] for n in found.nodes[0]} <= {"r/floor", "r/west", "r/north", "r/south"}


@pytest.mark.parametrize(("size", "seed"), [(0.003, 0), (0.005, 5), (0.3, 7), (1.3, 0)])
def test_a_square_hole_lets_a_ball_of_its_own_width_through(size: float, seed: int) -> None:
    made = _of_sheets(Made(_turned(seed) if seed else None), ((2.0, 1.0, size),))
    found, _ = made.survey()
    assert len(found.leaks) == 1
    assert found.leaks[0].width == pytest.approx(size, rel=0.03)
    middle = (made.world @ [2.0 + size / 2, 0.0, 1.0 + size / 2, 1.0])[:3]
    assert np.linalg.norm(found.leaks[0].place - middle) < 0.6 * size
    assert np.allclose(found.leaks[0].trail[0], found.seeds[0])


def test_a_pinhole_of_a_centimetre_in_a_level_of_sixty_metres() -> None:
    found, _ = _of_sheets(Made(start=(30.0, 1.0, 30.0)), ((22.0, 31.0, 0.01),), 60.0, 60.0).survey()
    assert [round(leak.width, 4) for leak in found.leaks] == [pytest.approx(0.01, rel=0.03)]
    assert found.leaks[0].place == pytest.approx([22.005, 0.0, 31.005], abs=0.004)


def test_every_leak_is_told_not_only_the_first() -> None:
    holes = ((1.0, 1.0, 0.05), (3.0, 2.0, 0.4), (5.0, 3.0, 0.01))
    found, _ = _of_sheets(Made(), holes).survey()
    assert [leak.width for leak in found.leaks] == pytest.approx([0.4, 0.05, 0.01], rel=0.03)


def test_a_hole_behind_a_corridor_and_a_door_is_found_from_the_start() -> None:
    made = _of_boxes(Made())
    made.add("screen a", box((4.0, 0, 0), (4.1, 3, 1.2)))
    made.add("screen b", box((4.0, 0, 2.1), (4.1, 3, 4)))
    made.add("screen c", box((4.0, 2.1, 1.2), (4.1, 3, 2.1)))
    assert made.survey()[0].sealed
    holed = Made()
    for name, low, high in (
        ("floor", (-T, -T, -T), (W + T, 0, D + T)), ("ceiling", (-T, H, -T), (W + T, H + T, D + T)),
        ("west", (-T, 0, -T), (0, H, D + T)), ("north", (0, 0, -T), (W, H, 0)), ("south", (0, 0, D), (W, H, D + T)),
        ("east low", (W, 0, -T), (W + T, 1.0, D + T)), ("east high", (W, 1.1, -T), (W + T, H, D + T)),
        ("screen a", (4.0, 0, 0), (4.1, 3, 1.2)), ("screen b", (4.0, 0, 2.1), (4.1, 3, 4)),
        ("screen c", (4.0, 2.1, 1.2), (4.1, 3, 2.1)),
    ):  # fmt: skip
        holed.add(name, box(low, high))
    found, names = holed.survey()
    assert len(found.leaks) == 1 and found.leaks[0].width == pytest.approx(0.1, rel=0.02)
    assert {names[n] for n in found.nodes[0]} >= {"r/east low", "r/east high"}


@pytest.mark.parametrize("scale", [0.1, 5.0])
def test_rooms_small_and_large(scale: float) -> None:
    start = (3.0 * scale, 1.0 * scale, 2.0 * scale)
    assert _of_boxes(Made(start=start), scale=scale).survey()[0].sealed
    found, _ = _of_boxes(Made(start=start), 0.02 * scale, scale).survey()
    assert [leak.width for leak in found.leaks] == [pytest.approx(0.02 * scale, rel=0.02)]


def test_a_round_hull_of_many_faces_is_sealed_until_one_is_missing() -> None:
    hull = ConvexHull(fibonacci_sphere(70) * 3.0)
    faces = hull.points[hull.simplices]
    for missing in (False, True):
        made = Made(start=(0.0, 0.0, 0.0))
        for number, face in enumerate(faces[1:] if missing else faces):
            made.add(f"f {number}", Shape(
                face.astype(np.float32), np.zeros((3, 3), np.float32), np.zeros((3, 2), np.float32),
                np.array([[0, 1, 2]], np.int32),
            ))  # fmt: skip
        found, _ = made.survey()
        assert found.sealed is not missing and len(found.leaks) == int(missing)
        if missing:
            a, b, c = (float(np.linalg.norm(faces[0][k] - faces[0][(k + 1) % 3])) for k in range(3))
            s = (a + b + c) / 2
            inscribed = 2 * np.sqrt(s * (s - a) * (s - b) * (s - c)) / s
            assert found.leaks[0].width == pytest.approx(inscribed, rel=0.05)


def test_a_mark_that_opens_the_hull_is_named() -> None:
    made = _of_boxes(Made())
    brief = Brief(marks={"r/west": Mark(blocks_sight=False)})
    found, names = made.survey(brief)
    assert not found.sealed and names[found.nodes[0][0]] == "r/west"


def test_a_door_seals_when_it_is_shut_and_leaks_when_it_stands_open() -> None:
    for pose in ("", "open"):
        made = Made()
        for name, low, high in (
            ("floor", (-T, -T, -T), (W + T, 0, D + T)), ("ceiling", (-T, H, -T), (W + T, H + T, D + T)),
            ("west", (-T, 0, -T), (0, H, D + T)), ("north", (0, 0, -T), (W, H, 0)),
            ("south", (0, 0, D), (W, H, D + T)), ("east 1", (W, 0, -T), (W + T, H, 1.0)),
            ("east 2", (W, 0, 1.9), (W + T, H, D + T)), ("lintel", (W, 2.0, 1.0), (W + T, H, 1.9)),
            ("door", (W + 0.05, 0, 1.0), (W + 0.1, 2.0, 1.9)),
        ):  # fmt: skip
            made.add(name, box(low, high))
        marks = {"r/door": Mark(role="moving", pose=pose, poses={"open": Pose(move=(0.0, 0.0, 5.0))})}
        found, _ = made.survey(Brief(marks=marks))
        assert found.sealed is (pose == "")
        if pose:
            assert found.leaks[0].width == pytest.approx(0.9, rel=0.02)


def test_without_a_start_the_middle_of_the_level_is_inside() -> None:
    for gap in (0.0, 0.05):
        made = prepare(_of_boxes(Made(), gap).b.level(Path("made.glb")), Brief())
        found = survey(made.level, made.scene, Brief())
        assert found.sealed is (gap == 0.0) and not found.open and len(found.leaks) == int(gap > 0)


def test_a_level_under_the_sky_is_open_by_nature() -> None:
    made = Made()
    made.add("ground", floor(20.0))
    found, _ = made.survey(meant_sealed=False)
    assert found.open and not found.sealed and found.leaks == ()


def test_the_mill_leaks_behind_the_great_gear_and_nowhere_else(tmp_path: Path) -> None:
    write_demo(tmp_path)
    project = find_project(tmp_path)
    made = prepare(open_level(project.level), project.brief)
    found = survey(made.level, made.scene, project.brief)
    (leak,) = found.leaks
    assert leak.place == pytest.approx([9.8, 7.7, 17.1], abs=0.25)
    assert "structure/loft wall back" in [made.scene.node_names[n] for n in found.nodes[0]]
    _is_a_way_out(leak.trail, made.scene.corners[blocks_sight(made.scene)])
    assert leak.trail[0] == pytest.approx([10.4, 1.6, 8.2], abs=0.01)


def test_the_mill_is_sealed_once_the_slab_is_in() -> None:
    level = tide_mill(Path("tide-mill.glb"))
    made = prepare(level, Brief())
    whole = Made()
    whole.add("slab", box((9.2, 7.1, 17.0), (10.4, 8.3, 17.3)))
    slab = prepare(whole.b.level(Path("slab.glb")), Brief()).scene
    both = {
        f.name: np.concatenate([getattr(made.scene, f.name), getattr(slab, f.name)])
        for f in fields(made.scene) if f.name in PER_TRIANGLE
    }  # fmt: skip
    node = np.concatenate([made.scene.node, np.full(len(slab), len(made.scene.node_names), np.int32)])
    scene = replace(made.scene, **both, node=node, node_names=(*made.scene.node_names, "r/slab"))
    found = survey(made.level, scene, Brief())
    assert found.sealed and not found.open
