"""Levels whose light is known in closed form, for the table of `ropebell accuracy` and for the tests."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.shapes import ball, box, quad
from ropebell.level.arrange import aimed as aimed_frame
from ropebell.level.brief import AddedLight, Brief, LightChange, Mark
from ropebell.level.model import F32, F64, Light

FLOOR, DENSITY = 4.0, 5.0
Place = tuple[float, float, float]
DOWN = (0.0, -1.0, 0.0)


@dataclass(frozen=True)
class ClosedForm:
    """A level, and what its light has to be.

    Attributes:
        name: of the case. source: the formula and where it is from.
        level: builds it. places: (n, 3) points on it, at the middles of texels.
        expected: (n,) lux at the places, red channel.
        brief, sky, picture, recipe: of the build; `picture` is a sky's (H, W, 3) radiance.
        mean_only: only the mean over the places is known.
    """

    name: str
    source: str
    level: Callable[[], LevelBuilder]
    places: F64
    expected: F64
    brief: Brief = field(default_factory=Brief)
    sky: tuple[float, float, float] = (0.0, 0.0, 0.0)
    picture: F32 | None = None
    recipe: dict[str, Any] = field(default_factory=dict)
    mean_only: bool = False


def floor_level(albedo: float = 0.0, size: float = FLOOR, extra: Callable[[LevelBuilder], None] | None = None) -> Any:
    """A builder of a square floor about the origin, and more."""

    def make() -> LevelBuilder:
        b = LevelBuilder()
        b.material("surface", (albedo,) * 3)
        b.material("glow", (0.0, 0.0, 0.0), glow=(100.0, 100.0, 100.0))
        h = size / 2
        b.add("g", "floor", quad([(-h, 0, h), (h, 0, h), (h, 0, -h), (-h, 0, -h)]), "surface")
        if extra is not None:
            extra(b)
        return b

    return make


def middles(step: int = 2, size: float = FLOOR, density: float = DENSITY) -> F64:
    """(n, 3) every `step`-th texel middle of the floor."""
    along = -size / 2 + (np.arange(0, round(size * density), step) + 0.5) / density
    x, z = np.meshgrid(along, along)
    return np.stack([x.ravel(), np.zeros(x.size), z.ravel()], axis=1)


def lambert_polygon(corners: F64, places: F64) -> F64:
    """(n,) irradiance per unit radiance of a polygon on upward floors: J. H. Lambert, Photometria (1760).

    Args:
        corners: (k, 3), all above the floor.
    """
    found = []
    for place in places:
        unit = corners - place
        unit /= np.linalg.norm(unit, axis=1, keepdims=True)
        total = 0.0
        for a, b in zip(unit, np.roll(unit, -1, axis=0)):
            cross = np.cross(a, b)
            total += math.acos(float(np.clip(a @ b, -1, 1))) * cross[1] / max(float(np.linalg.norm(cross)), 1e-300)
        found.append(abs(total) / 2)
    return np.array(found)


def closed_forms() -> list[ClosedForm]:
    """All cases."""
    return [*_lamps(), *_areas(), *_skies(), *_rooms()]


def _lamp(light: Light, world: F64) -> Callable[[LevelBuilder], None]:
    return lambda b: b.light("lamp", light, world)


def _lamps() -> list[ClosedForm]:
    places = middles()
    square = (places**2).sum(axis=1) + 4.0
    inverse = 300.0 * 2.0 / square**1.5
    point, sun = Light("lamp", "point", (1, 1, 1), 300.0), Light("lamp", "directional", (1, 1, 1), 800.0)
    slant = aimed((3, 4, 0), (0, 0, 0))
    ball_of = Brief(lights={"lights/lamp": LightChange(size=0.5)})
    disk_of = Brief(lights={"lights/lamp": LightChange(size=10.0)})
    overhead = np.full(len(places), 800.0 * 0.8)
    return [
        ClosedForm("point light", "E = I·cos θ/d²", floor_level(extra=_lamp(point, at(0, 2, 0))), places, inverse),
        ClosedForm(
            "ball of light, r = 0.5 m at 2 m", "E = I·cos θ/d² while all of it is above the horizon",
            floor_level(extra=_lamp(point, at(0, 2, 0))), places, inverse, ball_of,
        ),
        ClosedForm("sun", "E = E₀·cos θ", floor_level(extra=_lamp(sun, slant)), places, overhead),
        ClosedForm(
            "sun with a disk of 10°", "E = E₀·cos θ for an even disk above the horizon",
            floor_level(extra=_lamp(sun, slant)), places, overhead, disk_of,
        ),
    ]  # fmt: skip


def _added(kind: Any, height: float, direction: Place, change: LightChange) -> Brief:
    return Brief(added={"a": AddedLight(kind, (0.0, height, 0.0), direction)}, lights={"added/a": change})


def _areas() -> list[ClosedForm]:
    places = middles()
    away = np.maximum(np.hypot(places[:, 0], places[:, 2]), 1e-9)
    h, r = 1.2 / away, 0.6 / away
    z = 1 + h * h + r * r
    disk = 500.0 / (math.pi * 0.36) * math.pi * 0.5 * (1 - (1 + h * h - r * r) / np.sqrt(z * z - 4 * r * r))
    frame = aimed_frame(np.array([0.0, 1.0, 0.0]), np.array(DOWN))
    right, up = frame[:3, 0], frame[:3, 1]
    corners = np.array([[0, 1.0, 0] + i * right * 0.8 + j * up * 0.25 for i, j in ((1, 1), (1, -1), (-1, -1), (-1, 1))])
    rectangle = 400.0 / (1.6 * 0.5) * lambert_polygon(corners, places)
    x = np.linspace(-0.7, 0.7, 4001)
    far = np.sqrt((x - places[:, :1]) ** 2 + 1.0 + places[:, 2:] ** 2)
    across = np.sqrt(1.0 + places[:, 2:] ** 2)
    tube = np.trapezoid(300.0 / 1.4 * across / far**4, x, axis=1)
    panel = [(-1, 1, -1), (1, 1, -1), (1, 1, 1), (-1, 1, 1)]
    lambert = 100.0 * lambert_polygon(np.array(panel, dtype=float), places)
    return [
        ClosedForm("square emitter at 1 m", "Lambert's polygon formula",
                   floor_level(extra=lambda b: b.add("g", "panel", quad(panel), "glow")), places, lambert),
        ClosedForm("disk of light", "Foote (1915), parallel disk off its axis", floor_level(), places, disk,
                   _added("disk", 1.2, DOWN, LightChange(intensity=500.0, size=0.6))),
        ClosedForm("rectangle of light", "Lambert's polygon formula", floor_level(), places, rectangle,
                   _added("rectangle", 1.0, DOWN, LightChange(intensity=400.0, width=1.6, height=0.5))),
        ClosedForm("thin tube of light", "E = ∫ (I/l)·sin γ·cos θ/d² dx along it", floor_level(), places, tube,
                   _added("tube", 1.0, (0.0, 0.0, -1.0), LightChange(intensity=300.0, width=1.4, size=0.002))),
    ]  # fmt: skip


def _skies() -> list[ClosedForm]:
    places = middles()
    beside = np.array([(-1 + 0.2 * i + 0.1, 0.0, 0.1 * j + 0.05) for i in range(1, 15) for j in range(-4, 4)])
    hidden = (1 - (beside[:, 0] + 1) / np.hypot(beside[:, 0] + 1, 1.5)) / 2

    def wall(b: LevelBuilder) -> None:
        b.add("g", "wall", box((-1.2, 0, -400), (-1.0, 1.5, 400)), "surface")

    def strip() -> LevelBuilder:
        b = LevelBuilder()
        b.material("surface", (0.0, 0.0, 0.0))
        b.add("g", "floor", quad([(-1, 0, 0.5), (3, 0, 0.5), (3, 0, -0.5), (-1, 0, -0.5)]), "surface")
        wall(b)
        return b

    picture = np.zeros((64, 128, 3), np.float32)
    picture[10:14, 40:48] = 5000.0
    low, high = 10 * math.pi / 64, 14 * math.pi / 64
    patch = 5000.0 * (8 * 2 * math.pi / 128) / 2 * (math.sin(high) ** 2 - math.sin(low) ** 2)
    return [
        ClosedForm("even sky, open floor", "E = π·L", floor_level(), places, np.full(len(places), math.pi * 20),
                   sky=(20.0, 20.0, 20.0)),
        ClosedForm("even sky beside a black wall", "(1 − x/√(x² + h²))/2 of it is hidden", strip, beside,
                   math.pi * 20 * (1 - hidden), Brief(marks={"g/wall": Mark("blocks", density=0.02)}),
                   (20.0, 20.0, 20.0), recipe={"density.texels_per_metre": 10.0, "density.page_size": 2048}),
        ClosedForm("sky picture with one bright patch", "E = L·Δφ·(sin² θ₂ − sin² θ₁)/2", floor_level(), places,
                   np.full(len(places), patch), picture=picture),
    ]  # fmt: skip


def _rooms() -> list[ClosedForm]:
    def furnace() -> LevelBuilder:
        b = LevelBuilder()
        b.material("wall", (0.5,) * 3, glow=(2.0, 2.0, 2.0))
        b.add("g", "room", box((0, 0, 0), (4, 3, 5)).turned_inside_out(), "wall")
        return b

    whole = ball(2.0, 24, 48).turned_inside_out()
    corners = whole.positions[whole.triangles].astype(float)
    areas = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    top = corners.mean(axis=1)[:, 1] > 1.88

    def sphere() -> LevelBuilder:
        b = LevelBuilder()
        b.material("wall", (0.6,) * 3)
        b.material("patch", (0.6,) * 3, glow=(1000.0,) * 3)
        for name, chosen in (("wall", ~top), ("patch", top)):
            part = type(whole)(whole.positions, whole.normals, whole.uv, whole.triangles[chosen])
            b.add("g", name, part, name)
        return b

    direct = math.pi * 1000 * float(areas[top].sum() / areas.sum())
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    ring = np.stack([1.98 * np.cos(turn), np.full(24, -0.2), 1.98 * np.sin(turn)], axis=1)
    side = np.array([(0.1 + 0.2 * i, 0.0, 0.1 + 0.2 * j) for i in range(5) for j in range(5)]) - [0.5, 0, 0.5]
    plate = [(-0.5, 1, -0.5), (0.5, 1, -0.5), (0.5, 1, 0.5), (-0.5, 1, 0.5)]
    factor = _parallel_squares()
    inside = np.array([(0.5 + i, 0.0, 0.5 + j) for i in range(3) for j in range(4)])
    return [
        ClosedForm("parallel unit squares, 1 m apart", "form factor 0.1998 (Howell, C-11)",
                   floor_level(size=1.0, extra=lambda b: b.add("g", "plate", quad(plate), "glow")), side,
                   np.full(len(side), 100.0 * math.pi * factor), mean_only=True),
        ClosedForm("closed furnace, albedo 0.5", "E = π·L/(1 − ρ)", furnace, inside,
                   np.full(len(inside), math.pi * 2 / 0.5)),
        ClosedForm("integrating sphere, albedo 0.6", "E = π·L·A_p/A/(1 − ρ)", sphere, ring,
                   np.full(len(ring), direct / 0.4)),
    ]  # fmt: skip


def _parallel_squares() -> float:
    """Form factor of two aligned unit squares a unit apart: J. R. Howell, catalogue of configuration factors, C-11."""
    x = y = 1.0
    a, b = math.sqrt(1 + x * x), math.sqrt(1 + y * y)
    inner = math.log(math.sqrt((1 + x * x) * (1 + y * y) / (1 + x * x + y * y)))
    inner += x * b * math.atan(x / b) + y * a * math.atan(y / a) - x * math.atan(x) - y * math.atan(y)
    return 2 / (math.pi * x * y) * inner
