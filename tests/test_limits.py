"""A few of what `tools/reliability.py` breaks by the dozen: disks without room, and limits of the system."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))

from reliability import full_disks, limits


def test_a_disk_without_room_is_told(tmp_path: Path) -> None:
    row = full_disks(tmp_path, (16,))
    if not row.tried:
        pytest.skip("no disk may be mounted here")
    assert row.tried == 2 and not row.bad
    assert all("the disk is full" in said for said in row.said)


def test_limits_of_the_system_are_told(tmp_path: Path) -> None:
    row = limits(tmp_path, (("file size", 4096), ("open files", 24), ("memory", 700 << 20)))
    assert row.tried == 3 and not row.bad and len(row.said) == 3
    assert any("ulimit -n" in said for said in row.said) and any("memory" in said for said in row.said)
