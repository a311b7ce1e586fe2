"""A build handed over: what speaks against it, what goes along, and that others build the same of it."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from helpers import bake, level_file, meter, recipe, room
from ropebell.build.project import find_project
from ropebell.build.scope import Scope
from ropebell.cli.main import main
from ropebell.deliver import package as packing
from ropebell.deliver.objections import FIRM, objections
from ropebell.deliver.package import package
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.errors import BuildError
from ropebell.files import write_json
from ropebell.level.brief import NO_BRIEF, Brief, LightChange, Mark, Sky, TrialDensity
from ropebell.level.model import Light

MADE = recipe("sketch", density__texels_per_metre=3.0, light__gather_rays=64)


def _hall(folder: Path, lamp: float = 300.0) -> Path:
    b = LevelBuilder()
    b.material("plaster", (0.6, 0.5, 0.4))
    b.add("hall", "room", room(4, 3, 4), "plaster")
    b.add("hall", "crate", box((0, 0, 0), (1, 1, 1)), "plaster", at(1, 0, 1))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), lamp), at(3, 2, 3))
    b.spot("helpers", "start", at(3, 0, 1))
    folder.mkdir(parents=True, exist_ok=True)
    return level_file(folder, b)


@pytest.fixture
def built(tmp_path: Path) -> Path:
    """A finished build of a project."""
    return _built(tmp_path / "mine")


def _built(folder: Path, brief: Brief = NO_BRIEF, **settings: object) -> Path:
    level = _hall(folder)
    project = replace(find_project(level), folder=folder, brief=brief, recipe=MADE)
    project.save()
    out = folder / "builds" / "0001"
    out.mkdir(parents=True)
    bake(level, recipe("sketch", **{"density__texels_per_metre": 3.0, "light__gather_rays": 64, **settings}), out,
         cache=folder / "cache", brief=brief, sky=project.sky)  # fmt: skip
    return out


def _kinds(folder: Path) -> dict[str, bool]:
    return {f.kind: f.severity == FIRM for f in objections(folder)}


def test_what_is_packed_is_whole_and_others_build_the_same_of_it(
    built: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    out = tmp_path / "package"
    assert main(["export", str(built), "--out", str(out), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["objections"] == [] and told["out"] == str(out)
    listed = {f["name"]: (f["bytes"], f["sha256"]) for f in told["files"]}
    there = {p.relative_to(out).as_posix() for p in out.rglob("*") if p.is_file()}
    assert there == {*listed, "contents.json"} and told["bytes"] == sum(size for size, _ in listed.values())
    for name, (size, digest) in listed.items():
        data = (out / name).read_bytes()
        assert (len(data), hashlib.sha256(data).hexdigest()) == (size, digest)
        # Nothing tells where it was made.
        assert name.endswith((".exr", ".png", ".glb")) or str(tmp_path) not in data.decode()
    # As the receiver has it: alone, elsewhere.
    shutil.move(out, tmp_path / "there")
    shutil.rmtree(built.parents[1])
    assert main(["bake", str(tmp_path / "there" / "source"), "--out", str(tmp_path / "again")]) == 0
    capsys.readouterr()
    assert main(["expect", str(tmp_path / "again"), "--against", str(tmp_path / "there" / "expected.json")]) == 0
    assert "It agrees at all of" in capsys.readouterr().out
    (mine,), (theirs,) = (meter(f, (2.0, 0.0, 3.0)) for f in (tmp_path / "again", tmp_path / "there" / "baked"))
    np.testing.assert_array_equal(mine.irradiance, theirs.irradiance)


def test_drafts_parts_and_what_changed_since_are_never_handed_over(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    draft = _built(tmp_path / "draft", draft=2)
    assert _kinds(draft) == {"draft": True}
    assert main(["export", str(draft), "--out", str(tmp_path / "p"), "--despite", "any"]) == 1
    assert "Build it final" in capsys.readouterr().out and not (tmp_path / "p").exists()

    changed = _built(tmp_path / "changed")
    _hall(changed.parents[1], lamp=310.0)  # exported again
    assert _kinds(changed) == {"changed-since": True}
    (changed.parents[1] / "level.glb").unlink()
    assert _kinds(changed) == {"source-missing": True}

    whole = _built(tmp_path / "part")
    part = whole.parent / "0002"
    part.mkdir()
    bake(whole.parents[1] / "level.glb", MADE, part, cache=whole.parents[1] / "cache",
         scope=Scope(only=("hall/crate",), since=whole))  # fmt: skip
    assert _kinds(part) == {"part-build": True}


def test_what_must_not_go_out_by_accident_is_named_and_told_in_the_package(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    plain = _built(tmp_path / "plain")
    (lamp,) = json.loads((plain / "manifest.json").read_text())["lights"]
    brief = Brief(
        marks={"hall/crate": Mark(work=True)}, lights={lamp: LightChange(work=True)},
        test_density=TrialDensity(0.5, ("hall/room",)),
    )  # fmt: skip
    built = _built(tmp_path / "mine", brief)
    assert _kinds(built) == {"work-object": False, "work-light": False, "test-density": False}
    wanted = ["export", str(built), "--out", str(tmp_path / "p.zip")]
    assert main([*wanted, "--despite", "work-light", "--most-mb", "0.0001"]) == 1
    said = capsys.readouterr().out
    assert "Work object" in said and "Too large" in said and "Work light" not in said
    assert main([*wanted, "--despite", "no-such"]) == 2
    assert main([*wanted, "--despite", "any"]) == 0
    with zipfile.ZipFile(tmp_path / "p.zip") as archive:
        assert archive.testzip() is None
        assert {entry.external_attr >> 16 for entry in archive.infolist()} == {0o644}
        readme = archive.read("p/README.txt").decode()
        told = json.loads(archive.read("p/contents.json"))
    assert "Handed over although:" in readme and "work light" in readme
    assert {f["kind"] for f in told["handed_over_with"]} == {"work-object", "work-light", "test-density"}
    # A note that it is fine here is enough.
    noted = replace(brief, known={f"work-light {lamp}": "it belongs there"})
    assert "work-light" not in _kinds(_built(tmp_path / "noted", noted))


def test_what_was_decided_since_does_not_go_along(built: Path, tmp_path: Path) -> None:
    project = find_project(built.parents[1])
    (lamp,) = json.loads((built / "manifest.json").read_text())["lights"]
    project.with_light(lamp, LightChange(intensity=10.0)).save()
    assert _kinds(built) == {"decided-since": False}
    packed = package(built, tmp_path / "p", objections(built))
    assert find_project(packed.path / "source").brief.lights == {}
    project.with_brief(known={"x y": "a note"}).save()
    assert _kinds(built) == {}


def test_a_level_beside_its_project_goes_along_with_its_pictures_tables_and_sky(tmp_path: Path) -> None:
    home = tmp_path / "levels"
    (home / "pictures").mkdir(parents=True)
    Image.new("RGB", (4, 4), (200, 180, 160)).save(home / "pictures" / "tiles.png")
    (home / "shed.mtl").write_text("newmtl tiles\nKd 1 1 1\nmap_Kd pictures/tiles.png\n")
    (home / "shed.obj").write_text(
        "mtllib shed.mtl\nusemtl tiles\no floor\nv 0 0 0\nv 0 0 2\nv 2 0 2\nv 2 0 0\n"
        "vt 0 0\nvt 0 1\nvt 1 1\nvt 1 0\nf 1/1 2/2 3/3 4/4\n"
    )
    project = find_project(home / "shed.obj")
    assert project.folder == home / "shed-light"
    (project.folder / "tables").mkdir(parents=True)
    (project.folder / "tables" / "ours.csv").write_text("material,red,green,blue\ntiles,0,0,0\n")
    sky = Sky((100.0, 100.0, 100.0))
    project = replace(project, recipe=MADE, brief=Brief(skies={"day": sky}, sky="day", tables=("tables/ours.csv",)))
    project.save()
    out = tmp_path / "out"
    bake(project.level, MADE, out, cache=project.cache, brief=project.brief, sky=project.sky, tables=project.tables)
    packed = package(out, tmp_path / "p")
    names = {name for name, *_ in packed.files}
    assert {"source/level/shed.obj", "source/level/shed.mtl", "source/level/pictures/tiles.png",
            "source/tables/ours.csv", "source/project.toml"} <= names  # fmt: skip
    shutil.rmtree(home)
    again = find_project(packed.path / "source")
    assert again.level.is_file() and again.sky == (100.0, 100.0, 100.0) and all(t.is_file() for t in again.tables)


def test_nothing_is_left_where_it_cannot_be_written_and_nothing_is_written_over(
    built: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    there = tmp_path / "there"
    there.write_text("mine")
    assert main(["export", str(built), "--out", str(there)]) == 2 and there.read_text() == "mine"
    before = sorted(p.name for p in tmp_path.iterdir())

    def full(path: Path, values: object) -> None:
        if path.name == packing.CONTENTS:
            raise OSError(28, os.strerror(28))
        write_json(path, values)

    monkeypatch.setattr(packing, "write_json", full)
    with pytest.raises(BuildError, match="cannot be written"):
        package(built, tmp_path / "p")
    assert sorted(p.name for p in tmp_path.iterdir()) == before


def test_what_was_packed_is_held_against_the_build(
    built: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    copy = packing.Written.copy

    def otherwise(written: packing.Written, source: Path, name: str) -> None:
        copy(written, source, name)
        if name.endswith("/level.glb"):
            shutil.copy(_hall(tmp_path / "other", lamp=20.0), written.folder / name)

    monkeypatch.setattr(packing.Written, "copy", otherwise)
    with pytest.raises(BuildError, match="would not be built as it was: 1 light"):
        package(built, tmp_path / "p")
    assert not (tmp_path / "p").exists()
