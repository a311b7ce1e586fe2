"""Recipes of one's own: made, copied, renamed, dropped, taken from files and from the person's shelf."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QInputDialog, QMenu, QWidget

from ropebell.app.desk import Desk
from ropebell.app.parts import button, combo, label, pair, rows_in
from ropebell.build import shelf
from ropebell.build.project import Project
from ropebell.build.recipe import EDITED, SHIPPED, Recipe, load, with_value
from ropebell.errors import RecipeError

ACTS = (
    ("Keep under a new name", "keep_new"), ("Keep the changes", "keep_same"), ("Rename", "rename"), ("Drop", "drop"),
    ("", ""), ("Put on my shelf, for other levels", "to_shelf"), ("Take off my shelf", "off_shelf"),
    ("", ""), ("Write as a file", "write"), ("Read from a file", "read"),
)  # fmt: skip


class RecipeKeeping(QWidget):
    """Which recipe it is, and what can be done with it."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        rows = rows_in(self, 4)
        self.names, self.more = combo("Recipe"), button("Recipes")
        self.words = label("", "second")
        rows.addWidget(pair(self.names, self.more, stretch=0))
        rows.addWidget(self.words)
        menu = QMenu(self.more)
        for title, act in ACTS:
            action = menu.addAction(title) if title else menu.addSeparator()
            if action is not None and act:
                action.triggered.connect(lambda _=False, act=act: desk.commands.attempt(getattr(self, act)))
        self.more.setMenu(menu)
        self.names.activated.connect(self._choose)

    # -- what there is

    @property
    def _project(self) -> Project | None:
        return self._desk.document.project

    @property
    def recipe(self) -> Recipe | None:
        """The recipe in force."""
        return self._project.recipe if self._project is not None else None

    def _own(self) -> dict[str, Recipe]:
        return shelf.known(self._project) if self._project is not None else dict(SHIPPED)

    def refresh(self) -> None:
        """Show which recipe is in force, and whether it is still as it was kept."""
        recipe = self.recipe
        if recipe is None:
            return
        known = self._own()
        names = [*known, *([] if recipe.name in known else [recipe.name])]
        if names != [self.names.itemText(i) for i in range(self.names.count())]:
            self.names.clear()
            self.names.addItems(names)
        self.names.setCurrentIndex(names.index(recipe.name))
        self.words.setText(self._state(recipe, known))
        self.words.setVisible(bool(self.words.text()))

    @staticmethod
    def _state(recipe: Recipe, known: dict[str, Recipe]) -> str:
        if recipe.name.endswith(EDITED):
            return "It is kept with the project; keep it under a name to choose it again."
        kept = known.get(recipe.name)
        if kept is None:
            return "It is in force here, but not kept under its name."
        if with_value(recipe, "draft", 1) != kept:
            return f"Changed since '{recipe.name}' was kept."
        return ""

    # -- acts

    def _choose(self, index: int) -> None:
        recipe, name = self.recipe, self.names.itemText(index)
        chosen = self._own().get(name)
        if recipe is not None and chosen is not None:
            self._desk.document.set_recipe(f"Use recipe {name}", with_value(chosen, "draft", recipe.draft))

    def _ask(self, title: str, text: str) -> str:
        name, done = QInputDialog.getText(self, title, "Name of the recipe", text=text)
        return name.strip() if done else ""

    def keep_new(self) -> None:
        """Keep what is set under a new name."""
        recipe = self.recipe
        name = self._ask("Keep the recipe", recipe.name.removesuffix(EDITED) + " 2") if recipe is not None else ""
        if name:
            self.keep_as(name)

    def keep_as(self, name: str) -> None:
        """Keep what is set in the project, under a name of its own.

        Raises:
            RecipeError: the name is taken.
        """
        recipe = self.recipe
        if recipe is None:
            return
        name = shelf.checked_name(name, self._own())
        made = recipe.model_copy(update={"name": name})
        self._edit(f"Keep recipe {name}", lambda p: shelf.kept_in(p, made), made)

    def keep_same(self) -> None:
        """Keep the changes under the name it has; a recipe that ships stays as it is."""
        recipe = self.recipe
        if recipe is None:
            return
        if recipe.name in SHIPPED or recipe.name.endswith(EDITED):
            self.keep_new()
        else:
            self._edit(f"Keep recipe {recipe.name}", lambda p: shelf.kept_in(p, recipe), recipe)

    def rename(self) -> None:
        """Another name for a recipe of the project."""
        recipe = self._of_ones_own()
        name = self._ask("Rename the recipe", recipe.name)
        if name and name != recipe.name:
            self.rename_to(name)

    def rename_to(self, name: str) -> None:
        """The same without asking.

        Raises:
            RecipeError: the name is taken, or the recipe is none of the project's.
        """
        recipe = self._of_ones_own()
        name = shelf.checked_name(name, self._own())
        made, old = recipe.model_copy(update={"name": name}), recipe.name
        self._edit(f"Rename recipe {old}", lambda p: shelf.kept_in(shelf.dropped_from(p, old), made), made)

    def drop(self) -> None:
        """Drop a recipe from the project; what it set stays in force.

        Raises:
            RecipeError: it is none of the project's.
        """
        recipe = self._of_ones_own()
        self._edit(f"Drop recipe {recipe.name}", lambda p: shelf.dropped_from(p, recipe.name), recipe)

    def _of_ones_own(self) -> Recipe:
        recipe, project = self.recipe, self._project
        if recipe is None or project is None or recipe.name not in shelf.of_project(project):
            name = recipe.name if recipe is not None else ""
            raise RecipeError(f"'{name}' is not kept in this project", "", "Keep it under a name first")
        return recipe

    def to_shelf(self) -> None:
        """Keep it for other levels.

        Raises:
            RecipeError: it has no name of its own, or cannot be written.
        """
        recipe = self._of_ones_own()
        path = shelf.put_on_shelf(recipe)
        self._desk.news(f"'{recipe.name}' is on your shelf, for every level: {path}")

    def off_shelf(self) -> None:
        """Remove it from the shelf; the project keeps it.

        Raises:
            RecipeError: it is not there.
        """
        recipe = self.recipe
        if recipe is None or recipe.name not in shelf.on_shelf():
            raise RecipeError("it is not on your shelf", "", "Choose one that is")
        made = recipe
        self._edit(f"Keep recipe {recipe.name}", lambda p: shelf.kept_in(p, made), made)
        shelf.take_off_shelf(recipe.name)
        self.refresh()

    def write(self) -> None:
        """Ask for a file, and write the recipe there."""
        recipe = self.recipe
        if recipe is None:
            return
        path, _ = QFileDialog.getSaveFileName(self, "Write the recipe", f"{recipe.name}.toml", "Recipes (*.toml)")
        if path:
            shelf.export(recipe, Path(path))
            self._desk.news(f"The recipe is written to {path}.")

    def read(self) -> None:
        """Ask for a file, and read a recipe from it."""
        path, _ = QFileDialog.getOpenFileName(self, "Read a recipe", "", "Recipes (*.toml)")
        if path:
            self.read_file(Path(path))

    def read_file(self, path: Path) -> None:
        """Take a recipe from a file into the project.

        Raises:
            RecipeError: it cannot be used, or its name is taken.
        """
        made, before = load(str(path)), self.recipe
        name = shelf.checked_name(made.name, {})
        made = made.model_copy(update={"name": name, "draft": before.draft if before is not None else 1})
        self._edit(f"Read recipe {name}", lambda p: shelf.kept_in(p, made), made)

    def _edit(self, title: str, change: Callable[[Project], Project], recipe: Recipe) -> None:
        """Change what is kept and what is in force in one undoable step."""

        def both(project: Project) -> Project:
            return change(project).with_recipe(recipe)

        self._desk.document.edit(title, both)
        self.refresh()
