"""Settings that match nothing in the level: told, never dropped."""

from __future__ import annotations

from ropebell.level.brief import Brief
from ropebell.level.finding import Finding
from ropebell.level.model import Level


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
