"""`ropebell export`: a build in a package that others can build."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from ropebell.cli.said import say
from ropebell.deliver.objections import FIRM, left_of, objections, title_of
from ropebell.deliver.package import package
from ropebell.errors import UsageError
from ropebell.level.finding import Finding

ANY = "any"


def export(build: Path, out: Path, despite: Sequence[str], most_mb: float | None, in_json: bool) -> int:
    """1 if something speaks against it, and nothing is written."""
    found = objections(build, most_mb)
    kinds = {f.kind for f in found}
    strange = [kind for kind in despite if kind not in kinds and kind != ANY]
    if strange:
        known = ", ".join(sorted(f.kind for f in found if f.severity != FIRM)) or "nothing that can be accepted"
        raise UsageError(f"'{strange[0]}' does not speak against it", "--despite", f"This does: {known}")
    against = left_of(found, kinds if ANY in despite else despite)
    packed = package(build, out, [f for f in found if f not in against]) if not against else None
    if in_json:
        told = {
            "build": str(build), "out": str(packed.path) if packed is not None else None,
            "bytes": packed.bytes if packed is not None else 0,
            "files": [{"name": n, "bytes": b, "sha256": s} for n, b, s in packed.files] if packed is not None else [],
            "objections": [{**f.as_json(), "firm": f.severity == FIRM, "accepted": f not in against} for f in found],
        }  # fmt: skip
        print(json.dumps(told))
    elif packed is not None:
        size = f"{packed.bytes / 1e6:,.1f} MB"
        say(f"{len(packed.files)} files, {size}, opened and held against the build: {packed.path}")
    else:
        say("\n".join(["Nothing is written, as this speaks against it:", *map(_line, against)]))
    return 1 if against else 0


def _line(f: Finding) -> str:
    title = title_of(f)
    whose = f" ({f.object})" if f.object else ""
    way = f"{f.remedy}." if f.severity == FIRM else f"{f.remedy}, or --despite {f.kind}."
    return f"  {title}{whose}: {f.reason} {way}"
