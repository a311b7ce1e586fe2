"""The level of a build, and what of its light players see: what advice is weighed by."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from ropebell.build.estimate import estimate
from ropebell.build.manifest import Manifest
from ropebell.build.precheck import Gathered
from ropebell.build.project import Project
from ropebell.build.recipe import Recipe
from ropebell.build.relight import built_strengths, names_of_fields, unit_fields
from ropebell.build.result import Result
from ropebell.build.stored import StoredBuild
from ropebell.compare.places import Places, luminance, places_of
from ropebell.level.model import F32, F64, I32, Mask
from ropebell.light.finishing import Gathering, without_noise
from ropebell.light.rays import RaySpace
from ropebell.light.solve import solve
from ropebell.light.superpose import superposed
from ropebell.light.transport import Hits
from ropebell.light.workers import cores
from ropebell.sight.viewing import view_distances

# A texel counts as changed when its light differs by more than this.
CHANGED = 0.05
# What is darker than this share of the median is black to a player.
DARK = 0.02


@dataclass(frozen=True, eq=False)
class Plan:
    """How a level would be built.

    Attributes:
        ratio: (nodes,) factor on the density of each object. reach: metres by light, where that is another.
        rates: measured otherwise than so far. spared: seconds less than all that comes to.
    """

    ratio: F64
    recipe: Recipe
    reach: Mapping[str, float] = field(default_factory=dict)
    rates: Mapping[str, float] = field(default_factory=dict)
    spared: float = 0.0


@dataclass
class AdvisedLevel:
    """The level of a build, and what of its light players see.

    Attributes:
        gathered: the level as the project has it. result: of the build. rates: work that was measured.
    """

    project: Project
    gathered: Gathered
    result: Result
    rates: dict[str, float]
    _by_object: dict[int, F64] = field(default_factory=dict)

    @property
    def manifest(self) -> Manifest:
        """Of the build."""
        return self.result.manifest

    def seconds(self, plan: Plan) -> float:
        """Of a build from nothing."""
        scene, recipe = self.gathered.subject.baking, plan.recipe
        lights = tuple(replace(x, reach=plan.reach.get(x.name, x.reach)) for x in scene.lights)
        factor = (scene.factor * plan.ratio[scene.node]).astype(np.float32)
        rates = {**self.rates, **plan.rates}
        made = replace(scene, factor=factor, lights=lights)
        return estimate(made, recipe, recipe.limits.workers or cores(), rates).total_seconds - plan.spared

    @cached_property
    def places(self) -> Places:
        """The build's texels."""
        return places_of(self.result)

    @cached_property
    def node(self) -> I32:
        """(N,) whose texel each is."""
        found: I32 = self.result.scene.node[self.places.triangle]
        return found

    @cached_property
    def seen(self) -> Mask:
        """(N,) whether players can see it; all, where nothing says where they are."""
        floors = self.gathered.subject.floors
        scene = self.result.scene
        if floors is None:
            return np.ones(len(self.places), np.bool_)
        far = view_distances(scene, RaySpace(scene.corners), floors.eyes)
        return np.asarray(np.isfinite(far)[self.places.triangle])

    @cached_property
    def weight(self) -> F64:
        """(N,) m² that players see."""
        return np.asarray(self.places.area * self.seen)

    def changed(self, before: F64, after: F64) -> F64:
        """(N,) m² that players see and that changes by over 5 %."""
        lit = before[before > 0]
        floor = DARK * float(np.median(lit)) if len(lit) else 0.0
        bad = np.abs(after - before) > CHANGED * np.maximum(before, floor)
        return np.asarray(self.weight * bad)

    def share_changed(self, before: F64, after: F64) -> float:
        """Of what players see, that changes by over 5 %."""
        return float(self.changed(before, after).sum() / max(float(self.weight.sum()), 1e-30))

    @cached_property
    def light(self) -> F64:
        """(N,) lux, luminance, of the build."""
        return luminance(self.places.of(self.result.total))

    def changed_where_coarser(self, side: int) -> F64:
        """(N,) share of what players see that each texel is, of those that change if so many of an object along each
        side were one."""
        p, count = self.places, len(self.result.scene.node_names)
        height, width = self.result.total.shape[1:3]
        block = ((p.page.astype(np.int64) * height + p.row // side) * width + p.column // side) * count + self.node
        _, block = np.unique(block, return_inverse=True)
        sums, areas = np.bincount(block, self.light * p.area), np.bincount(block, p.area)
        coarse = (sums / np.maximum(areas, 1e-30))[block]
        return np.asarray(self.changed(self.light, coarse) / max(float(self.weight.sum()), 1e-30))

    def changed_by_object(self, side: int) -> F64:
        """(nodes,) the same, of each object together."""
        if side not in self._by_object:
            count = len(self.result.scene.node_names)
            found = np.bincount(self.node, self.changed_where_coarser(side), count)
            self._by_object[side] = found.astype(np.float64)
        return self._by_object[side]

    def loss_of_density(self, ratio: Mapping[str, float]) -> float:
        """With the texels of some objects so many times as dense, by averaging what would be one; 0: none at all."""
        number, loss = {n: i for i, n in enumerate(self.result.scene.node_names)}, 0.0
        seen = np.bincount(self.node, self.weight, len(number)) / max(float(self.weight.sum()), 1e-30)
        for path, factor in ratio.items():
            if path in number and factor < 0.75:
                by = self.changed_by_object(max(round(1.0 / factor), 1)) if factor > 0.0 else seen
                loss += float(by[number[path]])
        return loss

    @cached_property
    def stored(self) -> StoredBuild | None:
        """What the build kept."""
        return StoredBuild.of(self.manifest)

    def solved(self, rays: int | None, bounces: int, fades: Mapping[str, F32] | None = None) -> F64:
        """(N,) luminance of the build's light by fewer of its rays, or with fewer bounces, finished as it was.

        Args:
            fades: (texels,) factors on what some lights give directly, by name.
        """
        stored, m = self.stored, self.manifest
        assert stored is not None
        workers = cores()
        hits = stored.hits if rays is None else Hits.of(np.ascontiguousarray(stored.hits.table[:, :rays]))
        names = names_of_fields(stored.sources)
        units = unit_fields(tuple(m.emitters), stored.emitter, stored.sources, hits, names, workers)
        for light, fade in (fades or {}).items():
            units[:, names.index(light)] *= fade
        full, thrown = built_strengths(m, names)
        direct = superposed(units, full, workers)
        held = None if np.array_equal(full, thrown) else superposed(units, full - thrown, workers)
        total = solve(hits.table, direct, stored.reflecting, bounces, workers, lambda _: None, held).total
        if m.recipe.finish.denoise:
            columns = [i for i, name in enumerate(names) if name in m.lights]
            lamps = np.maximum(superposed(np.ascontiguousarray(units[:, columns]), full[columns], workers), 0.0)
            sky = np.array((0.0, 0.0, 0.0) if stored.sources.sky is not None else m.sky, np.float32)
            by = Gathering(hits.table, stored.reflecting, sky)
            total = without_noise(total, lamps, by, stored.layout, workers, lambda _: None)
        total = stored.finishing.of(total) if stored.finishing is not None else total
        return self._at_places(total[stored.layout.target])

    @cached_property
    def at(self) -> I32:
        """(N,) the stored texel of each place, −1 for none."""
        assert self.stored is not None
        grid, p = self.stored.layout.texels.grid, self.places
        found: I32 = grid[np.minimum(p.page, len(grid) - 1), p.row, p.column]
        return found

    def _at_places(self, texels: F32) -> F64:
        return np.asarray(np.where(self.at >= 0, luminance(texels)[np.maximum(self.at, 0)], 0.0))
