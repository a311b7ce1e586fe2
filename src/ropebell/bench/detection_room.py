"""The room that faults are planted in, at many sizes, turns and densities, and what a case of one is."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ropebell.demo.builder import LevelBuilder
from ropebell.demo.shapes import Shape, box
from ropebell.level.brief import Brief
from ropebell.level.model import F64, Light

Point = tuple[float, float, float]
# (size, turn about Y in radians, texels per metre of a room of size 1), used in turn.
WORLDS = (
    (1.0, 0.0, 8.0), (0.05, 0.6, 8.0), (30.0, 2.1, 6.0), (3.0, 4.0, 10.0), (0.3, 0.0, 6.0), (1.0, 1.1, 12.0),
    (10.0, 5.2, 8.0), (0.1, 3.3, 10.0), (2.0, 0.35, 6.0), (0.6, 1.6, 8.0),
)  # fmt: skip


class Room:
    """A room of 6 × 3 × 5 with one lamp, scaled and turned as a whole.

    Args:
        number: which world it is in.
    """

    def __init__(self, number: int, lamp: bool = True, divided: float | None = None, floor: bool = True) -> None:
        self.size, turn, self.density = WORLDS[number % len(WORLDS)]
        self.number = number
        c, s = math.cos(turn), math.sin(turn)
        self.world: F64 = np.eye(4)
        self.world[:3, :3] = self.size * np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]])
        self.world[:3, 3] = self.size * np.array([2.0, 0.7, -4.0])
        self.b = LevelBuilder()
        self.b.material("plaster", (0.7, 0.7, 0.68))
        self.b.material("wood", (0.45, 0.33, 0.22))
        self.b.material("carved", (0.2, 0.15, 0.1), relief=True)
        self.b.material("glow", (0.8, 0.8, 0.8), glow=(400.0, 400.0, 400.0))
        self.b.material("faint", (0.8, 0.8, 0.8), glow=(0.08, 0.08, 0.08))
        if divided is None and floor:
            self.add("floor", box((-3, -0.3, -2.5), (3, 0, 2.5)), "plaster")
        elif divided is not None:
            self.add("floor left", box((-3, -0.3, -2.5), (divided, 0, 2.5)), "plaster")
            self.add("floor right", box((divided, -0.3, -2.5), (3, 0, 2.5)), "plaster")
        self.add("ceiling", box((-3, 3, -2.5), (3, 3.3, 2.5)), "plaster")
        for name, low, high in (
            ("wall south", (-3.3, -0.3, 2.5), (3.3, 3.3, 2.8)), ("wall north", (-3.3, -0.3, -2.8), (3.3, 3.3, -2.5)),
            ("wall east", (3, -0.3, -2.5), (3.3, 3.3, 2.5)), ("wall west", (-3.3, -0.3, -2.5), (-3, 3.3, 2.5)),
        ):  # fmt: skip
            self.add(name, box(low, high), "plaster")
        if lamp:
            self.lamp("lamp", (0.4, 2.2, 0.3))
        self.b.spot("helpers", "start", self._at((0.0, 0.0, 1.5)))

    def _at(self, place: Point) -> F64:
        local = np.eye(4)
        local[:3, 3] = place
        return self.world @ local

    def place(self, place: Point) -> F64:
        """(3,) a place of the room in the level."""
        found: F64 = (self.world @ np.array([*place, 1.0]))[:3]
        return found

    def add(self, name: str, shape: Shape, material: str = "wood") -> None:
        """Put an object into the room."""
        self.b.add("room", name, shape, material, self.world)

    def lamp(
        self, name: str, place: Point, candela: float = 60.0, reach: float | None = None, kind: str = "point"
    ) -> None:
        """A lamp whose light is the same at every size; a spot shines to the north."""
        far = None if reach is None else reach * self.size
        self.b.light(name, Light(name, kind, (1, 0.95, 0.9), candela * self.size**2, far), self._at(place))


@dataclass(frozen=True, eq=False)
class Case:
    """One level.

    Attributes:
        kind: that is planted, or nearly. planted: whether it is there.
        where: (3,) metres, where it is; anywhere if None. objects: of which one must show it or cause it.
        settings: keys of the recipe that differ.
    """

    kind: str
    planted: bool
    room: Room
    where: F64 | None = None
    objects: tuple[str, ...] = ()
    settings: dict[str, Any] = field(default_factory=dict)
    brief: Brief = field(default_factory=Brief)
    near: float = 1.5
