"""What one step of a setting, up or down, changes in time and memory, and what it does to faults."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ropebell.build.estimate import Estimate, estimate
from ropebell.build.recipe import Recipe, drafted, get, with_value
from ropebell.errors import RecipeError
from ropebell.level.scene import Scene

# A step of each setting: what it is multiplied with, or, below 1.5, what is added.
STEPS: dict[str, float] = {
    "density.texels_per_metre": 1.5,
    "light.gather_rays": 2.0,
    "light.direct_samples": 2.0,
    "density.page_size": 2.0,
    "light.bounces": 1.0,
    "density.padding": 1.0,
}
HELPS: dict[str, str] = {
    "density.texels_per_metre": "Helps blocky shadows, lost detail, seams. Coarse: light bleeds past thin walls.",
    "light.gather_rays": "Helps noise and blotches. Few: blotches that a filter smears.",
    "light.noise_target": "Helps uneven noise. Large: blotches; tiny: long builds.",
    "light.direct_samples": "Helps grainy soft shadows.",
    "density.padding": "Helps light of one chart showing on another. None: bleeding at every edge.",
    "density.page_size": "Fewer seams between pages. Too small: large objects get coarser.",
    "light.bounces": "Helps dark corners. Few: rooms without a window go black.",
    "light.bounce_gain": "Lifts dark rooms. Above 1: light that no lamp gives; may blow out.",
    "light.bounce_saturation": "Tones down colour bleed.",
    "light.seed": "Tells noise from light: what moves with the seed is noise.",
    "limits.seconds": "Stops overlong builds.",
    "limits.memory_mb": "Helps builds that die for want of memory; slower.",
}


@dataclass(frozen=True)
class StepCost:
    """What one step changes: seconds and bytes of a build from nothing, and whether a draft is any other for it."""

    value: float
    seconds: float
    memory_bytes: int
    felt: bool = True


def step_costs(
    scene: Scene, recipe: Recipe, key: str, workers: int, rates: dict[str, float], whole: Estimate
) -> tuple[StepCost | None, StepCost | None]:
    """One step up, and one down; None where there is none.

    Args:
        whole: the estimate for the recipe as it is.
    """
    step, value = STEPS.get(key), get(recipe, key)
    if step is None or not isinstance(value, int | float):
        return None, None
    up: Callable[[float], float] = (lambda v: v * step) if step >= 1.5 else (lambda v: v + step)
    down: Callable[[float], float] = (lambda v: v / step) if step >= 1.5 else (lambda v: v - step)

    def cost(wanted: float) -> StepCost | None:
        kind = type(value)
        try:
            made = with_value(recipe, key, kind(wanted))
        except RecipeError:
            return None
        told = estimate(scene, made, workers, rates)
        return StepCost(
            float(get(made, key)), told.total_seconds - whole.total_seconds, told.memory_bytes - whole.memory_bytes,
            drafted(made, key) != drafted(recipe, key),
        )  # fmt: skip

    return cost(up(value)), cost(down(value))
