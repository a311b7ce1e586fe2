"""Values that are no numbers."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ropebell.faults.after import AFTER, LIGHT, Looked
from ropebell.faults.patches import finding
from ropebell.level.finding import Finding


@AFTER.detector({"non-finite": "Not a number"}, LIGHT)
def non_finite(s: Looked) -> Iterator[Finding]:
    """Objects with texels that a stage could give no number."""
    lit = s.lit
    lost = np.asarray(lit.solved.first_lost, np.int64)
    nodes, counts = np.unique(lit.node[lost], return_counts=True)
    for node, count in zip(nodes.tolist(), counts.tolist()):
        rows = lost[lit.node[lost] == node]
        name = lit.scene.node_names[node]
        what = "texels of it came" if count > 1 else "texel of it came"
        reason = f"{count:,} {what} out non-finite and are black."
        yield finding(
            lit, "non-finite", "error", rows, int(rows[0]), reason, "Clean the mesh, turn it a hair, or leave it out",
            measure=(float(count), "texels"), fix=("leave-out", name), proved=True,
        )  # fmt: skip
