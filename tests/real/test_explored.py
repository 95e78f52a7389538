"""Machines by chance (``explore.py``): a new seed each time, and what a search has found and is kept."""

import os
import random
import time

import pytest

from tests.equipment import LONG, SEED
from tests.real.explore import DISTRIBUTIONS, MODES, Case, by_chance, clear, named, smallest, tried

SECONDS = float(os.environ.get("KALYX_EXPLORE_SECONDS", 600 if LONG else 10))

# Each was a difference once.
KEPT = [
    Case("cpython 3.6", "older", ("link to the bin",)),
    Case("cpython 2.7", "own site module, sees", flags=("-S",)),
    Case("cpython 2.7", "own site module", ("both places",)),
    Case("cpython 3.10", "plain", mode="folder"),
    Case("cpython 3.7", "plain", mode="archive"),
    Case("cpython 3.11", "plain", mode="linked folder", flags=("-I",)),
    Case("cpython 3.12", "plain", mode="archive", variables=(("PYTHONSAFEPATH", "1"),)),
    Case("cpython 3.13", "plain", variables=(("PYTHONSAFEPATH", "0"),)),
    Case("cpython 3.13", "plain", ("form feed",)),
    Case("cpython 3.6", "plain", ("a null",)),
    Case("cpython 3.12", "plain", flags=("-I",), variables=(("PYTHONEXECUTABLE", "/x/python"),)),
    Case("pypy 3.9 system", "plain", variables=(("PYTHONHOME", "/no/where"),)),
    *(Case("cpython 2.7", kind) for kind in ("older", "older, sees", "own site module", "own site module, sees")),
    Case("cpython 2.7", "older", variables=(("PYTHONHOME", "{base}"),)),
    Case("cpython 3.6", "older, sees"),
    *(Case(name, "plain", mode=mode) for name in ("cpython 3.8", "cpython 3.12", "pypy 3.9 system") for mode in MODES[-4:]),
    Case("cpython 3.12", "plain", variables=(("PYTHONHOME", "{base}/lib/.."),)),
    *(Case(f"cpython {version}", "plain", flags=("-S",), variables=(("PYTHONHOME", "{base}/lib/.."),)) for version in ("3.7", "3.10", "3.13")),
    Case("cpython 3.11", "plain", ("settings beside a link", "started by a link to a link"), ("-S",)),
]


@pytest.fixture(scope="module", autouse=True)
def copies():
    yield
    clear()


@pytest.mark.parametrize("case", KEPT, ids=str)
def test_what_was_a_difference(case):
    if case.interpreter in named():
        assert tried(case) is None


@pytest.mark.parametrize("kind", ["sees", "nested", "plain"])
@pytest.mark.parametrize("interpreter", [name for name in named() if int(name.split()[1].split(".")[1]) > 7])
def test_many_distributions(interpreter, kind):
    """Installed in every way and place at once: as ``importlib.metadata`` finds them, each by whose folder it is there."""
    bends = random.Random(f"{SEED} {interpreter} {kind}").sample(list(DISTRIBUTIONS), 15)
    variables = (("PYTHONPATH", "~/x:{root}/two/../one:{root}/eggs.zip"),) if kind != "nested" else ()
    case = Case(interpreter, kind, ("a path twice", *bends), mode="script", variables=variables)
    difference = tried(case)
    assert difference is None, f"seed {SEED}: {difference}\nKEPT: {smallest(case)!r}"


def test_machines_by_chance(record_property):
    chance, known, asked = random.Random(SEED), list(named()), 0
    until = time.monotonic() + SECONDS
    while time.monotonic() < until:
        case = by_chance(chance, known)
        difference = tried(case)
        asked += 1
        assert difference is None, f"seed {SEED}: {difference}\nKEPT: {smallest(case)!r}"
    record_property("explored machines", asked)
