"""Collects named objects, groups, materials and lights into a `Level`."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
from PIL import Image as PillowImage

from ropebell.demo.shapes import Shape
from ropebell.level.model import F64, Image, Level, Light, Material, Mesh, Node, Primitive, TextureUse


class LevelBuilder:
    """Grows a level object by object."""

    def __init__(self) -> None:
        self._nodes: list[Node] = []
        self._meshes: list[Mesh] = []
        self._lights: list[Light] = []
        self._materials: dict[str, Material] = {}
        self._images: list[Image] = []
        self._groups: dict[str, int] = {}
        self._mesh_of: dict[tuple[int, str], int] = {}
        self._shapes: list[Shape] = []  # held, so that their ids stay unique

    def picture(self, name: str, pixels: np.ndarray) -> TextureUse:
        """Add a picture, (H, W, 3) uint8 sRGB, or (H, W, 4) with alpha."""
        out = io.BytesIO()
        PillowImage.fromarray(pixels).save(out, "PNG")
        if pixels.shape[2] == 3:
            pixels = np.concatenate([pixels, np.full((*pixels.shape[:2], 1), 255, np.uint8)], axis=2)
        self._images.append(Image(name, "image/png", out.getvalue(), pixels))
        return TextureUse(len(self._images) - 1)

    def material(
        self, name: str, color: tuple[float, float, float], glow: tuple[float, float, float] = (0.0, 0.0, 0.0),
        texture: TextureUse | None = None, double_sided: bool = False, unlit: bool = False, holes: bool = False,
        glow_texture: TextureUse | None = None, alpha: float = 1.0, relief: bool = False,
    ) -> None:  # fmt: skip
        """Declare a material by name.

        Args:
            holes: whether alpha, that of the picture times its own, cuts holes. relief: it has a picture of one, a flat
                one.
        """
        self._materials[name] = Material(
            name,
            (*color, alpha),
            texture,
            glow,
            glow_texture,
            double_sided,
            "MASK" if holes else "OPAQUE",
            unlit=unlit,
            relief=relief,
        )

    def group(self, name: str) -> int:
        """The node of a group, made when first named."""
        if name not in self._groups:
            self._groups[name] = len(self._nodes)
            self._nodes.append(Node(name, name, -1, np.eye(4), np.eye(4)))
        return self._groups[name]

    def add(self, group: str, name: str, shape: Shape, material: str, at: F64 | None = None, uv1: bool = False) -> None:
        """Place a shape; the same `Shape` object placed twice shares its mesh.

        Args:
            at: (4, 4) transform.
            uv1: hand the picture coordinates on as lightmap coordinates, scaled to 0 … 1.
        """
        key = (id(shape), material)
        if key not in self._mesh_of:
            number = list(self._materials).index(material)
            second = None
            if uv1:
                low, high = shape.uv.min(axis=0), shape.uv.max(axis=0)
                second = ((shape.uv - low) / (high - low)).astype(np.float32)
            primitive = Primitive(shape.positions, shape.triangles, number, shape.normals, shape.uv, second)
            self._mesh_of[key] = len(self._meshes)
            self._shapes.append(shape)
            self._meshes.append(Mesh(name, (primitive,)))
        self._node(group, name, np.eye(4) if at is None else at, mesh=self._mesh_of[key])

    def light(self, name: str, light: Light, at: F64) -> None:
        """Place a light."""
        self._lights.append(light)
        self._node("lights", name, at, light=len(self._lights) - 1)

    def spot(self, group: str, name: str, at: F64) -> None:
        """Place a node that carries nothing but its name and place."""
        self._node(group, name, at)

    def _node(self, group: str, name: str, at: F64, mesh: int = -1, light: int = -1) -> None:
        parent = self.group(group)
        self._nodes.append(Node(name, f"{group}/{name}", parent, at, at, mesh, light))

    def level(self, source: Path) -> Level:
        """The level so far."""
        return Level(
            source, tuple(self._nodes), tuple(self._meshes), tuple(self._materials.values()), tuple(self._lights),
            tuple(self._images),
        )  # fmt: skip


def at(x: float, y: float, z: float, turn: float = 0.0, scale: float = 1.0) -> F64:
    """A (4, 4) transform: scale, turn about Y by radians, then move."""
    c, s = np.cos(turn) * scale, np.sin(turn) * scale
    return np.array([[c, 0, s, x], [0, scale, 0, y], [-s, 0, c, z], [0, 0, 0, 1]], dtype=np.float64)


def aimed(position: tuple[float, float, float], target: tuple[float, float, float]) -> F64:
    """A (4, 4) transform whose −Z axis points from a position to a target."""
    p, q = np.array(position), np.array(target)
    z = (p - q) / np.linalg.norm(p - q)
    helper = np.array([0.0, 1.0, 0.0]) if abs(z[1]) < 0.99 else np.array([1.0, 0.0, 0.0])
    x = np.cross(helper, z)
    x /= np.linalg.norm(x)
    world = np.eye(4)
    world[:3, 0], world[:3, 1], world[:3, 2], world[:3, 3] = x, np.cross(z, x), z, p
    return world
