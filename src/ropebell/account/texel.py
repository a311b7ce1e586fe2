"""The account of a texel: everything that reaches a spot of a build, and everything that is kept from it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ropebell.build.meter import look_up
from ropebell.build.reopened import Reopened
from ropebell.errors import UsageError
from ropebell.faults.behind import back_faces
from ropebell.faults.ways import Way, samples_of, ways
from ropebell.level.model import F64, I32, LUMINANCE
from ropebell.level.nearest import NearestSurface
from ropebell.light.direct import DirectField
from ropebell.light.fields import SKY, ray_light
from ropebell.light.lookup import BACK, NONE
from ropebell.light.lookup import SKY as TO_SKY
from ropebell.light.solve import scatter

# Surfaces that give most are told, so many of them, and of each where so many of its rays end.
GIVING, DRAWN = 8, 3
FACING = 0.5


@dataclass(frozen=True, eq=False)
class Spot:
    """A point of a baked surface.

    Attributes:
        position: (3,) metres. texel: its number. uv: (2,) texels on the page. distance: metres from where one pointed.
    """

    position: F64
    triangle: int
    texel: int
    page: int
    uv: tuple[float, float]
    distance: float


@dataclass(frozen=True, eq=False)
class LightAccount:
    """What one light or emitter does at a spot.

    Attributes:
        direct, bounced: (3,) lux straight from it, and by bounces. way: from the spot to it.
        unblocked: lux that it would give a face turned to it with nothing in the way, about.
    """

    name: str
    direct: F64
    bounced: F64
    way: Way | None
    unblocked: float = 0.0

    def as_json(self, names: tuple[str, ...]) -> dict[str, Any]:
        """The contract's JSON."""
        w = self.way
        return {
            "name": self.name, "direct": self.direct.tolist(), "bounced": self.bounced.tolist(),
            "in_reach": w.in_reach if w is not None else True, "facing": w.facing if w is not None else True,
            "open": round(w.open, 4) if w is not None else 1.0,
            "blocked_by": [
                {"node": names[n], "share": round(share, 4)} for n, share in (w.blocked_by if w is not None else ())
            ],
            "unblocked": self.unblocked,
            "metres": round(w.metres, 4) if w is not None and np.isfinite(w.metres) else None,
        }  # fmt: skip


@dataclass(frozen=True, eq=False)
class Giving:
    """A surface whose light reaches a spot.

    Attributes:
        node: the object. light: (3,) lux that the spot's rays met on it.
        places: (k, 3) metres, where those of its rays end that bring most, the most first.
    """

    node: str
    light: F64
    places: F64


@dataclass(frozen=True, eq=False)
class Account:
    """Why a spot looks as it does.

    Attributes:
        irradiance: (3,) lux as a game reads it there, between texels. shown: (3,) of the texel itself. raw: (3,) before
            the light was finished.
        lights: every light and emitter, what gives most first. sky: (3,) lux, straight and by bounces; sky_direct: of
            it, what comes straight.
        bounces: (3,) lux each, direct light first; their sum is `raw`.
        giving: surfaces that its rays met, what gives most first.
        mixed_with: (object, share) whose texels a game reads with this one at the mip level that is asked for: what its
            charts would overlap there. At full size none do.
        behind: share of its rays that met backs of faces, and whose, most first.
        open_share: share of its rays that left the level.
    """

    spot: Spot
    node: str
    density: float
    irradiance: F64
    shown: F64
    raw: F64
    noise: float
    lights: tuple[LightAccount, ...]
    sky: F64
    sky_direct: F64
    bounces: tuple[F64, ...]
    giving: tuple[Giving, ...]
    mixed_with: tuple[tuple[str, float], ...]
    behind: tuple[float, tuple[str, ...]]
    open_share: float


class Ledger:
    """Gives account of the spots of a build.

    Args:
        build: as it was.
    """

    def __init__(self, build: Reopened) -> None:
        self.build, self.lit = build, build.lit
        scene = self.lit.scene
        self._lit_rows = np.flatnonzero((self.lit.atlas.lightmap >= 0) & (scene.areas > 0))
        self._near: dict[bytes, tuple[NearestSurface, NDArray[np.intp]]] = {}

    def spot(self, point: F64, normal: F64 | None = None) -> Spot:
        """The point of a baked surface nearest to one.

        Args:
            normal: (3,) only surfaces that face this way within 60° count.

        Raises:
            UsageError: there is none.
        """
        lit = self.lit
        surface, rows = self._facing(normal)
        found, weights, far = surface.at(np.asarray(point, dtype=np.float64)[None], normal)
        if found[0] < 0:
            raise UsageError("no baked surface is there that faces so", "", "Point at a surface with a lightmap")
        t = int(rows[found[0]])
        b, c = (float(v) for v in weights[0])
        w = np.array([1 - b - c, b, c])
        u, v = (float(x) for x in w @ lit.atlas.uv[t].astype(np.float64))
        page = int(lit.atlas.page[t])
        return Spot(w @ lit.scene.corners[t], t, self._texel(page, u, v, t), page, (u, v), float(far[0]))

    def below(self, point: F64) -> F64:
        """(3,) the place straight below a point, where a thing that moves takes its light from; the point itself, where
        nothing is below."""
        space = self.lit.space
        start = (point - space.centre).astype(np.float32)[None]
        far = float(space.distances(start, np.array([[0.0, -1.0, 0.0]], np.float32))[0])
        found: F64 = point - np.array([0.0, far if far <= space.extent + float(np.abs(start).max()) else 0.0, 0.0])
        return found

    def _facing(self, normal: F64 | None) -> tuple[NearestSurface, NDArray[np.intp]]:
        key = b"" if normal is None else normal.tobytes()
        if key not in self._near:
            rows, faces = self._lit_rows, self.lit.scene.face_normals[self._lit_rows].astype(np.float64)
            if normal is not None:
                kept = faces @ (normal / max(float(np.linalg.norm(normal)), 1e-30)) >= FACING
                rows, faces = rows[kept], faces[kept]
            self._near[key] = NearestSurface(self.lit.scene.corners[rows], faces), rows
        return self._near[key]

    def _texel(self, page: int, u: float, v: float, triangle: int) -> int:
        """The texel at a place of a page, of the triangle's chart; where rounding leaves it, the nearest."""
        grid = self.lit.texels.grid[page]
        _, left, top, width, height = (int(x) for x in self.lit.atlas.rects[self.lit.atlas.chart[triangle]])
        x, y = min(max(int(u), left), left + width - 1), min(max(int(v), top), top + height - 1)
        if grid[y, x] >= 0:
            return int(grid[y, x])
        rows, columns = np.nonzero(grid[top : top + height, left : left + width] >= 0)
        nearest = int(np.argmin((rows + top - v + 0.5) ** 2 + (columns + left - u + 0.5) ** 2))
        return int(grid[rows[nearest] + top, columns[nearest] + left])

    def account(self, spot: Spot) -> Account:
        """Everything that reaches a spot, and what is kept from it."""
        lit = self.lit
        speaks = int(lit.samples.target[spot.texel])
        row = np.array([speaks], np.int32)
        table = lit.hits.table[row]
        counted = max(int((table != NONE).sum()), 1)
        behind = back_faces(lit, np.array([spot.texel], np.int32))
        bounces, lights, sky, straight = self._sources(speaks, np.array([spot.texel], np.int32))
        shown = look_up(lit.pages, spot.page, *spot.uv) if lit.pages is not None else lit.total[speaks].astype(float)
        back_share = float((table == BACK).sum()) / counted if lit.samples.count[spot.texel] else 1.0
        return Account(
            spot, lit.scene.node_names[lit.scene.node[spot.triangle]], float(lit.atlas_density[spot.texel]), shown,
            lit.total[speaks].astype(np.float64),
            lit.solved.total[speaks].astype(np.float64), float(lit.told_noise[spot.texel]), lights, sky, straight,
            bounces, tuple(self._giving(table, counted)), self._mixed_with(spot),
            (back_share, tuple(name for name, _ in behind[:4])), float((table == TO_SKY).sum()) / counted,
        )  # fmt: skip

    def _sources(self, texel: int, asked: I32) -> tuple[tuple[F64, ...], tuple[LightAccount, ...], F64, F64]:
        """Light by bounce, by light, and of the sky: the solve run backwards from one texel.

        With W₀ the texel alone and W_{b+1} = ρ·Aᵀ·W_b, bounce b brings Σ W_b · D, and light j of it Σ W_b · D_j.
        """
        lit = self.lit
        count = len(lit)
        first = np.zeros((count, 3))
        first[texel] = 1.0
        weight, later, bounces = first, np.zeros((count, 3)), []
        direct = lit.solved.direct.astype(np.float64)
        thrown = self._thrown(direct)
        for b in range(lit.settings.bounces + 1):
            bounces.append((weight * (direct if b == 0 else thrown)).sum(axis=0))
            if b == lit.settings.bounces:
                break
            back = np.zeros_like(first)
            scatter(lit.hits.table, lit.hits.counted, weight, back)
            weight = back * lit.reflecting
            later = later + weight
        to_here = {w.name: w for w in ways(lit, samples_of(lit, asked))}
        found = []
        for light in lit.scene.lights:
            field = lit.sources.lights.get(light.name)
            if field is not None:
                straight, bounced = _of(field, first, light.strength), _of(field, later, light.thrown)
                way = to_here.get(light.name)
                found.append(LightAccount(light.name, straight, bounced, way, _unblocked(light.strength, way)))
        for emitter in lit.scene.emitters:
            field = lit.sources.emitters.get(emitter.name)
            if field is None:
                continue
            straight, bounced = (_of(field, w, emitter.radiance) for w in (first, later))
            if len(field.gathered):
                seen = self._by_rays((0.0, 0.0, 0.0), emitter.name)
                straight, bounced = straight + (first * seen).sum(axis=0), bounced + (later * seen).sum(axis=0)
            way = to_here.get(emitter.name)
            candela = emitter.radiance * float(lit.scene.areas[emitter.triangles].sum())
            found.append(LightAccount(emitter.name, straight, bounced, way, _unblocked(candela, way)))
        sky, straight = np.zeros(3), np.zeros(3)
        if max(lit.tint) > 0:
            seen = self._by_rays(lit.tint, SKY)
            sky, straight = ((first + later) * seen).sum(axis=0), (first * seen).sum(axis=0)
        found.sort(key=lambda x: -float((x.direct + x.bounced).sum()))
        return tuple(bounces), tuple(found), sky, straight

    def _thrown(self, direct: F64) -> F64:
        """(N, 3) direct light as it goes into the bounces."""
        odd = [x for x in self.lit.scene.lights if not np.array_equal(x.strength, x.thrown)]
        out = direct.copy()
        for light in odd:
            field = self.lit.sources.lights.get(light.name)
            if field is not None:
                out[field.texel] -= field.rgb * (light.strength - light.thrown)
        return out

    def _by_rays(self, sky: tuple[float, float, float], name: str) -> F64:
        lit = self.lit
        return ray_light(lit.hits, lit.glow, lit.sources, sky, lit.settings.workers, name).astype(np.float64)

    def _giving(self, table: I32, counted: int) -> list[Giving]:
        lit = self.lit
        met, times = np.unique(table[table >= 0], return_counts=True)
        light = (lit.solved.before[met] * lit.reflecting[met]).astype(np.float64) * times[:, None] / counted
        node, found = lit.node[met], []
        for one in np.unique(node):
            mine = node == one
            most = np.argsort(-(light[mine] @ LUMINANCE), kind="stable")[:DRAWN]
            places = lit.places[lit.samples.target[met[mine][most]]]
            found.append(Giving(lit.scene.node_names[one], light[mine].sum(axis=0), places))
        found.sort(key=lambda g: -float(g.light.sum()))
        return [g for g in found[:GIVING] if g.light.any()]

    def _mixed_with(self, spot: Spot) -> tuple[tuple[str, float], ...]:
        lit, side = self.lit, 1 << self.lit.settings.mip
        column, row = (int(x[spot.texel]) // side * side for x in (lit.texels.column, lit.texels.row))
        block = lit.texels.grid[spot.page, row : row + side, column : column + side]
        others = block[(block >= 0) & (lit.chart[block] != lit.chart[spot.texel])]
        nodes, count = np.unique(lit.node[others], return_counts=True)
        order = np.argsort(-count, kind="stable")
        return tuple((lit.scene.node_names[nodes[n]], float(count[n]) / side**2) for n in order)


def _unblocked(strength: F64, way: Way | None) -> float:
    """Lux of a lamp of so many candela, or of a sun of so many lux, at the end of its way."""
    metres = way.metres if way is not None and np.isfinite(way.metres) else 1.0
    return float(np.maximum(strength, 0.0) @ LUMINANCE) / max(metres, 1e-6) ** 2


def _of(field: DirectField, weight: F64, strength: F64) -> F64:
    found: F64 = (weight[field.texel] * field.rgb).sum(axis=0) * strength
    return found
