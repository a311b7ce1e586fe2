"""Which change brought how much of a difference: solved with one change at a time, from the rays of both builds.

Each change is a player of a game whose worth is the light of a build with some of the changes made; its share is
Shapley's value (L. S. Shapley, "A value for n-person games", 1953), which does not depend on an order. What counts is
the mean light over the surface; only where that would mostly cancel, as when a lamp moves, darker places count as
minus.

Strengths, colours, bounces and albedo are algebra on stored rays. A sum W·E over all texels is linear in the direct
light D: with E = Σ (Aρ)^b D it is Y·D with Y = Σ (ρAᵀ)^b W, solved once for whatever lamps change (the adjoint of
`light.solve`). What moves surfaces, or shoots other rays, is one player that is not told apart any further: the rays of
the one build and those of the other are all there is.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import combinations

import numpy as np

from ropebell.build.manifest import Manifest
from ropebell.build.relight import built_strengths, names_of_fields, source_of, unit_fields
from ropebell.build.result import Result
from ropebell.build.setting_words import setting_title
from ropebell.build.stored import StoredBuild
from ropebell.compare.changes import Changes
from ropebell.compare.light import LightDifference
from ropebell.compare.places import partners, places_of
from ropebell.level.model import F32, F64, I32, LUMINANCE, Mask
from ropebell.light.fields import SKY
from ropebell.light.solve import reflectance, scatter

MOST_PLAYERS = 8
# Texels across a neighbourhood.
BLOCK = 8
# Where so little of all change is left of it in sum, it cancels.
CANCELS = 0.3
BOUNCING = ("light.bounces", "light.bounce_gain", "light.bounce_saturation")
FINISHING = ("finish.", "occlusion.")
# Of a recipe, what changes no light that is compared.
ASIDE = ("name", "limits.", "output.", "sight.")


@dataclass(frozen=True)
class Cause:
    """A change and its share of the difference.

    Attributes:
        name: node path or key of a setting; of several that stored rays cannot tell apart, all of them.
        share: of the whole; all shares together are 1. members: the changes it stands for.
    """

    name: str
    share: float
    members: tuple[str, ...]


@dataclass(frozen=True)
class Causes:
    """The causes, largest first. told: what could not be told apart, or why nothing is known; empty if all is."""

    causes: tuple[Cause, ...] = ()
    told: str = ""


@dataclass
class _Players:
    """Changes by how they are made good.

    Attributes:
        lights, materials: names. sky, bouncing, finishing: keys. ground: what only other rays know.
    """

    lights: list[str] = field(default_factory=list)
    materials: dict[str, str] = field(default_factory=dict)
    sky: list[str] = field(default_factory=list)
    bouncing: list[str] = field(default_factory=list)
    finishing: list[str] = field(default_factory=list)
    ground: list[str] = field(default_factory=list)

    @property
    def names(self) -> list[str]:
        """One for each player."""
        solved = [*self.lights, *self.materials, *self.sky, *self.bouncing]
        return [*solved, *([GROUND] if self.ground else [])]


GROUND = "\0ground"


def causes(a: Result, b: Result, light: LightDifference, changed: Changes, only: Mask | None = None) -> Causes:
    """Share the difference out among what changed.

    Args:
        only: (N,) bool, places of `light` that are asked about; None: all.
    """
    names = [n for n in changed.of_light if not n.startswith(ASIDE)]
    if not names:
        return Causes((), "Nothing that is known of changed, so the difference has no cause to be named.")
    if len(names) == 1:
        return Causes((Cause(names[0], 1.0, (names[0],)),))
    stored = StoredBuild.of(a.manifest), StoredBuild.of(b.manifest)
    if stored[0] is None or stored[1] is None:
        return Causes((), "The rays of a build are no longer in its cache: build both again to tell causes apart.")
    one_ground = _footing(a.manifest) == _footing(b.manifest)
    players = _players(changed, one_ground)
    sides = [
        _Side(r, other, own, theirs if one_ground else None, weights, players)
        for r, other, own, theirs, weights in zip(
            (a, b), (b, a), (stored[0], stored[1]), (stored[1], stored[0]), _weights(a, b, light, only, players)
        )
    ]
    return _shared_out(players, sides, light, only)


def _footing(m: Manifest) -> tuple[str, str]:
    return m.digests.charts, m.digests.footing


def _players(changed: Changes, one_ground: bool) -> _Players:
    found = _Players()
    for setting in changed.settings:
        if setting.key.startswith(ASIDE):
            continue
        if setting.key in BOUNCING:
            found.bouncing.append(setting.key)
        elif setting.key.startswith(FINISHING):
            found.finishing.append(setting.key)
        elif setting.key == "sky":
            found.sky.append("sky")
        else:
            found.ground.append(setting.key)
    solid = {c.node for c in changed.contents if c.kind in ("added", "removed", "moved", "reshaped", "mark")}
    for content in changed.contents:
        if content.kind == "colour":
            found.materials.setdefault(content.material, content.node)
        elif content.kind in ("light", "emitter") and content.node.partition(":")[0] not in solid:
            # One that is only in one of the builds has a field on that one's ground alone.
            single = content.what.startswith("only") or "nothing" in content.what
            (found.lights if one_ground or not single else found.ground).append(content.node)
        elif content.kind == "light moved":
            (found.lights if one_ground else found.ground).append(content.node)
        elif content.node not in found.ground:
            found.ground.append(content.node)
    return found


def _weights(
    a: Result, b: Result, light: LightDifference, only: Mask | None, players: _Players
) -> tuple[F32, F32]:  # fmt: skip
    """(P, H, W) of each build: m² of the texel by what it counts; nothing where it does not."""
    sign = _sign(light, only)
    if only is not None:
        sign = sign * only
    p = light.places
    mine = np.zeros(light.base.total.shape[:3], np.float32)
    mine[p.page, p.row, p.column] = sign * p.area
    if not players.ground:
        return mine, mine
    signs = np.zeros((*mine.shape, 1), np.float32)
    signs[p.page, p.row, p.column, 0] = sign
    other = b if light.on_a else a
    places = places_of(other)
    found = partners(other, places, light.base).nearest(signs)[:, 0]
    theirs = np.zeros(other.total.shape[:3], np.float32)
    theirs[places.page, places.row, places.column] = found * places.area
    return (mine, theirs) if light.on_a else (theirs, mine)


def _sign(light: LightDifference, only: Mask | None) -> F64:
    """(N,) what each place counts: 1; where brighter and darker places cancel, −1 in neighbourhoods that are darker.

    Neighbourhoods and not texels, as other rays have other noise, which is no part of what changed.
    """
    p = light.places
    height, width = light.base.total.shape[1:3]
    across = -(-width // BLOCK)
    block = (p.page.astype(np.int64) * -(-height // BLOCK) + p.row // BLOCK) * across + p.column // BLOCK
    weight = light.weight if only is None else light.weight * only
    change = np.bincount(block, weight * (light.b - light.a))
    if abs(change.sum()) >= CANCELS * np.abs(change).sum():
        return light.there.astype(np.float64)
    found: F64 = np.sign(change)[block] * light.there
    return found


class _Side:
    """One build's rays, with any of the other's strengths, colours and bounces put in.

    Args:
        result: whose rays. other: the other build; theirs: what it kept, where both stand on one ground.
        weight: (P, H, W) of `_weights`.
    """

    def __init__(
        self, result: Result, other: Result, own: StoredBuild, theirs: StoredBuild | None, weight: F32,
        players: _Players,
    ) -> None:  # fmt: skip
        self._result, self._other, self._own, self._theirs, self._players = result, other, own, theirs, players
        texels = own.layout.texels
        pages = weight.shape[0]
        on = texels.page < pages
        at = np.where(on, texels.page, 0), texels.row, texels.column
        each = np.where(on, weight[at], 0.0).astype(np.float64)
        spoken = np.bincount(own.layout.target, each, len(texels))
        self._w: F64 = spoken[:, None] * LUMINANCE
        self._units, self._names = self._fields()
        self._plain = self._w.T @ self._units.astype(np.float64)
        self._known = dict[tuple[object, ...], F64]()

    def _fields(self) -> tuple[F32, list[tuple[str, bool]]]:
        """(N, J) of everything that gives light in either build; of each its name, and whether it is of the other."""
        own = self._own
        columns, names = [], list[tuple[str, bool]]()
        for stored, manifest, of_other in (
            (own, self._result.manifest, False),
            (self._theirs, self._other.manifest, True),
        ):
            if stored is None:
                continue
            wanted = names_of_fields(stored.sources)
            moved = set(self._players.lights)
            keep = [n for n in wanted if not of_other or source_of(n) in moved or n not in dict(names)]
            if keep:
                units = unit_fields(
                    tuple(manifest.emitters), stored.emitter, stored.sources, stored.hits, tuple(keep), 1
                )
                columns.append(units)
                names += [(n, of_other) for n in keep]
        return np.concatenate(columns, axis=1), names

    def worth(self, of_b: frozenset[str], is_b: bool) -> float:
        """The weighted light with some of the changes made.

        Args:
            of_b: players that are as in B. is_b: this side is B's.
        """
        names = tuple(n for n, _ in self._names)
        mine, theirs = self._result.manifest, self._other.manifest
        full, thrown = built_strengths(mine, names)
        full_other, thrown_other = built_strengths(theirs, names)
        two = {n for n, of_other in self._names if of_other}
        for j, (name, of_other) in enumerate(self._names):
            player = "sky" if source_of(name).startswith(SKY) and self._players.sky else source_of(name)
            if player not in (*self._players.lights, *self._players.sky):
                if of_other:
                    full[j] = thrown[j] = 0.0
                continue
            as_other = (player in of_b) != is_b
            if as_other:
                full[j], thrown[j] = full_other[j], thrown_other[j]
            # Where both builds have a field of it, the one of the build that it is as in counts.
            if name in two and self._has(name) and of_other != as_other:
                full[j] = thrown[j] = 0.0
        through = self._through(of_b, is_b)
        return float((full.T * self._plain).sum() + (thrown.T * through).sum())

    def _has(self, name: str) -> bool:
        return (name, False) in self._names

    def _through(self, of_b: frozenset[str], is_b: bool) -> F64:
        """(3, J) what each field at unit strength brings by its bounces."""
        key = tuple((n in of_b) != is_b for n in (*self._players.materials, *self._players.bouncing))
        if key not in self._known:
            y = self._adjoint(of_b, is_b)
            self._known[key] = y.T @ self._units.astype(np.float64)
        return self._known[key]

    def _adjoint(self, of_b: frozenset[str], is_b: bool) -> F64:
        """(N, 3) Σ (ρAᵀ)^b W over all bounces but the direct light."""

        def setting(key: str) -> Manifest:
            as_other = key in self._players.bouncing and (key in of_b) != is_b
            return self._other.manifest if as_other else self._result.manifest

        gain = setting("light.bounce_gain").recipe.light.bounce_gain
        saturation = setting("light.bounce_saturation").recipe.light.bounce_saturation
        bounces = setting("light.bounces").bounces
        rho = reflectance(self._throws(of_b, is_b), gain, saturation).astype(np.float64)
        hits = self._own.hits
        term, total = self._w, np.zeros_like(self._w)
        for _ in range(bounces):
            out = np.zeros_like(term)
            scatter(hits.table, hits.counted, np.ascontiguousarray(term), out)
            term = out * rho
            total += term
        return total

    def _throws(self, of_b: frozenset[str], is_b: bool) -> F32:
        """(N, 3) albedo with the colours of some materials as in the other build."""
        throws = self._own.throws.copy()
        for material in self._players.materials:
            if (material in of_b) == is_b:
                continue
            rows = self._texels_of(material)
            if self._theirs is not None:
                throws[rows] = self._theirs.throws[rows]
                continue
            mine, theirs = (
                np.array(next(m.base_color for m in r.level.materials if m.name == material)[:3])
                for r in (self._result, self._other)
            )
            throws[rows] *= (theirs / np.maximum(mine, 1e-4)).astype(np.float32)
        return throws

    def _texels_of(self, material: str) -> I32:
        """Texels on faces of a material."""
        r, texels = self._result, self._own.layout.texels
        places = places_of(r)
        names = np.array([m.name == material for m in r.level.materials])
        on = names[r.scene.material[places.triangle]]
        grid = texels.grid
        inside = on & (places.page < len(grid))
        found = grid[places.page[inside], places.row[inside], places.column[inside]]
        return np.unique(found[found >= 0]).astype(np.int32)


def _shared_out(players: _Players, sides: Sequence[_Side], light: LightDifference, only: Mask | None) -> Causes:
    names = players.names
    merged = dict[str, tuple[str, ...]]()
    if len(names) > MOST_PLAYERS:
        names, merged = _merged(players, sides)

    def worth(made: frozenset[str]) -> float:
        is_b = GROUND in made
        of_b = frozenset(m for n in made for m in merged.get(n, (n,)))
        return sides[is_b].worth(of_b, is_b)

    value = _shapley(names, worth)
    whole = sum(value.values())
    finishing = 0.0
    if players.finishing:
        counts = np.where(only, 1.0, 0.0) if only is not None else 1.0
        weight = light.weight * _sign(light, only) * counts
        finishing = float((weight * (light.b - light.a)).sum()) - whole
        whole += finishing
    if abs(whole) < 1e-12:
        return Causes((), "Together the changes change nothing.")
    found = []
    for name in names:
        members = tuple(players.ground) if name == GROUND else merged.get(name, (name,))
        shown = tuple(players.materials.get(m, m) for m in members)
        found.append(Cause(", ".join(shown), value[name] / whole, shown))
    if players.finishing:
        found.append(Cause(", ".join(players.finishing), finishing / whole, tuple(players.finishing)))
    found.sort(key=lambda c: -abs(c.share))
    return Causes(tuple(found), _not_apart(players))


def _not_apart(players: _Players) -> str:
    if len(players.ground) < 2:
        return ""
    some = ", ".join(map(setting_title, players.ground[:4])) + (
        f" and {len(players.ground) - 4} more" if len(players.ground) > 4 else ""
    )
    return f"Stored rays cannot tell these apart: {some}. Builds with one of them at a time can."


def _merged(players: _Players, sides: Sequence[_Side]) -> tuple[list[str], dict[str, tuple[str, ...]]]:
    """As many players as are counted out: the lights that alone change least are one."""
    alone = {n: abs(sides[0].worth(frozenset([n]), False) - sides[0].worth(frozenset(), False)) for n in players.names
             if n != GROUND}  # fmt: skip
    order = sorted(alone, key=lambda n: -alone[n])
    keep = order[: MOST_PLAYERS - 1 - bool(players.ground)]
    rest = tuple(order[len(keep) :])
    return [*keep, rest[0], *([GROUND] if players.ground else [])], {rest[0]: rest}


def _shapley(names: Sequence[str], worth: object) -> dict[str, float]:
    """Shapley's value of each player, exactly.

    Args:
        worth: of a set of players.
    """
    assert callable(worth)
    known = {
        frozenset(some): float(worth(frozenset(some)))
        for size in range(len(names) + 1)
        for some in combinations(names, size)
    }
    count, found = len(names), dict[str, float]()
    for name in names:
        total = 0.0
        for without, value in known.items():
            if name not in without:
                orders = math.factorial(len(without)) * math.factorial(count - len(without) - 1)
                total += orders / math.factorial(count) * (known[without | {name}] - value)
        found[name] = total
    return found
