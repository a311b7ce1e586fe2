"""What changed objects cost: texels and rays of all others are taken over, and the light is the very same."""

from __future__ import annotations

import os
import resource
import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from helpers import arrays, bake, events, level_file, recipe, room
from ropebell.build import kin
from ropebell.build.journal import Journal
from ropebell.build.manifest import read_manifest
from ropebell.build.memory import peak_bytes
from ropebell.build.pipeline import build
from ropebell.build.request import Request
from ropebell.build.runner import BuildProcess
from ropebell.build.store import Store
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.digest import digest_of
from ropebell.errors import BuildError, Stopped
from ropebell.level.brief import Brief, Mark
from ropebell.level.model import Light

X = digest_of("x")


def furnished(folder: Path) -> Path:
    """A room with three crates, a lamp of some size and a glowing panel."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.material("glow", (0.1, 0.1, 0.1), (40.0, 30.0, 20.0))
    b.add("g", "room", room(5, 3, 5), "wall")
    for number, x in enumerate((0.7, 2.2, 3.9)):
        b.add("g", f"crate {number}", box((x, 0, 2), (x + 0.6, 0.7 + 0.2 * number, 2.7)), "wall")
    b.add("g", "panel", box((1, 2.6, 1), (2, 2.7, 2)), "glow")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    return level_file(folder, b)


def finer(path: str = "g/crate 1", by: float = 2.0) -> Brief:
    return Brief(marks={path: Mark(density=by)})


def told(folder: Path, event: str) -> dict[str, Any]:
    """The only journal entry of a kind."""
    (found,) = [e for e in events(folder) if e["event"] == event]
    return found


def test_a_changed_density_shoots_only_that_object_and_gives_the_same_light(tmp_path: Path) -> None:
    level, made = furnished(tmp_path), recipe("working", density__texels_per_metre=8.0)
    bake(level, made, tmp_path / "a")
    carried = bake(level, made, tmp_path / "b", brief=finer())
    fresh = bake(level, made, tmp_path / "c", brief=finer(), cache=tmp_path / "other")
    kept, shot = told(tmp_path / "b", "kept"), told(tmp_path / "b", "shot")
    assert kept["texels"] > 0.85 * kept["of"]
    assert shot["rays"] + 0.0 < 0.15 * told(tmp_path / "c", "shot")["rays"]
    ours, theirs = arrays(carried, tmp_path / "cache"), arrays(fresh, tmp_path / "other")
    assert ours.keys() == theirs.keys() and len(ours) >= 8
    for name, array in theirs.items():
        np.testing.assert_array_equal(ours[name], array, err_msg=name)
    for page in fresh["pages"]:
        assert (tmp_path / "b" / page["file"]).read_bytes() == (tmp_path / "c" / page["file"]).read_bytes()


def test_another_count_of_rays_shoots_only_the_difference(tmp_path: Path) -> None:
    level = furnished(tmp_path)
    few, many = (recipe("working", density__texels_per_metre=6.0, light__gather_rays=r) for r in (48, 128))
    bake(level, few, tmp_path / "a")
    first = told(tmp_path / "a", "shot")
    more = bake(level, many, tmp_path / "b")
    second = told(tmp_path / "b", "shot")
    assert (second["rays"], second["kept"]) == (first["rays"] // 48 * 80, first["rays"])
    fresh = bake(level, many, tmp_path / "c", cache=tmp_path / "other")
    np.testing.assert_array_equal(
        arrays(more, tmp_path / "cache")["hits hits"], arrays(fresh, tmp_path / "other")["hits hits"]
    )
    fewer = recipe("working", density__texels_per_metre=6.0, light__gather_rays=100)
    bake(level, fewer, tmp_path / "d")
    assert told(tmp_path / "d", "shot")["rays"] == 0


def test_another_seed_or_another_level_takes_nothing_over(tmp_path: Path) -> None:
    level = furnished(tmp_path)
    bake(level, recipe("sketch"), tmp_path / "a")
    bake(level, recipe("sketch", light__seed=9), tmp_path / "b")
    assert told(tmp_path / "b", "shot")["kept"] == 0
    other = LevelBuilder()
    other.material("wall", (0.6, 0.5, 0.4))
    other.add("g", "room", room(5.5, 3.5, 5.5), "wall")
    bake(level_file(tmp_path, other, "other.glb"), recipe("sketch"), tmp_path / "c", sky=(1.0, 1.0, 1.0))
    assert told(tmp_path / "c", "shot")["kept"] == 0


def stopped_after(level: Path, folder: Path, cache: Path, made: Any, rays: int, brief: Brief) -> None:
    """Begin a build and stop it once so many rays are in its table."""
    folder.mkdir()
    journal = Journal(folder)

    def enough() -> Stopped | None:
        for place in cache.glob("*.begun"):
            found = Store(cache).unfinished(place.name.removesuffix(".begun"))
            if found is not None and int(found.arrays["done"].sum(dtype=np.int64)) >= rays:
                return Stopped()
        return None

    with pytest.raises(Stopped):
        build(Request(level, folder, cache, made, brief=brief), journal, enough)
    journal.close()


def test_a_stopped_build_goes_on_where_it_was(tmp_path: Path) -> None:
    level, made = furnished(tmp_path), recipe("working", density__texels_per_metre=12.0, light__gather_rays=256)
    stopped_after(level, tmp_path / "a", tmp_path / "cache", made, 300_000, Brief())
    second = bake(level, made, tmp_path / "b")
    shot = told(tmp_path / "b", "shot")
    assert shot["kept"] >= 300_000 and shot["rays"] > 0
    fresh = bake(level, made, tmp_path / "c", cache=tmp_path / "other")
    assert shot["kept"] + shot["rays"] == told(tmp_path / "c", "shot")["rays"]
    np.testing.assert_array_equal(
        arrays(second, tmp_path / "cache")["hits hits"], arrays(fresh, tmp_path / "other")["hits hits"]
    )
    assert not list((tmp_path / "cache").glob("*.begun"))


def test_a_density_changed_during_a_build_restarts_only_that_object(tmp_path: Path) -> None:
    level, made = furnished(tmp_path), recipe("working", density__texels_per_metre=12.0, light__gather_rays=256)
    stopped_after(level, tmp_path / "a", tmp_path / "cache", made, 2_000_000, Brief())
    second = bake(level, made, tmp_path / "b", brief=finer())
    assert told(tmp_path / "b", "shot")["kept"] > 1_500_000
    fresh = bake(level, made, tmp_path / "c", brief=finer(), cache=tmp_path / "other")
    ours, theirs = arrays(second, tmp_path / "cache"), arrays(fresh, tmp_path / "other")
    for name, array in theirs.items():
        np.testing.assert_array_equal(ours[name], array, err_msg=name)


def test_a_killed_build_is_gone_on_with(tmp_path: Path) -> None:
    level, made = furnished(tmp_path), recipe("working", density__texels_per_metre=16.0, light__gather_rays=512)
    process = BuildProcess(Request(level, tmp_path / "a", tmp_path / "cache", made))
    store = Store(tmp_path / "cache")
    while process.poll() is None:
        begun = [store.unfinished(p.name.removesuffix(".begun")) for p in (tmp_path / "cache").glob("*.begun")]
        # Texels without an open sample count as done, so a part of it is theirs.
        if any(b is not None and int(b.arrays["done"].sum(dtype=np.int64)) > 2_000_000 for b in begun):
            os.kill(process.pid, signal.SIGKILL)
            break
    while process.poll() is None:
        pass
    second = BuildProcess(Request(level, tmp_path / "b", tmp_path / "cache", made))
    while second.poll() is None:
        pass
    assert read_manifest(tmp_path / "b").texels > 0
    assert told(tmp_path / "b", "shot")["kept"] > 500_000


def test_what_was_only_just_begun_is_not_there_yet(tmp_path: Path) -> None:
    store = Store(tmp_path)
    with pytest.raises(KeyError), store.resuming(X, {"a": ("<i8", [4])}) as (folder, _):
        (folder / "a.npy").touch()
        assert store.unfinished(X) is None
        raise KeyError


def test_what_was_begun_before_a_power_cut_is_not_trusted(tmp_path: Path) -> None:
    store, shapes = Store(tmp_path), {"a": ("<i8", [4])}
    with pytest.raises(KeyError), store.resuming(X, shapes) as (folder, begun):
        assert not begun
        np.save(folder / "a.npy", np.arange(4))
        assert store.unfinished(X) is not None
        state = (folder / "begun.json").read_text()
        (folder / "begun.json").write_text(state.replace('"boot": "', '"boot": "another '))
        assert store.unfinished(X) is None
        raise KeyError
    # An end that could tell of itself brings it to the disk first.
    assert store.unfinished(X) is not None
    with store.resuming(X, shapes) as (folder, begun):
        assert begun
        store.describe(folder, {"n": 1})
    found = store.get(X)
    assert found is not None and found.meta == {"n": 1} and store.unfinished(X) is None


def test_two_builds_of_one_table_do_not_meet(tmp_path: Path) -> None:
    store, shapes = Store(tmp_path), {"a": ("<i8", [4])}
    with store.resuming(X, shapes) as (first, _):
        with Store(tmp_path).resuming(X, shapes) as (second, begun):
            assert second != first and not begun
            np.save(second / "a.npy", np.zeros(4))
            store.describe(second, {})
        assert store.get(X) is not None
        np.save(first / "a.npy", np.ones(4))
        store.describe(first, {})
    found = store.get(X)
    assert found is not None and found.arrays["a"].tolist() == [0, 0, 0, 0], "it is the same, and may be in use"


def test_trimming_leaves_what_is_being_written(tmp_path: Path) -> None:
    store, shapes = Store(tmp_path, limit_bytes=10), {"a": ("<f8", [4000])}
    with store.resuming(X, shapes) as (folder, _):
        np.save(folder / "a.npy", np.zeros(4000))
        Store(tmp_path, limit_bytes=10).trim(set())
        assert (folder / "a.npy").exists()
        store.describe(folder, {})
    assert store.trim(set()) > 30_000 and store.get(X) is None


def test_another_shape_begins_anew(tmp_path: Path) -> None:
    store = Store(tmp_path)
    with pytest.raises(KeyError), store.resuming(X, {"a": ("<i8", [4])}) as (folder, _):
        np.save(folder / "a.npy", np.arange(4))
        raise KeyError
    with store.resuming(X, {"a": ("<i8", [5])}) as (folder, begun):
        assert not begun and not (folder / "a.npy").exists()
        np.save(folder / "a.npy", np.arange(5))
        store.describe(folder, {})


def test_a_disk_that_is_full_is_told_and_leaves_nothing(tmp_path: Path) -> None:
    store = Store(tmp_path)
    with pytest.raises(BuildError, match="cannot be written"), store.resuming(X, {"a": ("<i8", [4])}):
        raise OSError(28, "No space left on device")
    assert not list(tmp_path.iterdir())


def test_a_hit_table_that_does_not_fit_the_disk_fails_with_a_word(tmp_path: Path) -> None:
    """The table is mapped: without asking for the room first, a full disk would end the process at some later write."""
    level, made = furnished(tmp_path), recipe("working", density__texels_per_metre=8.0, light__gather_rays=1024)
    before = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (8 << 20, before[1]))
    try:
        with pytest.raises(BuildError, match="the cache cannot be written"):
            bake(level, made, tmp_path / "a")
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, before)
    assert not list((tmp_path / "cache").glob("*.begun"))
    bake(level, made, tmp_path / "b")
    assert read_manifest(tmp_path / "b").kept.rays == 0


def test_many_tables_of_one_layout_do_not_push_out_the_others(tmp_path: Path) -> None:
    store = Store(tmp_path)
    kin.remember(store, "ground", "old layout", "footing", "table", 1)
    for number in range(20):
        kin.remember(store, "ground", "layout", "footing", f"table {number}", 1)
    kin.remember(store, "ground", "layout", "footing", "table 18", 1)
    known = [(e["charts"], e["transport"]) for e in kin._known(store, "ground")]
    assert known == [
        ("old layout", "table"), ("layout", "table 17"), ("layout", "table 19"), ("layout", "table 18"),
    ]  # fmt: skip


def test_the_peak_is_that_of_this_program_alone() -> None:
    """A process begins with the peak of the one that started it, as `getrusage` tells it."""
    held = np.ones(60 << 20, np.uint8)  # 60 MB, all of them touched
    script = "from ropebell.build.memory import peak_bytes; print(peak_bytes())"
    told = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout
    assert 5 << 20 < int(told) < 200 << 20
    assert peak_bytes() > held.nbytes
