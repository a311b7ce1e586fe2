"""Variants of what is decided about a level: kept by name in the project, jumped between, left without a trace."""

from __future__ import annotations

from ropebell.app.kept import Kept
from ropebell.build.recipe import parse
from ropebell.errors import RecipeError
from ropebell.level.brief import BriefError, from_values, to_values


class Variants(Kept):
    """The brief and the recipe of now, under a name."""

    KEY, WORD = "variants", "variant"

    def keep(self, name: str) -> None:
        """Keep what is decided now under a name, in place of what was kept there, undoably."""
        now = self._desk.document.project
        if now is not None:
            kept = {"brief": to_values(now.brief), "recipe": now.recipe.model_dump()}
            self._set(f"Keep variant {name}", {**self._table(), name: kept})

    def go(self, name: str) -> None:
        """Take a variant's decisions; those of now are dropped unless kept, and undo brings them back."""
        kept = self._table().get(name, {})
        try:
            brief, recipe = from_values(kept["brief"]), parse(kept["recipe"])
        except (KeyError, TypeError, BriefError, RecipeError) as error:
            self._desk.tell(f"The variant '{name}' in project.toml cannot be used ({error}). Keep it anew.")
            return
        self._desk.document.edit_all(f"Go to variant {name}", brief, recipe)
