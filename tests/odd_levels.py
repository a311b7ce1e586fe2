"""Odd but legal levels, made by code, and a few that are not: each with what a command has to say of it.

Each is a function that writes a level into a folder; `visits` runs commands on them.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR

import gltf_files
from helpers import floor, level_file, room
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box, quad
from ropebell.demo.write import LEVEL_NAME
from ropebell.level.model import Light

Odd = Callable[[Path], Path]
ZOO: dict[str, Odd] = {}
GREY = (0.5, 0.5, 0.5)


def _odd(make: Odd) -> Odd:
    ZOO[make.__name__.strip("_")] = make
    return make


def _builder(lamp: float = 90.0) -> LevelBuilder:
    b = LevelBuilder()
    b.material("grey", GREY)
    if lamp:
        b.light("lamp", Light("lamp", "point", (1, 1, 1), lamp), at(0.3, 1.6, 0.2))
    return b


def _crates(b: LevelBuilder, size: float = 1.0, far: float = 0.0, name: str = "crate") -> None:
    b.add("g", "floor", floor(4 * size), "grey", at(far, 0, 0))
    b.add("g", name, box((0, 0, 0), (0.6 * size, 0.6 * size, 0.6 * size)), "grey", at(far + 0.5 * size, 0, 0))


def _plain(folder: Path, **more: Any) -> Path:
    b = _builder()
    _crates(b, **more)
    return level_file(folder, b)


def _raw(change: Callable[[dict[str, Any]], object]) -> Odd:
    def write(folder: Path) -> Path:
        doc = gltf_files.document()
        change(doc)
        return gltf_files.write(folder / "level.gltf", doc)

    return write


def _lamp(doc: dict[str, Any], intensity: float = 90.0, **more: Any) -> None:
    light = {"type": "point", "intensity": intensity, **more}
    doc["extensions"] = {"KHR_lights_punctual": {"lights": [light]}}
    doc["extensionsUsed"] = ["KHR_lights_punctual"]
    doc["nodes"].append({
        "name": "lamp", "translation": [0.5, 1.5, -0.5], "extensions": {"KHR_lights_punctual": {"light": 0}}
    })  # fmt: skip
    doc["scenes"][0]["nodes"].append(len(doc["nodes"]) - 1)


def _named(name: str) -> Odd:
    return lambda folder: _plain(folder, name=name)


def _sky(pixels: Callable[[np.ndarray], None]) -> Odd:
    """A floor with a crate under a sky picture in a project."""

    def write(folder: Path) -> Path:
        b = _builder(0.0)
        _crates(b)
        level_file(folder, b, LEVEL_NAME)
        picture = np.full((32, 64, 3), 500.0, np.float32)
        pixels(picture)
        OpenEXR.File({"type": OpenEXR.scanlineimage}, {"RGB": picture}).write(str(folder / "sky.exr"))
        text = f'name = "Zoo"\nlevel = "{LEVEL_NAME}"\nsky = "main"\n[skies.main]\npicture = "sky.exr"\n'
        (folder / "project.toml").write_text(text)
        return folder

    return write


@_odd
def one_room(folder: Path) -> Path:
    b = _builder()
    b.add("g", "room", room(4, 3, 5), "grey", at(-2, 0, -2.5))
    b.add("g", "crate", box((0, 0, 0), (0.6, 0.6, 0.6)), "grey", at(-1, 0, 0))
    return level_file(folder, b)


@_odd
def floor_and_cube(folder: Path) -> Path:
    return _plain(folder)


@_odd
def one_slab(folder: Path) -> Path:
    b = _builder()
    b.add("g", "slab", box((-2, -0.2, -2), (2, 0, 2)), "grey")
    return level_file(folder, b)


@_odd
def one_triangle(folder: Path) -> Path:
    doc = gltf_files.document(order=np.array([0, 1, 2], "<u2"))
    _lamp(doc)
    return gltf_files.write(folder / "level.gltf", doc)


@_odd
def one_triangle_without_light(folder: Path) -> Path:
    return gltf_files.write(folder / "level.gltf", gltf_files.document(order=np.array([0, 1, 2], "<u2")))


def _nothing(doc: dict[str, Any]) -> None:
    for key in ("meshes", "accessors", "bufferViews", "buffers", "nodes"):
        del doc[key]
    doc["scenes"] = [{}]


def _only_lights(doc: dict[str, Any]) -> None:
    for key in ("meshes", "accessors", "bufferViews", "buffers"):
        del doc[key]
    del doc["nodes"][0]["mesh"]
    _lamp(doc)


def _mode(mode: int) -> Odd:
    def change(doc: dict[str, Any]) -> None:
        doc["meshes"][0]["primitives"][0]["mode"] = mode
        _lamp(doc)

    return _raw(change)


def _flat(positions: list[list[float]]) -> Odd:
    def write(folder: Path) -> Path:
        doc = gltf_files.document(np.array(positions, "<f4"))
        _lamp(doc)
        return gltf_files.write(folder / "level.gltf", doc)

    return write


ZOO |= {
    "empty": _raw(_nothing),
    "only_lights": _raw(_only_lights),
    "points": _mode(0),
    "lines": _mode(1),
    "line_strip": _mode(3),
    "triangle_fan": _mode(6),
    "zero_area": _flat([[0, 0, 0]] * 4),
    "all_on_a_line": _flat([[0, 0, 0], [1, 0, 0], [2, 0, 0], [3, 0, 0]]),
    "micro": lambda f: _plain(f, size=1e-4),
    "tiny": lambda f: _plain(f, size=0.01),
    "mega": lambda f: _plain(f, size=2.5e5),
    "large": lambda f: _plain(f, size=300.0),
    "far_off": lambda f: _plain(f, far=1e7),
}


def _project(text: str, level: Callable[[LevelBuilder], object] = _crates) -> Odd:
    def write(folder: Path) -> Path:
        b = _builder()
        level(b)
        level_file(folder, b, LEVEL_NAME)
        (folder / "project.toml").write_text(f'name = "Zoo"\nlevel = "{LEVEL_NAME}"\n{text}')
        return folder

    return write


ZOO |= {
    "all_left_out": _project('[marks."g/floor"]\nrole = "left-out"\n[marks."g/crate"]\nrole = "left-out"\n'),
    "all_moving": _project('[marks."g/floor"]\nrole = "moving"\n[marks."g/crate"]\nrole = "moving"\n'),
    "all_live": _project('[lights."lights/lamp"]\nmode = "live"\n'),
    "meant_sealed": _project("sealed = true\n"),
    "nothing_blocks": _project('[marks."g/floor"]\nblocks_sight = false\n[marks."g/crate"]\nblocks_sight = false\n'),
    "strong_sky": _project('sky = "main"\n[skies.main]\ncolor = [1e12, 1e12, 1e12]\n'),
    "marks_of_nothing": _project('[marks."gone/crate"]\nrole = "moving"\n'),
}


@_odd
def stray_cube(folder: Path) -> Path:
    b = _builder()
    _crates(b)
    b.add("g", "stray", box((0, 0, 0), (1, 1, 1)), "grey", at(1e6, 0, 0))
    return level_file(folder, b)


@_odd
def no_lights(folder: Path) -> Path:
    b = _builder(0.0)
    _crates(b)
    return level_file(folder, b)


@_odd
def blinding_lamp(folder: Path) -> Path:
    b = _builder(2e12)
    _crates(b)
    return level_file(folder, b)


@_odd
def faint_lamp(folder: Path) -> Path:
    b = _builder(1e-30)
    _crates(b)
    return level_file(folder, b)


@_odd
def black_everything(folder: Path) -> Path:
    b = _builder()
    b.material("grey", (0.0, 0.0, 0.0))
    _crates(b)
    return level_file(folder, b)


@_odd
def white_everything(folder: Path) -> Path:
    b = _builder()
    b.material("grey", (1.0, 1.0, 1.0))
    b.add("g", "room", room(4, 3, 5), "grey", at(-2, 0, -2.5))
    return level_file(folder, b)


@_odd
def everything_glows(folder: Path) -> Path:
    b = _builder(0.0)
    b.material("grey", GREY, glow=(900.0, 900.0, 900.0))
    _crates(b)
    return level_file(folder, b)


@_odd
def deep_tree(folder: Path) -> Path:
    doc = gltf_files.document()
    _lamp(doc)
    doc["nodes"][0].pop("mesh")
    first = len(doc["nodes"])
    doc["nodes"] += [{"name": f"n{k}", "children": [first + k + 1]} for k in range(400)]
    doc["nodes"].append({"name": "leaf", "mesh": 0})
    doc["nodes"][0]["children"] = [first]
    return gltf_files.write(folder / "level.gltf", doc)


def _cycle(doc: dict[str, Any]) -> None:
    doc["nodes"] = [{"name": "a", "children": [1]}, {"name": "b", "mesh": 0, "children": [0]}]


def _two_parents(doc: dict[str, Any]) -> None:
    doc["nodes"] = [{"children": [2]}, {"children": [2]}, {"mesh": 0}]
    doc["scenes"] = [{"nodes": [0, 1]}]


def _scaled(*scale: float) -> Odd:
    def change(doc: dict[str, Any]) -> None:
        doc["nodes"][0]["scale"] = list(scale)
        _lamp(doc)

    return _raw(change)


def _skinned(doc: dict[str, Any]) -> None:
    _lamp(doc)
    gltf_files.add_attribute(doc, "JOINTS_0", np.zeros((4, 4), np.uint8), "VEC4", 5121)
    gltf_files.add_attribute(doc, "WEIGHTS_0", np.tile(np.array([1, 0, 0, 0], "<f4"), (4, 1)), "VEC4", 5126)
    doc["nodes"].append({"name": "joint"})
    doc["skins"] = [{"joints": [len(doc["nodes"]) - 1]}]
    doc["nodes"][0]["skin"] = 0
    doc["scenes"][0]["nodes"].append(len(doc["nodes"]) - 1)


def _morphed(doc: dict[str, Any]) -> None:
    _lamp(doc)
    doc["meshes"][0]["primitives"][0]["targets"] = [{"POSITION": 0}]
    doc["meshes"][0]["weights"] = [0.5]


def _nan_corner(value: float) -> Odd:
    positions = gltf_files.SQUARE.copy()
    positions[2, 1] = value
    return _flat(positions.tolist())


def _bad_normals(doc: dict[str, Any]) -> None:
    _lamp(doc)
    gltf_files.add_attribute(doc, "NORMAL", np.zeros((4, 3), "<f4"), "VEC3", 5126)


def _same_uv1(doc: dict[str, Any]) -> None:
    _lamp(doc)
    gltf_files.add_attribute(doc, "TEXCOORD_1", np.zeros((4, 2), "<f4"), "VEC2", 5126)


def _same_names(doc: dict[str, Any]) -> None:
    _lamp(doc)
    doc["nodes"] += [{"name": "floor", "mesh": 0, "translation": [2.0 * k, 0, 0]} for k in range(1, 4)]
    doc["scenes"][0]["nodes"] += [2, 3, 4]


def _no_names(doc: dict[str, Any]) -> None:
    _lamp(doc)
    for node in doc["nodes"]:
        node.pop("name")
    doc["meshes"][0].pop("name")


def _no_scene(doc: dict[str, Any]) -> None:
    _lamp(doc)
    del doc["scene"], doc["scenes"]


ZOO |= {
    "cycle": _raw(_cycle),
    "two_parents": _raw(_two_parents),
    "negative_scale": _scaled(-1, 1, 1),
    "all_negative_scale": _scaled(-2, -2, -2),
    "zero_scale": _scaled(0, 0, 0),
    "flattened": _scaled(1, 1, 0),
    "huge_scale": _scaled(1e30, 1e30, 1e30),
    "skinned": _raw(_skinned),
    "morphed": _raw(_morphed),
    "nan_corner": _nan_corner(math.nan),
    "infinite_corner": _nan_corner(math.inf),
    "bad_normals": _raw(_bad_normals),
    "folded_coordinates": _raw(_same_uv1),
    "same_names": _raw(_same_names),
    "no_names": _raw(_no_names),
    "no_scene": _raw(_no_scene),
    "spot_of_no_width": _raw(lambda d: _lamp(d, type="spot", spot={"innerConeAngle": 0.0, "outerConeAngle": 1e-6})),
    "lamp_without_strength": _raw(lambda d: _lamp(d, 0.0)),
    "lamp_with_tiny_reach": _raw(lambda d: _lamp(d, 90.0, range=1e-6)),
    "red_lamp": _raw(lambda d: _lamp(d, 90.0, color=[1, 0, 0])),
    "sun": _raw(lambda d: _lamp(d, 1e5, type="directional")),
}

for number, name in enumerate((
    "=cmd|' /C calc'!A0", "line\nbreak",
    "sep\u2028ar\u2029ate\u0085d", "\x1b[2J\x1b]0;owned\x07", "<script>alert(1)</script>",
    "..", "../../etc", "a/b", "", " ", "x" * 5000, "%s%n{0}", "\u202egnp.exe", "naïve 水車 🦀", "--json", "*",
)):  # fmt: skip
    ZOO[f"name_{number}"] = _named(name)


def _all(value: float) -> Odd:
    return _sky(lambda p: p.fill(value))


def _some(value: float) -> Odd:
    def change(p: np.ndarray) -> None:
        p[3, 5] = value

    return _sky(change)


ZOO |= {
    "sky_picture": _sky(lambda p: None),
    "sky_black": _all(0.0),
    "sky_nan": _some(math.nan),
    "sky_infinite": _some(math.inf),
    "sky_negative": _some(-5.0),
    "sky_all_nan": _all(math.nan),
    "sky_one_huge": _some(3e37),
    "sky_sun_pixel": _some(1e9),
}


@_odd
def coplanar(folder: Path) -> Path:
    b = _builder()
    for k in range(3):
        b.add("g", f"floor {k}", floor(4), "grey")
    return level_file(folder, b)


@_odd
def crates_in_crates(folder: Path) -> Path:
    b = _builder()
    for k in range(6):
        h = 1.0 - 0.1 * k
        b.add("g", f"crate {k}", box((-h, -h, -h), (h, h, h)), "grey")
    return level_file(folder, b)


@_odd
def balls(folder: Path) -> Path:
    b = _builder()
    b.add("g", "floor", floor(6), "grey")
    for k in range(5):
        b.add("g", f"ball {k}", ball(0.3, 12, 16), "grey", at(k - 2.0, 0.3, 0))
    return level_file(folder, b)


@_odd
def slivers(folder: Path) -> Path:
    b = _builder()
    for k in range(40):
        y = 0.002 * k
        b.add("g", f"strip {k}", quad([(-2, y, 0), (2, y, 0), (2, y, -1e-4), (-2, y, -1e-4)]), "grey")
    return level_file(folder, b)


@_odd
def many_lamps(folder: Path) -> Path:
    b = _builder(0.0)
    _crates(b)
    for k in range(200):
        b.light(f"lamp {k}", Light("lamp", "point", (1, 1, 1), 1.0), at(k % 20 * 0.2 - 2, 1.5, k // 20 * 0.4 - 2))
    return level_file(folder, b)


@_odd
def many_copies(folder: Path) -> Path:
    b = _builder()
    crate = box((0, 0, 0), (0.1, 0.1, 0.1))
    b.add("g", "floor", floor(6), "grey")
    for k in range(400):
        b.add("g", f"crate {k}", crate, "grey", at(k % 20 * 0.25 - 2.5, 0, k // 20 * 0.25 - 2.5))
    return level_file(folder, b)


@_odd
def sealed_box_inside_out(folder: Path) -> Path:
    b = _builder()
    b.add("g", "solid", box((-2, 0, -2), (2, 3, 2)), "grey")
    return level_file(folder, b)


@_odd
def tall_shaft(folder: Path) -> Path:
    b = _builder()
    b.add("g", "shaft", room(1, 200, 1), "grey", at(-0.2, -100, -0.3))
    return level_file(folder, b)


def _material(**values: Any) -> Odd:
    def write(folder: Path) -> Path:
        b = _builder()
        _crates(b)
        b._materials["grey"] = replace(b._materials["grey"], **values)
        return level_file(folder, b)

    return write


ZOO |= {
    "glass": _material(alpha_mode="BLEND", base_color=(0.5, 0.5, 0.5, 0.3)),
    "masked": _material(alpha_mode="MASK", base_color=(0.5, 0.5, 0.5, 0.3)),
    "unlit": _material(unlit=True),
    "two_sided": _material(double_sided=True),
}


@_odd
def obj_plain(folder: Path) -> Path:
    path = folder / "level.obj"
    path.write_text("o floor\nv 0 0 0\nv 2 0 0\nv 2 0 -2\nv 0 0 -2\nf 1 2 3 4\n")
    return path


@_odd
def obj_without_faces(folder: Path) -> Path:
    path = folder / "level.obj"
    path.write_text("o floor\nv 0 0 0\nv 2 0 0\n")
    return path


@_odd
def obj_line(folder: Path) -> Path:
    path = folder / "level.obj"
    path.write_text("o rope\nv 0 0 0\nv 2 0 0\nv 2 2 2\nl 1 2 3\n")
    return path


@_odd
def truncated(folder: Path) -> Path:
    path = _plain(folder)
    path.write_bytes(path.read_bytes()[:200])
    return path


@_odd
def not_a_level(folder: Path) -> Path:
    path = folder / "level.gltf"
    path.write_text(json.dumps({"hello": "world"}))
    return path
