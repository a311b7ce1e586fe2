"""Wavefront OBJ and MTL in."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from ropebell.errors import LevelError
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten

SQUARE = "v 0 0 0\nv 1 0 0\nv 1 0 -1\nv 0 0 -1\n"


def obj(folder: Path, text: str, mtl: str = "") -> Path:
    (folder / "a.mtl").write_text(mtl)
    (folder / "a.obj").write_text(text)
    return folder / "a.obj"


def test_objects_materials_polygons_and_relative_indices(tmp_path: Path) -> None:
    text = f"mtllib a.mtl\n{SQUARE}o floor\nusemtl red\nf 1 2 3 4\no lamp\nusemtl glow\nf -4 -3 -2\n"
    mtl = "newmtl red\nKd 0.5 0.1 0.1\nnewmtl glow\nKe 10 20 30\n"
    level = open_level(obj(tmp_path, text, mtl))
    scene = flatten(level)
    assert [n.path for n in level.nodes] == ["floor", "lamp"]
    assert len(scene) == 3
    np.testing.assert_allclose(scene.face_normals, [[0, 1, 0]] * 3, atol=1e-6)
    assert level.materials[scene.material[0]].base_color[:3] == (0.5, 0.1, 0.1)
    np.testing.assert_allclose(scene.emitters[0].radiance, [10, 20, 30])


def test_picture_coordinates_are_turned_to_gltf(tmp_path: Path) -> None:
    Image.fromarray(np.full((2, 2, 3), 200, np.uint8)).save(tmp_path / "p.png")
    text = f"mtllib a.mtl\n{SQUARE}vt 0 0\nvt 1 0.25\nusemtl m\nf 1/1 2/2 3/2\n"
    level = open_level(obj(tmp_path, text, "newmtl m\nmap_Kd p.png\n"))
    assert level.materials[-1].base_texture is not None
    np.testing.assert_allclose(flatten(level).uv0[0], [[0, 1], [1, 0.75], [1, 0.75]])


def test_missing_library_and_unknown_lines_are_noticed(tmp_path: Path) -> None:
    level = open_level(obj(tmp_path, f"mtllib gone.mtl\n{SQUARE}usemtl x\nwhatever 1\nf 1 2 3\n"))
    assert {n.kind for n in level.notices} == {"missing-materials", "unknown-material", "unread-line"}


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("f 1 2 3\n", "names entry 1 of 0"),
        (f"{SQUARE}f 1 2\n", "only 2 corners"),
        (f"{SQUARE}f 1 2 9\n", "names entry 9 of 4"),
        (f"{SQUARE}f 0 1 2\n", "names entry 0"),
        (f"{SQUARE}f a b c\n", "not a face corner"),
        ("v 1 2\n", "2 numbers, 3 are needed"),
        ("v 1 2 nan\n", "non-finite"),
        ("v x y z\n", "not a list of numbers"),
        (SQUARE, "no faces"),
        (f"mtllib /etc/passwd\n{SQUARE}f 1 2 3\n", "absolute paths"),
        (f"mtllib ../../x.mtl\n{SQUARE}f 1 2 3\n", "leads out of"),
    ],
)
def test_bad_files_name_the_line(tmp_path: Path, text: str, words: str) -> None:
    with pytest.raises(LevelError, match=words) as caught:
        open_level(obj(tmp_path, text))
    assert "a.obj" in str(caught.value)


def test_wrong_suffix_folder_and_missing_file(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text("x")
    for path, words in (
        (tmp_path / "a.txt", "not levels"),
        (tmp_path, "a folder"),
        (tmp_path / "b.obj", "no such file"),
    ):
        with pytest.raises(LevelError, match=words):
            open_level(path)


@pytest.mark.parametrize("line", ["mtllib {}.mtl", "mtllib {}/a.mtl"])
def test_a_reference_longer_than_any_file_name_is_told(tmp_path: Path, line: str) -> None:
    path = tmp_path / "a.obj"
    path.write_text(f"{line.format('a' * 1000)}\nv 0 0 0\nv 1 0 0\nv 0 0 1\nf 1 2 3\n")
    with pytest.raises(LevelError, match="longer than any file name"):
        open_level(path)
