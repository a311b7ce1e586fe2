"""Lights over the picture: their shape, reach and cone, and grips to place and aim the selected one."""

from __future__ import annotations

import math

import numpy as np

from ropebell.app.desk import Desk
from ropebell.app.stage.overlay import AXES, Grip, Line, Mark, Overlay, circle, plain
from ropebell.level.model import AREA_KINDS
from ropebell.level.placed_light import PlacedLight
from ropebell.light.area_light import frame_of

SHAPES = {"point": "point", "spot": "spot", "directional": "sun"} | {kind: "emitter" for kind in AREA_KINDS}
# Pixels from a light to its grips.
ARM = 52


def light_marks(desk: Desk) -> Overlay:
    """All lights that are not hidden, with reach and grips of the selected ones."""
    now, s = desk.level.now, desk.selection
    if now is None:
        return Overlay()
    lines: list[Line] = []
    marks: list[Mark] = []
    grips: list[Grip] = []
    number = {name: i for i, name in enumerate(now.scene.node_names)}
    chosen = set(s.chosen)
    for light in now.scene.lights:
        if light.name in s.hidden:
            continue
        node = number.get(light.name, -1)
        strong = node in chosen
        name = light.name.rsplit("/", 1)[-1] if strong and node != s.node else ""
        off, live = light.intensity <= 0, light.mode in ("live", "hybrid")
        marks.append(Mark(plain(light.position), SHAPES[light.kind], name, node, off, live, strong))
        if strong:
            lines += reach_lines(light)
            if light.mode == "hybrid":
                lines += blend_lines(light, now.project.brief.blend_distance)
        if node == s.node:
            grips += light_grips(light, ARM * desk.pixel_size(light.position))
    return Overlay(tuple(lines), tuple(marks), tuple(grips))


def light_grips(light: PlacedLight, arm: float) -> list[Grip]:
    """Along the three axes, and where it has a direction, one to aim it.

    Args:
        arm: metres from the light.
    """
    at = light.position
    grips = [Grip(f"move {a}", plain(at + arm * np.array(d)), d, a.upper()) for a, d in AXES.items()]
    if light.kind != "point":
        grips.append(Grip("aim", plain(at + light.direction * arm * 1.9), None, "aim"))
    return grips


def blend_lines(light: PlacedLight, distance: float) -> list[Line]:
    """Within this ring the game lights by a hybrid light itself, beyond it the far set of pages does."""
    turn = np.linspace(0.0, 2.0 * np.pi, 73)
    ring = np.stack([np.cos(turn), np.zeros_like(turn), np.sin(turn)], axis=1) * distance + light.position
    return [Line(ring, "text", 1.2, dashed=True)]


def reach_lines(light: PlacedLight) -> list[Line]:
    """Reach and cone of a light as lines."""
    at, far = light.position, light.reach or 0.0
    lines: list[Line] = []
    if light.kind == "point" and far > 0:
        lines += [
            Line(circle(at, far, np.array(a)), "accent", 1.2, dashed=i > 0)
            for i, a in enumerate(([0, 1, 0], [1, 0, 0], [0, 0, 1]))
        ]
    elif light.kind == "spot":
        length = far or 4.0
        for angle, dashed in ((light.outer_cone, False), (light.inner_cone, True)):
            if angle < 1e-3:
                continue
            rim = circle(at + light.direction * length * math.cos(angle), length * math.sin(angle), light.direction)
            lines.append(Line(rim, "accent", 1.2, dashed))
            if not dashed:
                spokes = np.stack([np.repeat(at[None], 4, 0), rim[:-1][::12]], axis=1).reshape(-1, 3)
                lines.append(Line(spokes, "accent", 1.2, pairs=True))
    elif light.kind in AREA_KINDS:
        lines += outlines(light)
        if light.kind != "tube":
            lines.append(Line(np.stack([at, at + 0.6 * light.direction]), "accent", 2.0))
    elif light.kind == "directional":
        lines.append(Line(np.stack([at, at + 3.0 * light.direction]), "accent", 2.0))
    return lines


def outlines(light: PlacedLight) -> list[Line]:
    """The shape of a rectangle, disk or tube of light."""
    right, up, front = frame_of(light)
    at = light.position
    if light.kind == "rectangle":
        x, y = right * light.width / 2, up * light.height / 2
        return [Line(np.stack([at - x - y, at + x - y, at + x + y, at - x + y, at - x - y]), "accent", 1.6)]
    if light.kind == "disk":
        return [Line(circle(at, light.size, front), "accent", 1.6)]
    half = right * light.width / 2
    sides = [a * light.size for a in (up, -up, front, -front)]
    along = np.concatenate([np.stack([at - half + side, at + half + side]) for side in sides])
    ends = [Line(circle(at + end, light.size, right), "accent", 1.2) for end in (-half, half)]
    return [*ends, Line(along, "accent", 1.2, pairs=True)]
