"""The rules of the house are really held: each is broken once, in a copy, to see that it is noticed."""

from __future__ import annotations

import os
import shutil
import subprocess
import sysconfig
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]


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
            "from typing import TYPE_CHECKING\nif TYPE_CHECKING:\n    from ropebell.app.desk import Desk",
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
