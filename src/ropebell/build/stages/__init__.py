"""The stages of a build, in working order. A stage is added by a module of its own and its place in this table."""

from __future__ import annotations

from typing import Any

from ropebell.build.stage import Inputs, Names, Stage, names_of
from ropebell.build.stages.charts import CHARTS, ground_of
from ropebell.build.stages.check import CHECK
from ropebell.build.stages.direct import DIRECT
from ropebell.build.stages.finish import FINISH
from ropebell.build.stages.footing import FOOTING
from ropebell.build.stages.inspect import INSPECT
from ropebell.build.stages.probes import PROBES
from ropebell.build.stages.rewrite import REWRITE
from ropebell.build.stages.scene import SCENE
from ropebell.build.stages.sight import SIGHT
from ropebell.build.stages.solve import SOLVE
from ropebell.build.stages.surfaces import SURFACES
from ropebell.build.stages.transport import TRANSPORT
from ropebell.build.stages.write import WRITE

__all__ = [
    "CHARTS",
    "DIRECT",
    "FINISH",
    "FOOTING",
    "PROPERTIES_ALONE",
    "STAGES",
    "TRANSPORT",
    "WORDS",
    "WRITE",
    "digests",
]

STAGES: tuple[Stage[Any], ...] = (
    SCENE,
    CHECK,
    SIGHT,
    CHARTS,
    FOOTING,
    DIRECT,
    SURFACES,
    TRANSPORT,
    SOLVE,
    FINISH,
    PROBES,
    INSPECT,
    WRITE,
)
# Of a build that lights nothing.
PROPERTIES_ALONE: tuple[Stage[Any], ...] = (SCENE, REWRITE)
WORDS = {stage.name: stage.words for stage in STAGES}


def digests(inputs: Inputs) -> Names:
    """The artifacts of a scene and recipe: what each stage depends on, and nothing else.

    Strengths and colours of lights, albedo, radiance, sky, bounces, gain: none of them is in any name, so changing
    them re-uses every artifact.
    """
    return names_of(STAGES, inputs, Names(ground_of(inputs.scene, inputs.recipe)))
