"""The sample level, and rules that hold for the whole tree."""

from __future__ import annotations

import ast
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from helpers import bake, meter, recipe
from ropebell.build.precheck import gather
from ropebell.build.project import find_project
from ropebell.build.recipe import with_value
from ropebell.charts.layout import coordinate_trouble
from ropebell.checks.remedies import apply_fix
from ropebell.checks.run import check
from ropebell.demo.tide_mill import tide_mill
from ropebell.demo.write import write_demo
from ropebell.level.brief import Brief
from ropebell.level.finding import Finding
from ropebell.level.model import Level
from ropebell.level.open import open_level
from ropebell.level.prepare import flatten
from ropebell.level.scene import Scene
from ropebell.light.rays import RaySpace

SOURCE = Path(__file__).parent.parent / "src" / "ropebell"


@pytest.fixture(scope="module")
def mill() -> tuple[Level, Scene]:
    level = tide_mill(Path("tide-mill.glb"))
    return level, flatten(level)


def test_the_mill_has_the_size_that_was_asked_for(mill: tuple[Level, Scene]) -> None:
    level, scene = mill
    assert 20_000 <= level.triangle_count() <= 60_000
    low, high = scene.bounds()
    np.testing.assert_allclose(high - low, [30, 15, 20.4], atol=1.5)
    groups = {name.split("/")[0] for name in scene.node_names}
    assert groups == {"structure", "detail", "props", "lights", "helpers"}
    assert tide_mill(Path("a.glb"), 3).triangle_count() > 2.9 * level.triangle_count()


def named(scene: Scene, name: str) -> np.ndarray:
    return np.flatnonzero(scene.node == scene.node_names.index(name))


def test_planted_troubles_are_there(mill: tuple[Level, Scene]) -> None:
    """Each trouble is a property of the geometry, so that later detectors have something true to find."""
    _level, scene = mill
    space = RaySpace(scene.corners)

    def first(origin: tuple[float, float, float], direction: tuple[float, float, float]) -> str:
        start = (np.array(origin) - space.centre).astype(np.float32)[None]
        t = int(space.first_hit(start, np.array(direction, np.float32)[None])[0])
        return scene.node_names[scene.node[t]] if t >= 0 else "sky"

    # A slab is missing behind the great gear: from the loft one sees out to the sky.
    assert first((9.9, 8.15, 16.6), (0.05, 0.1, 1.0)) == "sky"
    partition = scene.corners[named(scene, "structure/board partition")].reshape(-1, 3)
    boards = partition[partition[:, 1] > 3.9]
    assert np.ptp(boards[:, 2]) == pytest.approx(0.02, abs=1e-6)
    hopper = named(scene, "props/grain hopper")
    assert "overlapping" in coordinate_trouble(scene.uv1[hopper], scene.corners[hopper])
    chest = named(scene, "props/chest")
    middle = scene.corners[chest].reshape(-1, 3).mean(axis=0)
    outward = scene.corners[chest].mean(axis=1) - middle
    assert (np.einsum("ij,ij->i", outward, scene.face_normals[chest]) < 0).all()
    beam = scene.corners[named(scene, "structure/floor beam")].reshape(-1, 3)
    assert beam[:, 1].max() == 0.0
    lamp = next(light for light in scene.lights if light.name == "lights/pillar lamp")
    pillar = scene.corners[named(scene, "structure/pillar 3")].reshape(-1, 3)
    assert (pillar.min(axis=0) < lamp.position).all() and (lamp.position < pillar.max(axis=0)).all()
    assert "props/quay lantern" not in [e.name for e in scene.emitters]
    assert len(named(scene, "detail/louvre screen")) > 4000


PLANTED = {
    ("inside-out", "props/chest"),
    ("light-in-solid", "lights/pillar lamp"),
    ("sliver", "detail/bracket"),
    ("costly-blocker", "detail/louvre screen"),
    ("thin-wall", "structure/board partition"),
    ("coplanar", "structure/floor beam"),
    ("coordinates-overlapping", "props/grain hopper"),
    ("tiny-chart", "detail/nail 1"),
    ("live-light", "lights/quay lamp"),
    ("glow-not-counted", "props/quay lantern"),
    ("emitter-outlier", "props/mooring lantern"),
    ("foreign-table", "salt-works.csv"),
    ("density-bias", "structure/pillar 2"),
    ("too-fine", "structure/roof back"),
    ("unusual-pose", "detail/sluice gate"),
    ("no-region", ""),
}


def test_every_planted_trouble_a_check_can_see_is_found_and_nothing_else_is(tmp_path: Path) -> None:
    project = find_project(write_demo(tmp_path / "mill"))
    level = open_level(project.level)

    def found(brief: Brief) -> list[Finding]:
        return check(
            gather(level, brief, project.recipe, project.sky, project.with_brief(tables=brief.tables).tables).subject
        )

    first = found(project.brief)
    assert {(f.kind, f.object) for f in first if f.severity != "note"} == PLANTED
    risks = {(f.kind, f.object) for f in first if f.severity == "note"}
    assert {("odd-angle", "detail/bracket"), ("hair-gap", "detail/bracket")} <= risks
    assert {kind for kind, _ in risks} <= {"odd-angle", "hair-gap", "crossing", "open-back"}
    # What has a button goes away by it, one after another, and brings nothing new.
    brief = project.brief
    fixable = [f for f in first if f.fix and f.severity != "note"]
    for finding in fixable:
        brief = apply_fix(brief, finding)
    left = {(f.kind, f.object) for f in found(brief) if f.severity != "note"}
    assert left == PLANTED - {(f.kind, f.object) for f in fixable}


def test_what_is_planted_in_the_light_is_found_and_goes_by_its_first_remedy(tmp_path: Path) -> None:
    project = find_project(write_demo(tmp_path / "mill"))
    by = {"cache": tmp_path / "cache", "sky": project.sky, "tables": project.tables}
    coarse = with_value(with_value(project.recipe, "light.gather_rays", 64), "light.direct_samples", 16)

    def found(brief: Brief, name: str) -> dict[tuple[str, str], Finding]:
        made = bake(project.level, coarse, tmp_path / name, brief=brief, **by)
        return {(f["kind"], f["object"]): Finding.of(f) for f in made["findings"]}

    first = found(project.brief, "first")
    black, dark = first["black-patch", "props/chest"], first["dark-mover", "props/sack on the hatch"]
    assert black.proved and dark.proved and "structure/cellar" in dark.also
    assert [f for f in first.values() if f.kind == "light-leak" and "structure/board partition" in (f.object, *f.also)]
    assert [f for f in first.values() if f.kind == "seam"]
    assert not [f for f in first.values() if f.kind == "dull-emitter"], "the skylight lights its loft"
    left = found(apply_fix(apply_fix(project.brief, black), dark), "mended")
    assert not {(f.kind, f.object) for f in (black, dark)} & left.keys()


def test_the_mill_is_lit_as_it_looks(tmp_path: Path) -> None:
    """Sun on the quay, lamp light in the office, only bounced light in the sealed pit's corner."""
    project = write_demo(tmp_path / "mill")
    bake(project / "tide-mill.glb", recipe("sketch", draft=2), tmp_path / "out", sky=(310.0, 360.0, 450.0))
    quay, office, hall = meter(tmp_path / "out", (15, 0, 3), (21.2, 0, 14.6), (12, 0, 15))
    assert quay.lights["lights/sun"][0] > 2000
    assert office.lights["lights/office lamp"][0] > 0.5 * office.irradiance[0]
    assert 10 < hall.irradiance[0] < 1000
    again = write_demo(project)
    assert again == project


# -- rules of the tree


def test_the_core_starts_without_qt_and_gl() -> None:
    """Importing everything but the app loads neither."""
    code = (
        "import sys\n"
        "import ropebell.cli.main, ropebell.cli.commands, ropebell.bench, ropebell.build.worker\n"
        "print([m for m in sys.modules if m.split('.')[0] in ('PyQt6', 'moderngl')])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


def imports(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {name.name for name in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
    return found


def test_nothing_unpickles_or_evaluates() -> None:
    for path in SOURCE.rglob("*.py"):
        assert not imports(path) & {"pickle", "shelve", "marshal"}, path
        text = path.read_text()
        assert "eval(" not in text.replace("retrieval(", "") and "allow_pickle=True" not in text, path


def test_no_registry_host_is_named_in_any_file() -> None:
    root = SOURCE.parent.parent
    names = subprocess.run(
        ["git", "ls-files"], cwd=root, capture_output=True, text=True, check=True
    ).stdout.splitlines()
    hosts = ["py" + "pi.org", "registry.npm" + "js", "pythonhosted" + ".org", "deb.debian" + ".org"]
    for name in names:
        path = root / name
        if path.suffix in (".py", ".toml", ".lock", ".json", ".md", "", ".sh", ".js") and path.is_file():
            text = path.read_text(encoding="utf-8", errors="ignore")
            assert not [h for h in hosts if h in text], name


def test_every_pinned_package_of_the_project_is_in_the_lock() -> None:
    import tomllib

    root = SOURCE.parent.parent
    project = tomllib.loads((root / "pyproject.toml").read_text())
    wanted = project["project"]["dependencies"] + project["project"]["optional-dependencies"]["test"]
    locked = {line.strip().lower() for line in (root / "requirements.lock").read_text().splitlines()}
    assert [w for w in wanted if w.lower() not in locked] == []
    assert "resolved" not in json.loads((root / "tools/validator/package-lock.json").read_text())["packages"]
