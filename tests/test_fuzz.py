"""Levels from strangers: whatever is in them, the answer is a level or one plain sentence."""

from __future__ import annotations

import copy
import json
from pathlib import Path
from typing import Any

import numpy as np
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

import gltf_files as g
from ropebell.checks.run import check
from ropebell.checks.subject import Subject
from ropebell.errors import LevelError
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten

HUGE = 5.9e20  # metres: no whole number of texels can count that
QUIET = settings(max_examples=250, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
NASTY = st.one_of(
    st.none(), st.booleans(), st.integers(-(2**70), 2**70), st.floats(), st.text(max_size=8),
    st.lists(st.integers(-2, 5), max_size=4), st.dictionaries(st.text(max_size=3), st.integers(), max_size=2),
)  # fmt: skip


def rich_document() -> dict[str, Any]:
    """A document that uses every table the reader knows."""
    doc = g.document()
    g.add_attribute(doc, "NORMAL", np.array([[0, 1, 0]] * 4, "<f4"), "VEC3", 5126)
    g.add_attribute(doc, "TEXCOORD_0", np.array([[0, 0], [1, 0], [1, 1], [0, 1]], "<f4"), "VEC2", 5126)
    doc["materials"] = [
        {
            "name": "m",
            "pbrMetallicRoughness": {"baseColorFactor": [1, 0.5, 0.5, 1], "baseColorTexture": {"index": 0}},
            "emissiveFactor": [1, 1, 1],
            "extensions": {"KHR_materials_emissive_strength": {"emissiveStrength": 5}},
        }
    ]
    doc["meshes"][0]["primitives"][0]["material"] = 0
    doc["textures"] = [{"source": 0, "sampler": 0}]
    doc["samplers"] = [{"wrapS": 33071}]
    doc["images"] = [{"uri": "picture.png"}]
    doc["extensions"] = {"KHR_lights_punctual": {"lights": [{"type": "spot", "spot": {"outerConeAngle": 0.5}}]}}
    doc["nodes"].append({"rotation": [0, 0, 0, 1], "extensions": {"KHR_lights_punctual": {"light": 0}}})
    doc["nodes"][0].update({"children": [1], "scale": [1, 2, 1]})
    return doc


def places(value: Any, path: tuple = ()) -> list[tuple]:
    """Every place in a document."""
    found = [path] if path else []
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in items:
        found += places(inner, (*path, key))
    return found


RICH = rich_document()
PLACES = places(RICH)


def read(path: Path) -> None:
    """What every command does first."""
    try:
        level = open_level(path)
        scene = flatten(level)
    except LevelError as error:
        assert "\n" not in str(error) and error.what
        return
    assert np.isfinite(scene.corners).all() and np.isfinite(scene.normals).all()
    for finding in check(Subject(level, scene, sky=(1.0, 1.0, 1.0))):
        assert finding.reason and finding.remedy


@QUIET
@given(st.sampled_from(PLACES), NASTY)
def test_any_value_anywhere_in_a_document(tmp_path: Path, place: tuple, value: Any) -> None:
    doc = copy.deepcopy(RICH)
    target: Any = doc
    for key in place[:-1]:
        target = target[key]
    target[place[-1]] = value
    read(g.write(tmp_path / "a.gltf", doc))


@QUIET
@given(st.sampled_from(PLACES))
def test_anything_may_be_missing(tmp_path: Path, place: tuple) -> None:
    doc = copy.deepcopy(RICH)
    target: Any = doc
    for key in place[:-1]:
        target = target[key]
    del target[place[-1]]
    read(g.write(tmp_path / "a.gltf", doc))


@QUIET
@given(st.integers(0, 10_000), st.binary(min_size=1, max_size=6))
def test_bytes_overwritten_in_a_binary_file(tmp_path: Path, at: int, junk: bytes) -> None:
    whole = bytearray(g.write_glb(tmp_path / "a.glb", {**g.document(), "extra": [1]}, b"\1" * 40).read_bytes())
    at %= len(whole)
    whole[at : at + len(junk)] = junk
    (tmp_path / "a.glb").write_bytes(whole)
    read(tmp_path / "a.glb")


@QUIET
@given(st.lists(st.text("vftnu/ 0123456789-.e#\\omlibs", max_size=18), max_size=12))
def test_any_lines_in_an_obj(tmp_path: Path, lines: list[str]) -> None:
    (tmp_path / "a.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 0 -1\n" + "\n".join(lines))
    read(tmp_path / "a.obj")


@QUIET
@example([HUGE, 0.0, 0.0, 0.0, 0.0, HUGE, 0.0, HUGE, 0.0])
@given(st.lists(st.floats(allow_nan=True, allow_infinity=True, width=32), min_size=9, max_size=9))
def test_any_triangle_at_all(tmp_path: Path, numbers: list[float]) -> None:
    """Degenerate, huge, denormal, non-finite: read, left out or refused — never a non-finite scene."""
    positions = np.array(numbers, "<f4").reshape(3, 3)
    doc = g.document(positions, None)
    (tmp_path / "a.gltf").write_text(json.dumps(doc))
    read(tmp_path / "a.gltf")
