"""Numbers and times as people read them."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ropebell.level.model import LUMINANCE

DRAFTS = (1, 2, 4, 8)
DRAFT_TITLES = ["full", "½", "¼", "⅛"]


def clock(seconds: float) -> str:
    """0:09, 3:42, 1:05:00."""
    whole = round(seconds)
    hours, rest = divmod(whole, 3600)
    if hours:
        return f"{hours}:{rest // 60:02d}:{rest % 60:02d}"
    return f"{rest // 60}:{rest % 60:02d}"


def lux(value: float) -> str:
    """Three digits and the unit."""
    if value >= 1000:
        return f"{value:,.0f} lx".replace(",", " ")
    if value >= 100:
        return f"{value:.0f} lx"
    return f"{value:.1f} lx" if value >= 10 else f"{value:.2f} lx"


def made_on(made: str) -> str:
    """ ", 24 Nov 17:40" of an ISO time, in the machine's own time zone; empty where there is none."""
    when = _local(made)
    return f", {when.day} {when:%b %H:%M}" if when is not None else ""


def made_at(made: str) -> str:
    """ "2026-11-24 17:40", the same for columns that sort by it."""
    when = _local(made)
    return f"{when:%Y-%m-%d %H:%M}" if when is not None else ""


def _local(made: str) -> datetime.datetime | None:
    try:
        return datetime.datetime.fromisoformat(made).astimezone()
    except ValueError:
        return None


def told_apart(paths: Sequence[Path]) -> list[str]:
    """A name for each of some paths; those of one name are told apart by the folders they lie in, as few as will do."""
    names = []
    for path in paths:
        alike = {other for other in paths if other.name == path.name and other != path}
        more = 0
        while more < len(path.parts) - 1 and any(_folders(other, more) == _folders(path, more) for other in alike):
            more += 1
        names.append(f"{path.name} — in {'/'.join(_folders(path, more))}" if more else path.name)
    return names


def _folders(path: Path, count: int) -> tuple[str, ...]:
    """The last folders above a path."""
    return path.parts[max(len(path.parts) - 1 - count, 0) : -1]


def count(value: int) -> str:
    """Thousands set apart by thin spaces."""
    return f"{value:,}".replace(",", " ")


def short_count(value: int) -> str:
    """53 k, 1.2 M; never broken between two lines."""
    if value >= 999_500:
        return f"{value / 1e6:.1f}\N{NO-BREAK SPACE}M"
    return f"{value / 1e3:.0f}\N{NO-BREAK SPACE}k" if value >= 10_000 else count(value)


def megabytes(value: float) -> str:
    """Bytes in kB, MB or GB."""
    if value < 2**20:
        return f"{value / 2**10:.0f} kB"
    return f"{value / 2**30:.1f} GB" if value >= 2**30 else f"{value / 2**20:.0f} MB"


def luminance(value: Any) -> float:
    """Luminance of linear RGB, ITU-R BT.709."""
    return float(LUMINANCE @ np.asarray(value))


def moment(made: str) -> float | None:
    """Seconds since 1970 of a time as manifests have it, None where it is none."""
    when = _local(made)
    return when.timestamp() if when is not None else None
