"""Earlier builds of the same ground, laid out at other densities or shot with other counts of rays; and of ground
that is nearly the same, where some objects came, went or moved since.

Texels of objects that stayed are the same in both, so their light and their rays are carried over. What is known are
lists, one under each ground's digest and one of the latest, newest last; they are a hint only, and losing one costs
time, never truth.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import Any, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from ropebell.build.forms import CHARTS, FOOTING, Form, Laid
from ropebell.build.recipe import Recipe
from ropebell.build.sound import TABLE, expecting
from ropebell.build.store import Artifact, Store
from ropebell.charts.same import same_texels
from ropebell.digest import digest_of
from ropebell.level.model import F32, I32
from ropebell.level.scene import Scene
from ropebell.light.affected import Change
from ropebell.light.kept import Kept
from ropebell.light.surface import OpenSamples

Named = TypeVar("Named")
MOST_KNOWN = 12
# With a noise target every change of light makes a table of the same layout.
MOST_OF_A_LAYOUT = 3
# Grounds that are not quite the same are looked for among so many of the latest layouts.
MOST_LATELY = 4
LATELY = digest_of("lately")
# Of the time that shooting a ray takes: to find out whether it meets anything new.
LOOKING = 0.2
# Less than this in common is not worth the copying.
LEAST_SHARE = 0.02


@dataclass(frozen=True, eq=False)
class Kin:
    """An earlier layout.

    Attributes:
        charts: digest of its charts.
        footing: digest of its texels in the open.
        transport: digests of hit tables shot on it, newest first, finished or not.
        kept: which texels it has in common with the layout of now.
        met: the same as far as rays that met them are concerned; None: as `kept`.
        faces: (T,) its triangle that each of now is, −1 for new ones; None: they are the same.
        change: what is different between the grounds; None: they are the same.
        triangles: that it has.
    """

    charts: str
    footing: str
    transport: tuple[str, ...]
    kept: Kept
    met: Kept | None = None
    faces: I32 | None = None
    change: Change | None = None
    triangles: int = 0

    @property
    def key(self) -> tuple[str, str]:
        """Names it: marks may change what its triangles do to rays, and leave its charts."""
        return self.charts, self.footing

    @property
    def number(self) -> I32 | None:
        """Of each of its triangles now, −1 for what is gone; None: the same."""
        if self.faces is None:
            return None
        found = np.full(self.triangles, -1, np.int32)
        found[self.faces[self.faces >= 0]] = np.flatnonzero(self.faces >= 0)
        return found

    def settled(self, before: OpenSamples, now: OpenSamples) -> Kin:
        """Less the texels whose samples in the open are others now, as something came to stand there or went."""
        rows, number = self.kept.rows, self.number
        assert number is not None
        at = self.kept.before[rows]
        triangle = np.where(before.triangle[at] >= 0, number[before.triangle[at]], -1)
        used = np.arange(now.triangle.shape[1]) < now.count[rows, None]
        same = (before.count[at] == now.count[rows]) & (before.key[at] == now.key[rows])
        same &= (~used | (triangle == now.triangle[rows])).all(axis=1)
        same &= (~used[..., None] | (before.weights[at] == now.weights[rows])).all(axis=(1, 2))
        gone = np.zeros(len(self.kept.before), np.bool_)
        gone[rows[~same]] = True
        kept = self.kept.without(gone)
        # Rays that met a texel for which another speaks now are told of the one that spoke then.
        after = kept.after.copy()
        other = after[before.target[at]] != now.target[rows]
        after[before.target[at[other]]] = -1
        return replace(self, kept=kept, met=Kept(kept.before, after))


@dataclass(frozen=True, eq=False)
class Known:
    """What a stage gave on an earlier layout, which texels that still holds for, what changed since, and the number of
    each triangle of then now, None where they are the same."""

    kept: Kept
    artifact: Artifact
    change: Change | None = None
    number: I32 | None = None


@dataclass(frozen=True, eq=False)
class Ground:
    """What is built on, as it is compared with others.

    Attributes:
        digest: of all that rays meet. faces: (T,) uint64 names of triangles. vertices: (T, 3, 3) of them, relative to
            the centre.
    """

    digest: str
    faces: NDArray[np.uint64]
    vertices: F32


class Earlier(Generic[Named]):
    """What earlier layouts of the ground of a build know, most in common first.

    Args:
        kin: from `find_kin`. names: of the stages' artifacts on each of them, by its key.
    """

    def __init__(self, store: Store, kin: list[Kin], names: dict[tuple[str, str], Named]) -> None:
        self._store, self.kin, self._names = store, kin, names

    @staticmethod
    def of(
        store: Store, ground: Ground, charts: str, seed: int, laid: Laid, names_on: Callable[[str, str], Named]
    ) -> Earlier[Named]:  # fmt: skip
        """Look for them.

        Args:
            charts: digest of the layout of now. names_on: of the stages' artifacts on other charts and their footing.
        """
        kin = find_kin(store, ground, charts, seed, laid)
        others = {one.key: names_on(*one.key) for one in kin if one.charts != charts or one.change is not None}
        return Earlier(store, kin, others)

    def settled(self, samples: OpenSamples) -> Earlier[Named]:
        """The same, once it is known which samples stand in the open now."""
        found = []
        for one in self.kin:
            if one.change is None:
                found.append(one)
                continue
            sizes = {"T": one.triangles, "N": len(one.kept.after), "S": samples.triangle.shape[1]}
            before = FOOTING.of(self._store, one.footing, **sizes)
            if before is not None:
                found.append(one.settled(before.samples, samples))
        return Earlier(self._store, found, self._names)

    @property
    def change(self) -> Change | None:
        """Since the closest of other layouts, None where the ground is the same."""
        return next((one.change for one in self.kin if one.key in self._names), None)

    @property
    def closest(self) -> Kept | None:
        """Texels in common with the closest of other layouts, None without one."""
        return next((one.kept for one in self.kin if one.key in self._names), None)

    def known(self, form: Form[Any], name: Callable[[Named], str]) -> Known | None:
        """What a stage gave on the closest other layout that has it.

        Args:
            form: of its artifact. name: picks it.
        """
        for one in self.kin:
            if one.key in self._names:
                fits = form.fits(N=len(one.kept.after), T=one.triangles)
                artifact = self._store.get(name(self._names[one.key]), fits)
                if artifact is not None:
                    return Known(one.kept, artifact, one.change, one.number)
        return None

    def rays(self, want: I32, digest: str) -> int:
        """How many of the rays wanted have been shot.

        Args:
            want: (N,) of each texel. digest: of the hit table wanted.
        """
        return max((count for count, _, _ in tables_of(self._store, self.kin, want, digest)), default=0)


def remember(store: Store, ground: str, charts: str, footing: str, transport: str, seed: int) -> None:
    """Note a layout and the hit table about to be shot on it."""
    entry = {"charts": charts, "footing": footing, "transport": transport, "seed": seed}
    for name in (ground, LATELY):
        known: list[dict[str, Any]] = []
        for other in [entry, *(e for e in reversed(_known(store, name)) if e != entry)]:
            if sum(e["charts"] == other["charts"] for e in known) < MOST_OF_A_LAYOUT:
                known.append(other)
        store.put(_name(name), {}, {"known": known[:MOST_KNOWN][::-1]}, durable=False, over=True)


def find_kin(store: Store, ground: Ground, charts: str, seed: int, laid: Laid) -> list[Kin]:
    """Earlier layouts that have texels in common with this one, most first.

    Args:
        seed: only hit tables shot with it count.
    """
    here = _layouts(_known(store, ground.digest), seed)
    lately = {key: shot for key, shot in _layouts(_known(store, LATELY), seed).items() if key not in here}
    found = []
    for (other, footing), shot in here.items():
        if other == charts:
            everything = np.arange(len(laid.texels), dtype=np.int32)
            kept = Kept(everything, everything)
            found.append(Kin(other, footing, tuple(shot), kept, triangles=len(laid.atlas.uv)))
        elif (before := CHARTS.of(store, other, T=len(laid.atlas.uv))) is not None:
            same = same_texels(before.atlas, before.texels, laid.atlas, laid.texels)
            kept = Kept.of(same, len(before.texels))
            found.append(Kin(other, footing, tuple(shot), kept, triangles=len(laid.atlas.uv)))
    for (other, footing), shot in list(lately.items())[:MOST_LATELY]:
        one = _nearly(store, ground, other, footing, tuple(shot), laid)
        if one is not None:
            found.append(one)
    return sorted((one for one in found if one.kept.share >= LEAST_SHARE), key=lambda one: -one.kept.share)


def _nearly(store: Store, ground: Ground, charts: str, footing: str, shot: tuple[str, ...], laid: Laid) -> Kin | None:
    """A layout of another ground, where anything of it is still there."""
    before = CHARTS.of(store, charts)
    stood = FOOTING.of(store, footing, T=len(before.vertices)) if before is not None else None
    if before is None or stood is None:
        return None
    faces = matched(stood.faces, ground.faces)
    if not (faces >= 0).any():
        return None
    kept = Kept.of(same_texels(before.atlas, before.texels, laid.atlas, laid.texels, faces), len(before.texels))
    gone = np.ones(len(stood.faces), np.bool_)
    gone[faces[faces >= 0]] = False
    change = Change.of(ground.vertices[faces < 0], before.vertices[gone])
    return Kin(charts, footing, shot, kept, faces=faces, change=change, triangles=len(stood.faces))


def _layouts(known: list[dict[str, Any]], seed: int) -> dict[tuple[str, str], list[str]]:
    """Hit tables shot with a seed by layout and footing, newest first."""
    tables: dict[tuple[str, str], list[str]] = {}
    for entry in reversed(known):
        shot = tables.setdefault((entry["charts"], entry["footing"]), [])
        if entry["seed"] == seed:
            shot.append(entry["transport"])
    return tables


def matched(before: NDArray[np.uint64], now: NDArray[np.uint64]) -> I32:
    """(T,) int32: for each name of now the place where it was before, −1 where it was not; each is given once."""
    order, wanted = np.argsort(before, kind="stable"), np.argsort(now, kind="stable")
    # The first of a name meets the first, the second the second.
    rank = np.arange(len(now)) - np.searchsorted(now[wanted], now[wanted], side="left")
    at = np.searchsorted(before[order], now[wanted], side="left") + rank
    fits = at < len(before)
    fits[fits] = before[order[at[fits]]] == now[wanted[fits]]
    found = np.full(len(now), -1, np.int32)
    found[wanted[fits]] = order[at[fits]]
    return found


def tables_of(store: Store, kin: list[Kin], want: I32, own: str) -> Iterator[tuple[int, Kin, Artifact]]:
    """Hit tables that have rays in common with one that is wanted: how many, and the table.

    Args:
        want: (N,) rays wanted of each texel. own: digest of the table wanted itself.
    """
    for one in kin:
        rows = one.kept.rows
        at = one.kept.before[rows]
        for digest in one.transport:
            fits = expecting(TABLE, N=len(one.kept.after))
            artifact = (store.get(digest, fits) if digest != own else None) or store.unfinished(digest, fits)
            if artifact is not None:
                yield int(np.minimum(artifact.arrays["done"][at], want[rows]).sum()), one, artifact


def predicted_spare(
    store: Store, scene: Scene, recipe: Recipe, ground: str, faces: Callable[[], NDArray[np.uint64]]
) -> tuple[float, float]:
    """Shares of texels, and of gather rays, that a build of now would find in what earlier ones left; before its charts
    are made, so an object counts as the same if all of its faces are there and have the density they had.

    Args:
        faces: asked for the names of triangles, where no earlier layout is of this ground.
    """
    density = scene.density(recipe.texels_per_metre)
    texels = density.astype(np.float64) ** 2 * scene.areas
    total = max(float(texels.sum()), 1e-30)
    rays = recipe.gather_rays
    best, best_rays = 0.0, 0.0
    here = _known(store, ground)
    names = None if here else faces()
    for entry in reversed(here or _known(store, LATELY)[-MOST_LATELY:]):
        artifact = store.get(entry["charts"], CHARTS.fits(T=len(density)) if here else CHARTS.fits())
        if artifact is None:
            continue
        before = artifact.arrays["density"]
        if names is not None:
            stood = FOOTING.of(store, entry["footing"], T=len(before))
            if stood is None:
                continue
            at = matched(stood.faces, names)
            before = np.where(at >= 0, before[at], np.float32(np.nan))
        changed = np.zeros(int(scene.node.max(initial=0)) + 1, np.bool_)
        changed[scene.node[before != density]] = True
        share = float(texels[~changed[scene.node]].sum()) / total
        best = max(best, share)
        share *= 1.0 if here else 1.0 - LOOKING
        fits = expecting(TABLE)
        table = store.get(entry["transport"], fits) or store.unfinished(entry["transport"], fits)
        if table is not None and entry["seed"] == recipe.light.seed and len(table.arrays["done"]):
            had = np.minimum(table.arrays["done"], rays).mean() / rays
            best_rays = max(best_rays, share * float(had))
    return best, best_rays


def _known(store: Store, ground: str) -> list[dict[str, Any]]:
    artifact = store.get(_name(ground), lambda kept: all(_is_entry(entry) for entry in kept.meta["known"]))
    return artifact.meta["known"] if artifact is not None else []


def _is_entry(entry: dict[str, Any]) -> bool:
    return [type(entry[key]) for key in ("charts", "footing", "transport", "seed")] == [str, str, str, int]


def _name(ground: str) -> str:
    return f"kin-{ground}"
