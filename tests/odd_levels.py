"""Odd but legal levels, made by code, and a few that are not: each with what a command has to say of it.

A beast is a function that writes a level into a folder. `SAID` holds words that a command must print about some of
them; where it says nothing, an exit status of the contract and no traceback are all that is asked for.
"""

from __future__ import annotations

import json
import math
import os
import sys
import time
import traceback
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR

import gltf_files
from helpers import floor, level_file, room
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box, quad
from ropebell.demo.write import LEVEL_NAME
from ropebell.level.model import Light

Beast = Callable[[Path], Path]
ZOO: dict[str, Beast] = {}
GREY = (0.5, 0.5, 0.5)
CONTRACT, MOST_SECONDS = (0, 1, 2, 3, 4), 60.0
NO_INSIDE = (0, "no inside")
NOT_LIGHT = "pixels hold values that are no light"
# What must be said: by level and command, the exit status and some words.
SAID: dict[tuple[str, str], tuple[int, str]] = {
    ("one_room", "sight"): (0, "is sealed"), ("one_room", "bake"): (0, "texels"),
    ("floor_and_cube", "sight"): NO_INSIDE, ("one_slab", "sight"): NO_INSIDE, ("one_triangle", "sight"): NO_INSIDE,
    ("coplanar", "sight"): NO_INSIDE, ("micro", "sight"): NO_INSIDE, ("mega", "sight"): NO_INSIDE,
    ("skinned", "sight"): NO_INSIDE, ("sky_picture", "sight"): NO_INSIDE, ("crates_in_crates", "sight"): NO_INSIDE,
    ("sealed_box_inside_out", "sight"): NO_INSIDE, ("tall_shaft", "sight"): (0, "is sealed"),
    ("empty", "check"): (1, "No node of the level has a mesh"), ("only_lights", "check"): (1, "No node of the level"),
    ("points", "check"): (1, "points or lines alone"), ("lines", "check"): (1, "points or lines alone"),
    ("zero_area", "check"): (1, "without area"), ("all_on_a_line", "check"): (1, "without area"),
    ("all_left_out", "check"): (1, "None of its 2 objects are baked"),
    ("all_moving", "check"): (1, "None of its 2 objects are baked"),
    ("all_left_out", "bake"): (3, "one of its 2 objects are baked"), ("no_lights", "check"): (1, "Nothing gives light"),
    ("blinding_lamp", "check"): (1, "Light 'lights/lamp' has a strength of 2e+12"),
    ("blinding_lamp", "bake"): (3, "'lights/lamp' has a strength of 2e+12"),
    ("sky_one_huge", "check"): (1, "more than the 1e12"), ("sky_one_huge", "bake"): (3, "more than the 1e12"),
    ("sky_nan", "check"): (1, NOT_LIGHT), ("sky_infinite", "check"): (1, NOT_LIGHT),
    ("sky_negative", "check"): (1, NOT_LIGHT), ("sky_all_nan", "check"): (1, NOT_LIGHT),
    ("sky_nan", "bake"): (2, NOT_LIGHT), ("sky_negative", "hunt"): (2, NOT_LIGHT),
    ("cycle", "check"): (2, ""), ("two_parents", "check"): (2, ""), ("truncated", "check"): (2, "cut off"),
    ("not_a_level", "check"): (2, ""), ("nan_corner", "check"): (2, "node 'floor'"),
    ("infinite_corner", "check"): (2, "mesh 'square' of node 'floor'"),
    ("huge_scale", "check"): (2, "floor"), ("mega", "check"): (0, "not exported in metres"),
    ("obj_without_faces", "check"): (2, "no faces"),
}  # fmt: skip


def _beast(make: Beast) -> Beast:
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


def _raw(change: Callable[[dict[str, Any]], object]) -> Beast:
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


def _named(name: str) -> Beast:
    return lambda folder: _plain(folder, name=name)


def _sky(pixels: Callable[[np.ndarray], None]) -> Beast:
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


@_beast
def one_room(folder: Path) -> Path:
    b = _builder()
    b.add("g", "room", room(4, 3, 5), "grey", at(-2, 0, -2.5))
    b.add("g", "crate", box((0, 0, 0), (0.6, 0.6, 0.6)), "grey", at(-1, 0, 0))
    return level_file(folder, b)


@_beast
def floor_and_cube(folder: Path) -> Path:
    return _plain(folder)


@_beast
def one_slab(folder: Path) -> Path:
    b = _builder()
    b.add("g", "slab", box((-2, -0.2, -2), (2, 0, 2)), "grey")
    return level_file(folder, b)


@_beast
def one_triangle(folder: Path) -> Path:
    doc = gltf_files.document(order=np.array([0, 1, 2], "<u2"))
    _lamp(doc)
    return gltf_files.write(folder / "level.gltf", doc)


@_beast
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


def _mode(mode: int) -> Beast:
    def change(doc: dict[str, Any]) -> None:
        doc["meshes"][0]["primitives"][0]["mode"] = mode
        _lamp(doc)

    return _raw(change)


def _flat(positions: list[list[float]]) -> Beast:
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


def _project(text: str, level: Callable[[LevelBuilder], object] = _crates) -> Beast:
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


@_beast
def stray_cube(folder: Path) -> Path:
    b = _builder()
    _crates(b)
    b.add("g", "stray", box((0, 0, 0), (1, 1, 1)), "grey", at(1e6, 0, 0))
    return level_file(folder, b)


@_beast
def no_lights(folder: Path) -> Path:
    b = _builder(0.0)
    _crates(b)
    return level_file(folder, b)


@_beast
def blinding_lamp(folder: Path) -> Path:
    b = _builder(2e12)
    _crates(b)
    return level_file(folder, b)


@_beast
def faint_lamp(folder: Path) -> Path:
    b = _builder(1e-30)
    _crates(b)
    return level_file(folder, b)


@_beast
def black_everything(folder: Path) -> Path:
    b = _builder()
    b.material("grey", (0.0, 0.0, 0.0))
    _crates(b)
    return level_file(folder, b)


@_beast
def white_everything(folder: Path) -> Path:
    b = _builder()
    b.material("grey", (1.0, 1.0, 1.0))
    b.add("g", "room", room(4, 3, 5), "grey", at(-2, 0, -2.5))
    return level_file(folder, b)


@_beast
def everything_glows(folder: Path) -> Path:
    b = _builder(0.0)
    b.material("grey", GREY, glow=(900.0, 900.0, 900.0))
    _crates(b)
    return level_file(folder, b)


@_beast
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


def _scaled(*scale: float) -> Beast:
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


def _nan_corner(value: float) -> Beast:
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


def _all(value: float) -> Beast:
    return _sky(lambda p: p.fill(value))


def _some(value: float) -> Beast:
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


@_beast
def coplanar(folder: Path) -> Path:
    b = _builder()
    for k in range(3):
        b.add("g", f"floor {k}", floor(4), "grey")
    return level_file(folder, b)


@_beast
def crates_in_crates(folder: Path) -> Path:
    b = _builder()
    for k in range(6):
        h = 1.0 - 0.1 * k
        b.add("g", f"crate {k}", box((-h, -h, -h), (h, h, h)), "grey")
    return level_file(folder, b)


@_beast
def balls(folder: Path) -> Path:
    b = _builder()
    b.add("g", "floor", floor(6), "grey")
    for k in range(5):
        b.add("g", f"ball {k}", ball(0.3, 12, 16), "grey", at(k - 2.0, 0.3, 0))
    return level_file(folder, b)


@_beast
def slivers(folder: Path) -> Path:
    b = _builder()
    for k in range(40):
        y = 0.002 * k
        b.add("g", f"strip {k}", quad([(-2, y, 0), (2, y, 0), (2, y, -1e-4), (-2, y, -1e-4)]), "grey")
    return level_file(folder, b)


@_beast
def many_lamps(folder: Path) -> Path:
    b = _builder(0.0)
    _crates(b)
    for k in range(200):
        b.light(f"lamp {k}", Light("lamp", "point", (1, 1, 1), 1.0), at(k % 20 * 0.2 - 2, 1.5, k // 20 * 0.4 - 2))
    return level_file(folder, b)


@_beast
def many_copies(folder: Path) -> Path:
    b = _builder()
    crate = box((0, 0, 0), (0.1, 0.1, 0.1))
    b.add("g", "floor", floor(6), "grey")
    for k in range(400):
        b.add("g", f"crate {k}", crate, "grey", at(k % 20 * 0.25 - 2.5, 0, k // 20 * 0.25 - 2.5))
    return level_file(folder, b)


@_beast
def sealed_box_inside_out(folder: Path) -> Path:
    b = _builder()
    b.add("g", "solid", box((-2, 0, -2), (2, 3, 2)), "grey")
    return level_file(folder, b)


@_beast
def tall_shaft(folder: Path) -> Path:
    b = _builder()
    b.add("g", "shaft", room(1, 200, 1), "grey", at(-0.2, -100, -0.3))
    return level_file(folder, b)


def _material(**values: Any) -> Beast:
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


@_beast
def obj_plain(folder: Path) -> Path:
    path = folder / "level.obj"
    path.write_text("o floor\nv 0 0 0\nv 2 0 0\nv 2 0 -2\nv 0 0 -2\nf 1 2 3 4\n")
    return path


@_beast
def obj_without_faces(folder: Path) -> Path:
    path = folder / "level.obj"
    path.write_text("o floor\nv 0 0 0\nv 2 0 0\n")
    return path


@_beast
def obj_line(folder: Path) -> Path:
    path = folder / "level.obj"
    path.write_text("o rope\nv 0 0 0\nv 2 0 0\nv 2 2 2\nl 1 2 3\n")
    return path


@_beast
def truncated(folder: Path) -> Path:
    path = _plain(folder)
    path.write_bytes(path.read_bytes()[:200])
    return path


@_beast
def not_a_level(folder: Path) -> Path:
    path = folder / "level.gltf"
    path.write_text(json.dumps({"hello": "world"}))
    return path


@dataclass(frozen=True)
class Run:
    """How one command ended on one level."""

    command: str
    status: int
    seconds: float
    said: str
    trouble: str


SEEN_AT = "0.1,0.0,0.1"
QUICK = ("check", "sight")
BAKE = ("--recipe", "sketch", "--set", "density.texels_per_metre=4", "--set", "light.gather_rays=32")


# So large that all texels are used that pages of the usual size may have, which takes minutes.
COARSE = {"mega": ("--set", "density.page_size=256"), "large": ("--set", "draft=8")}


def visit(name: str, folder: Path, builds: bool = True) -> Iterator[Run]:
    """Every command on one level, each in a process forked from this one."""
    home = folder / "level"
    home.mkdir()
    level = ZOO[name](home)
    os.environ["XDG_CACHE_HOME"] = str(folder / "cache")
    for command in QUICK:
        yield _run(name, command, [str(level)])
    if not builds:
        return
    build, again = str(folder / "build"), str(folder / "again")
    how = (*BAKE, *COARSE.get(name, ()))
    yield (baked := _run(name, "bake", [str(level), "--out", build, *how]))
    yield _run(name, "hunt", [str(level), "--while", "black>0.9", "--most-trials", "3", "--no-fixes", *how])
    if baked.status:
        return
    _run(name, "bake", [str(level), "--out", again, *how, "--set", "light.bounces=1"])
    yield _run(name, "meter", [build, SEEN_AT])
    yield _run(name, "account", [build, SEEN_AT])
    yield _run(name, "faults", [build, "--html", str(folder / "f.html"), "--csv", str(folder / "f.csv")])
    yield _run(name, "compare", [build, again, "--html", str(folder / "c.html")])
    yield _run(name, "ledger", [build])
    yield _run(name, "advise", [str(level), build])
    yield _run(name, "export", [build, "--out", str(folder / "out.zip"), "--despite", "any"])


def _run(name: str, command: str, arguments: list[str]) -> Run:
    began = time.monotonic()
    reader, writer = os.pipe()
    child = os.fork()
    if child == 0:
        os.dup2(writer, 1)
        os.dup2(writer, 2)
        status = 99
        try:
            sys.stdout, sys.stderr = (
                open(n, "w", encoding="utf-8", closefd=False)  # noqa: SIM115 - the process ends with them
                for n in (1, 2)
            )
            status = main([command, *arguments])
        except BaseException:  # noqa: BLE001 - the border of a process
            traceback.print_exc()
        finally:
            for stream in (sys.stdout, sys.stderr):
                stream.flush()
            os._exit(status)
    os.close(writer)
    with open(reader, encoding="utf-8", errors="backslashreplace") as heard:
        said = heard.read()
    status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    seconds = time.monotonic() - began
    return Run(command, status, seconds, said, _trouble(name, command, status, seconds, said))


def _trouble(name: str, command: str, status: int, seconds: float, said: str) -> str:
    if "Traceback" in said or "of this program" in said or "of its own" in said:
        return "a mistake of the program"
    if status not in CONTRACT:
        return f"status {status}"
    if seconds > MOST_SECONDS:
        return f"{seconds:.0f} s"
    if any(not (c == "\n" or c == " " or c.isprintable()) for c in said):
        return "raw control characters"
    wanted, words = SAID.get((name, command), (None, ""))
    if wanted is not None and status != wanted:
        return f"status {status}, not {wanted}"
    return "" if words in said else f"it does not say '{words}'"
