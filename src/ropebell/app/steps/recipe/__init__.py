"""The Recipe step: how good, and what it costs."""

from __future__ import annotations

from ropebell.app.steps.recipe.bench import RecipeBench
from ropebell.app.steps.step import Step


class RecipeStep(Step):
    """Quality settings and the draft factor."""

    id, title = "recipe", "Recipe"

    def make_bench(self) -> RecipeBench:
        return RecipeBench(self.desk)
