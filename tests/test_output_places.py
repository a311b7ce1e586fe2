"""Nothing that a person made is written over, through a link, or beside the place that was named."""

from __future__ import annotations

import json
import os
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest

from helpers import bake, floor, level_file, recipe
from ropebell.cli.main import main
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.write import LEVEL_NAME
from ropebell.level.model import Light
from ropebell.output_place import PACKAGE, output_package

# Places that are none; each within a folder of its own below the one that must stay as it is.
NO_PLACES = ("", "..", ".", "../..", "...zip", ".zip", "  .zip", "....zip", "x/..", "y" * 256, "y\0z")
PLACES = ("a\nb.zip", "...x", "a b.ZIP", "x" * 251 + ".zip", "dir/", "-x.zip", "\\..\\..\\x.zip", "..a.zip")


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A build of a floor below a lamp, in a project."""
    folder = tmp_path_factory.mktemp("built")
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "floor", floor(2), "grey")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 40.0), at(0, 1, 0))
    level = level_file(folder, b, LEVEL_NAME)
    (folder / "project.toml").write_text(f'name = "Small"\nlevel = "{LEVEL_NAME}"\n')
    bake(level, recipe("sketch", density__texels_per_metre=4), folder / "out")
    return folder / "out"


def _guarded(tmp_path: Path) -> tuple[Path, Callable[[], bool]]:
    """A folder to write in, and whether all that lies above it is as it was."""
    home = tmp_path / "home"
    work = home / "work"
    work.mkdir(parents=True)
    for name in ("README.txt", "contents.json", "expected.json", "project.toml"):
        (home / name).write_text("mine")
    before = {p.name: p.read_text() if p.is_file() else "" for p in home.iterdir()}
    return work, lambda: before == {p.name: p.read_text() if p.is_file() else "" for p in home.iterdir()}


@pytest.mark.parametrize("name", NO_PLACES)
def test_a_package_without_a_name_of_its_own_is_refused(
    built: Path, tmp_path: Path, name: str, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    work, same = _guarded(tmp_path)
    monkeypatch.chdir(work)
    assert main(["export", str(built), "--out", name, "--despite", "any"]) == 2
    assert same() and not list(work.iterdir())
    assert capsys.readouterr().err.count("\n") == 1


@pytest.mark.parametrize("name", PLACES)
def test_a_package_lies_where_it_was_named_and_under_one_folder(
    built: Path, tmp_path: Path, name: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    work, same = _guarded(tmp_path)
    monkeypatch.chdir(work)
    status = main(["export", str(built), f"--out={name}", "--despite", "any"])
    assert same() and status == 0
    (made,) = work.iterdir()
    assert made.name == name.rstrip("/")
    if made.is_dir():
        names = {p.relative_to(made).as_posix() for p in made.rglob("*") if p.is_file()}
        contents = json.loads((made / "contents.json").read_text())
    else:
        with zipfile.ZipFile(made) as archive:
            listed = archive.namelist()
            root = output_package(work / "other" / name.rstrip("/"))[1]
            assert all(n.startswith(f"{root}/") and "\\" not in n and ".." not in n.split("/") for n in listed)
            names = {n.removeprefix(f"{root}/") for n in listed}
            contents = json.loads(archive.read(f"{root}/contents.json"))
    assert {f["name"] for f in contents["files"]} | {"contents.json"} == names


def test_the_folder_in_a_package_has_a_name_that_means_the_same_everywhere(tmp_path: Path) -> None:
    assert output_package(tmp_path / "\\..\\x.zip")[1] == PACKAGE
    assert output_package(tmp_path / "mill 7.zip")[1] == "mill 7"


# Every option that names something to be written, with what stands before it.
WRITES = {
    "bake": ("bake", "{level}", "--recipe", "sketch", "--out"), "demo": ("demo", "--bare"),
    "export": ("export", "{build}", "--despite", "any", "--out"), "shots": ("shots", "--out"),
    "hunt": ("hunt", "{level}", "--while", "black>0.9", "--out"),
    "sarif": ("faults", "{build}", "--sarif"), "csv": ("faults", "{build}", "--csv"),
    "html": ("faults", "{build}", "--html"), "page": ("compare", "{build}", "{build}", "--html"),
    "save": ("expect", "{build}", "--save"), "accuracy": ("accuracy", "--out"), "detection": ("detection", "--out"),
    "plot": ("bench", "--plot"), "hunts": ("bench", "--hunts"),
}  # fmt: skip


@pytest.mark.parametrize("command", WRITES)
def test_no_command_writes_through_a_link_or_over_what_it_did_not_make(
    built: Path, tmp_path: Path, command: str, capsys: pytest.CaptureFixture[str]
) -> None:
    words = [w.format(build=built, level=built.parent) for w in WRITES[command]]
    folder, diary = tmp_path / "attic", tmp_path / "diary.html"
    folder.mkdir()
    diary.write_text("dear diary")
    (tmp_path / "to folder").symlink_to(folder)
    (tmp_path / "to file").symlink_to(diary)
    (tmp_path / "to nothing").symlink_to(tmp_path / "nothing")
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "level.glb").write_text("precious")
    for name in ("to folder", "to file", "to nothing", "pipe", "level.glb"):
        assert main([*words, str(tmp_path / name)]) == 2, name
        said = capsys.readouterr().err
        assert said.startswith("ropebell: ") and said.count("\n") == 1
    assert diary.read_text() == "dear diary" and not list(folder.iterdir())
    assert (tmp_path / "level.glb").read_text() == "precious" and not (tmp_path / "nothing").exists()


@pytest.mark.parametrize("name", ["manifest.json", "journal.jsonl", "findings.json", "pages"])
def test_a_report_never_replaces_a_file_of_a_build(built: Path, name: str) -> None:
    before = (built / name).read_bytes() if (built / name).is_file() else b""
    assert main(["faults", str(built), "--html", str(built / name)]) == 2
    assert not before or (built / name).read_bytes() == before


def test_a_report_replaces_an_earlier_one_and_its_name_may_be_as_long_as_names_can_be(
    built: Path, tmp_path: Path
) -> None:
    page = tmp_path / ("p" * 250 + ".html")
    for _ in range(2):
        assert main(["faults", str(built), "--html", str(page)]) in (0, 1)
    assert [p.name for p in tmp_path.iterdir()] == [page.name]


def test_a_hunt_does_not_write_over_strangers_files(built: Path, tmp_path: Path) -> None:
    (tmp_path / "case.html").write_text("mine")
    words = ["hunt", str(built.parent), "--while", "black>0.9", "--out", str(tmp_path)]
    assert main(words) == 2 and (tmp_path / "case.html").read_text() == "mine"


def test_a_build_into_the_folder_one_stands_in_lies_there(
    built: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    place = tmp_path / "here"
    place.mkdir()
    monkeypatch.chdir(place)
    for _ in range(2):
        assert main(["bake", str(built.parent), "--recipe", "sketch", "--set", "draft=8", "--out", "."]) == 0
    assert (place / "manifest.json").is_file() and (tmp_path / "here.before-1" / "manifest.json").is_file()
