"""Lights that the game adds itself, as the stage draws them: by a simple shader, without shadows, as games do afar."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ropebell.level.model import F32, F64
from ropebell.level.placed_light import PlacedLight

# So many are drawn at once, those nearest to the eye.
MOST = 16
KINDS = {"point": 0.0, "spot": 1.0, "directional": 2.0}
ADDED = ("live", "hybrid")


@dataclass(frozen=True, eq=False)
class Lamps:
    """Lights that are not, or not always, in the pages.

    Attributes:
        lights: of kinds that the shader knows. blend: metres from the eye within which hybrid ones are live.
        left: how many are of other kinds, and so not shown.
    """

    lights: tuple[PlacedLight, ...]
    blend: float
    left: int = 0

    @staticmethod
    def of(lights: Iterable[PlacedLight], blend: float) -> Lamps:
        """Of a level's lights those that the game adds."""
        added = [x for x in lights if x.mode in ADDED and x.intensity > 0]
        known = tuple(x for x in added if x.kind in KINDS)
        return Lamps(known, blend, len(added) - len(known))

    def rows(self, eye: F64, centre: F64) -> F32:
        """(n, 16) float32, n at most `MOST`: place from the centre, reach (0: any); colour, kind; direction, whether it
        is hybrid; cosines of the inner and outer cone."""

        def far(light: PlacedLight) -> float:
            return -1.0 if light.kind == "directional" else float(np.linalg.norm(light.position - eye))

        chosen = sorted(self.lights, key=far)[:MOST]
        found = np.zeros((len(chosen), 16), np.float32)
        for row, x in zip(found, chosen):
            row[0:4] = [*(x.position - centre), x.reach or 0.0]
            row[4:8] = [*x.strength, KINDS[x.kind]]
            row[8:12] = [*x.direction, float(x.mode == "hybrid")]
            row[12:14] = np.cos(x.inner_cone), np.cos(x.outer_cone)
        return found

    @property
    def words(self) -> str:
        """What is added, for the strip."""
        hybrid = sum(x.mode == "hybrid" for x in self.lights)
        live = len(self.lights) - hybrid
        parts = [f"{hybrid} hybrid live within {self.blend:g} m"] if hybrid else []
        parts += [f"{live} live"] if live else []
        parts += [f"{self.left} of other kinds not shown"] if self.left else []
        return ", ".join(parts) or "no light is live"
