"""The steps of the window, in working order. A new one is a folder here and one line below."""

from __future__ import annotations

from ropebell.app.steps.build import BuildStep
from ropebell.app.steps.charts import ChartsStep
from ropebell.app.steps.compare import CompareStep
from ropebell.app.steps.deliver import DeliverStep
from ropebell.app.steps.faults import FaultsStep
from ropebell.app.steps.hunt import HuntStep
from ropebell.app.steps.level import LevelStep
from ropebell.app.steps.lights import LightsStep
from ropebell.app.steps.recipe import RecipeStep
from ropebell.app.steps.step import Step

ORDER: tuple[type[Step], ...] = (
    LevelStep, ChartsStep, LightsStep, RecipeStep, BuildStep, FaultsStep, HuntStep, CompareStep, DeliverStep,
)  # fmt: skip
