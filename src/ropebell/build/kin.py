"""Earlier builds of the same ground: the same triangles, laid out at other densities or shot with other counts of rays.

Texels of objects whose density stayed are the same in both, so their light and their rays are carried over. What is
known is a list under the ground's digest, newest last; it is a hint only, and losing it costs time, never truth.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

import numpy as np

from ropebell.build.forms import CHARTS, Form, Laid
from ropebell.build.recipe import Recipe
from ropebell.build.sound import TABLE, expecting
from ropebell.build.store import Artifact, Store
from ropebell.charts.same import same_texels
from ropebell.level.model import I32
from ropebell.level.scene import Scene
from ropebell.light.kept import Kept

Named = TypeVar("Named")
MOST_KNOWN = 12
# With a noise target every change of light makes a table of the same layout.
MOST_OF_A_LAYOUT = 3
# Less than this in common is not worth the copying.
LEAST_SHARE = 0.02


@dataclass(frozen=True, eq=False)
class Kin:
    """An earlier layout of the same ground.

    Attributes:
        charts: digest of its charts.
        transport: digests of hit tables shot on it, newest first, finished or not.
        kept: which texels it has in common with the layout of now.
    """

    charts: str
    transport: tuple[str, ...]
    kept: Kept


@dataclass(frozen=True, eq=False)
class Known:
    """What a stage gave on an earlier layout, and which texels that still holds for."""

    kept: Kept
    artifact: Artifact


class Earlier(Generic[Named]):
    """What earlier layouts of the ground of a build know, most in common first.

    Args:
        kin: from `find_kin`. names: of the stages' artifacts on each of them, by the digest of their charts.
        triangles: of the level.
    """

    def __init__(self, store: Store, kin: list[Kin], names: dict[str, Named], triangles: int = 0) -> None:
        self._store, self.kin, self._names, self._triangles = store, kin, names, triangles

    @staticmethod
    def of(
        store: Store, ground: str, charts: str, seed: int, laid: Laid, names_on: Callable[[str], Named]
    ) -> Earlier[Named]:  # fmt: skip
        """Look for them.

        Args:
            charts: digest of the layout of now. names_on: of the stages' artifacts on other charts.
        """
        kin = find_kin(store, ground, charts, seed, laid)
        others = {one.charts: names_on(one.charts) for one in kin if one.charts != charts}
        return Earlier(store, kin, others, len(laid.atlas.uv))

    @property
    def closest(self) -> Kept | None:
        """Texels in common with the closest of other layouts, None without one."""
        return next((one.kept for one in self.kin if one.charts in self._names), None)

    def known(self, form: Form[Any], name: Callable[[Named], str]) -> Known | None:
        """What a stage gave on the closest other layout that has it.

        Args:
            form: of its artifact. name: picks it.
        """
        for one in self.kin:
            if one.charts in self._names:
                fits = form.fits(N=len(one.kept.after), T=self._triangles)
                artifact = self._store.get(name(self._names[one.charts]), fits)
                if artifact is not None:
                    return Known(one.kept, artifact)
        return None

    def rays(self, want: I32, digest: str) -> int:
        """How many of the rays wanted have been shot.

        Args:
            want: (N,) of each texel. digest: of the hit table wanted.
        """
        return max((count for count, _, _ in tables_of(self._store, self.kin, want, digest)), default=0)


def remember(store: Store, ground: str, charts: str, transport: str, seed: int) -> None:
    """Note a layout and the hit table about to be shot on it."""
    entry = {"charts": charts, "transport": transport, "seed": seed}
    known: list[dict[str, Any]] = []
    for other in [entry, *(e for e in reversed(_known(store, ground)) if e != entry)]:
        if sum(e["charts"] == other["charts"] for e in known) < MOST_OF_A_LAYOUT:
            known.append(other)
    store.put(_name(ground), {}, {"known": known[:MOST_KNOWN][::-1]}, durable=False, over=True)


def find_kin(store: Store, ground: str, charts: str, seed: int, laid: Laid) -> list[Kin]:
    """Earlier layouts that have texels in common with this one, most first.

    Args:
        seed: only hit tables shot with it count.
    """
    texels = laid.texels
    tables: dict[str, list[str]] = {}
    for entry in reversed(_known(store, ground)):
        if entry["seed"] == seed:
            tables.setdefault(entry["charts"], []).append(entry["transport"])
        else:
            tables.setdefault(entry["charts"], [])
    found = []
    for other, shot in tables.items():
        if other == charts:
            everything = np.arange(len(texels), dtype=np.int32)
            found.append(Kin(other, tuple(shot), Kept(everything, everything)))
            continue
        before = CHARTS.of(store, other, T=len(laid.atlas.uv))
        if before is None:
            continue
        same = same_texels(before.atlas, before.texels, laid.atlas, texels)
        kept = Kept.of(same, len(before.texels))
        if kept.share >= LEAST_SHARE:
            found.append(Kin(other, tuple(shot), kept))
    return sorted(found, key=lambda kin: -kin.kept.share)


def tables_of(store: Store, kin: list[Kin], want: I32, own: str) -> Iterator[tuple[int, Kept, Artifact]]:
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
                yield int(np.minimum(artifact.arrays["done"][at], want[rows]).sum()), one.kept, artifact


def predicted_spare(store: Store, scene: Scene, recipe: Recipe, ground: str) -> tuple[float, float]:
    """Shares of texels, and of gather rays, that a build of now would find in what earlier ones left; before its charts
    are made, so an object counts as the same if all of its faces have the density they had.
    """
    density = scene.density(recipe.texels_per_metre)
    texels = density.astype(np.float64) ** 2 * scene.areas
    total = max(float(texels.sum()), 1e-30)
    rays = recipe.gather_rays
    best, best_rays = 0.0, 0.0
    for entry in reversed(_known(store, ground)):
        artifact = store.get(entry["charts"], CHARTS.fits(T=len(density)))
        if artifact is None:
            continue
        changed = np.zeros(int(scene.node.max(initial=0)) + 1, np.bool_)
        changed[scene.node[artifact.arrays["density"] != density]] = True
        share = float(texels[~changed[scene.node]].sum()) / total
        best = max(best, share)
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
    return [type(entry[key]) for key in ("charts", "transport", "seed")] == [str, str, int]


def _name(ground: str) -> str:
    return f"kin-{ground}"
