"""Meshes of a glTF document: primitives as plain indexed triangles."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.errors import LevelError
from ropebell.level.gltf_accessors import Accessors
from ropebell.level.gltf_document import MOST_NAMED, Json
from ropebell.level.limits import MAX_TRIANGLES
from ropebell.level.model import F32, I32, Mesh, Notice, Primitive

TRIANGLES, STRIP, FAN = 4, 5, 6
# Nodes of a mesh that a message names.
MOST_USERS = 3
COMPRESSED = ("KHR_draco_mesh_compression", "EXT_meshopt_compression")


def read_meshes(root: Json, accessors: Accessors, material_count: int, notices: list[Notice]) -> list[Mesh]:
    """All meshes; primitives that are not triangles are left out and noticed.

    Args:
        material_count: number of materials the file declares; a primitive without one gets that index.

    Raises:
        LevelError: one cannot be read; it says which mesh that is, and of what nodes.
    """
    meshes = []
    for number, spec in enumerate(root.children("meshes")):
        try:
            primitives = [_read_primitive(p, accessors, material_count, notices) for p in spec.children("primitives")]
        except LevelError as error:
            raise LevelError(f"{error.what} ({_whose(root, number, spec)})", error.where, error.remedy) from error
        meshes.append(Mesh(spec.text("name", "") or spec.place, tuple(p for p in primitives if p is not None)))
    return meshes


def _whose(root: Json, number: int, spec: Json) -> str:
    """Words for a mesh and the nodes that have it: a number in a file says nothing to whoever made the level."""
    nodes = [node for node in root.array("nodes") if isinstance(node, dict) and node.get("mesh") == number]
    names = [f"'{str(node.get('name', ''))[:MOST_NAMED]}'" for node in nodes if node.get("name")]
    more = f" and {len(nodes) - MOST_USERS} more" if len(nodes) > MOST_USERS else ""
    mesh = str(spec.value.get("name", ""))[:MOST_NAMED]
    return f"mesh {repr(mesh) if mesh else number} of node {', '.join(names[:MOST_USERS]) or 'none with a name'}{more}"


def _read_primitive(spec: Json, accessors: Accessors, material_count: int, notices: list[Notice]) -> Primitive | None:
    mode = spec.integer("mode", TRIANGLES)
    if mode not in (TRIANGLES, STRIP, FAN):
        notices.append(Notice("not-triangles", spec.place, "Points and lines carry no light and are left out."))
        return None
    if any(spec.child("extensions").has(name) for name in COMPRESSED):
        raise spec.wrong("is compressed, which is not supported", remedy="Export the level without compression")
    attributes = spec.child("attributes")
    if not attributes.has("POSITION"):
        notices.append(Notice("no-positions", spec.place, "A primitive without positions is left out."))
        return None
    if spec.has("targets"):
        notices.append(Notice("morph-targets", spec.place, "Morph targets are left out; the base shape is baked."))
    positions = _vectors(attributes, "POSITION", "VEC3", accessors)
    assert positions is not None
    triangles = _triangles(spec, accessors, mode, len(positions))
    return Primitive(
        positions=positions,
        triangles=triangles,
        material=spec.index("material", material_count, default=material_count),
        normals=_unit(_vectors(attributes, "NORMAL", "VEC3", accessors, len(positions))),
        uv0=_vectors(attributes, "TEXCOORD_0", "VEC2", accessors, len(positions)),
        uv1=_vectors(attributes, "TEXCOORD_1", "VEC2", accessors, len(positions)),
    )


def _vectors(attributes: Json, key: str, kind: str, accessors: Accessors, count: int | None = None) -> F32 | None:
    if not attributes.has(key):
        return None
    values = accessors.read(attributes.index(key, len(accessors)), kind)
    if count is not None and len(values) != count:
        raise attributes.wrong(f"has {len(values)} entries for {count} positions", key)
    return np.ascontiguousarray(values, dtype=np.float32)


def _unit(normals: F32 | None) -> F32 | None:
    """Normals scaled to length one; zero ones stay zero and are replaced by the face's own later."""
    if normals is None:
        return None
    length = np.linalg.norm(normals.astype(np.float64), axis=1, keepdims=True)
    found: F32 | None = np.divide(normals, length, out=np.zeros_like(normals), where=length > 1e-12, casting="unsafe")
    return found


def _triangles(spec: Json, accessors: Accessors, mode: int, vertex_count: int) -> I32:
    order: NDArray[Any]
    if spec.has("indices"):
        order = accessors.read(spec.index("indices", len(accessors)), "SCALAR")
        if order.dtype.kind != "u":
            raise spec.wrong("are not unsigned whole numbers", "indices")
        if int(order.max()) >= vertex_count:
            raise spec.wrong(f"name vertex {int(order.max())} of {vertex_count}", "indices")
    else:
        order = np.arange(vertex_count)
    if len(order) > 3 * MAX_TRIANGLES:
        raise spec.wrong(f"has {len(order):,} indices", remedy="Split the level")
    order = order.astype(np.int32)
    if mode == TRIANGLES:
        if len(order) % 3:
            raise spec.wrong(f"has {len(order)} corners, not a multiple of three")
        return order.reshape(-1, 3)
    if len(order) < 3:
        raise spec.wrong(f"has only {len(order)} corners")
    if mode == FAN:
        return np.stack([order[1:-1], order[2:], np.full(len(order) - 2, order[0])], axis=1).astype(np.int32)
    strip = np.stack([order[:-2], order[1:-1], order[2:]], axis=1)
    strip[1::2] = strip[1::2][:, [1, 0, 2]]
    return strip.astype(np.int32)
