"""Bounds on what a level file may declare, checked before any memory is taken for it."""

from __future__ import annotations

import os
from pathlib import Path
from urllib.parse import unquote

from ropebell.errors import LevelError, why
from ropebell.files import open_regular

MAX_FILE_BYTES = 2 << 30
MAX_JSON_BYTES = 256 << 20
# Budgets of a level: some 1.5 GB of memory a million triangles, and some seconds to open so many nodes.
MAX_NODES = 200_000
MAX_LIGHTS = 20_000
MAX_TRIANGLES = 4_000_000
# Of the paths of all nodes together: a path names everything above it, so deep chains grow by the square.
MAX_PATH_CHARACTERS = 256 << 20
MAX_IMAGE_PIXELS = 64 << 20
MAX_IMAGE_BYTES = 256 << 20
MAX_SKY_PIXELS = 32 << 20
# Of all pictures of a level together, decoded.
MAX_DECODED_BYTES = 512 << 20
MAX_FACE_CORNERS = 4096
# Bytes of a file's name and characters of a path, as file systems have them.
MOST_NAME, MOST_PATH = 255, 2048
# Candela, lux or cd/m² of a light, a glowing surface or a sky: some hundred times what the sun's face has.
MOST_LIGHT = 1e12


def read_limited(path: Path, most: int = MAX_FILE_BYTES) -> bytes:
    """The bytes of a regular file.

    Raises:
        LevelError: it is missing, not a regular file, unreadable or larger than `most` bytes.
    """
    try:
        if not path.is_file():
            what = "it is not a regular file" if path.exists() else "there is no such file"
            raise LevelError(what, path, "Check the path, or export the level again")
        with open_regular(path) as file:
            size = os.fstat(file.fileno()).st_size
            if size > most:
                raise LevelError(
                    f"the file has {size:,} bytes, more than the {most:,} that are read", path, "Split the level"
                )
            return file.read()
    except OSError as error:
        raise LevelError(f"it cannot be read ({why(error)})", path, "Check its permissions") from error
    except ValueError as error:  # a null byte in the name
        raise LevelError("its name is not a possible file name", repr(str(path)), "Rename the file") from error


def beside(base: Path, reference: str, where: str) -> Path:
    """The path of a file named inside a level file, which must lie at or below the level's own folder.

    Raises:
        LevelError: the reference is a network address, absolute, or leads out of the folder.
    """
    text = unquote(reference)
    remedy = "Put the file beside the level and refer to it by a relative path"
    if "://" in text or text.lower().startswith(("file:", "http:", "https:", "ftp:")):
        raise LevelError(f"network addresses are not followed ('{text[:80]}')", where, remedy)
    if "\x00" in text or not text.strip():
        raise LevelError("a file reference is empty or not a possible file name", where, remedy)
    normal = text.replace("\\", "/")
    if normal.startswith(("/", "~")) or (len(normal) > 1 and normal[1] == ":"):
        raise LevelError(f"absolute paths are not followed ('{text[:80]}')", where, remedy)
    if len(normal) > MOST_PATH or any(len(part.encode("utf-8", "replace")) > MOST_NAME for part in normal.split("/")):
        raise LevelError(f"a file reference is longer than any file name ('{text[:80]}…')", where, remedy)
    folder = base.parent.resolve()
    target = (folder / normal).resolve()
    if not target.is_relative_to(folder):
        raise LevelError(f"'{text[:80]}' leads out of the level's folder", where, remedy)
    return target
