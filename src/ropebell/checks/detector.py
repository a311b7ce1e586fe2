"""What a detector is: one function that finds faults of some kinds, and says what it looks at.

The form is the same before a build and after it; what is looked at differs, and so do the parts that it is made of.
A detector's findings are kept under the digests of the parts it needs, so that they are found anew when one of these
changed, and at no other time.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Generic, TypeVar

from ropebell.level.finding import Finding

Looked = TypeVar("Looked")
Find = Callable[[Looked], Iterable[Finding]]


@dataclass(frozen=True, eq=False)
class Detector(Generic[Looked]):
    """One detector.

    Attributes:
        name: of its function. find: gives its findings.
        titles: what a person reads, by the kinds that it finds.
        needs: names of the parts that it looks at.
        version: raised when it finds otherwise than before.
        blocking: its errors are of the whole: nothing can be right with one of them.
    """

    name: str
    find: Find[Looked]
    titles: Mapping[str, str]
    needs: tuple[str, ...]
    version: int
    blocking: bool


class Detectors(Generic[Looked]):
    """All detectors of one sort of subject, as their modules define them.

    Args:
        parts: names the content of each part of a subject.
    """

    def __init__(self, parts: Mapping[str, Callable[[Looked], str]]) -> None:
        self.parts = parts
        self._all: list[Detector[Looked]] = []

    def __iter__(self) -> Iterator[Detector[Looked]]:
        return iter(self._all)

    def detector(
        self, titles: Mapping[str, str], *needs: str, version: int = 1, blocking: bool = False
    ) -> Callable[[Find[Looked]], Find[Looked]]:
        """Register a function.

        Raises:
            ValueError: a part is unknown, or a kind has a detector already.
        """
        unknown = set(needs) - self.parts.keys()
        taken = titles.keys() & self.titles.keys()
        if unknown or taken:
            raise ValueError(f"unknown parts {sorted(unknown)}, kinds that have a detector {sorted(taken)}")

        def register(find: Find[Looked]) -> Find[Looked]:
            self._all.append(Detector(find.__name__, find, titles, needs, version, blocking))
            return find

        return register

    @property
    def titles(self) -> dict[str, str]:
        """What a person reads, by kind."""
        return {kind: title for one in self._all for kind, title in one.titles.items()}

    @property
    def blocking(self) -> frozenset[str]:
        """Kinds whose errors are of the whole."""
        return frozenset(kind for one in self._all if one.blocking for kind in one.titles)
