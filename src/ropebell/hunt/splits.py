"""Where to cut a set of things in two: by place, by branch of the scene, or by what they are.

Each way is judged by how even the halves are in cost and by how many things that touch each other it parts, since
faults that need two things mostly need neighbours.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from ropebell.hunt.narrowing import Items
from ropebell.level.model import F64, Level

# Metres within which boxes count as touching.
TOUCH = 0.01
# Of pairs that touch, as many are looked at; in large sets the rest is alike.
MOST_PAIRS = 20_000


@dataclass(frozen=True, eq=False)
class Thing:
    """Something that can be left out.

    Attributes:
        low, high: (3,) metres. cost: about what it adds to the time of a run. branch: path above it. kind: a word.
    """

    low: F64
    high: F64
    cost: float
    branch: str = ""
    kind: str = ""


@dataclass
class Splits:
    """Cuts sets of things; remembers how each was cut.

    Attributes:
        suspects: how much speaks for each; halves with more of it are tried first.
        first: sets that a person wants to be tried next, each used once.
        way: how the last set was cut, in words.
    """

    things: Sequence[Thing]
    suspects: dict[int, float] = field(default_factory=dict)
    first: list[Items] = field(default_factory=list)
    way: str = ""

    def __post_init__(self) -> None:
        self._low = np.array([t.low for t in self.things]).reshape(-1, 3)
        self._high = np.array([t.high for t in self.things]).reshape(-1, 3)
        self._cost = np.array([max(t.cost, 1e-9) for t in self.things])

    def __call__(self, items: Items) -> tuple[Items, Items]:
        """Two halves; the one that is more suspect, or cheaper to try, comes first."""
        wanted = next((w & items for w in self.first if 0 < len(w & items) < len(items)), None)
        if wanted is not None:
            self.first = [w for w in self.first if w & items != wanted]
            self.way = "what is most suspect, or not"
            return wanted, items - wanted
        order = np.array(sorted(items))
        ways = [*self._by_place(order), *self._by_word(order, "branch"), *self._by_word(order, "kind")]
        pairs = self._touching(order)
        way, mask = min(ways, key=lambda w: self._score(order, w[1], pairs))
        self.way = f"half of it, by {'material' if way == 'kind' else way}"
        one, other = (frozenset(order[m].tolist()) for m in (mask, ~mask))
        return (one, other) if self._rank(one) >= self._rank(other) else (other, one)

    def _rank(self, items: Items) -> tuple[float, float]:
        return sum(self.suspects.get(i, 0.0) for i in items), -float(self._cost[list(items)].sum())

    def _by_place(self, order: np.ndarray) -> list[tuple[str, np.ndarray]]:
        middle = (self._low[order] + self._high[order]) / 2
        return [("place", self._even(order, np.argsort(middle[:, axis], kind="stable"))) for axis in range(3)]

    def _even(self, order: np.ndarray, rank: np.ndarray) -> np.ndarray:
        """(n,) bool: the first of a ranking, up to half of number and cost together."""
        weight = self._cost[order] / self._cost[order].sum() + 1 / len(order)
        before = np.cumsum(weight[rank]) - weight[rank] / 2
        first = np.zeros(len(order), np.bool_)
        first[rank[before <= 1.0]] = True
        if first.all() or not first.any():
            first[:] = False
            first[rank[: max(len(order) // 2, 1)]] = True
        return first

    def _by_word(self, order: np.ndarray, word: str) -> list[tuple[str, np.ndarray]]:
        words = np.array([getattr(self.things[i], word) for i in order])
        known, of = np.unique(words, return_inverse=True)
        if len(known) < 2:
            return []
        # Whole groups, the largest first, each to the lighter half.
        weight = np.bincount(of.ravel(), self._cost[order] / self._cost[order].sum() + 1 / len(order))
        side, sums = np.zeros(len(known), np.bool_), [0.0, 0.0]
        for group in np.argsort(-weight, kind="stable"):
            lighter = int(sums[1] < sums[0])
            side[group] = bool(lighter)
            sums[lighter] += weight[group]
        return [(word, side[of.ravel()])]

    def _touching(self, order: np.ndarray) -> np.ndarray:
        """(p, 2) places in `order` of things whose boxes touch."""
        low, high = self._low[order] - TOUCH, self._high[order] + TOUCH
        found, count = [], 0
        for i in range(len(order)):
            near = np.flatnonzero(((low[i] <= high[i + 1 :]) & (low[i + 1 :] <= high[i])).all(axis=1)) + i + 1
            found.append(np.stack([np.full(len(near), i), near], axis=1))
            count += len(near)
            if count > MOST_PAIRS:
                break
        return np.concatenate(found)

    def _score(self, order: np.ndarray, first: np.ndarray, pairs: np.ndarray) -> float:
        number = float(first.mean())
        cost = float(self._cost[order][first].sum() / self._cost[order].sum())
        if not 0.0 < number < 1.0:
            return np.inf
        uneven = abs(number - 0.5) ** 2 + abs(cost - 0.5) ** 2
        parted = float((first[pairs[:, 0]] != first[pairs[:, 1]]).mean()) if len(pairs) else 0.0
        return 4.0 * uneven + 0.25 * parted


def things_of(level: Level, nodes: Sequence[int]) -> list[Thing]:
    """What a search needs to know of objects: where they are, their triangles, their branch and material.

    Args:
        level: as it stands. nodes: indices of objects.
    """
    found = []
    for index in nodes:
        node = level.nodes[index]
        mesh = level.meshes[node.mesh]
        spots = np.concatenate([p.positions.astype(np.float64) for p in mesh.primitives])
        world = spots @ node.world[:3, :3].T + node.world[:3, 3]
        material = mesh.primitives[0].material
        kind = level.materials[material].name if 0 <= material < len(level.materials) else ""
        triangles = sum(len(p.triangles) for p in mesh.primitives)
        branch = node.path.rpartition("/")[0]
        found.append(Thing(world.min(axis=0), world.max(axis=0), 50.0 + triangles, branch, kind))
    return found
