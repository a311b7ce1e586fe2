"""The tables of a level, named as glTF names them."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

F32 = NDArray[np.float32]
F64 = NDArray[np.float64]
I32 = NDArray[np.int32]
I64 = NDArray[np.int64]
U32 = NDArray[np.uint32]
Mask = NDArray[np.bool_]
U8 = NDArray[np.uint8]

# Shapes that go through every stage of the light: N texels, R rays of each.
PerTexel = F32
"""(N,)"""
PerTexel3 = F32
"""(N, 3), red, green and blue"""
TexelIndex = I32
"""(…,) numbers of texels"""
HitTable = I32
"""(N, R) what each ray met: a texel, or a code of `light.lookup`"""

# Of linear red, green and blue (ITU-R BT.709, item 3.2).
LUMINANCE = np.array([0.2126, 0.7152, 0.0722])
LIGHT_KINDS = ("point", "spot", "directional")
# Lights with an area, which a level file does not know; a project adds them.
AREA_KINDS = ("rectangle", "disk", "tube")


@dataclass(frozen=True)
class Notice:
    """Something in a level file that was skipped or repaired, and where.

    Attributes:
        kind: stable identifier, lower case with hyphens.
        where: the place in the file.
        text: one plain sentence.
    """

    kind: str
    where: str
    text: str


@dataclass(frozen=True, eq=False)
class Image:
    """A picture as it lies in the file (`data`, `mime`) and decoded: `pixels` (H, W, 4) uint8, sRGB."""

    name: str
    mime: str
    data: bytes
    pixels: U8


@dataclass(frozen=True, eq=False)
class TextureUse:
    """A material's use of an image: which coordinate set, how it wraps, and an affine of the coordinates.

    Attributes:
        image: index into `Level.images`.
        texcoord: coordinate set, 0 or 1.
        wrap: glTF wrap codes for s and t (10497 repeat, 33071 clamp, 33648 mirrored).
        affine: (2, 3) float64 applied to (u, v, 1), from `KHR_texture_transform`.
    """

    image: int
    texcoord: int = 0
    wrap: tuple[int, int] = (10497, 10497)
    affine: F64 = field(default_factory=lambda: np.eye(2, 3))


@dataclass(frozen=True, eq=False)
class Material:
    """A surface.

    Attributes:
        base_color: linear RGBA factor, each 0 … 1.
        base_texture: albedo picture, multiplied with `base_color`.
        emission: (3,) linear RGB radiance in cd/m², factor times `KHR_materials_emissive_strength`.
        emission_texture: picture that scales `emission`.
        double_sided: seen, lit and shading from both sides.
        relief: has a picture of its relief, by which a game bends the light on it.
    """

    name: str
    base_color: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    base_texture: TextureUse | None = None
    emission: tuple[float, float, float] = (0.0, 0.0, 0.0)
    emission_texture: TextureUse | None = None
    double_sided: bool = False
    alpha_mode: str = "OPAQUE"
    alpha_cutoff: float = 0.5
    unlit: bool = False
    relief: bool = False


@dataclass(frozen=True, eq=False)
class Primitive:
    """Triangles of one material, in the mesh's own frame.

    Attributes:
        positions: (V, 3) float32, metres.
        normals: (V, 3) float32 unit, or None: flat.
        uv0, uv1: (V, 2) float32 texture coordinates, or None.
        triangles: (T, 3) int32 into the vertices.
        material: index into `Level.materials`.
    """

    positions: F32
    triangles: I32
    material: int
    normals: F32 | None = None
    uv0: F32 | None = None
    uv1: F32 | None = None


@dataclass(frozen=True, eq=False)
class Mesh:
    """A named list of primitives, placed by any number of nodes."""

    name: str
    primitives: tuple[Primitive, ...]


@dataclass(frozen=True, eq=False)
class Light:
    """A `KHR_lights_punctual` light in its node's frame: it shines along −Z.

    Attributes:
        intensity: candela (point, spot) or lux (directional), not negative.
        color: linear RGB.
        reach: metres where the light has faded to nothing, or None; the extension's `range`.
        inner_cone, outer_cone: half angles in radians, spot only.
    """

    name: str
    kind: str
    color: tuple[float, float, float] = (1.0, 1.0, 1.0)
    intensity: float = 1.0
    reach: float | None = None
    inner_cone: float = 0.0
    outer_cone: float = 0.7853981633974483


@dataclass(frozen=True, eq=False)
class Node:
    """A place in the scene tree.

    Attributes:
        path: slash-joined names from the root, unique in the level; marks are keyed by it.
        parent: index into `Level.nodes`, −1 for a root.
        local: (4, 4) float64 transform to the parent's frame.
        world: (4, 4) float64 transform to the level's frame.
        mesh, light: indices, or −1.
        extras: what else the file says of it, any JSON, kept as it is; None: nothing.
    """

    name: str
    path: str
    parent: int
    local: F64
    world: F64
    mesh: int = -1
    light: int = -1
    extras: Any = None


@dataclass(frozen=True, eq=False)
class Level:
    """Everything a level file says that matters to light, parents before children in `nodes`.

    Attributes:
        files: others that it is read from: buffers, pictures, material libraries; some may be missing.
    """

    source: Path
    nodes: tuple[Node, ...]
    meshes: tuple[Mesh, ...]
    materials: tuple[Material, ...]
    lights: tuple[Light, ...]
    images: tuple[Image, ...] = ()
    notices: tuple[Notice, ...] = ()
    files: tuple[Path, ...] = ()

    def triangle_count(self) -> int:
        """Triangles over all placed meshes."""
        per_mesh = [sum(len(p.triangles) for p in mesh.primitives) for mesh in self.meshes]
        return sum(per_mesh[node.mesh] for node in self.nodes if node.mesh >= 0)

    def light_nodes(self) -> list[int]:
        """Indices of the nodes that carry a light."""
        return [i for i, node in enumerate(self.nodes) if node.light >= 0]
