"""The mean light of some objects of a build, to be held against that of others."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from ropebell.build.result import open_result
from ropebell.compare.places import luminance, places_of
from ropebell.errors import RopeBellError


def mean_light(folder: Path, names: Sequence[str]) -> float | None:
    """Lux on the surfaces of some objects and of what is below them, each part weighed by its area; on everything,
    where none is named. None where the build has none of them, or cannot be read.

    Args:
        folder: of a finished build. names: paths of nodes.
    """
    try:
        result = open_result(folder)
    except (RopeBellError, OSError):
        return None
    places = places_of(result)
    wanted = np.array([_is_of(path, names) for path in result.scene.node_names])
    weight = places.area * wanted[result.scene.node[places.triangle]] if len(places) else places.area
    whole = float(weight.sum())
    return float((luminance(places.of(result.total)) * weight).sum()) / whole if whole > 0 else None


def _is_of(path: str, names: Sequence[str]) -> bool:
    return not names or any(path == name or path.startswith(f"{name}/") for name in names)
