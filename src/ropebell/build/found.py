"""The findings of a finished build, beside those of the one before it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from ropebell.build.manifest import MANIFEST, Manifest, read_manifest
from ropebell.build.outdated import outdated
from ropebell.build.project import PROJECT_FILE, load_project
from ropebell.errors import RopeBellError
from ropebell.faults.over_builds import Seen, over_builds
from ropebell.level.finding import Finding
from ropebell.level.gltf_read import read_gltf


def of_light(manifest: Manifest) -> list[Finding]:
    """What was found in a build's light."""
    return [f for f in manifest.findings if f.proved is not None]


def told_everywhere(manifest: Manifest) -> bool:
    """Whether a build tells of its whole level: a part build does if the rest is another's light."""
    scope = manifest.scope
    return scope.everywhere or (scope.since is not None and scope.box is None)


def looked_through(manifest: Manifest) -> bool:
    """Whether a build's light was looked through for faults: older versions did not."""
    return "inspect" in manifest.seconds or any(f.proved is not None for f in manifest.findings)


def earlier_build(folder: Path) -> Path | None:
    """The finished build before this one in its project, None if it is the first or stands alone."""
    if not folder.name.isdigit():
        return None
    older = [p for p in folder.parent.iterdir() if p.name.isdigit() and int(p.name) < int(folder.name)]
    older = [p for p in older if (p / MANIFEST).is_file()]
    return max(older, key=lambda p: int(p.name), default=None)


def found_in(folder: Path, since: Path | None = None) -> tuple[Manifest, Seen]:
    """A build's findings, with what became of those of another.

    Args:
        since: the build before; None: the one before it on its rope, if it is on one.

    Raises:
        ProjectError: one of the builds is not done, or damaged.
    """
    from ropebell.build.outputs import BAKED_LEVEL  # it brings the whole way out along

    manifest = read_manifest(folder)
    since = since if since is not None else earlier_build(folder)
    then = read_manifest(since) if since is not None else None
    before = of_light(then) if then is not None and looked_through(then) else None
    objects = {node.path for node in read_gltf(folder / BAKED_LEVEL).nodes} if before else set()
    found = [*of_light(manifest), *outdated(folder, manifest)]
    return manifest, over_builds(found, before, _known(folder, manifest), objects, told_everywhere(manifest))


def _known(folder: Path, manifest: Manifest) -> Mapping[str, str]:
    """Notes on what is fine: as the project has them now, or as they were when it was built."""
    try:
        return load_project(folder.absolute().parent.parent / PROJECT_FILE).brief.known
    except (OSError, RopeBellError):
        return manifest.brief.known
