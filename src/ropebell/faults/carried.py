"""Faults of the light that a part build took over: they are there still, as nothing there was lit anew."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ropebell.faults.lit import Lit
from ropebell.faults.over_builds import same
from ropebell.level.finding import Finding


def carried(lit: Lit, before: Sequence[Finding], found: Sequence[Finding]) -> list[Finding]:
    """Findings of the build whose light the rest of a part build is written with, on the pages of now.

    Args:
        before: of that build. found: of this one; what is among them is not told twice.
    """
    if lit.own is None:
        return []
    number = {name: n for n, name in enumerate(lit.scene.node_names)}
    kept = []
    for finding in before:
        rows = np.flatnonzero(lit.node == number.get(finding.object, -1))
        # What has no lightmap is looked at in every build.
        if finding.proved is None or finding.place is None or not len(rows):
            continue
        at = int(rows[np.linalg.norm(lit.places[rows] - np.array(finding.place), axis=1).argmin()])
        if not lit.own[at] and not any(same(finding, other) for other in found):
            texel = int(lit.texels.column[at]), int(lit.texels.row[at])
            kept.append(replace(finding, page=int(lit.texels.page[at]), texel=texel))
    return kept
