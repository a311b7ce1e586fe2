"""The brief: what a designer decided about a level. It lies beside the level and is keyed by node path.

Everything here is plain, immutable data that is checked when it is made, and travels as TOML (the project file) and
as JSON (to the build process). Keys that match nothing in the level are kept, never dropped.
"""

from __future__ import annotations

import re
from dataclasses import field, replace
from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Field, TypeAdapter, ValidationError
from pydantic.dataclasses import dataclass

Role = Literal["baked", "blocks", "moving", "left-out"]
Mode = Literal["baked", "hybrid", "live", "undecided"]
LightKind = Literal["point", "spot", "directional", "rectangle", "disk", "tube"]
Number = Annotated[float, Field(ge=-1e9, le=1e9, allow_inf_nan=False)]
Amount = Annotated[float, Field(ge=0, le=1e12, allow_inf_nan=False)]
Factor = Annotated[float, Field(gt=0, le=64, allow_inf_nan=False)]
Extent = Annotated[float, Field(gt=0, le=1000, allow_inf_nan=False)]
Degrees = Annotated[float, Field(gt=0, le=90, allow_inf_nan=False)]
Point = tuple[Number, Number, Number]
Color = tuple[Number, Number, Number]
Radiance = tuple[Amount, Amount, Amount]
CONFIG = ConfigDict(extra="forbid")


@dataclass(frozen=True, config=CONFIG)
class Pose:
    """A place that a moving thing can take, relative to where the level has it.

    Attributes:
        move: metres along the node's own axes.
        turn: degrees about its own X, then Y, then Z.
        absent: not there at all.
    """

    move: Point = (0.0, 0.0, 0.0)
    turn: Point = (0.0, 0.0, 0.0)
    absent: bool = False


@dataclass(frozen=True, config=CONFIG)
class Mark:
    """What is decided about an object; None (or empty) leaves it to the branch above, and then to the default.

    Attributes:
        role: baked; blocks (blocks and bounces light, but has no lightmap); moving; left-out.
        casts, receives, bounces, two_sided: switches of the light.
        removable: may be taken away later, so its baked shadow would stay behind.
        work: a work light or stand-in that must not reach a hand-over.
        guard: no edits.
        blocks_sight: counts as a sight blocker.
        unwrap: lay it out anew, whatever lightmap coordinates its file has.
        turned: its faces are turned round: it was modelled inside out.
        density: factor on the level's texels per metre.
        bias: further factor by material name.
        pose: the pose that is built; empty is as in the level.
        usual: the pose that players mostly see.
        poses: by name.
        note: free text.
    """

    role: Role | None = None
    casts: bool | None = None
    receives: bool | None = None
    bounces: bool | None = None
    two_sided: bool | None = None
    removable: bool | None = None
    work: bool | None = None
    guard: bool | None = None
    blocks_sight: bool | None = None
    unwrap: bool | None = None
    turned: bool | None = None
    density: Factor | None = None
    bias: dict[str, Factor] = field(default_factory=dict)
    pose: str | None = None
    usual: str | None = None
    poses: dict[str, Pose] = field(default_factory=dict)
    note: str | None = None

    def over(self, below: Mark) -> Mark:
        """This mark on top of another: what is set here wins."""
        if self == NO_MARK:
            return below
        set_here = {key: value for key, value in vars(self).items() if key in FIELDS and value not in (None, {})}
        for key in ("bias", "poses"):
            if key in set_here:
                set_here[key] = {**getattr(below, key), **set_here[key]}
        return replace(below, **set_here)


FIELDS = tuple(Mark.__dataclass_fields__)
NO_MARK = Mark()
DEFAULT_MARK = Mark("baked", True, True, True, None, False, False, False, True, False, False, 1.0)
SWITCHES = {
    "casts": "Blocks light",
    "receives": "Takes shadow",
    "bounces": "Bounces light",
    "two_sided": "Two-sided",
    "removable": "Removable later",
    "blocks_sight": "Blocks sight",
    "work": "Work object",
    "guard": "Guarded",
}


@dataclass(frozen=True, config=CONFIG)
class LightChange:
    """A designer's change of one light; None keeps what the level says.

    Attributes:
        intensity: candela or lux.
        color: linear RGB.
        enabled: on.
        mode: baked, hybrid, live, or undecided.
        position: metres, in the level's frame. direction: along which it shines.
        reach: metres; 0 is unlimited.
        size: radius of the source in metres, or half angle of a sun's disk in degrees.
        width, height: of a rectangle in metres; the width of a tube is its length.
        roll: degrees about the direction.
        inner_cone, outer_cone: half angles in degrees.
        share: of its light that goes into the bounces, 1 is physical.
        saturation: colour it keeps in the bounces, 1 is all.
        subtracts: takes light away.
        fixture: path of the object that looks lit because of it.
        template: name of the template it follows; its own values win.
        work: a work light.
        note: free text.
    """

    intensity: Amount | None = None
    color: Color | None = None
    enabled: bool = True
    mode: Mode | None = None
    position: Point | None = None
    direction: Point | None = None
    reach: Amount | None = None
    size: Annotated[float, Field(ge=0, le=1000, allow_inf_nan=False)] | None = None
    width: Extent | None = None
    height: Extent | None = None
    roll: Annotated[float, Field(ge=-360, le=360, allow_inf_nan=False)] | None = None
    inner_cone: Annotated[float, Field(ge=0, le=90, allow_inf_nan=False)] | None = None
    outer_cone: Degrees | None = None
    share: Annotated[float, Field(ge=0, le=16, allow_inf_nan=False)] | None = None
    saturation: Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)] | None = None
    subtracts: bool | None = None
    fixture: str | None = None
    template: str | None = None
    work: bool | None = None
    note: str | None = None

    def over(self, below: LightChange) -> LightChange:
        """This change on top of another, such as a template: what is set here wins; either can switch it off."""
        set_here = {key: value for key, value in vars(self).items() if key in LIGHT_FIELDS and value is not None}
        return replace(below, **{**set_here, "enabled": self.enabled and below.enabled})


LIGHT_FIELDS = tuple(LightChange.__dataclass_fields__)


@dataclass(frozen=True, config=CONFIG)
class AddedLight:
    """A light that the project adds to the level; everything but its kind and place is a `LightChange`."""

    kind: LightKind = "point"
    position: Point = (0.0, 0.0, 0.0)
    direction: Point = (0.0, -1.0, 0.0)


@dataclass(frozen=True, config=CONFIG)
class EmitterChange:
    """A change of the glowing surface of one material.

    Attributes:
        counts: whether it gives light; None: as its radiance says.
        radiance: linear RGB in cd/m² that gives light.
        look: linear RGB in cd/m² that it is seen with, which lights nothing; None: as the level draws it.
    """

    counts: bool | None = None
    radiance: Radiance | None = None
    look: Radiance | None = None
    note: str | None = None


@dataclass(frozen=True, config=CONFIG)
class Sky:
    """What lies behind the level.

    Attributes:
        color: linear RGB radiance in cd/m², or a tint of the picture.
        strength: factor on both.
        picture: equirectangular `.hdr` or `.exr` below the project's folder; empty for a uniform sky.
        turn: degrees about Y.
        counts: whether it gives light or is only seen.
    """

    color: Radiance = (0.0, 0.0, 0.0)
    strength: Amount = 1.0
    picture: str = ""
    turn: Number = 0.0
    counts: bool = True

    @property
    def radiance(self) -> tuple[float, float, float]:
        """(3,) uniform radiance in cd/m² that counts."""
        r, g, b = (self.strength * c for c in self.color)
        return (r, g, b) if self.counts else (0.0, 0.0, 0.0)


@dataclass(frozen=True, config=CONFIG)
class Box:
    """An axis-aligned box in metres."""

    low: Point
    high: Point

    def ordered(self) -> Box:
        """With low below high on every axis."""
        pairs = [sorted(pair) for pair in zip(self.low, self.high)]
        return Box((pairs[0][0], pairs[1][0], pairs[2][0]), (pairs[0][1], pairs[1][1], pairs[2][1]))


@dataclass(frozen=True, config=CONFIG)
class DensityBox:
    """A factor on the density of what lies in a box; faces are cut along it."""

    low: Point
    high: Point
    factor: Factor = 1.0
    name: str = ""


@dataclass(frozen=True, config=CONFIG)
class SightBox:
    """Finer sight cells in a box.

    Attributes:
        cell: metres, at least an eighth of the recipe's.
    """

    low: Point
    high: Point
    cell: Annotated[float, Field(ge=0.05, le=100, allow_inf_nan=False)] = 0.5
    name: str = ""


@dataclass(frozen=True, config=CONFIG)
class TrialDensity:
    """Objects that are built at a test density for now; their own values stay as they are beneath it.

    Attributes:
        factor: on the level's texels per metre, instead of everything else.
        paths: of the objects.
    """

    factor: Factor = 0.25
    paths: frozenset[str] = frozenset()


@dataclass(frozen=True, config=CONFIG)
class Region:
    """Where players can be.

    Attributes:
        boxes: none is the whole level.
        outside: what density is divided by for objects outside.
        start: where players begin, at floor height; None: a node named like a start, or the level's middle.
    """

    boxes: tuple[Box, ...] = ()
    outside: Annotated[float, Field(ge=1, le=64, allow_inf_nan=False)] = 4.0
    start: Point | None = None


@dataclass(frozen=True, config=CONFIG)
class ProbeSet:
    """Where probes stand, which light what moves.

    Attributes:
        spacing: metres of a grid in the play region, or in the whole level without one; 0: no grid.
        placed: by hand, by name.
    """

    spacing: Annotated[float, Field(ge=0, le=1000, allow_inf_nan=False)] = 0.0
    placed: dict[str, Point] = field(default_factory=dict)


@dataclass(frozen=True, config=CONFIG)
class LeftOut:
    """Faces of an object that get no lightmap, though it has one; see `level.left_out`.

    Attributes:
        faces: their numbers among the object's triangles, as in `0-3 7 9-12`.
        shape: digest of these as they stood.
    """

    faces: Annotated[str, Field(pattern=r"^(\d{1,8}(-\d{1,8})?)( \d{1,8}(-\d{1,8})?)*$", max_length=4_000_000)]
    shape: str


@dataclass(frozen=True, config=CONFIG)
class Move:
    """A small edit of where an object stands: metres, degrees and factor in its own frame; factors along its own X, Y
    and Z beside it."""

    move: Point = (0.0, 0.0, 0.0)
    turn: Point = (0.0, 0.0, 0.0)
    scale: Factor = 1.0
    stretch: tuple[Factor, Factor, Factor] = (1.0, 1.0, 1.0)


@dataclass(frozen=True, config=CONFIG)
class Brief:
    """All decisions about one level.

    Attributes:
        marks: by node path, for that node alone. branches: by node path, for it and everything below.
        lights: changes by node path. templates: by name. added: lights by name.
        emitters: changes by material name.
        sight_boxes: where sight cells are finer.
        moves: small edits by node path. left_out: faces without a lightmap by node path.
        white: irradiance in lux that is white at the exposure kept for the project; 0: none is kept.
        tables: emitter tables, paths relative to the project; the first is the shared default.
        skies: by name; `sky` is the one in use.
        sets: named sets of density factors by node path.
        most_live: how many live lights may overlap.
        blend_distance: metres from the eye within which hybrid lights are live and the near set of pages counts.
        probes: where they stand.
        known: notes on findings that are fine here, by finding key.
        prints: shape and place of what is decided about, by node path, to find it again by another name.
        guard: no edits at all.
        sealed: meant to be sealed: leaks are looked for though the level seems open.
    """

    marks: dict[str, Mark] = field(default_factory=dict)
    branches: dict[str, Mark] = field(default_factory=dict)
    lights: dict[str, LightChange] = field(default_factory=dict)
    templates: dict[str, LightChange] = field(default_factory=dict)
    added: dict[str, AddedLight] = field(default_factory=dict)
    emitters: dict[str, EmitterChange] = field(default_factory=dict)
    moves: dict[str, Move] = field(default_factory=dict)
    left_out: dict[str, LeftOut] = field(default_factory=dict)
    tables: tuple[str, ...] = ()
    skies: dict[str, Sky] = field(default_factory=dict)
    sky: str = ""
    density_boxes: tuple[DensityBox, ...] = ()
    sight_boxes: tuple[SightBox, ...] = ()
    test_density: TrialDensity = field(default_factory=TrialDensity)
    sets: dict[str, dict[str, Factor]] = field(default_factory=dict)
    region: Region = field(default_factory=Region)
    most_live: Annotated[int, Field(ge=0, le=64)] = 4
    blend_distance: Annotated[float, Field(gt=0, le=100_000, allow_inf_nan=False)] = 30.0
    probes: ProbeSet = field(default_factory=ProbeSet)
    known: dict[str, str] = field(default_factory=dict)
    prints: dict[str, str] = field(default_factory=dict)
    white: Amount = 0.0
    guard: bool = False
    sealed: bool = False

    @property
    def sky_now(self) -> Sky:
        """The sky in use; a dark one if none is named."""
        return self.skies.get(self.sky, NO_SKY)

    def paths(self) -> set[str]:
        """Every node path that something is decided about."""
        return {*self.marks, *self.branches, *self.lights, *self.moves, *self.left_out}

    def named(self) -> set[str]:
        """Every name that may be a node's path: what something is decided about, what looks lit because of a light,
        what a note on a finding is about, and what a set of densities or a trial of one holds."""
        fixtures = {change.fixture for change in self.lights.values() if change.fixture}
        sets = {path for table in self.sets.values() for path in table}
        return {*self.paths(), *fixtures, *sets, *self.test_density.paths, *map(noted, self.known)} - {""}

    @property
    def looks(self) -> dict[str, Radiance]:
        """The radiance that glowing materials are seen with, by name, where it is not the level's own."""
        return {name: change.look for name, change in self.emitters.items() if change.look is not None}

    def light(self, path: str) -> LightChange:
        """The change of one light on top of its template."""
        own = self.lights.get(path)
        if own is None:
            return NO_CHANGE
        below = self.templates.get(own.template or "", NO_CHANGE)
        return own.over(below)


NOTED = re.compile(r"(?P<kind>\S+) (?P<about>.*?)(?P<place> @ [-\d.,]+)?")


def noted(key: str) -> str:
    """What a note on a finding is about, by its key: a kind, a name, and for a fault of light the place."""
    found = NOTED.fullmatch(key)
    return found["about"] if found is not None else ""


NO_SKY, NO_CHANGE, NO_BRIEF = Sky(), LightChange(), Brief()
ADAPTER = TypeAdapter(Brief)
ADDED = "added"  # group of the nodes of added lights


def to_values(brief: Brief) -> dict[str, Any]:
    """Plain values for TOML or JSON; defaults are left out."""
    values: dict[str, Any] = ADAPTER.dump_python(brief, mode="json", exclude_defaults=True)
    if "test_density" in values and "paths" in values["test_density"]:
        values["test_density"]["paths"].sort()
    found: dict[str, Any] = _without_none(values)
    return found


def _without_none(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _without_none(entry) for key, entry in value.items() if entry is not None}
    return value


class BriefError(ValueError):
    """A value of a brief is not usable.

    Attributes:
        key: where it stands, with dots.
        reason: why.
    """

    def __init__(self, key: str, reason: str) -> None:
        super().__init__(f"{key}: {reason}")
        self.key, self.reason = key, reason


def from_values(values: Any) -> Brief:
    """Back from `to_values`.

    Raises:
        BriefError: naming the first wrong key and what is wrong with it.
    """
    try:
        return ADAPTER.validate_python(values)
    except ValidationError as error:
        raise unusable(error) from error


def unusable(error: ValidationError) -> BriefError:
    """The first wrong value of a check, in our own words."""
    first = error.errors()[0]
    key = ".".join(_quoted(part) for part in first["loc"] if not str(part).startswith(("constrained", "function")))
    if first["type"] == "unexpected_keyword_argument":
        return BriefError(key, "there is no such setting")
    return BriefError(key, f"{first['input']!r} is not usable: {first['msg'].lower()}")


def _quoted(part: int | str) -> str:
    text = str(part)
    return text if re.fullmatch(r"[A-Za-z0-9_-]+", text) else f'"{text}"'
