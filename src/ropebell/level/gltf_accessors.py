"""Accessors of a glTF document as NumPy arrays, every declared size checked against the bytes that are there."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.level.gltf_container import Container, read_uri
from ropebell.level.gltf_document import Json

COMPONENTS: dict[int, type[np.generic]] = {
    5120: np.int8,
    5121: np.uint8,
    5122: np.int16,
    5123: np.uint16,
    5125: np.uint32,
    5126: np.float32,
}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}


class Accessors:
    """Reads accessors by index; buffers are loaded once, when first needed.

    Args:
        container: the file.
        root: its document.
    """

    def __init__(self, container: Container, root: Json) -> None:
        self._container = container
        self._accessors = root.children("accessors")
        self._views = root.children("bufferViews")
        self._buffers = root.children("buffers")
        self._loaded: dict[int, bytes] = {}

    def __len__(self) -> int:
        return len(self._accessors)

    def read(self, index: int, kind: str) -> NDArray[Any]:
        """Accessor `index` as (count,) for SCALAR, (count, n) for VECn; integers stay as stored unless the
        accessor is `normalized`, which gives float32 in 0 … 1 or −1 … 1.

        Raises:
            LevelError: wrong type, out of range, not enough bytes, or not finite.
        """
        spec = self._accessors[index]
        stored = spec.text("type", "")
        if stored != kind:
            raise spec.wrong(f"is {stored or 'missing'}, where {kind} is needed", "type")
        dtype = self._dtype(spec)
        count = spec.integer("count", least=1, most=200_000_000)
        width = WIDTHS[kind]
        if spec.has("bufferView"):
            values = self._strided(spec, spec.index("bufferView", len(self._views)), dtype, count, width)
        else:
            if not spec.has("sparse"):
                raise spec.wrong("has neither a buffer view nor sparse values")
            if count * width * dtype.itemsize > sum(self._length(i) for i in range(len(self._buffers))) * 64:
                raise spec.wrong(f"declares {count:,} elements without data for them", "count")
            values = np.zeros((count, width), dtype)
        if spec.has("sparse"):
            values = self._with_sparse(spec.child("sparse"), values, dtype, width)
        if spec.flag("normalized") and dtype.kind in "iu":
            values = np.maximum(values.astype(np.float32) / np.iinfo(dtype).max, -1.0)
        if values.dtype.kind == "f" and not np.isfinite(values).all():
            bad = int(np.argwhere(~np.isfinite(values))[0][0])
            raise spec.wrong(f"holds a non-finite number at element {bad}")
        return values[:, 0] if width == 1 else values

    def view_bytes(self, index: int) -> bytes:
        """The bytes of a buffer view, for pictures."""
        view = self._views[index]
        data, start, length = self._view_span(view)
        return data[start : start + length]

    def _dtype(self, spec: Json) -> np.dtype[Any]:
        code = spec.integer("componentType")
        if code not in COMPONENTS:
            raise spec.wrong(f"is {code}, which glTF does not know", "componentType")
        return np.dtype(COMPONENTS[code]).newbyteorder("<")

    def _length(self, index: int) -> int:
        return self._buffers[index].integer("byteLength", least=1)

    def _buffer(self, index: int) -> bytes:
        if index not in self._loaded:
            spec = self._buffers[index]
            length = self._length(index)
            if spec.has("uri"):
                where = f"{self._container.path}, {spec.place}"
                data = read_uri(self._container, spec.text("uri", ""), where)
            elif index == 0 and self._container.binary is not None:
                data = self._container.binary
            else:
                raise spec.wrong("has no data: neither a uri nor a BIN chunk")
            if len(data) < length:
                raise spec.wrong(f"declares {length:,} bytes, but only {len(data):,} are there", "byteLength")
            self._loaded[index] = data
        return self._loaded[index]

    def _view_span(self, view: Json) -> tuple[bytes, int, int]:
        index = view.index("buffer", len(self._buffers))
        start, length = view.integer("byteOffset", 0), view.integer("byteLength", least=1)
        if start + length > self._length(index):
            raise view.wrong(f"reaches past the end of buffer {index}")
        return self._buffer(index), start, length

    def _strided(self, spec: Json, view_index: int, dtype: np.dtype[Any], count: int, width: int) -> NDArray[Any]:
        view = self._views[view_index]
        data, start, length = self._view_span(view)
        offset = spec.integer("byteOffset", 0)
        element = dtype.itemsize * width
        stride = view.integer("byteStride", element, least=1, most=4096)
        if stride < element:
            raise view.wrong(f"is {stride}, less than the {element} bytes of an element", "byteStride")
        if offset + (count - 1) * stride + element > length:
            raise spec.wrong(f"needs {count:,} elements, more than its buffer view holds", "count")
        raw = np.ndarray((count, width), dtype, data, start + offset, (stride, dtype.itemsize))
        return np.ascontiguousarray(raw)

    def _with_sparse(self, sparse: Json, values: NDArray[Any], dtype: np.dtype[Any], width: int) -> NDArray[Any]:
        count = sparse.integer("count", least=1, most=len(values))
        places, entries = sparse.child("indices"), sparse.child("values")
        index_type = self._dtype(places)
        if index_type.kind != "u":
            raise places.wrong("is not an unsigned integer type", "componentType")
        at = self._strided(places, places.index("bufferView", len(self._views)), index_type, count, 1)[:, 0]
        if int(at.max()) >= len(values):
            raise places.wrong(f"names element {int(at.max())} of {len(values)}")
        new = self._strided(entries, entries.index("bufferView", len(self._views)), dtype, count, width)
        values = values.copy()
        values[at] = new
        return values
