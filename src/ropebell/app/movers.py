"""Moving things on the stage: lit by probes or by what is below them, since they have no lightmap of their own.

Each of their faces gets one texel on a page of its own behind the lightmaps, so that the stage draws and reads them
like anything else.
"""

from __future__ import annotations

import numpy as np

from ropebell.app.stage.drawn import Charted
from ropebell.build.mover import Lightmapped, mover_light
from ropebell.level.model import F32
from ropebell.level.scene import Scene
from ropebell.light.harmonics import irradiance
from ropebell.light.probes import Probes


def lit_movers(
    scene: Scene, surfaces: Lightmapped, probes: Probes | None, charted: Charted, below: bool
) -> tuple[Charted, F32 | None]:
    """Charts with a place for the faces of moving things, and the page they lie on; None where there are none.

    Args:
        scene: everything that is placed, in whose triangle order `charted` is.
        below: light them by the surface below instead of by probes.
    """
    moving = np.array([m.role == "moving" for m in scene.marks.nodes] + [False], dtype=np.bool_)
    rows = np.flatnonzero(moving[scene.node] & (charted.page < 0)) if len(scene.marks.nodes) else np.zeros(0, np.int64)
    side, count = charted.side, surfaces.total.shape[0]
    rows = rows[: side * side]
    if not len(rows):
        return charted, None
    light = np.zeros((side * side, 3), np.float32)
    known = np.zeros(len(rows), np.bool_)
    for node in np.unique(scene.node[rows]):
        mine = np.flatnonzero(scene.node[rows] == node)
        corners = scene.corners[rows[mine]].reshape(-1, 3)
        found = mover_light(surfaces, probes, (corners.min(axis=0) + corners.max(axis=0)) / 2)
        if not below and found.sources:
            light[mine] = irradiance(found.coefficients, scene.face_normals[rows[mine]])
        elif found.below is not None:
            light[mine] = found.below
        else:
            continue
        known[mine] = True
    uv, page = charted.uv.copy(), charted.page.copy()
    at = np.stack([np.arange(len(rows)) % side + 0.5, np.arange(len(rows)) // side + 0.5], axis=1)
    uv[rows[known]] = at[known][:, None, :]
    page[rows[known]] = count
    return Charted(uv, page, side), light.reshape(1, side, side, 3)
