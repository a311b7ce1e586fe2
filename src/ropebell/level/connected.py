"""Connected parts of a graph."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ropebell.level.model import I32


def connected(count: int, a: NDArray[np.integer], b: NDArray[np.integer]) -> I32:
    """(count,) int32 part of each thing, numbered from 0 in the order of their first thing.

    Args:
        a, b: (m,) things that hang together two by two.
    """
    # The library takes as long to load as a build after a small change takes in all, and seldom is it needed there.
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    graph = coo_matrix((np.ones(len(a), np.int8), (a, b)), shape=(count, count))
    label: I32 = connected_components(graph, directed=False)[1].astype(np.int32)
    return label
