"""What decides before something is done or said: which fix is carried out, what no fix touches, what an experiment proves."""

import subprocess
import sys
from copy import copy
from types import SimpleNamespace

import pytest

from kalyx.core.diagnosis import difference, experiments, fixes
from kalyx.core.environments.invocation import Invocation
from kalyx.core.imports.experiment import Experiment
from kalyx.core.model.records import (
    Evidence,
    Finding,
    Fix,
)
from kalyx.core.model.steps import (
    Install,
    ManualStep,
    Move,
    RemoveEnvironment,
    RemoveFiles,
    RunWith,
    RunWithout,
    Step,
    UnregisterKernel,
    WriteImport,
)
from tests.made import HOME, Files


def finding(cause: str, *fixes: Fix, certainty: str = "proven") -> Finding:
    return Finding(cause=cause, certainty=certainty, message=cause, evidence=[Evidence(fact="x", source="y")], fixes=list(fixes))


def fix(*steps: Step, tried: str | None = None) -> Fix:
    machine = Files().machine()
    return Fix(message="x", steps=[fixes.step(machine, copy(step)) for step in steps], tried=tried)


INSTALL, MOVE, REMOVE, DISCARD = Install(python="/h/bin/python", requirements=["a"]), Move(path="/a", to="/b"), RemoveFiles(paths=["/a"]), RemoveEnvironment(prefix="/a")
UNREGISTER, RUN, BY_HAND = UnregisterKernel(kernel="a"), RunWith(words=["/h/bin/python", "a.py"]), ManualStep(line="write it")
# The fixes of a finding, each its steps and how it was tried; which are carried out, in order. A text: none, for that reason.


# Outcome of the experiment of each cause in turn (None: there is none); the order and the certainty that come of it.


# A fix; how it is tried without anything being copied (variables out, variables in, flags out, the import), or not at all.
FOR_NOTHING = [
    ((WriteImport(statement="import comb"),), ((), (), (), "comb")),
    ((WriteImport(statement="import comb, wax"),), None),
    ((RunWithout(flag="-OO"),), (("-OO",), (), ("-OO",), "hive")),
    ((RunWith(words=["/h/bin/python", "-c", "import hive"], variables={"A": None, "B": "1"}),), (("A",), (("B", "1"),), (), "hive")),
    ((RunWith(words=["/h/bin/python", "x.py"], variables={"PYTHONPATH": f"{HOME}/own"}),), ((), (("PYTHONPATH", f"{HOME}/own"),), (), "hive")),
    ((RunWith(words=["/other/python", "x.py"], variables={"A": None}),), None),
    ((RunWith(words=["/other/python"]),), None),
    ((INSTALL,), None), ((MOVE,), None), ((BY_HAND,), None), ((WriteImport(statement="import comb"), INSTALL), None),
]  # fmt: skip


@pytest.mark.parametrize("steps, expected", FOR_NOTHING)
@pytest.mark.parametrize("works, problem", [(True, None), (False, None), (False, "was not started")])
def test_a_fix_that_costs_nothing_is_tried(steps, expected, works, problem, monkeypatch):
    from kalyx.core.imports.case import Case
    from kalyx.core.imports.names import ImportStatement
    from kalyx.core.imports.trial import Trial

    tried = []

    def attempt(case, experiment, runner, seconds):
        tried.append((experiment.without, experiment.given, experiment.flags_out, case.wanted.module))
        return Trial(answered=problem is None, imports=works, problem=problem)

    monkeypatch.setattr(experiments, "try_with", attempt)
    monkeypatch.setattr(experiments, "not_to_be_run", lambda reader, *paths: None)
    interpreter = SimpleNamespace(executable="/h/bin/python", version="3.11.7")
    case = Case(seat=None, wanted=ImportStatement("import hive", "hive"), interpreter=interpreter, way=Invocation(), search=None, resolver=SimpleNamespace(reader=Files().machine().reader), resolution=None, trial=Trial(answered=True))
    found = finding("absent", fix(*steps))
    machine = SimpleNamespace(runner=object(), seconds=1.0, reader=Files().machine().reader)
    experiments.test_for_nothing([found], case, machine)
    assert tried == ([] if expected is None else [expected])
    known = None if expected is None or problem is not None else "works" if works else "fails"
    assert found.fixes[0].tried == known
    assert found.fixes[0].state == {None: "certain", "works": "tested", "fails": "may-help"}[known]


ITEMS = [f"V{number}" for number in range(23)]


def test_a_search_ends_when_it_has_used_up_its_trials(monkeypatch):
    """With what is known by then: all of it together does."""
    from kalyx.core.imports.trial import Raised, Trial

    monkeypatch.setattr(difference, "_TRIALS", 5)
    monkeypatch.setattr(difference, "try_with", lambda case, experiment, runner, seconds: Trial(answered=True, imports=len(experiment.without) > 20, chain=[Raised(type="E", text="x")]))
    case = SimpleNamespace(raised=Raised(type="E", text="x"), module="hive")
    dimension = difference.Dimension("variable", list(ITEMS), lambda items: Experiment("x", without=tuple(items)))
    found = difference.least(case, SimpleNamespace(runner=object(), seconds=1.0), dimension)
    assert found is not None and found.items == ITEMS


FLAGS = [
    ("-W error x.py", ("-Werror",)), ("-Werror -OO x.py", ("-Werror", "-OO")), ("-O -O -c pass", ("-OO",)),
    ("-OOs -m a -O", ("-s", "-OO")), ("-X dev -I x.py", ("-I", "-Xdev")), ("-Xutf8=1 x.py -W error", ("-Xutf8=1",)),
    ("-bb -Wd -E x.py", ("-E", "-bb", "-Wd")), ("-u -B -i x.py", ()), ("-sOWerror -c pass", ("-s", "-O", "-Werror")),
]  # fmt: skip


@pytest.mark.parametrize("words, flags", FLAGS)
def test_flags_that_change_how_code_runs_are_kept(words, flags):
    """With the meaning that the interpreter itself gives to them."""
    machine = Files().machine()
    machine_reader, interpreter = machine.reader, SimpleNamespace(version="3.11.7", implementation="cpython")
    way = Invocation.of_command(words.split(), machine_reader, interpreter, {})
    assert way.flags == flags
    asked = "import sys; print(sys.flags.optimize, sys.flags.bytes_warning, sys.flags.dev_mode, sys.flags.isolated, sys.warnoptions)"
    own = words.split()
    at = next(number for number, word in enumerate(own) if word in ("-c", "-m", "x.py"))
    said = [subprocess.run([sys.executable, *some, "-c", asked], capture_output=True, text=True, check=True, stdin=subprocess.DEVNULL).stdout
            for some in ([word for word in own[:at] if word != "-i"], way.flags)]  # fmt: skip
    assert said[0] == said[1]
