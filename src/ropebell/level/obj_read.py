"""Wavefront OBJ and MTL to `Level`. Every `o` or `g` becomes a node; `Ke` is radiance in cd/m²."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ropebell.errors import LevelError
from ropebell.files import lines_of
from ropebell.level.images import Pictures
from ropebell.level.limits import MAX_FACE_CORNERS, MAX_IMAGE_BYTES, MAX_TRIANGLES, beside, read_limited
from ropebell.level.model import Image, Level, Material, Mesh, Node, Notice, Primitive, TextureUse

AGAIN = "Export the level again"
# Options of a map line, and how many values they take.
OPTIONS = {
    "-blendu": (1, 1), "-blendv": (1, 1), "-cc": (1, 1), "-clamp": (1, 1), "-texres": (1, 1), "-imfchan": (1, 1),
    "-type": (1, 1), "-bm": (1, 1), "-boost": (1, 1), "-mm": (2, 2), "-o": (1, 3), "-s": (1, 3), "-t": (1, 3),
}  # fmt: skip
IGNORED = {"s", "vp", "l", "p", "curv", "surf", "mg", "lod", "usemap"}


def _lines(path: Path) -> Iterator[tuple[str, list[str]]]:
    """Keyword lines with their place; comments dropped, continued lines joined."""
    text = read_limited(path).decode("utf-8", errors="replace").replace("\\\r\n", " ").replace("\\\n", " ")
    for number, line in enumerate(lines_of(text), 1):
        words = line.split("#", 1)[0].split()
        if words:
            yield f"{path}, line {number}", words


def _floats(words: list[str], count: int, place: str) -> list[float]:
    try:
        values = [float(w) for w in words[1 : 1 + count]]
    except ValueError as error:
        raise LevelError(f"'{' '.join(words)[:60]}' is not a list of numbers", place, AGAIN) from error
    if len(values) < count:
        raise LevelError(f"'{words[0]}' has {len(values)} numbers, {count} are needed", place, AGAIN)
    if not all(math.isfinite(v) for v in values):
        raise LevelError(f"'{words[0]}' holds a non-finite number", place, AGAIN)
    return values


@dataclass
class _Piece:
    """Faces of one object and one material while they are read."""

    corners: list[tuple[int, int, int]] = field(default_factory=list)


class _Materials:
    """The material libraries of one OBJ file."""

    def __init__(self, path: Path, notices: list[Notice]) -> None:
        self._path, self._notices = path, notices
        self.materials: list[Material] = [Material("default")]
        self.images: list[Image] = []
        self._by_name: dict[str, int] = {}
        self._read_already: set[Path] = set()
        self.files: dict[Path, None] = {}
        self._pictures, self._pictured = Pictures(), dict[Path, int]()

    def number(self, name: str, place: str) -> int:
        if name not in self._by_name:
            text = f"Material '{name}' is in no material library; the default is used."
            self._notices.append(Notice("unknown-material", place, text))
            self._by_name[name] = 0
        return self._by_name[name]

    def load(self, name: str, place: str) -> None:
        try:
            target = beside(self._path, name, place)
            self.files[target] = None
            if not target.exists():
                text = f"Material library '{name}' is missing; the default material is used."
                self._notices.append(Notice("missing-materials", place, text))
                return
            if target not in self._read_already:
                self._read_already.add(target)
                self._read(target)
        except LevelError as error:
            raise LevelError(error.what, error.where, error.remedy) from error

    def _read(self, target: Path) -> None:
        current: Material | None = None
        for place, words in _lines(target):
            if words[0] == "newmtl":
                self._keep(current)
                current = Material(" ".join(words[1:]) or "unnamed")
            elif current is not None:
                current = self._with(current, words, place, target)
        self._keep(current)

    def _keep(self, material: Material | None) -> None:
        if material is not None:
            self._by_name[material.name] = len(self.materials)
            self.materials.append(material)

    def _with(self, m: Material, words: list[str], place: str, target: Path) -> Material:
        color, texture, emission = m.base_color, m.base_texture, m.emission
        if words[0] == "Kd":
            r, g, b = _floats(words, 3, place)
            if min(r, g, b) < 0 or max(r, g, b) > 1:
                raise LevelError(f"Kd {r:g} {g:g} {b:g} is outside 0 … 1", place, "Correct the material")
            color = (r, g, b, color[3])
        elif words[0] == "Ke":
            r, g, b = _floats(words, 3, place)
            if min(r, g, b) < 0:
                raise LevelError("Ke is negative", place, "Correct the material")
            emission = (r, g, b)
        elif words[0] == "map_Kd":
            texture = self._picture(_file_name(words[1:]), place, target)
        return Material(m.name, color, texture, emission)

    def _picture(self, name: str, place: str, target: Path) -> TextureUse | None:
        try:
            path = beside(target, name, place)
            self.files[path] = None
            if path not in self._pictured:
                image = self._pictures.decode(read_limited(path, MAX_IMAGE_BYTES), name, place)
                self._pictured[path] = len(self.images)
                self.images.append(image)
        except LevelError as error:
            text = f"Picture '{name}' is left out: {error.what}."
            self._notices.append(Notice("missing-texture", place, text))
            return None
        return TextureUse(self._pictured[path])


def _file_name(words: list[str]) -> str:
    """The file that a map line names, which may hold spaces: all words behind its options."""
    rest = list(words)
    while len(rest) > 1 and rest[0] in OPTIONS:
        least, most = OPTIONS[rest.pop(0)]
        taken = 0
        while taken < most and len(rest) > 1 and (taken < least or _is_number(rest[0])):
            rest.pop(0)
            taken += 1
    return " ".join(rest)


def _is_number(word: str) -> bool:
    try:
        float(word)
    except ValueError:
        return False
    return True


class _Reader:
    def __init__(self, path: Path) -> None:
        self.path = path
        self.notices: list[Notice] = []
        self.materials = _Materials(path, self.notices)
        self.positions: list[list[float]] = []
        self.coordinates: list[list[float]] = []
        self.normals: list[list[float]] = []
        self.objects: dict[str, dict[int, _Piece]] = {}
        self._object, self._material, self._count = path.stem, 0, 0
        self._unknown: set[str] = set()

    def read(self) -> None:
        for place, words in _lines(self.path):
            self._line(place, words)

    def _line(self, place: str, words: list[str]) -> None:
        key = words[0]
        if key == "v":
            self.positions.append(_floats(words, 3, place))
        elif key == "vt":
            self.coordinates.append(_floats(words, 2, place))
        elif key == "vn":
            self.normals.append(_floats(words, 3, place))
        elif key == "f":
            self._face(place, words)
        elif key in ("o", "g"):
            self._object = " ".join(words[1:]) or self.path.stem
        elif key == "usemtl":
            self._material = self.materials.number(" ".join(words[1:]), place)
        elif key == "mtllib":
            self.materials.load(" ".join(words[1:]), place)
        elif key not in IGNORED and key not in self._unknown:
            self._unknown.add(key)
            self.notices.append(Notice("unread-line", place, f"Lines that begin with '{key[:20]}' are not read."))

    def _face(self, place: str, words: list[str]) -> None:
        if len(words) - 1 > MAX_FACE_CORNERS:
            raise LevelError(f"a face has {len(words) - 1:,} corners", place, "Split it into triangles")
        corners = [self._corner(word, place) for word in words[1:]]
        if len(corners) < 3:
            raise LevelError(f"a face has only {len(corners)} corners", place, AGAIN)
        self._count += len(corners) - 2
        if self._count > MAX_TRIANGLES:
            raise LevelError(f"it has more than {MAX_TRIANGLES:,} triangles", place, "Split the level")
        piece = self.objects.setdefault(self._object, {}).setdefault(self._material, _Piece())
        for i in range(1, len(corners) - 1):
            piece.corners += (corners[0], corners[i], corners[i + 1])

    def _corner(self, word: str, place: str) -> tuple[int, int, int]:
        parts = (word.split("/") + ["", ""])[:3]
        tables = (self.positions, self.coordinates, self.normals)
        found = []
        for part, table in zip(parts, tables):
            if not part and table is not self.positions:
                found.append(-1)
                continue
            try:
                index = int(part)
            except ValueError as error:
                raise LevelError(f"'{word[:40]}' is not a face corner", place, AGAIN) from error
            index = index - 1 if index > 0 else len(table) + index
            if not 0 <= index < len(table):
                raise LevelError(f"corner '{word[:40]}' names entry {part} of {len(table)}", place, AGAIN)
            found.append(index)
        return found[0], found[1], found[2]

    def primitive(self, piece: _Piece, material: int) -> Primitive:
        unique, inverse = np.unique(np.array(piece.corners, dtype=np.int64), axis=0, return_inverse=True)
        at, uv, normal = unique[:, 0], unique[:, 1], unique[:, 2]
        triangles = inverse.reshape(-1, 3).astype(np.int32)
        normals = None
        if self.normals and (normal >= 0).all():
            raw = np.array(self.normals)[normal]
            length = np.linalg.norm(raw, axis=1, keepdims=True)
            normals = np.divide(raw, length, out=np.zeros_like(raw), where=length > 0).astype(np.float32)
        uv0 = None
        if self.coordinates and (uv >= 0).all():
            # OBJ counts v from the bottom of the picture, glTF from the top.
            uv0 = (np.array(self.coordinates)[uv] * [1.0, -1.0] + [0.0, 1.0]).astype(np.float32)
        positions = np.array(self.positions)[at].astype(np.float32)
        if not np.isfinite(positions).all():
            raise LevelError("a position is too large for single precision", self.path, AGAIN)
        return Primitive(positions, triangles, material, normals, uv0)


def read_obj(path: Path) -> Level:
    """Read an OBJ level with its material libraries.

    Raises:
        LevelError: with file, line and remedy.
    """
    reader = _Reader(path)
    reader.read()
    if not reader.objects:
        raise LevelError("it has no faces", path, AGAIN)
    meshes, nodes = [], []
    for name, pieces in reader.objects.items():
        meshes.append(Mesh(name, tuple(reader.primitive(piece, m) for m, piece in pieces.items())))
        nodes.append(Node(name, name, -1, np.eye(4), np.eye(4), mesh=len(meshes) - 1))
    m = reader.materials
    return Level(
        path,
        tuple(nodes),
        tuple(meshes),
        tuple(m.materials),
        (),
        tuple(m.images),
        tuple(reader.notices),
        tuple(m.files),
    )
