"""Who can see what, kept by digest: worked out again only when what blocks, where the inside is, or cells change."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, StrictBool, ValidationError

from ropebell.build.sound import SIGHT, expecting
from ropebell.build.store import Artifact, Store
from ropebell.checks.subject import Subject, short
from ropebell.files import read_json, write_json
from ropebell.level.density import BARE_SHARE
from ropebell.level.finding import Finding
from ropebell.level.model import F64, Mask
from ropebell.level.scene import Scene
from ropebell.sight.blockers import Candidate, Cost
from ropebell.sight.sight import Gap, Sight, digest_of_sight, look

FILE, LEAK = "sight.json", "hull-leak"


def sight_of(
    subject: Subject, cell: float, workers: int, store: Store, tick: Callable[[float], None] = lambda _: None
) -> tuple[Sight, bool]:  # fmt: skip
    """Who can see what, and whether that was known already.

    Args:
        cell: metres, side of the smallest cells. tick: called with the share done, may raise `Stopped`.
    """
    level, scene, brief = subject.level, subject.scene, subject.brief
    known = known_sight(subject, cell, store)
    if known is not None:
        return known, True
    digest = digest_of_sight(level, scene, brief, cell, brief.sealed)
    found = look(level, scene, brief, cell, workers, brief.sealed, tick)
    starts = np.cumsum([0, *(len(leak.trail) for leak in found.leaks)])
    trails = [leak.trail for leak in found.leaks]
    store.put(
        digest,
        {
            "trails": np.concatenate([np.zeros((0, 3)), *trails]), "starts": starts, "low": found.low,
            "places": np.array([leak.place for leak in found.leaks]).reshape(-1, 3), "number": found.number,
            "middles": found.middles, "seen": found.seen, "narrow": found.narrow, "unseen": found.unseen,
            "hull": found.hull, "asked": found.asked,
        },
        {
            "sealed": found.sealed, "open": found.open, "decided": found.decided, "size": found.size,
            "cell": found.cell, "seeing": found.seeing, "beyond_seen": found.beyond_seen, "inside": found.inside,
            "seconds": found.seconds,
            "widths": [leak.width for leak in found.leaks],
            "nodes": [list(leak.nodes) for leak in found.leaks],
            "blockers": [asdict(b) for b in found.blockers], "costs": [asdict(c) for c in found.costs],
            "passing": [asdict(c) for c in found.passing],
        },
    )  # fmt: skip
    return found, False


class Known:
    """What is known of a level's sight, asked for when it is wanted, and read once.

    Args:
        cell: metres, as of `sight_of`.
    """

    def __init__(self, cell: float, store: Store) -> None:
        self._cell, self._store = cell, store
        self._last: tuple[str, Sight] | None = None

    def __call__(self, subject: Subject) -> Sight | None:
        digest = digest_of_sight(subject.level, subject.scene, subject.brief, self._cell, subject.brief.sealed)
        last = self._last
        if last is not None and last[0] == digest:
            return last[1]
        found = known_sight(subject, self._cell, self._store)
        self._last = (digest, found) if found is not None else None
        return found


def known_sight(subject: Subject, cell: float, store: Store) -> Sight | None:
    """What is known of a level as it stands, None where that has yet to be found out."""
    scene = subject.scene
    digest = digest_of_sight(subject.level, scene, subject.brief, cell, subject.brief.sealed)
    kept = store.get(digest, lambda artifact: _fits(artifact, scene))
    return _read(kept) if kept is not None else None


class SightFacts(BaseModel):
    """The plain values kept of a look into a level, beside its arrays; all as of `Sight`.

    Attributes:
        widths, nodes: of each leak.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    sealed: StrictBool
    open: StrictBool
    inside: StrictBool
    decided: StrictBool
    beyond_seen: StrictBool
    size: Annotated[float, Field(gt=0)]
    cell: Annotated[float, Field(gt=0)]
    seeing: float
    seconds: float
    widths: list[float]
    nodes: list[list[str]]
    blockers: list[Candidate]
    costs: list[Cost]
    passing: list[Cost]


def _facts(artifact: Artifact) -> SightFacts | None:
    try:
        return SightFacts.model_validate(artifact.meta)
    except ValidationError:
        return None


def _fits(artifact: Artifact, scene: Scene) -> bool:
    """Whether an artifact is what a look into this level gives: whoever can write one can give it a right checksum."""
    m = _facts(artifact)
    if m is None:
        return False
    sizes = {"T": len(scene), "O": len(scene.node_names), "L": len(m.widths), "L1": len(m.widths) + 1}
    if len(m.nodes) != len(m.widths) or not expecting(SIGHT, **sizes)(artifact):
        return False
    a, n = artifact.arrays, len(artifact.arrays["middles"])
    starts = a["starts"]
    return bool(
        a["seen"].shape == ((n, (n + 7) // 8) if n else (0, 0))
        and starts[0] == 0 and starts[-1] == len(a["trails"]) and (np.diff(starts) > 0).all()
        and all(np.isfinite(a[name]).all() for name in ("trails", "places", "low", "middles", "asked"))
    )  # fmt: skip


def _read(kept: Artifact) -> Sight:
    a, m = kept.arrays, _facts(kept)
    assert m is not None
    gaps = tuple(
        Gap(np.asarray(a["trails"][begin:end]), np.asarray(place), width, tuple(nodes))
        for begin, end, place, width, nodes in zip(a["starts"], a["starts"][1:], a["places"], m.widths, m.nodes)
    )
    return Sight(
        m.sealed, m.open, m.decided, gaps, np.asarray(a["low"]), m.size, a["number"], a["middles"], a["seen"],
        a["narrow"], np.asarray(a["asked"]), m.seconds, tuple(m.costs), tuple(m.passing), tuple(m.blockers),
        a["unseen"], a["hull"], m.cell, m.seeing, m.beyond_seen, m.inside,
    )  # fmt: skip


def hull_leaks(sight: Sight) -> list[Finding]:
    """Every leak as a finding, the widest first."""
    found = []
    for leak in sight.leaks:
        first, *rest = leak.nodes or ("",)
        width = f"{leak.width:.2g} m" if leak.width >= 1 else f"{1e3 * leak.width:.3g} mm"
        beside = f" beside '{short(first)}'" if first else ""
        length = float(np.linalg.norm(np.diff(leak.trail, axis=0), axis=1).sum())
        reason = f"The level is not sealed: a ball {width} wide gets out{beside}, {length:.3g} m from the start."
        x, y, z = (float(f"{v:.6g}") for v in leak.place)
        found.append(Finding(
            LEAK, "error", first, reason, "Close the gap, or let what closes it block sight", (x, y, z), (),
            tuple(rest), None, (float(f"{leak.width:.6g}"), "m"), None, None, True,
        ))  # fmt: skip
    return found


def write_sight(out: Path, sight: Sight, scene: Scene, texels_per_metre: float) -> None:
    """Write what a build found, into its folder."""
    write_json(out / FILE, as_json(sight, scene, texels_per_metre))


def ways_out(folder: Path) -> list[tuple[F64, F64]]:
    """Each leak of a build, the widest first: (3,) its place and (n, 3) the way out, metres; none where it was not
    looked for, or the file is damaged."""
    try:
        leaks = read_json(folder / FILE)["leaks"]
        found = [(np.array(k["gap"]["place"], np.float64), np.array(k["trail"], np.float64)) for k in leaks]
    except (OSError, ValueError, KeyError, TypeError):
        return []
    return [(place, way) for place, way in found if place.shape == (3,) and way.ndim == 2 and way.shape[1] == 3]


def hidden_in_words(share: float) -> str:
    """How many of the pairs of cells something hides."""
    return "nothing" if share <= 0.0 else "<0.01 %" if share < 1e-4 else f"{100 * share:.2g} %"


def in_words(sight: Sight, count: Callable[[int], str] = "{:,}".format) -> str:
    """Whether it is sealed, and how much sees how much, in a sentence.

    Args:
        count: writes a whole number.
    """
    if not sight.inside:
        return "The level has no inside: no place looked at is closed off from the open, so no leak is looked for."
    if sight.open:
        return "The level is open by nature, so no leak is looked for."
    n, share = len(sight.middles), 100 * sight.share_seen
    number = len(sight.leaks)
    leaks = f"leaks in {number} place{'s' if number > 1 else ''}"
    seen = f"of {count(n)} cells each sees {share:.0f} % of the others"
    return f"The level {'is sealed' if sight.sealed else leaks}; {seen}."


def unseen_of(sight: Sight, scene: Scene, texels_per_metre: float) -> tuple[float, int]:
    """m² of baked faces that nobody can see, and texels that they take."""
    taking = sight.unseen if not len(scene.part) else sight.unseen & scene.part
    if len(scene.bare):
        taking = taking & ~scene.bare
    return texels_of(scene, taking, texels_per_metre)


def texels_of(scene: Scene, faces: Mask, texels_per_metre: float) -> tuple[float, int]:
    """m² of faces, and texels that they have, or would have if they were not left out.

    Args:
        faces: (T,) of the scene.
    """
    bare = np.where(scene.bare, BARE_SHARE, 1.0) if len(scene.bare) else 1.0
    density = scene.density(texels_per_metre).astype(np.float64) / bare
    return float(scene.areas[faces].sum()), int((scene.areas * density**2)[faces].sum())


def as_json(sight: Sight, scene: Scene, texels_per_metre: float) -> dict[str, Any]:
    """The contract's JSON, but for `sees`."""
    area, texels = unseen_of(sight, scene, texels_per_metre)
    return {
        "sealed": sight.sealed, "open": sight.open, "inside": sight.inside, "decided": sight.decided,
        "leaks": [
            {
                "trail": [[round(float(v), 4) for v in place] for place in leak.trail],
                "gap": {
                    "place": [round(float(v), 4) for v in leak.place], "width": round(leak.width, 6),
                    "nodes": list(leak.nodes),
                },
            }
            for leak in sight.leaks
        ],
        "cells": len(sight.middles), "cell": round(sight.cell, 6), "narrow": len(sight.narrow), "pairs": sight.pairs,
        "rays": sight.rays, "seconds": round(sight.seconds, 3),
        "blockers": [
            {
                "node": b.node, "triangles": b.triangles, "seconds": round(b.seconds, 4), "hides": round(b.hides, 6),
                "cells": b.cells,
            }
            for b in sight.blockers
        ],
        "passing": [
            {"node": c.node, "triangles": c.triangles, "cells": c.cells, "hides": round(c.hides, 6)}
            for c in sight.passing
        ],
        "costs": [{**asdict(c), "seconds": round(c.seconds, 4), "hides": round(c.hides, 6)} for c in sight.costs],
        "unseen": {"area": round(area, 4), "texels": texels},
    }  # fmt: skip
