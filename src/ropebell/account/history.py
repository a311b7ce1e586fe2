"""The light of a spot over the builds of a level."""

from __future__ import annotations

from pathlib import Path

from ropebell.build.manifest import MANIFEST
from ropebell.build.meter import Meter
from ropebell.build.result import open_result
from ropebell.errors import RopeBellError
from ropebell.level.model import F64

# Builds that are looked back on.
MOST = 8


def history(folder: Path, place: F64, normal: F64 | None, most: int = MOST) -> list[tuple[str, list[float]]]:
    """(build, lux) of the last finished builds up to one, oldest first; those that cannot be read are left out.

    Args:
        place: (3,) metres. normal: (3,) of the surface there.
    """
    folders = [folder]
    if folder.name.isdigit():
        earlier = [p for p in folder.parent.iterdir() if p.name.isdigit() and int(p.name) < int(folder.name)]
        folders = [*sorted(earlier, key=lambda p: int(p.name)), folder]
    found = []
    for each in [p for p in folders if (p / MANIFEST).is_file()][-most:]:
        try:
            reading = Meter(open_result(each)).read(place, normal, per_light=False)
        except (RopeBellError, OSError):
            continue
        found.append((each.name, [float(v) for v in reading.irradiance]))
    return found
