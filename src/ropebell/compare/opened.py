"""What opened a leak: what changed round its gap since the level was last found sealed."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ropebell.build.manifest import MANIFEST
from ropebell.build.result import Result, open_result
from ropebell.build.sighting import FILE
from ropebell.compare.changes import Content, changes
from ropebell.errors import RopeBellError
from ropebell.files import read_json
from ropebell.level.brief import NO_MARK, Brief
from ropebell.level.model import F64

# What of the level's contents can open or close a gap, and of a mark, in words.
OF_HULL = {"added", "removed", "moved", "reshaped"}
BLOCKING = {"blocks_sight": "lets sight through, or not", "role": "has another role", "pose": "stands in another pose"}
# Something is round a gap if it reaches so many widths of it, or this share of the level, near.
WIDTHS, SHARE = 2.0, 0.002


@dataclass(frozen=True)
class Opened:
    """What is known of how a leak came about.

    Attributes:
        sealed: number of the last build in which the level was sealed, 0 for none.
        at_gap: what changed since then round the gap, the nearest first. elsewhere: how much else changed.
    """

    sealed: int
    at_gap: tuple[Content, ...]
    elsewhere: int

    def sentence(self) -> str:
        """What to say of it; empty where there is no sealed build to hold it against."""
        if not self.sealed:
            return ""
        if not self.at_gap:
            return f"Sealed in build {self.sealed}; nothing round this gap has changed since."
        told = "; ".join(f"{c.node.rsplit('/', 1)[-1]} {_since(c)}" for c in self.at_gap[:3])
        return f"Sealed in build {self.sealed}. Since then: {told}."


def _since(c: Content) -> str:
    words = {"added": "came", "removed": "is gone", "moved": c.what, "reshaped": c.what}
    return words.get(c.kind, c.what)


def opened_by(folder: Path, place: F64, width: float) -> Opened:
    """Find out what opened a leak of a build.

    Args:
        folder: of the build, on its rope. place: (3,) metres, of the gap. width: of it, metres.

    Raises:
        ProjectError, LevelError: the build cannot be read.
    """
    last = _last_sealed(folder)
    if last is None:
        return Opened(0, (), 0)
    a, b = open_result(last), open_result(folder)
    found = [c for c in changes(a, b).contents if c.kind in OF_HULL]
    found += _marked(a.manifest.brief, b.manifest.brief)
    low, high = a.scene.bounds()
    reach = max(WIDTHS * width, SHARE * float((high - low).max(initial=0.0)))
    far = [min(_away(a, c.node, place), _away(b, c.node, place)) for c in found]
    near = sorted((k for k in range(len(found)) if far[k] <= reach), key=lambda k: far[k])
    return Opened(int(last.name), tuple(found[k] for k in near), len(found) - len(near))


def _last_sealed(folder: Path) -> Path | None:
    """The newest finished build before one that was looked into and found sealed."""
    if not folder.name.isdigit():
        return None
    older = [p for p in folder.parent.iterdir() if p.name.isdigit() and int(p.name) < int(folder.name)]
    for one in sorted(older, key=lambda p: -int(p.name)):
        try:
            if (one / MANIFEST).is_file() and read_json(one / FILE)["sealed"] is True:
                return one
        except (OSError, ValueError, KeyError, TypeError, RopeBellError):
            continue
    return None


def _marked(a: Brief, b: Brief) -> list[Content]:
    """Marks that differ in what blocks sight; these change no light, so they are no change between builds otherwise."""
    found = []
    for mine, theirs in ((a.marks, b.marks), (a.branches, b.branches)):
        for path in sorted(mine.keys() | theirs.keys()):
            m, n = mine.get(path, NO_MARK), theirs.get(path, NO_MARK)
            found += [Content(path, w, "mark") for key, w in BLOCKING.items() if getattr(m, key) != getattr(n, key)]
    return found


def _away(result: Result, path: str, place: F64) -> float:
    """Metres from a place to the boxes round an object's faces, or those below a branch; infinite without any."""
    scene = result.scene
    nodes = [n for n, name in enumerate(scene.node_names) if name == path or name.startswith(path + "/")]
    corners = scene.corners[np.isin(scene.node, nodes)]
    if not len(corners):
        return float("inf")
    gap = np.maximum(corners.min(axis=1) - place, place - corners.max(axis=1))
    return float(np.linalg.norm(np.maximum(gap, 0.0), axis=1).min())
