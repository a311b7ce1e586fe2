"""glTF in: what is read, what is skipped with a warning, what is refused in one sentence."""

from __future__ import annotations

import base64
import io
import json
import math
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

import gltf_files as g
from ropebell.errors import LevelError
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten

Doc = dict[str, Any]


def area(path: Path) -> float:
    return float(flatten(open_level(path)).areas.sum())


def test_data_uri_file_and_glb_hold_the_same_level(tmp_path: Path) -> None:
    doc = g.document()
    data = base64.b64decode(doc["buffers"][0]["uri"].split(",")[1])
    assert area(g.write(tmp_path / "a.gltf", doc)) == pytest.approx(1.0)
    doc["buffers"][0]["uri"] = "my%20buffer.bin"
    (tmp_path / "my buffer.bin").write_bytes(data)
    assert area(g.write(tmp_path / "b.gltf", doc)) == pytest.approx(1.0)
    del doc["buffers"][0]["uri"]
    assert area(g.write_glb(tmp_path / "c.glb", doc, data)) == pytest.approx(1.0)


@pytest.mark.parametrize("kind", ["<u1", "<u2", "<u4"])
def test_index_types(tmp_path: Path, kind: str) -> None:
    assert area(g.write(tmp_path / "a.gltf", g.document(order=g.SQUARE_ORDER.astype(kind)))) == pytest.approx(1.0)


@pytest.mark.parametrize(
    ("mode", "order", "count"), [(4, None, 1), (5, [0, 1, 3, 2], 2), (6, [0, 1, 2, 3], 2), (5, [0, 1, 3], 1)]
)
def test_strips_fans_and_lists_face_up(tmp_path: Path, mode: int, order: list[int] | None, count: int) -> None:
    positions = g.SQUARE[:3] if order is None else g.SQUARE
    doc = g.document(positions, None if order is None else np.array(order, "<u2"))
    doc["meshes"][0]["primitives"][0]["mode"] = mode
    scene = flatten(open_level(g.write(tmp_path / "a.gltf", doc)))
    assert len(scene) == count
    np.testing.assert_allclose(scene.face_normals, [[0, 1, 0]] * count, atol=1e-6)


def test_node_transforms_compose_and_mirroring_keeps_the_outside(tmp_path: Path) -> None:
    doc = g.document()
    doc["nodes"] = [
        {"name": "group", "translation": [1, 2, 3], "scale": [2, 2, 2], "children": [1]},
        {"name": "floor", "mesh": 0, "rotation": [0, math.sin(math.pi / 4), 0, math.cos(math.pi / 4)], "children": [2]},
        {"name": "mirror", "mesh": 0, "matrix": [-1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 1, 0, 1]},
    ]
    scene = flatten(open_level(g.write(tmp_path / "a.gltf", doc)))
    assert scene.node_names == ("group", "group/floor", "group/floor/mirror")
    assert scene.areas.sum() == pytest.approx(8.0)
    np.testing.assert_allclose(scene.face_normals, [[0, 1, 0]] * 4, atol=1e-6)
    # A quarter turn about Y takes +X to −Z: the square's far corner (1, 0, −1) lands at (−1, 0, −1).
    floor = scene.corners[scene.node == 1].reshape(-1, 3)
    np.testing.assert_allclose(floor.min(axis=0), [-1, 2, 1], atol=1e-9)
    np.testing.assert_allclose(scene.corners[scene.node == 2][..., 1], 4.0, atol=1e-9)


def test_names_that_clash_or_are_missing_become_unique_paths(tmp_path: Path) -> None:
    doc = g.document()
    doc["nodes"] = [{"name": "a", "mesh": 0}, {"name": "a", "mesh": 0}, {"mesh": 0}, {"name": "a #2", "mesh": 0}]
    doc["scenes"][0]["nodes"] = [0, 1, 2, 3]
    paths = [n.path for n in open_level(g.write(tmp_path / "a.gltf", doc)).nodes]
    assert len(set(paths)) == 4
    assert paths[:3] == ["a", "a #2", "node 2"]


def test_lights_and_emission(tmp_path: Path) -> None:
    doc = g.document()
    spot = {"type": "spot", "intensity": 40, "range": 6, "spot": {"innerConeAngle": 0.2, "outerConeAngle": 0.5}}
    doc["extensions"] = {"KHR_lights_punctual": {"lights": [spot, {"type": "directional", "color": [1, 0.5, 0]}]}}
    doc["nodes"] += [
        {
            "name": "lamp",
            "extensions": {"KHR_lights_punctual": {"light": 0}},
            "rotation": [-math.sqrt(0.5), 0, 0, math.sqrt(0.5)],
        },
        {"name": "sun", "extensions": {"KHR_lights_punctual": {"light": 1}}},
    ]
    doc["scenes"][0]["nodes"] = [0, 1, 2]
    strength = {"KHR_materials_emissive_strength": {"emissiveStrength": 50.0}}
    doc["materials"] = [{"emissiveFactor": [1, 0.5, 0], "extensions": strength, "doubleSided": True}]
    doc["meshes"][0]["primitives"][0]["material"] = 0
    scene = flatten(open_level(g.write(tmp_path / "a.gltf", doc)))
    lamp, sun = scene.lights
    assert (lamp.kind, lamp.intensity, lamp.reach, lamp.inner_cone, lamp.outer_cone) == ("spot", 40, 6, 0.2, 0.5)
    np.testing.assert_allclose(lamp.direction, [0, -1, 0], atol=1e-9)
    np.testing.assert_allclose(sun.strength, [1, 0.5, 0])
    np.testing.assert_allclose(scene.emitters[0].radiance, [50, 25, 0])
    assert scene.double_sided.all()


def test_sparse_normalized_and_strided_accessors(tmp_path: Path) -> None:
    doc = g.document()
    g.add_attribute(
        doc, "TEXCOORD_1", np.array([[0, 0], [255, 0], [255, 255], [0, 255]], "u1"), "VEC2", 5121, normalized=True
    )
    # Lift the third corner by sparse replacement.
    moved = np.array([[1, 1, -1]], "<f4").tobytes()
    place = np.array([2], "<u2").tobytes()
    for data in (place, moved):
        uri = "data:;base64," + base64.b64encode(data).decode()
        doc["buffers"].append({"byteLength": len(data), "uri": uri})
        doc["bufferViews"].append({"buffer": len(doc["buffers"]) - 1, "byteLength": len(data)})
    views = len(doc["bufferViews"])
    doc["accessors"][0]["sparse"] = {
        "count": 1,
        "indices": {"bufferView": views - 2, "componentType": 5123},
        "values": {"bufferView": views - 1},
    }
    scene = flatten(open_level(g.write(tmp_path / "a.gltf", doc)))
    assert scene.corners[..., 1].max() == 1.0
    np.testing.assert_allclose(scene.uv1[0], [[0, 0], [1, 0], [1, 1]])


def png(pixels: np.ndarray) -> str:
    out = io.BytesIO()
    Image.fromarray(pixels.astype(np.uint8)).save(out, "PNG")
    return "data:image/png;base64," + base64.b64encode(out.getvalue()).decode()


def test_missing_and_damaged_pictures_are_noticed_not_fatal(tmp_path: Path) -> None:
    doc = g.document()
    doc["images"] = [{"uri": "gone.png"}, {"uri": "data:image/png;base64,AAAA"}, {"uri": png(np.zeros((2, 2, 3)))}]
    doc["textures"] = [{"source": 0}, {"source": 1}, {"source": 2}]
    doc["materials"] = [{"pbrMetallicRoughness": {"baseColorTexture": {"index": i}}} for i in range(3)]
    level = open_level(g.write(tmp_path / "a.gltf", doc))
    assert [n.kind for n in level.notices] == ["missing-texture", "missing-texture"]
    assert [m.base_texture is not None for m in level.materials[:3]] == [False, False, True]
    assert len(level.images) == 1


def test_points_lines_and_skins_are_skipped_with_a_warning(tmp_path: Path) -> None:
    doc = g.document()
    doc["meshes"][0]["primitives"].append({"attributes": {"POSITION": 0}, "mode": 1})
    doc["nodes"][0]["skin"] = 0
    doc["animations"] = [{}]
    level = open_level(g.write(tmp_path / "a.gltf", doc))
    assert {n.kind for n in level.notices} == {"not-triangles", "skin", "animations"}
    assert level.triangle_count() == 2


def deep(doc: Doc) -> None:
    doc["nodes"] = [{"children": [1]}, {"children": [0]}]


def nothing_there(doc: Doc) -> None:
    doc["buffers"][0]["uri"] = "gone.bin"


def change(path: str, value: Any) -> Callable[[Doc], None]:
    """Set one value, such as `nodes.0.mesh`."""

    def act(doc: Doc) -> None:
        *above, last = [int(p) if p.isdigit() else p for p in path.split(".")]
        target: Any = doc
        for part in above:
            target = target[part]
        target[last] = value

    return act


HOSTILE = {
    "cycle": (deep, "its own ancestor"),
    "missing buffer": (nothing_there, "no such file"),
    "mesh index": (change("nodes.0.mesh", 7), r"nodes.0..mesh \('floor'\) is 7"),
    "negative index": (change("nodes.0.mesh", -1), "outside"),
    "text index": (change("nodes.0.mesh", "0"), "not a whole number"),
    "infinite translation": (change("nodes.0.translation", [1e999, 0, 0]), "not finite"),
    "short translation": (change("nodes.0.translation", [1]), "not 3"),
    "zero quaternion": (change("nodes.0.rotation", [0, 0, 0, 0]), "length zero"),
    "overflowing scale": (change("nodes.0.scale", [1e300, 1e300, 1e300]), "not finite"),
    "huge accessor": (change("accessors.0.count", 10**8), "more than its buffer view"),
    "absurd accessor": (change("accessors.0.count", 10**18), "outside"),
    "unknown component": (change("accessors.0.componentType", 1), "does not know"),
    "wrong type": (change("accessors.0.type", "VEC2"), "VEC3 is needed"),
    "view past buffer": (change("bufferViews.0.byteLength", 10**6), "past the end"),
    "huge buffer": (change("buffers.0.byteLength", 10**12), "only"),
    "network": (change("buffers.0.uri", "http://example.invalid/a.bin"), "network addresses are not followed"),
    "absolute": (change("buffers.0.uri", "/etc/passwd"), "absolute paths are not followed"),
    "climbing": (change("buffers.0.uri", "../../secret.bin"), "leads out of"),
    "climbing encoded": (change("buffers.0.uri", "%2e%2e/%2e%2e/secret.bin"), "leads out of"),
    "bad base64": (change("buffers.0.uri", "data:;base64,@@@"), "not valid base64"),
    "draco": (change("extensionsRequired", ["KHR_draco_mesh_compression"]), "KHR_draco_mesh_compression"),
    "version": (change("asset", {"version": "1.0"}), "not glTF 2.0"),
    "nodes not a list": (change("nodes", {"a": 1}), "is not an array"),
    "child out of range": (change("nodes.0.children", [9]), "only 1 nodes"),
    "scene out of range": (change("scene", 4), "only 1"),
}


@pytest.mark.parametrize("case", HOSTILE)
def test_hostile_files_are_refused_in_one_sentence(tmp_path: Path, case: str) -> None:
    spoil, words = HOSTILE[case]
    doc = g.document()
    spoil(doc)
    path = tmp_path / "level.gltf"
    path.write_text(json.dumps(doc))
    with pytest.raises(LevelError, match=words) as caught:
        open_level(path)
    message = str(caught.value)
    assert "\n" not in message
    assert str(path) in message or "level.gltf" in message
    assert caught.value.remedy


def test_non_finite_positions_and_indices_out_of_range(tmp_path: Path) -> None:
    bad = g.SQUARE.copy()
    bad[2, 1] = np.nan
    with pytest.raises(LevelError, match="non-finite number at element 2"):
        open_level(g.write(tmp_path / "a.gltf", g.document(bad)))
    with pytest.raises(LevelError, match="name vertex 9 of 4"):
        open_level(g.write(tmp_path / "b.gltf", g.document(order=np.array([0, 1, 9], "<u2"))))
    with pytest.raises(LevelError, match="multiple of three"):
        open_level(g.write(tmp_path / "c.gltf", g.document(order=np.array([0, 1, 2, 3], "<u2"))))


@pytest.mark.parametrize("keep", [0, 3, 11, 19, 30, 200, -1])
def test_truncated_glb(tmp_path: Path, keep: int) -> None:
    doc = g.document()
    data = base64.b64decode(doc["buffers"][0].pop("uri").split(",")[1])
    whole = g.write_glb(tmp_path / "a.glb", doc, data).read_bytes()
    (tmp_path / "a.glb").write_bytes(whole[:keep])
    with pytest.raises(LevelError):
        open_level(tmp_path / "a.glb")


@pytest.mark.parametrize("text", ["", "{", "[]", "null", "{}", "[" * 100_000, '{"asset": 3}', "\x00\x01"])
def test_not_gltf_at_all(tmp_path: Path, text: str) -> None:
    (tmp_path / "a.gltf").write_text(text)
    with pytest.raises(LevelError):
        open_level(tmp_path / "a.gltf")


def test_a_picture_that_declares_too_much_is_left_out(tmp_path: Path) -> None:
    header = b"\x89PNG\r\n\x1a\n" + b"\x00\x00\x00\rIHDR" + (100_000).to_bytes(4, "big") * 2 + b"\x08\x02\x00\x00\x00"
    doc = g.document()
    doc["images"] = [{"uri": "data:image/png;base64," + base64.b64encode(header + b"\0" * 40).decode()}]
    assert open_level(g.write(tmp_path / "a.gltf", doc)).notices[0].kind == "missing-texture"


def test_many_nodes_and_deep_chains_are_read_without_recursion(tmp_path: Path) -> None:
    doc = g.document()
    doc["nodes"] = [{"children": [i + 1]} for i in range(5000)] + [{"mesh": 0}]
    assert len(open_level(g.write(tmp_path / "a.gltf", doc)).nodes) == 5001


def test_costs_that_grow_by_the_square_are_refused_by_name(tmp_path: Path) -> None:
    """Small files that would take gigabytes: deep chains of long names, many copies, many lights, many nodes."""
    head: dict[str, Any] = {"asset": {"version": "2.0"}, "scene": 0}
    chain = [{"name": "n" * 6000, "children": [i + 1]} for i in range(900)] + [{"name": "end"}]
    lit = {"extensions": {"KHR_lights_punctual": {"light": 0}}}
    lamps = {"KHR_lights_punctual": {"lights": [{"type": "point"}]}}
    cases = {
        "paths": {**head, "scenes": [{"nodes": [0]}], "nodes": chain},
        "nodes": {**head, "scenes": [{"nodes": [0]}], "nodes": [{}] * 200_001},
        "lights": {**head, "scenes": [{"nodes": list(range(20_001))}], "nodes": [lit] * 20_001, "extensions": lamps},
    }
    for word, document in cases.items():
        path = tmp_path / f"{word}.gltf"
        path.write_text(json.dumps(document))
        with pytest.raises(LevelError, match=word):
            open_level(path)
