"""Sight blockers that were let through: what that was said to save and to show, and what it did."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from ropebell.files import read_kept, write_json
from ropebell.sight.blockers import Candidate
from ropebell.sight.sight import Sight

FILE = "sight-spared.json"
MOST = 200


@dataclass(frozen=True)
class Spared:
    """An object that no longer blocks sight.

    Attributes:
        node: its path. foretold: seconds of who sees whom that it was said to save. shows: share of all pairs of cells
            that were said to see each other without it.
        seeing, seen: seconds, and share of pairs that saw each other, before.
        saved, more: seconds that were saved and share of pairs that more see each other; None while it is not known.
        cells: how many fewer were said to be needed. before: how many there were. fewer: how many fewer there are.
    """

    node: str
    foretold: float
    shows: float
    seeing: float
    seen: float
    saved: float | None = None
    more: float | None = None
    cells: int = 0
    before: int = 0
    fewer: int | None = None


def read_spared(folder: Path) -> list[Spared]:
    """What was let through in a project; nothing where nothing is kept, or it is damaged."""
    return read_kept(folder / FILE, "spared", _of)


def _of(v: dict[str, Any]) -> Spared:
    saved, more = (None if v[key] is None else float(v[key]) for key in ("saved", "more"))
    foretold, shows, seeing, seen = (float(v[key]) for key in ("foretold", "shows", "seeing", "seen"))
    cells, before, fewer = (int(v.get(key) or 0) for key in ("cells", "before", "fewer"))
    return Spared(
        str(v["node"]), foretold, shows, seeing, seen, saved, more, cells, before, None if saved is None else fewer
    )  # fmt: skip


def write_spared(folder: Path, spared: Sequence[Spared]) -> None:
    """Keep it, whole or not at all.

    Raises:
        OSError: the folder cannot be written.
    """
    write_json(folder / FILE, {"spared": [asdict(s) for s in spared[-MOST:]]})


def sparing(blocker: Candidate, sight: Sight) -> Spared:
    """An object that is let through from now on."""
    return Spared(
        blocker.node, blocker.seconds, blocker.hides, sight.seeing, sight.share_seen, cells=blocker.cells,
        before=len(sight.middles),
    )  # fmt: skip


def judged(spared: Sequence[Spared], sight: Sight, passing: Sequence[str]) -> list[Spared]:
    """The same, with what was let through since the last look judged by this one, shared by prediction.

    Args:
        passing: paths of what does not block sight in it.
    """
    open_ = [s for s in spared if s.saved is None and s.node in passing]
    whole = sum(s.foretold for s in open_)

    def told(s: Spared) -> Spared:
        if s not in open_:
            return s
        part = s.foretold / whole if whole > 0 else 1.0 / len(open_)
        fewer = round(part * (s.before - len(sight.middles)))
        return replace(s, saved=part * (s.seeing - sight.seeing), more=part * (sight.share_seen - s.seen), fewer=fewer)

    return [told(s) for s in spared]


def in_words(s: Spared) -> str:
    """What became of one, in a sentence."""
    name = s.node.rsplit("/", 1)[-1]
    if s.saved is None or s.more is None:
        return f"{name} is let through: {s.foretold:.2g} s less foretold; look again to see."
    took = f"{s.saved:.2g} s less" if s.saved >= 0 else f"{-s.saved:.2g} s more"
    cells = f", {s.fewer} cells fewer ({s.cells})" if s.cells or s.fewer else ""
    return (
        f"{name}: {took} ({s.foretold:.2g} s less foretold), {100 * s.more:.2g} % more seen ({100 * s.shows:.2g} %)"
        f"{cells}."
    )
