"""Pure steps from one brief to the next that concern lights: settings, templates, lights that are added."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import fields, replace
from typing import Any

import numpy as np
from pydantic import ValidationError

from ropebell.level.brief import ADDED, NO_CHANGE, AddedLight, Brief, LightChange, unusable
from ropebell.level.placed_light import PlacedLight
from ropebell.level.scene import Scene
from ropebell.level.triangles import corner_bounds

# What a new light is until it is set: cd with a reach in metres, or lux for a sun.
NEW_CANDELA, NEW_REACH, NEW_LUX = 100.0, 10.0, 5000.0
NEW_SHAPES: dict[str, dict[str, Any]] = {
    "rectangle": {"width": 1.0, "height": 0.5}, "disk": {"size": 0.3}, "tube": {"width": 1.2, "size": 0.02},
}  # fmt: skip
# A copy stands this many metres beside its original, so that both can be seen.
COPY_APART = 0.5


def with_light(brief: Brief, path: str, change: LightChange) -> Brief:
    """With all settings of one light replaced; a change that says nothing is dropped."""
    lights = {name: value for name, value in brief.lights.items() if name != path}
    return replace(brief, lights={**lights, path: change} if change != LightChange() else lights)


def with_settings(brief: Brief, paths: Iterable[str], **values: Any) -> Brief:
    """With some settings of lights changed, their others kept.

    Args:
        values: fields of `LightChange`; None leaves a setting to the template or the level.

    Raises:
        BriefError: for a value out of its range.
    """
    try:
        for path in paths:
            brief = with_light(brief, path, replace(brief.lights.get(path, NO_CHANGE), **values))
    except ValidationError as error:
        raise unusable(error) from error
    return brief


def without_changes(brief: Brief, paths: Iterable[str]) -> Brief:
    """With these lights as the level has them."""
    for path in paths:
        brief = with_light(brief, path, LightChange())
    return brief


def following(brief: Brief, paths: Iterable[str], template: str | None) -> Brief:
    """With lights that follow a template, None for none: own values that would hide the template's go."""
    said = (
        {f.name for f in fields(LightChange) if getattr(brief.templates[template], f.name) is not None}
        if template
        else set()
    )
    cleared: dict[str, Any] = {key: None for key in said - {"enabled"}}
    return with_settings(brief, paths, **{**cleared, "template": template})


def template_of(light: PlacedLight, brief: Brief) -> LightChange:
    """What a light is now, without what belongs to it alone: its place, fixture, note, and whether it is on."""
    own = brief.light(light.name)
    return replace(
        own, intensity=light.intensity if own.enabled else own.intensity, color=light.color,
        reach=light.reach or 0.0, position=None, direction=None, fixture=None, template=None, note=None, work=None,
        enabled=True,
    )  # fmt: skip


def with_template(brief: Brief, name: str, light: PlacedLight) -> Brief:
    """With a template made of a light, or made anew; the light follows it, and so do all that did."""
    made = replace(brief, templates={**brief.templates, name: template_of(light, brief)})
    own = brief.lights.get(light.name, NO_CHANGE)
    return with_light(
        made, light.name,
        LightChange(
            template=name, position=own.position, direction=own.direction, fixture=own.fixture, note=own.note,
            work=own.work, enabled=own.enabled,
        ),
    )  # fmt: skip


def free_name(brief: Brief, stem: str) -> str:
    """A name for an added light that is not taken: the stem and the lowest number from 1."""
    return next(name for n in range(1, len(brief.added) + 2) if (name := f"{stem} {n}") not in brief.added)


def with_added(brief: Brief, name: str, kind: str, place: tuple[float, float, float]) -> Brief:
    """With a new light.

    Args:
        kind: of `AddedLight`. place: metres.
    """
    sun, shape = kind == "directional", NEW_SHAPES.get(kind, {})
    reach = None if sun or shape else NEW_REACH
    change = LightChange(intensity=NEW_LUX if sun else NEW_CANDELA, reach=reach, **shape)
    added = AddedLight(kind, place)  # type: ignore[arg-type]
    return replace(
        brief, added={**brief.added, name: added}, lights={**brief.lights, f"{ADDED}/{name}": change}
    )  # fmt: skip


def with_copy(brief: Brief, name: str, light: PlacedLight) -> Brief:
    """With a light that is as another one is now, a little beside it; it stays so when the other changes."""
    kept = replace(
        brief.light(light.name), intensity=light.intensity, color=light.color, reach=light.reach or 0.0, position=None,
        direction=None, outer_cone=math.degrees(light.outer_cone), inner_cone=math.degrees(light.inner_cone),
    )  # fmt: skip
    place = plain(light.position + [COPY_APART, 0.0, 0.0])
    added = AddedLight(light.kind, place, plain(light.direction))  # type: ignore[arg-type]
    return replace(brief, added={**brief.added, name: added}, lights={**brief.lights, f"{ADDED}/{name}": kept})


def without_added(brief: Brief, paths: Iterable[str]) -> Brief:
    """Without these added lights; lights of the level stay, they can only be switched off."""
    gone = {path for path in paths if path.startswith(f"{ADDED}/")}
    return replace(
        brief, added={name: light for name, light in brief.added.items() if f"{ADDED}/{name}" not in gone},
        lights={path: change for path, change in brief.lights.items() if path not in gone},
    )  # fmt: skip


def nearest_objects(scene: Scene, light: PlacedLight, most: int = 8) -> list[str]:
    """Paths of the small objects nearest to a light, nearest first: what might be its fixture."""
    if not len(scene):
        return []
    count = len(scene.node_names)
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    lowest, highest = corner_bounds(scene.corners)
    np.minimum.at(low, scene.node, lowest)
    np.maximum.at(high, scene.node, highest)
    there = np.flatnonzero(np.isfinite(low).all(axis=1))
    low, high = low[there], high[there]
    away = np.linalg.norm(np.maximum(np.maximum(low - light.position, light.position - high), 0), axis=1)
    # A wall is near to every lamp; size counts against an object.
    order = np.argsort(away + 0.2 * (high - low).max(axis=1), kind="stable")
    return [scene.node_names[n] for n in there[order[:most]]]


def plain(point: Any) -> tuple[float, float, float]:
    """A place as a brief holds it: three floats, to a tenth of a millimetre."""
    x, y, z = (round(float(v), 4) for v in point)
    return (x, y, z)
