"""glTF 2.0 to `Level`."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from ropebell.errors import LevelError
from ropebell.level.gltf_accessors import Accessors
from ropebell.level.gltf_container import read_container
from ropebell.level.gltf_document import Json
from ropebell.level.gltf_materials import read_images, read_materials
from ropebell.level.gltf_meshes import read_meshes
from ropebell.level.gltf_nodes import read_lights, read_nodes
from ropebell.level.limits import MAX_TRIANGLES
from ropebell.level.model import Image, Level, Material, Notice, TextureUse

# Read for what they say about light.
HONOURED = {
    "KHR_lights_punctual",
    "KHR_materials_emissive_strength",
    "KHR_materials_unlit",
    "KHR_mesh_quantization",
    "KHR_texture_transform",
}
# Change how a surface looks, not the diffuse light on it.
HARMLESS = {
    "KHR_materials_anisotropy",
    "KHR_materials_clearcoat",
    "KHR_materials_dispersion",
    "KHR_materials_ior",
    "KHR_materials_iridescence",
    "KHR_materials_sheen",
    "KHR_materials_specular",
    "KHR_materials_variants",
    "KHR_xmp_json_ld",
}


def read_gltf(path: Path) -> Level:
    """Read a `.gltf` or `.glb` level.

    Raises:
        LevelError: with file, place and remedy, for anything that cannot be read.
    """
    container = read_container(path)
    root = Json(container.json, path, "")
    notices: list[Notice] = []
    _check_extensions(root, notices)
    accessors = Accessors(container, root)
    images = read_images(container, root, accessors, notices)
    materials = read_materials(root, images, notices)
    meshes = read_meshes(root, accessors, len(materials) - 1, notices)
    lights = read_lights(root, notices)
    nodes = read_nodes(root, len(meshes), len(lights), notices)
    materials, kept = _without_missing(materials, images)
    if root.array("animations"):
        notices.append(Notice("animations", "animations", "Animations are left out; the resting pose is baked."))
    files = tuple(dict.fromkeys(container.files))
    level = Level(
        path, tuple(nodes), tuple(meshes), tuple(materials), tuple(lights), tuple(kept), tuple(notices), files
    )  # fmt: skip
    if level.triangle_count() > MAX_TRIANGLES:
        raise LevelError(f"it has {level.triangle_count():,} triangles", path, "Split the level")
    return level


def _check_extensions(root: Json, notices: list[Notice]) -> None:
    for name in root.array("extensionsRequired"):
        if str(name) not in HONOURED | HARMLESS:
            remedy = "Export the level without it"
            raise LevelError(f"it requires the extension {name}, which is not supported", root.path, remedy)
    for name in root.array("extensionsUsed"):
        if str(name) not in HONOURED | HARMLESS:
            notices.append(Notice("unread-extension", "extensionsUsed", f"The extension {name} is not read."))


def _without_missing(materials: list[Material], images: list[Image | None]) -> tuple[list[Material], list[Image]]:
    """Drop images that could not be read and renumber their users."""
    number: dict[int, int] = {}
    kept: list[Image] = []
    for i, image in enumerate(images):
        if image is not None:
            number[i] = len(kept)
            kept.append(image)

    def moved(use: TextureUse | None) -> TextureUse | None:
        if use is None or use.image not in number:
            return None
        return TextureUse(number[use.image], use.texcoord, use.wrap, use.affine)

    renumbered = [
        replace(m, base_texture=moved(m.base_texture), emission_texture=moved(m.emission_texture)) for m in materials
    ]
    return renumbered, kept
