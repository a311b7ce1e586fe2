"""Smaller pieces of the level: scene tables, albedo, checks, files, errors."""

from __future__ import annotations

import math
import os
from pathlib import Path

import numpy as np
import pytest

from helpers import KeptLayouts, bake, floor, level_file, recipe, room
from ropebell import files
from ropebell.build.meter import look_up
from ropebell.build.thumbnail import exposure_for
from ropebell.charts.atlas import ChartSettings, make_atlas
from ropebell.charts.shapes import placed_shapes, rigid_and_scale
from ropebell.charts.texels import footprint_areas, make_texels
from ropebell.charts.unwrap_process import UnwrapProcess
from ropebell.checks.run import check
from ropebell.checks.subject import Subject
from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.shapes import Shape, ball, box, cylinder, joined, quad, wheel
from ropebell.errors import LevelError, RopeBellError, step, why
from ropebell.level import display
from ropebell.level.brief import Brief, LightChange
from ropebell.level.display import linear_to_srgb, srgb_to_linear, tone
from ropebell.level.finding import area_words, short_number
from ropebell.level.limits import beside
from ropebell.level.model import Level, Light, Material, Mesh, Node, Primitive, TextureUse
from ropebell.level.prepare import flatten, with_lights
from ropebell.level.scene import is_middle
from ropebell.light.albedo import texel_albedo
from ropebell.light.pages import MIP_FILLED, Filling
from ropebell.light.workers import run_chunks


def volume(shape: Shape) -> float:
    """Signed volume by the divergence theorem; positive when the faces look outward."""
    a, b, c = (shape.positions[shape.triangles[:, i]].astype(float) for i in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)


@pytest.mark.parametrize("size", [0.01, 1.0, 300.0])
def test_a_place_in_the_middle_of_a_thing_stands_for_all_of_it(tmp_path: Path, size: float) -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "crate", box((0, 0, 0), (size, size, 2 * size)), "m", at(size, 0, 0))
    scene = flatten(b.level(tmp_path))
    node = scene.node_names.index("g/crate")
    middle = np.array([1.5, 0.5, 1.0]) * size
    beside = (middle + [0.1 * size, 0, 0]).tolist()
    assert is_middle(scene, node, middle.tolist()) and not is_middle(scene, node, beside)
    assert not is_middle(scene, node, None) and not is_middle(scene, -1, middle.tolist())


@pytest.mark.parametrize(
    ("shape", "expected"),
    [
        (box((0, 0, 0), (1, 2, 3)), 6.0),
        (ball(1.0, 48, 96), 4 * np.pi / 3),
        (cylinder(1.0, 2.0, 128), 2 * np.pi),
        (cylinder(1.0, 3.0, 128, 0.0001), np.pi),
        (box((0, 0, 0), (1, 1, 1)).turned_inside_out(), -1.0),
        (joined([box((0, 0, 0), (1, 1, 1)), box((2, 0, 0), (3, 1, 1)).rotated(1, 0.7)]), 2.0),
    ],
)
def test_solids_of_the_sample_level_are_wound_outward(shape: Shape, expected: float) -> None:
    assert volume(shape) == pytest.approx(expected, rel=0.01)
    faces = shape.positions[shape.triangles]
    normal = np.cross(faces[:, 1] - faces[:, 0], faces[:, 2] - faces[:, 0])
    assert (np.einsum("ij,ij->i", normal, shape.normals[shape.triangles[:, 0]]) > 0).mean() > 0.97


def test_wheels_are_wound_outward() -> None:
    assert volume(wheel(2.0, 0.6, 8, 24, 0.2)) > 0


# -- the scene


def scene_with(primitive: Primitive, world: np.ndarray | None = None, *materials: Material) -> Level:
    world = np.eye(4) if world is None else world
    nodes = (Node("n", "n", -1, world, world, 0),)
    return Level(Path("x.glb"), nodes, (Mesh("m", (primitive,)),), materials or (Material("m"),), ())


def primitive(positions: list, triangles: list, normals: list | None = None) -> Primitive:
    n = None if normals is None else np.array(normals, np.float32)
    return Primitive(np.array(positions, np.float32), np.array(triangles, np.int32), 0, n)


def test_triangles_without_area_are_left_out_and_noticed() -> None:
    p = primitive([[0, 0, 0], [1, 0, 0], [0, 0, -1], [2, 0, 0]], [[0, 1, 2], [0, 1, 3], [0, 0, 2]])
    scene = flatten(scene_with(p))
    assert len(scene) == 1
    assert [(n.kind, n.where) for n in scene.notices] == [("degenerate", "n")]


def test_triangles_too_far_for_their_numbers_are_left_out_and_noticed() -> None:
    p = primitive([[0, 0, 0], [1, 0, 0], [0, 0, -1], [0, 0, -2e7], [1e6, 0, 0]], [[0, 1, 2], [0, 1, 3], [0, 4, 2]])
    scene = flatten(scene_with(p))
    assert len(scene) == 2
    (notice,) = scene.notices
    assert (notice.kind, notice.where) == ("too-far", "n") and notice.text.startswith("1 triangles over 10,000 km")


def test_zero_and_backward_normals_fall_back_to_the_face() -> None:
    p = primitive([[0, 0, 0], [1, 0, 0], [0, 0, -1]], [[0, 1, 2]], [[0, 0, 0], [0, -1, 0], [0.6, 0.8, 0]])
    normals = flatten(scene_with(p)).normals[0]
    np.testing.assert_allclose(normals, [[0, 1, 0], [0, 1, 0], [0.6, 0.8, 0]], atol=1e-6)


def test_normals_follow_stretched_and_mirrored_nodes() -> None:
    s = np.sqrt(0.5)
    p = primitive([[0, 0, 0], [1, -1, 0], [0, 0, -1]], [[0, 1, 2]], [[s, s, 0]] * 3)
    for scale in ((2, 1, 1), (-1, 1, 1), (1, 1, -3)):
        scene = flatten(scene_with(p, np.diag([*scale, 1.0]).astype(float)))
        np.testing.assert_allclose(scene.normals[0], np.repeat(scene.face_normals, 3, 0), atol=1e-6)
        assert scene.face_normals[0, 1] > 0


def test_light_changes_by_path_and_switching_off() -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(1), "m")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 10.0), aimed((0, 1, 0), (0, 0, 0)))
    level = b.level(Path("a.glb"))
    scene = flatten(level, Brief(lights={"lights/lamp": LightChange(20.0, (1, 0, 0))}))
    np.testing.assert_allclose(scene.lights[0].strength, [20, 0, 0])
    np.testing.assert_allclose(scene.lights[0].direction, [0, -1, 0], atol=1e-9)
    off = with_lights(scene, level, Brief(lights={"lights/lamp": LightChange(enabled=False)}))
    assert off.lights[0].intensity == 0.0 and off.corners is scene.corners


def test_shared_stretched_and_turned_shapes_get_as_few_layouts_as_they_need() -> None:
    assert rigid_and_scale(at(1, 2, 3, 0.4, 2.5))[1] == pytest.approx(2.5)
    assert rigid_and_scale(np.diag([1.0, 2, 1, 1]))[1] == 1.0
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    shape = ball(1.0, 6, 8)
    for i, place in enumerate([at(0, 0, 0), at(9, 0, 0, 1.1), at(0, 0, 9, 0.3, 2.0), np.diag([1.0, 3, 1, 1])]):
        b.add("g", f"ball {i}", shape, "m", place)
    kept = KeptLayouts()
    shapes = placed_shapes(flatten(b.level(Path("a.glb"))), kept, 1, lambda _: None)
    assert len(kept.layouts) == 2
    assert [s.scale for s in shapes] == pytest.approx([1, 1, 2, 1])


def test_unwrapping_in_its_own_process_gives_the_same_and_can_be_ended() -> None:
    shape = ball(1.0, 10, 14)
    corners = shape.positions[shape.triangles].astype(float)
    process = UnwrapProcess(corners, "missing")
    process.wait(60)
    assert process.ended()
    layout = process.layout()
    assert layout.trouble == "missing" and (layout.chart >= 0).all()
    other = UnwrapProcess(corners, "")
    other.kill()
    assert other.ended()


# -- albedo


def textured(wrap: int, affine: np.ndarray, uv: list) -> tuple:
    """A floor with a picture whose left half is black and right half white."""
    pixels = np.zeros((8, 8, 3), np.uint8)
    pixels[:, 4:] = 255
    b = LevelBuilder()
    use = b.picture("p", pixels)
    b.material("m", (1, 1, 1), texture=TextureUse(use.image, 0, (wrap, wrap), affine))
    shape = floor(1.0)
    b.add("g", "floor", Shape(shape.positions, shape.normals, np.array(uv, np.float32), shape.triangles), "m")
    level = b.level(Path("a.glb"))
    scene = flatten(level)
    atlas, _ = make_atlas(scene, placed_shapes(scene, KeptLayouts(), 1, lambda _: None), ChartSettings(8.0))
    texels = make_texels(scene, atlas, 8, lambda _: None)
    return texel_albedo(level, scene, texels, footprint_areas(scene, texels, atlas)), texels


@pytest.mark.parametrize(
    ("wrap", "uv", "mean"),
    [
        (10497, [[0, 0], [1, 0], [1, 1], [0, 1]], 0.5),
        (10497, [[0, 0], [4, 0], [4, 4], [0, 4]], 0.5),
        (33071, [[1, 0], [3, 0], [3, 1], [1, 1]], 1.0),
        (33648, [[0.5, 0], [1.5, 0], [1.5, 1], [0.5, 1]], 1.0),
        (10497, [[0, 0], [0.5, 0], [0.5, 1], [0, 1]], 0.0),
    ],
)
def test_pictures_wrap_as_gltf_says(wrap: int, uv: list, mean: float) -> None:
    albedo, _ = textured(wrap, np.eye(2, 3), uv)
    assert albedo.mean() == pytest.approx(mean, abs=0.03)


def test_picture_coordinates_can_be_transformed() -> None:
    shift = np.array([[0.5, 0, 0.5], [0, 1, 0]])
    albedo, _ = textured(10497, shift, [[0, 0], [1, 0], [1, 1], [0, 1]])
    assert albedo.mean() == pytest.approx(1.0, abs=0.03)


def test_one_transfer_function_there_and_back() -> None:
    shown = np.arange(256) / 255
    np.testing.assert_allclose(linear_to_srgb(srgb_to_linear(shown)), shown, atol=1e-6)
    # The stage's own code holds the same numbers.
    shader = (Path(display.__file__).parents[1] / "app" / "shaders" / "surface.frag").read_text()
    for number in ("0.04045", "0.0031308", "12.92", "1.055", "0.055", "2.4", f"GREY = {display.GREY}"):
        assert number in shader
    by_hand = 1 - math.exp(-0.6 * 100.0 / math.pi * 0.02)
    (byte,) = display.in_bytes(np.array([100.0], np.float32), 0.02)
    assert byte == round(255 * (1.055 * by_hand ** (1 / 2.4) - 0.055))


def test_srgb_follows_the_standard() -> None:
    np.testing.assert_allclose(srgb_to_linear(np.array([0, 0.04045, 0.5, 1])), [0, 0.00313, 0.21404, 1], atol=1e-5)


# -- checks


def kinds(b: LevelBuilder, sky: tuple = (0.0, 0.0, 0.0)) -> set[str]:
    level = b.level(Path("a.glb"))
    return {f.kind for f in check(Subject(level, flatten(level), sky=sky))}


@pytest.mark.parametrize(("size", "found"), [(0.05, True), (2.0, False), (500.0, False), (40_000.0, True)])
def test_levels_in_the_wrong_unit_are_noticed(size: float, found: bool) -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(size), "m")
    assert ("scale" in kinds(b, (1.0, 1.0, 1.0))) == found


def test_lights_that_are_off_or_negative_are_found_at_their_place() -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(2), "m")
    b.light("off", Light("off", "point", (1, 1, 1), 0.0), at(0, 1, 0))
    b.light("dark", Light("dark", "point", (-1, 1, 1), 5.0), at(1, 2, 3))
    level = b.level(Path("a.glb"))
    found = {f.kind: f for f in check(Subject(level, flatten(level), sky=(0.0, 0.0, 0.0)))}
    assert found["light-off"].severity == "note" and found["light-off"].object == "lights/off"
    assert found["negative-light"].severity == "error" and found["negative-light"].place == (1.0, 2.0, 3.0)


def test_what_the_engine_cannot_do_with_a_material_is_said() -> None:
    materials = (Material("pane", alpha_mode="BLEND"), Material("m"))
    p = primitive([[0, 0, 0], [1, 0, 0], [0, 0, -1]], [[0, 1, 2]])
    level = scene_with(p, None, *materials)
    assert "transparency-solid" in {f.kind for f in check(Subject(level, flatten(level), sky=(1.0, 1.0, 1.0)))}


# -- pages, pictures, files, errors, work


def test_dilation_extends_charts_and_nothing_else() -> None:
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(1), "m")
    scene = flatten(b.level(Path("a.glb")))
    atlas, _ = make_atlas(scene, placed_shapes(scene, KeptLayouts(), 1, lambda _: None), ChartSettings(4.0, 64, 3))
    texels = make_texels(scene, atlas, 4, lambda _: None)
    field = np.full((len(texels), 3), 7.0, np.float32)
    pages = Filling.of(texels, 2).pages(field, np.arange(len(texels), dtype=np.int32))
    known = texels.grid >= 0
    grown = pages[..., 0] > 0
    # Two texels were asked for; four are what the second mip level reads, as far as there is page.
    side = 4 + 3 + MIP_FILLED
    assert grown.sum() == side**2 and (pages[grown] == 7.0).all() and grown[known].all()


@pytest.mark.parametrize("padding", [2, 3, 4])
def test_interpolation_never_shows_a_neighbour_on_the_page(padding: int) -> None:
    """Bilinear lookups anywhere on an object read that object's light alone, up to the very edges of its charts."""
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    for i in range(6):
        b.add("g", f"box {i}", box((0, 0, 0), (1.0 + 0.3 * i, 0.2 + 0.1 * i, 0.7)), "m", at(3 * i, 0, 0))
    scene = flatten(b.level(Path("a.glb")))
    shapes = placed_shapes(scene, KeptLayouts(), 1, lambda _: None)
    atlas, _ = make_atlas(scene, shapes, ChartSettings(3.0, 64, padding))
    texels = make_texels(scene, atlas, 4, lambda _: None)
    field = np.repeat(scene.node[texels.owner].astype(np.float32)[:, None], 3, axis=1)
    pages = Filling.of(texels, padding).pages(field, np.arange(len(texels), dtype=np.int32))
    rng = np.random.default_rng(1)
    for t in rng.integers(0, len(scene), 400):
        for weights in (*np.eye(3), rng.dirichlet([0.3] * 3)):
            u, v = weights @ atlas.uv[t].astype(float)
            assert look_up(pages, int(atlas.page[t]), u, v)[0] == pytest.approx(scene.node[t], abs=1e-4)


def test_thumbnails_show_the_level(tmp_path: Path) -> None:
    import io

    from PIL import Image

    b = LevelBuilder()
    b.material("m", (0.8, 0.3, 0.1))
    b.add("g", "room", room(4, 3, 4), "m")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    bake(level_file(tmp_path, b), recipe("sketch"))
    picture = np.asarray(Image.open(io.BytesIO((tmp_path / "out" / "thumbnail.png").read_bytes())))
    assert picture.shape == (160, 256, 3)
    inside = picture[80, 128].astype(int)
    assert inside[0] > inside[2] + 20
    assert tone(np.array([0.0, 1e9], np.float32), 1.0).tolist() == pytest.approx([0, 1], abs=1e-6)
    assert exposure_for(np.zeros((3, 3), np.float32)) == 1.0


def test_files_are_written_whole_or_not_at_all(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "a.json"
    files.write_json(path, {"a": 1})

    def full(_handle: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(OSError, match="No space"):
        files.write_json(path, {"a": 2})
    assert path.read_text() == '{\n "a": 1\n}\n'
    assert [p.name for p in tmp_path.iterdir()] == ["a.json"]
    with pytest.raises(ValueError, match="JSON"):
        files.write_json(path, {"a": float("nan")})


def test_errors_are_one_line_with_place_and_remedy() -> None:
    error = RopeBellError("it is\nbroken", "a.glb", "Mend it")
    assert str(error) == "a.glb: it is broken. Mend it."
    assert LevelError("gone").exit_code == 2


@pytest.mark.parametrize("name", ["~/x", "C:/x", "\\\\host\\x", "", "a\x00b", "file:///x", "sub/../../x"])
def test_references_out_of_the_folder_are_refused(tmp_path: Path, name: str) -> None:
    with pytest.raises(LevelError):
        beside(tmp_path / "level.gltf", name, "here")
    assert beside(tmp_path / "level.gltf", "sub/../b.bin", "here") == (tmp_path / "b.bin").resolve()


@pytest.mark.parametrize("workers", [1, 3])
def test_chunks_are_done_once_each_and_errors_come_back(workers: int) -> None:
    done = np.zeros(1000, int)
    shares: list[float] = []

    def work(first: int, end: int) -> None:
        done[first:end] += 1

    run_chunks(1000, 7, work, workers, shares.append)
    assert (done == 1).all() and shares[-1] == 1.0 and shares == sorted(shares)

    def fails(first: int, _end: int) -> None:
        if first >= 70:
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        run_chunks(1000, 7, fails, workers, lambda _: None)
    with pytest.raises(KeyboardInterrupt):
        run_chunks(1000, 7, work, workers, lambda _: (_ for _ in ()).throw(KeyboardInterrupt))


def test_quads_carry_metres_as_picture_coordinates() -> None:
    shape = quad([(0, 0, 0), (2, 0, 0), (2, 0, -3), (0, 0, -3)])
    np.testing.assert_allclose(np.ptp(shape.uv, axis=0), [2, 3])
    np.testing.assert_allclose(shape.normals, [[0, 1, 0]] * 4)


def test_a_library_without_room_is_no_full_disk() -> None:
    """The loader of libraries gives no error number, as the array library on a full disk gives none."""
    refused = OSError("cannot load library 'x.so': x.so: failed to map segment from shared object")
    assert why(refused) == "there is not enough memory" and "ulimit -v" in step(refused)
    assert "disk" in why(OSError("5 requested and 3 written"))


@pytest.mark.parametrize(
    ("value", "words"),
    [(400.0, "400"), (123456.0, "120,000"), (0.0456, "0.046"), (9.99, "10"), (1.0, "1"), (-250.0, "-250")],
)
def test_numbers_for_people_have_no_exponents(value: float, words: str) -> None:
    assert short_number(value) == words


def test_areas_are_written_in_what_one_can_picture() -> None:
    assert area_words(0.04) == "400 cm²" and area_words(400.0) == "400 m²" and area_words(1.26) == "1.3 m²"
