"""What can be done about a finding in one act: pure steps from one brief to the next, so that they can be undone.

A finding names its remedy and what it is done to, such as `("leave-out", "hall/crate")`; what that does, and the words
on its button, stand here and nowhere else.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ropebell.level.arrange import transform
from ropebell.level.brief import (
    ADDED,
    NO_MARK,
    AddedLight,
    Brief,
    EmitterChange,
    LightChange,
    Mark,
    Move,
    Sky,
    TrialDensity,
)  # fmt: skip
from ropebell.level.finding import Finding
from ropebell.level.renamed import with_renamed, without

# A clear day: cd/m² of the sky's mean, lux of the sun on a surface facing it, and degrees of half its disk.
SKY_RADIANCE = (2400.0, 3000.0, 4200.0)
SUN_LUX, SUN_COLOR, SUN_RADIUS, SUN_WAY = 60_000.0, (1.0, 0.95, 0.86), 0.27, (-0.45, -1.0, -0.3)
Args = tuple[str, ...]
Fix = tuple[str, ...]
"""Name of a remedy, and what it is done to; empty where there is none."""


@dataclass(frozen=True)
class Remedy:
    """One remedy.

    Attributes:
        name: in findings. words: on a button, two to five; `many` where it is done to several objects.
        change: the brief after it. spoils: what it makes worse elsewhere, a clause; empty: nothing.
    """

    name: str
    words: str
    change: Callable[[Brief, Args], Brief]
    many: str = ""
    spoils: str = ""

    def of(self, *to: str) -> Fix:
        """To be put into a finding."""
        return (self.name, *to)


def _marking(name: str, words: str, key: str, value: Any, many: str = "", spoils: str = "") -> Remedy:
    """A remedy that sets one mark of some objects."""
    return Remedy(name, words, lambda brief, paths: with_marks(brief, paths, key, value), many, spoils)


def _lighting(name: str, words: str, **values: Any) -> Remedy:
    """A remedy that changes one light."""

    def change(brief: Brief, args: Args) -> Brief:
        (path,) = args
        return _with_light(brief, path, **values)

    return Remedy(name, words, change)


def _pose(brief: Brief, args: Args) -> Brief:
    path, pose = args
    return with_marks(brief, (path,), "pose", pose)


def _move(brief: Brief, args: Args) -> Brief:
    path, value = args
    shift, turn, scale = json.loads(value)
    moved = replace(brief.moves.get(path, Move()), move=tuple(shift), turn=tuple(turn), scale=scale)
    return replace(brief, moves={**brief.moves, path: moved})


def _thicken(brief: Brief, args: Args) -> Brief:
    """So many times as thick along one of an object's own axes, about its middle there, in metres of its own frame."""
    path, axis, times, middle = args
    along = np.eye(3)["XYZ".index(axis)]
    before = brief.moves.get(path, Move())
    # What is stretched first is then scaled, turned and shifted as before.
    shift = np.array(before.move) + transform(before)[:3, :3] @ (along * (1.0 - float(times)) * float(middle))
    x, y, z = (round(float(v), 9) for v in shift)
    a, b, c = (float(s * (float(times) if on else 1.0)) for s, on in zip(before.stretch, along))
    return replace(brief, moves={**brief.moves, path: replace(before, move=(x, y, z), stretch=(a, b, c))})


def _drop_table(brief: Brief, args: Args) -> Brief:
    return replace(brief, tables=tuple(t for t in brief.tables if t not in args))


def _own_density(brief: Brief, _args: Args) -> Brief:
    return replace(brief, test_density=TrialDensity(brief.test_density.factor))


def _sky_counts(brief: Brief, _args: Args) -> Brief:
    return replace(brief, skies={**brief.skies, brief.sky: replace(brief.sky_now, counts=True)})


def _plain_day(brief: Brief, _args: Args) -> Brief:
    """A clear sky of one colour and a sun, under names that nothing has yet."""
    sky, sun = _free("plain day", brief.skies), _free("sun", brief.added)
    light = LightChange(intensity=SUN_LUX, color=SUN_COLOR, size=SUN_RADIUS)
    return replace(
        brief, sky=sky, skies={**brief.skies, sky: Sky(SKY_RADIANCE)},
        added={**brief.added, sun: AddedLight("directional", (0.0, 10.0, 0.0), SUN_WAY)},
        lights={**brief.lights, f"{ADDED}/{sun}": light},
    )  # fmt: skip


def _free(name: str, taken: Mapping[str, object]) -> str:
    return next(n for n in (name, *(f"{name} {k}" for k in range(2, len(taken) + 3))) if n not in taken)


def _rename(brief: Brief, args: Args) -> Brief:
    before, now = args
    return with_renamed(brief, before, now)


def _drop_settings(brief: Brief, args: Args) -> Brief:
    (path,) = args
    return without(brief, path)


def _lightmaps_back(brief: Brief, args: Args) -> Brief:
    return replace(brief, left_out={path: left for path, left in brief.left_out.items() if path not in args})


def _raise_density(brief: Brief, args: Args) -> Brief:
    """So many times as many texels per metre as the object has by its own mark."""
    path, times = args
    before = brief.marks.get(path, NO_MARK).density or 1.0
    return with_marks(brief, (path,), "density", round(min(max(before * float(times), 1 / 64), 64.0), 3))


def _level_density(brief: Brief, args: Args) -> Brief:
    return with_marks(with_marks(brief, args, "density", 1.0), args, "bias", {})


def place_words(place: Iterable[float]) -> str:
    """A place as remedies are told it: to a millimetre even a kilometre from the origin."""
    return ",".join(f"{v:.7g}" for v in place)


def _three(words: str) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in words.split(","))
    return x, y, z


def _place_probe(brief: Brief, args: Args) -> Brief:
    """A probe of a free name at a place."""
    placed = brief.probes.placed
    return replace(brief, probes=replace(brief.probes, placed={**placed, _free("probe", placed): _three(args[0])}))


def _count_emitter(brief: Brief, args: Args) -> Brief:
    """Let a material give the light that it is seen with."""
    (name, *radiance) = args
    change = replace(brief.emitters.get(name, EmitterChange()), counts=None)
    if radiance:
        change = replace(change, radiance=_three(radiance[0]))
    emitters = {k: v for k, v in brief.emitters.items() if k != name}
    return replace(brief, emitters=emitters if change == EmitterChange() else {**emitters, name: change})


def _with_light(brief: Brief, path: str, **values: Any) -> Brief:
    return replace(brief, lights={**brief.lights, path: replace(brief.lights.get(path, LightChange()), **values)})


def _dim(brief: Brief, args: Args) -> Brief:
    path, intensity = args
    return _with_light(brief, path, intensity=float(intensity))


def _move_light(brief: Brief, args: Args) -> Brief:
    path, place = args
    return _with_light(brief, path, position=_three(place))


def _reach(brief: Brief, args: Args) -> Brief:
    path, metres = args
    return _with_light(brief, path, reach=float(metres))


def _helper(brief: Brief, args: Args) -> Brief:
    """A small baked lamp at a place, of so many candela and metres of reach, for what is named."""
    place, candela, metres, whom = args
    name = _free("helper", brief.added)
    light = LightChange(intensity=float(candela), reach=float(metres), note=f"Helper light for {whom}")
    return replace(
        brief, added={**brief.added, name: AddedLight("point", _three(place))},
        lights={**brief.lights, f"{ADDED}/{name}": light},
    )  # fmt: skip


LEAVE_OUT = _marking("leave-out", "Leave it out", "role", "left-out", "Leave them out")
UNWRAP = _marking("unwrap", "Unwrap it for good", "unwrap", True)
TWO_SIDED = _marking("two-sided", "Make it two-sided", "two_sided", True)
LEVEL_DENSITY = Remedy(
    "level-density", "Give it the level's density", _level_density, "Give both the level's density"
)  # fmt: skip
TURN_FACES = _marking("turn-faces", "Turn its faces round", "turned", True)
MARK_MOVING = _marking("mark-moving", "Mark what blocks it as moving", "role", "moving")
RAISE_DENSITY = Remedy("raise-density", "Raise the density here", _raise_density)
PLACE_PROBE = Remedy("place-probe", "Place a probe here", _place_probe)
COUNT_EMITTER = Remedy("count-emitter", "Count it as an emitter", _count_emitter)
DIM = Remedy("dim", "Dim it", _dim)
BLOCK_SIGHT = _marking("block-sight", "Let it block sight", "blocks_sight", True)
PASS_SIGHT = _marking("pass-sight", "Let it not block sight", "blocks_sight", False)
LIGHTMAPS_BACK = Remedy("lightmaps-back", "Give it its lightmap back", _lightmaps_back)
CLEAR_BIAS = _marking("clear-bias", "Clear the bias", "bias", {})
USUAL_POSE = Remedy("usual-pose", "Bake the usual pose", _pose)
SWITCH_OFF = _lighting("switch-off", "Switch it off", enabled=False)
BAKE = _lighting("bake", "Bake it", mode="baked")
OWN_DENSITY = Remedy("own-density", "Own density again", _own_density)
DROP_TABLE = Remedy("drop-table", "Take it off the list", _drop_table)
SKY_COUNTS = Remedy("sky-counts", "Let it count", _sky_counts)
PLAIN_DAY = Remedy("plain-day", "Give it a sky and a sun", _plain_day)
MOVE = Remedy("move", "Move it onto the grid", _move)
DROP_SETTINGS = Remedy("drop-settings", "Drop the setting", _drop_settings)
RENAME = Remedy("rename", "Take it over", _rename)
THICKEN = Remedy(
    "thicken", "Make the wall thicker", _thicken,
    spoils="it then stands out further on both sides: do the same in the level's source",
)  # fmt: skip
MOVE_LIGHT = Remedy("move-light", "Move it into the open", _move_light)
REACH = Remedy("reach", "Let it reach further", _reach)
HELPER_LIGHT = Remedy(
    "helper-light", "Add a helper light below it", _helper,
    spoils="the helper also lights what is around it, and is seen to where players can look below",
)  # fmt: skip
CAST_NO_SHADOW = _marking(
    "cast-no-shadow", "Let what blocks cast none", "casts", False, spoils="light then passes through it everywhere"
)
TAKE_NO_SHADOW = _marking(
    "take-no-shadow", "Light it without shadow", "receives", False,
    spoils="lamps in reach then light it through walls, too",
)  # fmt: skip
ALL = (
    LEAVE_OUT, UNWRAP, TWO_SIDED, LEVEL_DENSITY, BLOCK_SIGHT, PASS_SIGHT, CLEAR_BIAS, USUAL_POSE, SWITCH_OFF, BAKE,
    OWN_DENSITY, DROP_TABLE, SKY_COUNTS, PLAIN_DAY, MOVE, DROP_SETTINGS, RENAME, TURN_FACES, MARK_MOVING,
    RAISE_DENSITY, PLACE_PROBE, COUNT_EMITTER, DIM, LIGHTMAPS_BACK, THICKEN, MOVE_LIGHT, REACH, HELPER_LIGHT,
    CAST_NO_SHADOW, TAKE_NO_SHADOW,
)  # fmt: skip
BY_NAME = {remedy.name: remedy for remedy in ALL}


def apply_fix(brief: Brief, finding: Finding) -> Brief:
    """The brief with a finding's remedy applied.

    Raises:
        ValueError: the finding has none, or one that is unknown or told too little.
    """
    if not finding.fix:
        raise ValueError(f"{finding.kind} has no remedy that could be applied")
    name, *to = finding.fix
    if name not in BY_NAME:
        raise ValueError(f"there is no remedy '{name}'")
    return BY_NAME[name].change(brief, tuple(to))


def alternatives(finding: Finding) -> list[Finding]:
    """A finding with each of the other things that can be done about it."""
    return [replace(finding, fix=fix, others=()) for fix in finding.others]


def spoils(finding: Finding) -> str:
    """What a finding's remedy makes worse elsewhere, a clause; empty: nothing."""
    remedy = BY_NAME.get(finding.fix[0]) if finding.fix else None
    return remedy.spoils if remedy is not None else ""


def act(finding: Finding) -> str:
    """What a finding's button does, in two to five words; empty where it has none."""
    remedy = BY_NAME.get(finding.fix[0]) if finding.fix else None
    if remedy is None:
        return ""
    return remedy.many if remedy.many and len(finding.fix) > 2 else remedy.words


def with_marks(brief: Brief, paths: tuple[str, ...], key: str, value: Any, branch: bool = False) -> Brief:
    """One setting of many objects changed; marks that then say nothing are dropped.

    Args:
        value: None leaves the setting to what is above again.
        branch: for everything below as well.
    """
    table = dict(brief.branches if branch else brief.marks)
    for path in paths:
        mark: Mark = replace(table.get(path, NO_MARK), **{key: value})
        if mark == NO_MARK:
            table.pop(path, None)
        else:
            table[path] = mark
    return replace(brief, branches=table) if branch else replace(brief, marks=table)


def with_density_set(brief: Brief, name: str) -> Brief:
    """Every object's own factor as the set has it; objects that are not in the set get none."""
    factors = brief.sets.get(name, {})
    for path in {p for p, m in brief.marks.items() if m.density is not None} | factors.keys():
        brief = with_marks(brief, (path,), "density", factors.get(path))
    return brief
