"""Bent content wherever Kalyx reads (``fuzzing.py``): by chance, and what a search has found and is kept."""

import random

import pytest

from tests.equipment import LONG, SEED
from tests.trust.fuzzing import PLACES, bent, fault_of, seed

# Content that brought a fault once, by its place.
KEPT = [
    ("settings of an environment", b"home = /" + b"a/" * 30_000 + b"\nversion = 3.11\n"),
    ("first line", b"#!/bin/sh\n'''exec' "),
]


@pytest.mark.parametrize("place", PLACES)
def test_bent_content_is_taken_or_refused_in_words(place):
    chance = random.Random(f"{SEED} {place}")
    assert fault_of(place, seed(place)) is None
    for _ in range(400 if LONG else 6):
        content = bent(seed(place), chance)
        fault = fault_of(place, content)
        assert fault is None, f"{fault}\nKEPT: ({place!r}, {content!r})"


@pytest.mark.parametrize(("place", "content"), KEPT)
def test_what_a_search_found(place, content):
    assert fault_of(place, content) is None
