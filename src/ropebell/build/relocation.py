"""Finds what a build was made from after its project was moved, renamed or copied.

A build keeps where it was made. What has the same place beside it now as it had then belongs to it: so all that lies in
a project moves with it, and a copy of a project never looks at the original. What lay elsewhere stays where it was.
"""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

from ropebell.build.request import Request


class Relocation:
    """The move of a build from where it was made to where it lies.

    Args:
        made_in: its folder when it was made; empty where that is not known. now: its folder.
    """

    def __init__(self, made_in: str, now: Path) -> None:
        before, after = Path(made_in).parts if made_in else (), Path(os.path.abspath(now)).parts
        same = 0
        while same < min(len(before), len(after)) and before[-1 - same] == after[-1 - same]:
            same += 1
        # What lies beside the folders of one name moved with them; without such, the build alone did.
        self._before = Path(*before[: len(before) - same]) if same and same < len(before) else None
        self._after = Path(*after[: len(after) - same]) if same else Path()

    def path(self, stored: Path) -> Path:
        """Finds a file or folder: at its place beside the build, if it is there, else where it was."""
        if self._before is None or not stored.is_relative_to(self._before):
            return stored
        moved = self._after / stored.relative_to(self._before)
        return moved if moved.exists() else stored

    def request(self, asked: Request, now: Path) -> Request:
        """The request of a build with the places of now."""
        picture, scope = asked.sky_picture, asked.scope
        if scope.since is not None:
            scope = replace(scope, since=self.path(scope.since))
        return replace(
            asked, level=self.path(asked.level), out=now, cache=self.path(asked.cache),
            tables=tuple(self.path(table) for table in asked.tables), scope=scope,
            sky_picture=None if picture is None else self.path(picture),
        )  # fmt: skip
