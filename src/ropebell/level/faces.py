"""Faces by what they are: found, counted by object, never changed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import Level
from ropebell.level.scene import Scene


@dataclass(frozen=True)
class FaceGroup:
    """Found faces of one object.

    Attributes:
        node: index. faces: how many. area: m². place: middle of the largest.
    """

    node: int
    faces: int
    area: float
    place: tuple[float, float, float]


Test = Callable[[Level, Scene], Any]


def _by_material(test: Callable[[Level, int], bool]) -> Test:
    def found(level: Level, scene: Scene) -> NDArray[np.bool_]:
        yes = np.array([test(level, i) for i in range(len(level.materials))] + [False], dtype=bool)
        return yes[scene.material]

    return found


PROPERTIES: dict[str, Test] = {
    "glowing": _by_material(lambda level, i: max(level.materials[i].emission) > 0),
    "unlit": _by_material(lambda level, i: level.materials[i].unlit),
    "cut out by a picture": _by_material(lambda level, i: level.materials[i].alpha_mode != "OPAQUE"),
    "with a picture": _by_material(lambda level, i: level.materials[i].base_texture is not None),
    "two-sided": lambda level, scene: scene.double_sided.astype(bool),
    "one-sided": lambda level, scene: ~scene.double_sided.astype(bool),
    "with own lightmap coordinates": lambda level, scene: np.isfinite(scene.uv1).reshape(len(scene), 6).all(axis=1),
    "with another density": lambda level, scene: scene.factor != 1.0,
    "not part of a build": lambda level, scene: ~scene.part,
    "facing up": lambda level, scene: scene.face_normals[:, 1] > 0.7,
    "facing down": lambda level, scene: scene.face_normals[:, 1] < -0.7,
}


def find_faces(level: Level, scene: Scene, material: str = "", quality: str = "") -> NDArray[np.int64]:
    """Indices of the triangles of a material, or with a property of `PROPERTIES`, or both."""
    kept = np.ones(len(scene), np.bool_)
    if material:
        numbers = [i for i, m in enumerate(level.materials) if m.name == material]
        kept &= np.isin(scene.material, numbers)
    if quality:
        kept &= PROPERTIES[quality](level, scene)
    return np.flatnonzero(kept) if material or quality else np.zeros(0, np.int64)


def grouped(scene: Scene, rows: NDArray[np.int64]) -> list[FaceGroup]:
    """Found faces by object, largest area first."""
    groups = []
    for node in np.unique(scene.node[rows]):
        mine = rows[scene.node[rows] == node]
        x, y, z = scene.corners[mine[np.argmax(scene.areas[mine])]].mean(axis=0).tolist()
        groups.append(FaceGroup(int(node), len(mine), float(scene.areas[mine].sum()), (x, y, z)))
    return sorted(groups, key=lambda g: -g.area)
