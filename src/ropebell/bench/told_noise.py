"""Whether the noise that a build tells of its texels is the noise they have."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ropebell.build.journal import Journal
from ropebell.build.pipeline import build
from ropebell.build.recipe import named, unfinished, with_value
from ropebell.build.request import Request
from ropebell.build.result import read_noise, read_pages
from ropebell.demo.write import LEVEL_NAME, write_demo
from ropebell.level.model import F64
from ropebell.light.certainty import luminance

SKY = (300.0, 350.0, 450.0)
DENSITY = 3.0
RAYS = (64, 256)
TRUE_RAYS = 2048
# Between these shares of their light texels are told to be.
BANDS = (0.001, 0.003, 0.01, 0.03, 0.1, 0.3)


@dataclass(frozen=True)
class Told:
    """Texels that were told to be about as noisy.

    Attributes:
        rays: of each texel. least, most: told share of their light. texels: how many there are.
        once, twice: share of them that is off by no more than is told, and by no more than twice that.
    """

    rays: int
    least: float
    most: float
    texels: int
    once: float
    twice: float


def run() -> list[Told]:
    """Build the sample level with few rays and with very many, and compare."""
    found = []
    with tempfile.TemporaryDirectory(prefix="ropebell-noise-") as scratch:
        folder = Path(scratch)
        level = write_demo(folder / "level") / LEVEL_NAME
        light, _ = _built(level, folder, TRUE_RAYS)
        for rays in RAYS:
            rough, noise = _built(level, folder, rays)
            found += banded(rays, noise, rough, light)
    return found


def banded(rays: int, noise: F64, rough: F64, light: F64) -> list[Told]:
    """Told noise against the error there is, by bands of the former.

    Args:
        noise: (n,) told shares. rough, light: (n,) lux with that noise, and without.
    """
    known = (noise > 0) & (light > 0.01 * light[light > 0].mean())
    error: F64 = np.abs(rough - light)[known] / light[known]
    told: F64 = noise[known]
    bands = []
    for least, most in zip(BANDS[:-1], BANDS[1:]):
        among: NDArray[np.bool_] = (told >= least) & (told < most)
        if among.any():
            shares = [float((error[among] <= times * told[among]).mean()) for times in (1.0, 2.0)]
            bands.append(Told(rays, least, most, int(among.sum()), *shares))
    return bands


def _built(level: Path, folder: Path, rays: int) -> tuple[F64, F64]:
    """(n,) luminance and told noise of every place on the pages."""
    made = with_value(
        with_value(unfinished(named("working")), "density.texels_per_metre", DENSITY), "light.gather_rays", rays
    )
    out = folder / f"{rays}"
    out.mkdir()
    journal = Journal(out)
    try:
        manifest = build(Request(level, out, folder / "cache", made, SKY, pictures=False), journal)
    finally:
        journal.close()
    total, _ = read_pages(out, manifest)
    noise = read_noise(out, manifest)
    assert noise is not None
    return luminance(total.reshape(-1, 3)), noise.reshape(-1).astype(np.float64)


def table(found: list[Told]) -> str:
    """Rows for the page of accuracy."""
    head = """| rays | told to be | texels | off by no more than told | than twice that |
| --- | --- | --- | --- | --- |
"""
    rows = []
    for t in found:
        band = f"{100 * t.least:g} – {100 * t.most:g} %"
        rows.append(f"| {t.rays} | {band} | {t.texels:,} | {100 * t.once:.0f} % | {100 * t.twice:.0f} % |")
    return head + "\n".join(rows)
