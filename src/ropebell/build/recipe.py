"""Recipes: named sets of quality settings. A recipe always holds the final values; `draft` divides them."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ropebell.charts.mip_levels import MIP, padding_for
from ropebell.errors import RecipeError, why
from ropebell.files import read_toml

CONVERGED: Literal["converged"] = "converged"


# Of a draft, unless the recipe has fewer itself.
LEAST_DRAFT_RAYS = 256
# Behind the name of a recipe that ships, once it is no longer that.
EDITED = ", edited"


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Density(_Part):
    """How finely surfaces are divided."""

    texels_per_metre: float = Field(10.0, ge=0.001, le=1000, description="texels per metre of surface")
    page_size: int = Field(1024, ge=64, le=8192, description="largest side of a page, in texels")
    padding: int = Field(3, ge=0, le=32, description="free texels between charts")


class Light(_Part):
    """How much light is gathered, and how."""

    gather_rays: int = Field(128, ge=4, le=16384, description="rays per texel for bounced light and sky")
    direct_samples: int = Field(16, ge=1, le=1024, description="shadow rays per texel and emitter")
    bounces: int | Literal["converged"] = Field(4, description="diffuse reflections, or converged")
    bounce_gain: float = Field(1.0, ge=0, le=4, description="strength of bounced light, 1 is physical")
    bounce_saturation: float = Field(1.0, ge=0, le=1, description="colour kept by bounced light")
    seed: int = Field(1, ge=0, le=2**31 - 1, description="seed of the ray directions")
    noise_target: float = Field(0.0, ge=0, le=1, description="share of a texel's light; 0: rays are only counted")


class Occlusion(_Part):
    """Darkening of creases for looks."""

    enabled: bool = False
    radius: float = Field(0.5, gt=0, le=100, description="distance in metres")
    strength: float = Field(1.0, ge=0, le=1, description="0 none, 1 full")


class Finish(_Part):
    """What is done to the pages after the light is solved."""

    denoise: bool = True
    stitch_seams: bool = True


class Output(_Part):
    """What is written."""

    directional: bool = False
    format: Literal["half", "shared-exponent", "8-bit"] = "half"


class Sight(_Part):
    """The visibility stage."""

    enabled: bool = False
    cell: float = Field(1.0, ge=0.1, le=100, description="side of a sight cell in metres")


class Limits(_Part):
    """Bounds on what a build may take; 0 is no bound."""

    seconds: float = Field(0.0, ge=0, le=1e7, description="stop as by a tripwire after this many seconds")
    memory_mb: int = Field(
        0, ge=0, description="keep to this: stored rays stay in their file; refused if that is not enough"
    )
    workers: int = Field(0, ge=0, le=256, description="threads, 0 for every core")


class Recipe(_Part):
    """All settings of a build."""

    name: str = "working"
    density: Density = Density()
    light: Light = Light()
    occlusion: Occlusion = Occlusion()
    finish: Finish = Finish()
    output: Output = Output()
    sight: Sight = Sight()
    limits: Limits = Limits()
    draft: Literal[1, 2, 4, 8] = 1

    @property
    def texels_per_metre(self) -> float:
        """Density after the draft factor."""
        return self.density.texels_per_metre / self.draft

    @property
    def padding(self) -> int:
        """Padding after the draft factor, but not below what keeps two charts out of one texel of the second mip
        level."""
        return max(self.density.padding // self.draft, min(padding_for(MIP), self.density.padding))

    @property
    def gather_rays(self) -> int:
        """Gather rays after the draft factor, but not below what a filter can still make smooth light of: a draft saves
        most by its fewer texels, and light that is blotchy answers no question."""
        return max(self.light.gather_rays // self.draft, min(LEAST_DRAFT_RAYS, self.light.gather_rays))

    @property
    def direct_samples(self) -> int:
        """Shadow rays after the draft factor, at least 4."""
        return max(self.light.direct_samples // self.draft, min(4, self.light.direct_samples))

    @property
    def footprint_samples(self) -> int:
        """Points per texel at which its footprint is sampled."""
        return min(max(self.direct_samples, 4), 8)

    @property
    def bouncing(self) -> tuple[float, float]:
        """Strength of bounced light and the colour it keeps."""
        return self.light.bounce_gain, self.light.bounce_saturation

    @property
    def bounces(self) -> int | None:
        """Bounces, None for converged."""
        return None if self.light.bounces == CONVERGED else int(self.light.bounces)


SHIPPED: dict[str, Recipe] = {
    "sketch": Recipe(
        name="sketch",
        density=Density(texels_per_metre=4.0),
        light=Light(gather_rays=64, direct_samples=8, bounces=2),
    ),
    "working": Recipe(name="working"),
    "final": Recipe(
        name="final",
        density=Density(texels_per_metre=20.0, padding=4),
        light=Light(gather_rays=512, direct_samples=64, bounces=CONVERGED),
    ),
}


def unfinished(recipe: Recipe) -> Recipe:
    """The same with its light left as it was solved."""
    return recipe.model_copy(update={"finish": Finish(denoise=False, stitch_seams=False)})


def named(name: str) -> Recipe:
    """A shipped recipe.

    Raises:
        RecipeError: there is none of that name.
    """
    if name not in SHIPPED:
        raise RecipeError(f"there is no recipe '{name}'", "", f"Use one of {', '.join(SHIPPED)}, or a TOML file")
    return SHIPPED[name]


def load(name_or_file: str) -> Recipe:
    """A shipped recipe by name, or one from a TOML file.

    Raises:
        RecipeError: unknown name, unreadable file, unknown key or value out of range.
    """
    path = Path(name_or_file)
    try:
        if path.suffix.lower() != ".toml" and not path.is_file():
            return named(name_or_file)
        values = read_toml(path)
    except OSError as error:
        raise RecipeError(f"it cannot be read ({why(error)})", path, "Check the path") from error
    except ValueError as error:
        raise RecipeError(f"it is not valid TOML ({error})", path, "Correct the file") from error
    return parse({"name": path.stem, **values}, str(path))


def differences(recipe: Recipe) -> dict[str, Any]:
    """Nested plain values: its name, and what differs from the shipped recipe of that name, else from `working`."""
    base = _base(recipe.name)
    found: dict[str, Any] = {"name": recipe.name}
    for part, value in recipe.model_dump().items():
        if isinstance(value, dict):
            value = {key: x for key, x in value.items() if x != base[part][key]}
        if part != "name" and value != base[part] and value != {}:
            found[part] = value
    return found


def whole_values(recipe: Recipe) -> dict[str, Any]:
    """All of it as nested plain values."""
    return recipe.model_dump()


def from_differences(values: Any, where: str = "") -> Recipe:
    """Back from `differences`; a whole recipe will do, too.

    Raises:
        RecipeError: naming the first wrong key.
    """
    if not isinstance(values, dict):
        raise RecipeError(f"recipe = {values!r} is not a table", where, "Correct it")
    whole = _base(values.get("name"))
    for part, value in values.items():
        section = whole.get(part)
        whole[part] = {**section, **value} if isinstance(section, dict) and isinstance(value, dict) else value
    return parse(whole, where)


def _base(name: object) -> dict[str, Any]:
    own = name.removesuffix(EDITED) if isinstance(name, str) else ""
    return {**SHIPPED[own if own in SHIPPED else "working"].model_dump(), "name": name if own else "working"}


def told_apart(recipe: Recipe) -> Recipe:
    """Under a name that says whether it is still one that ships: an edited one never passes for it."""
    base = SHIPPED.get(recipe.name.removesuffix(EDITED))
    if base is None:
        return recipe
    same = recipe.model_copy(update={"name": base.name, "draft": base.draft}) == base
    return recipe.model_copy(update={"name": base.name if same else base.name + EDITED})


def origin(recipe: Recipe) -> Recipe | None:
    """The recipe that ships which it is, or was before it was edited."""
    return SHIPPED.get(recipe.name.removesuffix(EDITED))


def parse(values: dict[str, Any], where: str = "") -> Recipe:
    """A recipe from nested plain values, checked.

    Raises:
        RecipeError: naming the first wrong key.
    """
    try:
        recipe = Recipe.model_validate(values)
    except ValidationError as error:
        first = error.errors()[0]
        key = ".".join(str(part) for part in first["loc"] if part not in ("int", "literal['converged']"))
        if first["type"] == "extra_forbidden":
            raise RecipeError(f"there is no setting '{key}'", where, f"The settings are {', '.join(keys())}") from error
        raise RecipeError(f"{key} = {first['input']!r} is not usable: {first['msg']}", where, "Correct it") from error
    if isinstance(recipe.light.bounces, int) and not 0 <= recipe.light.bounces <= 512:
        raise RecipeError(f"light.bounces = {recipe.light.bounces} is outside 0 … 512", where, "Correct it")
    return recipe


def keys() -> list[str]:
    """All setting keys, dotted."""
    found = []
    for name, info in Recipe.model_fields.items():
        kind = info.annotation
        if isinstance(kind, type) and issubclass(kind, BaseModel):
            found += [f"{name}.{sub}" for sub in kind.model_fields]
        elif name != "name":
            found.append(name)
    return found


def get(recipe: Recipe, key: str) -> Any:
    """The value of a dotted key."""
    value: Any = recipe
    for part in key.split("."):
        value = getattr(value, part)
    return value


def drafted(recipe: Recipe, key: str) -> Any:
    """The value of a dotted key that is built with: after the draft factor, where that touches it."""
    return getattr(recipe, key.rpartition(".")[2], get(recipe, key))


def with_value(recipe: Recipe, key: str, value: Any) -> Recipe:
    """A copy with one dotted key changed.

    Raises:
        RecipeError: unknown key or value out of range.
    """
    if key not in keys():
        raise RecipeError(f"there is no setting '{key}'", "", f"The settings are {', '.join(keys())}")
    values = recipe.model_dump()
    target = values
    *above, last = key.split(".")
    for part in above:
        target = target[part]
    target[last] = value
    return parse(values)


def with_setting(recipe: Recipe, text: str) -> Recipe:
    """Apply `KEY=VALUE` from a command line.

    Raises:
        RecipeError: no equals sign, unknown key or unusable value.
    """
    key, sign, value = text.partition("=")
    if not sign:
        raise RecipeError(f"'{text}' is not KEY=VALUE", "--set", "Write for example light.bounces=3")
    return with_value(recipe, key.strip(), _typed(value.strip()))


def _typed(text: str) -> Any:
    if text.lower() in ("true", "false"):
        return text.lower() == "true"
    for kind in (int, float):
        try:
            return kind(text)
        except ValueError:
            continue
    return text
