"""What is known of a level's sight, as the window shows it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ropebell.app.reading import Opened
from ropebell.build.estimate import saved_without
from ropebell.checks.subject import Subject
from ropebell.level.left_out import left_out_faces
from ropebell.level.model import I64, Mask
from ropebell.light.workers import cores
from ropebell.sight.in_sight import InSight
from ropebell.sight.sight import Sight
from ropebell.sight.survey import in_any_pose, movable


@dataclass(frozen=True, eq=False)
class Looked:
    """What is known of a level's sight.

    Attributes:
        any_pose: things that move may stand in any of their poses. inside: faces by cells. faces: (n,) how many can be
            seen from each cell.
        hidden: (T,) faces that nobody can see and that have a lightmap, or had one before they were left out.
        left: (T,) those that are left out by now. saves: seconds of a build that leaving out the rest saves, foretold.
    """

    now: Opened
    sight: Sight
    any_pose: bool
    inside: InSight
    faces: I64
    hidden: Mask
    left: Mask
    saves: float

    @staticmethod
    def of(now: Opened, sight: Sight, any_pose: bool, rates: Mapping[str, float]) -> Looked:
        """All that the window shows of it."""
        scene, brief = now.scene, now.project.brief
        inside, left = InSight.of(sight, scene), left_out_faces(scene, brief)
        hidden = sight.unseen & scene.part & (~scene.bare | left) & bool(len(sight.middles))
        recipe, fresh = now.project.recipe, (hidden & ~left)[scene.part]
        saves = saved_without(now.baking, fresh, recipe, recipe.limits.workers or cores(), rates)
        return Looked(now, sight, any_pose, inside, inside.face_counts(), hidden, left, saves)

    @property
    def unseen(self) -> tuple[str, ...]:
        """Paths of objects with faces that nobody can see and that have a lightmap."""
        found = np.unique(self.now.scene.node[self.hidden & ~self.left])
        return tuple(self.now.scene.node_names[n] for n in found)

    @property
    def in_sight_again(self) -> int:
        """Faces that are left out though they can be seen."""
        return int((self.left & ~self.sight.unseen).sum())


def subject_of(now: Opened, any_pose: bool) -> Subject:
    """The level as sight is to look at it."""
    subject = now.gathered.subject
    return replace(subject, scene=in_any_pose(subject.scene, movable(subject.scene))) if any_pose else subject


def ground_of(now: Opened) -> tuple[Any, ...]:
    """What sight depends on, quickly compared: lights, colours and densities are none of it."""
    brief = now.project.brief
    places = tuple(sorted(brief.probes.placed.items()))
    cells = now.project.recipe.sight.cell, brief.sight_boxes
    return id(now.scene.corners), now.scene.marks.nodes, brief.region.start, places, brief.sealed, cells
