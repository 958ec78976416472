"""A small seeded run of the fuzzer; ``make fuzz`` runs a long one."""

from __future__ import annotations

import pytest

import fuzz


@pytest.mark.parametrize("seed", range(4))
def test_whatever_comes_ends_at_once_and_with_a_sentence(seed: int) -> None:
    assert fuzz.run(30, seed) == []
