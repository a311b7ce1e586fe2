"""What light a moving thing gets at a spot: by the probes round it, and by the surface below, since games do either."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ropebell.build.meter import look_up
from ropebell.build.result import Result
from ropebell.level.model import F32, F64, I32
from ropebell.light.harmonics import irradiance
from ropebell.light.probes import Probes, at_place
from ropebell.light.rays import RaySpace

# A surface further below than this lights nothing that stands or hangs here, metres.
FARTHEST_BELOW = 50.0
SIDES = {"up": (0.0, 1.0, 0.0), "down": (0.0, -1.0, 0.0), "+x": (1.0, 0.0, 0.0), "-x": (-1.0, 0.0, 0.0),
         "+z": (0.0, 0.0, 1.0), "-z": (0.0, 0.0, -1.0)}  # fmt: skip


@dataclass(frozen=True, eq=False)
class MoverLight:
    """Light of a moving thing at a place.

    Attributes:
        coefficients: (9, 3) radiance between the probes, zeros without probes.
        sources: (name or place of a probe, its share).
        below: (3,) lux of the lightmap straight below, None where there is none. node: its object.
    """

    position: F64
    coefficients: F64
    sources: tuple[tuple[str, float], ...]
    below: F64 | None
    node: str

    def on(self, normal: tuple[float, float, float]) -> F64:
        """(3,) lux by probes on a face that looks this way."""
        return irradiance(self.coefficients, np.array(normal))

    def as_json(self) -> dict[str, Any]:
        """Plain values."""
        return {
            "position": self.position.tolist(),
            "probes": {side: self.on(way).tolist() for side, way in SIDES.items()} if self.sources else {},
            "from": [{"probe": name, "share": round(share, 4)} for name, share in self.sources],
            "below": {"node": self.node, "irradiance": self.below.tolist()} if self.below is not None else {},
        }


@dataclass(frozen=True, eq=False)
class Lightmapped:
    """Surfaces with their light, as a mover looks down on them.

    Attributes:
        uv: (T, 3, 2) texels; page: (T,) −1 without a lightmap; total: (P, H, W, 3) lux.
    """

    space: RaySpace
    corners: F64
    names: tuple[str, ...]
    node: I32
    uv: F32
    page: I32
    total: F32

    @staticmethod
    def of(result: Result, space: RaySpace) -> Lightmapped:
        """Of a build."""
        s = result.scene
        return Lightmapped(space, s.corners, s.node_names, s.node, result.uv, result.page, result.total)


def mover_light(surfaces: Lightmapped, probes: Probes | None, place: F64) -> MoverLight:
    """The light at a place, metres."""
    mixed, shares = at_place(probes, surfaces.space, place) if probes is not None else (np.zeros((9, 3)), [])
    named = []
    for index, share in shares:
        assert probes is not None
        where = ", ".join(f"{v:.1f}" for v in probes.position[index])
        named.append((probes.name[index] or f"grid {where}", share))
    below, node = _below(surfaces, place)
    return MoverLight(np.asarray(place, dtype=np.float64), mixed, tuple(named), below, node)


def _below(s: Lightmapped, place: F64) -> tuple[F64 | None, str]:
    start = (place - s.space.centre).astype(np.float32)[None]
    down = np.array([[0, -1, 0]], np.float32)
    t = int(s.space.first_hit(start, down)[0])
    if t < 0 or s.page[t] < 0 or float(s.space.distances(start, down)[0]) > FARTHEST_BELOW:
        return None, ""
    a, b, c = s.corners[t]
    e1, e2, p = (b - a)[[0, 2]], (c - a)[[0, 2]], (place - a)[[0, 2]]
    det = e1[0] * e2[1] - e1[1] * e2[0]
    if det == 0.0:
        return None, ""
    v, w = (p[0] * e2[1] - p[1] * e2[0]) / det, (e1[0] * p[1] - e1[1] * p[0]) / det
    at = np.array([1 - v - w, v, w]) @ s.uv[t].astype(np.float64)
    return look_up(s.total, int(s.page[t]), float(at[0]), float(at[1])), s.names[s.node[t]]
