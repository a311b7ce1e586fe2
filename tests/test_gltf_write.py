"""glTF out: round trips, and the official validator's word."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, recipe
from ropebell.build.result import open_result
from ropebell.demo.write import write_demo
from ropebell.level.brief import LightChange
from ropebell.level.gltf_write import plain_glb
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten

VALIDATOR = Path(__file__).parent.parent / "tools" / "validator"


def errors(path: Path) -> list[dict]:
    """What the official validator holds against a file."""
    if not shutil.which("node") or not (VALIDATOR / "node_modules").is_dir():
        if os.environ.get("CI"):
            pytest.fail("the glTF validator is not installed")
        pytest.skip("the glTF validator is not installed")
    command = ["node", str(VALIDATOR / "validate.js"), str(path)]
    issues = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
    return [m for m in issues["messages"] if m["severity"] <= 1 and m["code"] != "IMAGE_NPOT_DIMENSIONS"]


def test_demo_level_survives_writing_and_is_valid(tmp_path: Path) -> None:
    first = flatten(open_level(write_demo(tmp_path) / "tide-mill.glb"))
    again = tmp_path / "again.glb"
    again.write_bytes(plain_glb(open_level(tmp_path / "tide-mill.glb"), "test"))
    second = flatten(open_level(again))
    np.testing.assert_array_equal(first.corners, second.corners)
    assert first.node_names == second.node_names
    assert [e.name for e in first.emitters] == [e.name for e in second.emitters]
    assert errors(tmp_path / "tide-mill.glb") == []


def test_baked_level_is_valid_and_its_coordinates_fit_the_pages(tmp_path: Path) -> None:
    """Every triangle keeps its shape and place, and lies on texels that the page says are lit."""
    level = write_demo(tmp_path / "mill") / "tide-mill.glb"
    made = recipe("sketch", draft=8, density__page_size=128)
    manifest = bake(level, made, tmp_path / "out", sky=(100.0, 100.0, 100.0), lights={"lights/sun": LightChange(7.0)})
    assert len(manifest["pages"]) > 1
    assert errors(tmp_path / "out" / "level-baked.glb") == []
    before, result = flatten(open_level(level)), open_result(tmp_path / "out")
    assert result.scene.areas.sum() == pytest.approx(before.areas.sum(), rel=1e-6)
    assert result.scene.node_names == before.node_names
    sun = next(light for light in result.scene.lights if light.name == "lights/sun")
    assert sun.intensity == 7.0
    assert result.uv.min() >= 0 and result.uv.max() <= 128
    # Texels at the middle of open surfaces hold light of the sky.
    middle = result.uv.mean(axis=1).astype(int)
    value = result.total[result.page, middle[:, 1], middle[:, 0]].sum(axis=1)
    roof = np.array([name.startswith("structure/roof") for name in result.scene.node_names])[result.scene.node]
    top = roof & (result.scene.face_normals[:, 1] > 0.8)
    assert (value[top] > 0).mean() > 0.95


def test_shared_meshes_mirrored_nodes_and_second_sets_survive_a_bake(tmp_path: Path) -> None:
    import gltf_files as g

    doc = g.document()
    g.add_attribute(doc, "TEXCOORD_1", np.array([[0, 0], [1, 0], [1, 1], [0, 1]], "<f4"), "VEC2", 5126)
    doc["nodes"] = [{"mesh": 0, "name": "a"}, {"mesh": 0, "name": "b", "scale": [-2, 1, 1], "translation": [-1, 0, 0]}]
    doc["scenes"][0]["nodes"] = [0, 1]
    path = g.write(tmp_path / "level.gltf", doc)
    bake(path, recipe("sketch"), sky=(1.0, 1.0, 1.0))
    result = open_result(tmp_path / "out")
    np.testing.assert_allclose(result.scene.face_normals, [[0, 1, 0]] * 4, atol=1e-6)
    assert errors(tmp_path / "out" / "level-baked.glb") == []
    middle = result.uv.mean(axis=1).astype(int)
    np.testing.assert_allclose(result.total[result.page, middle[:, 1], middle[:, 0]], np.pi, rtol=1e-3)
