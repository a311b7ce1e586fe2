"""Where to stand so that something can be seen: not behind a wall, not inside a solid."""

from __future__ import annotations

import math

import numpy as np

from ropebell.app.stage.camera import Camera
from ropebell.app.stage.picture import StagePicture
from ropebell.level.model import F64

TURNS = 12
PITCHES = (-0.35, 0.05, -0.8)
# The view of now is kept unless another one shows so much more.
LOYALTY = 0.35
# Rays begin this share of the way to the eye, off the surface that the place may lie on.
CLEAR_OF = 0.06


def clear_view(picture: StagePicture, camera: Camera, low: F64, high: F64, aspect: float, node: int) -> Camera:
    """The camera at a box, from the side that leaves most room before something is in the way.

    Args:
        node: the object in the box, which is never in the way of itself; -1 for none.
    """
    views = [camera]
    views += [
        Camera(yaw=camera.yaw + turn * 2 * math.pi / TURNS, pitch=pitch) for pitch in PITCHES for turn in range(TURNS)
    ]
    framed = [view.framing(low, high, aspect) for view in views]
    middle = (low + high) / 2
    best, most = framed[0], -1.0
    for index, view in enumerate(framed):
        wanted = float(np.linalg.norm(np.array(view.eye) - middle))
        share = min(_free(picture, middle, -view.forward, node, wanted) / wanted, 1.0) + (
            LOYALTY if index == 0 else 0.0
        )
        if share > most + 1e-3:
            best, most = view, share
    wanted = float(np.linalg.norm(np.array(best.eye) - middle))
    free = _free(picture, middle, -best.forward, node, wanted)
    return best.at(middle - best.forward * min(wanted, max(0.92 * free, 0.15)))


def _free(picture: StagePicture, start: F64, away: F64, node: int, wanted: float) -> float:
    """Metres from a place until a ray meets something other than the object itself; 0 from within a solid."""
    gone = CLEAR_OF * wanted
    at = start + away * gone
    for _ in range(12):
        t, _ = picture.first_visible(at, away, frozenset())
        if t < 0:
            return math.inf
        corner = picture.scene.corners[t]
        normal = picture.scene.face_normals[t].astype(np.float64)
        along = float(away @ normal)
        step = float((corner[0] - at) @ normal) / along if abs(along) > 1e-9 else 0.0
        gone += max(step, 0.0)
        if int(picture.scene.node[t]) != node:
            return 0.0 if along > 0 and not picture.scene.double_sided[t] else gone
        at = at + away * (max(step, 0.0) + picture.space.extent * 2e-5)
    return gone
