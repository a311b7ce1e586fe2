"""The play region over the picture: its boxes, the start point, and grips on the box that is edited."""

from __future__ import annotations

import numpy as np

from ropebell.app.reading import Opened
from ropebell.app.stage.overlay import AXES, Grip, Line, Mark, Overlay, box_edges, plain
from ropebell.level.brief import Box
from ropebell.sight.walk import start_point

FACES = ("x0", "x1", "y0", "y1", "z0", "z1")
# Metres from the start point to its grips.
START_ARM = 0.8


def region_marks(now: Opened, row: int) -> Overlay:
    """Args: row: of the box that is edited."""
    lines: list[Line] = []
    grips: list[Grip] = []
    marks: list[Mark] = []
    for index, box in enumerate(now.project.brief.region.boxes):
        chosen = index == row
        edges = box_edges(box.low, box.high)
        lines.append(Line(edges, "accent" if chosen else "text", 2.0 if chosen else 1.2, pairs=True))
        if chosen:
            grips += _face_grips(box)
    start = start_point(now.level, now.scene, now.project.brief)
    if start is not None:
        marks.append(Mark(start, "start", "start"))
        grips += [
            Grip(f"start {a}", plain(np.array(start) + START_ARM * np.array(AXES[a])), AXES[a], a.upper()) for a in "xz"
        ]
    return Overlay(tuple(lines), tuple(marks), tuple(grips))


def _face_grips(box: Box) -> list[Grip]:
    middle = (np.array(box.low) + np.array(box.high)) / 2
    grips = []
    for name in FACES:
        axis = "xyz".index(name[0])
        at = middle.copy()
        at[axis] = (box.low if name[1] == "0" else box.high)[axis]
        grips.append(Grip(f"box {name}", plain(at), AXES[name[0]]))
    return grips
