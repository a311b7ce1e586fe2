"""Numbers and times as people read them."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np

from ropebell.level.model import LUMINANCE


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


def made_on(moment: str) -> str:
    """ ", 24 Nov 17:40" of an ISO time, in the machine's own time zone; empty where there is none."""
    try:
        when = datetime.datetime.fromisoformat(moment).astimezone()
    except ValueError:
        return ""
    return f", {when.day} {when:%b %H:%M}"


def count(value: int) -> str:
    """Thousands set apart by thin spaces."""
    return f"{value:,}".replace(",", " ")


def short_count(value: int) -> str:
    """53 k, 1.2 M."""
    if value >= 999_500:
        return f"{value / 1e6:.1f} M"
    return f"{value / 1e3:.0f} k" if value >= 10_000 else count(value)


def megabytes(value: float) -> str:
    """Bytes in kB, MB or GB."""
    if value < 2**20:
        return f"{value / 2**10:.0f} kB"
    return f"{value / 2**30:.1f} GB" if value >= 2**30 else f"{value / 2**20:.0f} MB"


def luminance(value: Any) -> float:
    """Luminance of linear RGB, ITU-R BT.709."""
    return float(LUMINANCE @ np.asarray(value))
