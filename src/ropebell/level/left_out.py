"""Single faces that get no lightmap, by object: what nobody can see of an object that is seen.

They are kept by their numbers among the object's triangles, with a digest of these as they stand: where the object
moved or its shape changed, what nobody could see may be in sight, and nothing of it is left out.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ropebell.digest import digest_of
from ropebell.level.brief import Brief, LeftOut
from ropebell.level.model import I64, Mask
from ropebell.level.scene import Scene


def left_out_faces(scene: Scene, brief: Brief) -> Mask:
    """(T,) faces that a brief leaves out, of objects that are still as they were."""
    found = np.zeros(len(scene), np.bool_)
    for first, end, left in _objects(scene, brief):
        if _print(scene, first, end) == left.shape:
            found[first:end] = _mask(left.faces, end - first)
    return found


def changed_since(scene: Scene, brief: Brief) -> list[str]:
    """Objects some of whose faces were left out, but which have moved or changed since."""
    changed = [a for a, b, left in _objects(scene, brief) if _print(scene, a, b) != left.shape]
    return [scene.node_names[scene.node[a]] for a in changed]


def _objects(scene: Scene, brief: Brief) -> list[tuple[int, int, LeftOut]]:
    if not brief.left_out:
        return []
    names = scene.node_names
    return [(a, b, brief.left_out[names[n]]) for n, a, b in scene.node_ranges() if names[n] in brief.left_out]


def with_left_out(brief: Brief, scene: Scene, faces: Mask) -> Brief:
    """A brief that leaves out these faces, and no others.

    Args:
        faces: (T,) of the scene, as it stands now.
    """
    found = {}
    for node, first, end in scene.node_ranges():
        rows = np.flatnonzero(faces[first:end])
        if len(rows):
            found[scene.node_names[node]] = LeftOut(_ranges(rows), _print(scene, first, end))
    return replace(brief, left_out=found)


def _print(scene: Scene, first: int, end: int) -> str:
    return digest_of(scene.corners[first:end])[:16]


def _ranges(rows: I64) -> str:
    """Numbers in words: `0-3 7 9-12`."""
    starts = np.flatnonzero(np.append(True, np.diff(rows) != 1))
    ends = np.append(starts[1:], len(rows)) - 1
    return " ".join(f"{rows[a]}" if a == b else f"{rows[a]}-{rows[b]}" for a, b in zip(starts, ends))


def _mask(text: str, count: int) -> Mask:
    """(count,) back from `_ranges`; numbers that an object does not have are none."""
    found = np.zeros(count, np.bool_)
    for part in text.split():
        first, _, last = part.partition("-")
        found[int(first) : int(last or first) + 1] = True
    return found
