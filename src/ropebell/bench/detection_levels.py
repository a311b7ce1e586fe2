"""Levels with one planted fault each, and levels that nearly have it: a room at many sizes, turns and densities."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np

from ropebell.bench.detection_room import Case, Point, Room
from ropebell.demo.shapes import Shape, ball, box, cylinder, joined, quad
from ropebell.level.brief import Brief, Mark, Pose


def cases(each: int = 8) -> Iterator[Case]:
    """So many with and without each kind."""
    for kind, (fault, near) in PLANTS.items():
        for number in range(each):
            yield _made(kind, True, number, fault)
            yield _made(kind, False, number, near)


def _made(kind: str, planted: bool, number: int, plant: Callable[[int], dict[str, Any]]) -> Case:
    return Case(kind, planted, **plant(number))


def _n(*names: str) -> tuple[str, ...]:
    return tuple(f"room/{name}" for name in names)


def _tessellated(low: Point, high: Point, n: int) -> Shape:
    """A box in n slices that share no vertices."""
    cuts = np.linspace(low[0], high[0], n + 1)
    return joined([box((a, low[1], low[2]), (b, high[1], high[2])) for a, b in zip(cuts[:-1], cuts[1:])])


# -- black-patch


def _black(number: int) -> dict[str, Any]:
    r = Room(number)
    x, side = -1.8 + 0.3 * (number % 4), 0.5 + 0.1 * (number % 3)
    match number % 4:
        case 0:  # a closed thing inside out
            r.add("chest", box((x, 0, -1), (x + side, side, -1 + side)).turned_inside_out())
            return {"room": r, "where": r.place((x, side, -1 + side)), "objects": _n("chest")}
        case 1:  # a panel that shows its back to the room
            z = -2.4995
            r.add("panel", quad([(x, 0.4, z), (x, 1.6, z), (x + 1.2, 1.6, z), (x + 1.2, 0.4, z)]))
            return {"room": r, "where": r.place((x + 0.6, 1.0, z)), "objects": _n("panel")}
        case 2:  # no bounce gets under the table
            r.add("top", box((-1.5, 0.7, -1.5), (1.5, 0.8, 1.5)))
            return {
                "room": r, "where": r.place((0.0, 0.0, 0.0)), "objects": _n("floor", "top"),
                "settings": {"light.bounces": 0}, "near": 2.0,
            }  # fmt: skip
        case _:  # a round thing inside out
            r.add("drum", cylinder(0.4, 0.8, 16).moved(x, 0.02, -1.0).turned_inside_out())
            return {"room": r, "where": r.place((x, 0.5, -1.0)), "objects": _n("drum")}


def _dark_but_lit(number: int) -> dict[str, Any]:
    r = Room(number)
    x, side = -1.8 + 0.3 * (number % 4), 0.5 + 0.1 * (number % 3)
    match number % 4:
        case 0:
            r.add("chest", box((x, 0, -1), (x + side, side, -1 + side)))
        case 1:  # close to the wall, its back seen by nobody
            r.add("panel", box((x, 0.4, -2.48), (x + 1.2, 1.6, -2.44)))
        case 2:  # shadow with bounces
            r.add("top", box((-1.5, 0.7, -1.5), (1.5, 0.8, 1.5)))
        case _:  # a cupboard that stands a little open
            shell = [
                box((x, 0, -2.4), (x + 0.04, 1.2, -1.8)), box((x + 0.8, 0, -2.4), (x + 0.84, 1.2, -1.8)),
                box((x, 1.2, -2.4), (x + 0.84, 1.24, -1.8)), box((x, 0, -2.44), (x + 0.84, 1.24, -2.4)),
            ]  # fmt: skip
            r.add("cupboard", joined(shell))
    return {"room": r}


# -- light-leak


def _leak(number: int) -> dict[str, Any]:
    r = Room(number, lamp=False)
    r.lamp("lamp", (1.7, 2.2, 0.2), 120.0)
    r.lamp("dim", (-1.7, 2.2, -0.4), 3.0)
    texel = 1.0 / r.density
    thick = texel * (0.15, 0.3, 0.45, 0.25)[number % 4]
    x = 0.11 + 0.37 * texel * (number % 3)
    r.add("board", _tessellated((x, 0, -2.5), (x + thick, 3, 2.5), 1))
    return {"room": r, "where": r.place((x, 0.0, 0.0)), "objects": _n("board"), "near": 4.0}


def _no_leak(number: int) -> dict[str, Any]:
    r = Room(number, lamp=False)
    r.lamp("lamp", (1.7, 2.2, 0.2), 120.0)
    texel = 1.0 / r.density
    match number % 3:
        case 0:  # thick enough
            r.lamp("dim", (-1.7, 2.2, -0.4), 3.0)
            r.add("wall", box((0.1, 0, -2.5), (0.1 + 2.6 * texel, 3, 2.5)))
        case 1:  # thin, but as light on both sides
            r.lamp("other", (-1.7 + 0.2, 2.2, 0.2), 120.0)
            r.add("board", box((-0.005, 0, -2.5), (0.005, 3, 2.5)))
        case _:  # a table whose legs are thinner than a texel
            legs = [box((a, 0, c), (a + 0.04, 0.7, c + 0.04)) for a in (-0.6, 0.6) for c in (-0.4, 0.4)]
            r.add("table", joined([*legs, box((-0.7, 0.7, -0.5), (0.74, 0.75, 0.54))]))
    return {"room": r}


# -- seam


def _seam(number: int) -> dict[str, Any]:
    # Another density on either side of a joint that lies under a steep gradient, and nothing closes it.
    r = Room(number, lamp=False, divided=0.013)
    r.lamp("lamp", (0.15, 0.5, 0.3), 8.0)
    coarse = 4.0 + (number % 3)
    return {
        "room": r, "where": r.place((0.0, 0.0, 0.3)), "objects": _n("floor left", "floor right"), "near": 2.5,
        "settings": {"finish.stitch_seams": False},
        "brief": Brief(marks={"room/floor left": Mark(density=1.0 / coarse)}),
    }  # fmt: skip


def _no_seam(number: int) -> dict[str, Any]:
    r = Room(number, divided=0.013)
    match number % 3:
        case 0:  # closed
            return {"room": r, "brief": Brief(marks={"room/floor left": Mark(density=0.5)})}
        case 1:  # even light needs no closing
            return {"room": r, "settings": {"finish.stitch_seams": False}}
        case _:  # a wall stands on the joint
            r.add("wall", box((-0.2, 0, -2.5), (0.25, 3, 2.5)))
            r.lamp("dim", (-1.7, 2.2, 0.2), 4.0)
            return {"room": r, "settings": {"finish.stitch_seams": False}}


# -- chart-bleed


def _bleed(number: int) -> dict[str, Any]:
    r = Room(number)
    for k in range(6):
        r.add(f"crate {k}", box((-2 + 0.7 * k, 0, -2), (-1.6 + 0.7 * k, 0.4, -1.6)))
    return {"room": r, "settings": {"density.padding": number % 2}}


def _no_bleed(number: int) -> dict[str, Any]:
    return {**_bleed(number), "settings": {"density.padding": (3, 4, 6, 8)[number % 4]}}


# -- blocky-shadow


def _blocky(number: int) -> dict[str, Any]:
    r = Room(number)
    r.add("table", box((-0.9, 0.7, -0.7), (0.5, 0.76, 0.6)))
    return {"room": r, "objects": _n("floor", "table"), "where": r.place((-0.3, 0.0, 0.0)), "near": 3.0}


def _soft(number: int) -> dict[str, Any]:
    r = Room(number, lamp=False)
    r.add("light ceiling", box((-2.9, 2.9, -2.4), (2.9, 2.95, 2.4)), "glow")
    if number % 2:
        r.add("table", box((-0.9, 0.7, -0.7), (0.5, 0.76, 0.6)))
    return {"room": r, "settings": {"light.direct_samples": 64, "light.gather_rays": 256}}


# -- noise, blotch


def _few_rays(number: int) -> dict[str, Any]:
    r = Room(number, lamp=False)
    r.lamp("lamp", (-2.2, 0.4, -1.6), 120.0, 1.4)
    return {"room": r, "settings": {"light.gather_rays": (4, 6, 8)[number % 3], "finish.denoise": False}}


def _many_rays(number: int) -> dict[str, Any]:
    return {"room": Room(number), "settings": {"light.gather_rays": 1024, "finish.denoise": bool(number % 2)}}


def _blotchy(number: int) -> dict[str, Any]:
    made = _few_rays(number)
    return {**made, "settings": {"light.gather_rays": (8, 12, 16)[number % 3]}}


# -- clipped


def _clipped(number: int) -> dict[str, Any]:
    r = Room(number)
    r.lamp("too near", (1.5, 1.2, -2.1), 8000.0, kind="spot")
    return {"room": r, "where": r.place((1.5, 1.2, -2.5)), "objects": ("lights/too near", *_n("wall north"))}


def _bright(number: int) -> dict[str, Any]:
    r = Room(number)
    r.lamp("near", (1.5, 1.2, -1.9), 12.0)
    return {"room": r}


# -- dark-mover


def _dark_mover(number: int) -> dict[str, Any]:
    # What moves stands on a lid that moves as well; below is a deep, narrow shaft.
    r = Room(number, floor=False)
    a, b, c, d = -1.3, -0.7, -1.1, -0.5
    for name, low, high in (
        ("floor 1", (-3, -0.3, -2.5), (a, 0, 2.5)), ("floor 2", (b, -0.3, -2.5), (3, 0, 2.5)),
        ("floor 3", (a, -0.3, -2.5), (b, 0, c)), ("floor 4", (a, -0.3, d), (b, 0, 2.5)),
        ("shaft 1", (a - 0.1, -6, c - 0.1), (a, -0.3, d + 0.1)),
        ("shaft 2", (b, -6, c - 0.1), (b + 0.1, -0.3, d + 0.1)),
        ("shaft 3", (a, -6, c - 0.1), (b, -0.3, c)), ("shaft 4", (a, -6, d), (b, -0.3, d + 0.1)),
        ("bottom", (a - 0.1, -6.2, c - 0.1), (b + 0.1, -6, d + 0.1)),
    ):  # fmt: skip
        r.add(name, box(low, high))
    r.add("barrel", cylinder(0.22, 0.5 + 0.1 * (number % 4), 12).moved(-1.0, 0.02, -0.8))
    r.add("lid", box((a, -0.02, c), (b, 0.0, d)))
    marks = {"room/barrel": Mark(role="moving"), "room/lid": Mark(role="moving")}
    return {"room": r, "objects": _n("barrel"), "brief": Brief(marks=marks), "where": r.place((-1, 0.3, -0.8))}


def _lit_mover(number: int) -> dict[str, Any]:
    r = Room(number)
    r.add("barrel", cylinder(0.25, 0.6, 12).moved(-1.0, 0.02, -0.8))
    return {"room": r, "brief": Brief(marks={"room/barrel": Mark(role="moving")})}


# -- pose-stain


def _doored(number: int, now: str, usual: str) -> dict[str, Any]:
    r = Room(number)
    r.add("hatch", box((-0.9, 1.0, -0.7), (0.5, 1.06, 0.6)))
    away = Pose(move=(0.0, 1.8, 0.0)) if number % 2 else Pose(absent=True)
    return {
        "room": r, "objects": _n("hatch"),
        "brief": Brief(marks={"room/hatch": Mark(pose=now, usual=usual, poses={"away": away})}),
    }  # fmt: skip


def _stain(number: int) -> dict[str, Any]:
    return _doored(number, "", "away")


def _no_stain(number: int) -> dict[str, Any]:
    return _doored(number, "away", "away") if number % 2 else _doored(number, "", "")


# -- uneven-quality


def _uneven(number: int) -> dict[str, Any]:
    r = Room(number, divided=0.4)
    mark = (Mark(density=6.0), Mark(density=0.12), Mark(bias={"plaster": 6.0}))[number % 3]
    return {"room": r, "objects": _n("floor left"), "brief": Brief(marks={"room/floor left": mark})}


def _even(number: int) -> dict[str, Any]:
    r = Room(number, divided=0.4)
    mark = (Mark(density=3.0), Mark(density=0.4), Mark(bias={"plaster": 3.0}))[number % 3]
    return {"room": r, "brief": Brief(marks={"room/floor left": mark})}


# -- dull-emitter


def _dull(number: int) -> dict[str, Any]:
    r = Room(number)
    r.add("sign", box((-0.5, 1.2, -2.45), (0.5, 1.7, -2.4)), "faint")
    return {"room": r, "objects": _n("sign")}


def _shining(number: int) -> dict[str, Any]:
    r = Room(number)
    r.add("sign", box((-0.5, 1.2, -2.45), (0.5, 1.7, -2.4)), "glow")
    return {"room": r}


# -- relief-lost


def _carved(number: int, directional: bool, material: str = "carved") -> dict[str, Any]:
    """A carved board near a lamp, which gives it most of its light."""
    r = Room(number, lamp=False)
    r.add("board", box((-1.0, 0.8, -2.45), (1.0, 2.0, -2.4)), material)
    r.lamp("lamp", (0.5 - 0.3 * (number % 4), 1.6, -1.6))
    return {"room": r, "objects": _n("board"), "settings": {"output.directional": directional}}


def _flat(number: int) -> dict[str, Any]:
    return _carved(number, True) if number % 2 else _carved(number, False, "wood")


# -- hull-leak


def _open_slabs(number: int, gap: float) -> dict[str, Any]:
    """A floor of two slabs, so far apart."""
    r = Room(number, floor=False)
    a = -0.8 + 0.4 * (number % 4)
    r.add("floor left", box((-3, -0.3, -2.5), (a, 0, 2.5)), "plaster")
    r.add("floor right", box((a + gap, -0.3, -2.5), (3, 0, 2.5)), "plaster")
    return {
        "room": r, "objects": _n("floor left", "floor right"), "settings": {"sight.enabled": True},
        "where": r.place((a + gap / 2, -0.15, 0.0)), "near": 3.0,
    }  # fmt: skip


def _gaping(number: int) -> dict[str, Any]:
    # No opening below 3 mm is one.
    return _open_slabs(number, max(0.02 + 0.06 * (number % 3), 0.005 / Room(number).size))


def _closed(number: int) -> dict[str, Any]:
    """Slabs that touch, overlap, or leave a slit that a board covers."""
    found = _open_slabs(number, (0.0, -0.1, 0.1)[number % 3])
    if number % 3 == 2:
        x = -0.8 + 0.4 * (number % 4)
        found["room"].add("board", box((x - 0.3, -0.35, -2.6), (x + 0.4, -0.3, 2.6)))
    return found


# -- all over


def clean(number: int) -> Case:
    """A level of over a hundred objects that is ugly, but right."""
    r = Room(0, lamp=False)
    r.density = 8.0
    r.add("light ceiling", box((-2.9, 2.9, -2.4), (2.9, 2.95, 2.4)), "glow")
    rng = np.random.default_rng(number)
    for k in range(110):
        x, z = -2.7 + 0.5 * (k % 11), -2.2 + 0.42 * (k // 11)
        w, h = 0.08 + 0.2 * float(rng.random()), 0.08 + 0.25 * float(rng.random())
        match (k + number) % 3:
            case 0:
                r.add(f"thing {k}", box((x, 0, z), (x + w, h, z + w)))
            case 1:
                r.add(f"thing {k}", ball(w / 2, 6, 9).moved(x + w / 2, w / 2 + 0.002, z + w / 2))
            case _:
                r.add(f"thing {k}", cylinder(w / 2, h, 8).moved(x + w / 2, 0, z + w / 2))
    settings = {"light.gather_rays": 512, "light.direct_samples": 64, "density.padding": 4}
    return Case("", False, r, settings=settings)


PLANTS: dict[str, tuple[Callable[[int], dict[str, Any]], Callable[[int], dict[str, Any]]]] = {
    "black-patch": (_black, _dark_but_lit),
    "light-leak": (_leak, _no_leak),
    "seam": (_seam, _no_seam),
    "chart-bleed": (_bleed, _no_bleed),
    "blocky-shadow": (_blocky, _soft),
    "noise": (_few_rays, _many_rays),
    "blotch": (_blotchy, _many_rays),
    "clipped": (_clipped, _bright),
    "dark-mover": (_dark_mover, _lit_mover),
    "pose-stain": (_stain, _no_stain),
    "uneven-quality": (_uneven, _even),
    "dull-emitter": (_dull, _shining),
    "relief-lost": (lambda number: _carved(number, False), _flat),
    "hull-leak": (_gaping, _closed),
}
