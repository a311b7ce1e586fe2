"""Reading arrays that were kept in files of NumPy's own format."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import IO, Any, Literal

import numpy as np
from numpy.typing import NDArray

# NumPy reads a file's head with Python's parser, which in Python 3.11 fails now and then ("AST constructor recursion
# depth mismatch") where two threads of a process use it at once.
_HEADS = threading.Lock()


def load_array(file: Path | IO[bytes], mapped: Literal["r", "c"] | None = None) -> NDArray[Any]:
    """An array from a file, on any thread; the linter bans every other way.

    Args:
        mapped: how it is mapped into memory, as of `numpy.memmap`; None: it is read.

    Raises:
        OSError, EOFError, ValueError, SyntaxError and others: the file is none of that kind, or damaged.
    """
    with _HEADS:
        found: NDArray[Any] = np.load(file, mmap_mode=mapped, allow_pickle=False)  # noqa: TID251
    return found
