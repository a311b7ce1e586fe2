"""Open a level file of any supported kind."""

from __future__ import annotations

import os
from pathlib import Path

from ropebell.errors import LevelError
from ropebell.level.gltf_read import read_gltf
from ropebell.level.model import Level
from ropebell.level.obj_read import read_obj

LEVEL_SUFFIXES = (".gltf", ".glb", ".obj")


def open_level(path: Path) -> Level:
    """Read a `.gltf`, `.glb` or `.obj` file.

    Raises:
        LevelError: unreadable; the message names file, place and remedy.
    """
    suffix = path.suffix.lower()
    if os.path.isdir(path):  # which, unlike Path.is_dir, never raises: paths come from files of strangers
        raise LevelError("it is a folder, not a level file", path, "Name the level file inside it")
    if suffix == ".obj":
        return read_obj(path)
    if suffix in (".gltf", ".glb"):
        return read_gltf(path)
    if os.path.exists(path):
        raise LevelError(f"files ending in '{suffix}' are not levels", path, "Use .gltf, .glb or .obj")
    raise LevelError("there is no such file", path, "Check the path")
