"""What a finished build says of itself: `manifest.json`, typed, and read in one place.

A manifest travels with its build, so nothing in it is trusted: every number has bounds, every file lies in the build's
own folder, and what cannot be so is refused in one sentence.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    PlainSerializer,
    StringConstraints,
    ValidationError,
)

from ropebell.build.recipe import Recipe
from ropebell.build.relocation import Relocation
from ropebell.build.scope import EVERYTHING, Scope, in_words
from ropebell.errors import ProjectError
from ropebell.files import read_json, write_json
from ropebell.level.brief import Brief, from_values, to_values
from ropebell.level.finding import Finding
from ropebell.level.limits import MOST_LIGHT
from ropebell.level.model import F64
from ropebell.level.placed_light import thrown_light

MANIFEST = "manifest.json"
FORMAT = 2
MOST_BYTES = 64 << 20

Digest = Annotated[str, StringConstraints(pattern=r"^([0-9a-f]{32})?$")]
InFolder = Annotated[str, StringConstraints(pattern=r"^(pages|layers)/[A-Za-z0-9][A-Za-z0-9._-]*$", max_length=200)]
Count = Annotated[int, Field(ge=0, le=2**53)]
Amount = Annotated[float, Field(ge=0, le=1e30)]
Light = Annotated[float, Field(ge=-MOST_LIGHT, le=MOST_LIGHT)]
Color = tuple[Light, Light, Light]
FindingValues = Annotated[Finding, BeforeValidator(Finding.of), PlainSerializer(Finding.as_json)]
ScopeValues = Annotated[Scope, BeforeValidator(Scope.of), PlainSerializer(Scope.as_values)]
BriefValues = Annotated[Brief, BeforeValidator(from_values), PlainSerializer(to_values)]


class Part(BaseModel):
    """A part of a manifest: immutable, finite, and blind to what later versions add."""

    model_config = ConfigDict(frozen=True, extra="ignore", allow_inf_nan=False)


class Delivered(Part):
    """A page in the format that was chosen, and what its values are to be multiplied by."""

    file: InFolder
    format: str
    scale: Light = 1.0


class Page(Part):
    """One lightmap: its files, relative to the build's folder, its size in texels, and what it takes.

    Attributes:
        file: all light. direct, near, direction, noise, origin: layers, where there are any.
        fill: share of it that charts cover. channels: half or single floats.
        formats: bytes and errors by format. delivered: the file in the chosen format, if it is not `file`.
    """

    file: InFolder
    direct: InFolder
    near: InFolder | None = None
    direction: InFolder | None = None
    noise: InFolder | None = None
    origin: InFolder | None = None
    width: Annotated[int, Field(ge=1, le=16384)]
    height: Annotated[int, Field(ge=1, le=16384)]
    texels: Count = 0
    fill: float = 0.0
    bytes: Count = 0
    channels: str = "half"
    formats: dict[str, dict[str, float]] = {}
    delivered: Delivered | None = None


class LightFacts(Part):
    """How a light was set; see `level.placed_light.PlacedLight`."""

    intensity: Light
    color: Color = (1.0, 1.0, 1.0)
    share: Annotated[float, Field(ge=0, le=1e3)] = 1.0
    saturation: Annotated[float, Field(ge=0, le=1e3)] = 1.0
    subtracts: bool = False
    hybrid: bool = False

    @property
    def strength(self) -> F64:
        """(3,) linear RGB intensity; negative for a light that subtracts."""
        return np.array(self.color) * (-self.intensity if self.subtracts else self.intensity)

    @property
    def thrown(self) -> F64:
        """(3,) what of it goes into the bounces."""
        return thrown_light(self.strength, self.share, self.saturation)


class StageDigests(Part):
    """Artifacts that a build is made of.

    Attributes:
        hits: the hit table; transport names the stage alone, which a noise target refines.
        sky: direct light of a sky picture. surfaces: albedo.
        reading: what reflects, and what glows, at each texel; empty in builds of older versions.
        finish: what finishing needs beside the light; empty in builds of older versions.
    """

    charts: Digest
    footing: Digest
    transport: Digest
    hits: Digest = ""
    lights: dict[str, Digest] = {}
    emitters: dict[str, Digest] = {}
    sky: Digest = ""
    surfaces: Digest = ""
    reading: Digest = ""
    finish: Digest = ""


class PartOf(Part):
    """A build that some of the light is of, where a picture is composed.

    Attributes:
        build: its folder's name, empty for light that nobody finished. texels: that are of it.
    """

    build: Annotated[str, Field(max_length=255)] = ""
    made: str = ""
    recipe: str = ""
    draft: int = 1
    texels: Count = 0


class LeftStale(Part):
    """An object that a part build left as it was, and how many of its texels cannot be right any more."""

    node: str
    texels: Count


class Rays(Part):
    """Gather rays that were shot, and how many there may have been."""

    gather: Count = 0
    most: Count = 0


class Kept(Part):
    """Rays that were taken over from earlier builds, and rays that were shot."""

    rays: Count = 0
    shot: Count = 0


class Noise(Part):
    """Standard error over light that half, and nine in ten, of the texels stay below."""

    half_within: Amount
    most_within: Amount


class Refined(Part):
    """What a noise target took; see `build.refining`."""

    target: Amount = 0.0
    texels: Count = 0
    left: Count = 0
    rays: Count = 0
    kept: Count = 0
    noise_before: Amount = 0.0
    noise_after: Amount = 0.0


class Finished(Part):
    """What was done after the solve."""

    noise: Noise | None = None
    refined: Refined | None = None
    occlusion: dict[str, Any] | None = None
    denoise: dict[str, Any] | None = None
    seams: dict[str, Any] | None = None
    directional: dict[str, Any] | None = None


class LevelFacts(Part):
    """What was built."""

    file: str
    triangles: Count = 0
    nodes: Count = 0
    lights: Count = 0
    emitters: Count = 0


class Manifest(Part):
    """A finished build.

    Attributes:
        sky: (3,) mean radiance in cd/m². emission: radiance by material, where the level does not say it.
        emitters: radiance in cd/m² by name. energy: mean lux that each bounce added.
        scope: how much of the level it lit. parts: whose light it is written with, by the number in the layer `origin`;
            none: all its own. left: what it left as it was.
        predicted: seconds and memory_mb as they were foreseen once the level was read. remaining_error: median share of
            the whole time by which the ends that were told after a tenth of it were off.
        worker: the arithmetic it was computed with, empty for the engine as it is.
        made_in: its folder when it was made. cache: where its artifacts are kept.
        seconds: by stage, and `total`. rates: work per second and worker.
    """

    format: int = FORMAT
    program: dict[str, str] = {}
    made: str = ""
    level: LevelFacts
    recipe: Recipe
    settings: dict[str, float] = {}
    sky: Color
    lights: dict[str, LightFacts]
    hybrid: dict[str, Any] = {}
    brief: BriefValues = Brief()
    emission: dict[str, Color] = {}
    emitters: dict[str, Color] = {}
    note: str = ""
    texels: Count
    pages: tuple[Page, ...]
    bounces: Annotated[int, Field(ge=0, le=512)]
    energy: tuple[float, ...] = ()
    cache: Annotated[str, Field(pattern=r"^[^\x00]*$", max_length=4096)]
    made_in: Annotated[str, Field(pattern=r"^[^\x00]*$", max_length=4096)] = ""
    peak_memory_mb: Count = 0
    machine: dict[str, Any] = {}
    seed: int = 1
    worker: str = ""
    seconds: dict[str, Amount]
    predicted: dict[str, Amount] = {}
    remaining_error: Amount | None = None
    reused: tuple[str, ...] = ()
    rates: dict[str, Amount] = {}
    digests: StageDigests
    rays: Rays = Rays()
    kept: Kept = Kept()
    finish: Finished = Finished()
    probes: dict[str, Any] = {}
    findings: tuple[FindingValues, ...] = ()
    scope: ScopeValues = EVERYTHING
    parts: Annotated[tuple[PartOf, ...], Field(max_length=255)] = ()
    left: tuple[LeftStale, ...] = ()

    @property
    def total_seconds(self) -> float:
        """Of the whole build."""
        return self.seconds.get("total", 0.0)

    @property
    def hits_digest(self) -> str:
        """The artifact that holds the hit table; it bears the stage's own name unless a noise target shaped it."""
        return self.digests.hits or self.digests.transport

    def as_json(self) -> dict[str, Any]:
        """Plain values for JSON; what is not there is left out."""
        return self.model_dump(mode="json", exclude_none=True)

    def write(self, folder: Path) -> None:
        """Write it whole; it makes the build in this folder a finished one.

        Raises:
            OSError: the disk is full or cannot be written.
        """
        write_json(folder / MANIFEST, self.as_json())


def _from_1(values: dict[str, Any]) -> dict[str, Any]:
    """Builds of format 1 do not keep what reflects and glows, so their light is not split by lamps any more."""
    return {**values, "format": 2}


def parts_in_words(manifest: Manifest) -> tuple[str, ...]:
    """Whose light a composed picture has, by the numbers of its layer `origin`."""
    names = [in_words(Path(part.build)) if part.build else "not finished" for part in manifest.parts]
    return (*names[:1], "this build", *names[2:])


MIGRATIONS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {1: _from_1}


def this_moment() -> str:
    """Now, as manifests and journals have it: ISO, universal time, to the second."""
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")


def read_manifest(folder: Path) -> Manifest:
    """The manifest of a finished build.

    Raises:
        ProjectError: there is no finished build, its manifest is damaged, or it is of a newer version.
    """
    path = folder / MANIFEST
    try:
        return _as_it_lies(parse_manifest(read_json(path, MOST_BYTES), path), folder)
    except OSError as error:
        remedy = "Name the folder of a build that was done"
        raise ProjectError("there is no finished build here", folder, remedy) from error
    except (ValueError, RecursionError) as error:
        raise _damaged(path, error) from error


def _as_it_lies(m: Manifest, folder: Path) -> Manifest:
    """The same with the places that its level and its artifacts have now."""
    moved = Relocation(m.made_in, folder)
    level, cache = moved.path(Path(m.level.file)), moved.path(Path(m.cache))
    if (level, cache) == (Path(m.level.file), Path(m.cache)):
        return m
    return m.model_copy(update={"level": m.level.model_copy(update={"file": str(level)}), "cache": str(cache)})


def parse_manifest(values: Any, where: object = "") -> Manifest:
    """A manifest from plain values, checked; older formats are brought up to date.

    Raises:
        ProjectError: it is damaged or of a newer version.
    """
    if not isinstance(values, dict) or not isinstance(values.get("format"), int):
        raise _damaged(where, ValueError("it names no format"))
    if values["format"] > FORMAT:
        what = f"the build is of a newer version of this program (format {values['format']}, this one knows {FORMAT})"
        raise ProjectError(what, where, "Open it with that version")
    try:
        while values["format"] < FORMAT:
            values = MIGRATIONS[values["format"]](values)
        return Manifest.model_validate(values)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        place = ".".join(str(part) for part in first["loc"])
        raise _damaged(where, ValueError(f"{place}: {first['msg']}")) from error
    except (KeyError, ValueError) as error:
        raise _damaged(where, error) from error


def _damaged(where: object, error: Exception) -> ProjectError:
    return ProjectError(f"the manifest is damaged ({error})", where, "Build again, or restore the file")
