"""What would shorten the builds of a level, what it saves, and what it costs in light — solved, not guessed.

Times are predicted as everywhere, from rates that this machine's builds measured. What is lost is found in the light of
the last build: fewer texels by averaging those that would be one, fewer rays and bounces by solving its stored rays
with so many less, each counted over the surfaces that players can see. The next advice is judged with those before it
taken, so that the savings of a list add up.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from ropebell.build.estimate import estimate
from ropebell.build.manifest import Manifest
from ropebell.build.precheck import Gathered, gather
from ropebell.build.project import Project
from ropebell.build.recipe import Recipe, get, with_value
from ropebell.build.relight import built_strengths, names_of_fields, unit_fields
from ropebell.build.result import Result
from ropebell.build.stored import StoredBuild
from ropebell.checks.remedies import with_marks
from ropebell.compare.places import luminance, places_of
from ropebell.level.brief import Box
from ropebell.level.model import F32, F64, I32, Mask
from ropebell.light.finishing import Gathering, without_noise
from ropebell.light.rays import RaySpace
from ropebell.light.solve import solve
from ropebell.light.superpose import superposed
from ropebell.light.transport import Hits
from ropebell.light.workers import cores
from ropebell.sight.viewing import view_distances
from ropebell.sight.walk import proposed_boxes

# A texel counts as changed when its light differs by more than this.
CHANGED = 0.05
# Less of the time than this is not worth an edit; of what players see, more changed than this is no advice.
LEAST_SAVING, MOST_LOSS = 0.02, 0.10
# Of all that players see, so little may change without a second look.
UNNOTICED = 0.02
MOST_OBJECTS, MOST_ADVICE = 8, 8
# What a change of all that players see counts against the seconds saved.
DEAR = 40.0
# The largest objects are advised on one by one; of all others so much of what players see may change.
APART, HARDLY = 3, 0.005
# What is darker than this share of the median is black to a player.
DARK = 0.02
Edit = dict[str, Any]


@dataclass(frozen=True)
class Advice:
    """One thing to do.

    Attributes:
        kind: what it is, a stable word. title: in words. why: one sentence. edit: as `edited` applies it.
        seconds: of a build from nothing before it, and after. loss: share of what players see that would change by
            over 5 %. object: path, or empty.
    """

    kind: str
    title: str
    why: str
    edit: Edit
    seconds: tuple[float, float]
    loss: float
    object: str = ""

    @property
    def saving(self) -> float:
        """Seconds."""
        return self.seconds[0] - self.seconds[1]


def edited(project: Project, edit: Edit) -> Project:
    """A project with an edit.

    Args:
        edit: `marks`: values by key, by path. `recipe`: values by key. `region`: boxes of six numbers.
    """
    brief, recipe = project.brief, project.recipe
    for path, values in edit.get("marks", {}).items():
        for key, value in values.items():
            brief = with_marks(brief, (path,), key, value)
    if "region" in edit:
        boxes = tuple(Box((a, b, c), (d, e, f)) for a, b, c, d, e, f in edit["region"])
        brief = replace(brief, region=replace(brief.region, boxes=boxes))
    for key, value in edit.get("recipe", {}).items():
        recipe = with_value(recipe, key, value)
    return replace(project, brief=brief, recipe=recipe)


@dataclass
class _Level:
    """The level of a build, and what of its light players see."""

    project: Project
    gathered: Gathered
    result: Result
    rates: dict[str, float]
    _by_object: dict[int, F64] = field(default_factory=dict)

    @property
    def manifest(self) -> Manifest:
        """Of the build."""
        return self.result.manifest

    def seconds(self, ratio: F64, recipe: Recipe) -> float:
        """Of a build from nothing.

        Args:
            ratio: (nodes,) factor on the density of each object.
        """
        scene = self.gathered.subject.baking
        scene = replace(scene, factor=(scene.factor * ratio[scene.node]).astype(np.float32))
        return estimate(scene, recipe, recipe.limits.workers or cores(), self.rates).total_seconds

    @cached_property
    def places(self) -> Any:
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

    def changed_by_object(self, side: int) -> F64:
        """(nodes,) share of what players see that changes if so many texels of an object along each side were one."""
        if side not in self._by_object:
            p, count = self.places, len(self.result.scene.node_names)
            height, width = self.result.total.shape[1:3]
            block = ((p.page.astype(np.int64) * height + p.row // side) * width + p.column // side) * count + self.node
            _, block = np.unique(block, return_inverse=True)
            sums, areas = np.bincount(block, self.light * p.area), np.bincount(block, p.area)
            coarse = (sums / np.maximum(areas, 1e-30))[block]
            found = np.bincount(self.node, self.changed(self.light, coarse), count)
            self._by_object[side] = found / max(float(self.weight.sum()), 1e-30)
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

    def solved(self, rays: int | None, bounces: int) -> F64:
        """(N,) luminance of the build's light by fewer of its rays, or with fewer bounces, finished as it was."""
        stored, m = self.stored, self.manifest
        assert stored is not None
        workers = cores()
        hits = stored.hits if rays is None else Hits.of(np.ascontiguousarray(stored.hits.table[:, :rays]))
        names = names_of_fields(stored.sources)
        units = unit_fields(tuple(m.emitters), stored.emitter, stored.sources, hits, names, workers)
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

    def _at_places(self, texels: F32) -> F64:
        stored, p = self.stored, self.places
        assert stored is not None
        grid = stored.layout.texels.grid
        at = grid[np.minimum(p.page, len(grid) - 1), p.row, p.column]
        return np.asarray(np.where(at >= 0, luminance(texels)[np.maximum(at, 0)], 0.0))


def advise(
    project: Project, gathered: Gathered, result: Result, rates: dict[str, float],
    learned: Mapping[str, float] | None = None, tick: Callable[[float], None] = lambda share: None,
) -> list[Advice]:  # fmt: skip
    """What would shorten builds most for what it costs, best first, each with those before it taken.

    Args:
        gathered: the level as the project has it. result: a finished build of it. rates: measured work rates.
        learned: by kind of advice, what it really saved over what was predicted.
        tick: called with the share done, may raise `Stopped`.
    """
    level, gain = _Level(project, gathered, result, rates), learned or {}
    left = _candidates(level)
    losses = dict[str, float]()
    for number, c in enumerate(left):
        losses[c.title] = c.loss(level)
        tick((number + 1) / len(left))
    left = [c for c in left if losses[c.title] <= MOST_LOSS]
    number_of = {name: i for i, name in enumerate(gathered.subject.baking.node_names)}
    ratio, recipe = np.ones(len(number_of)), project.recipe
    whole = now = level.seconds(ratio, recipe)
    found: list[Advice] = []
    lost = 0.0
    while left and len(found) < MOST_ADVICE:
        tried = []
        for c in left:
            with_it, made = ratio.copy(), recipe
            for path, factor in c.ratio.items():
                with_it[number_of[path]] = min(with_it[number_of[path]], factor)
            for key, value in c.edit.get("recipe", {}).items():
                made = with_value(made, key, value)
            after = now - (now - level.seconds(with_it, made)) * gain.get(c.kind, 1.0)
            tried.append(((now - after) / (1.0 + DEAR * losses[c.title]), c, after, with_it, made))
        tried = [t for t in tried if now - t[2] >= LEAST_SAVING * whole]
        if not tried:
            break
        # First all that together players hardly notice; then what they may.
        unnoticed = [t for t in tried if lost + losses[t[1].title] <= UNNOTICED]
        _, chosen, after, with_it, made = max(unnoticed or tried, key=lambda t: t[0])
        lost += losses[chosen.title]
        times = now, after
        found.append(
            Advice(chosen.kind, chosen.title, chosen.why, chosen.edit, times, losses[chosen.title], chosen.object)
        )
        ratio, recipe, now = with_it, made, after
        left = [c for c in left if c is not chosen and not (c.object and c.object == chosen.object)]
    return found


@dataclass(frozen=True)
class _Candidate:
    kind: str
    title: str
    why: str
    edit: Edit
    loss: Callable[[_Level], float]
    object: str = ""
    ratio: Mapping[str, float] = field(default_factory=dict)


def _candidates(level: _Level) -> list[_Candidate]:
    return [*_densities(level), *_hardly_seen(level), *_region(level), *_rays(level), *_bounces(level), *_tiny(level)]


def _densities(level: _Level) -> list[_Candidate]:
    """The objects that take most texels, at a half and a quarter of their density."""
    scene, marks = level.gathered.subject.baking, level.gathered.subject.scene.marks
    texels = np.bincount(scene.node, scene.areas * scene.factor.astype(np.float64) ** 2, len(scene.node_names))
    seen = np.bincount(level.node, level.weight, len(level.result.scene.node_names))
    known = {name: float(s) for name, s in zip(level.result.scene.node_names, seen)}
    found = []
    for node in np.argsort(-texels)[:MOST_OBJECTS]:
        path, share = scene.node_names[node], float(texels[node] / max(texels.sum(), 1e-30))
        own = marks.nodes[node].density or 1.0
        for factor in (0.5, 0.25):
            of = f"{'half' if factor == 0.5 else 'a quarter of'} its density"
            unseen = " and players see none of it" if not known.get(path) else ""
            why = f"It takes {100 * share:.0f} % of the texels{unseen}."
            edit = {"marks": {path: {"density": own * factor}}}
            name = path.rsplit("/", 1)[-1]
            ratio = {path: factor}
            found.append(_Candidate("density", f"{name}: {of}", why, edit, _thinned(ratio), path, ratio))
    return found


def _hardly_seen(level: _Level) -> list[_Candidate]:
    """All objects at once on which a quarter of the density shows least for the texels that it spares."""
    scene, marks = level.gathered.subject.baking, level.gathered.subject.scene.marks
    counts = np.bincount(scene.node, scene.areas * scene.factor.astype(np.float64) ** 2, len(scene.node_names))
    texels: F64 = counts / max(float(counts.sum()), 1e-30)
    known = dict(zip(level.result.scene.node_names, level.changed_by_object(4).tolist()))
    largest = set(np.argsort(-texels)[:APART].tolist())
    loss = np.array([known.get(name, 0.0) for name in scene.node_names])
    order = [n for n in np.argsort(loss / np.maximum(texels, 1e-12)) if texels[n] > 0 and n not in largest]
    chosen = [n for n, so_far in zip(order, np.cumsum(loss[order])) if so_far <= HARDLY]
    if len(chosen) < 2:
        return []
    ratio = {scene.node_names[n]: 0.25 for n in chosen}
    edit = {"marks": {scene.node_names[n]: {"density": 0.25 * (marks.nodes[n].density or 1.0)} for n in chosen}}
    why = f"They take {100 * float(texels[chosen].sum()):.0f} % of the texels, and players hardly see what that buys."
    title = f"{len(chosen)} objects: a quarter of their density"
    return [_Candidate("hardly-seen", title, why, edit, _thinned(ratio), "", ratio)]


def _region(level: _Level) -> list[_Candidate]:
    """A play region, where there is none."""
    floors = level.gathered.subject.floors
    if level.project.brief.region.boxes or floors is None or not len(floors.floors):
        return []
    boxes = [[*box.low, *box.high] for box in proposed_boxes(floors)]
    edit: Edit = {"region": boxes}

    then = edited(level.project, edit)
    after = gather(level.gathered.source, then.brief, then.recipe, then.sky, then.tables).subject.baking
    before = level.gathered.subject.baking
    if len(after) != len(before):
        return []
    count = len(before.node_names)
    areas = np.bincount(before.node, before.areas, count)
    dense = np.bincount(before.node, before.areas * after.factor / before.factor, count) / np.maximum(areas, 1e-30)
    ratio = {before.node_names[n]: float(dense[n]) for n in np.flatnonzero((dense < 0.99) & (areas > 0))}
    why = "Without a play region, what nobody comes near gets as many texels as the rest."
    title = "Set the play region that can be walked"
    return [_Candidate("region", title, why, edit, _thinned(ratio), "", ratio)]


def _thinned(ratio: Mapping[str, float]) -> Callable[[_Level], float]:
    return lambda level: level.loss_of_density(ratio)


def _rays(level: _Level) -> list[_Candidate]:
    key = "light.gather_rays"
    value = int(get(level.project.recipe, key))
    built = level.manifest.recipe.gather_rays
    if level.stored is None or value < 32 or level.manifest.recipe.light.noise_target or built < 16:
        return []

    def loss(lv: _Level) -> float:
        return lv.share_changed(lv.solved(None, lv.manifest.bounces), lv.solved(built // 2, lv.manifest.bounces))

    why = "Half the rays take half the time of the longest stage; the last build's own rays say what that costs."
    return [
        _Candidate("rays", f"{value // 2} gather rays instead of {value}", why, {"recipe": {key: value // 2}}, loss)
    ]


def _bounces(level: _Level) -> list[_Candidate]:
    value, done = level.project.recipe.light.bounces, level.manifest.bounces
    if level.stored is None or not isinstance(value, int) or value < 2 or done < 2:
        return []

    def loss(lv: _Level) -> float:
        return lv.share_changed(lv.solved(None, done), lv.solved(None, done - 1))

    why = "The last bounce adds little."
    edit: Edit = {"recipe": {"light.bounces": value - 1}}
    return [_Candidate("bounces", f"{value - 1} bounces instead of {value}", why, edit, loss)]


def _tiny(level: _Level) -> list[_Candidate]:
    """Things that get a texel or two, as one edit; never a piece of the hull."""
    hull, names = level.gathered.subject.hull, level.gathered.subject.baking.node_names
    number = {name: i for i, name in enumerate(names)}
    paths = dict[str, None]()
    for f in level.manifest.findings:
        if f.kind == "tiny-chart":
            paths |= dict.fromkeys([f.object, *f.also])
    tiny = [p for p in paths if p in number and not hull[number[p]]]
    if len(tiny) < 2:
        return []
    edit: Edit = {"marks": {path: {"role": "blocks"} for path in tiny}}

    ratio = dict.fromkeys(tiny, 0.0)
    why = "They get a texel or two each, too few to hold light; probes light them as well."
    title = f"No lightmap for {len(tiny)} tiny things"
    return [_Candidate("tiny", title, why, edit, _thinned(ratio), "", ratio)]


def as_json(found: Sequence[Advice]) -> list[dict[str, Any]]:
    """Plain values."""
    return [
        {"kind": a.kind, "title": a.title, "why": a.why, "edit": a.edit, "seconds": list(a.seconds), "loss": a.loss}
        for a in found
    ]
