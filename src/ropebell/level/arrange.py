"""The level as the brief arranges it: objects moved or posed, lights added."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from ropebell.level.brief import ADDED, DEFAULT_MARK, NO_MARK, Brief, Mark, Move, Pose
from ropebell.level.model import F64, Level, Light, Mesh, Node

ROLES = ("baked", "blocks", "moving", "left-out")


@dataclass(frozen=True, eq=False)
class Marks:
    """The marks in force, one per node.

    Attributes:
        nodes: effective mark of every node, all values set but `two_sided`, texts and poses.
        inherited: what each node would have without a mark of its own.
    """

    nodes: tuple[Mark, ...]
    inherited: tuple[Mark, ...]

    def exceptions(self, level: Level, brief: Brief, branch: str) -> list[tuple[str, str]]:
        """(path, setting) wherever a node below `branch` differs from what the branch says."""
        said = brief.branches.get(branch)
        if said is None:
            return []
        keys = [k for k, v in vars(said).items() if v not in (None, {}) and k in Mark.__dataclass_fields__]
        found = []
        for index, node in enumerate(level.nodes):
            if not node.path.startswith(f"{branch}/"):
                continue
            for key in keys:
                if getattr(self.nodes[index], key) != getattr(said, key) and key not in ("bias", "poses"):
                    found.append((node.path, key))
        return found


def marks_in_force(level: Level, brief: Brief) -> Marks:
    """Resolve marks: a node's own, then the nearest branch above it, then the default."""
    own: list[Mark] = []
    inherited: list[Mark] = []
    for node in level.nodes:
        below = inherited[node.parent] if node.parent >= 0 else DEFAULT_MARK
        branch = brief.branches.get(node.path, NO_MARK)
        down = branch.over(below)
        inherited.append(down)
        own.append(brief.marks.get(node.path, NO_MARK).over(down))
    return Marks(tuple(own), tuple(inherited))


def arranged(level: Level, brief: Brief, marks: Marks) -> Level:
    """The level with poses and moves applied and added lights appended as nodes of the group `added`."""
    changes: dict[int, F64] = {}
    for index, node in enumerate(level.nodes):
        step = np.eye(4)
        if node.path in brief.moves:
            step = step @ transform(brief.moves[node.path])
        pose = chosen_pose(marks.nodes[index])
        if pose is not None and not pose.absent:
            step = step @ transform(Move(pose.move, pose.turn))
        if not np.array_equal(step, np.eye(4)):
            changes[index] = step
    nodes = list(level.nodes)
    if changes:
        for index, node in enumerate(level.nodes):
            above = nodes[node.parent].world if node.parent >= 0 else np.eye(4)
            moved = node.parent >= 0 and nodes[node.parent] is not level.nodes[node.parent]
            if index in changes or moved:
                local = node.local @ changes.get(index, np.eye(4))
                nodes[index] = replace(node, local=local, world=above @ local)
    meshes = _turned_round(level, nodes, marks)
    lights = list(level.lights)
    for name, added in brief.added.items():
        world = aimed(np.array(added.position), np.array(added.direction))
        nodes.append(Node(name, f"{ADDED}/{name}", -1, world, world, light=len(lights)))
        lights.append(Light(name, added.kind))
    return replace(level, nodes=tuple(nodes), meshes=meshes, lights=tuple(lights))


def _turned_round(level: Level, nodes: list[Node], marks: Marks) -> tuple[Mesh, ...]:
    """The meshes, with others at the end whose faces are turned round, for the nodes that are marked so."""
    meshes, of = list(level.meshes), dict[int, int]()
    for index, node in enumerate(nodes):
        if node.mesh < 0 or not marks.nodes[index].turned:
            continue
        if node.mesh not in of:
            of[node.mesh] = len(meshes)
            mesh = level.meshes[node.mesh]
            turned_ = tuple(
                replace(p, triangles=np.ascontiguousarray(p.triangles[:, ::-1]),
                        normals=None if p.normals is None else -p.normals) for p in mesh.primitives
            )  # fmt: skip
            meshes.append(Mesh(mesh.name, turned_))
        nodes[index] = replace(node, mesh=of[node.mesh])
    return tuple(meshes)


def chosen_pose(mark: Mark) -> Pose | None:
    """The pose to build, None for as in the level."""
    return mark.poses.get(mark.pose or "")


def transform(move: Move) -> F64:
    """(4, 4) of a move: scale and stretch, then turns about X, Y, Z, then the shift."""
    made = np.eye(4)
    made[:3, :3] = turned(*(math.radians(a) for a in move.turn)) * (move.scale * np.array(move.stretch))
    made[:3, 3] = move.move
    return made


def turned(x: float, y: float, z: float) -> F64:
    """(3, 3) rotation by radians about X, then Y, then Z."""
    cx, sx, cy, sy, cz, sz = math.cos(x), math.sin(x), math.cos(y), math.sin(y), math.cos(z), math.sin(z)
    about_x = np.array([[1, 0, 0], [0, cx, -sx], [0, sx, cx]])
    about_y = np.array([[cy, 0, sy], [0, 1, 0], [-sy, 0, cy]])
    about_z = np.array([[cz, -sz, 0], [sz, cz, 0], [0, 0, 1]])
    found: F64 = about_z @ about_y @ about_x
    return found


def aimed(position: F64, direction: F64) -> F64:
    """(4, 4) transform at a position whose −Z axis points along a direction (any length; zero looks down)."""
    length = float(np.linalg.norm(direction))
    z = -direction / length if length > 1e-12 else np.array([0.0, 1.0, 0.0])
    helper = np.array([0.0, 1.0, 0.0]) if abs(z[1]) < 0.99 else np.array([1.0, 0.0, 0.0])
    x = np.cross(helper, z)
    x /= np.linalg.norm(x)
    world = np.eye(4)
    world[:3, 0], world[:3, 1], world[:3, 2], world[:3, 3] = x, np.cross(z, x), z, position
    return world
