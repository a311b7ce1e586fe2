"""The rules of the house are really held: each is broken once, in a copy, to see that it is noticed."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import sysconfig
from pathlib import Path

import numpy as np
import pytest
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

ROOT = Path(__file__).parents[1]
IMPORT_OF_TYPES = "from typing import TYPE_CHECKING\nif TYPE_CHECKING:\n    from ropebell.app.desk import Desk"


@pytest.fixture(scope="module")
def copy(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("copy")
    shutil.copytree(ROOT / "src", folder / "src", ignore=shutil.ignore_patterns("__pycache__", "fonts"))
    shutil.copy(ROOT / "pyproject.toml", folder)
    return folder


def _contracts(folder: Path) -> tuple[bool, str]:
    """Whether the import contracts are kept there, and what was said."""
    done = subprocess.run(
        [Path(sysconfig.get_path("scripts")) / "lint-imports", "--no-cache"], cwd=folder, text=True,
        capture_output=True, env={**os.environ, "PYTHONPATH": str(folder / "src"), "COLUMNS": "200"}, check=False,
    )  # fmt: skip
    return done.returncode == 0, done.stdout + done.stderr


def test_the_import_contracts_are_kept(copy: Path) -> None:
    kept, said = _contracts(copy)
    assert kept, said
    assert "2 kept, 0 broken" in said


@pytest.mark.parametrize(
    ("path", "line", "told"),
    [
        ("light/new.py", "from ropebell.build import recipe", "ropebell.light is not allowed to import ropebell.build"),
        ("build/new.py", "import PyQt6.QtCore", "ropebell.build is not allowed to import PyQt6"),
        (
            "level/new.py",
            IMPORT_OF_TYPES,
            "ropebell.level is not allowed to import ropebell.app",
        ),
        ("unlisted/__init__.py", "", "ropebell.unlisted"),
    ],
)
def test_a_contract_that_is_broken_is_noticed(copy: Path, path: str, line: str, told: str) -> None:
    planted = copy / "src" / "ropebell" / path
    planted.parent.mkdir(exist_ok=True)
    planted.write_text(line + "\n")
    try:
        kept, said = _contracts(copy)
        assert not kept
        assert told in said, said
    finally:
        planted.unlink()
        if path.endswith("__init__.py"):
            planted.parent.rmdir()


def _rings(folder: Path) -> list[list[str]]:
    """Modules under a folder that import one another in a ring, counting imports that are for types only."""
    words = "import grimp, json; g = grimp.build_graph('ropebell', cache_dir=None)"
    words += "; print(json.dumps({m: sorted(g.find_modules_directly_imported_by(m)) for m in sorted(g.modules)}))"
    said = subprocess.run(
        [sys.executable, "-c", words], cwd=folder / "src", text=True, capture_output=True, check=True
    ).stdout
    imports: dict[str, list[str]] = json.loads(said)
    number = {name: i for i, name in enumerate(imports)}
    pairs = [(number[a], number[b]) for a, others in imports.items() for b in others]
    rows, columns = zip(*pairs)
    graph = coo_array((np.ones(len(pairs)), (rows, columns)), shape=(len(number), len(number)))
    _, ring = connected_components(graph.tocsr(), directed=True, connection="strong")
    rings = [[name for name in imports if ring[number[name]] == r] for r in np.flatnonzero(np.bincount(ring) > 1)]
    return rings


def test_no_module_imports_itself_by_way_of_others_even_for_types(copy: Path) -> None:
    assert _rings(copy) == []


def test_a_ring_of_imports_is_noticed(copy: Path) -> None:
    state = copy / "src/ropebell/app/state.py"
    before = state.read_text()
    state.write_text(before.replace("class State(", f"{IMPORT_OF_TYPES}\n\n\nclass State(", 1))
    try:
        assert any("ropebell.app.desk" in ring and "ropebell.app.state" in ring for ring in _rings(copy))
    finally:
        state.write_text(before)
