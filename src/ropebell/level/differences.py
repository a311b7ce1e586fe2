"""What changed between two readings of a level file, object by object."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

import numpy as np

from ropebell.level.model import Level, Mesh

MOVED = 1e-6


@dataclass(frozen=True)
class Differences:
    """Paths of objects and lights, each once, by the first thing that holds.

    Attributes:
        added, removed: only in the new, only in the old.
        reshaped: other triangles. rematerialed: other materials. moved: another place. relit: another light.
    """

    added: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    reshaped: tuple[str, ...] = ()
    rematerialed: tuple[str, ...] = ()
    moved: tuple[str, ...] = ()
    relit: tuple[str, ...] = ()

    @property
    def nothing(self) -> bool:
        """Whether both are the same."""
        return not any(vars(self).values())

    def sentence(self) -> str:
        """A short account, such as "2 added, 1 moved (desk)"."""
        parts = []
        for word, paths in vars(self).items():
            if paths:
                names = ", ".join(p.rsplit("/", 1)[-1] for p in paths[:3])
                more = f" and {len(paths) - 3} more" if len(paths) > 3 else ""
                parts.append(f"{len(paths)} {WORDS[word]} ({names}{more})")
        return "; ".join(parts) or "nothing changed"


WORDS = {
    "added": "added", "removed": "removed", "reshaped": "changed in shape", "rematerialed": "with other materials",
    "moved": "moved", "relit": "lights changed",
}  # fmt: skip


def differences(before: Level, after: Level) -> Differences:
    """Compare two readings by node path."""
    old, new = {n.path: n for n in before.nodes}, {n.path: n for n in after.nodes}
    shapes: dict[int, tuple[str, tuple[str, ...]]] = {}
    found: dict[str, list[str]] = {word: [] for word in WORDS}
    for path, node in new.items():
        if path not in old:
            if node.mesh >= 0 or node.light >= 0:
                found["added"].append(path)
            continue
        was = old[path]
        a, b = _of(before, was.mesh, shapes), _of(after, node.mesh, shapes)
        if a[0] != b[0]:
            found["reshaped"].append(path)
        elif a[1] != b[1]:
            found["rematerialed"].append(path)
        elif np.abs(was.world - node.world).max() > MOVED and (node.mesh >= 0 or node.light >= 0):
            found["moved"].append(path)
        elif _light(before, was.light) != _light(after, node.light):
            found["relit"].append(path)
    found["removed"] = [p for p, n in old.items() if p not in new and (n.mesh >= 0 or n.light >= 0)]
    return Differences(**{word: tuple(paths) for word, paths in found.items()})


def _of(level: Level, mesh: int, known: dict[int, tuple[str, tuple[str, ...]]]) -> tuple[str, tuple[str, ...]]:
    """Digest of a mesh's triangles, and the look of its materials."""
    if mesh < 0:
        return "", ()
    key = id(level.meshes[mesh])
    if key not in known:
        known[key] = (
            _digest(level.meshes[mesh]),
            tuple(_look(level, p.material) for p in level.meshes[mesh].primitives),
        )
    return known[key]


def _look(level: Level, material: int) -> str:
    m = level.materials[material]
    return repr((m.name, m.base_color, m.emission, m.double_sided, m.alpha_mode, m.base_texture is None))


def _digest(mesh: Mesh) -> str:
    digest = hashlib.sha256()
    for p in mesh.primitives:
        for array in (p.positions, p.triangles, p.normals, p.uv0, p.uv1):
            digest.update(b"-" if array is None else np.ascontiguousarray(array).tobytes())
    return digest.hexdigest()


def _light(level: Level, light: int) -> str:
    return "" if light < 0 else repr(level.lights[light])
