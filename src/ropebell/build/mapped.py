"""Hit tables as mapped files."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np


def new_table(path: Path, shape: tuple[int, ...]) -> np.memmap:
    """int32 of a shape in a new file, all of its room on the disk taken.

    Raises:
        OSError: there is not enough; a write to the mapping would end the process instead.
    """
    table = np.lib.format.open_memmap(path, mode="w+", dtype=np.int32, shape=shape)
    try:
        with open(path, "r+b") as file:
            os.posix_fallocate(file.fileno(), 0, os.fstat(file.fileno()).st_size)
    except OSError:
        path.unlink()  # it has its full size, but not its room
        raise
    return table
