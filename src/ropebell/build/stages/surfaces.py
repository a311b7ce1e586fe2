"""What each texel throws back. It hangs on the level's pictures, so it has no name before the level is read."""

from __future__ import annotations

import hashlib
from typing import NamedTuple

import numpy as np

from ropebell.build.forms import ALBEDO as FORM
from ropebell.build.progress import Tick
from ropebell.build.stage import ONLY, Stage, Work
from ropebell.build.stages.charts import CHARTS
from ropebell.build.stages.scene import SCENE
from ropebell.build.store import Artifact
from ropebell.charts.texels import footprint_areas
from ropebell.digest import digest_of
from ropebell.level.cutouts import has_holes
from ropebell.level.model import F32, Level
from ropebell.level.scene import Scene
from ropebell.light.albedo import texel_albedo


class Surfaces(NamedTuple):
    """(N, 3) float32 albedo, and the digest it is kept under."""

    albedo: F32
    digest: str


def surfaces_digest(level: Level, scene: Scene, charts: str) -> str:
    """Names the texels' albedo: charts, base colours and pictures, and which of them lies where."""
    surfaces = [
        [m.base_color, None if m.base_texture is None else [m.base_texture.image, m.base_texture.texcoord,
         m.base_texture.wrap, m.base_texture.affine.tolist()], m.alpha_cutoff if has_holes(m) else None]
        for m in level.materials
    ]  # fmt: skip
    pictures = [hashlib.sha256(image.data).hexdigest() for image in level.images]
    where = np.nan_to_num(scene.uv0, nan=-1e9)
    return digest_of(SURFACES.version, charts, surfaces, pictures, where, scene.material)


def _run(work: Work) -> Surfaces:
    level, scene = work[SCENE].gathered.subject.level, work[SCENE].scene
    atlas, texels, _ = work[CHARTS]
    digest = surfaces_digest(level, scene, work.names.one(CHARTS.name))

    def make(_tick: Tick) -> Artifact:
        albedo = texel_albedo(level, scene, texels, footprint_areas(scene, texels, atlas), work.workers)
        return work.store.put(digest, {"albedo": albedo}, durable=False)

    return Surfaces(work.kept(SURFACES, ONLY, make, digest, N=len(texels)), digest)


SURFACES = Stage(
    "surfaces", "Surface colours", _run, lambda size, _speed: size.texels / 8e5, version=4, forms={"": FORM}
)
