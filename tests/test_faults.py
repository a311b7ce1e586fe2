"""Faults of a build's light on levels that have one and on levels that nearly do, and what becomes of them."""

from __future__ import annotations

import base64
import csv
import io
import json
import shutil
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import fastjsonschema
import numpy as np
import pytest
from PIL import Image

from helpers import bake, events, level_file, recipe
from ropebell.account.texel import Ledger
from ropebell.bench.detection import findings_of, told
from ropebell.bench.detection_levels import PLANTS, cases, clean
from ropebell.bench.detection_room import Case, Room
from ropebell.build.found import found_in
from ropebell.build.manifest import read_manifest
from ropebell.build.outdated import outdated
from ropebell.build.recipe import named, with_value
from ropebell.build.reopened import reopen
from ropebell.build.result import open_result
from ropebell.checks.remedies import act, alternatives, apply_fix, spoils
from ropebell.cli.main import main
from ropebell.deliver.findings import HEAD, as_csv, as_html, as_sarif
from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import box
from ropebell.demo.write import write_demo
from ropebell.faults.after import AFTER
from ropebell.faults.grain import _halves
from ropebell.faults.over_builds import known_key, note_on, over_builds, same
from ropebell.faults.seen import Seen
from ropebell.level.brief import Brief, LightChange, Mark
from ropebell.level.finding import Finding
from ropebell.level.gltf_write import plain_glb
from ropebell.level.model import F64, Light, Mask

# One world for each kind: together they are of many sizes, turns and densities.
WITH = {(c.kind, c.planted): c for n, c in enumerate(cases(len(PLANTS))) if c.room.number == (n // 2) // len(PLANTS)}


WAYS = [("dark-mover", "helper-light"), ("black-patch", "cast-no-shadow"), ("light-leak", "thicken")]
Planted = Callable[[str], tuple[Path, list[Finding]]]


@pytest.fixture(scope="module")
def planted(tmp_path_factory: pytest.TempPathFactory) -> Planted:
    """The level of a kind, built once: its folder, and what was found."""
    built: dict[str, tuple[Path, list[Finding]]] = {}

    def of(kind: str) -> tuple[Path, list[Finding]]:
        if kind not in built:
            folder = tmp_path_factory.mktemp(kind)
            built[kind] = folder, findings_of(WITH[kind, True], folder)
        return built[kind]

    return of


@pytest.mark.parametrize("kind", PLANTS)
def test_what_is_planted_is_found_and_what_is_nearly_so_is_not(kind: str, planted: Planted, tmp_path: Path) -> None:
    found = planted(kind)[1]
    assert told(WITH[kind, True], found)
    mine = [f for f in found if f.kind == kind]
    for finding in mine:
        assert len(finding.reason) > 20 and finding.remedy and finding.measure is not None and finding.measure[0] >= 0
        assert finding.proved is not None and finding.place is not None
        assert all(act(other) or other.fix[0] == "set" for other in alternatives(finding))
        assert kind not in ("noise", "blotch") or finding.others
    near = findings_of(WITH[kind, False], tmp_path / "near")
    assert not [f for f in near if f.kind == kind]


def test_an_ugly_but_right_level_of_a_hundred_things_has_no_fault(tmp_path: Path) -> None:
    assert findings_of(clean(0), tmp_path) == []


def test_the_level_s_density_forgets_a_bias_too() -> None:
    brief = Brief(marks={"g/a": Mark(bias={"wood": 4.0}), "g/b": Mark(density=2.0), "g/c": Mark(density=3.0)})
    fault = replace(_fault("uneven-quality"), fix=("level-density", "g/a", "g/b"))
    level = Mark(density=1.0)
    assert apply_fix(brief, fault).marks == {"g/a": level, "g/b": level, "g/c": Mark(density=3.0)}


@pytest.mark.parametrize("kind", ["black-patch", "light-leak", "pose-stain", "dark-mover", "uneven-quality"])
def test_the_first_remedy_mends_it(kind: str, planted: Planted, tmp_path: Path) -> None:
    first = next(f for f in planted(kind)[1] if f.kind == kind and f.fix)
    mended = _mended(WITH[kind, True], first)
    left = [f for f in findings_of(mended, tmp_path / "after") if same(f, first)]
    assert not left or (left[0].area or 0.0) < 0.5 * (first.area or 0.0) or left[0].measure[0] < 0.5 * first.measure[0]


@pytest.mark.parametrize(("kind", "way"), WAYS)
def test_another_way_mends_it_too_and_says_what_it_spoils(kind: str, way: str, tmp_path: Path) -> None:
    case = next(c for c in cases(4 * len(PLANTS)) if c.kind == kind and c.planted and c.room.number % 4 == 2)
    before = [f for f in findings_of(case, tmp_path / "before") if f.kind == kind]
    first, other = next((f, o) for f in before for o in alternatives(f) if o.fix[0] == way)
    assert spoils(other) and act(other)
    left = [f for f in findings_of(_mended(case, other), tmp_path / "after") if same(f, first)]
    assert not left or (left[0].area or 0.0) < 0.1 * (first.area or 0.0)


def _mended(case: Case, finding: Finding) -> Case:
    if finding.fix[0] == "set":
        _, key, value = finding.fix
        return replace(case, settings={**case.settings, key: int(value)})
    return replace(case, brief=apply_fix(case.brief, finding))


# -- over builds


def _fault(kind: str = "noise", place: tuple[float, float, float] = (0, 0, 0), area: float = 0.1) -> Finding:
    return Finding(
        kind, "warning", "hall/floor", "It is noisy all over the place.", "More rays", place, (), (), area,
        (0.1, "share"), 0, (3, 4), False,
    )  # fmt: skip


def test_faults_are_the_same_by_kind_object_and_place() -> None:
    assert same(_fault(), _fault(place=(0.5, 0, 0.2)))
    assert not same(_fault(), _fault(place=(5, 0, 0)))
    assert same(_fault(area=40.0), _fault(place=(5, 0, 0)))
    assert not same(_fault(), _fault("blotch"))


def test_what_is_gone_is_mended_or_went_with_its_object() -> None:
    before = [_fault(), _fault(place=(9, 0, 0)), replace(_fault("blotch"), object="hall/crate")]
    seen = over_builds([_fault(place=(0.1, 0, 0)), _fault("seam")], before, {}, {"hall/floor"})
    assert [state for _, state in seen.found] == ["still", "new"]
    assert [f.place for f in seen.gone] == [(9, 0, 0)] and [f.object for f in seen.taken_away] == ["hall/crate"]
    assert seen.unknown == 2


def test_what_is_known_is_remembered_by_kind_and_place() -> None:
    known = {known_key(_fault()): "the sun is low"}
    assert note_on(_fault(place=(0.4, 0, 0)), known) == "the sun is low"
    assert note_on(_fault(place=(7, 0, 0)), known) == "" and note_on(_fault("seam"), known) == ""
    seen = over_builds([_fault(place=(0.4, 0, 0))], None, known, ())
    assert seen.found[0][1] == "known" and seen.unknown == 0


def test_findings_come_back_from_json_as_they_were() -> None:
    one = _fault()
    assert Finding.of(json.loads(json.dumps(one.as_json()))) == one
    plain = Finding("sliver", "note", "a", "Some reason here.", "Nothing")
    assert "proved" not in plain.as_json() and Finding.of(plain.as_json()) == plain
    spoiled = {
        "area": [float("nan"), [], "x"], "measure": [{}, {"value": None, "unit": "lux"}, [1], {"value": [], "unit": 1}],
        "texel": [[[], 1], 5, [1], "ab", [1, 2, 3]], "page": [{}, "x"],
    }  # fmt: skip
    for key, wrong in spoiled.items():
        for value in wrong:
            with pytest.raises(ValueError):
                Finding.of({**one.as_json(), key: value})


# -- ways out


@pytest.fixture(scope="module")
def noisy(planted: Planted) -> Path:
    """A finished build with faults."""
    folder, found = planted("noise")
    assert found
    return folder / "out"


def test_the_command_tells_findings_and_says_so_by_its_status(noisy: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert main(["faults", str(noisy), "--json"]) == 1
    told_ = json.loads(capsys.readouterr().out)
    assert told_["build"] == "out" and told_["gone"] == []
    keys = {"kind", "severity", "object", "also", "place", "reason", "remedy", "fix", "area", "measure", "page",
            "texel", "proved", "state"}  # fmt: skip
    assert all(keys <= f.keys() and f["measure"].keys() == {"value", "unit"} for f in told_["findings"])
    assert main(["faults", str(noisy), "--since", str(noisy), "--json"]) == 1
    assert {f["state"] for f in json.loads(capsys.readouterr().out)["findings"]} == {"still"}
    assert main(["faults", str(noisy.parent), "--json"]) == 2


def test_sarif_has_what_its_standard_asks_for(noisy: Path) -> None:
    manifest, seen = found_in(noisy)
    log = as_sarif("7", Path(manifest.level.file).as_uri(), seen)
    assert log["version"] == "2.1.0" and len(log["runs"]) == 1
    run = log["runs"][0]
    rules = run["tool"]["driver"]["rules"]
    assert len({r["id"] for r in rules}) == len(rules)
    for result, (finding, state) in zip(run["results"], seen.found):
        assert rules[result["ruleIndex"]]["id"] == result["ruleId"] == finding.kind
        assert result["level"] in ("error", "warning", "note") and result["message"]["text"]
        assert result["baselineState"] == {"new": "new", "still": "unchanged", "known": "unchanged"}[state]
        assert result["locations"][0]["physicalLocation"]["artifactLocation"]["uri"].startswith("file://")
    assert json.loads(json.dumps(log)) == log
    # Its own schema has nothing against it, but much against what is none.
    schema = json.loads((Path(__file__).parent / "data" / "sarif-2.1.0.json").read_text())
    valid = fastjsonschema.compile(schema, use_default=False)
    assert len(run["results"]) > 0
    valid(log)
    for spoiled in (
        {**log, "version": "2.0.0"},
        {**log, "runs": [{**run, "results": [{**run["results"][0], "level": "fatal"}]}]},
        {**log, "runs": [{"results": []}]},
    ):
        with pytest.raises(fastjsonschema.JsonSchemaException):
            valid(spoiled)


def test_the_table_has_a_line_for_each_and_takes_no_name_for_a_formula(noisy: Path) -> None:
    _, seen = found_in(noisy)
    lines = list(csv.reader(io.StringIO(as_csv(seen))))
    assert tuple(lines[0]) == HEAD and len(lines) == 1 + len(seen.found)
    odd = over_builds([replace(_fault(), object="=1+1")], None, {}, ())
    assert "'=1+1" in as_csv(odd)


def test_the_page_shows_each_with_a_picture_and_lets_no_name_in_as_markup(noisy: Path) -> None:
    _, seen = found_in(noisy)
    odd = replace(seen.found[0][0], object="<script>x</script>")
    page = as_html("7", replace(seen, found=((odd, "new"), *seen.found[1:])), open_result(noisy), {})
    assert page.count("data:image/png;base64,") == len(seen.found)
    assert "<script>" not in page and "&lt;script&gt;" in page


def test_a_tripwire_waits_for_a_fault_of_the_light(
    noisy: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    recipe = read_manifest(noisy).recipe
    sets = [f"--set=light.gather_rays={recipe.light.gather_rays}", "--set=finish.denoise=false",
            f"--set=density.texels_per_metre={recipe.density.texels_per_metre}"]  # fmt: skip
    level, out = str(shutil.copy(noisy.parent / "level.glb", tmp_path)), str(tmp_path / "tripped")
    assert main(["bake", level, "--out", out, *sets, "--stop-when", "fault:noise"]) == 4
    assert main(["bake", level, "--out", out, *sets, "--stop-when", "fault:seam"]) == 0
    capsys.readouterr()


def test_what_is_not_as_it_was_built_is_told_of_the_build(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    project = write_demo(tmp_path / "mill")
    out = tmp_path / "out"
    coarse = ["--set=density.texels_per_metre=0.5", "--set=light.gather_rays=4", "--set=light.bounces=1"]
    assert main(["bake", str(project), "--out", str(out), *coarse]) == 0
    manifest = read_manifest(out)
    assert outdated(out, manifest) == []
    file = project / "project.toml"
    moved = '\n[moves."props/crate 3"]\nmove = [0.5, 0.0, 0.0]\n[lights."lights/hall lamp"]\nintensity = 1.0\n'
    file.write_text(file.read_text(encoding="utf-8") + moved, encoding="utf-8")
    told_ = outdated(out, manifest)
    assert {f.object for f in told_} == {"props/crate 3", "lights/hall lamp"}
    assert {f.kind for f in told_} == {"stale-object"} and all(f.place is not None for f in told_)
    capsys.readouterr()


def test_a_detector_that_stumbles_costs_its_findings_and_not_the_build(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    noisy_one = next(d for d in AFTER if d.name == "noise")

    def stumbles(_: object) -> list[Finding]:
        raise ZeroDivisionError("by surprise")

    monkeypatch.setattr(AFTER, "_all", [replace(d, find=stumbles) if d is noisy_one else d for d in AFTER])
    found = findings_of(WITH["noise", True], tmp_path)
    assert "noise" not in {f.kind for f in found}
    notes = [e["text"] for e in events(tmp_path / "out") if e["event"] == "note"]
    assert any("detector 'noise'" in text and "ZeroDivisionError" in text for text in notes)


@pytest.mark.parametrize(
    ("directional", "relief", "told_"), [(False, True, True), (True, True, False), (False, False, False)]
)
def test_relief_is_lost_where_nothing_says_from_where_its_light_comes(
    directional: bool, relief: bool, told_: bool, tmp_path: Path
) -> None:
    case = WITH["clipped", False]
    glb = plain_glb(case.room.b.level(tmp_path / "level.glb"), "test")
    length = int.from_bytes(glb[12:16], "little")
    document = json.loads(glb[20 : 20 + length])
    picture = io.BytesIO()
    Image.new("RGB", (2, 2), (128, 128, 255)).save(picture, "PNG")
    if relief:
        data = base64.b64encode(picture.getvalue()).decode()
        document["images"] = [{"uri": f"data:image/png;base64,{data}"}]
        document["textures"] = [{"source": 0}]
        document["materials"][0]["normalTexture"] = {"index": 0}
    data = base64.b64encode(glb[28 + length :]).decode()
    document["buffers"][0]["uri"] = f"data:application/octet-stream;base64,{data}"
    path = tmp_path / "level.gltf"
    path.write_text(json.dumps(document), encoding="utf-8")
    recipe = with_value(named("sketch"), "density.texels_per_metre", 6.0 / case.room.size)
    recipe = with_value(with_value(recipe, "output.directional", directional), "light.bounces", 1)
    found = bake(path, recipe, tmp_path / "out", cache=tmp_path / "cache")["findings"]
    assert ("relief-lost" in {f["kind"] for f in found}) is told_


def test_a_build_of_an_older_version_is_not_called_faultless(noisy: Path, capsys: pytest.CaptureFixture[str]) -> None:
    older = noisy.parent / "older"
    shutil.copytree(noisy, older)
    path = older / "manifest.json"
    values = json.loads(path.read_text(encoding="utf-8"))
    del values["seconds"]["inspect"]
    values["findings"] = []
    path.write_text(json.dumps(values), encoding="utf-8")
    assert main(["faults", str(older), "--json"]) == 2
    assert "not looked through" in capsys.readouterr().err
    # Beside it, everything in a newer one is new.
    assert main(["faults", str(noisy), "--since", str(older), "--json"]) == 1
    assert {f["state"] for f in json.loads(capsys.readouterr().out)["findings"]} == {"new"}


def _two_slabs(folder: Path) -> Path:
    """A floor of two slabs, one of them of eight times the density, under a lamp that is far too bright."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.add("g", "coarse", box((-2, -0.2, -2), (0, 0, 2)), "grey")
    b.add("g", "fine", box((0, -0.2, -2), (2, 0, 2)), "grey")
    b.light("lamp", Light("lamp", "point", (1, 1, 1), 9000.0), at(0, 1.5, 0))
    b.spot("marks", "start", at(-1, 0, 1))
    return level_file(folder, b)


def test_what_charts_and_lamps_alone_tell_is_told_before_the_rays(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    level = _two_slabs(tmp_path)
    brief = Brief(marks={"g/fine": Mark(density=8.0)}, white=20.0)
    made = recipe("sketch", density__texels_per_metre=4.0, light__gather_rays=32)
    manifest = bake(level, made, tmp_path / "whole", brief=brief)
    journal = events(tmp_path / "whole")
    shot = next(n for n, e in enumerate(journal) if (e.get("stage"), e.get("state")) == ("transport", "done"))
    early, late = ([e["kind"] for e in part if "kind" in e] for part in (journal[:shot], journal[shot:]))
    assert {"uneven-quality", "clipped"} <= set(early) and not {"uneven-quality", "clipped"} & set(late)
    # In the end each is what it is in the finished light.
    kept = [f for f in manifest["findings"] if f["kind"] in ("uneven-quality", "clipped")]
    assert len(kept) == sum(kind in ("uneven-quality", "clipped") for kind in early)
    first = next(e for e in journal if e.get("kind") == "clipped")["measure"]["value"]
    assert next(f for f in kept if f["kind"] == "clipped")["measure"]["value"] >= first > 3.0
    # A wire trips before a ray is shot.
    (tmp_path / "project.toml").write_text('level = "level.glb"\nwhite = 20.0\n[marks."g/fine"]\ndensity = 8.0\n')
    asked = ["bake", str(tmp_path), "--recipe", "sketch", "--set", "density.texels_per_metre=4"]
    for number, fault in enumerate(("uneven-quality", "clipped")):
        out, seed = tmp_path / fault, ["--set", f"light.seed={number + 2}"]
        assert main([*asked, *seed, "--out", str(out), "--stop-when", f"fault:{fault}"]) == 4
        assert "transport" not in {e["stage"] for e in events(out) if e.get("state") == "done"}
    capsys.readouterr()
    # Without an exposure that is kept nothing is said of brightness yet.
    bake(level, with_value(made, "light.seed", 5), tmp_path / "free", brief=replace(brief, white=0.0))
    journal = events(tmp_path / "free")
    shot = next(n for n, e in enumerate(journal) if (e.get("stage"), e.get("state")) == ("transport", "done"))
    assert "clipped" not in {e.get("kind") for e in journal[:shot]}


def test_who_sees_what_is_kept_from_build_to_build(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    level, made = _two_slabs(tmp_path), recipe("sketch", density__texels_per_metre=4.0, light__gather_rays=32)
    asked: list[int] = []
    shot = Seen._shot_by_charts

    def counted(self: Seen, rows: np.ndarray, from_behind: bool) -> tuple[Mask, F64]:
        asked.append(len(rows))
        return shot(self, rows, from_behind)

    monkeypatch.setattr(Seen, "_shot_by_charts", counted)
    first = bake(level, made, tmp_path / "first", brief=Brief(white=20.0))
    assert sum(asked) > 50
    before, (lamp,) = sum(asked), first["lights"]
    again = bake(level, made, tmp_path / "again", brief=Brief(white=20.0, lights={lamp: LightChange(8999.0)}))
    assert sum(asked) == before
    assert [f["kind"] for f in again["findings"]] == [f["kind"] for f in first["findings"]]
    assert not list((tmp_path / "cache").glob(".*.part"))


def test_light_outside_is_no_measure_of_a_lamp_indoors_and_a_dark_inside_none_of_what_is_black(tmp_path: Path) -> None:
    """A roof under the sky is within two metres of a panel indoors; the insides of stairs that touch see each other."""
    room = Room(1)  # of 30 cm
    room.add("panel", box((-0.3, 2.95, -0.3), (0.3, 3.0, 0.3)), "glow")
    for number in range(6):
        low = -1.2 + 0.3 * number
        room.add(f"stair {number}", box((1, 0, low), (2, 0.2 * (number + 1), low + 0.3)))
    path = tmp_path / "level.glb"
    path.write_bytes(plain_glb(room.b.level(path), "room"))
    made = recipe("working", density__texels_per_metre=room.density / room.size)
    found = {(f["kind"], f["object"]) for f in bake(path, made, sky=(4000.0, 4000.0, 4000.0))["findings"]}
    assert not [f for f in found if f[0] in ("dull-emitter", "black-patch")]
    # Where it is dark indoors, too, the same panel gives too little, whatever is outside.
    room.add("dim sign", box((-0.5, 1.2, -2.45), (0.5, 1.7, -2.4)), "faint")
    path.write_bytes(plain_glb(room.b.level(path), "room"))
    again = {(f["kind"], f["object"]) for f in bake(path, made, sky=(4000.0, 4000.0, 4000.0))["findings"]}
    assert {f for f in again if f[0] in ("dull-emitter", "black-patch")} == {("dull-emitter", "room/dim sign")}


def test_halves_of_the_rays_are_each_as_even_as_the_whole(tmp_path: Path) -> None:
    """The floor of a pit sees the sky above it alone: halves that lay near it and far from it would differ by all."""
    b = LevelBuilder()
    b.material("grey", (0.5, 0.5, 0.5))
    b.material("black", (0.0, 0.0, 0.0))
    b.add("g", "floor", box((-2, -0.3, -2), (2, 0, 2)), "grey")
    for name, low, high in (
        ("a", (-2.3, 0, -2.3), (-2, 3, 2.3)), ("b", (2, 0, -2.3), (2.3, 3, 2.3)), ("c", (-2, 0, -2.3), (2, 3, -2)),
        ("d", (-2, 0, 2), (2, 3, 2.3)),
    ):  # fmt: skip
        b.add("g", f"wall {name}", box(low, high), "black")
    made = recipe("sketch", density__texels_per_metre=6.0, light__gather_rays=64, finish__denoise=True)
    bake(level_file(tmp_path, b), made, sky=(300.0, 300.0, 300.0))
    lit = Ledger(reopen(tmp_path / "out")).lit
    top = lit.open & (lit.node == lit.scene.node_names.index("g/floor")) & (lit.normals[:, 1] > 0.5)
    rows = np.flatnonzero(np.isin(lit.chart, np.unique(lit.chart[top]))).astype(np.int32)
    one, other = (half.mean(axis=1) for half in _halves(lit, rows))
    assert len(rows) > 300 and np.median(np.abs(one - other) / (0.5 * (one + other))) < 0.05
