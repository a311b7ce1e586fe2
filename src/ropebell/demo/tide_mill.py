"""The Tide Mill: wheel hall with pit, gear loft, grain floor, office, cellar, sluice tunnel, quay.

X runs along the quay, Z away from the water, Y up. Some troubles are planted on purpose; each says so.
"""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np

from ropebell.demo.builder import LevelBuilder, aimed, at
from ropebell.demo.house_shapes import WALL, gable, hopper, roof_slab, wall_x, wall_z
from ropebell.demo.shapes import Shape, ball, box, cylinder, joined, quad, wheel
from ropebell.level.model import Level, Light

# Metres that a chute's sides are thick.
CHUTE = 0.05
# One hall takes this much of the quay.
PITCH = 30.0


def tide_mill(source: Path, halls: int = 1) -> Level:
    """The level.

    Args:
        halls: how often the mill stands along the quay, for load tests.
    """
    b = LevelBuilder()
    _materials(b)
    for number in range(halls):
        _Mill(b, number * PITCH, f" {number + 1}" if halls > 1 else "").build()
    _sky(b)
    return b.level(source)


def _materials(b: LevelBuilder) -> None:
    rng = np.random.default_rng(7)
    grain = (np.sin(np.linspace(0, 40, 128))[:, None] * 10 + rng.normal(0, 5, (128, 128))).clip(-30, 30)
    boards = np.clip(np.array([158, 120, 82])[None, None] + grain[..., None] * [1, 0.9, 0.7], 0, 255)
    boards[::32] *= 0.45
    b.material("plaster", (0.62, 0.60, 0.56))
    b.material("stone", (0.36, 0.35, 0.33))
    b.material("oak", (0.34, 0.22, 0.12))
    b.material("boards", (1.0, 1.0, 1.0), texture=b.picture("boards", boards.astype(np.uint8)))
    b.material("roof tiles", (0.33, 0.13, 0.09))
    b.material("iron", (0.16, 0.16, 0.17))
    b.material("sackcloth", (0.52, 0.45, 0.33))
    b.material("painted green", (0.16, 0.33, 0.24))
    b.material("painted red", (0.48, 0.11, 0.08))
    b.material("lantern glass", (0.95, 0.85, 0.62), unlit=True)
    b.material("ember", (0.3, 0.1, 0.05), glow=(2600.0, 900.0, 220.0))
    b.material("lamp glass", (0.8, 0.8, 0.8), glow=(5200.0, 4300.0, 3000.0))
    b.material("mooring glass", (0.8, 0.75, 0.6), glow=(310000.0, 260000.0, 180000.0))
    # Nothing that is seen or shaded: panes that close windows and doors to the visibility stage alone.
    b.material("clear glass", (0.8, 0.9, 0.9), double_sided=True, holes=True, alpha=0.0)
    b.material("skylight", (0.8, 0.8, 0.8), glow=(420.0, 470.0, 560.0))


def _sky(b: LevelBuilder) -> None:
    sun = Light("sun", "directional", (1.0, 0.83, 0.62), 5200.0)
    b.light("sun", sun, aimed((0, 20, 0), (8.0, 8.5, 11.0)))


class _Mill:
    def __init__(self, b: LevelBuilder, x: float, suffix: str) -> None:
        self._b, self._x, self._suffix = b, x, suffix

    def _add(
        self,
        group: str,
        name: str,
        shape: Shape,
        material: str,
        place: np.ndarray | None = None,
        uv1: bool = False,
    ) -> None:
        world = np.eye(4) if place is None else place.copy()
        world[0, 3] += self._x
        self._b.add(group, name + self._suffix, shape, material, world, uv1)

    def _light(self, name: str, light: Light, world: np.ndarray) -> None:
        world = world.copy()
        world[0, 3] += self._x
        self._b.light(name + self._suffix, light, world)

    def build(self) -> None:
        self._b.spot("helpers", "start" + self._suffix, at(self._x + 10.4, 0.0, 8.2))
        self._quay()
        self._hall()
        self._loft()
        self._grain_floor()
        self._office()
        self._cellar()
        self._tunnel()
        self._props()
        self._lamps()
        self._glazing()

    def _glazing(self) -> None:
        """Panes in every window and door to the outside; where a slab is missing there is none."""
        along_x = [
            (7.2, 8.4, 1.4, 3.6, 6.95), (9.4, 11.4, 0.0, 2.6, 6.95), (12.4, 13.6, 1.4, 3.6, 6.95),
            (10, 11, 7.2, 8.2, 6.85), (17, 18.2, 1.2, 2.6, 6.85), (20.4, 21.6, 1.2, 2.6, 6.85),
        ]  # fmt: skip
        along_z = [(10.5, 12.5, 2.2, 5.0, 5.85), (14.4, 15.4, 1.2, 2.4, 23.45)]
        panes = [quad([(a, low, z), (b, low, z), (b, high, z), (a, high, z)]) for a, b, low, high, z in along_x]
        panes += [quad([(x, low, b), (x, low, a), (x, high, a), (x, high, b)]) for a, b, low, high, x in along_z]
        self._add("detail", "glazing", joined(panes), "clear glass")

    def _quay(self) -> None:
        self._add("structure", "quay", box((0, -0.8, 0), (30, 0, 6.7)), "stone")
        self._add("structure", "quay wall", box((0, -3.0, -0.4), (30, -0.8, 0.2)), "stone")
        bollard = joined([cylinder(0.16, 0.55, 20), cylinder(0.22, 0.12, 20).moved(0, 0.5, 0)])
        for i in range(7):
            self._add("props", f"bollard {i + 1}", bollard, "iron", at(2 + 4.3 * i, 0, 0.8))
        self._add("structure", "yard", box((23.6, -0.8, 6.7), (30, 0, 17.0)), "stone")
        self._add("structure", "yard west", box((0, -0.8, 6.7), (5.7, 0, 20)), "stone")

    def _hall(self) -> None:
        window = [(7.2, 8.4, 1.4, 3.6), (9.4, 11.4, 0.0, 2.6), (12.4, 13.6, 1.4, 3.6)]
        self._add("structure", "hall wall front", wall_x(5.7, 15.3, 0, 6.5, 6.7, window), "plaster")
        self._add("structure", "hall wall back", wall_x(5.7, 15.3, 0, 6.5, 17.0, []), "plaster")
        self._add("structure", "hall wall west", wall_z(7.0, 17.0, 0, 6.5, 5.7, [(10.5, 12.5, 2.2, 5.0)]), "plaster")
        self._add("structure", "hall wall east", wall_z(7.0, 17.0, 0, 6.5, 15.0, [(8.0, 9.4, 0.0, 2.3)]), "plaster")
        slabs = [
            box((6, -0.3, 7), (8, 0, 17)), box((13, -0.3, 7), (15, 0, 17)),
            box((8, -0.3, 7), (13, 0, 10)), box((8, -0.3, 14), (13, 0, 17)),
        ]  # fmt: skip
        self._add("structure", "hall floor", joined(slabs), "boards")
        sills = [box((9.4, -0.3, 6.7), (11.4, 0, 7.0)), box((15.0, -0.3, 8.0), (15.3, 0, 9.4))]
        self._add("structure", "door sills", joined(sills), "stone")
        pit = [
            box((7.7, -3.0, 9.7), (8, -0.3, 14.3)), box((13, -3.0, 9.7), (13.3, -0.3, 14.3)),
            box((8, -3.0, 9.7), (13, -0.3, 10)), box((8, -3.0, 14), (13, -0.3, 14.3)),
            box((7.7, -3.3, 9.7), (13.3, -3.0, 14.3)),
        ]  # fmt: skip
        self._add("structure", "wheel pit", joined(pit), "stone")
        self._add("detail", "great wheel", wheel(2.4, 1.1, 12, 32, 0.28), "oak", at(10.5, 0.9, 12.0))
        shaft = cylinder(0.17, 8.8, 20).rotated(2, -math.pi / 2)
        self._add("detail", "wheel shaft", shaft, "oak", at(6.1, 0.9, 12.0))
        for i, x in enumerate((6.3, 14.45)):
            self._add("structure", f"pillar {i + 1}", box((x, 0, 8.6), (x + 0.35, 6.2, 8.95)), "oak")
            self._add("structure", f"pillar {i + 3}", box((x, 0, 15.2), (x + 0.35, 6.2, 15.55)), "oak")
        for i in range(5):
            self._add("structure", f"beam {i + 1}", box((6, 6.2, 8 + 2 * i), (15, 6.5, 8.3 + 2 * i)), "oak")
        # Planted: this beam's top lies in the plane of the floor boards.
        self._add("structure", "floor beam", box((13.4, -0.25, 15.0), (14.6, 0.0, 15.25)), "oak")
        frame = joined([box((-0.03, 0, 0), (0.03, 2.2, 0.1)), box((-0.6, 1.07, 0), (0.6, 1.13, 0.1))])
        self._add("detail", "window bars left", frame, "oak", at(7.8, 1.4, 6.8))
        self._add("detail", "window bars right", frame, "oak", at(13.0, 1.4, 6.8))
        # Planted: wall panels in modules, whose edges meet in seams.
        panel = box((0, 0, 0), (0.99, 2.0, 0.05))
        for i in range(8):
            self._add("detail", f"wall panel {i + 1}", panel, "painted green", at(6.6 + i, 0.1, 16.95))

        # Planted: a bracket that is a sliver at an odd angle, a hair off the wall.
        sliver = joined([box((0, 0, 0), (0.55, 0.00003, 0.04)), box((0, -0.4, 0), (0.00003, 0.0, 0.04))])
        self._add("detail", "bracket", sliver.rotated(2, 0.016), "iron", at(9.0, 4.6, 16.9597))

    def _loft(self) -> None:
        floor = [
            box((5.7, 6.5, 6.7), (8, 6.7, 17.3)), box((8, 6.5, 6.7), (15.3, 6.7, 11)),
            box((8, 6.5, 14), (15.3, 6.7, 17.3)), box((12, 6.5, 11), (15.3, 6.7, 14)),
        ]  # fmt: skip
        self._add("structure", "loft floor", joined(floor), "boards")
        # Planted: the slab behind the great gear is missing, so light leaks in from outside.
        back = wall_x(5.7, 15.3, 6.7, 8.8, 17.0, [(9.2, 10.4, 7.1, 8.3)])
        self._add("structure", "loft wall back", back, "plaster")
        self._add("structure", "loft wall front", wall_x(5.7, 15.3, 6.7, 8.8, 6.7, [(10, 11, 7.2, 8.2)]), "plaster")
        for name, x in (("west", 5.7), ("east", 15.0)):
            self._add("structure", f"loft wall {name}", box((x, 6.7, 7.0), (x + WALL, 8.8, 17.0)), "plaster")
            self._add("structure", f"gable {name}", gable(5.4, 2.6), "plaster", at(x, 8.8, 12.0))
        self._add("structure", "roof front", roof_slab(9.8, 5.6, 0.46), "roof tiles", at(5.6, 8.72, 6.45))
        self._add("structure", "roof back", roof_slab(9.8, 5.6, 0.46), "roof tiles", at(15.4, 8.72, 17.55, math.pi))
        self._add("detail", "great gear", wheel(1.15, 0.3, 8, 40, 0.12), "oak", at(9.8, 8.02, 15.9, math.pi / 2))
        self._add("detail", "lantern pinion", wheel(0.45, 0.5, 6, 14, 0.1), "oak", at(9.8, 7.95, 14.35, math.pi / 2))

    def _grain_floor(self) -> None:
        self._add(
            "structure",
            "grain wall front",
            wall_x(15.3, 23.6, 0, 4.0, 6.7, [(17, 18.2, 1.2, 2.6), (20.4, 21.6, 1.2, 2.6)]),
            "plaster",
        )
        self._add(
            "structure",
            "grain wall east",
            wall_z(7.0, 17.0, 0, 4.0, 23.3, [(14.4, 15.4, 1.2, 2.4)]),
            "plaster",
        )
        self._add("structure", "grain wall back", wall_x(15.3, 23.6, 0, 4.0, 17.0, []), "plaster")
        self._add("structure", "grain ceiling", box((15.3, 4.0, 6.7), (23.6, 4.3, 17.3)), "boards")
        hatch = (18.6, 19.8, 9.4, 10.6)
        slabs = [
            box((15.3, -0.3, 7), (hatch[0], 0, 17)), box((hatch[1], -0.3, 7), (23.3, 0, 17)),
            box((hatch[0], -0.3, 7), (hatch[1], 0, hatch[2])), box((hatch[0], -0.3, hatch[3]), (hatch[1], 0, 17)),
        ]  # fmt: skip
        self._add("structure", "grain floor", joined(slabs), "boards")
        # Planted: the hatch is closed over an unlit pit. It opens, so the build leaves it out, and what stands on it
        # takes its light from the bottom of the chute.
        self._add("detail", "hatch", box((hatch[0], -0.06, hatch[2]), (hatch[1], 0.0, hatch[3])), "oak")
        x0, x1, z0, z1 = hatch
        walls = [
            box((x0 - CHUTE, -3, z0 - CHUTE), (x0, -0.3, z1 + CHUTE)),
            box((x1, -3, z0 - CHUTE), (x1 + CHUTE, -0.3, z1 + CHUTE)),
            box((x0, -3, z0 - CHUTE), (x1, -0.3, z0)), box((x0, -3, z1), (x1, -0.3, z1 + CHUTE)),
        ]  # fmt: skip
        self._add("detail", "grain chute", joined(walls), "oak")
        # Planted: two centimetres of boards between a bright office and a dark grain floor.
        door = range(3, 8)
        planks = [
            box((15.3 + 0.2 * i, 2.1 if i in door else 0, 13.0), (15.3 + 0.2 * i + 0.195, 4.0, 13.02))
            for i in range(40)
        ]
        self._add(
            "structure",
            "board partition",
            joined([*planks, box((15.3, 0, 12.96), (15.9, 0.12, 13.06)), box((16.9, 0, 12.96), (23.3, 0.12, 13.06))]),
            "boards",
        )
        # Planted: the hopper's lightmap coordinates overlap.
        sides = hopper(0.5, 1.3, 1.5)
        self._add("props", "grain hopper", sides, "painted red", at(21.3, 1.0, 9.0), uv1=True)
        legs = [box((x, 0, z), (x + 0.1, 1.5, z + 0.1)) for x in (-0.95, 0.85) for z in (-0.95, 0.85)]
        self._add("props", "hopper legs", joined(legs), "oak", at(21.3, 0, 9.0))

    def _office(self) -> None:
        self._add("structure", "office wall", wall_z(13.02, 17.0, 0, 4.0, 18.6, [(14.6, 15.5, 0.0, 2.1)]), "plaster")
        desk = [box((0, 0.7, 0), (1.6, 0.76, 0.8))]
        desk += [box((x, 0, z), (x + 0.07, 0.7, z + 0.07)) for x in (0.03, 1.5) for z in (0.03, 0.7)]
        self._add("props", "desk", joined(desk), "oak", at(20.4, 0, 15.6))
        shelf = [box((0, y, 0), (1.4, y + 0.03, 0.3)) for y in (0.4, 0.9, 1.4, 1.9)]
        self._add(
            "props",
            "shelf",
            joined([*shelf, box((-0.04, 0, 0), (0, 2.1, 0.3)), box((1.4, 0, 0), (1.44, 2.1, 0.3))]),
            "oak",
            at(20, 0, 16.65),
        )
        # Planted: a chest turned inside out.
        self._add(
            "props",
            "chest",
            box((0, 0, 0), (1.0, 0.55, 0.6)).turned_inside_out(),
            "painted red",
            at(22.0, 0, 13.5),
        )

    def _cellar(self) -> None:
        parts = [
            box((17.0, -3.0, 8.0), (17.3, -0.3, 12.0)), box((21.7, -3.0, 8.0), (22, -0.3, 12.0)),
            box((17.3, -3.0, 8.0), (21.7, -0.3, 8.3)), box((17.3, -3.0, 11.7), (21.7, -0.3, 12.0)),
            box((17.0, -3.3, 8.0), (22, -3.0, 12.0)),
        ]  # fmt: skip
        self._add("structure", "cellar", joined(parts), "stone")
        barrel = joined([cylinder(0.3, 0.4, 24, 0.36), cylinder(0.36, 0.4, 24, 0.3).moved(0, 0.4, 0)])
        for i in range(4):
            self._add("props", f"barrel {i + 1}", barrel, "oak", at(17.8 + 0.8 * i, -3.0, 11.2, 0.3 * i))

    def _tunnel(self) -> None:
        x0, x1 = 13.3, 29.0
        self._add("structure", "tunnel floor", box((x0, -2.4, 17.3), (x1, -2.1, 19.4)), "stone")
        self._add("structure", "tunnel wall south", box((x0, -2.1, 17.3), (x1, -0.3, 17.6)), "stone")
        self._add("structure", "tunnel wall north", box((x0, -2.1, 19.1), (x1, -0.3, 19.4)), "stone")
        self._add("structure", "tunnel vault", box((5.7, -0.3, 17.3), (x1, 0.0, 20.0)), "stone")
        self._add("structure", "tunnel end", box((x0 - 0.3, -2.4, 17.3), (x0, -0.3, 19.4)), "stone")
        bars = [box((0, 0, 0.15 * i), (0.04, 1.8, 0.15 * i + 0.04)) for i in range(10)]
        self._add("detail", "sluice gate", joined(bars), "iron", at(24.0, -2.1, 17.62))
        # Planted: thousands of louvre blades, which count as a sight blocker.
        blades = []
        for row in range(60):
            for column in range(8):
                blade = box((0, 0, 0), (0.012, 0.05, 0.17)).rotated(2, 0.6)
                blades.append(blade.moved(0, 0.03 * row, 0.18 * column))
        self._add("detail", "louvre screen", joined(blades), "iron", at(28.6, -2.05, 17.63))

    def _props(self) -> None:
        sack = ball(0.42, 14, 22, 0.78)
        for i, (x, y, z) in enumerate(
            [(7.0, 0.33, 8.0), (7.7, 0.33, 7.6), (7.3, 0.9, 7.8), (16.2, 0.33, 11.8), (17.0, 0.33, 12.2)]
        ):
            self._add("props", f"sack {i + 1}", sack, "sackcloth", at(x, y, z, 0.7 * i))
        self._add("props", "sack on the hatch", sack, "sackcloth", at(19.2, 0.33, 10.0))
        self._crates()
        coil = joined([cylinder(0.32 - 0.01 * i, 0.05, 26).moved(0.004 * i, 0.05 * i, 0) for i in range(6)])
        for i, (x, z) in enumerate([(3.6, 1.6), (12.6, 2.0), (24.6, 2.2)]):
            self._add("props", f"rope coil {i + 1}", coil, "sackcloth", at(x, 0, z))
        # Planted: nails that get charts of two texels.
        nail = cylinder(0.008, 0.03, 6)
        for i in range(24):
            self._add("detail", f"nail {i + 1}", nail, "iron", at(6.2 + 0.35 * i, 0.0, 16.4))
        self._stove()

    def _crates(self) -> None:
        crate = joined(
            [
                box((0, 0, 0), (0.7, 0.7, 0.7)),
                box((-0.03, 0.1, -0.03), (0.73, 0.18, 0.73)),
                box((-0.03, 0.5, -0.03), (0.73, 0.58, 0.73)),
            ]
        )
        for i, (x, y, z, turn) in enumerate(
            [
                (13.6, 0, 7.4, 0.0),
                (13.3, 0, 8.9, 0.4),
                (13.65, 0.705, 7.45, 0.2),
                (25, 0, 8, 0.1),
                (26.2, 0, 9.4, 0.8),
                (3, 0, 4.6, 0.5),
            ]
        ):
            self._add("props", f"crate {i + 1}", crate, "oak", at(x, y, z, turn))

    def _stove(self) -> None:
        stove = joined(
            [
                box((-0.4, 0, -0.3), (0.4, 0.3, 0.3)),
                box((-0.4, 0.7, -0.3), (0.4, 0.9, 0.3)),
                box((-0.4, 0.3, -0.3), (-0.3, 0.7, 0.3)),
                box((0.3, 0.3, -0.3), (0.4, 0.7, 0.3)),
                box((-0.3, 0.3, 0.2), (0.3, 0.7, 0.3)),
            ]
        )
        self._add("props", "stove", stove, "iron", at(19.3, 0, 16.4, math.pi))
        self._add(
            "props",
            "stove embers",
            box((-0.28, 0.31, -0.2), (0.28, 0.42, 0.18)),
            "ember",
            at(19.3, 0, 16.4, math.pi),
        )

    def _lamps(self) -> None:
        warm = (1.0, 0.78, 0.5)
        self._light("hall lamp", Light("hall lamp", "point", warm, 220.0, 14.0), at(8.0, 4.6, 9.0))
        self._light("hall lamp back", Light("hall lamp back", "point", warm, 160.0, 14.0), at(13.2, 4.4, 15.0))
        self._light("office lamp", Light("office lamp", "point", (1.0, 0.86, 0.66), 260.0, 8.0), at(21.4, 2.9, 15.2))
        self._light(
            "desk lamp",
            Light("desk lamp", "spot", warm, 160.0, 4.0, 0.35, 0.75),
            aimed((21.2, 1.7, 15.9), (21.1, 0.7, 16.0)),
        )
        self._light("loft lamp", Light("loft lamp", "point", warm, 90.0, 9.0), at(12.5, 8.4, 10.0))
        self._light("cellar lamp", Light("cellar lamp", "point", warm, 35.0, 6.0), at(19.5, -0.7, 10.8))
        for i in range(3):
            lamp = Light(f"tunnel lamp {i + 1}", "point", (0.8, 0.9, 1.0), 22.0, 7.0)
            self._light(f"tunnel lamp {i + 1}", lamp, at(15.5 + 4.2 * i, -0.6, 18.35))
        # Planted: this lamp sits inside a pillar.
        # Planted: the project leaves this lamp live, though all others are baked.
        quay_lamp = Light("quay lamp", "point", warm, 60.0, 7.0)
        self._light("quay lamp", quay_lamp, at(26.0, 2.6, 5.6))
        self._light("pillar lamp", Light("pillar lamp", "point", warm, 120.0, 8.0), at(6.47, 3.2, 15.4))
        bulb = ball(0.09, 8, 12)
        self._add("props", "hall lamp globe", bulb, "lamp glass", at(11.2, 3.4, 8.4))
        # Planted: this lantern looks lit but does not count as an emitter.
        self._add("props", "quay lantern", bulb, "lantern glass", at(10.4, 3.1, 6.4))
        post = joined([box((-0.04, 3.15, -0.04), (0.04, 3.22, 0.34))])
        self._add("props", "lantern arm", post, "iron", at(10.4, 0, 6.4))
        # Planted: this one is sixty times too strong.
        self._add("props", "mooring lantern", bulb, "mooring glass", at(4.15, 1.15, 1.3))
        mast = joined([box((-0.03, 0, -0.03), (0.03, 1.05, 0.03)), box((-0.05, 1.245, -0.05), (0.05, 1.275, 0.05))])
        self._add("props", "mooring post", mast, "iron", at(4.15, 0, 1.3))
        self._add(
            "structure",
            "loft skylight",
            quad([(0, 0, 0), (1.4, 0, 0), (1.4, 0, 1.0), (0, 0, 1.0)]),
            "skylight",
            at(12.2, 10.0, 11.5),
        )
