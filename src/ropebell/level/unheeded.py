"""What a brief asks that the engine does not do yet, and settings that match nothing: told, never ignored."""

from __future__ import annotations

from collections.abc import Iterator

from ropebell.level.brief import Brief
from ropebell.level.finding import Finding
from ropebell.level.model import Level
from ropebell.level.scene import Scene

SETTING = "unheeded-setting"


def unheeded(scene: Scene) -> list[Finding]:
    """Findings for settings in force that this version builds as if they were not there."""
    return list(_lights(scene))


def _finding(where: str, what: str, instead: str) -> Finding:
    reason = f"{what}; this version {instead}."
    return Finding(SETTING, "warning", where, reason, "Judge the result with that in mind")


def _lights(scene: Scene) -> Iterator[Finding]:
    for light in scene.lights:
        if light.mode == "hybrid":
            yield _finding(light.name, "The light is hybrid", "bakes all of it into one set of pages")


def unmatched(level: Level, brief: Brief) -> list[Finding]:
    """Findings for settings whose node or material is not in the level; they are kept."""
    known = {node.path for node in level.nodes}
    materials = {material.name for material in level.materials}
    lost = sorted(brief.paths() - known) + sorted(brief.emitters.keys() - materials)
    remedy = "Rename it back, or drop the setting"
    return [
        Finding("unmatched-mark", "note", name, f"A setting is kept for '{name}', which is not in the level.", remedy)
        for name in lost
    ]
