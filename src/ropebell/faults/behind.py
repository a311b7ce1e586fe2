"""Whose backs the rays of texels meet: what a spot lies inside of."""

from __future__ import annotations

import numpy as np

from ropebell.faults.lit import Lit
from ropebell.faults.ways import samples_of
from ropebell.level.model import I32
from ropebell.light.gather_rays import make_rays
from ropebell.light.sampling import plain_points

RAYS = 64


def back_faces(lit: Lit, rows: I32, rays: int = RAYS) -> list[tuple[str, float]]:
    """(object, share of the rays) whose backs the rays of some texels meet, most first; also of texels without any open
    sample."""
    samples = samples_of(lit, np.asarray(rows, dtype=np.int32))
    some = np.flatnonzero(samples.count > 0).astype(np.int32)
    if not len(some):
        return []
    origins = np.empty((len(some) * rays, 3), np.float32)
    directions = np.empty_like(origins)
    make_rays(
        lit.surface.ground, samples.spots, some, plain_points(0, rays), lit.settings.seed, origins, directions
    )  # fmt: skip
    hit = lit.space.first_hit(origins, directions)
    struck = hit >= 0
    into = np.einsum("ij,ij->i", directions[struck], lit.surface.faces[hit[struck]]) > 0
    backs = hit[struck][into & ~lit.surface.two_sided[hit[struck]]]
    nodes, counts = np.unique(lit.scene.node[backs], return_counts=True)
    order = np.argsort(-counts, kind="stable")
    return [(lit.scene.node_names[nodes[i]], float(counts[i]) / len(hit)) for i in order]
