"""`ropebell accuracy`: the engine against closed forms, and how fast its noise falls."""

from __future__ import annotations

import datetime
import math
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

import ropebell
from ropebell.bench.closed_forms import DENSITY, ClosedForm, closed_forms
from ropebell.bench.told_noise import TRUE_RAYS, Told, table
from ropebell.build.journal import Journal
from ropebell.build.meter import Meter
from ropebell.build.pages import write_page
from ropebell.build.pipeline import build
from ropebell.build.recipe import Recipe, named, unfinished, with_value
from ropebell.build.request import Request
from ropebell.build.result import open_result
from ropebell.level.gltf_write import plain_glb
from ropebell.level.model import F64

# Rays and samples of the final recipe are divided by these, to see the error fall.
DIVISORS = (16, 4, 1)
# Below this the pages' half floats (2⁻¹¹) are what is left of an error.
STORED = 6e-4


@dataclass(frozen=True)
class Accuracy:
    """How near a closed form the engine comes.

    Attributes:
        mean: relative error of the mean over all places, at the final recipe.
        noise: relative standard deviation of a texel, for each of `DIVISORS`; empty where only the mean is known.
        slope: exponent with which the noise falls with the number of rays, None where there is no noise.
    """

    name: str
    source: str
    places: int
    mean: float
    noise: tuple[float, ...]
    slope: float | None


def recipe_for(case: ClosedForm, divisor: int) -> Recipe:
    """The final recipe without finishing, its rays divided."""
    made = unfinished(named("final"))
    values = {
        "density.texels_per_metre": DENSITY, **case.recipe,
        "light.gather_rays": made.gather_rays // divisor, "light.direct_samples": made.direct_samples // divisor,
    }  # fmt: skip
    for key, value in values.items():
        made = with_value(made, key, value)
    return made


def measured(case: ClosedForm, divisor: int, folder: Path) -> F64:
    """(n,) lux that a build of the case has at its places."""
    b = case.level()
    level, out = folder / "level.glb", folder / f"out-{divisor}"
    out.mkdir()
    level.write_bytes(plain_glb(b.level(level), "closed form"))
    sky, picture = case.sky, None
    if case.picture is not None:
        picture = folder / "sky.exr"
        write_page(picture, case.picture)
        down = (np.arange(len(case.picture)) + 0.5) * math.pi / len(case.picture)
        weight = np.sin(down)[:, None, None]
        r, g, b_ = ((case.picture * weight).sum(axis=(0, 1)) / (weight.sum() * case.picture.shape[1])).tolist()
        sky = (r, g, b_)
    request = Request(
        level, out, folder / "cache", recipe_for(case, divisor), sky, case.brief, sky_picture=picture, pictures=False
    )
    journal = Journal(out)
    try:
        build(request, journal)
    finally:
        journal.close()
    reader = Meter(open_result(out))
    return np.array([reader.read(place, per_light=False).irradiance[0] for place in case.places])


def accuracy(case: ClosedForm) -> Accuracy:
    """Build a case with fewer and fewer rays and compare."""
    ratios = []
    for divisor in DIVISORS:
        with tempfile.TemporaryDirectory(prefix="ropebell-accuracy-") as scratch:
            ratios.append(measured(case, divisor, Path(scratch)) / case.expected)
    mean = float(ratios[-1].mean() - 1)
    if case.mean_only:
        return Accuracy(case.name, case.source, len(case.places), mean, (), None)
    noise = tuple(float((r / r.mean()).std()) for r in ratios)
    falls = noise[0] > 4 * STORED
    last = max(noise[-1], STORED)
    slope = math.log(noise[0] / last) / math.log(DIVISORS[0] / DIVISORS[-1]) if falls else None
    return Accuracy(case.name, case.source, len(case.places), mean, noise, slope)


def run() -> list[Accuracy]:
    """All cases."""
    return [accuracy(case) for case in closed_forms()]


def as_json(found: list[Accuracy], noise: list[Told]) -> dict[str, Any]:
    """One document."""
    return {"cases": [vars(a) for a in found], "divisors": list(DIVISORS), "told_noise": [vars(t) for t in noise]}


def report(found: list[Accuracy], noise: list[Told], today: datetime.date) -> str:
    """The page docs/accuracy.md."""
    head = f"""# How right the light is

Made by `./run cli accuracy --out docs/accuracy.md` with Rope Bell {ropebell.__version__} on {today.isoformat()}.
It is written anew by that command; do not edit it.

Each case is a whole build read back through the light meter, at the recipe `final` (512 gather rays, 64 direct
samples a texel) with denoise and seams off. *Mean error* is that of the mean over all places read: what is left of it
is bias, or the noise of the mean. *A texel's noise* is the standard deviation of single texels, at a sixteenth, a
quarter and all of the rays. *Falls as* is the exponent of the number of rays: plain random sampling has 0.5, more is
better. Pages are half floats, so nothing is better than 0.05 %.

| case | formula | places | mean error | a texel's noise at 1/16, 1/4, 1 | falls as N to the − |
| --- | --- | --- | --- | --- | --- |
"""
    rows = []
    for a in found:
        scatter = ", ".join(f"{100 * n:.2f} %" for n in a.noise) or "not known apart"
        slope = "no noise" if a.slope is None and a.noise else ("" if a.slope is None else f"{a.slope:.2f}")
        rows.append(f"| {a.name} | {a.source} | {a.places} | {100 * a.mean:+.2f} % | {scatter} | {slope} |")
    told = f"""

## How true the told noise is

Every build tells how noisy each texel is (`layers/noise`), and a noise target goes by it. Here the sample level with
few rays is held against itself with {TRUE_RAYS:,} rays: texels in bands of what was told of them, and how many are off
by no more than that. Errors spread as by Gauss would give 68 % and 95 %. What is not told is noise that a texel has
from the noise of others by way of bounces, and light that none of its rays nor of its neighbours' has met.

{table(noise)}"""
    tail = """

What has no closed form is held by the tests: a path tracer written apart from the engine
(`tests/reference_tracer.py`, `tests/test_reference.py`) agrees with it texel by texel on closed rooms with blockers
and coloured walls. What only bounces, is cut out, or glows by a picture has tests of its own
(`tests/test_closed_forms.py`, `tests/test_cutouts.py`, `tests/test_emission_pictures.py`, `tests/test_area_lights.py`,
`tests/test_sky.py`).
"""
    return head + "\n".join(rows) + told + tail
