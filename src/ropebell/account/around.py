"""What the rays of a build tell of each texel's surroundings, as layers of its pages."""

from __future__ import annotations

import numpy as np

from ropebell.build.manifest import Manifest
from ropebell.faults.lit import Lit
from ropebell.level.model import F32
from ropebell.light.occlusion import occlusion, texel_places
from ropebell.light.pages import Filling


def around(lit: Lit, manifest: Manifest) -> F32:
    """(P, H, W, 2) float32: how closed in each place is within the recipe's reach of creases (0 open … 1, see
    `light.occlusion`), and which share of its rays met backs."""
    samples, hits = lit.samples, lit.hits
    places = texel_places(lit.scene, samples.triangle, samples.weights, samples.count)
    radius, workers = manifest.recipe.occlusion.radius, lit.settings.workers
    near = occlusion(hits.table[:, : hits.columns], places, radius, workers, lambda _: None)
    shares = np.stack([near, hits.back_share()], axis=1).astype(np.float32)
    return Filling.of(lit.texels, max(manifest.recipe.padding, 1)).pages(shares, samples.target)
