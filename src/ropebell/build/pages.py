"""Pages as OpenEXR files."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import OpenEXR

from ropebell.errors import BuildError, LevelError
from ropebell.files import temporary_beside
from ropebell.level.model import F32

HALF_MAX = 65504.0


def needs_single(pages: F32) -> bool:
    """Whether a field holds values that half floats cannot."""
    return bool(pages.size) and float(pages.max()) > HALF_MAX


def write_page(path: Path, page: F32) -> None:
    """Write one page, RGB or one channel Y, half float — or single where the light is brighter than half floats reach.

    Args:
        page: (H, W, 3) float32 lux, or (H, W, 1) of any unit.

    Raises:
        BuildError: the disk is full or cannot be written.
    """
    kind = np.float32 if needs_single(page) else np.float16
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    # The library appends nothing, but it chooses by extension.
    part = temporary_beside(path).with_suffix(".exr")
    try:
        pixels = np.ascontiguousarray((page[..., 0] if page.shape[2] == 1 else page).astype(kind))
        OpenEXR.File(header, {"Y" if page.shape[2] == 1 else "RGB": pixels}).write(str(part))
        with open(part, "rb") as handle:
            os.fsync(handle.fileno())
        os.replace(part, path)
    except (OSError, RuntimeError) as error:
        remedy = "Free some space and build again; earlier builds are untouched"
        raise BuildError(f"a page cannot be written ({error})", path, remedy) from error
    finally:
        part.unlink(missing_ok=True)


def read_page(path: Path) -> F32:
    """(H, W, 3) float32, or (H, W) where there is one channel.

    Raises:
        LevelError: missing or damaged.
    """
    try:
        with OpenEXR.File(str(path), separate_channels=False) as file:
            channels = file.channels()
            return np.asarray(channels["RGB" if "RGB" in channels else "Y"].pixels, dtype=np.float32)
    except (OSError, RuntimeError, KeyError, ValueError, TypeError) as error:
        raise LevelError("the page is missing or damaged", path, "Build again, or restore the file") from error
