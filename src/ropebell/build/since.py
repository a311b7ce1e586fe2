"""What changed on a level since an earlier build, object by object: what a part build has to light anew."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ropebell.build.carry import carry
from ropebell.build.project import Project
from ropebell.build.result import open_result
from ropebell.build.stale import WORDS_OF_A_MARK, AsSet, changes_between
from ropebell.level.arrange import marks_in_force
from ropebell.level.brief import Brief, Mark
from ropebell.level.density import box_factors
from ropebell.level.model import Level
from ropebell.level.scene import Scene

# Of what `changes_between` tells: what concerns objects alone. All else changes light everywhere.
OF_OBJECTS = {"marks", "level"}


@dataclass(frozen=True)
class Since:
    """What is different from an earlier build.

    Attributes:
        objects: paths of objects that came, moved, or are marked otherwise.
        gone: whether anything is no longer there.
        everywhere: what changes light everywhere, in words, such as "2 lights".
    """

    objects: tuple[str, ...]
    gone: bool
    everywhere: tuple[str, ...]

    @property
    def nothing(self) -> bool:
        """Whether a build would come out as that one."""
        return not (self.objects or self.gone or self.everywhere)

    @property
    def part(self) -> bool:
        """Whether lighting the objects alone makes sense."""
        return bool(self.objects) and not self.everywhere


def changed_since(base: Path, source: Level, scene: Scene, baking: Scene, project: Project) -> Since:
    """Compare a level as it is now with a finished build.

    Args:
        source: the level as its file has it. scene: everything that is placed; baking: what is built.
        project: with the recipe and sky of now.

    Raises:
        ProjectError, LevelError: the build cannot be read.
    """
    result = open_result(base)
    manifest = result.manifest
    carried = carry(result, scene)
    changes = changes_between(AsSet.now(baking, project), AsSet.built(manifest))
    marked = _marked_otherwise(source, project.brief, manifest.brief)
    known = set(scene.node_names)
    boxed = _boxed_otherwise(scene, project.brief, manifest.brief)
    objects = dict.fromkeys([*carried.fresh, *(path for path in [*marked, *boxed] if path in known)])
    return Since(tuple(objects), bool(len(carried.gone)), tuple(c for c in changes if c not in OF_OBJECTS))


def _marked_otherwise(level: Level, now: Brief, then: Brief) -> list[str]:
    """Paths of nodes whose marks in force say anything else that light depends on."""
    pairs = zip(level.nodes, marks_in_force(level, now).nodes, marks_in_force(level, then).nodes)
    return [node.path for node, mine, theirs in pairs if _of_light(mine) != _of_light(theirs)]


def _boxed_otherwise(scene: Scene, now: Brief, then: Brief) -> list[str]:
    """Paths of objects to whose faces density boxes give another factor."""
    if now.density_boxes == then.density_boxes or not len(scene):
        return []
    middle = scene.corners.mean(axis=1)
    other = box_factors(middle, now.density_boxes) != box_factors(middle, then.density_boxes)
    other &= scene.part & ~scene.bare if len(scene.bare) else scene.part
    return [scene.node_names[node] for node in np.unique(scene.node[other]).tolist()]


def _of_light(mark: Mark) -> dict[str, object]:
    return {key: value for key, value in vars(mark).items() if key not in WORDS_OF_A_MARK}
