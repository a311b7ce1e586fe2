"""Recipes that people made: in the project, on the person's own shelf for other levels, and as TOML files."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import tomli_w

from ropebell.build.project import Project
from ropebell.build.recipe import SHIPPED, Recipe, load, parse, whole_values
from ropebell.errors import RecipeError, why
from ropebell.files import remove_files, write_text

RECIPES = "recipes"
FILE = re.compile(r"[^/\x00-\x1f]{1,80}\.toml")


def shelf_folder() -> Path:
    """Where a person's own recipes are kept."""
    base = os.environ.get("XDG_CONFIG_HOME") or str(Path.home() / ".config")
    return Path(base) / "ropebell" / RECIPES


def of_project(project: Project) -> dict[str, Recipe]:
    """The recipes kept in a project, by name; what cannot be used is left out."""
    found = {}
    kept = project.rest.get(RECIPES, {})
    for name, values in kept.items() if isinstance(kept, Mapping) else ():
        try:
            found[str(name)] = _parsed(values, str(name))
        except RecipeError:
            continue
    return found


def on_shelf() -> dict[str, Recipe]:
    """The recipes on the person's shelf, by name; what cannot be used is left out."""
    folder, found = shelf_folder(), {}
    for path in sorted(folder.glob("*.toml")) if folder.is_dir() else ():
        try:
            found[path.stem] = load(str(path))
        except RecipeError:
            continue
    return found


def known(project: Project) -> dict[str, Recipe]:
    """All recipes that can be chosen, by name: those that ship, the person's, the project's; the later of one name
    win, but none takes the name of one that ships."""
    own = {**on_shelf(), **of_project(project)}
    return {**{name: made for name, made in own.items() if name not in SHIPPED}, **SHIPPED}


def checked_name(name: str, taken: Mapping[str, Recipe]) -> str:
    """A name that a recipe of one's own can have.

    Raises:
        RecipeError: it is empty, one that ships, or taken.
    """
    name = name.strip()
    if not FILE.fullmatch(f"{name}.toml") or name.startswith("."):
        raise RecipeError(f"'{name}' is no name for a recipe", "", "Use up to 80 characters, no slash")
    if name in SHIPPED:
        raise RecipeError(f"'{name}' is a recipe that ships", "", "Choose another name")
    if name in taken:
        raise RecipeError(f"there is a recipe '{name}' already", "", "Choose another name")
    return name


def kept_in(project: Project, recipe: Recipe) -> Project:
    """With a recipe kept under its name; drafts are not kept, as a recipe holds the final values."""
    return _with(project, {**_values(project), recipe.name: _stored(recipe)})


def dropped_from(project: Project, name: str) -> Project:
    """Without a recipe of that name."""
    return _with(project, {key: value for key, value in _values(project).items() if key != name})


def _values(project: Project) -> dict[str, Any]:
    kept = project.rest.get(RECIPES, {})
    return dict(kept) if isinstance(kept, Mapping) else {}


def _with(project: Project, recipes: dict[str, Any]) -> Project:
    rest = {key: value for key, value in project.rest.items() if key != RECIPES}
    return replace(project, rest={**rest, RECIPES: recipes} if recipes else rest)


def _stored(recipe: Recipe) -> dict[str, Any]:
    values = whole_values(recipe)
    del values["name"], values["draft"]
    return values


def _parsed(values: Any, name: str) -> Recipe:
    if not isinstance(values, dict):
        raise RecipeError("it is not a table", f"recipes, '{name}'", "Correct project.toml")
    return parse({**values, "name": name, "draft": 1}, f"recipes, '{name}'")


def export(recipe: Recipe, path: Path) -> None:
    """Write a recipe as TOML, whole or not at all.

    Raises:
        RecipeError: it cannot be written.
    """
    try:
        write_text(path, tomli_w.dumps({"name": recipe.name, **_stored(recipe)}))
    except OSError as error:
        raise RecipeError(f"it cannot be written ({why(error)})", path, "Name another file") from error


def put_on_shelf(recipe: Recipe) -> Path:
    """Keep a recipe on the person's shelf, in place of one of the same name.

    Raises:
        RecipeError: it cannot be written.
    """
    folder = shelf_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise RecipeError(f"it cannot be made ({why(error)})", folder, "Check the permissions") from error
    path = folder / f"{recipe.name}.toml"
    export(recipe, path)
    return path


def take_off_shelf(name: str) -> None:
    """Remove a recipe from the person's shelf."""
    if FILE.fullmatch(f"{name}.toml"):
        remove_files(shelf_folder(), [f"{name}.toml"])
