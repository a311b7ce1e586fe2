"""Checks of what is in the level: surfaces, light, size, materials."""

from __future__ import annotations

import numpy as np

from ropebell.level.finding import Finding, from_notice
from ropebell.level.model import Level
from ropebell.level.scene import Scene

# So few faces of so little of the level, on an object with so many others.
STRAY_FACES, STRAY_SHARE, STRAY_AMONG = 2, 1e-3, 10


def contents(level: Level, scene: Scene, sky: tuple[float, float, float]) -> list[Finding]:
    """What the files themselves tell, and whether anything can be lit at all.

    Args:
        sky: radiance in cd/m² of the uniform sky.
    """
    found = [from_notice(n) for n in (*level.notices, *scene.notices)]
    found += _anything(scene, sky) + _size(scene) + _materials(level, scene) + _lights(scene) + strays(level, scene)
    return found


def _anything(scene: Scene, sky: tuple[float, float, float]) -> list[Finding]:
    if not len(scene):
        return [Finding("no-surfaces", "error", "", "The level has no triangles.", "Check what was exported")]
    lit = any(light.intensity > 0 and max(light.color) > 0 for light in scene.lights)
    if not lit and not scene.emitters and max(sky) <= 0:
        reason = "Nothing gives light: no light is on, no surface glows and the sky is dark."
        return [Finding("no-light", "error", "", reason, "Add a light, a glowing material or a sky")]
    return []


def _size(scene: Scene) -> list[Finding]:
    low, high = scene.bounds()
    extent = float((high - low).max())
    if extent > 20_000:
        reason = f"The level is {extent:,.0f} m across; it was probably not exported in metres."
        return [Finding("scale", "warning", "", reason, "Export in metres")]
    if 0 < extent < 0.2:
        reason = f"The level is {100 * extent:.1f} cm across; it was probably not exported in metres."
        return [Finding("scale", "warning", "", reason, "Export in metres")]
    return []


def _materials(level: Level, scene: Scene) -> list[Finding]:
    found = []
    used = set(np.unique(scene.material)) if len(scene) else set()
    for number in sorted(used):
        m = level.materials[number]
        if m.alpha_mode == "BLEND":
            reason = f"Material '{m.name}' is half transparent; this engine lets no light through it."
            remedy = "Give it cut-outs (MASK), or let it block no light"
            found.append(Finding("transparency-solid", "warning", m.name, reason, remedy))
        if m.base_texture is not None and m.base_texture.texcoord > 1:
            reason = f"Material '{m.name}' reads coordinate set {m.base_texture.texcoord}; set 0 is used."
            found.append(Finding("coordinate-set", "warning", m.name, reason, "Use set 0 or 1"))
        if min(m.base_color[:3]) >= 0.98 and m.base_texture is None:
            reason = f"Material '{m.name}' reflects {100 * min(m.base_color[:3]):.0f} % of the light."
            found.append(Finding("too-white", "note", m.name, reason, "Real surfaces stay below 90 %"))
    return found


def strays(level: Level, scene: Scene) -> list[Finding]:
    """Materials that a face or two of one object have, and nothing else in the level: most likely a slip."""
    if not len(scene):
        return []
    found = []
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
        found.append(Finding("stray-material", "note", name, reason, "Give them the material round them", (x, y, z)))
    return found


def _lights(scene: Scene) -> list[Finding]:
    found = []
    for light in scene.lights:
        place = (float(light.position[0]), float(light.position[1]), float(light.position[2]))
        if light.intensity <= 0 or max(light.color) <= 0:
            reason = f"Light '{light.name}' is off."
            found.append(Finding("light-off", "note", light.name, reason, "Nothing, if meant so", place))
        elif min(light.color) < 0:
            reason = f"Light '{light.name}' has a negative colour, which this engine cannot subtract."
            found.append(Finding("negative-light", "error", light.name, reason, "Give it a colour of 0 … 1", place))
    return found
