"""Pages as OpenEXR files."""

from __future__ import annotations

import contextlib
import errno
import io
import os
import threading
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import OpenEXR

from ropebell.errors import BuildError, LevelError, step, why
from ropebell.files import open_regular, temporary_beside
from ropebell.level.model import F32

HALF_MAX = 65504.0
_OUTPUT = threading.Lock()
MOST_TEXELS = 16384 * 16384 // 4


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
        found = _as_refused(error)
        remedy = f"{step(found)} and build again; earlier builds are untouched"
        raise BuildError(f"a page cannot be written ({why(found)})", path, remedy) from error
    finally:
        part.unlink(missing_ok=True)


def _as_refused(error: OSError | RuntimeError) -> OSError:
    """The library passes on only the words of what the system refused."""
    if isinstance(error, OSError) and error.errno:
        return error
    known = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG, errno.EMFILE, errno.ENFILE, errno.EACCES, errno.EROFS)
    number = next((n for n in known if os.strerror(n) in str(error)), errno.EIO)
    return OSError(number, os.strerror(number))


@contextlib.contextmanager
def _silence() -> Iterator[None]:
    """The library prints of a damaged file what it also raises; a person is told once, by us."""
    with _OUTPUT, contextlib.redirect_stdout(io.StringIO()), contextlib.ExitStack() as stack:
        for stream in (1, 2):
            kept = os.dup(stream)
            stack.callback(os.close, kept)
            stack.callback(os.dup2, kept, stream)
        null = os.open(os.devnull, os.O_WRONLY)
        for stream in (1, 2):
            os.dup2(null, stream)
        os.close(null)
        yield


def read_page(path: Path, shape: tuple[int, int] | None = None, channels: int = 3) -> F32:
    """(H, W, C) float32.

    Args:
        shape: that it must have; a file may declare any, and the library takes memory for what is declared.

    Raises:
        LevelError: missing, damaged, or of another shape.
    """
    try:
        open_regular(path).close()
        with _silence(), OpenEXR.File(str(path), header_only=True) as file:
            low, high = file.header()["dataWindow"]
            declared = (int(high[1] - low[1] + 1), int(high[0] - low[0] + 1))
        if min(declared) < 1 or declared[0] * declared[1] > MOST_TEXELS or (shape or declared) != declared:
            raise ValueError(f"it declares {declared[1]}×{declared[0]} texels")
        with _silence(), OpenEXR.File(str(path), separate_channels=False) as file:
            pixels = np.asarray(file.channels()["RGB" if channels == 3 else "Y"].pixels, dtype=np.float32)
        page = pixels if channels == 3 else pixels[..., None]
        if page.shape != (*declared, channels):
            raise ValueError(f"it has the shape {page.shape}")
        return page
    except (OSError, RuntimeError, KeyError, ValueError, TypeError, IndexError, MemoryError) as error:
        raise LevelError("the page is missing or damaged", path, "Build again, or restore the file") from error
