"""Pages as engines take them, each with the error that its numbers cost.

A build always keeps its pages as half-float OpenEXR, which is what it is read back from. Other formats are written
beside them:

- `shared-exponent`: Radiance HDR, three 8-bit mantissas with one exponent (G. Ward, "Real pixels", Graphics Gems II,
  1991).
- `8-bit`: PNG of √(E / scale), the square root because the eye tells dark steps apart better; `scale` is the page's
  brightest value, told in the manifest.
"""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from PIL import Image

from ropebell.level.model import F32, U8
from ropebell.level.sky_picture import from_rgbe

# Texels darker than this share of a page's mean are left out of relative errors: nobody sees them beside the rest.
DARK = 1e-2
STRIDE = 16


@dataclass(frozen=True, eq=False)
class Encoded:
    """A page in a format.

    Attributes:
        data: the file. decoded: (H, W, 3) float32 lux as an engine reads it back. scale: of 8-bit pages, else 1.
    """

    data: bytes
    decoded: F32
    scale: float = 1.0


def encode_half(page: F32) -> Encoded:
    """What half floats keep; the file itself is the OpenEXR page."""
    return Encoded(b"", np.minimum(page, 65504.0).astype(np.float16).astype(np.float32))


def encode_shared_exponent(page: F32) -> Encoded:
    """Radiance HDR, flat scan lines."""
    pixels = to_rgbe(page)
    height, width = page.shape[:2]
    head = f"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y {height} +X {width}\n".encode()
    return Encoded(head + pixels.tobytes(), from_rgbe(pixels))


def to_rgbe(page: F32) -> U8:
    """(H, W, 4) mantissas, cut off to whole numbers, and the exponent of the brightest channel."""
    brightest = page.max(axis=2).astype(np.float64)
    _, exponent = np.frexp(brightest)
    mantissa = np.floor(np.ldexp(page.astype(np.float64), 8 - exponent[..., None]))
    out = np.concatenate([mantissa, exponent[..., None] + 128], axis=2)
    out[brightest < 1e-32] = 0
    found: U8 = np.clip(out, 0, 255).astype(np.uint8)
    return found


def encode_8_bit(page: F32) -> Encoded:
    """PNG of the square root."""
    scale = max(float(page.max()), 1e-12)
    codes = np.round(np.sqrt(np.clip(page / scale, 0, 1)) * 255).astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(codes).save(out, "PNG")
    return Encoded(out.getvalue(), ((codes / 255.0) ** 2 * scale).astype(np.float32), scale)


SUFFIXES = {"half": ".exr", "shared-exponent": ".hdr", "8-bit": ".png"}
ENCODERS: dict[str, Callable[[F32], Encoded]] = {
    "half": encode_half, "shared-exponent": encode_shared_exponent, "8-bit": encode_8_bit,
}  # fmt: skip


def errors(page: F32, decoded: F32) -> dict[str, float]:
    """Relative error of the texels that are not dark: root mean square and largest; and how many lux at most."""
    mean = float(page.mean())
    seen = page > max(DARK * mean, 1e-9)
    if not seen.any():
        return {"rms": 0.0, "largest": 0.0, "lux": 0.0}
    off = np.abs(decoded.astype(np.float64) - page)
    relative = off[seen] / page[seen]
    return {
        "rms": round(float(np.sqrt((relative**2).mean())), 6), "largest": round(float(relative.max()), 6),
        "lux": round(float(off.max()), 6),
    }  # fmt: skip


def compared(page: F32) -> dict[str, dict[str, Any]]:
    """Every format's error and size for a page, so that one can be chosen by what it costs.

    Told from every `STRIDE`-th row, so that no build is slowed by formats that nobody asked for.
    """
    rows = np.ascontiguousarray(page[STRIDE // 2 :: STRIDE] if len(page) > STRIDE else page)
    found = {}
    for name, encode in ENCODERS.items():
        made = encode(rows)
        size = len(made.data) if made.data else rows.size * 2
        found[name] = {"bytes": round(size * len(page) / len(rows)), **errors(rows, made.decoded)}
    return found
