"""A healthy import is never blamed: every module at the top of a large real environment, and of old and new libraries."""

import os
import sys

import pytest

from kalyx.core.imports.names import ImportStatement
from kalyx.core.invocation import NAMED
from kalyx.core.machine import Machine
from kalyx.core.queries.why import why_import
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.system.live_runner import LiveRunner
from kalyx.core.targets import resolve
from tests.equipment import BY_VERSION, LONG, NEW, OLD, some

# These open windows or browsers, or end the program that asks for them, on purpose.
LEFT_OUT = {"antigravity", "this", "idlelib", "turtledemo", "turtle", "__main__"}


def names_in(folder: str, limit: int) -> list[str]:
    found = set()
    for name in os.listdir(folder):
        stem = name.split(".")[0]
        if stem.isidentifier() and stem not in LEFT_OUT and not stem.startswith("__"):
            if name.endswith((".py", ".so")) or os.path.exists(os.path.join(folder, name, "__init__.py")):
                found.add(stem)
    return sorted(found)[:: max(1, len(found) // limit)]


def places():
    own = next(entry for entry in sys.path if entry.endswith("site-packages"))
    yield pytest.param(sys.executable, names_in(own, 200 if LONG else 20), id="a large environment")
    for version in some(OLD, NEW):
        one = BY_VERSION[version]
        library = os.path.join(one.base_prefix, "lib", f"python{version}")
        yield pytest.param(one.executable, names_in(library, 20), id=f"the library of {version}")


@pytest.mark.parametrize("executable, names", list(places()))
def test_no_healthy_import_is_blamed(executable, names, tmp_path):
    machine = Machine(LiveReader(folder=str(tmp_path)), LiveRunner)
    seat = resolve(machine, executable)
    healthy = 0
    for name in names:
        answer = why_import(machine, seat, ImportStatement(f"import {name}", name), NAMED)
        if answer.outcome == "imports":
            healthy += 1
            assert not answer.findings, (name, answer.findings)
            assert answer.found_at, name
        else:
            assert answer.findings, (name, answer.error)
    assert healthy > len(names) * 0.8
