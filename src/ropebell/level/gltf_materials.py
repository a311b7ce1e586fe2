"""Images, textures and materials of a glTF document."""

from __future__ import annotations

import math

import numpy as np

from ropebell.errors import LevelError
from ropebell.level.gltf_accessors import Accessors
from ropebell.level.gltf_container import Container, read_uri
from ropebell.level.gltf_document import Json
from ropebell.level.images import Pictures
from ropebell.level.limits import MAX_IMAGE_BYTES
from ropebell.level.model import F64, Image, Material, Notice, TextureUse

STRENGTH, UNLIT, TRANSFORM = "KHR_materials_emissive_strength", "KHR_materials_unlit", "KHR_texture_transform"


def read_images(container: Container, root: Json, accessors: Accessors, notices: list[Notice]) -> list[Image | None]:
    """The decoded images; one that is missing or damaged is None and noticed, since a level bakes without it."""
    images: list[Image | None] = []
    pictures = Pictures()
    for spec in root.children("images"):
        where = f"{container.path}, {spec.place}"
        name = spec.text("name", "") or spec.text("uri", "")[:80].split(",")[0] or spec.place
        try:
            if spec.has("bufferView"):
                data = accessors.view_bytes(spec.index("bufferView", len(root.array("bufferViews"))))
            elif spec.has("uri"):
                data = read_uri(container, spec.text("uri", ""), where, MAX_IMAGE_BYTES)
            else:
                raise spec.wrong("has neither a uri nor a buffer view")
            images.append(pictures.decode(data, name, where))
        except LevelError as error:
            text = f"Picture '{name}' is left out: {error.what}. Surfaces that use it keep their plain colour."
            notices.append(Notice("missing-texture", spec.place, text))
            images.append(None)
    return images


def read_materials(root: Json, images: list[Image | None], notices: list[Notice]) -> list[Material]:
    """The materials, with the glTF default material appended last for primitives that name none."""
    reader = _Materials(root, images, notices)
    return [*(reader.read(spec) for spec in root.children("materials")), Material("default")]


class _Materials:
    def __init__(self, root: Json, images: list[Image | None], notices: list[Notice]) -> None:
        self._textures, self._samplers = root.children("textures"), root.children("samplers")
        self._images, self._notices = images, notices

    def read(self, spec: Json) -> Material:
        surface, extensions = spec.child("pbrMetallicRoughness"), spec.child("extensions")
        color = surface.numbers("baseColorFactor", (1.0, 1.0, 1.0, 1.0), 4)
        emission = spec.numbers("emissiveFactor", (0.0, 0.0, 0.0), 3)
        strength = extensions.child(STRENGTH).number("emissiveStrength", 1.0, least=0.0)
        assert color is not None and emission is not None
        for key, values in (("baseColorFactor", color), ("emissiveFactor", emission)):
            if min(values) < 0 or max(values) > 1:
                raise spec.wrong(f"is {values}, outside 0 … 1", key)
        alpha = spec.text("alphaMode", "OPAQUE")
        if alpha not in ("OPAQUE", "MASK", "BLEND"):
            raise spec.wrong(f"is '{alpha}', which glTF does not know", "alphaMode")
        return Material(
            name=spec.text("name", "") or spec.place,
            base_color=(color[0], color[1], color[2], color[3]),
            base_texture=self._texture(surface, "baseColorTexture"),
            emission=(emission[0] * strength, emission[1] * strength, emission[2] * strength),
            emission_texture=self._texture(spec, "emissiveTexture"),
            double_sided=spec.flag("doubleSided"),
            alpha_mode=alpha,
            alpha_cutoff=spec.number("alphaCutoff", 0.5, least=0.0),
            unlit=extensions.has(UNLIT),
            relief=spec.has("normalTexture"),
        )

    def _texture(self, owner: Json, key: str) -> TextureUse | None:
        if not owner.has(key):
            return None
        use = owner.child(key)
        texture = self._textures[use.index("index", len(self._textures))]
        if not texture.has("source"):
            text = "Its picture is in a format that only an extension describes; the plain colour is used."
            self._notices.append(Notice("missing-texture", texture.place, text))
            return None
        image = texture.index("source", len(self._images))
        if self._images[image] is None:
            return None
        wrap = (10497, 10497)
        if texture.has("sampler"):
            sampler = self._samplers[texture.index("sampler", len(self._samplers))]
            wrap = (sampler.integer("wrapS", 10497), sampler.integer("wrapT", 10497))
        transform = use.child("extensions").child(TRANSFORM)
        texcoord = transform.integer("texCoord", use.integer("texCoord", 0))
        return TextureUse(image, texcoord, wrap, _affine(transform))


def _affine(transform: Json) -> F64:
    """The (2, 3) affine of `KHR_texture_transform`: translation · rotation · scale, as its text defines it."""
    offset = transform.numbers("offset", (0.0, 0.0), 2) or (0.0, 0.0)
    scale = transform.numbers("scale", (1.0, 1.0), 2) or (1.0, 1.0)
    turn = transform.number("rotation", 0.0)
    c, s = math.cos(turn), math.sin(turn)
    return np.array([[c * scale[0], s * scale[1], offset[0]], [-s * scale[0], c * scale[1], offset[1]]])
