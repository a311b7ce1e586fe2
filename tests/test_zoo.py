"""Odd but legal levels end in a status of the contract, without a traceback, and with the right words; `./run zoo`
visits all of them with all commands."""

from __future__ import annotations

from pathlib import Path

import pytest

from visits import SAID, visit

# One of each kind with all commands; of the rest, all about which something must be said before a build.
WITH_BUILDS = ("name_2", "blinding_lamp")
QUICKLY = sorted({name for name, command in SAID if command in ("check", "sight")} - {*WITH_BUILDS, "mega"})


@pytest.mark.parametrize("name", WITH_BUILDS)
def test_every_command_ends_well(name: str, tmp_path: Path) -> None:
    runs = list(visit(name, tmp_path))
    assert len(runs) >= 4
    assert [(run.command, run.trouble, run.said[-300:]) for run in runs if run.trouble] == []


@pytest.mark.parametrize("name", QUICKLY)
def test_what_is_known_before_a_build_is_said(name: str, tmp_path: Path) -> None:
    runs = list(visit(name, tmp_path, builds=False))
    assert [(run.command, run.trouble, run.said[-300:]) for run in runs if run.trouble] == []
