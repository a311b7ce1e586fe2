"""A noise target: rays until a texel's light is sure enough, and how sure it is."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from helpers import bake, level_file, recipe, room
from ropebell.build.manifest import parse_manifest, read_manifest
from ropebell.build.pages import read_page
from ropebell.build.result import read_pages
from ropebell.build.store import Store
from ropebell.build.until import NoiseTarget
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import Stopped
from ropebell.level.brief import Brief, LightChange
from ropebell.level.model import Light
from ropebell.light.certainty import (
    BOUNCED,
    COUNTED,
    FIRST,
    SPREAD,
    Neighbours,
    SeenLight,
    colours,
    relative_noise,
    tally,
)
from ropebell.light.lookup import NONE, SKY
from ropebell.light.refine import Refined, refined

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


def lit(folder: Path, manifest: dict[str, Any]) -> tuple[np.ndarray, np.ndarray]:
    """Total and direct light of a build."""
    return read_pages(folder, parse_manifest(manifest))


def pages(folder: Path, path: Path, **values: object) -> tuple[np.ndarray, np.ndarray, dict]:
    made = recipe("sketch", density__texels_per_metre=DENSITY, finish__denoise=False, **values)
    manifest = bake(path, made, folder, sky=(200.0, 200.0, 200.0), cache=folder.parent / "cache")
    total, direct = lit(folder, manifest)
    return total, direct, manifest


@pytest.mark.parametrize("bounces", [0, 2])
def test_noisy_texels_become_sure_and_the_mean_stays(tmp_path: Path, bounces: int) -> None:
    path = windowed(tmp_path)
    few = {"light__gather_rays": 64, "light__bounces": bounces}
    plain, _, _ = pages(tmp_path / "plain", path, **few)
    fine, fine_direct, manifest = pages(tmp_path / "fine", path, light__noise_target=0.02, **few)
    truth, _, _ = pages(tmp_path / "truth", path, light__gather_rays=2048, light__bounces=bounces)
    told = manifest["finish"]["refined"]
    assert told["texels"] > 400 and told["rays"] >= 64 * told["texels"]
    assert told["noise_after"] < 0.5 * told["noise_before"]
    lit = (truth[..., 0] > 1.0) & (truth[..., 0] < 0.5 * truth[..., 0].max())  # in the room, not outside
    error = [float(np.sqrt(np.mean(((p - truth)[..., 0][lit] / truth[..., 0][lit]) ** 2))) for p in (plain, fine)]
    assert error[1] < 0.6 * error[0]
    assert fine[..., 0].mean() == pytest.approx(truth[..., 0].mean(), rel=0.01)
    assert fine[..., 0][lit].mean() == pytest.approx(truth[..., 0][lit].mean(), rel=0.01)
    if bounces == 0:
        np.testing.assert_allclose(fine_direct, fine, rtol=1e-3, atol=1e-3)


def test_light_that_is_sure_takes_the_fewest_rays(tmp_path: Path) -> None:
    b = LevelBuilder()
    b.material("wall", (0.5,) * 3, glow=(3.0, 3.0, 3.0))
    b.add("g", "room", room(3, 3, 3), "wall")
    path = level_file(tmp_path, b)
    plain = bake(path, recipe("sketch", density__texels_per_metre=DENSITY, light__gather_rays=512), tmp_path / "plain")
    made = recipe("sketch", density__texels_per_metre=DENSITY, light__gather_rays=512, light__noise_target=0.01)
    fine = bake(path, made, tmp_path / "fine")
    assert fine["finish"]["refined"]["texels"] == 0 and fine["finish"]["refined"]["rays"] == 0
    assert fine["rays"]["gather"] == fine["rays"]["most"] // 8
    for a, c in zip(
        read_pages(tmp_path / "plain", parse_manifest(plain)), read_pages(tmp_path / "fine", parse_manifest(fine))
    ):
        np.testing.assert_allclose(a, c, rtol=2e-3)


TARGET = {"light__gather_rays": 256, "light__noise_target": 0.05, "light__bounces": 2}


def hit_table(folder: Path, cache: Path) -> tuple[np.ndarray, np.ndarray]:
    found = Store(cache).get(read_manifest(folder).digests.hits)
    assert found is not None
    return np.asarray(found.arrays["hits"]), np.asarray(found.arrays["done"])


def test_rays_stop_where_the_target_is_met_and_are_the_first_of_the_sequence(tmp_path: Path) -> None:
    path = windowed(tmp_path)
    _, _, manifest = pages(tmp_path / "target", path, **TARGET)
    pages(tmp_path / "count", path, **{**TARGET, "light__noise_target": 0.0})
    hits, done = hit_table(tmp_path / "target", tmp_path / "cache")
    all_hits, _ = hit_table(tmp_path / "count", tmp_path / "cache")
    used = np.unique(done)
    assert set(used) <= {32, 64, 128, 256} and {32, 256} <= set(used)
    assert manifest["rays"]["gather"] == done.sum() < 0.7 * manifest["rays"]["most"]
    column = np.arange(256)[None, :]
    assert (hits == np.where(column < done[:, None], all_hits, NONE)).all()


@pytest.mark.parametrize("change", ["sky", "target"])
def test_another_light_or_target_gives_what_a_build_from_nothing_gives_with_few_new_rays(
    tmp_path: Path, change: str
) -> None:
    path = windowed(tmp_path, lamp=True)
    values = recipe("sketch", density__texels_per_metre=DENSITY, finish__denoise=False, **TARGET)
    bake(path, values, tmp_path / "a", sky=(200.0, 200.0, 200.0), cache=tmp_path / "cache")
    other = {**TARGET, **({"light__noise_target": 0.1} if change == "target" else {})}
    sky = (20.0, 20.0, 20.0) if change == "sky" else (200.0, 200.0, 200.0)
    values = recipe("sketch", density__texels_per_metre=DENSITY, finish__denoise=False, **other)
    found = []
    for name, cache in (("b", "cache"), ("c", "fresh")):
        manifest = bake(path, values, tmp_path / name, sky=sky, cache=tmp_path / cache)
        found.append((manifest, lit(tmp_path / name, manifest)))
    (again, light), (nothing, light_of_nothing) = found
    assert (light[0] == light_of_nothing[0]).all() and (light[1] == light_of_nothing[1]).all()
    for a, b in zip(hit_table(tmp_path / "b", tmp_path / "cache"), hit_table(tmp_path / "c", tmp_path / "fresh")):
        assert (a == b).all()
    assert again["kept"]["rays"] > 0 and again["kept"]["shot"] < 0.3 * nothing["kept"]["shot"]
    waves = [m["finish"]["refined"] for m in (again, nothing)]
    assert waves[0]["rays"] == waves[1]["rays"] > 0
    assert waves[0]["kept"] > 0 and waves[1]["kept"] == 0


def test_a_disk_without_room_to_spare_costs_no_build(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = windowed(tmp_path)
    found = []
    for name, free in (("full", 0), ("roomy", 1 << 40)):
        monkeypatch.setattr("shutil.disk_usage", lambda _, free=free: SimpleNamespace(free=free))
        values = recipe("sketch", density__texels_per_metre=DENSITY, finish__denoise=False, **TARGET)
        manifest = bake(path, values, tmp_path / name, sky=(200.0, 200.0, 200.0), cache=tmp_path / f"{name}-cache")
        found.append((manifest["finish"]["refined"]["rays"], lit(tmp_path / name, manifest)[0]))
    assert found[0][0] == found[1][0] > 0 and (found[0][1] == found[1][1]).all()
    kept = [len(list((tmp_path / f"{name}-cache").glob("*/rows.npy"))) for name in ("full", "roomy")]
    assert kept[0] == 0 and kept[1] > 0


def test_a_build_that_was_stopped_between_two_judgements_goes_on_to_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = windowed(tmp_path)
    values = recipe("sketch", density__texels_per_metre=DENSITY, finish__denoise=False, **TARGET)
    whole = NoiseTarget.unsure

    def stopped_later(self: NoiseTarget, hits: np.ndarray, done: np.ndarray, end: int) -> np.ndarray:
        if end >= 128:
            raise Stopped()
        return whole(self, hits, done, end)

    monkeypatch.setattr(NoiseTarget, "unsure", stopped_later)
    with pytest.raises(Stopped):
        bake(path, values, tmp_path / "a", sky=(200.0, 200.0, 200.0), cache=tmp_path / "cache")
    monkeypatch.undo()
    resumed = bake(path, values, tmp_path / "b", sky=(200.0, 200.0, 200.0), cache=tmp_path / "cache")
    nothing = bake(path, values, tmp_path / "c", sky=(200.0, 200.0, 200.0), cache=tmp_path / "fresh")
    assert resumed["kept"]["rays"] > 0
    assert resumed["kept"]["rays"] + resumed["kept"]["shot"] == nothing["kept"]["shot"]
    for a, b in zip(
        read_pages(tmp_path / "b", parse_manifest(resumed)), read_pages(tmp_path / "c", parse_manifest(nothing))
    ):
        assert (a == b).all()


def test_noise_told_is_the_noise_there_is(tmp_path: Path) -> None:
    """Over 12 seeds, the scatter of each texel against what one build says of itself."""
    path = windowed(tmp_path)
    made = {"light__gather_rays": 64, "light__bounces": 2}
    told, light = [], []
    for seed in range(12):
        total, _, manifest = pages(tmp_path / f"{seed}", path, light__seed=seed, **made)
        light.append(total[..., 1])
        told.append(
            np.stack([read_page(tmp_path / f"{seed}" / p["noise"], channels=1)[..., 0] for p in manifest["pages"]])
        )
    values, noise = np.array(light), np.array(told)
    mean = values.mean(axis=0)
    inside = (mean > 1.0) & (mean < 0.5 * mean.max())  # in the room, not outside
    true = float(np.sqrt((values.var(axis=0, ddof=1)[inside] / mean[inside] ** 2).mean()))
    said = float(np.sqrt((noise**2).mean(axis=0)[inside].mean()))
    assert inside.sum() > 1000 and true > 0.05
    assert 0.9 * true < said < 1.6 * true
    # Noisy places are told from quiet ones, too.
    rough = noise.mean(axis=0) > np.median(noise.mean(axis=0)[inside])
    scatter = values.std(axis=0, ddof=1) / np.maximum(mean, 1e-9)
    assert scatter[inside & rough].mean() > 1.3 * scatter[inside & ~rough].mean()


def test_what_is_kept_out_of_the_bounces_stays_out(tmp_path: Path) -> None:
    path = windowed(tmp_path, lamp=True)
    brief = Brief(lights={"lights/lamp": LightChange(share=0.0)})
    made = {"light__gather_rays": 64, "light__bounces": 2}
    results = []
    for name, extra in (("plain", {}), ("fine", {"light__noise_target": 0.03})):
        values = recipe("sketch", density__texels_per_metre=DENSITY, finish__denoise=False, **made, **extra)
        manifest = bake(path, values, tmp_path / name, brief=brief, sky=(20.0, 20.0, 20.0))
        results.append(lit(tmp_path / name, manifest)[0][..., 0].mean())
    assert results[1] == pytest.approx(results[0], rel=0.01)


def seen(leaving: list[float], sky: float = 0.0) -> SeenLight:
    values = np.repeat(np.array(leaving, np.float32)[:, None], 3, axis=1)
    nothing = np.full(len(leaving), -1, np.int32)
    return SeenLight(values, np.full(3, sky, np.float32), nothing, np.zeros((1, 3), np.float32),
                     np.zeros((1, len(leaving)), np.bool_))  # fmt: skip


def apart(count: int) -> Neighbours:
    """Texels that all are of charts of their own."""
    zero, own = np.zeros(count, np.int32), np.arange(count, dtype=np.int32)
    return Neighbours(zero, own, zero, own, own.reshape(1, 1, count))


def test_sums_and_noise_are_those_of_the_rays() -> None:
    hits = np.array([[0, 1, SKY, NONE], [1, 1, 1, 1]], np.int32)
    shot = np.full(2, 4, np.int32)
    sums = tally(hits, shot, np.array([0, 1], np.int32), seen([2.0, 4.0], 6.0), 1)
    assert sums[0, BOUNCED] == pytest.approx(6.0) and sums[0, FIRST] == pytest.approx(12.0)
    assert sums[:, COUNTED].tolist() == [3.0, 4.0]
    split = colours(hits, np.array([0], np.int32), shot[:1], np.array([0], np.int32), seen([2.0, 4.0], 6.0), 1)
    assert split.tolist() == [[6.0] * 6 + [3.0]]
    # Halves of 2, 4 and of 6: half their difference is 1.5, times 3 rays, squared.
    assert sums[0, SPREAD] == pytest.approx((3 * 1.5) ** 2) and sums[1, SPREAD] == pytest.approx(0.0, abs=1e-9)
    noise = relative_noise(sums, np.full(2, 4.0), apart(2), 1)
    # One texel has half differences of σ² = 6.75 a ray, single rays say 4; drawn together 1 : 8 to 4.31, over 3 rays.
    assert noise[0] == pytest.approx(np.sqrt((6.75 + 8 * 4.0) / 9 / 3) / 4, rel=1e-6)
    assert noise[1] == pytest.approx(0.0, abs=1e-6)
    first_only = tally(hits, np.array([2, 2], np.int32), np.array([0, 1], np.int32), seen([2.0, 4.0], 6.0), 1)
    assert first_only[:, COUNTED].tolist() == [2.0, 2.0]
    assert relative_noise(sums, np.zeros(2), apart(2), 1).tolist() == [0.0, 0.0]


def test_neighbours_of_one_chart_speak_together_and_those_of_another_do_not() -> None:
    rng = np.random.default_rng(3)
    hits = rng.integers(0, 2, (12, 64)).astype(np.int32)
    hits[6:] = 1  # the other chart is of one light
    row = np.zeros(12, np.int32)
    column = np.arange(12, dtype=np.int32)
    chart = np.repeat(np.array([0, 1], np.int32), 6)
    near = Neighbours(row, column, row, chart, column.reshape(1, 1, 12))
    light = seen([0.0, 8.0] + [0.0] * 10)
    sums = tally(hits, np.full(12, 64, np.int32), column, light, 1)
    total = np.full(12, 4.0)
    noise = relative_noise(sums, total, near, 1)
    assert (noise[6:] == 0).all() and (noise[:6] > 0).all()
    alone = relative_noise(sums, total, apart(12), 1)
    assert noise[:6].std() < alone[:6].std()


def test_waves_go_on_only_where_they_are_needed() -> None:
    rng = np.random.default_rng(0)
    light = seen([0.0, 8.0])
    asked: list[int] = []

    def shoot(rows: np.ndarray, wave: int) -> Iterator[tuple[slice, np.ndarray]]:
        asked.append(len(rows))
        yield slice(0, len(rows)), rng.integers(0, 2, (len(rows), 256)).astype(np.int32)

    hits = np.array([[0, 0, 1, 1] * 4, [1] * 16], np.int32)
    hits[0, :3] = 1
    total = np.full((2, 3), 4.0, np.float32)
    shot, may = np.full(2, 16, np.int32), np.ones(2, np.bool_)

    def run(target: float, may: np.ndarray = may) -> Refined:
        rest = (shoot, 1, lambda _: None)
        return refined(total, np.zeros_like(total), hits, shot, may, light, apart(2), target, *rest)

    done = run(0.03)
    assert done.texels == 1 and done.left == 0 and asked == [1] * len(asked) and 1 <= len(asked) < 8
    assert done.rays == 256 * len(asked) and done.noise_after < 0.03 < done.noise_before
    assert (done.total[1] == total[1]).all() and done.total[0, 0] == pytest.approx(4.0, abs=1.0)
    endless = run(1e-6)
    assert endless.left == 1 and endless.noise_after < endless.noise_before
    assert run(0.03, ~may).texels == 0
