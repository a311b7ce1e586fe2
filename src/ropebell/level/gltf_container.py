"""The outer shell of glTF 2.0: `.gltf` JSON, `.glb` chunks, buffers from files, data URIs or the BIN chunk."""

from __future__ import annotations

import base64
import binascii
import json
import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import unquote_to_bytes

from ropebell.errors import LevelError
from ropebell.level.limits import MAX_FILE_BYTES, MAX_JSON_BYTES, beside, read_limited

AGAIN = "Export the level again"
CHUNK_JSON, CHUNK_BIN = 0x4E4F534A, 0x004E4942


@dataclass(frozen=True, eq=False)
class Container:
    """A glTF document with the bytes of its buffers not yet resolved.

    Attributes:
        path: the file it came from; references are relative to its folder.
        json: the parsed document.
        binary: the BIN chunk of a `.glb`, or None.
        files: others that were looked for beside it, noted as they are.
    """

    path: Path
    json: dict[str, Any]
    binary: bytes | None
    files: list[Path] = field(default_factory=list)


def read_container(path: Path) -> Container:
    """Read a `.gltf` or `.glb` file; the content decides, not the extension.

    Raises:
        LevelError: unreadable, truncated, not glTF, or not version 2.x.
    """
    data = read_limited(path)
    text, binary = _split_glb(data, path) if data[:4] == b"glTF" else (data, None)
    if len(text) > MAX_JSON_BYTES:
        raise LevelError(f"its JSON part has {len(text):,} bytes", path, "Split the level")
    document = _parse_json(text, path)
    asset = document.get("asset")
    version = asset.get("version") if isinstance(asset, dict) else None
    if not isinstance(version, str) or not version.startswith("2."):
        raise LevelError(f"it is not glTF 2.0 (asset.version is {version!r})", path, "Export the level as glTF 2.0")
    return Container(path, document, binary)


def _parse_json(text: bytes, path: Path) -> dict[str, Any]:
    try:
        document = json.loads(text.decode("utf-8-sig"))
    except RecursionError as error:
        raise LevelError("its JSON is nested too deeply", path, AGAIN) from error
    except json.JSONDecodeError as error:
        place = f"{path}, line {error.lineno}, column {error.colno}"
        raise LevelError(f"it is not valid JSON ({error.msg})", place, AGAIN) from error
    except (UnicodeDecodeError, ValueError) as error:
        raise LevelError("it is neither glTF JSON nor binary glTF", path, AGAIN) from error
    if not isinstance(document, dict):
        raise LevelError("its JSON is not an object", path, AGAIN)
    return document


def _split_glb(data: bytes, path: Path) -> tuple[bytes, bytes | None]:
    if len(data) < 20:
        raise LevelError(f"the binary glTF is cut off after {len(data)} bytes", path, AGAIN)
    version, length = struct.unpack_from("<II", data, 4)
    if version != 2:
        raise LevelError(f"it is binary glTF version {version}, not 2", path, "Export the level as glTF 2.0")
    if length > len(data):
        raise LevelError(f"the binary glTF is cut off: {length:,} bytes declared, {len(data):,} there", path, AGAIN)
    chunks: list[tuple[int, bytes]] = []
    at = 12
    while at + 8 <= length:
        size, kind = struct.unpack_from("<II", data, at)
        if at + 8 + size > length:
            raise LevelError(f"chunk {len(chunks)} of the binary glTF is cut off", f"{path}, byte {at}", AGAIN)
        chunks.append((kind, data[at + 8 : at + 8 + size]))
        at += 8 + size
    if not chunks or chunks[0][0] != CHUNK_JSON:
        raise LevelError("the binary glTF does not begin with a JSON chunk", path, AGAIN)
    binary = next((body for kind, body in chunks[1:] if kind == CHUNK_BIN), None)
    return chunks[0][1], binary


def read_uri(container: Container, uri: str, where: str, most: int = MAX_FILE_BYTES) -> bytes:
    """The bytes behind a URI of the document: a data URI or a file beside the level.

    Raises:
        LevelError: a network address, a path out of the folder, or a damaged data URI.
    """
    if not uri.startswith("data:"):
        try:
            target = beside(container.path, uri, where)
            container.files.append(target)
            return read_limited(target, most)
        except LevelError as error:
            raise LevelError(f"'{uri[:80]}' cannot be read: {error.what}", where, error.remedy) from error
    head, comma, body = uri[5:].partition(",")
    if not comma:
        raise LevelError("the data URI has no comma", where, AGAIN)
    if len(body) > most * 4 // 3 + 4:
        raise LevelError("the data URI is too large", where, "Store the data in a file beside the level")
    try:
        if head.endswith(";base64"):
            return base64.b64decode(unquote_to_bytes(body), validate=True)
        return unquote_to_bytes(body)
    except (binascii.Error, ValueError) as error:
        raise LevelError("the data URI is not valid base64", where, AGAIN) from error
