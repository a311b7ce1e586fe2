"""The detectors that look at a build's light."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from numpy.typing import NDArray

from ropebell.checks.detector import Detectors
from ropebell.faults.again import Again
from ropebell.faults.lit import Lit
from ropebell.faults.seen import Seen

# What detectors look at: the finished light; charts alone; or light that is the worse the more of it there is, so that
# what is found with some of it is found with all.
LIGHT, GROUND, GROWS = "light", "ground", "grows"


@dataclass(frozen=True, eq=False)
class Looked:
    """A build, and what its detectors find out together.

    Attributes:
        known: what was found out before of who sees what. seen: which texels players can look at. again: light computed
            once more, for proofs.
    """

    lit: Lit
    known: Mapping[str, NDArray[Any]] | None = None
    seen: Seen = field(init=False)
    again: Again = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "seen", Seen(self.lit, self.known))
        object.__setattr__(self, "again", Again(self.lit))


# A build's findings lie in its folder, so nothing of it has a name of its own to be kept under.
AFTER = Detectors[Looked]({LIGHT: lambda _: "", GROUND: lambda _: "", GROWS: lambda _: ""})
