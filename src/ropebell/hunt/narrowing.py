"""From everything to the smallest sets that show a fault.

Halves first: a set that shows the fault is split, both halves are tried, and the search goes on in the one that shows
it. Where neither does, the fault needs something of both: each half is then searched with the other kept beside it
(the first form of delta debugging: A. Zeller, "Yesterday, my program worked. Today, it does not. Why?", ESEC/FSE 1999,
fig. 2). What is left is made minimal by ddmin (A. Zeller and R. Hildebrandt, "Simplifying and isolating
failure-inducing input", IEEE TSE 28.2 (2002), fig. 4), so that without any one of its members the fault is gone.

Some of a minimal set may only be needed to see the fault at all, such as the floor that a black thing stands on. Those
are told apart by the opposite: with everything but the one in question the fault is still there, or nobody can tell.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from ropebell.hunt.steadiness import ABSENT, CANNOT_TELL, PRESENT, Verdict

Items = frozenset[int]
Ask = Callable[[Items, str], Verdict]
Split = Callable[[Items], tuple[Items, Items]]
NOTHING: Items = frozenset()
MOST_CULPRITS = 12


@dataclass(frozen=True)
class Culprit:
    """Things that cause the fault together.

    Attributes:
        items: without any one of them it is gone. carriers: what else had to be there to see it.
    """

    items: Items
    carriers: Items = NOTHING

    @property
    def whole(self) -> Items:
        """With its carriers."""
        return self.items | self.carriers


def smallest(among: Items, beside: Items, ask: Ask, split: Split) -> Items:
    """A small part of a set that, with others beside it, still shows the fault.

    Args:
        among: shows it with `beside`, which alone does not. split: into two halves, neither empty.
    """
    while len(among) > 1:
        left, right = split(among)
        shows = next((half for half in (left, right) if ask(half | beside, "half") == PRESENT), None)
        if shows is None:
            # Nothing may depend on a fault that shows only now and then having been missed.
            if ask(among | beside, "again") != PRESENT:
                return among
            from_left = smallest(left, beside | right, ask, split)
            return from_left | smallest(right, beside | from_left, ask, split)
        among = shows
    return among


def ddmin(items: Items, beside: Items, ask: Ask) -> Items:
    """A part of a set that shows the fault with others beside it, and without any one of its members does not.

    Args:
        items: shows it with `beside`.
    """
    order, grain = sorted(items), 2
    while len(order) > 1:
        parts = _parts(order, grain)
        wanted = [*parts, *(_without(order, part) for part in parts)] if grain > 2 else parts
        shows = next(
            (p for p in wanted if len(p) < len(order) and ask(frozenset(p) | beside, "least") == PRESENT), None
        )
        if shows is not None:
            grain = 2 if shows in parts else max(grain - 1, 2)
            order = shows
        elif grain < len(order):
            grain = min(2 * grain, len(order))
        else:
            break
    return frozenset(order)


def _parts(order: list[int], grain: int) -> list[list[int]]:
    edges = [round(i * len(order) / grain) for i in range(grain + 1)]
    return [order[a:b] for a, b in zip(edges, edges[1:]) if b > a]


def _without(order: list[int], part: Iterable[int]) -> list[int]:
    gone = set(part)
    return [item for item in order if item not in gone]


def culprits(everything: Items, keep: Items, ask: Ask, split: Split) -> tuple[list[Culprit], bool]:
    """All that causes a fault, one after the other.

    Args:
        everything: shows it with `keep`, which is never left out and under no suspicion.

    Returns:
        The culprits, and whether with everything but them the fault is gone.
    """
    found: list[Items] = []
    carrying: list[Items] = []
    rest, gone = everything, False
    while rest and len(found) < MOST_CULPRITS and not gone:
        least = ddmin(smallest(rest, keep, ask, split), keep, ask)
        core = _core(least, rest, keep, ask)
        found.append(core)
        carrying.append(least - core)
        rest = rest - core
        verdict = ask(rest | keep, "everything but the culprit")
        gone = verdict == ABSENT
        if verdict == CANNOT_TELL:
            break
    if gone:
        found, carrying = _needed(found, carrying, everything, keep, ask)
    return _told_apart(found, carrying, everything, keep, ask), gone


def _needed(
    found: list[Items], carrying: list[Items], everything: Items, keep: Items, ask: Ask
) -> tuple[list[Items], list[Items]]:  # fmt: skip
    """Only the sets without which the fault stays in the whole. In a part of a level things may show it together that
    do not where all the rest is there: such a set is no culprit."""
    number = 0
    while len(found) > 1 and number < len(found):
        others = NOTHING.union(*(c for i, c in enumerate(found) if i != number))
        if ask((everything - others) | keep, "everything but the others") == ABSENT:
            found, carrying = found[:number] + found[number + 1 :], carrying[:number] + carrying[number + 1 :]
        else:
            number += 1
    return found, carrying


def _core(least: Items, rest: Items, keep: Items, ask: Ask) -> Items:
    """Of a minimal set, what the fault does not show without; all that might be, where nothing is that clear."""
    if len(least) == 1:
        return least
    without = {item: ask((rest - {item}) | keep, "everything but one") for item in sorted(least)}
    core = frozenset(i for i, verdict in without.items() if verdict == ABSENT)
    return core or frozenset(i for i, verdict in without.items() if verdict == PRESENT) or least


def _told_apart(found: list[Items], carrying: list[Items], everything: Items, keep: Items, ask: Ask) -> list[Culprit]:
    """Once all are known, each is looked at with the others gone: what is not needed then was a carrier."""
    told = []
    for number, core in enumerate(found):
        others = NOTHING.union(*(c for i, c in enumerate(found) if i != number))
        least = core
        if len(core) > 1 and len(found) > 1:
            without = {i: ask((everything - others - {i}) | keep, "everything but one") for i in sorted(core)}
            least = frozenset(i for i, verdict in without.items() if verdict == ABSENT) or core
        told.append(Culprit(least, carrying[number] | (core - least)))
    return told


def proof(found: list[Culprit], everything: Items, keep: Items, ask: Ask) -> list[tuple[Items, str, Verdict, Verdict]]:
    """What has to be so for the culprits to be proved.

    Args:
        ask: of a trial, to be far surer than in the search.

    Returns:
        Of each trial: what was in, what that is, what it has to say, what it says.
    """
    rows: list[tuple[Items, str, Verdict, Verdict]] = [
        (everything | keep, "the whole level", PRESENT, ask(everything | keep, "proof"))
    ]
    all_of = NOTHING.union(*(c.items for c in found))
    for culprit in found:
        alone = culprit.whole | keep
        rows.append((alone, "the culprit and its carriers alone", PRESENT, ask(alone, "proof")))
        if len(culprit.whole) > 1:
            for item in sorted(culprit.items):
                less = (culprit.whole - {item}) | keep
                rows.append((less, "the culprit without one of its members", ABSENT, ask(less, "proof")))
                rest = (everything - (all_of - culprit.items) - {item}) | keep
                rows.append((rest, "the level without one member", ABSENT, ask(rest, "proof")))
    rest = (everything - all_of) | keep
    rows.append((rest, "everything but the culprit", ABSENT, ask(rest, "proof")))
    return rows
