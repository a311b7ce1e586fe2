"""Lights in their places: as the level has them, and as the project changes them."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ropebell.level.brief import Brief, LightChange
from ropebell.level.model import AREA_KINDS, F64, LUMINANCE, Level, Light

# Disks and tubes are never thinner than this radius, metres.
SMALLEST = 1e-3


@dataclass(frozen=True, eq=False)
class PlacedLight:
    """A light in the level's frame.

    Attributes:
        name: path of its node.
        position: (3,) float64 metres.
        direction: (3,) float64 unit vector along which it shines (spot, directional).
        intensity: candela or lux, see `Light`; 0 when switched off.
        mode: baked, hybrid, live or undecided; live ones are left to the game.
        size: radius of the source in metres, or half angle of a sun's disk in degrees.
        width, height: of a rectangle in metres; the width of a tube is its length. roll: radians about the direction.
        share, saturation: what of it goes into the bounces, and how much of its colour.
        subtracts: takes light away.
        work: a work light. aimed: it has a direction, if its kind needs one; without one it gives no light.
    """

    name: str
    kind: str
    position: F64
    direction: F64
    color: tuple[float, float, float]
    intensity: float
    reach: float | None
    inner_cone: float
    outer_cone: float
    mode: str = "baked"
    size: float = 0.0
    width: float = 1.0
    height: float = 1.0
    roll: float = 0.0
    share: float = 1.0
    saturation: float = 1.0
    subtracts: bool = False
    work: bool = False
    aimed: bool = True

    @property
    def strength(self) -> F64:
        """(3,) linear RGB intensity; negative for a light that subtracts."""
        return np.array(self.color, dtype=np.float64) * (-self.intensity if self.subtracts else self.intensity)

    @property
    def thrown(self) -> F64:
        """(3,) what of it goes into the bounces: its share, with as much of its colour as it keeps."""
        return thrown_light(self.strength, self.share, self.saturation)

    @property
    def setting(self) -> dict[str, Any]:
        """What of it no ray depends on, as plain values for the manifest."""
        return {
            "intensity": self.intensity, "color": list(self.color), "share": self.share,
            "saturation": self.saturation, "subtracts": self.subtracts, "hybrid": self.mode == "hybrid",
        }  # fmt: skip


def thrown_light(strength: F64, share: float, saturation: float) -> F64:
    """(3,) what of a light's strength goes into the bounces."""
    grey = float(strength @ LUMINANCE)
    return share * (grey + saturation * (strength - grey))


def placed_light(level: Level, index: int, brief: Brief) -> PlacedLight:
    """The light at node `index` of an arranged level, as the brief sets it."""
    node = level.nodes[index]
    change = brief.light(node.path)
    light = changed_light(level.lights[node.light], change)
    axis = -node.world[:3, 2] if change.direction is None else np.array(change.direction, dtype=np.float64)
    length = float(np.linalg.norm(axis))
    aimed = length > 0 or light.kind == "point"
    place = node.world[:3, 3].copy() if change.position is None else np.array(change.position, dtype=np.float64)
    return PlacedLight(
        name=node.path,
        kind=light.kind,
        position=place,
        direction=axis / length if length > 0 else np.array([0.0, -1.0, 0.0]),
        color=light.color,
        intensity=light.intensity if change.enabled and aimed else 0.0,
        reach=None if light.kind in AREA_KINDS else light.reach,
        inner_cone=light.inner_cone,
        outer_cone=light.outer_cone,
        mode=change.mode or "baked",
        size=change.size or (SMALLEST if light.kind in AREA_KINDS else 0.0),
        width=change.width or 1.0,
        height=change.height or 1.0,
        roll=math.radians(change.roll or 0.0),
        share=1.0 if change.share is None else change.share,
        saturation=1.0 if change.saturation is None else change.saturation,
        subtracts=bool(change.subtracts),
        work=bool(change.work),
        aimed=aimed,
    )


def changed_light(light: Light, change: LightChange) -> Light:
    """A light with a designer's strength, colour, reach and cone."""
    inner = light.inner_cone if change.inner_cone is None else math.radians(change.inner_cone)
    outer = light.outer_cone if change.outer_cone is None else math.radians(change.outer_cone)
    return replace(
        light,
        intensity=light.intensity if change.intensity is None else change.intensity,
        color=light.color if change.color is None else change.color,
        reach=light.reach if change.reach is None else (change.reach or None),
        inner_cone=max(min(inner, outer - 1e-6), 0.0),
        outer_cone=outer,
    )
