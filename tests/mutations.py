"""Files of every kind that the program reads, spoiled in every way: for the suite, and for `tools/mutate.py`.

Whatever is in them, the answer is a result or one plain sentence: no traceback, no crash, no hang, no memory without
bounds. Every input is made from its number alone, so that what failed once can be looked at again.
"""

from __future__ import annotations

import json
import random
import shutil
import tomllib
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import tomli_w
from PIL import Image

from helpers import floor, level_file, recipe, room
from ropebell.build.conditions import parse_conditions
from ropebell.build.journal import JOURNAL, Journal, read_events
from ropebell.build.manifest import MANIFEST, read_manifest
from ropebell.build.meter import Meter
from ropebell.build.outputs import BAKED_LEVEL
from ropebell.build.pipeline import build
from ropebell.build.plan import Plan, active_profile, plan_of, profiles, with_plan, with_profile, with_profile_kept
from ropebell.build.precheck import gather
from ropebell.build.probe_file import PROBES, read_probes
from ropebell.build.project import PROJECT_FILE, Project, find_project
from ropebell.build.queue import QUEUE, Entry, read_queue, write_queue
from ropebell.build.recipe import load, with_value
from ropebell.build.request import Request
from ropebell.build.result import open_result, outcome
from ropebell.build.scope import EVERYTHING, Scope
from ropebell.build.stages import STAGES
from ropebell.build.stale import stale_stages
from ropebell.build.store import Store
from ropebell.checks.run import check
from ropebell.demo.builder import LevelBuilder, at
from ropebell.errors import RopeBellError, Stopped
from ropebell.level.brief import Box, Brief, ProbeSet, Region, Sky
from ropebell.level.emitter_table import read_table
from ropebell.level.model import Light
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten
from ropebell.level.sky_picture import read_sky_picture

STAGE_NAMES = tuple(stage.name for stage in STAGES)
NASTY: tuple[Any, ...] = (
    None, True, -1, 0, 1e308, float("nan"), float("inf"), 2**63, 10**9, -(2**31), "", "x", "../../etc/passwd",
    "/etc/passwd", "\x00", "a" * 5000, "ü", [], [1], [[]], {}, {"a": 1}, {"file": "/dev/zero"}, [1e400, "x", None],
)  # fmt: skip

JUNK = (
    b"", b"", b"[" * 5000, b'{"a":' * 3000, b"9" * 5000, b"1e999", b"\xc3", b"\xff" * 4, b"\x7f\xff\xff\xff", b"\0" * 8,
    b"99999999",
)  # fmt: skip


def sample(folder: Path) -> Path:
    """A small project with everything in it, built once; its folder."""
    b = LevelBuilder()
    b.material("wall", (0.6, 0.5, 0.4))
    b.material("glow", (0.8, 0.8, 0.8), glow=(400.0, 300.0, 200.0))
    b.add("g", "room", room(4, 3, 4), "wall")
    b.add("g", "panel", floor(1, 0.5), "glow", at(2, 0, 2))
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 80.0), at(2, 2, 2))
    level = level_file(folder, b)
    Image.fromarray(np.full((8, 16, 3), 90, np.uint8)).save(folder / "picture.png")
    (folder / "table.csv").write_text("material,red,green,blue\nglow,300,200,100\n")
    (folder / "library.mtl").write_text("newmtl m\nKd 0.5 0.5 0.5\nmap_Kd picture.png\nKe 1 2 3\n")
    (folder / "hall.obj").write_text(
        "mtllib library.mtl\nv 0 0 0\nv 1 0 0\nv 0 0 -1\nv 1 0 -1\nvt 0 0\nvt 1 0\nvt 0 1\nusemtl m\n"
        "o a\nf 1/1 2/2 3/3\nf 2 4 3\n"
    )
    (folder / "sky.hdr").write_bytes(_radiance())
    brief = Brief(
        tables=("table.csv",), skies={"day": Sky((100.0, 100.0, 100.0))}, sky="day",
        probes=ProbeSet(placed={"a": (2, 1, 2)}), region=Region(start=(2.0, 0.1, 2.0)),
    )  # fmt: skip
    project = find_project(level)
    project = type(project)(folder, level, "Hall", recipe("sketch", draft=8), brief)
    project.save()
    (folder / "recipe.toml").write_text("draft = 2\n[light]\nbounces = 3\ngather_rays = 32\n[density]\npadding = 1\n")
    plan = Plan("box", Box((0, 0, 0), (2, 2, 2)), "finish", ("black>0.2", "seconds(gather)>9"))
    with_plan(with_profile_kept(with_plan(project, plan), "night"), Plan(stop_when=plan.stop_when)).save()
    project = find_project(folder)
    out = project.builds / "0001"
    out.mkdir(parents=True)
    journal = Journal(out)
    request = _request(project, out)
    journal.write("begin", pid=1, request=request.to_json())
    build(request, journal)
    journal.write("end", outcome="done", seconds=1.0)
    journal.close()
    waiting = [Entry("Hall", str(folder), replace(request, scope=one).to_json()) for one in (Scope(), _part(folder))]
    write_queue(folder / QUEUE, waiting)
    _begin(project)
    return folder


def _request(project: Project, out: Path, scope: Scope = EVERYTHING, **light: Any) -> Request:
    made = project.recipe
    for key, value in light.items():
        made = with_value(made, f"light.{key}", value)
    return Request(
        project.level, out, project.cache, made, project.sky, project.brief, project.tables, pictures=False,
        scope=scope, stop_when=plan_of(project).stop_when,
    )  # fmt: skip


def _part(folder: Path) -> Scope:
    """One object, over the light of the sample's build."""
    return Scope(("g/panel",), since=folder / "builds" / "0001")


# What another seed needs is shot from nothing.
BEGUN = {"seed": 5, "gather_rays": 2048}


def _begin(project: Project) -> None:
    """Begin a build and stop it as soon as a part of its rays is kept."""
    store, out = Store(project.cache), project.folder / "begun"

    def enough() -> Stopped | None:
        names = [p.name.removesuffix(".begun") for p in project.cache.glob("*.begun")]
        found = next((store.unfinished(name) for name in names), None)
        return Stopped() if found is not None and found.arrays["done"].any() else None

    out.mkdir()
    journal = Journal(out)
    try:
        build(_request(project, out, **BEGUN), journal, enough)
        raise AssertionError("it was not stopped")
    except Stopped:
        pass
    finally:
        journal.close()


def _radiance() -> bytes:
    """A small Radiance picture, uncompressed."""
    return b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 4 +X 8\n" + bytes([128, 100, 90, 130]) * 32


# -- what is done with them


def _meter(folder: Path) -> None:
    result = open_result(folder / "builds" / "0001")
    reader = Meter(result)
    reader.read_many(np.array([[2.0, 0.1, 2.0], [0.5, 1.0, 0.5], [1e9, 0.0, 0.0]]))
    read_probes(result.folder)


def _history(folder: Path) -> None:
    _meter(folder)
    project = find_project(folder)
    gathered = gather(open_level(project.level), project.brief, project.recipe, project.sky, project.tables)
    stale_stages(gathered.subject.baking, project, read_manifest(folder / "builds" / "0001"), {})


def _project(folder: Path) -> None:
    project = find_project(folder)
    gathered = gather(open_level(project.level), project.brief, project.recipe, project.sky, project.tables)
    check(gathered.subject)
    parse_conditions(plan_of(project).stop_when, STAGE_NAMES)
    active_profile(project)
    for name in profiles(project):
        with_profile(project, name).save()
    project.save()


def _journal(folder: Path) -> None:
    build = folder / "builds" / "0001"
    (build / MANIFEST).unlink(missing_ok=True)
    outcome(build)
    for event in read_events(build):
        if event.event == "begin":
            Request.from_json(event.request)


def _level(path: Path) -> None:
    check_level = open_level(path)
    scene = flatten(check_level)
    assert np.isfinite(scene.corners).all() and np.isfinite(scene.normals).all()


def _again(folder: Path, scope: Scope = EVERYTHING, **light: Any) -> None:
    out = folder / "again"
    out.mkdir()
    journal = Journal(out)
    try:
        build(_request(find_project(folder), out, scope, **light), journal)
        open_result(out)
    finally:
        journal.close()


def _build(folder: Path) -> None:
    # Other bounces, so that all that is kept is used.
    _again(folder, bounces=3)


def _build_part(folder: Path) -> None:
    _again(folder, _part(folder))


def _resume(folder: Path) -> None:
    _again(folder, **BEGUN)


def _queue(folder: Path) -> None:
    for entry in read_queue(folder / QUEUE):
        request = entry.begun(folder / "again")
        parse_conditions(request.stop_when, STAGE_NAMES)
        assert isinstance(entry.title + entry.told + entry.project, str)


def _in_builds(name: str) -> Callable[[Path], Path]:
    return lambda folder: folder / "builds" / "0001" / name


def _in_cache(name: str) -> Callable[[Path], Path]:
    """Some artifact's file, the same for a sample of the same bytes."""
    return lambda folder: sorted((folder / "cache").glob(f"*/{name}.npy"))[0]


def _in_begun(name: str) -> Callable[[Path], Path]:
    return lambda folder: next((folder / "cache").glob(f"*.begun/{name}.npy"))


@dataclass(frozen=True)
class Kind:
    """A kind of file.

    Attributes:
        file: of the sample that is spoiled. act: what is done then, with the sample's folder.
        how: `json`, `toml`, `lines` or `bytes`. weight: how many of a hundred inputs are of this kind.
    """

    file: Callable[[Path], Path]
    act: Callable[[Path], None]
    how: str
    weight: int


KINDS: dict[str, Kind] = {
    "manifest": Kind(_in_builds(MANIFEST), _history, "json", 16),
    "manifest bytes": Kind(_in_builds(MANIFEST), _meter, "bytes", 4),
    "project": Kind(lambda f: f / PROJECT_FILE, _project, "toml", 12),
    "project bytes": Kind(lambda f: f / PROJECT_FILE, _project, "bytes", 3),
    "recipe": Kind(lambda f: f / "recipe.toml", lambda f: load(str(f / "recipe.toml")) and None, "toml", 10),
    "recipe bytes": Kind(
        lambda f: f / "recipe.toml", lambda f: load(str(f / "recipe.toml")) and None, "bytes", 4
    ),
    "journal": Kind(_in_builds(JOURNAL), _journal, "json lines", 8),
    "journal bytes": Kind(_in_builds(JOURNAL), _journal, "bytes", 4),
    "level": Kind(lambda f: f / "level.glb", lambda f: _level(f / "level.glb"), "bytes", 4),
    "obj": Kind(lambda f: f / "hall.obj", lambda f: _level(f / "hall.obj"), "lines", 4),
    "library": Kind(lambda f: f / "library.mtl", lambda f: _level(f / "hall.obj"), "lines", 3),
    "picture": Kind(lambda f: f / "picture.png", lambda f: _level(f / "hall.obj"), "bytes", 3),
    "table": Kind(lambda f: f / "table.csv", lambda f: read_table(f / "table.csv") and None, "lines", 4),
    "sky picture": Kind(
        lambda f: f / "sky.hdr", lambda f: read_sky_picture(f / "sky.hdr") is None or None, "bytes", 4
    ),
    "baked level": Kind(_in_builds(BAKED_LEVEL), _meter, "bytes", 4),
    "probes": Kind(_in_builds(PROBES), _meter, "json", 4),
    "page": Kind(_in_builds("pages/page-00.exr"), _meter, "bytes", 3),
    "charts": Kind(_in_cache("owner"), _build, "bytes", 1),
    "hits": Kind(_in_cache("hits"), _build, "bytes", 1),
    "fields": Kind(_in_cache("texel"), _build, "bytes", 1),
    "layouts": Kind(_in_cache("uv"), _build, "bytes", 1),
    "queue": Kind(lambda f: f / QUEUE, _queue, "json", 4),
    "queue bytes": Kind(lambda f: f / QUEUE, _queue, "bytes", 1),
    "part over a manifest": Kind(_in_builds(MANIFEST), _build_part, "json", 3),
    "part over a baked level": Kind(_in_builds(BAKED_LEVEL), _build_part, "bytes", 1),
    "part over a page": Kind(_in_builds("pages/page-00.exr"), _build_part, "bytes", 1),
    "part over its charts": Kind(_in_cache("owner"), _build_part, "bytes", 1),
    "resumed over rays": Kind(_in_begun("hits"), _resume, "bytes", 1),
    "resumed over what is done": Kind(_in_begun("done"), _resume, "bytes", 1),
    "resumed over its state": Kind(lambda f: next((f / "cache").glob("*.begun/begun.json")), _resume, "json", 2),
    "artifact list": Kind(lambda f: sorted((f / "cache").glob("*/meta.json"))[0], _build, "json", 2),
}  # fmt: skip
PICKED = [name for name, kind in KINDS.items() for _ in range(kind.weight)]


# -- how they are spoiled


def _places(value: Any, path: tuple = ()) -> list[tuple]:
    found = [path] if path else []
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in items:
        found += _places(inner, (*path, key))
    return found


def _spoil_values(value: Any, rng: random.Random) -> Any:
    """One place of a document gets another value, goes, or comes twice."""
    places = _places(value)
    if not places:
        return rng.choice(NASTY)
    *above, last = rng.choice(places)
    target = value
    for key in above:
        target = target[key]
    act = rng.random()
    if act < 0.2:
        del target[last]
    elif act < 0.3 and isinstance(target, dict):
        target[f"{last} again"] = target[last]
    elif act < 0.5 and isinstance(target[last], int | float):
        target[last] = target[last] * rng.choice((-1, 1e9, 0, 1e-9)) + rng.choice((0, 1, -1))
    else:
        target[last] = rng.choice(NASTY)
    return value


def _spoil_bytes(data: bytes, rng: random.Random) -> bytes:
    whole = bytearray(data)
    act = rng.random()
    if act < 0.15 or not whole:
        return bytes(whole[: rng.randrange(len(whole) + 1)])
    if act < 0.25:
        start = rng.randrange(len(whole))
        del whole[start : start + rng.randrange(1, 64)]
        return bytes(whole)
    for _ in range(rng.choice((1, 1, 2, 8))):
        start = rng.randrange(len(whole))
        junk = rng.choice(JUNK) or bytes([rng.randrange(256)])
        keeps = len(junk) if rng.random() < 0.7 and len(junk) < 100 else 0
        whole[start : start + keeps] = junk
    return bytes(whole)


def _spoil_lines(text: str, rng: random.Random) -> str:
    lines = text.splitlines()
    at = rng.randrange(len(lines))
    act = rng.random()
    if act < 0.2:
        lines[at : at + 1] = [lines[at]] * rng.choice((2, 2000))
    elif act < 0.4:
        words = lines[at].replace(",", " , ").split(" ")
        words[rng.randrange(len(words))] = str(rng.choice(NASTY))
        lines[at] = " ".join(words)
    elif act < 0.6:
        lines.insert(at, "".join(chr(rng.randrange(1, 400)) for _ in range(rng.randrange(1, 30))))
    elif act < 0.8:
        lines[at] = lines[at] + " " + " ".join(str(rng.choice(NASTY)) for _ in range(rng.choice((1, 50))))
    else:
        rng.shuffle(lines)
    return "\n".join(lines) + "\n"


def _toml_able(value: Any) -> Any:
    """What TOML can hold of it."""
    if isinstance(value, dict):
        return {str(k): _toml_able(v) for k, v in value.items() if v is not None}
    if isinstance(value, list):
        return [_toml_able(v) for v in value if v is not None]
    return min(max(value, -(2**63)), 2**63 - 1) if isinstance(value, int) and not isinstance(value, bool) else value


def spoil(path: Path, how: str, rng: random.Random) -> None:
    """Spoil a file in place."""
    if how == "json":
        path.write_text(json.dumps(_spoil_values(json.loads(path.read_text()), rng)), encoding="utf-8")
    elif how == "json lines":
        lines = path.read_text(encoding="utf-8").splitlines()
        at = rng.choice((0, rng.randrange(len(lines)), len(lines) - 1))
        values = json.loads(lines[at])
        if at == 0 and rng.random() < 0.5:  # what was asked for is a document of its own
            values["request"] = json.dumps(_spoil_values(json.loads(values["request"]), rng))
        else:
            values = _spoil_values(values, rng)
        lines[at] = json.dumps(values)
        path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    elif how == "toml":
        values = tomllib.loads(path.read_text(encoding="utf-8"))
        spoiled = _toml_able(_spoil_values(values, rng))
        path.write_text(tomli_w.dumps(spoiled if isinstance(spoiled, dict) else {}), encoding="utf-8")
    elif how == "lines":
        path.write_text(_spoil_lines(path.read_text(encoding="utf-8"), rng), encoding="utf-8")
    else:
        path.write_bytes(_spoil_bytes(path.read_bytes(), rng))


def attempt(number: int, made: Path, scratch: Path) -> str:
    """Spoil one file of a sample and do what is done with it; the kind, if all went as it should.

    Args:
        made: from `sample`, left as it is. scratch: a folder that is not there yet.

    Raises:
        Exception: what a person would have seen as a traceback.
    """
    rng = random.Random(number)
    name = rng.choice(PICKED)
    kind = KINDS[name]
    shutil.copytree(made, scratch)
    try:
        # The sample names the places it was made at; what is spoiled is read where it is now.
        manifest = scratch / "builds" / "0001" / MANIFEST
        manifest.write_text(manifest.read_text().replace(str(made), str(scratch)))
        spoil(kind.file(scratch), kind.how, rng)
        kind.act(scratch)
    except RopeBellError as error:
        if "\n" in str(error) or not error.what:
            raise AssertionError(f"not one sentence: {error}") from error
    finally:
        shutil.rmtree(scratch)
    return name
