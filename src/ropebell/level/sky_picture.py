"""Sky pictures: equirectangular Radiance `.hdr` and OpenEXR, as linear RGB radiance.

Radiance format after G. Ward, "Real pixels", Graphics Gems II (1991), and the file format notes of the Radiance
distribution: a text head, a resolution line, then scan lines, plain or with run lengths per component.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.errors import LevelError
from ropebell.level.limits import MAX_SKY_PIXELS, read_limited
from ropebell.level.model import F32, F64

SUFFIXES = (".hdr", ".exr")
MOST_CHANNELS = 8
RESOLUTION = re.compile(rb"-Y (\d{1,6}) \+X (\d{1,6})\n")
REMEDY = "Export the sky again as equirectangular .hdr or .exr"


def read_sky_picture(path: Path) -> F32:
    """(H, W, 3) float32 linear RGB, top row up.

    Raises:
        LevelError: missing, damaged, too large, or neither `.hdr` nor `.exr`.
    """
    if path.suffix.lower() == ".hdr":
        return read_hdr(path)
    if path.suffix.lower() == ".exr":
        return _read_exr(path)
    raise LevelError(f"'{path.suffix}' is not a kind of sky picture", path, "Use .hdr or .exr")


def read_hdr(path: Path) -> F32:
    """(H, W, 3) float32 of a Radiance file with the usual orientation (−Y +X)."""
    data = read_limited(path)
    found = RESOLUTION.search(data, 0, 64_000)
    if not data.startswith((b"#?RADIANCE", b"#?RGBE")) or found is None:
        raise LevelError("it is not a Radiance picture with rows from top to bottom", path, REMEDY)
    if b"FORMAT=32-bit_rle_rgbe" not in data[: found.start()]:
        raise LevelError("its pixels are not RGBE", path, REMEDY)
    height, width = int(found[1]), int(found[2])
    _check_size(width, height, path)
    pixels = _scan_lines(data, found.end(), width, height, path)
    return from_rgbe(pixels)


def from_rgbe(pixels: NDArray[np.uint8]) -> F32:
    """(H, W, 3) float32 of (H, W, 4) mantissas and exponents; a mantissa stands for the middle of what was cut off to
    it, as in Radiance itself."""
    scales = np.ldexp(1.0, np.arange(256) - 136).astype(np.float64)
    scales[0] = 0.0
    out = np.empty((*pixels.shape[:2], 3), np.float32)
    for row, line in enumerate(pixels):  # all at once would take several times the picture's memory
        out[row] = (line[:, :3] + 0.5) * scales[line[:, 3], None]
    return out


def _check_size(width: int, height: int, path: Path) -> None:
    if not 0 < width * height <= MAX_SKY_PIXELS:
        raise LevelError(f"the picture declares {width}×{height} pixels", path, "Use a smaller picture")


def _scan_lines(data: bytes, at: int, width: int, height: int, path: Path) -> NDArray[np.uint8]:
    # A run-length line takes at least 8 bytes for 127 pixels of a component; less cannot be whole.
    if len(data) - at < height * max(4, width // 32):
        raise LevelError("the picture ends too early", path, REMEDY)
    out = np.zeros((height, width, 4), np.uint8)
    for row in range(height):
        new = 8 <= width < 32768 and data[at : at + 2] == b"\x02\x02"
        if new and at + 4 <= len(data) and (data[at + 2] << 8 | data[at + 3]) == width:
            at = _packed_line(data, at + 4, out[row], path)
        else:
            end = at + 4 * width
            if end > len(data):
                raise LevelError("the picture ends too early", path, REMEDY)
            out[row] = np.frombuffer(data[at:end], np.uint8).reshape(width, 4)
            at = end
    return out


def _packed_line(data: bytes, at: int, line: NDArray[np.uint8], path: Path) -> int:
    width = len(line)
    for component in range(4):
        x = 0
        while x < width:
            if at + 1 >= len(data):
                raise LevelError("the picture ends too early", path, REMEDY)
            count = data[at]
            run = count > 128
            length = count - 128 if run else count
            if length == 0 or x + length > width or (not run and at + 1 + length > len(data)):
                raise LevelError("a scan line of the picture is damaged", path, REMEDY)
            if run:
                line[x : x + length, component] = data[at + 1]
                at += 2
            else:
                line[x : x + length, component] = np.frombuffer(data[at + 1 : at + 1 + length], np.uint8)
                at += 1 + length
            x += length
    return at


def _read_exr(path: Path) -> F32:
    import OpenEXR

    read_limited(path)  # refuses what is missing, no regular file, or too large
    try:
        with OpenEXR.File(str(path), header_only=True) as head:
            low, high = head.header()["dataWindow"]
            if len(head.header()["channels"]) > MOST_CHANNELS:
                raise LevelError("the picture has more channels than a sky needs", path, REMEDY)
            _check_size(int(high[0] - low[0] + 1), int(high[1] - low[1] + 1), path)
        with OpenEXR.File(str(path), separate_channels=True) as file:
            channels: dict[str, Any] = {name: c.pixels for name, c in file.channels().items()}
            planes = [np.asarray(channels[name], np.float32) for name in ("R", "G", "B")]
    except LevelError:
        raise
    except (RuntimeError, KeyError, ValueError, OSError, TypeError) as error:
        raise LevelError("the picture is damaged or has no R, G and B", path, REMEDY) from error
    if len({plane.shape for plane in planes}) != 1 or planes[0].ndim != 2:
        raise LevelError("the picture's channels are not of one size", path, REMEDY)
    out = np.stack(planes, axis=2)
    wrong = ~np.isfinite(out) | (out < 0)
    if wrong.any():
        row, column, _ = np.unravel_index(wrong.argmax(), wrong.shape)
        value = out[row, column][wrong[row, column]][0]
        kind = "not finite" if not np.isfinite(value) else "below zero"
        count = int(wrong.any(axis=2).sum())
        what = f"{count:,} pixels hold values that are no light, the first at {column}, {row} ({value:g}, {kind})"
        raise LevelError(what, path, REMEDY)
    return out


def mean_radiance(picture: F32) -> F64:
    """(3,) mean over the whole sphere: rows weigh by the cosine of their elevation."""
    rows = np.arange(len(picture)) + 0.5
    weight = np.sin(np.pi * rows / len(picture))
    found: F64 = (picture.astype(np.float64).mean(axis=1) * weight[:, None]).sum(axis=0) / weight.sum()
    return found
