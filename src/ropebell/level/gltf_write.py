"""`Level` to binary glTF, with lightmap coordinates per placed object in TEXCOORD_1."""

from __future__ import annotations

import base64
import json
import math
import struct
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.level.brief import NO_BRIEF, Brief, LightChange
from ropebell.level.gltf_container import CHUNK_BIN, CHUNK_JSON
from ropebell.level.gltf_materials import STRENGTH, TRANSFORM, UNLIT
from ropebell.level.gltf_nodes import PUNCTUAL
from ropebell.level.model import AREA_KINDS, F32, I32, Level, Light, Material, TextureUse
from ropebell.level.placed_light import changed_light
from ropebell.level.scene import Scene

ARRAY, ELEMENT = 34962, 34963
# A PNG of one pixel that points straight up.
FLAT_RELIEF = base64.b64decode(
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAIAAACQd1PeAAAADElEQVR4nGNoaPgPAAODAgAApfuJAAAAAElFTkSuQmCC"
)


@dataclass(frozen=True, eq=False)
class LightmapPlacement:
    """Where every scene triangle lies on the lightmap pages.

    Attributes:
        uv: (T, 3, 2) float32, 0 … 1 on the page, v counted from the top row.
        page: (T,) int32, −1 for what has no lightmap.
    """

    uv: F32
    page: I32


class _Buffer:
    """The binary chunk and the accessors into it."""

    def __init__(self) -> None:
        self.data = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []

    def view(self, data: bytes, target: int | None = None) -> int:
        self.data += b"\x00" * (-len(self.data) % 4)
        view: dict[str, Any] = {"buffer": 0, "byteOffset": len(self.data), "byteLength": len(data)}
        if target is not None:
            view["target"] = target
        self.data += data
        self.views.append(view)
        return len(self.views) - 1

    def vectors(self, values: NDArray[Any], bounds: bool = False) -> int:
        values = np.ascontiguousarray(values, dtype="<f4")
        accessor: dict[str, Any] = {
            "bufferView": self.view(values.tobytes(), ARRAY),
            "componentType": 5126,
            "count": len(values),
            "type": f"VEC{values.shape[1]}",
        }
        if bounds:
            accessor["min"] = [float(v) for v in values.min(axis=0)]
            accessor["max"] = [float(v) for v in values.max(axis=0)]
        self.accessors.append(accessor)
        return len(self.accessors) - 1

    def indices(self, values: NDArray[Any]) -> int:
        small = int(values.max()) < 65535
        data = np.ascontiguousarray(values, dtype="<u2" if small else "<u4")
        view = self.view(data.tobytes(), ELEMENT)
        kind = 5123 if small else 5125
        self.accessors.append({"bufferView": view, "componentType": kind, "count": data.size, "type": "SCALAR"})
        return len(self.accessors) - 1


def baked_glb(level: Level, scene: Scene, placement: LightmapPlacement, brief: Brief, generator: str) -> bytes:
    """The level as `.glb` with lightmap coordinates.

    Every placed mesh becomes a mesh of its own, since its coordinates are its own; a primitive whose charts
    lie on several pages is split. The page is in `extras.lightmap_page` of each primitive.

    Args:
        scene: the flattened level, in whose triangle order `placement` is.
        brief: whose light settings are written into the lights, and whose looks into the glowing materials.
    """
    looks = brief.looks
    seen = tuple(replace(m, emission=looks.get(m.name, m.emission)) for m in level.materials)
    level = replace(level, materials=seen)
    buffer = _Buffer()
    writer = _Materials(level, buffer)
    meshes: list[dict[str, Any]] = []
    mesh_of: dict[int, int] = {}
    keep_uv1 = any(m.base_texture is not None and m.base_texture.texcoord == 1 for m in level.materials)
    for node, first, end in scene.node_ranges():
        primitives = _primitives(level, scene, placement, node, first, end, buffer, keep_uv1)
        mesh_of[node] = len(meshes)
        meshes.append({"name": level.meshes[level.nodes[node].mesh].name, "primitives": primitives})
    document = _document(level, meshes, mesh_of, writer, buffer, brief, generator)
    return _glb(document, bytes(buffer.data))


def plain_glb(level: Level, generator: str) -> bytes:
    """The level as it is, as `.glb`; placed meshes share their data."""
    buffer = _Buffer()
    writer = _Materials(level, buffer, keep_sets=True)
    meshes = []
    for mesh in level.meshes:
        primitives = []
        for p in mesh.primitives:
            attributes = {"POSITION": buffer.vectors(p.positions, bounds=True)}
            for name, values in (("NORMAL", p.normals), ("TEXCOORD_0", p.uv0), ("TEXCOORD_1", p.uv1)):
                if values is not None:
                    attributes[name] = buffer.vectors(values)
            indices = buffer.indices(p.triangles.ravel())
            primitives.append({"attributes": attributes, "indices": indices, "material": p.material})
        meshes.append({"name": mesh.name, "primitives": primitives})
    mesh_of = {i: node.mesh for i, node in enumerate(level.nodes) if node.mesh >= 0}
    return _glb(_document(level, meshes, mesh_of, writer, buffer, NO_BRIEF, generator), bytes(buffer.data))


def _primitives(
    level: Level, scene: Scene, placement: LightmapPlacement, node: int, first: int, end: int, buffer: _Buffer,
    keep_uv1: bool,
) -> list[dict[str, Any]]:  # fmt: skip
    mirrored = np.linalg.det(level.nodes[node].world[:3, :3]) < 0
    span = np.arange(first, end)
    found = []
    groups, owner = np.unique(
        np.stack([scene.primitive[span], placement.page[span]], axis=1), axis=0, return_inverse=True
    )
    for number, (primitive, page) in enumerate(groups):
        triangles = span[owner.ravel() == number]
        source = level.meshes[level.nodes[node].mesh].primitives[primitive]
        vertices = scene.vertices[triangles]
        uv = placement.uv[triangles]
        if mirrored:
            vertices, uv = vertices[:, [0, 2, 1]], uv[:, [0, 2, 1]]
        # A vertex on the border of two charts has a place in each: it is written once per place.
        keys = np.concatenate([vertices.reshape(-1, 1).astype(np.int64), uv.reshape(-1, 2).view(np.int32)], axis=1)
        _, at, index = np.unique(keys, axis=0, return_index=True, return_inverse=True)
        taken = vertices.reshape(-1)[at]
        attributes = {"POSITION": buffer.vectors(source.positions[taken], bounds=True)}
        if page >= 0:
            attributes["TEXCOORD_1"] = buffer.vectors(uv.reshape(-1, 2)[at])
        if source.normals is not None and (np.abs(source.normals[taken]).max(axis=1) > 0).all():
            attributes["NORMAL"] = buffer.vectors(source.normals[taken])
        uv0 = source.uv0[taken] if source.uv0 is not None else np.zeros((len(taken), 2), np.float32)
        attributes["TEXCOORD_0"] = buffer.vectors(uv0)
        if keep_uv1:
            uv1 = source.uv1[taken] if source.uv1 is not None else np.zeros((len(taken), 2), np.float32)
            attributes["TEXCOORD_2"] = buffer.vectors(uv1)
        found.append(
            {
                "attributes": attributes,
                "indices": buffer.indices(index.ravel()),
                "material": int(source.material),
                "extras": {"lightmap_page": int(page)},
            }
        )
    return found


class _Materials:
    """Materials, textures, samplers and images."""

    def __init__(self, level: Level, buffer: _Buffer, keep_sets: bool = False) -> None:
        self._keep_sets = keep_sets
        self.textures: list[dict[str, Any]] = []
        self.samplers: list[dict[str, Any]] = []
        self.used: set[str] = set()
        # Of a relief a level knows that there is one: where it is written as it is, a flat picture stands for it.
        self._flat = len(level.images) if keep_sets and any(m.relief for m in level.materials) else -1
        self.materials = [self._material(m) for m in level.materials]
        self.images = [{"name": i.name, "mimeType": i.mime, "bufferView": buffer.view(i.data)} for i in level.images]
        if self._flat >= 0:
            self.images.append({"name": "flat", "mimeType": "image/png", "bufferView": buffer.view(FLAT_RELIEF)})

    def _material(self, m: Material) -> dict[str, Any]:
        surface: dict[str, Any] = {
            "baseColorFactor": list(m.base_color),
            "metallicFactor": 0.0,
            "roughnessFactor": 1.0,
        }
        if m.base_texture is not None:
            surface["baseColorTexture"] = self._texture(m.base_texture)
        spec: dict[str, Any] = {
            "name": m.name,
            "pbrMetallicRoughness": surface,
            "doubleSided": m.double_sided,
        }
        if m.alpha_mode != "OPAQUE":
            spec["alphaMode"] = m.alpha_mode
        if m.alpha_mode == "MASK":
            spec["alphaCutoff"] = m.alpha_cutoff
        extensions: dict[str, Any] = {}
        strength = max(m.emission)
        if strength > 0:
            spec["emissiveFactor"] = [v / max(strength, 1.0) for v in m.emission]
            if strength > 1:
                extensions[STRENGTH] = {"emissiveStrength": strength}
        if m.emission_texture is not None:
            spec["emissiveTexture"] = self._texture(m.emission_texture)
        if m.relief and self._flat >= 0:
            spec["normalTexture"] = self._texture(TextureUse(self._flat))
        if m.unlit:
            extensions[UNLIT] = {}
        if extensions:
            spec["extensions"] = extensions
            self.used |= set(extensions)
        return spec

    def _texture(self, use: TextureUse) -> dict[str, Any]:
        sampler = {"wrapS": use.wrap[0], "wrapT": use.wrap[1], "magFilter": 9729, "minFilter": 9987}
        if sampler not in self.samplers:
            self.samplers.append(sampler)
        texture = {"source": use.image, "sampler": self.samplers.index(sampler)}
        if texture not in self.textures:
            self.textures.append(texture)
        # The lightmap takes set 1; pictures that used it read set 2.
        texcoord = 2 if use.texcoord == 1 and not self._keep_sets else use.texcoord
        spec: dict[str, Any] = {"index": self.textures.index(texture), "texCoord": texcoord}
        if not np.array_equal(use.affine, np.eye(2, 3)):
            self.used.add(TRANSFORM)
            spec["extensions"] = {TRANSFORM: _transform(use)}
        return spec


def _transform(use: TextureUse) -> dict[str, Any]:
    a = use.affine
    turn = math.atan2(-a[1, 0], a[0, 0])
    scale_y = a[1, 1] * math.cos(turn) + a[0, 1] * math.sin(turn)
    scale = [float(math.hypot(a[0, 0], a[1, 0])), float(scale_y)]
    return {"offset": [float(a[0, 2]), float(a[1, 2])], "rotation": turn, "scale": scale}


def _light(light: Light, change: LightChange) -> dict[str, Any]:
    light = changed_light(light, change)
    spec: dict[str, Any] = {
        "name": light.name,
        "type": light.kind,
        "color": list(light.color),
        # The format knows no light that subtracts.
        "intensity": light.intensity if change.enabled and not change.subtracts else 0.0,
    }
    if light.reach is not None and light.kind != "directional":
        spec["range"] = light.reach
    if light.kind == "spot":
        spec["spot"] = {"innerConeAngle": light.inner_cone, "outerConeAngle": light.outer_cone}
    return spec


def _nodes(
    level: Level, mesh_of: dict[int, int], brief: Brief
) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:  # fmt: skip
    """The nodes, and the lights that some of them carry."""
    nodes: list[dict[str, Any]] = []
    lights: list[dict[str, Any]] = []
    for index, node in enumerate(level.nodes):
        spec: dict[str, Any] = {"name": node.name}
        if node.extras is not None:
            spec["extras"] = node.extras
        if not np.array_equal(node.local, np.eye(4)):
            spec["matrix"] = [float(v) for v in node.local.T.ravel()]
        if index in mesh_of:
            spec["mesh"] = mesh_of[index]
        if node.light >= 0 and level.lights[node.light].kind in AREA_KINDS:
            # The format knows no lights with an area: they are told beside it.
            change = brief.light(node.path)
            told = {k: getattr(change, k) for k in ("intensity", "color", "width", "height", "size", "roll")}
            shape = {key: value for key, value in told.items() if value is not None}
            kept = node.extras if isinstance(node.extras, dict) else {}
            spec["extras"] = {**kept, "area_light": {"kind": level.lights[node.light].kind, **shape}}
        elif node.light >= 0:
            spec["extensions"] = {PUNCTUAL: {"light": len(lights)}}
            lights.append(_light(level.lights[node.light], brief.light(node.path)))
        nodes.append(spec)
    for index, node in enumerate(level.nodes):
        if node.parent >= 0:
            nodes[node.parent].setdefault("children", []).append(index)
    return nodes, lights


def _document(
    level: Level, meshes: list[dict[str, Any]], mesh_of: dict[int, int], writer: _Materials, buffer: _Buffer,
    brief: Brief, generator: str,
) -> dict[str, Any]:  # fmt: skip
    nodes, lights = _nodes(level, mesh_of, brief)
    document: dict[str, Any] = {"asset": {"version": "2.0", "generator": generator}, "scene": 0}
    roots = [i for i, node in enumerate(level.nodes) if node.parent < 0]
    document["scenes"] = [{"nodes": roots}] if roots else [{}]
    if lights:
        writer.used.add(PUNCTUAL)
        document["extensions"] = {PUNCTUAL: {"lights": lights}}
    tables = {
        "nodes": nodes,
        "meshes": meshes,
        "materials": writer.materials if meshes else [],
        "textures": writer.textures,
        "samplers": writer.samplers,
        "images": writer.images,
        "accessors": buffer.accessors,
        "bufferViews": buffer.views,
        "extensionsUsed": sorted(writer.used),
        "buffers": [{"byteLength": len(buffer.data)}] if buffer.data else [],
    }
    document.update({key: table for key, table in tables.items() if table})
    return document


def _glb(document: dict[str, Any], binary: bytes) -> bytes:
    text = json.dumps(document, separators=(",", ":"), ensure_ascii=False, allow_nan=False).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\x00" * (-len(binary) % 4)
    chunks = struct.pack("<II", len(text), CHUNK_JSON) + text
    if binary:
        chunks += struct.pack("<II", len(binary), CHUNK_BIN) + binary
    return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks
