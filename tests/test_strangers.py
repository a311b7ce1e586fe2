"""Files and folders from strangers: whatever is in them, the answer is a result or one plain sentence."""

from __future__ import annotations

import io
import json
import math
import shutil
import time
import tomllib
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

import mutations
from gltf_files import document, write
from ropebell.build.events import parse_event
from ropebell.build.manifest import FORMAT, parse_manifest, read_manifest
from ropebell.build.outputs import BAKED_LEVEL
from ropebell.build.probe_file import PROBES, read_probes
from ropebell.build.result import open_result
from ropebell.cli.main import main
from ropebell.errors import LevelError, ProjectError
from ropebell.level import images, limits
from ropebell.level.gltf_read import read_gltf
from ropebell.level.gltf_write import plain_glb
from ropebell.level.obj_read import read_obj
from ropebell.level.open import open_level
from ropebell.level.sky_picture import read_sky_picture


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return mutations.sample(tmp_path_factory.mktemp("sample"))


@pytest.mark.parametrize("part", range(4))
def test_four_hundred_spoiled_files_of_all_kinds(made: Path, tmp_path: Path, part: int) -> None:
    """`./run mutate` reads as many more as one likes."""
    read = Counter(mutations.attempt(n, made, tmp_path / "spoiled") for n in range(100 * part, 100 * part + 100))
    assert sum(read.values()) == 100 and len(read) > 10


def test_what_is_spoiled_is_really_looked_at(made: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A reader that lets a fault through is found out. (The file is the same on every machine: what is spoiled in a
    manifest hangs on how many stages took time enough to be told.)"""

    def careless(path: Path) -> None:
        tomllib.loads(path.read_text())["light"]["bounces"] + 1

    name = "recipe.toml"
    kind = mutations.Kind(lambda f: f / name, lambda f: careless(f / name), "toml", 1)
    monkeypatch.setattr(mutations, "KINDS", {"careless": kind})
    monkeypatch.setattr(mutations, "PICKED", ["careless"])
    with pytest.raises((KeyError, TypeError, AttributeError)):
        for number in range(100):
            mutations.attempt(number, made, tmp_path / "spoiled")


# -- manifests


def test_a_build_of_a_newer_version_says_so_and_one_of_an_older_is_read(made: Path) -> None:
    values = read_manifest(made / "builds" / "0001").as_json()
    with pytest.raises(ProjectError, match="newer version"):
        parse_manifest({**values, "format": FORMAT + 1})
    old = {**values, "format": 1, "digests": {k: v for k, v in values["digests"].items() if k != "reading"}}
    assert parse_manifest(old).digests.reading == ""


@pytest.mark.parametrize(
    ("key", "value"),
    [("bounces", 10**9), ("bounces", -1), ("texels", 1.5), ("sky", [1, 2]), ("seconds", {"total": float("inf")})],
)
def test_a_manifest_out_of_bounds_is_refused_by_name(made: Path, key: str, value: object) -> None:
    values = read_manifest(made / "builds" / "0001").as_json()
    with pytest.raises(ProjectError, match=key):
        parse_manifest({**values, key: value})


@pytest.mark.parametrize("name", ["../page.exr", "/etc/passwd", "pages/../../x.exr", "pages/.hidden", ""])
def test_no_page_lies_outside_its_build(made: Path, name: str) -> None:
    values = read_manifest(made / "builds" / "0001").as_json()
    with pytest.raises(ProjectError, match=r"pages\.0\.file"):
        parse_manifest({**values, "pages": [{**values["pages"][0], "file": name}]})


def test_a_page_of_another_size_than_its_manifest_says_takes_no_memory(made: Path, tmp_path: Path) -> None:
    from ropebell.build.pages import read_page, write_page

    write_page(tmp_path / "p.exr", np.zeros((64, 32, 3), np.float32))
    assert read_page(tmp_path / "p.exr", (64, 32)).shape == (64, 32, 3)
    for shape in ((32, 64), (20000, 20000)):
        with pytest.raises(LevelError, match="missing or damaged"):
            read_page(tmp_path / "p.exr", shape)


def test_a_damaged_page_is_told_in_one_line(made: Path, tmp_path: Path, capfd: pytest.CaptureFixture[str]) -> None:
    import shutil

    build = tmp_path / "build"
    shutil.copytree(made / "builds" / "0001", build)
    page = bytearray((build / "pages" / "page-00.exr").read_bytes())
    page[400:500] = b"\xff" * 100
    (build / "pages" / "page-00.exr").write_bytes(page)
    assert main(["meter", str(build), "1,1,1"]) == 2
    said = capfd.readouterr()
    assert said.out == "" and len(said.err.strip().splitlines()) == 1


def test_a_line_that_is_no_event_is_passed_over() -> None:
    good = b'{"event": "progress", "t": 1.0, "stage": "charts", "share": 0.5, "remaining": 2}'
    assert parse_event(good) is not None
    for line in (b"", b"[]", b"{}", b'{"event": 3}', good.replace(b"0.5", b'"x"'), good.replace(b"0.5", b"7"), b"\xff",
                 b'{"event": "picture", "file": "../x.npy", "what": ""}', b"[" * 100_000):  # fmt: skip
        assert parse_event(line) is None, line[:60]


# -- pictures and libraries


def png(width: int, height: int, color: int = 80) -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (width, height), (color, 0, 0)).save(out, "PNG")
    return out.getvalue()


def test_equal_pictures_are_decoded_once(tmp_path: Path) -> None:
    (tmp_path / "one.png").write_bytes(png(64, 64))
    (tmp_path / "two.png").write_bytes(png(64, 64))
    lines = [f"newmtl m{i}\nmap_Kd {'one' if i % 2 else 'two'}.png" for i in range(60)]
    (tmp_path / "a.mtl").write_text("\n".join(lines))
    faces = "".join(f"usemtl m{i}\nf 1 2 3\n" for i in range(60))
    (tmp_path / "a.obj").write_text("mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\n" + faces)
    level = read_obj(tmp_path / "a.obj")
    assert len(level.images) == 2 and level.images[0].pixels is level.images[1].pixels
    assert {m.base_texture.image for m in level.materials if m.base_texture is not None} == {0, 1}


def test_all_pictures_of_a_level_share_one_budget(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(images, "MAX_DECODED_BYTES", 3 * 4 * 32 * 32)
    pictures = images.Pictures()
    for color in (1, 2, 3, 2, 1):
        pictures.decode(png(32, 32, color), "a", "here")
    with pytest.raises(LevelError, match="together"):
        pictures.decode(png(32, 32, 4), "a", "here")
    pictures.decode(png(32, 32, 3), "a", "here")


def test_a_sky_that_is_too_large_is_refused_before_memory_is_taken(tmp_path: Path) -> None:
    head = b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 4096 +X 16384\n"
    (tmp_path / "sky.hdr").write_bytes(head + b"\2\2\x40\0" * 10)
    with pytest.raises(LevelError, match="16384×4096"):
        read_sky_picture(tmp_path / "sky.hdr")


def test_pictures_with_spaces_in_their_names_and_options_before_them(tmp_path: Path) -> None:
    (tmp_path / "old oak wall.png").write_bytes(png(8, 8))
    (tmp_path / "a.mtl").write_text(
        "newmtl a\nmap_Kd old oak wall.png\nnewmtl b\nmap_Kd -s 2 2 1 -o 0.5 -clamp on old oak wall.png\n"
    )
    (tmp_path / "a.obj").write_text("mtllib a.mtl\nusemtl a\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\nusemtl b\nf 3 2 1\n")
    level = read_obj(tmp_path / "a.obj")
    assert [m.base_texture is not None for m in level.materials] == [False, True, True] and not level.notices


def test_a_library_named_again_and_again_is_read_once(tmp_path: Path) -> None:
    (tmp_path / "a.mtl").write_text("".join(f"newmtl m{i}\nKd 0.1 0.2 0.3\n" for i in range(5000)))
    (tmp_path / "a.obj").write_text("mtllib a.mtl\n" * 5000 + "v 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl m4999\nf 1 2 3\n")
    began = time.process_time()
    assert len(read_obj(tmp_path / "a.obj").materials) == 5001
    assert time.process_time() - began < 5


def test_a_face_of_very_many_corners_is_refused(tmp_path: Path) -> None:
    (tmp_path / "a.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf " + "1 2 3 " * limits.MAX_FACE_CORNERS + "\n")
    with pytest.raises(LevelError, match="corners"):
        read_obj(tmp_path / "a.obj")


# -- places are tried before the work


@pytest.mark.parametrize(
    "arguments",
    [["accuracy", "--out", "{}/nowhere/a.md"], ["bench", "--plot", "{}/nowhere/a.svg"], ["bench", "--scale", "nan"],
     ["bench", "--scale", "inf"]],
)  # fmt: skip
def test_a_place_that_cannot_be_written_is_told_before_the_work(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], arguments: list[str]
) -> None:
    (tmp_path / "file").write_text("")
    assert main([a.format(tmp_path) for a in arguments]) == 2
    assert len(capsys.readouterr().err.strip().splitlines()) == 1


@pytest.mark.parametrize(
    "name", ["a" * 5000, "a" * 5000 + ".glb", "a" * 300 + ".obj", "a\x00b", "a\x00b.glb", "a\x00b.obj", "."]
)
def test_a_level_path_that_no_file_can_have_is_told(tmp_path: Path, name: str) -> None:
    with pytest.raises(LevelError):
        open_level(tmp_path / name)


@pytest.mark.parametrize("value", [1e39, float("nan"), float("-inf"), 10**400])
def test_probes_of_no_light_are_refused(tmp_path: Path, value: float) -> None:
    probe = {"name": "a", "position": [0, 0, 0], "radiance": [[1.0, 1.0, 1.0]] * 9}
    path = tmp_path / PROBES
    path.write_text(json.dumps({"probes": [probe]}))
    assert read_probes(tmp_path) is not None
    path.write_text(json.dumps({"probes": [probe | {"radiance": [[value, 1.0, 1.0]] * 9}]}))
    with pytest.raises(ProjectError, match="probes"):
        read_probes(tmp_path)


LONG = "a" * 5000


@pytest.mark.parametrize(
    "words",
    [
        ("check", LONG),
        ("check", "level\0.glb"),
        ("bake", "LEVEL", "--out", "folder\0"),
        ("bake", "LEVEL", "--out", LONG),
        ("bake", "LEVEL", "--out", "OUT", "--recipe", LONG),
        ("meter", LONG, "0,0,0"),
        ("demo", "folder\0"),
    ],
)
def test_names_that_no_file_can_have_are_refused_in_one_line(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], words: tuple[str, ...]
) -> None:
    level = write(tmp_path / "level.gltf", document())
    told = {"LEVEL": str(level), "OUT": str(tmp_path / "out")}
    assert main([told.get(word, word) for word in words]) == 2
    said = capsys.readouterr().err
    assert said.startswith("ropebell: ") and said.count("\n") == 1


@pytest.mark.parametrize("name", [["KHR_lights_punctual"], {}, 3, None])
def test_an_extension_that_is_no_text_is_told(tmp_path: Path, name: Any) -> None:
    required, used = document(), document()
    required["extensionsRequired"], used["extensionsUsed"] = [name], [name]
    with pytest.raises(LevelError, match="requires the extension"):
        read_gltf(write(tmp_path / "a.gltf", required))
    assert "unread-extension" in {n.kind for n in read_gltf(write(tmp_path / "b.gltf", used)).notices}


@pytest.mark.parametrize("extras", [math.nan, {"a": [math.inf]}, "\ud800", {"\ud800": 1}])
def test_extras_that_cannot_be_written_again_are_left_out_and_told(tmp_path: Path, extras: Any) -> None:
    spoilt = document()
    spoilt["nodes"][0]["extras"] = extras
    level = read_gltf(write(tmp_path / "a.gltf", spoilt))
    assert level.nodes[0].extras is None and "unread-extension" in {n.kind for n in level.notices}
    assert plain_glb(level, "test")


@pytest.mark.parametrize("page", [1, -2, 10**30, "0", [0]])
def test_a_baked_level_on_pages_that_are_not_there_is_told(made: Path, tmp_path: Path, page: Any) -> None:
    folder = tmp_path / "spoilt"
    shutil.copytree(made / "builds" / "0001", folder)
    baked = folder / BAKED_LEVEL
    data = baked.read_bytes()
    size = int.from_bytes(data[12:16], "little")
    text = json.loads(data[20 : 20 + size])
    for mesh in text["meshes"]:
        for primitive in mesh["primitives"]:
            primitive["extras"] = {"lightmap_page": page}
    said = json.dumps(text).encode()
    said += b" " * (-len(said) % 4)
    head = data[:8] + (len(data) - size + len(said)).to_bytes(4, "little") + len(said).to_bytes(4, "little")
    baked.write_bytes(head + data[16:20] + said + data[20 + size :])
    with pytest.raises(ProjectError, match="page"):
        open_result(folder)


def test_a_cache_that_no_folder_can_be_is_told(made: Path, tmp_path: Path) -> None:
    folder = tmp_path / "spoilt"
    shutil.copytree(made / "builds" / "0001", folder)
    values = json.loads((folder / "manifest.json").read_text())
    values["cache"] = "a\0b"
    (folder / "manifest.json").write_text(json.dumps(values))
    with pytest.raises(ProjectError, match="cache"):
        open_result(folder)


def test_a_build_without_any_lightmap_is_read(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Unlit surfaces get no page, and say so."""
    unlit = document()
    unlit["materials"] = [{"extensions": {"KHR_materials_unlit": {}}}]
    unlit["meshes"][0]["primitives"][0]["material"] = 0
    level, out = write(tmp_path / "level.gltf", unlit), tmp_path / "out"
    assert main(["bake", str(level), "--out", str(out), "--sky", "100,100,100", "--recipe", "sketch"]) == 0
    assert read_manifest(out).pages == ()
    assert main(["meter", str(out), "0.5,0,-0.5"]) == 0
    assert "no surface" in capsys.readouterr().out
