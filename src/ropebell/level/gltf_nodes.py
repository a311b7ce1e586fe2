"""The node tree of a glTF document: transforms, paths, lights. Walked without recursion; cycles are refused."""

from __future__ import annotations

import json
import math
from typing import Any

import numpy as np

from ropebell.level.gltf_document import Json
from ropebell.level.limits import MAX_LIGHTS, MAX_NODES, MAX_PATH_CHARACTERS
from ropebell.level.model import F64, LIGHT_KINDS, Light, Node, Notice

PUNCTUAL = "KHR_lights_punctual"


def read_lights(root: Json, notices: list[Notice]) -> list[Light]:
    """The punctual lights; directional ones carry lux, the others candela."""
    lights = []
    for spec in root.child("extensions").child(PUNCTUAL).children("lights"):
        kind = spec.text("type", "")
        if kind not in LIGHT_KINDS:
            raise spec.wrong(f"is '{kind}', not one of {', '.join(LIGHT_KINDS)}", "type")
        color = spec.numbers("color", (1.0, 1.0, 1.0), 3)
        assert color is not None
        reach = spec.number("range", 0.0, least=0.0) if spec.has("range") else None
        if reach == 0.0:
            notices.append(Notice("zero-reach", spec.place, "A range of zero lights nothing; it is read as unlimited."))
            reach = None
        cone = spec.child("spot")
        outer = cone.number("outerConeAngle", math.pi / 4, 1e-6, math.pi / 2)
        inner = cone.number("innerConeAngle", 0.0, 0.0, math.pi / 2)
        lights.append(
            Light(
                name=spec.text("name", "") or spec.place,
                kind=kind,
                color=(color[0], color[1], color[2]),
                intensity=spec.number("intensity", 1.0, least=0.0),
                reach=reach,
                inner_cone=min(inner, outer - 1e-6),
                outer_cone=outer,
            )
        )
    return lights


IDENTITY: F64 = np.eye(4)
IDENTITY.flags.writeable = False


def local_transform(spec: Json) -> F64:
    """The node's (4, 4) transform from `matrix` or translation, rotation (x, y, z, w) and scale."""
    if not any(key in spec.value for key in ("matrix", "translation", "rotation", "scale")):
        return IDENTITY
    matrix = spec.numbers("matrix", None, 16)
    if matrix is not None:
        return np.array(matrix, dtype=np.float64).reshape(4, 4).T
    t = spec.numbers("translation", (0.0, 0.0, 0.0), 3)
    q = spec.numbers("rotation", (0.0, 0.0, 0.0, 1.0), 4)
    s = spec.numbers("scale", (1.0, 1.0, 1.0), 3)
    assert t is not None and q is not None and s is not None
    length = math.sqrt(sum(v * v for v in q))
    if length < 1e-12:
        raise spec.wrong("is a quaternion of length zero", "rotation")
    x, y, z, w = (v / length for v in q)
    turn = np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )
    local = np.eye(4)
    local[:3, :3], local[:3, 3] = turn * np.array(s), t
    return local


def _children(spec: Json, count: int) -> list[int]:
    found = []
    for i, child in enumerate(spec.array("children")):
        if isinstance(child, bool) or not isinstance(child, int) or not 0 <= child < count:
            raise spec.wrong(f"is {child!r}, but there are only {count} nodes", f"children[{i}]")
        found.append(child)
    return found


def _roots(root: Json, count: int, children: list[list[int]]) -> list[int]:
    scenes = root.children("scenes")
    if scenes:
        scene = scenes[root.index("scene", len(scenes), default=0)]
        return _children(Json({"children": scene.array("nodes")}, root.path, scene.place), count)
    owned = {child for group in children for child in group}
    return [i for i in range(count) if i not in owned]


def read_nodes(root: Json, mesh_count: int, light_count: int, notices: list[Notice]) -> list[Node]:
    """The nodes that the scene reaches, parents first.

    Raises:
        LevelError: a node is its own ancestor, has two parents, or its transform is not finite.
    """
    specs = root.children("nodes")
    if len(specs) > MAX_NODES:
        raise root.wrong(f"has {len(specs):,} nodes, more than the {MAX_NODES:,} that are read", "nodes")
    children = [_children(spec, len(specs)) for spec in specs]
    nodes: list[Node] = []
    written, carried = 0, 0
    taken: dict[str, int] = {}
    seen: set[int] = set()
    waiting = [(i, -1) for i in reversed(_roots(root, len(specs), children))]
    while waiting:
        i, parent = waiting.pop()
        spec = specs[i]
        if i in seen:
            raise spec.wrong("is reached twice: it is its own ancestor or has two parents", "children")
        seen.add(i)
        above = nodes[parent] if parent >= 0 else None
        local = local_transform(spec)
        with np.errstate(over="ignore", invalid="ignore"):
            world = local if above is None else above.world if local is IDENTITY else above.world @ local
        if local is not IDENTITY and not (np.abs(world) < 1e12).all():
            raise spec.wrong("has a transform that is not finite")
        name = spec.text("name", "") or f"node {i}"
        written += len(name) + (len(above.path) + 1 if above is not None else 0)
        if written > MAX_PATH_CHARACTERS:
            raise spec.wrong(
                f"makes the paths of all nodes longer than the {MAX_PATH_CHARACTERS:,} that are read", "name"
            )
        path = _unique(f"{above.path}/{name}" if above is not None else name, taken)
        light = spec.child("extensions").child(PUNCTUAL).index("light", light_count, default=-1)
        mesh = spec.index("mesh", mesh_count, default=-1)
        if spec.has("skin"):
            notices.append(Notice("skin", spec.place, f"'{name}' is skinned; its resting shape is baked."))
        carried += light >= 0
        if carried > MAX_LIGHTS:
            raise spec.wrong(f"is one of more than the {MAX_LIGHTS:,} lights that are read")
        nodes.append(Node(name, path, parent, local, world, mesh, light, _extras(spec, notices)))
        waiting.extend((child, len(nodes) - 1) for child in reversed(children[i]))
    return nodes


def _extras(spec: Json, notices: list[Notice]) -> Any:
    """A node's extras, if they can be written again as they are."""
    extras = spec.value.get("extras")
    if extras is not None:
        try:
            json.dumps(extras, allow_nan=False, ensure_ascii=False).encode()
        except (ValueError, RecursionError):
            notices.append(
                Notice(
                    "unread-extension",
                    spec.place,
                    "Its extras are no JSON that can be written again; they are left out.",
                )
            )
            return None
    return extras


def _unique(path: str, taken: dict[str, int]) -> str:
    """`path`, or `path #2`, `path #3` … where siblings share a name."""
    count = taken.get(path, 0) + 1
    taken[path] = count
    if count == 1:
        return path
    return _unique(f"{path} #{count}", taken)
