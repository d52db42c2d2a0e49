"""What a fuzzer has found stays found: each input of the corpus, and every seed, keeps the promise of its target."""

from __future__ import annotations

import random
import time

import pytest
from conftest import unix
from fuzz import targets
from fuzz.__main__ import broken, mutated, starting


@unix
@pytest.mark.parametrize("name", targets.TARGETS)
def test_the_corpus_and_a_few_hundred_mutations(name: str) -> None:
    seeds = starting(name)
    assert seeds
    for data in seeds:
        assert not broken(name, data)
    chance, until = random.Random(name), time.monotonic() + 1.5
    while time.monotonic() < until:
        data = mutated(chance, seeds)
        assert not (why := broken(name, data)), (why, data[:400])
