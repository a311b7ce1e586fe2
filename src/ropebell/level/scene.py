"""The scene: one flat table of world triangles, one of lights, one of emitters."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.level.arrange import Marks
from ropebell.level.cutouts import Cutouts
from ropebell.level.emission_picture import EmissionPicture
from ropebell.level.model import F32, F64, I32, Material, Notice
from ropebell.level.placed_light import PlacedLight
from ropebell.level.triangles import corner_bounds


@dataclass(frozen=True, eq=False)
class Emitter:
    """The glowing triangles of one node and material.

    Attributes:
        name: path of the node, with the material behind a colon when the node has several glowing ones.
        triangles: (n,) int32 into the scene's triangles.
        radiance: (3,) float64 linear RGB in cd/m², the mean where a picture spreads it.
        picture: how it is spread over the triangles; None: evenly.
    """

    name: str
    triangles: I32
    radiance: F64
    double_sided: bool
    picture: EmissionPicture | None = None


@dataclass(frozen=True, eq=False)
class Scene:
    """World triangles, struct of arrays; T of them.

    Attributes:
        corners: (T, 3, 3) float64, metres, wound counter-clockwise seen from the front.
        normals: (T, 3, 3) float32 unit shading normals per corner.
        face_normals: (T, 3) float32 unit.
        areas: (T,) float64, m².
        uv0, uv1: (T, 3, 2) float32, NaN where the primitive has none.
        material, node, primitive: (T,) int32.
        vertices: (T, 3) int32, indices into the primitive's own vertices.
        double_sided: (T,) bool.
        node_world: (nodes, 4, 4) float64 transforms to the level's frame.
        factor: (T,) float32 factor on the level's texels per metre.
        part: (T,) bool, whether the triangle takes part in a build.
        casts: (T,) bool, whether it blocks light. shadowed: (T,) bool, whether it receives shadow. reflects: (T,) bool,
            whether it adds bounced light.
        bare: (T,) bool, whether it blocks and bounces light but gets no lightmap: marked so, or drawn unlit.
        effort: (T,) float32 share of the gather rays that its texels get, less outside the play region.
        marks: in force, one per node.
        cutouts: triangles with holes, None if there are none.

    The triangles of one node are contiguous and nodes come in the level's order.
    """

    corners: F64
    normals: F32
    face_normals: F32
    areas: F64
    uv0: F32
    uv1: F32
    material: I32
    node: I32
    primitive: I32
    vertices: I32
    double_sided: np.ndarray
    materials: tuple[Material, ...]
    node_names: tuple[str, ...]
    node_world: F64
    lights: tuple[PlacedLight, ...]
    emitters: tuple[Emitter, ...]
    notices: tuple[Notice, ...] = field(default=())
    factor: F32 = field(default_factory=lambda: np.zeros(0, np.float32))
    part: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, np.bool_))
    effort: F32 = field(default_factory=lambda: np.zeros(0, np.float32))
    casts: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, np.bool_))
    shadowed: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, np.bool_))
    reflects: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, np.bool_))
    bare: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, np.bool_))
    marks: Marks = field(default_factory=lambda: Marks((), ()))
    cutouts: Cutouts | None = None

    def __len__(self) -> int:
        return len(self.corners)

    def node_ranges(self) -> list[tuple[int, int, int]]:
        """(node, first triangle, one past the last) of every node with triangles."""
        nodes, first = np.unique(self.node, return_index=True)
        ends = np.append(first[1:], len(self))
        return [(int(n), int(a), int(b)) for n, a, b in zip(nodes, first, ends)]

    def faces(self, rows: NDArray[Any]) -> Scene:
        """The same with some of the triangles; emitters and cut-outs still count all of them.

        Args:
            rows: their numbers, or (T,) bool.
        """
        return replace(self, **{name: getattr(self, name)[rows] for name in PER_TRIANGLE})

    def density(self, texels_per_metre: float) -> F32:
        """(T,) float32 texels per metre of each triangle."""
        factor = self.factor if len(self.factor) else np.ones(len(self), np.float32)
        return (factor * np.float32(texels_per_metre)).astype(np.float32)

    def bounds(self) -> tuple[F64, F64]:
        """Lowest and highest corner; zeros for an empty scene."""
        if not len(self):
            return np.zeros(3), np.zeros(3)
        low, high = corner_bounds(self.corners)
        return low.min(axis=0), high.max(axis=0)


def taking_part(scene: Scene) -> Scene:
    """The scene without what is left out, moves, or is lit by the game alone."""
    lights = tuple(light for light in scene.lights if light.mode != "live")
    if scene.part.all():
        return scene if len(lights) == len(scene.lights) else replace(scene, lights=lights)
    kept = np.flatnonzero(scene.part)
    number = np.full(len(scene), -1, np.int32)
    number[kept] = np.arange(len(kept), dtype=np.int32)
    emitters = []
    for emitter in scene.emitters:
        rows = number[emitter.triangles]
        if (rows >= 0).any():
            picture = emitter.picture.among(rows >= 0) if emitter.picture is not None else None
            emitters.append(replace(emitter, triangles=rows[rows >= 0], picture=picture))
    cutouts = scene.cutouts.among(number) if scene.cutouts is not None else None
    return replace(scene.faces(kept), lights=lights, emitters=tuple(emitters), cutouts=cutouts)


# A place is the middle of a box within this share of its longest side.
MIDDLE = 0.01
PER_TRIANGLE = (
    "corners", "normals", "face_normals", "areas", "uv0", "uv1", "material", "node", "primitive", "vertices",
    "double_sided", "factor", "part", "effort", "casts",
    "shadowed", "reflects", "bare",
)  # fmt: skip


def is_middle(scene: Scene, node: int, place: Sequence[float] | None) -> bool:
    """Whether a place is the middle of an object's box: it stands for the whole of it, and not for a spot on it."""
    corners = scene.corners[scene.node == node].reshape(-1, 3)
    if place is None or not len(corners):
        return False
    low, high = corners.min(axis=0), corners.max(axis=0)
    return bool(np.abs(np.array(place) - (low + high) / 2).max() <= MIDDLE * max(float((high - low).max()), 1e-9))


def index_of(scene: Scene, path: str) -> int:
    """Index of the node with this path, −1 where there is none."""
    try:
        return scene.node_names.index(path)
    except ValueError:
        return -1
