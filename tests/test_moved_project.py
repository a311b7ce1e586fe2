"""A project that is moved, renamed or copied keeps its builds; a level finds its project wherever it is asked for."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from helpers import floor, level_file
from ropebell.build.manifest import read_manifest
from ropebell.build.relocation import Relocation
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.demo.write import LEVEL_NAME
from ropebell.level.model import Light

SPOT = "0.5,0,0.5"


def _level(folder: Path, crate: float = 0.5, name: str = LEVEL_NAME) -> Path:
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(4), "grey")
    b.add("g", "crate", box((0, 0, 0), (0.6, 0.6, 0.6)), "grey", at(crate, 0, -1))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 60.0), at(0, 1.5, 0))
    return level_file(folder, b, name)


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A project with one build."""
    folder = tmp_path_factory.mktemp("moved") / "project"
    folder.mkdir()
    _level(folder)
    (folder / "project.toml").write_text(f'name = "Small"\nlevel = "{LEVEL_NAME}"\nsky = [1, 1, 1]\n')
    words = ["bake", str(folder), "--out", str(folder / "builds" / "0001"), "--recipe", "sketch"]
    assert main([*words, "--set", "density.texels_per_metre=4"]) == 0
    return folder


def _answer(capsys: pytest.CaptureFixture[str], *words: str) -> tuple[int, dict]:
    capsys.readouterr()
    status = main([*words, "--json"])
    return status, json.loads(capsys.readouterr().out)


@pytest.mark.parametrize("how", ["renamed", "moved deeper", "copied", "copied, the original gone"])
def test_all_that_a_build_answers_it_answers_elsewhere(
    made: Path, tmp_path: Path, how: str, capsys: pytest.CaptureFixture[str]
) -> None:
    _, right = _answer(capsys, "account", str(made / "builds" / "0001"), SPOT)
    mine = tmp_path / "mine"
    shutil.copytree(made, mine)  # the fixture serves other tests, too
    build = mine / "builds" / "0001"
    if how != "copied":
        # As if it had been made here, and this were the place it leaves.
        for name in ("manifest.json", "journal.jsonl"):
            (build / name).write_text((build / name).read_text().replace(str(made), str(mine)))
    there = tmp_path / ("a/b/c" if how == "moved deeper" else "other")
    there.parent.mkdir(parents=True, exist_ok=True)
    if how == "copied, the original gone":
        shutil.copytree(mine, there)
        shutil.rmtree(mine)
    elif how != "copied":
        mine.rename(there)
    else:
        there = mine
    build = there / "builds" / "0001"
    status, found = _answer(capsys, "account", str(build), SPOT)
    assert status == 0 and found["irradiance"] == right["irradiance"] and found["from"] == right["from"]
    assert main(["meter", str(build), SPOT]) == 0
    assert main(["export", str(build), "--out", str(tmp_path / "p.zip"), "--despite", "any"]) == 0
    assert Path(read_manifest(build).level.file) == there / LEVEL_NAME
    assert Path(read_manifest(build).cache) == there / "cache"


def test_a_copy_never_looks_at_the_original(made: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    copy = tmp_path / "copy"
    shutil.copytree(made, copy)
    _level(copy, crate=-1.0)

    def old(folder: Path) -> set[str]:
        _, found = _answer(capsys, "faults", str(folder / "builds" / "0001"))
        return {f["object"] for f in found["findings"] if f["kind"] == "stale-object"}

    assert "g/crate" in old(copy) and "g/crate" not in old(made)


def test_what_lay_elsewhere_stays_where_it_was(tmp_path: Path) -> None:
    elsewhere, home = tmp_path / "elsewhere" / "level.glb", tmp_path / "new"
    elsewhere.parent.mkdir()
    elsewhere.touch()
    (home / "builds" / "0003").mkdir(parents=True)
    moved = Relocation(str(tmp_path / "old" / "builds" / "0003"), home / "builds" / "0003")
    assert moved.path(elsewhere) == elsewhere
    assert moved.path(tmp_path / "old" / "gone.glb") == tmp_path / "old" / "gone.glb"
    (home / "here.glb").touch()
    assert moved.path(tmp_path / "old" / "here.glb") == home / "here.glb"
    # One build that was taken elsewhere under another number has nothing beside it.
    assert Relocation(str(tmp_path / "old" / "builds" / "0003"), home / "builds" / "0007").path(
        tmp_path / "old" / "here.glb"
    ) == (tmp_path / "old" / "here.glb")
    assert Relocation("", home).path(elsewhere) == elsewhere


def _decided(folder: Path, level: Path) -> Path:
    """A project of a level, in which the crate is left out."""
    folder.mkdir(exist_ok=True)
    reference = Path(level.name) if folder == level.parent else Path("..") / level.name
    text = f'name = "Small"\nlevel = "{reference}"\nsky = [1, 1, 1]\n[marks."g/crate"]\nrole = "left-out"\n'
    (folder / "project.toml").write_text(text)
    return folder


@pytest.mark.parametrize("where", [".", "my-level-light", "my-level.glb-light"])
def test_a_level_finds_its_project_and_says_so(tmp_path: Path, where: str, capsys: pytest.CaptureFixture[str]) -> None:
    level = _level(tmp_path, name="my-level.glb")
    project = _decided(tmp_path / where if where != "." else tmp_path, level)
    out = tmp_path / "built"
    how = ["--recipe", "sketch", "--set", "draft=8", "--out"]
    assert main(["bake", str(level), *how, str(out)]) == 0
    said = capsys.readouterr().err
    assert f"belongs to the project {project}" in said
    assert read_manifest(out).brief.marks["g/crate"].role == "left-out" and read_manifest(out).sky == (1, 1, 1)
    assert main(["bake", str(level), *how, str(tmp_path / "alone"), "--no-project", "--sky", "1,1,1"]) == 0
    assert "is left aside" in capsys.readouterr().err
    assert not read_manifest(tmp_path / "alone").brief.marks


def test_of_several_projects_the_one_beside_the_level_counts(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    level = _level(tmp_path, name="my-level.glb")
    _decided(tmp_path, level)
    _decided(tmp_path / "my-level-light", level)
    main(["check", str(level)])
    said = capsys.readouterr().err
    assert f"belongs to the project {tmp_path}, which counts" in said
    assert f"the project {tmp_path / 'my-level-light'} names my-level.glb, too, and is left aside" in said


def test_a_project_of_another_level_beside_it_does_not_count(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    level = _level(tmp_path, name="my-level.glb")
    _decided(tmp_path / "my-level-light", _level(tmp_path, name="other.glb"))
    main(["check", str(level)])
    assert "project" not in capsys.readouterr().err
