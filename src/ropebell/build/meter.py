"""The light meter: irradiance where a point touches a baked surface — total, direct, bounced, per light."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.build.manifest import Manifest
from ropebell.build.result import Result
from ropebell.build.stored import StoredBuild
from ropebell.level.model import F32, F64
from ropebell.level.nearest import NearestSurface
from ropebell.light.direct import DirectField
from ropebell.light.fields import SKY, Glow, ray_light
from ropebell.light.solve import scatter

# A normal that was asked for must be met within this angle.
FACING = math.cos(math.radians(60))


@dataclass(frozen=True, eq=False)
class Reading:
    """What the meter shows at one point.

    Attributes:
        position: the surface point nearest to the one asked for.
        node: path of its object, empty if the level has no surface.
        distance: metres between the two.
        irradiance, direct, bounced: (3,) lux.
        lights: (3,) lux by light, emitter and `sky`, summing to `irradiance`; empty if the build's
            artifacts are no longer in the cache.
        noise: standard error of the gathered light as a share of `irradiance`, None for builds that do not say.
    """

    position: F64
    node: str
    distance: float
    irradiance: F64
    direct: F64
    bounced: F64
    lights: dict[str, F64]
    noise: float | None = None

    def as_json(self) -> dict[str, Any]:
        """The contract's JSON."""
        return {
            "position": [round(float(v), 6) for v in self.position],
            "node": self.node,
            "distance": round(self.distance, 6),
            "irradiance": [float(v) for v in self.irradiance],
            "direct": [float(v) for v in self.direct],
            "bounced": [float(v) for v in self.bounced],
            "lights": {name: [float(v) for v in value] for name, value in self.lights.items()},
        }


def look_up(pages: F32, page: int, u: float, v: float) -> F64:
    """(C,) bilinear value of a page field at texel coordinates, as a renderer would read it."""
    value = np.zeros(pages.shape[3])
    for x, y, weight in _bilinear(u, v, pages.shape[2], pages.shape[1]):
        value += weight * pages[page, y, x].astype(np.float64)
    return value


def _bilinear(u: float, v: float, width: int, height: int) -> list[tuple[int, int, float]]:
    x, y = u - 0.5, v - 0.5
    x0, y0 = math.floor(x), math.floor(y)
    fx, fy = x - x0, y - y0
    corners = [(0, 0, (1 - fx) * (1 - fy)), (1, 0, fx * (1 - fy)), (0, 1, (1 - fx) * fy), (1, 1, fx * fy)]
    return [(min(max(x0 + i, 0), width - 1), min(max(y0 + j, 0), height - 1), w) for i, j, w in corners if w > 0.0]


class Meter:
    """Reads a finished build.

    Args:
        result: the build.
    """

    def __init__(self, result: Result) -> None:
        self._result = result
        # Only surfaces with a lightmap can be read.
        self._lit = np.flatnonzero((result.page >= 0) & (result.scene.areas > 0.0))
        self._places: dict[bytes, tuple[NearestSurface, NDArray[np.intp]]] = {}
        self._ledger: _Ledger | None = None
        self._ledger_tried = False

    def read(self, point: F64, normal: F64 | None = None, per_light: bool = True) -> Reading:
        """The light at the surface point nearest to `point`.

        Args:
            point: (3,) metres.
            normal: (3,) if given, only surfaces that face this way within 60° count.
            per_light: also split by light.
        """
        return self.read_many(np.asarray(point, np.float64)[None], normal, per_light)[0]

    def read_many(self, points: F64, normal: F64 | None = None, per_light: bool = True) -> list[Reading]:
        """The same for (M, 3) points."""
        wanted = None if normal is None else normal / max(float(np.linalg.norm(normal)), 1e-30)
        surface, lit = self._facing(wanted)
        near, weights, far = surface.at(points, wanted)
        return [
            self._reading(point, int(lit[t]) if t >= 0 else -1, b, c, distance, per_light)
            for point, t, (b, c), distance in zip(points, near.tolist(), weights.tolist(), far.tolist())
        ]

    def _facing(self, normal: F64 | None) -> tuple[NearestSurface, NDArray[np.intp]]:
        """Surfaces with a lightmap that face some way, and which triangles they are."""
        key = b"" if normal is None else normal.tobytes()
        if key not in self._places:
            scene, rows = self._result.scene, self._lit
            faces = scene.face_normals[rows].astype(np.float64)
            if normal is not None:
                facing = faces @ normal >= FACING
                rows, faces = rows[facing], faces[facing]
            self._places[key] = NearestSurface(scene.corners[rows], faces), rows
        return self._places[key]

    def _reading(self, point: F64, t: int, b: float, c: float, distance: float, per_light: bool) -> Reading:
        r = self._result
        if t < 0:
            zero = np.zeros(3)
            return Reading(np.asarray(point, dtype=np.float64), "", math.inf, zero, zero, zero, {})
        weights = np.array([1 - b - c, b, c])
        u, v = weights @ r.uv[t].astype(np.float64)
        page = int(r.page[t])
        total, direct = look_up(r.total, page, u, v), look_up(r.direct, page, u, v)
        lights: dict[str, F64] = {}
        if per_light:
            ledger = self._open_ledger()
            lights = ledger.split(page, u, v, total) if ledger is not None else {}
        node = r.scene.node_names[r.scene.node[t]]
        noise = float(look_up(r.noise, page, u, v)[0]) if r.noise is not None else None
        return Reading(
            weights @ r.scene.corners[t], node, distance, total, direct, np.maximum(total - direct, 0), lights, noise
        )

    @property
    def untold(self) -> str:
        """What can no longer be told of this build, empty if all can."""
        m = self._result.manifest
        if self._open_ledger() is not None:
            return ""
        if not m.digests.reading:
            return "The light is not split by lamps: the build is of an older version. Build again to see it."
        return f"The light is not split by lamps: what the build kept in {m.cache} is gone. Build again to see it."

    def _open_ledger(self) -> _Ledger | None:
        if not self._ledger_tried:
            self._ledger_tried = True
            self._ledger = _Ledger.open(self._result.manifest)
        return self._ledger


@dataclass(frozen=True, eq=False)
class _Ledger:
    """By which the light at a point can be traced back to its sources."""

    manifest: Manifest
    stored: StoredBuild
    glow: Glow

    @staticmethod
    def open(m: Manifest) -> _Ledger | None:
        """The ledger, or None when an artifact of the build is gone."""
        stored = StoredBuild.of(m)
        if stored is None:
            return None
        radiance = np.array(list(m.emitters.values()), np.float32).reshape(-1, 3)
        return _Ledger(m, stored, Glow(tuple(m.emitters), radiance, stored.emitter))

    def split(self, page: int, u: float, v: float, total: F64) -> dict[str, F64]:
        """Lux by source at page coordinates: the adjoint of the solve, so one pass serves all sources.

        With W₀ the bilinear weights, W_{b+1} = ρ·Aᵀ·W_b; source j brings Σ_b W_b · D_j.
        """
        weight = np.zeros((len(self.stored.layout.texels), 3))
        height, width = self.stored.layout.texels.grid.shape[1:]
        for x, y, w in _bilinear(u, v, width, height):
            texel = self.stored.layout.texels.grid[page, y, x]
            if texel >= 0:
                weight[self.stored.layout.target[texel]] += w
        if not weight.any():
            return {}
        weight /= weight[:, 0].sum()
        first, importance = weight.copy(), weight.copy()
        for _ in range(self.manifest.bounces):
            back = np.zeros_like(weight)
            scatter(self.stored.hits.table, self.stored.hits.counted, weight, back)
            weight = back * self.stored.reflecting
            importance += weight
        return self._shares(first, importance, total)

    def _shares(self, first: F64, importance: F64, total: F64) -> dict[str, F64]:
        shares: dict[str, F64] = {}
        sky = self.manifest.sky
        for name, light in self.manifest.lights.items():
            field = self.stored.sources.lights[name]
            shares[name] = _through(first, field, light.strength) + _through(importance - first, field, light.thrown)
        for name, radiance in self.manifest.emitters.items():
            field = self.stored.sources.emitters[name]
            share = _through(importance, field, np.array(radiance))
            if len(field.gathered):
                seen = ray_light(self.stored.hits, self.glow, self.stored.sources, sky, 1, name)
                share = share + (importance * seen).sum(axis=0)
            shares[name] = share
        if max(sky) > 0:
            seen = ray_light(self.stored.hits, self.glow, self.stored.sources, sky, 1, SKY)
            shares[SKY] = (importance * seen).sum(axis=0)
        # Padding and half floats leave a fraction of a percent between the sum and the page.
        summed = sum(shares.values(), np.zeros(3))
        scale = np.divide(total, summed, out=np.ones(3), where=summed > 0)
        return {name: share * scale for name, share in shares.items()}


def _through(importance: F64, field: DirectField, strength: F64) -> F64:
    found: F64 = (importance[field.texel] * field.rgb).sum(axis=0) * strength
    return found
