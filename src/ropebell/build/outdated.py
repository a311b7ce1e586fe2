"""What of a level is no longer as a build has lit it: objects that came, moved or changed, and lights."""

from __future__ import annotations

from pathlib import Path

from ropebell.build.manifest import Manifest
from ropebell.build.precheck import gather
from ropebell.build.project import find_project
from ropebell.build.since import changed_since
from ropebell.build.stale import AsSet
from ropebell.checks.subject import as_place
from ropebell.errors import RopeBellError
from ropebell.level.finding import Finding
from ropebell.level.open import open_level

KIND = "stale-object"
REMEDY = "Light what changed"


def outdated(folder: Path, manifest: Manifest) -> list[Finding]:
    """One finding for each object and light that is not as it was built; none where its level cannot be read."""
    try:
        project = find_project(Path(manifest.level.file))
        gathered = gather(
            open_level(project.level), project.brief, project.recipe, project.sky, project.tables, manifest.scope.box
        )  # fmt: skip
        subject = gathered.subject
        since = changed_since(folder, gathered.source, gathered.scene, subject.baking, project)
    except (OSError, RopeBellError):
        return []
    number = {name: i for i, name in enumerate(gathered.scene.node_names)}
    found = []
    for name in since.objects:
        node = number[name]
        rows = gathered.scene.node == node
        place = None
        if rows.any():
            corners = gathered.scene.corners[rows].reshape(-1, 3)
            place = as_place((corners.min(axis=0) + corners.max(axis=0)) / 2)
        words = "It was added, moved or changed since this build, so its light is not that of now."
        found.append(_finding(name, words, place))
    shaded = "Its light is of an earlier build, and what stands in the way of it has changed since."
    found += [_finding(left.node, shaded, None) for left in manifest.left if left.node not in since.objects]
    now, then = AsSet.now(subject.baking, project), AsSet.built(manifest)
    odd = {n for n in now.lights.keys() | then.lights.keys() if now.lights.get(n) != then.lights.get(n)}
    if now.footing == then.footing:
        odd |= {n for n in now.shapes.keys() & then.shapes.keys() if now.shapes[n] != then.shapes[n]}
    where = {light.name: as_place(light.position) for light in gathered.scene.lights}
    for name in sorted(odd):
        words = "It is not there any more." if name not in now.lights else "It was added or changed since this build."
        found.append(_finding(name, words, where.get(name)))
    return found


def _finding(name: str, reason: str, place: tuple[float, float, float] | None) -> Finding:
    return Finding(KIND, "note", name, reason, REMEDY, place, area=None, measure=(1.0, "count"), proved=True)
