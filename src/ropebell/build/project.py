"""The project folder: marks, light settings, recipe and builds beside a level, in a hand-editable project.toml."""

from __future__ import annotations

import os
from dataclasses import dataclass, field, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import tomli_w

from ropebell.build.recipe import SHIPPED, Recipe, differences, from_differences
from ropebell.errors import LevelError, ProjectError, RecipeError, why
from ropebell.files import read_toml, write_text
from ropebell.level.brief import NO_BRIEF, Brief, BriefError, LightChange, Sky, from_values, to_values
from ropebell.level.limits import beside
from ropebell.level.open import LEVEL_SUFFIXES
from ropebell.level.sky_picture import mean_radiance, read_sky_picture

PROJECT_FILE = "project.toml"


@dataclass(frozen=True)
class Project:
    """A level and what a designer decided about it.

    Attributes:
        folder: where project.toml, builds and cache are.
        level: the level file.
        name: for people.
        recipe: the current recipe, with its draft factor.
        brief: what is decided about the level.
        rest: whatever else project.toml holds, kept as it is.
    """

    folder: Path
    level: Path
    name: str
    recipe: Recipe
    brief: Brief = NO_BRIEF
    rest: dict[str, Any] = field(default_factory=dict)

    @property
    def builds(self) -> Path:
        """Folder of the builds."""
        return self.folder / "builds"

    @property
    def cache(self) -> Path:
        """Folder of the stage artifacts."""
        return self.folder / "cache"

    @property
    def lights(self) -> dict[str, LightChange]:
        """Light settings by node path."""
        return self.brief.lights

    @property
    def sky(self) -> tuple[float, float, float]:
        """Uniform radiance in cd/m² of the sky in use; of a picture its mean, dark where it cannot be read."""
        now = self.brief.sky_now
        if not now.picture or not now.counts:
            return now.radiance
        try:
            path = self.beside(now.picture)
            mean = np.array(_mean_of(path, path.stat().st_mtime_ns)) * now.strength
        except (LevelError, OSError):
            return (0.0, 0.0, 0.0)  # `sky_trouble` says why
        tint = np.array(now.color) if any(now.color) else np.ones(3)
        r, g, b = (float(v) for v in mean * tint)
        return (r, g, b)

    @property
    def sky_trouble(self) -> LevelError | None:
        """Why the picture of the sky in use cannot be read, None where it can, or there is none that counts."""
        now = self.brief.sky_now
        if not now.picture or not now.counts:
            return None
        try:
            path = self.beside(now.picture)
            _mean_of(path, path.stat().st_mtime_ns)
        except LevelError as error:
            return error
        except OSError as error:
            return LevelError(f"the sky's picture cannot be read ({why(error)})", now.picture, "Choose another sky")
        return None

    def require_sky(self) -> None:
        """Refuse to go on under a sky whose picture gives no light only because it cannot be read.

        Raises:
            LevelError: that is so, with the reason.
        """
        if (trouble := self.sky_trouble) is not None:
            raise trouble

    @property
    def sky_picture(self) -> Path | None:
        """The picture of the sky in use, if it has one, counts, and can be read."""
        now = self.brief.sky_now
        if not now.picture or not now.counts or not any(self.sky):
            return None
        return self.beside(now.picture)

    def beside(self, reference: str) -> Path:
        """A file named in the project, which must lie at or below its folder.

        Raises:
            LevelError: it is absolute, a network address, or leads out.
        """
        return beside(self.folder / PROJECT_FILE, reference, f"{self.folder / PROJECT_FILE}")

    @property
    def tables(self) -> tuple[Path, ...]:
        """Emitter tables, the shared default first.

        Raises:
            LevelError: one lies outside the project's folder.
        """
        return tuple(self.beside(name) for name in self.brief.tables)

    def with_brief(self, **changes: Any) -> Project:
        """With some parts of the brief replaced."""
        return replace(self, brief=replace(self.brief, **changes))

    def with_recipe(self, recipe: Recipe) -> Project:
        """Under another recipe."""
        return replace(self, recipe=recipe)

    def with_light(self, path: str, change: LightChange | None) -> Project:
        """With one light's setting changed, or dropped."""
        lights = {name: value for name, value in self.lights.items() if name != path}
        if change is not None and change != LightChange():
            lights[path] = change
        return self.with_brief(lights=lights)

    def as_values(self) -> dict[str, Any]:
        """What project.toml holds of it."""
        values = {**self.rest, "name": self.name, "level": os.path.relpath(self.level, self.folder)}
        return {**values, "recipe": differences(self.recipe), **to_values(self.brief)}

    @staticmethod
    def of_values(values: dict[str, Any], folder: Path) -> Project:
        """Back from `as_values`.

        Raises:
            ProjectError: a value makes no sense.
        """
        path, values = folder / PROJECT_FILE, dict(values)
        level = values.pop("level", None)
        if not isinstance(level, str) or not level:
            raise ProjectError("it names no level", path, 'Add a line such as level = "level.glb"')
        try:
            recipe = from_differences(values.pop("recipe", {}), f"{path}, recipe")
        except RecipeError as error:
            raise ProjectError(error.what, error.where, error.remedy) from error
        name = values.pop("name", folder.name)
        name = name if isinstance(name, str) else folder.name
        brief = _brief(values, path)
        return Project(folder, Path(os.path.normpath(folder / level)), name, recipe, brief, values)

    def save(self) -> None:
        """Write project.toml whole or not at all.

        Raises:
            ProjectError: the folder cannot be written.
        """
        self.save_as(self.folder / PROJECT_FILE)

    def save_as(self, path: Path) -> None:
        """The same under another name in the project's folder."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            write_text(path, tomli_w.dumps(self.as_values()))
        except OSError as error:
            remedy = "Free some space or check permissions; the file on disk is unchanged"
            raise ProjectError(f"it cannot be saved ({why(error)})", path, remedy) from error


def find_project(target: Path) -> Project:
    """The project of a folder, a project.toml or a level file; a level without one gets a new one, not yet saved.

    Raises:
        ProjectError: there is neither project nor level at `target`, or project.toml is damaged.
    """
    if target.is_dir():
        if (target / PROJECT_FILE).is_file():
            return load_project(target / PROJECT_FILE)
        levels = sorted(p for p in target.iterdir() if p.suffix.lower() in LEVEL_SUFFIXES)
        if len(levels) == 1:
            return find_project(levels[0])
        what = "there is no project.toml and no level" if not levels else f"there are {len(levels)} levels"
        raise ProjectError(what, target, "Name the level file")
    if target.name == PROJECT_FILE:
        return load_project(target)
    if target.suffix.lower() not in LEVEL_SUFFIXES:
        raise ProjectError("it is neither a project folder nor a level", target, "Use .gltf, .glb or .obj")
    found = projects_of(target)
    if found:
        return found[0]
    own = next((place for place in _own_places(target) if not (place / PROJECT_FILE).is_file()), None)
    if own is None:
        what = "the projects beside it are of other levels"
        raise ProjectError(what, target, "Correct their lines level = …, or rename the level")
    return Project(
        own,
        target.absolute(),
        target.stem.replace("-", " ").replace("_", " ").strip().capitalize(),
        SHIPPED["working"],
    )


def projects_of(level: Path) -> list[Project]:
    """Projects that name a level file, the one that counts first: the one in its folder, then those that the window
    makes beside it.

    Raises:
        ProjectError: one of them is damaged, so that nobody knows what it decides.
    """
    places = (level.parent, *_own_places(level))
    files = [place / PROJECT_FILE for place in places if (place / PROJECT_FILE).is_file()]
    found = [load_project(file) for file in files]
    return [project for project in found if project.level.resolve() == level.resolve()]


def _own_places(level: Path) -> tuple[Path, Path]:
    """Folders of a level's own project: two levels of one stem, such as hall.glb and hall.obj, have one each."""
    return level.with_name(f"{level.stem}-light"), level.with_name(f"{level.name}-light")


def is_openable(path: Path) -> bool:
    """Whether a path looks like a level, a project.toml or a project folder; says nothing of its contents."""
    return path.suffix.lower() in LEVEL_SUFFIXES or path.name == PROJECT_FILE or (path / PROJECT_FILE).is_file()


def load_project(path: Path) -> Project:
    """Read project.toml.

    Raises:
        ProjectError: unreadable, not TOML, or a value that makes no sense.
    """
    try:
        values = read_toml(path)
    except OSError as error:
        raise ProjectError(f"it cannot be read ({why(error)})", path, "Check its permissions") from error
    except ValueError as error:
        raise ProjectError(f"it is not valid TOML ({error})", path, "Correct the file by hand") from error
    return Project.of_values(values, path.parent)


@lru_cache(maxsize=8)
def _mean_of(path: Path, _changed: int) -> tuple[float, float, float]:
    """Mean radiance of a sky picture; read once as long as the file stays what it is."""
    r, g, b = (float(v) for v in mean_radiance(read_sky_picture(path)))
    return (r, g, b)


def _brief(values: dict[str, Any], path: Path) -> Brief:
    """Take the brief out of the file's values; a sky may be three numbers instead of the name of one."""
    own = {key: values.pop(key) for key in list(values) if key in Brief.__dataclass_fields__}
    if isinstance(own.get("sky"), list):
        own["skies"] = {**own.get("skies", {}), "sky": {"color": own["sky"]}}
        own["sky"] = "sky"
    try:
        brief = from_values(own)
    except BriefError as error:
        raise ProjectError(f"{error.key} cannot be used: {error.reason}", path, "Correct the file by hand") from error
    if brief.sky and brief.sky not in brief.skies:
        known = ", ".join(brief.skies) or "none"
        raise ProjectError(f"there is no sky '{brief.sky}' (there is: {known})", path, "Correct the file by hand")
    return brief


def uniform_sky(color: tuple[float, float, float]) -> dict[str, Any]:
    """Changes of a brief for a plain sky of one colour in cd/m²."""
    return {"skies": {"sky": Sky(color)}, "sky": "sky"}
