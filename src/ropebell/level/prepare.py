"""From a level and its brief to a scene: meshes placed, lights lit, what the marks say put on the triangles."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.level.arrange import Marks, arranged, chosen_pose, marks_in_force
from ropebell.level.box_cuts import cut_along_boxes
from ropebell.level.brief import NO_BRIEF, Box, Brief, Radiance
from ropebell.level.cut_box import cut_to_box, lit_from_inside
from ropebell.level.cutouts import cutouts_of
from ropebell.level.density import bare_faces, density_factors, ray_shares
from ropebell.level.emission_picture import emission_picture, mean_emission
from ropebell.level.model import F32, F64, I32, I64, Level, Material, Notice, Primitive
from ropebell.level.placed_light import placed_light
from ropebell.level.scene import Emitter, Scene, taking_part
from ropebell.level.triangles import longest_squared

# Triangles thinner than this, relative to their longest edge, have no usable normal in single precision.
SLIVER_HEIGHT = 1e-7
# Metres from the origin; beyond it neighbouring places in single precision are over a metre apart.
FARTHEST = 1e7
LEFT_OUT = {"degenerate": "without area", "too-far": f"over {FARTHEST / 1e3:,.0f} km from the origin"}
# Copies of a mesh are placed together, so many triangles at a time.
ROWS_AT_ONCE = 1_000_000

Emission = dict[str, Radiance]
"""Radiance in cd/m² by material name, where it is not what the level says."""


@dataclass(frozen=True, eq=False)
class Prepared:
    """A level as the brief arranges it.

    Attributes:
        level: with poses, moves and added lights.
        scene: all its triangles and lights, also those that take no part in a build.
    """

    level: Level
    scene: Scene

    @property
    def baking(self) -> Scene:
        """What takes part in a build."""
        return taking_part(self.scene)


def prepare(
    level: Level, brief: Brief = NO_BRIEF, emission: Emission | None = None, box: Box | None = None
) -> Prepared:  # fmt: skip
    """Arrange a level and place every mesh and light of it.

    Args:
        emission: radiance of materials that differs from the level's own. box: everything outside is cut away.
    """
    marks = marks_in_force(level, brief)
    placed = arranged(level, brief, marks)
    if brief.density_boxes:
        placed = cut_along_boxes(placed, brief.density_boxes)
    if box is not None:
        placed = cut_to_box(placed, box)
    parts = _Parts()
    users: dict[int, list[int]] = {}
    for index, node in enumerate(placed.nodes):
        if node.mesh >= 0:
            users.setdefault(node.mesh, []).append(index)
    for mesh, at in users.items():
        worlds = np.array([placed.nodes[i].world for i in at])
        for number, primitive in enumerate(placed.meshes[mesh].primitives):
            parts.add(primitive, worlds, np.array(at, np.int32), number)
    scene = parts.scene(placed)
    scene = replace(scene, marks=marks, part=_part(scene, marks), factor=density_factors(scene, level, brief, marks))
    bare = bare_faces(scene, brief, marks)
    scene = replace(scene, effort=ray_shares(scene, brief), bare=bare, **_switches(scene, marks))
    scene = replace(scene, cutouts=cutouts_of(level, scene.material, scene.uv0, scene.uv1))
    anew = np.array([m.unwrap is True for m in marks.nodes] + [False], dtype=bool)
    if anew.any():
        scene = replace(scene, uv1=np.where(anew[scene.node][:, None, None], np.float32(np.nan), scene.uv1))
    two_sided = np.array([m.two_sided is True for m in marks.nodes] + [False], dtype=bool)
    one_sided = np.array([m.two_sided is False for m in marks.nodes] + [False], dtype=bool)
    if two_sided.any() or one_sided.any():
        sided = (scene.double_sided | two_sided[scene.node]) & ~one_sided[scene.node]
        scene = replace(scene, double_sided=sided)
    scene = with_lights(scene, placed, brief, emission)
    return Prepared(placed, scene if box is None else lit_from_inside(scene, box))


def flatten(level: Level, brief: Brief = NO_BRIEF, emission: Emission | None = None) -> Scene:
    """The scene that a build of `level` works on: `prepare`, and of it what takes part."""
    return prepare(level, brief, emission).baking


def with_lights(scene: Scene, level: Level, brief: Brief, emission: Emission | None = None) -> Scene:
    """The same triangles under changed lights and emitters; cheap, for use while a slider moves.

    Args:
        level: as arranged.
    """
    lights = tuple(placed_light(level, i, brief) for i in level.light_nodes())
    return replace(scene, lights=lights, emitters=_emitters(scene, level, emission or {}))


def _switches(scene: Scene, marks: Marks) -> dict[str, Any]:
    """Per triangle, what its object's marks switch off."""
    found = {}
    for name, key in (("casts", "casts"), ("shadowed", "receives"), ("reflects", "bounces")):
        on = np.array([getattr(m, key) is not False for m in marks.nodes] + [True], dtype=np.bool_)
        found[name] = on[scene.node]
    return found


def _part(scene: Scene, marks: Marks) -> NDArray[np.bool_]:
    absent = [(pose := chosen_pose(m)) is not None and pose.absent for m in marks.nodes]
    out = np.array([m.role in ("moving", "left-out") or gone for m, gone in zip(marks.nodes, absent)] + [False])
    return ~out[scene.node]


class _Parts:
    """Collects placed primitives, all places of one at a time, then joins and orders them once."""

    def __init__(self) -> None:
        self._parts: list[tuple[np.ndarray, ...]] = []
        self._dropped: dict[tuple[int, str], int] = {}

    def add(self, p: Primitive, worlds: F64, nodes: I32, number: int) -> None:
        """Place a primitive at K nodes.

        Args:
            worlds: (K, 4, 4); nodes: (K,).
            number: of the primitive in its mesh.
        """
        step = max(ROWS_AT_ONCE // max(len(p.triangles), 1), 1)
        for first in range(0, len(nodes), step):
            self._add(p, worlds[first : first + step], nodes[first : first + step], number)

    def _add(self, p: Primitive, worlds: F64, nodes: I32, number: int) -> None:
        linear = worlds[:, :3, :3]
        placed = p.positions.astype(np.float64) @ linear.swapaxes(1, 2) + worlds[:, None, :3, 3]
        mirrored = np.linalg.det(linear) < 0
        order = np.where(mirrored[:, None, None], p.triangles[:, [0, 2, 1]], p.triangles)
        place = np.repeat(np.arange(len(nodes)), len(p.triangles))
        order = order.reshape(-1, 3)
        corners = placed[place[:, None], order]
        cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        twice = np.linalg.norm(cross, axis=1)
        near = (np.abs(corners) <= FARTHEST).all(axis=(1, 2))
        keep = near & (twice > np.maximum(longest_squared(corners) * SLIVER_HEIGHT, 1e-300))
        if not keep.all():
            for kind, gone in (("degenerate", near & ~keep), ("too-far", ~near)):
                for node, count in zip(nodes.tolist(), np.bincount(place[gone], minlength=len(nodes)).tolist()):
                    if count:
                        self._dropped[node, kind] = self._dropped.get((node, kind), 0) + count
        order, corners, place = order[keep], corners[keep], place[keep]
        face = cross[keep] / twice[keep, None]
        count = len(order)
        self._parts.append(
            (
                corners,
                _corner_normals(p, linear, mirrored, order, place, face),
                face.astype(np.float32),
                0.5 * twice[keep],
                _corner_uv(p.uv0, order),
                _corner_uv(p.uv1, order),
                np.full(count, p.material, np.int32),
                nodes[place],
                np.full(count, number, np.int32),
                order.astype(np.int32),
            )
        )

    def scene(self, level: Level) -> Scene:
        empty = (
            np.zeros((0, 3, 3)), np.zeros((0, 3, 3), np.float32), np.zeros((0, 3), np.float32), np.zeros(0),
            np.zeros((0, 3, 2), np.float32), np.zeros((0, 3, 2), np.float32), *([np.zeros(0, np.int32)] * 3),
            np.zeros((0, 3), np.int32),
        )  # fmt: skip
        columns: list[Any] = [np.concatenate(column) for column in zip(empty, *self._parts)]
        # Nodes in the level's order, and primitives in the mesh's.
        order = np.lexsort((columns[8], columns[7]))
        columns = [column[order] for column in columns]
        sided = np.array([m.double_sided for m in level.materials], dtype=bool)
        notices = tuple(
            Notice(kind, level.nodes[node].path, f"{count} triangles {LEFT_OUT[kind]} are left out.")
            for (node, kind), count in sorted(self._dropped.items())
        )
        worlds = np.array([n.world for n in level.nodes]).reshape(-1, 4, 4)
        names = tuple(n.path for n in level.nodes)
        rest: list[Any] = [sided[columns[6]], level.materials, names, worlds, (), (), notices]
        return Scene(*columns, *rest)


def _corner_normals(p: Primitive, linear: F64, mirrored: NDArray[np.bool_], order: I32, place: I64, face: F64) -> F32:
    flat = np.repeat(face[:, None, :], 3, axis=1)
    if p.normals is None or not len(order):
        return flat.astype(np.float32)
    # Normals go with the cofactor matrix; it keeps their side under mirroring, unlike the inverse transpose.
    rows = linear[:, 0], linear[:, 1], linear[:, 2]
    cofactor = np.stack([np.cross(rows[1], rows[2]), np.cross(rows[2], rows[0]), np.cross(rows[0], rows[1])], axis=1)
    cofactor = np.where(mirrored[:, None, None], -cofactor, cofactor)
    turned = (p.normals.astype(np.float64) @ cofactor.swapaxes(1, 2))[place[:, None], order]
    length = np.linalg.norm(turned, axis=2, keepdims=True)
    unit = np.divide(turned, length, out=np.zeros_like(turned), where=length > 1e-30)
    # A shading normal on the far side of its face would light the wrong side; such corners use the face's own.
    good = np.einsum("tck,tk->tc", unit, face) > 0.05
    return np.where(good[..., None], unit, flat).astype(np.float32)


def _corner_uv(uv: F32 | None, order: I32) -> F32:
    if uv is None:
        return np.full((len(order), 3, 2), np.nan, np.float32)
    return uv[order]


def _emitters(scene: Scene, level: Level, emission: Emission) -> tuple[Emitter, ...]:
    given = [material_emission(level, m, emission) for m in level.materials]
    glow = np.array([bool(radiance.max() > 0) for radiance in given], dtype=bool)
    glowing = np.flatnonzero(glow[scene.material]) if len(scene) and len(glow) else np.zeros(0, np.int64)
    if not len(glowing):
        return ()
    keys = np.stack([scene.node[glowing], scene.material[glowing]], axis=1)
    pairs, owner = np.unique(keys, axis=0, return_inverse=True)
    many = {node for node in pairs[:, 0] if (pairs[:, 0] == node).sum() > 1}
    emitters = []
    for i, (node, material) in enumerate(pairs):
        m = level.materials[material]
        name = level.nodes[node].path + (f":{m.name}" if node in many else "")
        triangles = glowing[owner.ravel() == i].astype(np.int32)
        picture = emission_picture(level, m, scene.uv0[triangles], scene.uv1[triangles])
        sided = bool(scene.double_sided[triangles[0]])
        emitters.append(Emitter(name, triangles, given[material], sided, picture))
    return tuple(emitters)


def material_emission(level: Level, material: Material, emission: Emission) -> F64:
    """(3,) radiance in cd/m² that counts: what is given for the material, else the level's own."""
    if material.name in emission:
        return np.array(emission[material.name], dtype=np.float64)
    return np.array(material.emission, dtype=np.float64) * mean_emission(level, material)
