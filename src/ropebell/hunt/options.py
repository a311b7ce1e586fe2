"""How a hunt is carried out, and what ends it early."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ropebell.hunt.record import Entry


class Enough(Exception):
    """No more trials may be made."""


class Steered(Exception):
    """A person changed what is to be searched."""


@dataclass
class Options:
    """How a hunt is carried out.

    Attributes:
        most_trials: of all kinds. time_limit: seconds of one run, 0: ten times the control. shorten: look for a shorter
            build first. fixes: try some. watch: told of every run.
    """

    most_trials: int = 400
    time_limit: float = 0.0
    shorten: bool = True
    fixes: bool = True
    watch: Callable[[Entry, int | None], None] = lambda entry, left: None
