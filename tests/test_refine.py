"""A noise target: more rays where a texel's light is not sure enough."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from helpers import bake, level_file, recipe, room
from ropebell.build.result import read_pages
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.level.brief import Brief, LightChange
from ropebell.level.model import Light
from ropebell.light.lookup import NONE, SKY
from ropebell.light.refine import SeenLight, refined, relative_noise, tally

DENSITY = 5.0


def windowed(folder: Path, lamp: bool = False) -> Path:
    """A room that gets its light through a small window: few rays find it."""
    b = LevelBuilder()
    b.material("white", (0.6, 0.6, 0.6))
    walls = [
        box((-0.2, -0.2, -0.2), (4.2, 0, 4.2)), box((-0.2, 3, -0.2), (4.2, 3.2, 4.2)),
        box((-0.2, 0, -0.2), (0, 3, 4.2)),
        box((4, 0, -0.2), (4.2, 3, 4.2)), box((0, 0, 4), (4, 3, 4.2)), box((0, 0, -0.2), (1.6, 3, 0)),
        box((2.4, 0, -0.2), (4, 3, 0)), box((1.6, 0, -0.2), (2.4, 1.2, 0)), box((1.6, 2.0, -0.2), (2.4, 3, 0)),
    ]  # fmt: skip
    for i, wall in enumerate(walls):
        b.add("g", f"wall {i}", wall, "white")
    if lamp:
        b.light("lamp", Light("lamp", "point", (1, 1, 1), 40.0), at(2, 1.5, 2))
    return level_file(folder, b)


def pages(folder: Path, path: Path, **values: object) -> tuple[np.ndarray, np.ndarray, dict]:
    made = recipe("sketch", density__texels_per_metre=DENSITY, finish__denoise=False, **values)
    manifest = bake(path, made, folder, sky=(200.0, 200.0, 200.0), cache=folder.parent / "cache")
    total, direct = read_pages(folder, manifest)
    return total, direct, manifest


@pytest.mark.parametrize("bounces", [0, 2])
def test_noisy_texels_become_sure_and_the_mean_stays(tmp_path: Path, bounces: int) -> None:
    path = windowed(tmp_path)
    few = {"light__gather_rays": 64, "light__bounces": bounces}
    plain, _, _ = pages(tmp_path / "plain", path, **few)
    fine, fine_direct, manifest = pages(tmp_path / "fine", path, light__noise_target=0.02, **few)
    truth, _, _ = pages(tmp_path / "truth", path, light__gather_rays=2048, light__bounces=bounces)
    told = manifest["finish"]["refined"]
    assert told["texels"] > 400 and told["rays"] > 64 * told["texels"]
    assert told["noise_after"] < 0.5 * told["noise_before"]
    lit = truth[..., 0] > 0.2 * truth[..., 0].mean()
    error = [float(np.sqrt(np.mean(((p - truth)[..., 0][lit] / truth[..., 0][lit]) ** 2))) for p in (plain, fine)]
    assert error[1] < 0.6 * error[0]
    assert fine[..., 0].mean() == pytest.approx(truth[..., 0].mean(), rel=0.01)
    if bounces == 0:
        np.testing.assert_allclose(fine_direct, fine, rtol=1e-3, atol=1e-3)
    assert "transport" in manifest["reused"], "the stored rays serve as they are"


def test_light_that_is_sure_stays_as_it_is(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("wall", (0.5,) * 3, glow=(3.0, 3.0, 3.0))
    b.add("g", "room", room(3, 3, 3), "wall")
    path = level_file(tmp_path, b)
    made = recipe("sketch", density__texels_per_metre=DENSITY)
    plain = bake(path, made, tmp_path / "plain")
    fine = bake(path, recipe("sketch", density__texels_per_metre=DENSITY, light__noise_target=0.01), tmp_path / "fine")
    assert fine["finish"]["refined"]["texels"] == 0 and fine["finish"]["refined"]["rays"] == 0
    for a, c in zip(read_pages(tmp_path / "plain", plain), read_pages(tmp_path / "fine", fine)):
        assert (a == c).all()


def test_what_is_kept_out_of_the_bounces_stays_out(tmp_path: Path) -> None:
    path = windowed(tmp_path, lamp=True)
    brief = Brief(lights={"lights/lamp": LightChange(share=0.0)})
    made = {"light__gather_rays": 64, "light__bounces": 2}
    results = []
    for name, extra in (("plain", {}), ("fine", {"light__noise_target": 0.03})):
        values = recipe("sketch", density__texels_per_metre=DENSITY, finish__denoise=False, **made, **extra)
        manifest = bake(path, values, tmp_path / name, brief=brief, sky=(20.0, 20.0, 20.0))
        results.append(read_pages(tmp_path / name, manifest)[0][..., 0].mean())
    assert results[1] == pytest.approx(results[0], rel=0.01)


def seen(leaving: list[float], sky: float = 0.0) -> SeenLight:
    values = np.repeat(np.array(leaving, np.float32)[:, None], 3, axis=1)
    nothing = np.full(len(leaving), -1, np.int32)
    return SeenLight(values, np.full(3, sky, np.float32), nothing, np.zeros((1, 3), np.float32),
                     np.zeros((1, len(leaving)), np.bool_))  # fmt: skip


def test_sums_and_noise_are_those_of_the_rays() -> None:
    hits = np.array([[0, 1, SKY, NONE], [1, 1, 1, 1]], np.int32)
    sums = tally(hits, np.array([0, 1], np.int32), seen([2.0, 4.0], 6.0), 1)
    assert sums[0, 0] == 6.0 and sums[0, 3] == 6.0 and sums[:, 8].tolist() == [3.0, 4.0]
    noise = relative_noise(sums, np.array([[4.0] * 3, [4.0] * 3], np.float32))
    # Of 2, 4, 6: σ² = 8/3 about a mean of 4, over √2, over the light of 4.
    assert noise[0] == pytest.approx(np.sqrt(8 / 3 / 2) / 4, rel=1e-6) and noise[1] == pytest.approx(0.0, abs=1e-6)
    assert relative_noise(sums, np.zeros((2, 3), np.float32)).tolist() == [0.0, 0.0]


def test_waves_go_on_only_where_they_are_needed() -> None:
    rng = np.random.default_rng(0)
    light = seen([0.0, 8.0])
    asked: list[int] = []

    def shoot(rows: np.ndarray, wave: int) -> np.ndarray:
        asked.append(len(rows))
        return rng.integers(0, 2, (len(rows), 256)).astype(np.int32)

    hits = np.array([[0, 1] * 8, [1] * 16], np.int32)
    total = np.full((2, 3), 4.0, np.float32)
    done = refined(total, np.zeros_like(total), hits, light, 0.03, shoot, 1, lambda _: None)
    assert done.texels == 1 and done.left == 0 and asked == [1] * len(asked) and 1 < len(asked) < 8
    assert done.rays == 256 * len(asked) and done.noise[1] < 0.03 < done.noise[0]
    assert (done.total[1] == total[1]).all() and done.total[0, 0] == pytest.approx(4.0, abs=0.6)
    endless = refined(total, np.zeros_like(total), hits, light, 1e-6, shoot, 1, lambda _: None)
    assert endless.left == 1 and endless.noise[1] < endless.noise[0]
