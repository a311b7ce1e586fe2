"""Builds that tell causes apart: A as it was, with one change of B's at a time."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from ropebell.build.journal import read_events
from ropebell.build.knots import asked_for
from ropebell.build.recipe import get, keys, with_value
from ropebell.build.request import Request
from ropebell.compare.changes import Changes
from ropebell.errors import ProjectError
from ropebell.level.brief import Brief


@dataclass(frozen=True)
class Apart:
    """What can be built apart, by the name of the one change, and what cannot: it is in the level's own file."""

    requests: tuple[tuple[str, Request], ...]
    not_so: tuple[str, ...]


def one_at_a_time(a: Path, b: Path, changed: Changes) -> Apart:
    """Requests for builds of A with one change each.

    Args:
        a, b: folders of the builds.

    Raises:
        ProjectError: a journal does not say what was built.
    """
    first, second = (asked_for(read_events(folder), folder) for folder in (a, b))
    if first is None or second is None:
        raise ProjectError("its journal does not say what was built", a if first is None else b, "Build again")
    glowing = {c.node for c in changed.contents if c.kind == "emitter"}
    found: list[tuple[str, Request]] = []
    left: list[str] = []
    for name in changed.of_light:
        made = _setting(name, first, second) or _content(name, first, second, name in glowing)
        if made is None:
            left.append(name)
        else:
            found.append((name, replace(made, note=f"Build {a.name} with {name} as in build {b.name}")))
    return Apart(tuple(found), tuple(left))


def _setting(name: str, a: Request, b: Request) -> Request | None:
    if name == "sky":
        brief = replace(a.brief, skies=b.brief.skies, sky=b.brief.sky)
        return replace(a, sky=b.sky, sky_picture=b.sky_picture, brief=brief)
    if name == "worker":
        return replace(a, worker=b.worker)
    if name == "scope":
        return replace(a, scope=b.scope)
    if name not in keys():
        return None  # it is something in the level
    return replace(a, recipe=with_value(a.recipe, name, get(b.recipe, name)))


def _content(name: str, a: Request, b: Request, glows: bool) -> Request | None:
    """A with everything that B's brief says of one object, light or material."""
    brief = a.brief
    for table in ("marks", "branches", "lights", "moves"):
        brief = _with(brief, b.brief, table, name)
    own = name.rsplit("/", 1)[-1]
    brief = _with(brief, b.brief, "added", own)
    for material in {*a.brief.emitters, *b.brief.emitters} if glows else ():
        if a.brief.emitters.get(material) != b.brief.emitters.get(material):
            brief = _with(brief, b.brief, "emitters", material)
    for key in ("density_boxes", "test_density", "region", "left_out"):
        if name == key.replace("_", " "):
            brief = replace(brief, **{key: getattr(b.brief, key)})
    return None if brief == a.brief else replace(a, brief=brief)


def _with(brief: Brief, other: Brief, table: str, key: str) -> Brief:
    mine, theirs = dict[str, Any](getattr(brief, table)), getattr(other, table)
    if mine.get(key) == theirs.get(key):
        return brief
    if key in theirs:
        mine[key] = theirs[key]
    else:
        mine.pop(key, None)
    changed: dict[str, Any] = {table: mine}
    return replace(brief, **changed)
