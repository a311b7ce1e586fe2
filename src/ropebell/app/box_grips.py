"""Grips on the six sides of a box, and where a new box comes to lie."""

from __future__ import annotations

import numpy as np

from ropebell.app.desk import Desk
from ropebell.app.stage.overlay import AXES, Grip, plain
from ropebell.level.brief import Box
from ropebell.level.model import F64

FACES = ("x0", "x1", "y0", "y1", "z0", "z1")
# Metres round a selection; to the middle of a box without one, and half of its side.
AROUND, AHEAD, HALF = 0.2, 4.0, 2.0


def face_grips(box: Box) -> list[Grip]:
    """One on each side, named `box x0` … `box z1`."""
    middle = (np.array(box.low) + np.array(box.high)) / 2
    grips = []
    for name in FACES:
        axis = "xyz".index(name[0])
        at = middle.copy()
        at[axis] = (box.low if name[1] == "0" else box.high)[axis]
        grips.append(Grip(f"box {name}", plain(at), AXES[name[0]]))
    return grips


def face_moved(box: Box, face: str, to: F64) -> Box:
    """The box with one side dragged to a place."""
    low, high = list(box.low), list(box.high)
    axis = "xyz".index(face[0])
    (low if face[1] == "0" else high)[axis] = round(float(to[axis]), 2)
    return Box((low[0], low[1], low[2]), (high[0], high[1], high[2]))


def box_here(desk: Desk) -> Box | None:
    """Round the selection, or round what lies a few metres ahead."""
    now = desk.level.now
    if now is None:
        return None
    rows = np.isin(now.scene.node, desk.selection.chosen)
    if rows.any():
        points = now.scene.corners[rows].reshape(-1, 3)
        low, high = points.min(axis=0) - AROUND, points.max(axis=0) + AROUND
    else:
        camera = desk.stage.camera
        middle = np.array(camera.eye) + AHEAD * camera.forward
        low, high = middle - HALF, middle + HALF
    a, b = (np.round(v, 2).tolist() for v in (low, high))
    return Box((a[0], a[1], a[2]), (b[0], b[1], b[2]))
