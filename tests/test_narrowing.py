"""The search of a hunt: minimal sets of any fault, steady or not, and what is left of a level without some objects."""

from __future__ import annotations

import random
from pathlib import Path

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from ropebell.demo.builder import LevelBuilder, at
from ropebell.demo.shapes import ball, box, joined
from ropebell.hunt.narrowing import NOTHING, Items, culprits, ddmin, proof
from ropebell.hunt.splits import Splits, Thing, things_of
from ropebell.hunt.steadiness import ABSENT, CANNOT_TELL, PRESENT, WRONG_PROOF, Runs, Steadiness, Verdict
from ropebell.level.gltf_read import read_gltf
from ropebell.level.gltf_write import plain_glb
from ropebell.level.model import Level
from ropebell.level.subset import joined as joined_pieces
from ropebell.level.subset import objects, pieces_of, subset, taken_apart


def _things(count: int, seed: int) -> list[Thing]:
    draw = np.random.default_rng(seed)
    low = draw.uniform(0, 30, (count, 3))
    return [Thing(p, p + 1, 10.0, f"branch {i % 3}", f"kind {i % 4}") for i, p in enumerate(low)]


@given(
    st.integers(2, 60).flatmap(
        lambda n: st.tuples(st.just(n), st.lists(st.sets(st.integers(0, n - 1), min_size=1, max_size=3), min_size=1,
                                                 max_size=3), st.integers(0, 9))
    )
)  # fmt: skip
def test_every_steady_fault_ends_in_exactly_what_causes_it(case: tuple[int, list[set[int]], int]) -> None:
    count, causes, seed = case
    # Sets that share members or hold one another are one cause seen twice; here they have to be apart.
    apart = [frozenset(c) for i, c in enumerate(causes) if not any(c & other for other in causes[:i])]
    asked: list[Items] = []

    def ask(items: Items, _what: str) -> Verdict:
        asked.append(items)
        return PRESENT if any(c <= items for c in apart) else ABSENT

    everything = frozenset(range(count))
    found, gone = culprits(everything, NOTHING, ask, Splits(_things(count, seed)))
    assert gone and {c.items for c in found} == set(apart) and not any(c.carriers for c in found)
    assert all(should == says for _, _, should, says in proof(found, everything, NOTHING, ask))
    if len(apart) == 1 and len(apart[0]) == 1:
        assert len(set(asked)) <= 2 * np.log2(count) + 4


def test_what_is_only_needed_to_see_a_fault_is_told_apart() -> None:
    """7 causes it; without 3 nobody can tell, and some wall, 1 or 2, has to be there to see it against."""

    def ask(items: Items, _what: str) -> Verdict:
        if 3 not in items:
            return CANNOT_TELL
        return PRESENT if 7 in items and items & {1, 2} else ABSENT

    found, gone = culprits(frozenset(range(40)), NOTHING, ask, Splits(_things(40, 1)))
    assert gone and [c.items for c in found] == [frozenset({7})]
    assert 3 in found[0].carriers and len(found[0].carriers & {1, 2}) == 1


def test_what_shows_only_in_a_part_of_the_level_is_no_culprit() -> None:
    """5 causes it. 8 and 9 show it, too, but only where most of the rest is gone."""

    def ask(items: Items, _what: str) -> Verdict:
        return PRESENT if 5 in items or ({8, 9} <= items and len(items) < 12) else ABSENT

    for seed in range(8):
        found, gone = culprits(frozenset(range(40)), NOTHING, ask, Splits(_things(40, seed)))
        assert gone and [c.items for c in found] == [frozenset({5})]


def test_what_a_person_trusts_is_never_left_out() -> None:
    def ask(items: Items, _what: str) -> Verdict:
        assert 5 in items
        return PRESENT if {2, 5} <= items else ABSENT

    found, gone = culprits(frozenset(range(30)) - {5}, frozenset({5}), ask, Splits(_things(30, 2)))
    assert gone and found[0].items == {2}


def test_ddmin_leaves_nothing_that_can_go() -> None:
    needed = {3, 11, 29, 30}
    found = ddmin(frozenset(range(64)), NOTHING, lambda items, _: PRESENT if needed <= items else ABSENT)
    assert found == needed


def test_an_unsteady_fault_is_repeated_until_it_is_sure() -> None:
    right = proved_wrong = 0
    for seed in range(40):
        draw, steadiness, runs = random.Random(seed), Steadiness(steady=False), dict[Items, Runs]()
        truth = frozenset(draw.sample(range(30), 1 + seed % 2))

        def ask(items: Items, what: str, wrong: float = 0.01) -> Verdict:
            told = runs.setdefault(items, Runs())  # noqa: B023 - used in this round only
            if what == "again" and told.present:
                told.add(PRESENT if truth <= items and draw.random() < 0.6 else ABSENT)  # noqa: B023
                steadiness.learn(items, told)  # noqa: B023
            while (verdict := steadiness.verdict(told, wrong)) is None:  # noqa: B023
                told.add(PRESENT if truth <= items and draw.random() < 0.6 else ABSENT)  # noqa: B023
                steadiness.learn(items, told)  # noqa: B023
            return verdict

        everything = frozenset(range(30))
        if ask(everything, "control") != PRESENT:
            continue
        found, _ = culprits(everything, NOTHING, ask, Splits(_things(30, seed)))
        rows = proof(found, everything, NOTHING, lambda items, what: ask(items, what, WRONG_PROOF))
        exact = [c.items for c in found] == [truth]
        right += exact
        proved_wrong += not exact and all(should == says for _, _, should, says in rows)
    assert right >= 36 and proved_wrong == 0


def test_one_run_is_enough_for_what_is_steady_and_few_tell_what_is_not() -> None:
    once = Runs()
    once.add(ABSENT)
    assert Steadiness(steady=True).verdict(once) == ABSENT
    loose = Steadiness(steady=False)
    assert loose.verdict(once) is None
    seen = Runs()
    for verdict in (PRESENT, ABSENT, PRESENT, ABSENT):
        seen.add(verdict)
    loose.learn("whole", seen)
    assert 0.3 < loose.share < 0.7
    count = 1
    while loose.verdict(once) is None:
        once.add(ABSENT)
        count += 1
    assert loose.verdict(once) == ABSENT and loose.miss(count) < 0.01 <= loose.miss(count - 1)


def test_what_is_measured_near_its_limit_needs_a_lead() -> None:
    near, judge = Runs(), Steadiness(steady=False)
    near.add(PRESENT, near=True)
    assert judge.verdict(near) is None
    near.add(ABSENT, near=True)
    near.add(PRESENT, near=True)
    assert judge.verdict(near) is None
    near.add(PRESENT, near=True)
    assert judge.verdict(near) == PRESENT


def test_halves_are_even_and_part_few_neighbours() -> None:
    """Two rows of touching boxes far from each other are cut between the rows, however they are numbered."""
    order = list(range(40))
    random.Random(3).shuffle(order)
    things: list[Thing] = [Thing(np.zeros(3), np.zeros(3), 1.0)] * 40
    for place, i in enumerate(order):
        low = np.array([float(place % 20), 0.0, 50.0 * (place // 20)])
        things[i] = Thing(low, low + 1.0, 10.0)
    left, right = Splits(things)(frozenset(range(40)))
    assert {frozenset(order[:20]), frozenset(order[20:])} == {left, right}


def _level() -> Level:
    b = LevelBuilder()
    b.material("stone", (0.5, 0.5, 0.5))
    b.material("oak", (0.4, 0.3, 0.2))
    b.add("house", "wall", box((0, 0, 0), (4, 3, 0.2)), "stone")
    b.add("house", "pair", joined([box((0, 0, 0), (1, 1, 1)), box((3, 0, 0), (4, 1, 1))]), "oak", at(0, 5, 0))
    b.add("things", "globe", ball(0.5, 8, 8), "oak", at(2, 1, 2))
    b.spot("things", "start", at(1, 0, 1))
    return b.level(Path("a.glb"))


def test_a_copy_has_the_chosen_objects_and_every_light_and_mark(tmp_path: Path) -> None:
    level = _level()
    paths = {n.path: i for i, n in enumerate(level.nodes)}
    less = subset(level, frozenset([paths["house/wall"]]))
    (tmp_path / "a.glb").write_bytes(plain_glb(less, "test"))
    back = read_gltf(tmp_path / "a.glb")
    assert {n.path for n in back.nodes if n.mesh >= 0} == {"house/wall"}
    assert "things/start" in {n.path for n in back.nodes} and "things/globe" not in {n.path for n in back.nodes}
    assert len(less.meshes) == 1 and subset(level, frozenset(objects(level))).triangle_count() == level.triangle_count()


def test_an_object_is_taken_apart_without_losing_a_triangle() -> None:
    level = _level()
    paths = {n.path: i for i, n in enumerate(level.nodes)}
    shells = pieces_of(level, paths["house/pair"])
    assert [p.words for p in shells] == ["shell 1", "shell 2"] and [p.triangles for p in shells] == [12, 12]
    clusters = taken_apart(level, shells[1])
    assert len(clusters) > 1 and sum(p.triangles for p in clusters) == 12
    assert joined_pieces(clusters[:4]).words == "clusters 1 to 4 of shell 2"
    inner = taken_apart(level, joined_pieces(clusters[3:6]))
    assert joined_pieces([inner[0], inner[2]]).words == "clusters 1 and 3 of clusters 4 to 6 of shell 2"
    rows = {paths["house/pair"]: joined_pieces(clusters).rows}
    alone = subset(level, frozenset(), rows)
    assert alone.triangle_count() == 12
    (mesh,) = alone.meshes
    assert mesh.primitives[0].positions[:, 0].min() == 3.0


def test_things_know_where_they_stand() -> None:
    level = _level()
    things = things_of(level, objects(level))
    globe = things[-1]
    assert globe.branch == "things" and globe.kind == "oak"
    np.testing.assert_allclose((globe.low + globe.high) / 2, [2, 1, 2], atol=0.05)
