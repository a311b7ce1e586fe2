"""Keeps a build within `limits.memory_mb`: what is mapped from files is given back to the system in time.

Nothing is lost by that: pages of a mapped file come back when they are looked at again. Who writes or reads a table
need not know; a thread of its own looks at what the process holds.
"""

from __future__ import annotations

import contextlib
import mmap
import os
import resource
import threading
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

STATM, STATUS = Path("/proc/self/statm"), Path("/proc/self/status")
# At most so many seconds between two looks; both cores together touch about 40 MB in that time.
EVERY = 0.01
# Given back from this share of the limit on.
FULL = 0.9


def peak_bytes() -> int:
    """The most this program has held at a time. Not what `getrusage` says: that begins with what the process held that
    started this one."""
    try:
        line = next(x for x in STATUS.read_text().splitlines() if x.startswith("VmHWM:"))
        return int(line.split()[1]) << 10
    except (OSError, StopIteration, ValueError, IndexError):
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10


class MemoryKeeper:
    """Watches what this process holds.

    Args:
        limit: bytes; 0 is no limit, and then nothing is watched.
    """

    def __init__(self, limit: int) -> None:
        self._limit = limit
        self._mapped: list[mmap.mmap] = []
        self._lock = threading.Lock()
        self._over = threading.Event()
        self.given_back = 0

    def watch(self, array: NDArray[np.generic]) -> None:
        """Give an array's pages back when memory gets tight.

        Args:
            array: mapped from a file, and never written to where the mapping is the process's own. Arrays that are
                not mapped are left alone.
        """
        mapped = getattr(array, "_mmap", None)
        if isinstance(mapped, mmap.mmap) and self._limit:
            with self._lock:
                self._mapped.append(mapped)

    @contextlib.contextmanager
    def watching(self) -> Iterator[None]:
        """Keep to the limit within the block."""
        if not self._limit or not STATM.exists():
            yield
            return
        thread = threading.Thread(target=self._loop, name="memory", daemon=True)
        thread.start()
        try:
            yield
        finally:
            self._over.set()
            thread.join()

    def _loop(self) -> None:
        while not self._over.wait(EVERY):
            if resident_bytes() > FULL * self._limit:
                self.give_back()

    def give_back(self) -> None:
        """Let go of all pages that are watched."""
        self.given_back += 1
        with self._lock:
            for mapped in self._mapped:
                with contextlib.suppress(ValueError, OSError):  # closed in between
                    mapped.madvise(mmap.MADV_DONTNEED)


def resident_bytes() -> int:
    """What this process holds of the machine's memory, pages of mapped files included."""
    return int(STATM.read_text(encoding="ascii").split()[1]) * os.sysconf("SC_PAGE_SIZE")
