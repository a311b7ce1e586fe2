"""Checks of what is in the level: surfaces, light, size, materials."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ropebell.checks.before import BEFORE, GLOW, LIGHTS, SHAPES, SKY, strongest
from ropebell.checks.remedies import PLAIN_DAY
from ropebell.checks.subject import Subject, as_place
from ropebell.level.finding import Finding, from_notice
from ropebell.level.limits import MOST_LIGHT
from ropebell.level.placed_light import PlacedLight

# Real surfaces reflect no more: fresh snow, barium sulphate paint.
WHITEST = 0.9
# A level that is no wider was most likely not exported in metres.
SMALLEST = 1.0
# So few faces of so little of the level, on an object with so many others.
STRAY_FACES, STRAY_SHARE, STRAY_AMONG = 2, 1e-3, 10


@BEFORE.detector(
    {
        "animations": "Animated", "degenerate": "Faces without area", "missing-texture": "Picture missing",
        "too-far": "Too far from the origin", "unread-extension": "Part of the file not read",
    }
)  # fmt: skip
def told_by_the_reader(s: Subject) -> Iterator[Finding]:
    """What the reader of the file noticed."""
    yield from (from_notice(n) for n in (*s.level.notices, *s.baking.notices))


@BEFORE.detector({"no-surfaces": "No surfaces", "no-light": "No light at all"}, blocking=True)
def anything(s: Subject) -> Iterator[Finding]:
    """A level of which nothing can be baked."""
    scene = s.baking
    lit = any(light.intensity > 0 and max(light.color) > 0 for light in scene.lights)
    if not len(scene):
        yield Finding("no-surfaces", "error", "", *_why_nothing(s))
    elif not lit and not scene.emitters and max(s.sky) <= 0:
        reason = "Nothing gives light: no light is on, no surface glows and the sky is dark."
        remedy = "Add a light, a glowing material or a sky; one press gives it a plain day"
        yield Finding("no-light", "error", "", reason, remedy, None, PLAIN_DAY.of())


def _why_nothing(s: Subject) -> tuple[str, str]:
    """Why nothing of a level takes part in a build, and what to do."""
    if len(s.scene):
        count = len(np.unique(s.scene.node))
        reason = f"None of its {count} object{'s are' if count > 1 else ' is'} baked: marks leave out, or let move, all"
        return f"{reason} that has triangles.", "Let some of it be baked, on the Level step"
    kinds = {notice.kind for notice in s.level.notices} | {notice.kind for notice in s.baking.notices}
    if "degenerate" in kinds:
        return "All faces of the level are without area: corners lie in one place or on one line.", "Export it again"
    if "not-triangles" in kinds:
        return "The level has points or lines alone, and no faces.", "Export faces"
    if not any(node.mesh >= 0 for node in s.level.nodes):
        return "No node of the level has a mesh.", "Check what was exported"
    return "The level's meshes have no triangles.", "Check what was exported"


@BEFORE.detector({"scale": "Size of the level"})
def size(s: Subject) -> Iterator[Finding]:
    """A level that was probably not exported in metres."""
    low, high = s.baking.bounds()
    extent = float((high - low).max())
    if extent > 20_000:
        reason = f"The level is {extent:,.0f} m across; it was probably not exported in metres."
        yield Finding("scale", "warning", "", reason, "Export in metres")
    if 0 < extent < SMALLEST:
        reason = f"The level is {100 * extent:.1f} cm across; it was probably not exported in metres."
        yield Finding("scale", "warning", "", reason, "Export in metres")


@BEFORE.detector(
    {
        "transparency-solid": "Half transparent", "coordinate-set": "Coordinate set not read", "too-white": "Very white"
    }
)  # fmt: skip
def materials(s: Subject) -> Iterator[Finding]:
    """Materials that the light sees otherwise than the eye."""
    for number in np.unique(s.baking.material):
        m = s.level.materials[number]
        if m.alpha_mode == "BLEND":
            reason = f"Material '{m.name}' is half transparent; this engine lets no light through it."
            remedy = "Give it cut-outs (MASK), or let it block no light"
            yield Finding("transparency-solid", "warning", m.name, reason, remedy)
        if m.base_texture is not None and m.base_texture.texcoord > 1:
            reason = f"Material '{m.name}' reads coordinate set {m.base_texture.texcoord}; set 0 is used."
            yield Finding("coordinate-set", "warning", m.name, reason, "Use set 0 or 1")
        if min(m.base_color[:3]) > WHITEST and m.base_texture is None:
            reason = f"Material '{m.name}' reflects {100 * min(m.base_color[:3]):.0f} % of the light."
            yield Finding("too-white", "note", m.name, reason, "Real surfaces stay below 90 %")


@BEFORE.detector({"stray-material": "Stray material"}, SHAPES, GLOW)
def strays(s: Subject) -> Iterator[Finding]:
    """Materials that a face or two of one object have, and nothing else in the level: most likely a slip."""
    level, scene = s.level, s.baking
    if not len(scene):
        return
    faces = np.bincount(scene.material, minlength=len(level.materials))
    share = np.bincount(scene.material, scene.areas, len(level.materials)) / max(float(scene.areas.sum()), 1e-300)
    for number in np.flatnonzero((faces > 0) & (faces <= STRAY_FACES) & (share < STRAY_SHARE)):
        rows = np.flatnonzero(scene.material == number)
        nodes = np.unique(scene.node[rows])
        others = int((scene.node == nodes[0]).sum()) - len(rows)
        if len(nodes) > 1 or others < STRAY_AMONG:
            continue
        name, material = scene.node_names[nodes[0]], level.materials[number].name
        count = "A face has" if len(rows) == 1 else f"{len(rows)} faces have"
        reason = f"{count} the material '{material}', which nothing else in the level has."
        x, y, z = (round(float(v), 4) for v in scene.corners[rows[0]].mean(axis=0))
        yield Finding("stray-material", "note", name, reason, "Give them the material round them", (x, y, z))


@BEFORE.detector({"light-off": "Light is off"})
def lights_off(s: Subject) -> Iterator[Finding]:
    """Lights that give none."""
    for light in s.baking.lights:
        if light.aimed and _is_off(light):
            reason = f"Light '{light.name}' is off."
            yield Finding("light-off", "note", light.name, reason, "Nothing, if meant so", as_place(light.position))


@BEFORE.detector({"light-without-direction": "Light that points nowhere"})
def pointing_nowhere(s: Subject) -> Iterator[Finding]:
    """Lights that need a direction and whose node has lost it."""
    for light in s.baking.lights:
        if not light.aimed:
            reason = "Its node is scaled to nothing, so it has no direction; it gives no light."
            remedy = "Give the node a scale, or set a direction on the Lights step"
            yield Finding("light-without-direction", "error", light.name, reason, remedy, as_place(light.position))


@BEFORE.detector({"negative-light": "Negative light"}, blocking=True)
def negative_lights(s: Subject) -> Iterator[Finding]:
    """Lights of a colour below zero."""
    for light in s.baking.lights:
        if light.intensity > 0 and min(light.color) < 0:
            reason = f"Light '{light.name}' has a negative colour, which this engine cannot subtract."
            place = as_place(light.position)
            yield Finding("negative-light", "error", light.name, reason, "Give it a colour of 0 … 1", place)


def _is_off(light: PlacedLight) -> bool:
    return light.intensity <= 0 or (max(light.color) <= 0 <= min(light.color))


@BEFORE.detector({"too-strong": "Stronger than light can be"}, LIGHTS, GLOW, SKY, version=1, blocking=True)
def too_strong(s: Subject) -> Iterator[Finding]:
    """Lights, glowing surfaces and skies beyond the bounds within which a build can tell its light."""
    words = f"more than the {MOST_LIGHT:.0e} that a build can hold".replace("e+", "e")
    for light in s.scene.lights:
        most = strongest(light)
        if most > MOST_LIGHT:
            reason = f"Light '{light.name}' has a strength of {most:.3g}, {words}."
            remedy = "Give it a strength in candela or lux that lamps have"
            yield Finding("too-strong", "error", light.name, reason, remedy, as_place(light.position))
    for name, source in s.emission.items():
        if max(source.radiance) > MOST_LIGHT:
            reason = f"Material '{name}' glows with {max(source.radiance):.3g} cd/m², {words}."
            yield Finding("too-strong", "error", name, reason, "Give it a strength in cd/m² that surfaces have")
    if max(s.sky) > MOST_LIGHT:
        reason = f"The sky '{s.brief.sky}' has {max(s.sky):.3g} cd/m² in the mean, {words}."
        yield Finding("too-strong", "error", "", reason, "Look for single values in its picture that are no light")
