"""The play region over the picture: its boxes, the start point, and grips on the box that is edited."""

from __future__ import annotations

import numpy as np

from ropebell.app.box_grips import face_grips
from ropebell.app.reading import Opened
from ropebell.app.stage.overlay import AXES, Grip, Line, Mark, Overlay, box_edges, plain
from ropebell.sight.walk import start_point

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
            grips += face_grips(box)
    start = start_point(now.level, now.scene, now.project.brief)
    if start is not None:
        marks.append(Mark(start, "start", "start"))
        grips += [
            Grip(f"start {a}", plain(np.array(start) + START_ARM * np.array(AXES[a])), AXES[a], a.upper()) for a in "xz"
        ]
    return Overlay(tuple(lines), tuple(marks), tuple(grips))
