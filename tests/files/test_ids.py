"""Ids, held against sets of them."""

from __future__ import annotations

from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from patient_usher.files.ids import Ids, disjoint


@given(st.lists(st.text(alphabet="ab019", min_size=1, max_size=4), max_size=60))
@settings(max_examples=200, deadline=None)
def test_ids_that_were_seen_are_known(names: list[str]) -> None:
    ids, seen = Ids(), set[str]()
    for name in names:
        assert ids.add(name) == (name not in seen)
        seen.add(name)


def test_many_ids_take_little_memory() -> None:
    ids = Ids()
    assert all(ids.add(f"x{number * 7919 % 100_003}") for number in range(100_003))
    assert not ids.add("x5")


@pytest.mark.parametrize("seed", range(40))
def test_ids_that_stand_twice_are_found_across_stretches(seed: int) -> None:
    random = Random(seed)
    every = [random.choice(["r", "s-", "buoy", ""]) + random.choice(["", "0", "00"]) + str(at) for at in range(300)]
    every = list(dict.fromkeys(every))
    if random.random() < 0.5:
        random.shuffle(every)
    cut = sorted(random.sample(range(len(every)), 2))
    several = [every[: cut[0]], every[cut[0] : cut[1]], every[cut[1] :]]
    if twice := seed % 2:
        one, two = random.sample(several, 2)
        two.insert(random.randrange(len(two) + 1), random.choice(one))
    held = [Ids() for _ in several]
    assert all(ids.add(id_) for ids, some in zip(held, several, strict=True) for id_ in some)
    assert disjoint(held) == (not twice)
