"""Intermediate pictures of a build, for whoever watches."""

from __future__ import annotations

import os
import time
from pathlib import Path

import numpy as np

from ropebell.build.journal import Journal
from ropebell.files import make_folder, remove_files, remove_own
from ropebell.level.model import F32, I32

LIVE = "live"
FILES = r"[0-9]+\.npy|target\.npy|\.part\.npy"
# Seconds between pictures of direct light; the first comes at once.
EVERY = 0.7


class Pictures:
    """Writes pictures into the build's `live` folder and tells of them in the journal.

    Args:
        folder: the build's folder.
        wanted: write them at all.
    """

    def __init__(self, folder: Path, journal: Journal, wanted: bool) -> None:
        self._folder, self._journal, self.wanted = folder / LIVE, journal, wanted
        self._count = 0
        self._last = -1e9

    def table(self, charts: str, cache: Path, target: I32, out: Path) -> None:
        """Tell where the charts artifact lies that the pictures' texels belong to."""
        if not self.wanted:
            return
        make_folder(self._folder)
        np.save(self._folder / "target.npy", target)
        self._journal.write("table", charts=charts, cache=str(cache), target=f"{LIVE}/target.npy")

    def due(self) -> bool:
        """Whether it is time for another picture."""
        return self.wanted and time.monotonic() - self._last >= EVERY

    def show(self, field: F32, what: str) -> None:
        """Write a picture, (N, 3) float32 lux, and drop the one before the last."""
        if not self.wanted:
            return
        self._last = time.monotonic()
        self._count += 1
        part = self._folder / ".part.npy"
        np.save(part, field)
        os.replace(part, self._folder / f"{self._count:04d}.npy")
        remove_files(self._folder, [f"{self._count - 2:04d}.npy"])
        self._journal.write("picture", file=f"{LIVE}/{self._count:04d}.npy", what=what)

    @staticmethod
    def clear(folder: Path) -> None:
        """Remove the pictures of an ended build."""
        remove_own(folder / LIVE, FILES)
