"""Read the level, its marks and its tables, and place everything."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from ropebell.build.precheck import Gathered, gather
from ropebell.build.speed import Speed
from ropebell.build.stage import Size, Stage, Work
from ropebell.level.open import open_level
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace
from ropebell.light.surface import Surface


@dataclass(frozen=True)
class Placed:
    """A level in its place; what rays meet is made once it is known that there is anything."""

    gathered: Gathered

    @property
    def scene(self) -> Scene:
        """What is lit."""
        return self.gathered.subject.baking

    @cached_property
    def space(self) -> RaySpace:
        """What rays meet: casters, with their holes."""
        scene = self.scene
        if (len(scene.casts) and not scene.casts.all()) or scene.cutouts is not None:
            return RaySpace(scene.corners, scene.casts, scene.cutouts)
        return self.gathered.subject.space

    @cached_property
    def surface(self) -> Surface:
        """What rays start from."""
        return Surface.of(self.scene, self.space)


def _run(work: Work) -> Placed:
    r = work.request
    with work.log.stage(SCENE.name):
        source = open_level(r.level)
        placed = Placed(gather(source, r.brief, r.recipe, r.sky, r.tables, r.scope.box, work.store))
        work.progress.stage(SCENE.name)(1.0)
    return placed


def _predict(size: Size, _speed: Speed) -> float:
    return 0.1 + size.triangles / 1e6


SCENE = Stage("scene", "Read the level", _run, _predict)
