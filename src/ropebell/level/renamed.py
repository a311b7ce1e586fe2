"""Objects that a new export calls otherwise: found again by shape and place, so that what was decided about them can be
taken over.

What is decided is keyed by node path. For each such path the project keeps a print of what it was: a digest of its
shape, and where it stood.
"""

from __future__ import annotations

import hashlib
from dataclasses import replace
from typing import Any

import numpy as np

from ropebell.level.brief import Brief, LightChange, noted
from ropebell.level.model import Level, Node

# Metres, or share of the distance from the origin, by which the same place may differ.
SAME_PLACE = 1e-3
Print = str


def print_of(level: Level, node: Node) -> Print:
    """Shape and place of a node in a few words: fit for a project file."""
    digest = hashlib.sha256()
    if node.mesh >= 0:
        for primitive in level.meshes[node.mesh].primitives:
            digest.update(np.round(primitive.positions, 5).astype(np.float32).tobytes())
            digest.update(primitive.triangles.tobytes())
    elif node.light >= 0:
        digest.update(level.lights[node.light].kind.encode())
    place = " ".join(f"{v:.4f}" for v in node.world[:3, 3])
    return f"{digest.hexdigest()[:16]} {place}"


def prints_of(level: Level, brief: Brief) -> dict[str, Print]:
    """Prints of all that something is decided about; of what is not in the level, those from before.

    Args:
        level: as its file has it.
    """
    before = brief.prints
    nodes = {node.path: node for node in level.nodes if node.mesh >= 0 or node.light >= 0}
    found = {path: print_of(level, nodes[path]) for path in brief.named() if path in nodes}
    kept = {path: before[path] for path in brief.named() if path in before and path not in nodes}
    return dict(sorted({**found, **kept}.items()))


def renamed(level: Level, brief: Brief) -> dict[str, str]:
    """New paths of lost objects by their old ones: those that something is decided about and that are not in the level.

    Only where exactly one object of the same shape stands in the same place, and nothing is decided about that one."""
    known, prints = {node.path for node in level.nodes}, brief.prints
    lost = [path for path in brief.named() if path not in known and path in prints]
    if not lost:
        return {}
    taken = brief.named()
    free = [n for n in level.nodes if (n.mesh >= 0 or n.light >= 0) and n.path not in taken]
    by_shape: dict[str, list[Node]] = {}
    for node in free:
        by_shape.setdefault(print_of(level, node).split(" ")[0], []).append(node)
    found = {}
    for path in lost:
        shape, *place = prints[path].split(" ")
        alike = [n for n in by_shape.get(shape, []) if _near(n, place)]
        if len(alike) == 1:
            found[path] = alike[0].path
    return found


def _near(node: Node, place: list[str]) -> bool:
    try:
        there = np.array([float(v) for v in place])
    except ValueError:
        return False
    here = node.world[:3, 3]
    return there.shape == (3,) and bool(np.abs(here - there).max() <= SAME_PLACE * max(1.0, float(np.abs(here).max())))


def with_renamed(brief: Brief, old: str, new: str) -> Brief:
    """All that is decided about one path, about another."""

    def moved(table: dict[str, Any]) -> dict[str, Any]:
        return {new if path == old else path: value for path, value in table.items()}

    box = brief.test_density
    lights = {path: _lit_by(change, old, new) for path, change in moved(brief.lights).items()}
    return replace(
        brief, marks=moved(brief.marks), branches=moved(brief.branches), lights=lights,
        moves=moved(brief.moves), left_out=moved(brief.left_out),
        sets={name: moved(table) for name, table in brief.sets.items()},
        test_density=replace(box, paths=frozenset(new if path == old else path for path in box.paths)),
        known={_key(key, old, new): note for key, note in brief.known.items()},
        prints=moved(brief.prints),
    )  # fmt: skip


def without(brief: Brief, path: str) -> Brief:
    """Nothing decided about a path any more."""

    def kept(table: dict[str, Any]) -> dict[str, Any]:
        return {key: value for key, value in table.items() if key != path}

    box = brief.test_density
    lights = {other: _lit_by(change, path, None) for other, change in kept(brief.lights).items()}
    return replace(
        brief, marks=kept(brief.marks), branches=kept(brief.branches), lights=lights,
        moves=kept(brief.moves), left_out=kept(brief.left_out), emitters=kept(brief.emitters),
        prints=kept(brief.prints), known={key: note for key, note in brief.known.items() if noted(key) != path},
        sets={name: kept(table) for name, table in brief.sets.items()},
        test_density=replace(box, paths=frozenset(p for p in box.paths if p != path)),
    )  # fmt: skip


def _key(key: str, old: str, new: str) -> str:
    if noted(key) != old:
        return key
    kind, _, rest = key.partition(" ")
    return f"{kind} {new}{rest[len(old) :]}"


def _lit_by(change: LightChange, old: str, new: str | None) -> LightChange:
    return replace(change, fixture=new) if change.fixture == old else change
