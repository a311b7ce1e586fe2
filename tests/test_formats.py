"""Pages in other formats: what they keep, and what they cost."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from helpers import bake, floor, level_file, recipe
from ropebell.build.formats import ENCODERS, compared, encode_8_bit, errors, to_rgbe
from ropebell.build.recipe import load, with_setting
from ropebell.build.result import open_result
from ropebell.demo.builder import LevelBuilder, at
from ropebell.errors import RecipeError
from ropebell.level.model import Light
from ropebell.level.sky_picture import from_rgbe, read_hdr

PIXELS = st.lists(st.floats(0, 6e4, width=32), min_size=3, max_size=3)


@given(st.lists(PIXELS, min_size=1, max_size=12))
def test_shared_exponents_keep_a_256th_of_the_brightest_channel(pixels: list[list[float]]) -> None:
    page = np.array([pixels], np.float32)
    back = from_rgbe(to_rgbe(page))
    # Half a step, and a step is at most a 128th of the brightest channel.
    assert (np.abs(back - page) <= page.max(axis=2, keepdims=True) / 256.0 * 1.001 + 1e-30).all()
    assert (back >= 0).all() and np.isfinite(back).all()


def test_bright_small_and_dark_values() -> None:
    page = np.array([[[0.999, 0.5, 0.0], [255.9, 1.0, 1.0], [0.0, 0.0, 0.0], [1e-38, 0, 0]]], np.float32)
    back = from_rgbe(to_rgbe(page))
    np.testing.assert_allclose(back[0, :2, 0], page[0, :2, 0], rtol=1 / 256)
    assert not back[0, 2:].any()


@given(st.lists(PIXELS, min_size=2, max_size=12))
def test_eight_bits_keep_the_brightest_and_half_a_step(pixels: list[list[float]]) -> None:
    page = np.array([pixels], np.float32)
    made = encode_8_bit(page)
    step = np.sqrt(page / made.scale)
    np.testing.assert_allclose(np.sqrt(made.decoded / made.scale), step, atol=0.51 / 255)
    assert made.decoded.max() == pytest.approx(page.max(), rel=1e-6, abs=1e-11)


def test_errors_are_told_of_what_is_not_dark() -> None:
    page = np.full((4, 4, 3), 100.0, np.float32)
    page[0, 0] = 0.001
    assert errors(page, page) == {"rms": 0.0, "largest": 0.0, "lux": 0.0}
    off = page.copy()
    off[1, 1] = 103.0
    off[0, 0] = 0.002
    found = errors(page, off)
    assert found["largest"] == pytest.approx(0.03) and found["lux"] == pytest.approx(3.0)
    assert found["rms"] == pytest.approx(0.03 * np.sqrt(3 / 45), rel=1e-4)
    assert errors(np.zeros((2, 2, 3), np.float32), np.zeros((2, 2, 3), np.float32))["rms"] == 0.0
    table = compared(page)
    assert set(table) == set(ENCODERS) and table["half"]["bytes"] == page.size * 2


@pytest.mark.parametrize("chosen", ["shared-exponent", "8-bit"])
def test_a_build_writes_the_chosen_format_beside_its_own_pages(tmp_path: Path, chosen: str) -> None:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4), "grey")
    b.light("lamp", Light("lamp", "point", (1, 0.8, 0.6), 200.0), at(0, 1.5, 0))
    made = recipe("sketch", output__format=chosen, density__texels_per_metre=8.0)
    manifest = bake(level_file(tmp_path, b), made, tmp_path / "out")
    page = manifest["pages"][0]
    told = page["delivered"]
    assert told["format"] == chosen and page["file"].endswith(".exr")
    file = tmp_path / "out" / told["file"]
    kept = open_result(tmp_path / "out").total[0]
    read = (np.asarray(Image.open(file)) / 255.0) ** 2 * told["scale"] if chosen == "8-bit" else read_hdr(file)
    found = errors(kept, read.astype(np.float32))
    # The file holds what was measured; the kept page itself is rounded to half floats.
    assert found["rms"] == pytest.approx(page["formats"][chosen]["rms"], rel=0.1, abs=2e-4)
    assert 1e-4 < found["rms"] < {"8-bit": 0.02, "shared-exponent": 0.005}[chosen]
    assert page["formats"]["half"]["rms"] < 3e-4 and page["formats"][chosen]["bytes"] == file.stat().st_size


def test_formats_are_a_setting_like_others(tmp_path: Path) -> None:
    assert with_setting(load("working"), "output.format=8-bit").output.format == "8-bit"
    with pytest.raises(RecipeError, match="format"):
        with_setting(load("working"), "output.format=4-bit")
