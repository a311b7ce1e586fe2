"""Who can see what, kept by digest: worked out again only when what blocks, where the inside is, or cells change."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ropebell.build.store import Artifact, Store
from ropebell.checks.subject import Subject
from ropebell.level.scene import Scene
from ropebell.sight.sight import Candidate, Gap, Sight, digest_of_sight, look

ARRAYS = {"trails", "starts", "places", "low", "number", "middles", "seen", "narrow", "unseen"}


def sight_of(
    subject: Subject, cell: float, workers: int, store: Store, tick: Callable[[float], None] = lambda _: None
) -> tuple[Sight, bool]:  # fmt: skip
    """Who can see what, and whether that was known already.

    Args:
        cell: metres, side of the smallest cells. tick: called with the share done, may raise `Stopped`.
    """
    level, scene, brief = subject.level, subject.scene, subject.brief
    digest = digest_of_sight(level, scene, brief, cell, brief.sealed)
    kept = store.get(digest, lambda artifact: _fits(artifact, len(scene)))
    if kept is not None:
        return _read(kept), True
    found = look(level, scene, brief, cell, workers, brief.sealed, tick)
    starts = np.cumsum([0, *(len(leak.trail) for leak in found.leaks)])
    trails = [leak.trail for leak in found.leaks]
    store.put(
        digest,
        {
            "trails": np.concatenate([np.zeros((0, 3)), *trails]), "starts": starts, "low": found.low,
            "places": np.array([leak.place for leak in found.leaks]).reshape(-1, 3), "number": found.number,
            "middles": found.middles, "seen": found.seen, "narrow": found.narrow, "unseen": found.unseen,
        },
        {
            "sealed": found.sealed, "open": found.open, "decided": found.decided, "size": found.size,
            "rays": found.rays, "seconds": found.seconds, "widths": [leak.width for leak in found.leaks],
            "nodes": [list(leak.nodes) for leak in found.leaks],
            "blockers": [[b.node, b.triangles, b.seconds, b.hides] for b in found.blockers],
        },
    )  # fmt: skip
    return found, False


def _fits(artifact: Artifact, triangles: int) -> bool:
    a, m = artifact.arrays, artifact.meta
    if set(a) != ARRAYS or len(a["unseen"]) != triangles:
        return False
    n, leaks = len(a["middles"]), len(m.get("widths", ()))
    return (
        a["seen"].shape == ((n, (n + 7) // 8) if n else (0, 0)) and int(a["number"].max(initial=-1)) < n
        and len(a["starts"]) == leaks + 1 == len(a["places"]) + 1 == len(m.get("nodes", ())) + 1
        and int(a["starts"][-1]) == len(a["trails"])
    )  # fmt: skip


def _read(kept: Artifact) -> Sight:
    a, m = kept.arrays, kept.meta
    gaps = tuple(
        Gap(
            np.asarray(a["trails"][a["starts"][k] : a["starts"][k + 1]]),
            np.asarray(a["places"][k]),
            width,
            tuple(nodes),
        )
        for k, (width, nodes) in enumerate(zip(m["widths"], m["nodes"]))
    )
    return Sight(
        m["sealed"], m["open"], m["decided"], gaps, np.asarray(a["low"]), m["size"], a["number"], a["middles"],
        a["seen"], a["narrow"], m["rays"], m["seconds"], tuple(Candidate(*b) for b in m["blockers"]), a["unseen"],
    )  # fmt: skip


def unseen_of(sight: Sight, scene: Scene, texels_per_metre: float) -> tuple[float, int]:
    """m² of baked faces that nobody can see, and texels that they take."""
    taking = sight.unseen if not len(scene.part) else sight.unseen & scene.part
    if len(scene.bare):
        taking = taking & ~scene.bare
    texels = scene.areas * scene.density(texels_per_metre).astype(np.float64) ** 2
    return float(scene.areas[taking].sum()), int(texels[taking].sum())


def as_json(sight: Sight, scene: Scene, texels_per_metre: float) -> dict[str, Any]:
    """The contract's JSON, but for `sees`."""
    area, texels = unseen_of(sight, scene, texels_per_metre)
    return {
        "sealed": sight.sealed, "open": sight.open, "decided": sight.decided,
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
        "cells": len(sight.middles), "cell": round(sight.size, 6), "narrow": len(sight.narrow), "pairs": sight.pairs,
        "rays": sight.rays, "seconds": round(sight.seconds, 3),
        "blockers": [
            {"node": b.node, "triangles": b.triangles, "seconds": round(b.seconds, 4), "hides": round(b.hides, 6)}
            for b in sight.blockers
        ],
        "unseen": {"area": round(area, 4), "texels": texels},
    }  # fmt: skip
