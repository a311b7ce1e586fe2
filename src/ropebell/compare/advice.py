"""What would shorten the builds of a level, what it saves, and what it costs in light — solved, not guessed.

Times are predicted as everywhere, from rates that this machine's builds measured. What is lost is found in the light of
the last build: fewer texels by averaging those that would be one, fewer rays and bounces by solving its stored rays
with so many less, each counted over the surfaces that players can see. The next advice is judged with those before it
taken, so that the savings of a list add up.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ropebell.build.layouts import StoredLayouts
from ropebell.build.precheck import Gathered
from ropebell.build.project import Project
from ropebell.build.result import Result
from ropebell.build.stages.charts import chart_settings
from ropebell.build.store import Store
from ropebell.charts.atlas import make_atlas
from ropebell.charts.shapes import placed_shapes
from ropebell.charts.survey import TEXEL_BYTES
from ropebell.compare.advised_level import AdvisedLevel, Plan
from ropebell.compare.candidates import Edit, candidates
from ropebell.light.workers import cores

# Less of the time than this is not worth an edit; of what players see, more changed than this is no advice.
LEAST_SAVING, MOST_LOSS = 0.02, 0.10
# Of all that players see, so little may change without a second look.
UNNOTICED = 0.02
MOST_ADVICE = 8
# Another size of pages has to save so much of them; sizes between these are tried.
LEAST_MEMORY, PAGES = 0.1, (128, 8192)
# What a change of all that players see counts against the seconds saved.
DEAR = 40.0


@dataclass(frozen=True)
class Advice:
    """One thing to do.

    Attributes:
        kind: what it is, a stable word. title: in words. why: one sentence. edit: as `edited` applies it.
        seconds: of a build from nothing before it, and after. loss: share of what players see that would change by
            over 5 %. object: path, or empty. memory: MB of all pages before and after, where it is done for these.
    """

    kind: str
    title: str
    why: str
    edit: Edit
    seconds: tuple[float, float]
    loss: float
    object: str = ""
    memory: tuple[float, float] = (0.0, 0.0)

    @property
    def saving(self) -> float:
        """Seconds."""
        return self.seconds[0] - self.seconds[1]


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
    level, gain = AdvisedLevel(project, gathered, result, rates), learned or {}
    left = candidates(level)
    losses = dict[str, float]()
    for number, c in enumerate(left):
        losses[c.title] = c.loss(level)
        tick((number + 1) / len(left))
    left = [c for c in left if losses[c.title] <= MOST_LOSS]
    number_of = {name: i for i, name in enumerate(gathered.subject.baking.node_names)}
    plan = Plan(np.ones(len(number_of)), project.recipe)
    whole = now = level.seconds(plan)
    found: list[Advice] = []
    lost = 0.0
    while left and len(found) < MOST_ADVICE:
        tried = []
        for c in left:
            with_it = c.on(plan, number_of)
            after = now - (now - level.seconds(with_it)) * gain.get(c.kind, 1.0)
            tried.append(((now - after) / (1.0 + DEAR * losses[c.title]), c, after, with_it))
        tried = [t for t in tried if now - t[2] >= LEAST_SAVING * whole]
        if not tried:
            break
        # First all that together players hardly notice; then what they may.
        unnoticed = [t for t in tried if lost + losses[t[1].title] <= UNNOTICED]
        _, chosen, after, plan = max(unnoticed or tried, key=lambda t: t[0])
        lost += losses[chosen.title]
        times = now, after
        found.append(
            Advice(chosen.kind, chosen.title, chosen.why, chosen.edit, times, losses[chosen.title], chosen.object)
        )
        now = after
        left = [c for c in left if c is not chosen and not (c.object and c.object == chosen.object)]
    return [*found, *page_size(level, plan, now)]


def page_size(level: AdvisedLevel, plan: Plan, seconds: float) -> list[Advice]:
    """Pages of another size, if that leaves less of them empty once all of the above is done."""
    scene, d = level.gathered.subject.baking, plan.recipe.density
    scene = replace(scene, factor=(scene.factor * plan.ratio[scene.node]).astype(np.float32))
    shapes = placed_shapes(scene, StoredLayouts(Store(level.project.cache)), cores(), lambda _: None)
    settings = chart_settings(plan.recipe)
    sizes = {}
    for size in {d.page_size, *(s for s in (d.page_size // 2, 2 * d.page_size) if PAGES[0] <= s <= PAGES[1])}:
        atlas, _ = make_atlas(scene, shapes, replace(settings, page_size=size))
        sizes[size] = atlas.written * atlas.side**2 * TEXEL_BYTES / 2**20
    best = min(sizes, key=lambda size: (sizes[size], size))
    if sizes[best] > (1.0 - LEAST_MEMORY) * sizes[d.page_size]:
        return []
    title = f"Pages of {best}² instead of {d.page_size}²"
    why = "Less of the last page stays empty."
    edit: Edit = {"recipe": {"density.page_size": best}}
    memory = sizes[d.page_size], sizes[best]
    return [Advice("page-size", title, why, edit, (seconds, seconds), 0.0, "", memory)]


def as_json(found: Sequence[Advice]) -> list[dict[str, Any]]:
    """Plain values."""
    return [
        {
            "kind": a.kind,
            "title": a.title,
            "why": a.why,
            "edit": a.edit,
            "seconds": list(a.seconds),
            "loss": a.loss,
            **({"memory": list(a.memory)} if a.memory[0] else {}),
        }
        for a in found
    ]
