"""What may be advised: one function for each kind, which finds what there is to do and what it would cost in light."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ropebell.build.estimate import saved_without
from ropebell.build.precheck import gather
from ropebell.build.project import Project
from ropebell.build.recipe import get, with_value
from ropebell.build.speed import PASSES, rays_until
from ropebell.checks.remedies import with_marks
from ropebell.compare.advised_level import AdvisedLevel, Plan
from ropebell.compare.places import luminance
from ropebell.compare.quiet_box import quiet_box
from ropebell.level.brief import Box, DensityBox, LeftOut, LightChange
from ropebell.level.left_out import left_out_faces, with_left_out
from ropebell.level.model import F64
from ropebell.light.workers import cores
from ropebell.sight.survey import movable
from ropebell.sight.walk import proposed_boxes

MOST_OBJECTS = 8
# The largest objects are advised on one by one; of all others so much of what players see may change.
APART, HARDLY = 3, 0.005
# Fewer rays are no matter for a noise target; it lies between these, and must leave less than this share of the rays.
LEAST_RAYS, TARGETS, WORTH = 64, (0.002, 0.2), 0.9
# A lamp shows where it gives more than this share of the light; at so much of its reach it has hardly faded (by 6 %, as
# `KHR_lights_punctual` has it); a reach that is no shorter than so much of the way to what is farthest is none.
SHOWS, FADES, FAR = 0.01, 0.5, 0.7
# What hides less of all pairs of cells hides nothing.
HIDES_NOTHING = 1e-3
Edit = dict[str, Any]


def edited(project: Project, edit: Edit) -> Project:
    """A project with an edit.

    Args:
        edit: `marks`: values by key, by path. `lights`: metres of reach by path. `recipe`: values by key. `region`:
            boxes of six numbers. `density_boxes`: more of them, of six numbers and a factor. `left_out`: of single
            faces, by path.
    """
    brief, recipe = project.brief, project.recipe
    for path, values in edit.get("marks", {}).items():
        for key, value in values.items():
            brief = with_marks(brief, (path,), key, value)
    reach = {
        path: replace(brief.lights.get(path, LightChange()), reach=r) for path, r in edit.get("lights", {}).items()
    }
    brief = replace(brief, lights={**brief.lights, **reach})
    if "left_out" in edit:
        brief = replace(brief, left_out={path: LeftOut(**values) for path, values in edit["left_out"].items()})
    if "region" in edit:
        boxes = tuple(Box((a, b, c), (d, e, f)) for a, b, c, d, e, f in edit["region"])
        brief = replace(brief, region=replace(brief.region, boxes=boxes))
    if "density_boxes" in edit:
        more = (DensityBox((a, b, c), (d, e, f), factor) for a, b, c, d, e, f, factor in edit["density_boxes"])
        brief = replace(brief, density_boxes=(*brief.density_boxes, *more))
    for key, value in edit.get("recipe", {}).items():
        recipe = with_value(recipe, key, value)
    return replace(project, brief=brief, recipe=recipe)


@dataclass(frozen=True)
class Candidate:
    """One thing that may be done.

    Attributes:
        kind, title, why, edit, object: as of `Advice`. loss: found when it is asked for.
        ratio: factor on densities by path. rates: measured otherwise with it. spared: seconds that it saves beside what
            that makes.
    """

    kind: str
    title: str
    why: str
    edit: Edit
    loss: Callable[[AdvisedLevel], float]
    object: str = ""
    ratio: Mapping[str, float] = field(default_factory=dict)
    rates: Mapping[str, float] = field(default_factory=dict)
    spared: float = 0.0

    def on(self, plan: Plan, number: Mapping[str, int]) -> Plan:
        """A plan with it.

        Args:
            number: of each node, by path.
        """
        ratio, recipe = plan.ratio.copy(), plan.recipe
        for path, factor in self.ratio.items():
            ratio[number[path]] = min(ratio[number[path]], factor)
        for key, value in self.edit.get("recipe", {}).items():
            recipe = with_value(recipe, key, value)
        reach, rates = {**plan.reach, **self.edit.get("lights", {})}, {**plan.rates, **self.rates}
        return Plan(ratio, recipe, reach, rates, plan.spared + self.spared)


def candidates(level: AdvisedLevel) -> list[Candidate]:
    """All that may be done about a level."""
    kinds = (
        _densities,
        _hardly_seen,
        _density_box,
        _region,
        _rays,
        _noise_target,
        _bounces,
        _tiny,
        _reach,
        _blockers,
        _unseen,
    )
    return [c for kind in kinds for c in kind(level)]


def _densities(level: AdvisedLevel) -> list[Candidate]:
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
            found.append(Candidate("density", f"{name}: {of}", why, edit, _thinned(ratio), path, ratio))
    return found


def _hardly_seen(level: AdvisedLevel) -> list[Candidate]:
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
    return [Candidate("hardly-seen", title, why, edit, _thinned(ratio), "", ratio)]


def _density_box(level: AdvisedLevel) -> list[Candidate]:
    """Half the density in a box in which players hardly notice; faces are cut along it."""
    names, count = level.result.scene.node_names, len(level.result.scene.node_names)
    where = level.places.position(level.result.scene.corners)
    if not len(where) or level.project.brief.density_boxes:
        return []  # of boxes in each other's way the densest counts
    box = quiet_box(where, level.changed_where_coarser(2), HARDLY)
    if box is None:
        return []
    whole, held = (np.bincount(level.node[rows], minlength=count) for rows in (slice(None), box.inside))
    # Of each object so many of its texels are left, of a fourth as many in the box.
    left = 1.0 - 0.75 * held / np.maximum(whole, 1)
    ratio = {names[n]: float(np.sqrt(left[n])) for n in np.flatnonzero(held)}
    size, middle = box.high - box.low, (box.low + box.high) / 2
    told = " × ".join(f"{v:.3g}" for v in size)
    place = ", ".join(f"{v:.3g}" for v in middle)
    why = f"{100 * held.sum() / max(whole.sum(), 1):.0f} % of the texels lie in it; players hardly see what that buys."
    edit: Edit = {"density_boxes": [[*(round(float(v), 3) for v in (*box.low, *box.high)), 0.5]]}
    title = f"Half the density in a box of {told} m round {place}"
    return [Candidate("density-box", title, why, edit, lambda _: box.loss, "", ratio)]


def _region(level: AdvisedLevel) -> list[Candidate]:
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
    return [Candidate("region", title, why, edit, _thinned(ratio), "", ratio)]


def _thinned(ratio: Mapping[str, float]) -> Callable[[AdvisedLevel], float]:
    return lambda level: level.loss_of_density(ratio)


def _rays(level: AdvisedLevel) -> list[Candidate]:
    key = "light.gather_rays"
    value = int(get(level.project.recipe, key))
    built = level.manifest.recipe.gather_rays
    if level.stored is None or value < 32 or level.manifest.recipe.light.noise_target or built < 16:
        return []

    def loss(lv: AdvisedLevel) -> float:
        return lv.share_changed(lv.solved(None, lv.manifest.bounces), lv.solved(built // 2, lv.manifest.bounces))

    why = "Half the rays take half the time of the longest stage; the last build's own rays say what that costs."
    return [Candidate("rays", f"{value // 2} gather rays instead of {value}", why, {"recipe": {key: value // 2}}, loss)]


def _bounces(level: AdvisedLevel) -> list[Candidate]:
    value, done = level.project.recipe.light.bounces, level.manifest.bounces
    if level.stored is None or not isinstance(value, int) or value < 2 or done < 2:
        return []

    def loss(lv: AdvisedLevel) -> float:
        return lv.share_changed(lv.solved(None, done), lv.solved(None, done - 1))

    why = "The last bounce adds little."
    edit: Edit = {"recipe": {"light.bounces": value - 1}}
    return [Candidate("bounces", f"{value - 1} bounces instead of {value}", why, edit, loss)]


def _tiny(level: AdvisedLevel) -> list[Candidate]:
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
    return [Candidate("tiny", title, why, edit, _thinned(ratio), "", ratio)]


def _noise_target(level: AdvisedLevel) -> list[Candidate]:
    """Rays only where they are needed: the noise at which all of a level would take fewest."""
    recipe, noise = level.project.recipe, level.result.noise
    built = level.manifest.recipe
    if level.stored is None or noise is None or recipe.light.noise_target or built.light.noise_target:
        return []
    if built.gather_rays < LEAST_RAYS or recipe.gather_rays != built.gather_rays:
        return []
    known = level.places.of(noise)[:, 0].astype(np.float64)
    best = (1.0, 0.0, 0.0)
    for target in np.quantile(known, np.linspace(0.5, 0.995, 12)).round(4).tolist():
        if TARGETS[0] <= target <= TARGETS[1]:
            until, waves = rays_until(known, target)
            best = min(best, (until.mean() + waves, target, waves))
    share, target, waves = best
    if share > WORTH:
        return []
    part, _ = rays_until(known, target)

    def loss(lv: AdvisedLevel) -> float:
        rays = lv.manifest.recipe.gather_rays
        light = lv.solved(None, lv.manifest.bounces)
        then = light.copy()
        for passed in PASSES[:-1]:
            mine = part == passed
            then[mine] = lv.solved(max(int(passed * rays), 1), lv.manifest.bounces)[mine]
        return lv.share_changed(light, then)

    why = (
        f"Half of the texels are sure with {100 * float(np.median(part)):.0f} % of the rays, by the last build's noise."
    )
    title = f"A noise target of {100 * target:.2g} % instead of a count of rays"
    edit: Edit = {"recipe": {"light.noise_target": target}}
    rates = {"until": share - waves, "waves": waves, "target": target}
    return [Candidate("noise-target", title, why, edit, loss, "", {}, rates)]


def _reach(level: AdvisedLevel) -> list[Candidate]:
    """Lamps that shine on everything, and show on what is near alone."""
    stored = level.stored
    if stored is None:
        return []
    lamps = {x.name: x for x in level.gathered.subject.baking.lights if x.kind in ("point", "spot") and not x.reach}
    far_off = dict[str, tuple[float, F64]]()
    position, weight = level.places.position(level.result.scene.corners), level.weight
    for name, lamp in lamps.items():
        if name not in stored.sources.lights or name not in level.manifest.lights:
            continue
        unit = stored.sources.lights[name]
        field_ = np.zeros(len(stored.layout.target), np.float64)
        field_[unit.texel] = unit.value
        full = level.manifest.lights[name]
        strength = float(luminance(np.array(full.color)[None] * full.intensity)[0])
        gives = np.where(level.at >= 0, strength * field_[np.maximum(level.at, 0)], 0.0)
        away = np.linalg.norm(position - lamp.position, axis=1)
        shows = (np.abs(gives) > SHOWS * level.light) & (weight > 0)
        near = float(away[shows].max(initial=0.0))
        reach = float(f"{near / FADES:.2g}")
        if 0.0 < reach < FAR * float(away.max(initial=0.0)):
            far_off[name] = reach, away
    if not far_off:
        return []

    def loss(lv: AdvisedLevel) -> float:
        assert lv.stored is not None
        fades = {}
        for name, (reach, away) in far_off.items():
            fade = np.ones(len(lv.stored.layout.target), np.float32)
            fade[lv.at[lv.at >= 0]] = np.clip(1.0 - (away[lv.at >= 0] / reach) ** 4, 0.0, 1.0)
            fades[name] = fade
        bounces = lv.manifest.bounces
        return lv.share_changed(lv.solved(None, bounces), lv.solved(None, bounces, fades))

    names = [n.rsplit("/", 1)[-1] for n in far_off]
    title = f"A reach for {names[0]}" if len(names) == 1 else f"A reach for {len(names)} lamps: {', '.join(names[:3])}"
    why = "They are tried on everything and show on what is near alone; farther off no shadow ray need be shot."
    return [Candidate("reach", title, why, {"lights": {n: reach for n, (reach, _) in far_off.items()}}, loss)]


def _blockers(level: AdvisedLevel) -> list[Candidate]:
    """What blocks sight and hides nothing, as far as sight was looked into; never a piece of the hull.

    One at a time: two that hide nothing alone may hide much together, or close the level; after each, sight is anew.
    """
    sight = level.gathered.subject.sight
    if sight is None or not level.project.recipe.sight.enabled:
        return []
    idle = [b for b in sight.blockers if b.hides <= HIDES_NOTHING]
    if not idle:
        return []
    most = max(idle, key=lambda b: b.seconds)
    title = f"Let sight through {most.node.rsplit('/', 1)[-1]}"
    why = f"{most.triangles:,} triangles are asked at every ray of who sees whom, and hide nothing."
    edit: Edit = {"marks": {most.node: {"blocks_sight": False}}}
    return [Candidate("blockers", title, why, edit, lambda _: 0.0, most.node, spared=most.seconds)]


def _unseen(level: AdvisedLevel) -> list[Candidate]:
    """Faces that nobody can see, as far as sight was looked into; not where something opens, which may show them."""
    subject, recipe = level.gathered.subject, level.project.recipe
    sight, scene = subject.sight, subject.scene
    if sight is None or movable(scene):
        return []
    left = left_out_faces(scene, level.project.brief)
    hidden = sight.unseen & scene.part & (~scene.bare | left)
    fresh = hidden & ~left
    spared = saved_without(subject.baking, fresh[scene.part], recipe, recipe.limits.workers or cores(), level.rates)
    if not fresh.any():
        return []
    kept = with_left_out(level.project.brief, scene, hidden).left_out
    area = float(scene.areas[fresh].sum())
    title = f"No lightmaps for {int(fresh.sum()):,} faces that nobody sees"
    why = f"{area:,.3g} m² lie where nobody can be before them; they block and throw back light as before."
    edit: Edit = {"left_out": {path: {"faces": x.faces, "shape": x.shape} for path, x in kept.items()}}
    return [Candidate("unseen", title, why, edit, lambda _: 0.0, spared=spared)]
