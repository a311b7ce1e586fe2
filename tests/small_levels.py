"""Small levels: for checks a clean hall at any size, turn and place, into which one trouble is put."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from helpers import floor
from ropebell.checks.subject import Subject
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import Shape, ball, box, joined
from ropebell.level.brief import NO_BRIEF, Brief
from ropebell.level.emitter_table import EmitterTable, emission_sources
from ropebell.level.model import F64, Light
from ropebell.level.prepare import prepare

# (size of the level, turn about Y in radians): everything that is found must be found at all of them.
WORLDS = [(0.01, 0.0), (0.35, 0.7), (6.0, 2.1), (100.0, 4.0)]
SQUARE_WORLDS = [(0.01, 0.0), (0.35, math.pi / 2), (6.0, math.pi), (100.0, 0.0)]


class Hall:
    """A hall of 10 × 4 × 8 with a table, a crate, two lamps and a start, scaled and turned as a whole."""

    def __init__(self, size: float = 1.0, turn: float = 0.0) -> None:
        self.size = size
        c, s = math.cos(turn), math.sin(turn)
        self.world: F64 = np.eye(4)
        self.world[:3, :3] = size * np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]])
        self.world[:3, 3] = size * np.array([3.0, 0.5, -7.0])
        self.b = LevelBuilder()
        self.b.material("wall", (0.6, 0.6, 0.6))
        self.b.material("wood", (0.4, 0.3, 0.2))
        self.b.material("glow", (0.8, 0.8, 0.8), glow=(900.0, 900.0, 900.0))
        self.b.material("dim glow", (0.8, 0.8, 0.8), glow=(300.0, 300.0, 300.0))
        self.b.material("bright glow", (0.8, 0.8, 0.8), glow=(60_000.0, 60_000.0, 60_000.0))
        self.b.material("painted light", (0.9, 0.9, 0.9), unlit=True)
        self.add("floor", box((-5, -0.4, -4), (5, 0, 4)))
        self.add("ceiling", box((-5, 4.0, -4), (5, 4.3, 4)))
        self.add("wall south", box((-5, 0, 3.6), (5, 4.0, 4)))
        self.add("wall north", box((-5, 0, -4), (5, 4.0, -3.6)))
        self.add("wall east", box((4.6, 0, -3.6), (5, 4.0, 3.6)))
        self.add("wall west", box((-5, 0, -3.6), (-4.6, 4.0, 3.6)))
        legs = [box((x, 0, z), (x + 0.1, 0.7, z + 0.1)) for x in (0.0, 1.4) for z in (0.0, 0.7)]
        self.add("table", joined([*legs, box((-0.1, 0.7, -0.1), (1.6, 0.78, 0.9))]))
        self.add("crate", box((-3, 0, -2), (-2.2, 0.8, -1.2)))
        self.add("globe", ball(0.15, 8, 12).moved(2.0, 2.8, 2.0), "glow")
        self.add("second globe", ball(0.15, 8, 12).moved(-2.0, 2.8, 2.0), "dim glow")
        self.light("lamp", (1.0, 2.5, 0.0))
        self.light("other lamp", (-3.0, 2.5, 1.0))
        self.light("third lamp", (3.0, 2.5, -2.0))
        self.b.spot("helpers", "start of the walk", self.at((0.0, 0.0, 2.0)))

    def at(self, place: tuple[float, float, float]) -> F64:
        """Transform of a place of the hall in the level."""
        local = np.eye(4)
        local[:3, 3] = place
        return self.world @ local

    def place(self, place: tuple[float, float, float]) -> F64:
        """(3,) a place of the hall in the level."""
        return (self.world @ np.array([*place, 1.0]))[:3]

    def add(self, name: str, shape: Shape, material: str = "wood", uv1: bool = False) -> None:
        """Put an object into the hall."""
        self.b.add("hall", name, shape, material, self.world, uv1)

    def light(
        self, name: str, place: tuple[float, float, float], reach: float | None = 6.0, kind: str = "point"
    ) -> None:
        """Put a light into the hall."""
        far = None if reach is None else reach * self.size
        self.b.light(name, Light(name, "point", (1, 1, 1), 50.0, far), self.at(place))

    def subject(self, brief: Brief = NO_BRIEF, tables: tuple[EmitterTable, ...] = (), **more: Any) -> Subject:
        """For the checks; density goes with the size, so that it is 20 texels a hall metre."""
        level = self.b.level(Path("hall.glb"))
        sources = emission_sources(level, brief, list(tables))
        prepared = prepare(level, brief, {n: e.radiance for n, e in sources.items() if e.source != "level"})
        made = Subject(prepared.level, prepared.scene, brief, 20.0 / self.size, emission=sources, tables=tables)
        return replace(made, **more)


def small() -> LevelBuilder:
    """A floor with a crate, a post and a thing that glows, under a lamp."""
    b = LevelBuilder()
    b.material("m", (0.5, 0.5, 0.5))
    b.material("n", (0.5, 0.4, 0.3), glow=(10.0, 10.0, 10.0))
    b.add("g", "floor", floor(4), "m")
    b.add("g", "crate", box((0, 0, 0), (1, 1, 1)), "m", at(1, 0.5, 0))
    b.add("g", "glow", box((0, 0, 0), (0.1, 0.1, 0.1)), "n", at(-1, 1, 0))
    b.add("h", "post", box((0, 0, 0), (0.1, 2, 0.1)), "m", at(-1.5, 0, -1))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0, 5.0), at(0, 2, 0))
    return b
