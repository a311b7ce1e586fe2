"""What a part build leaves as it was though it cannot be right any more: the old shadow of a moved thing on others."""

from __future__ import annotations

import numpy as np

from ropebell.build.composing import Base
from ropebell.build.manifest import LeftStale
from ropebell.build.outputs import Built
from ropebell.level.model import Mask
from ropebell.light.affected import Change, shaded_by_emitter, shaded_by_light
from ropebell.light.near import TexelBlocks

# Objects that are named, those with most of it first.
MOST_NAMED = 24


def left_stale(base: Base, built: Built, lit: Mask) -> tuple[LeftStale, ...]:
    """Objects with texels that were not lit and before which something came, or from before which something went, on
    the way of direct light. What is thrown back changes more widely, and less.

    Args:
        lit: (N,) bool.
    """
    scene, surface, space = built.scene, built.surface, built.space
    carried = base.carried
    fresh = (carried.page < 0) & ~carried.recut & (~scene.bare if len(scene.bare) else True)
    gone = (carried.gone - space.centre).astype(np.float32)
    if not fresh.any() and not len(gone):
        return ()
    change = Change.of(surface.vertices[fresh], gone)
    blocks = TexelBlocks.of(surface, built.samples)
    rows = np.zeros(len(lit), np.bool_)
    for light in scene.lights:
        if light.strength.any():
            rows |= shaded_by_light(change, light, blocks, surface, space)
    for emitter in scene.emitters:
        rows |= shaded_by_emitter(change, emitter, blocks, surface)
    rows &= ~lit
    nodes, counts = np.unique(scene.node[built.texels.owner[rows]], return_counts=True)
    order = np.argsort(-counts, kind="stable")[:MOST_NAMED]
    return tuple(LeftStale(node=scene.node_names[nodes[i]], texels=int(counts[i])) for i in order)
