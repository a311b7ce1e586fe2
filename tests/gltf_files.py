"""glTF documents made by hand, independent of the writer under test."""

from __future__ import annotations

import base64
import json
import struct
from pathlib import Path
from typing import Any

import numpy as np

SQUARE = np.array([[0, 0, 0], [1, 0, 0], [1, 0, -1], [0, 0, -1]], "<f4")
SQUARE_ORDER = np.array([0, 1, 2, 0, 2, 3], "<u2")


def document(positions: np.ndarray = SQUARE, order: np.ndarray | None = SQUARE_ORDER) -> dict[str, Any]:
    """A level of one mesh, its buffer as a data URI."""
    data = positions.astype("<f4").tobytes()
    views = [{"buffer": 0, "byteOffset": 0, "byteLength": len(data)}]
    accessors: list[dict[str, Any]] = [
        {"bufferView": 0, "componentType": 5126, "count": len(positions), "type": "VEC3"}
    ]
    primitive: dict[str, Any] = {"attributes": {"POSITION": 0}}
    if order is not None:
        views.append({"buffer": 0, "byteOffset": len(data), "byteLength": order.nbytes})
        code = {"<u1": 5121, "|u1": 5121, "<u2": 5123, "<u4": 5125}[order.dtype.str]
        accessors.append({"bufferView": 1, "componentType": code, "count": order.size, "type": "SCALAR"})
        primitive["indices"] = 1
        data += order.tobytes()
    uri = "data:application/octet-stream;base64," + base64.b64encode(data).decode()
    return {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"name": "floor", "mesh": 0}],
        "meshes": [{"name": "square", "primitives": [primitive]}],
        "accessors": accessors,
        "bufferViews": views,
        "buffers": [{"byteLength": len(data), "uri": uri}],
    }


def add_attribute(doc: dict[str, Any], name: str, values: np.ndarray, kind: str, code: int, **more: Any) -> None:
    """Give the first primitive another attribute, in a buffer of its own."""
    data = values.tobytes()
    uri = "data:;base64," + base64.b64encode(data).decode()
    doc["buffers"].append({"byteLength": len(data), "uri": uri})
    doc["bufferViews"].append({"buffer": len(doc["buffers"]) - 1, "byteLength": len(data)})
    view = len(doc["bufferViews"]) - 1
    doc["accessors"].append({"bufferView": view, "componentType": code, "count": len(values), "type": kind, **more})
    doc["meshes"][0]["primitives"][0]["attributes"][name] = len(doc["accessors"]) - 1


def write(path: Path, doc: dict[str, Any]) -> Path:
    """Write a document as `.gltf`."""
    path.write_text(json.dumps(doc))
    return path


def write_glb(path: Path, doc: dict[str, Any], binary: bytes) -> Path:
    """Write a document as `.glb` with a BIN chunk."""
    text = json.dumps(doc).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    chunks = struct.pack("<II", len(text), 0x4E4F534A) + text + struct.pack("<II", len(binary), 0x004E4942) + binary
    path.write_bytes(b"glTF" + struct.pack("<II", 2, 12 + len(chunks)) + chunks)
    return path
