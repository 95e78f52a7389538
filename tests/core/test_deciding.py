"""What decides before something is done or said: which fix is carried out, what no fix touches, what an experiment proves."""

import subprocess
import sys
from copy import copy
from types import SimpleNamespace

import pytest
from msgspec.structs import replace

from kalyx.core.actions import fixing, version_cache
from kalyx.core.diagnosis import difference, experiments, fixes
from kalyx.core.diagnosis.causes.no_parent_package import package_of
from kalyx.core.environments.invocation import Invocation
from kalyx.core.imports import conducting
from kalyx.core.imports.experiment import Experiment
from kalyx.core.model.records import (
    Environment,
    Evidence,
    Finding,
    Fix,
    ImportAnswer,
    KalyxError,
    Seat,
    Tried,
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
from kalyx.core.queries import here, survey, why_everywhere
from kalyx.core.system.memory_reader import MemoryReader
from kalyx.core.targets import resolve
from tests.made import BINARY, HOME, Files
from tests.support.scenes import plus


def finding(cause: str, *fixes: Fix, certainty: str = "proven") -> Finding:
    return Finding(cause=cause, certainty=certainty, message=cause, evidence=[Evidence(fact="x", source="y")], fixes=list(fixes))


def fix(*steps: Step, tried: str | None = None) -> Fix:
    machine = Files().machine()
    return Fix(message="x", steps=[fixes.step(machine, copy(step)) for step in steps], tried=tried)


INSTALL, MOVE, REMOVE, DISCARD = Install(python="/h/bin/python", requirements=["a"]), Move(path="/a", to="/b"), RemoveFiles(paths=["/a"]), RemoveEnvironment(prefix="/a")
UNREGISTER, RUN, BY_HAND = UnregisterKernel(kernel="a"), RunWith(words=["/h/bin/python", "a.py"]), ManualStep(line="write it")
OTHERWISE = RunWith(words=["/h/bin/python", "a.py"], variables={"A": None})
# The fixes of a finding, each its steps and how it was tried; which are carried out, in order. A text: none, for that reason.
CHOSEN = [
    ([((INSTALL,), None)], [0]),
    ([((INSTALL,), None), ((MOVE,), None)], [0, 1]),
    ([((INSTALL,), None), ((REMOVE,), None)], [0]),
    ([((INSTALL,), None), ((DISCARD,), None), ((MOVE,), None)], [0, 2]),
    ([((INSTALL,), None), ((MOVE, UNREGISTER), None)], [0]),
    ([((REMOVE,), None), ((INSTALL,), None)], [0, 1]),
    ([((INSTALL,), "fails"), ((MOVE,), None)], [1]),
    ([((INSTALL,), "fails"), ((MOVE,), "fails")], "fixes that were tested works here"),
    ([((INSTALL,), None), ((MOVE,), "works")], [1, 0]),
    ([((INSTALL,), None), ((REMOVE,), "works")], [1, 0]),
    ([((BY_HAND,), None), ((MOVE,), "works")], [1]),
    ([((BY_HAND,), None), ((INSTALL,), None)], "by hand: .*: write it"),
    ([((RUN,), None), ((INSTALL,), None)], "by hand"),
    ([((OTHERWISE,), None)], "by hand"),
    ([((INSTALL, BY_HAND), None)], "by hand: .*: write it"),
    ([], "no fix is known"),
]


@pytest.mark.parametrize("known, chosen", CHOSEN)
def test_which_fixes_are_carried_out(known, chosen):
    made = [fix(*steps, tried=tried) for steps, tried in known]
    answers = [ImportAnswer(statement="import json", module="json", outcome="imports"),
               ImportAnswer(statement="import a", module="a", outcome="fails", findings=[finding("absent", *made), finding("raises", fix(MOVE))])]  # fmt: skip
    if isinstance(chosen, str):
        with pytest.raises(KalyxError, match=chosen):
            fixing.fixes_to_try(answers)
    else:
        cause, some = fixing.fixes_to_try(answers)
        assert cause.cause == "absent" and [made.index(item) for item in some] == chosen
    assert fixing.fixes_to_try(answers[:1]) is None


def owned() -> Files:
    files = Files()
    files.package("heath", "hivescale", "2.1", "hivescale")
    files[f"{files.site('heath')}/loose.py"] = b""
    files["/srv/others.py"] = b""
    files[f"{HOME}/tools/lib/python3.9/os.py"] = b""
    files[f"{HOME}/tools/lib/python3.9/statistics.py"] = files[f"{HOME}/tools/lib/python3.9/encodings/__init__.py"] = b""
    files[f"{HOME}/spring/statistics.py"] = b""
    files["/moor/spring/.git/HEAD"] = b""
    return files


WHOSE = {
    f"{HOME}/spring/statistics.py": None, f"{HOME}/spring": None, HOME: "outside", "/srv/others.py": "outside",
    f"{HOME}/heath/lib/python3.11/site-packages/loose.py": None, f"{HOME}/heath/lib/python3.11/site-packages/hivescale/__init__.py": "hivescale",
    f"{HOME}/tools/lib/python3.9/statistics.py": "standard library", "/usr/lib/python3.11/statistics.py": "outside",
}  # fmt: skip


@pytest.mark.parametrize("path", WHOSE)
def test_whose_a_file_is(path):
    """Only what lies below the home folder or the tree, and what nobody installed."""
    said = fixes.not_the_users_own(owned().machine(), path)
    assert said is None if WHOSE[path] is None else said is not None and WHOSE[path] in said, said


@pytest.mark.parametrize("made", [lambda path: RemoveFiles(paths=[path]), lambda path: Move(path=path, to=f"{path}.old")])
def test_what_is_not_the_users_own_is_not_touched(made, monkeypatch):
    done = []
    monkeypatch.setattr(fixing, "run_step", lambda machine, step, tell: done.append(step))
    machine = owned().machine()
    seat = Seat(seat="shell", name="shell")
    for path, whose in WHOSE.items():
        step = fix(made(path))
        if whose is None:
            fixing.carry_out(machine, step, seat, lambda text: None)
            assert done.pop() is step.steps[0]
        else:
            with pytest.raises(KalyxError, match="nothing was done"):
                fixing.carry_out(machine, step, seat, lambda text: None)
            assert not done


# Outcome of the experiment of each cause in turn (None: there is none); the order and the certainty that come of it.
PROVEN = [
    ([None, None], ["a proven"]),
    (["fails alike", None], ["b proven", "a possible"]),
    (["finds nothing", None], ["b proven", "a possible"]),
    (["gives no answer", None], ["b proven", "a possible"]),
    (["imports", None], ["a proven", "b proven"]),
    (["fails otherwise", None], ["a proven", "b proven"]),
    (["fails alike", "imports", "imports"], ["b proven", "c likely", "a possible"]),
    (["fails alike", "fails alike"], ["a possible", "b possible"]),
    (["fails alike"] * 4 + ["imports"], ["e likely", "a possible", "b possible", "c possible", "d possible"]),
]


@pytest.mark.parametrize("outcomes, ordered", PROVEN)
def test_what_experiments_prove(outcomes, ordered, monkeypatch):
    """A cause that an experiment refutes falls behind those that were only read; after four nothing more is tried."""
    causes = "abcde"[: len(outcomes)]
    told = dict(zip(causes, outcomes, strict=True))
    proposed = {cause: Experiment(f"without {cause}:") for cause, outcome in told.items() if outcome is not None}
    tried = []

    def conduct(case, experiment, runner, seconds):
        tried.append(experiment)
        return Tried(changed=experiment.message, outcome=told[experiment.message.split()[1][:-1]], seconds=0.1)

    monkeypatch.setattr(experiments, "conduct", conduct)
    machine = SimpleNamespace(runner=object(), reader=Files().machine().reader, seconds=5.0)
    case = SimpleNamespace(trial=SimpleNamespace(answered=True), proposed=proposed.get)
    found = experiments.proven_first([finding(item) for item in causes], case, machine)
    assert [f"{item.cause} {item.certainty}" for item in found][: len(ordered)] == ordered and len(tried) <= 4
    machine.runner = None
    found = experiments.proven_first([finding(item) for item in causes], case, machine)
    assert all(item.certainty == "likely" for item in found if item.cause in proposed), "without a trial nothing is proven"


@pytest.mark.parametrize("after, outcome", [(None, "imports"), ("No module named 'hive'", "finds nothing"), ("No module named 'comb'", "fails otherwise"),
                                            ("No module named 'hive.wax'", "fails alike")])  # fmt: skip
def test_what_came_of_an_experiment(after, outcome):
    """Where what was left out was all that answered to the name, the import fails at it: that proves nothing."""
    from kalyx.core.imports.trial import Raised

    def raised(text):
        return Raised(type="ModuleNotFoundError", text=text, frames=[])

    case = SimpleNamespace(raised=raised("No module named 'hive.wax'"), module="hive.wax")
    trial = SimpleNamespace(answered=True, imports=after is None, root=raised(after) if after else None)
    assert conducting.outcome_of(case, trial) == outcome


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
    case = Case(seat=None, wanted=ImportStatement("import hive", "hive"), interpreter=interpreter, invocation=Invocation(), search=None, resolver=SimpleNamespace(reader=Files().machine().reader), resolution=None, trial=Trial(answered=True))
    found = finding("absent", fix(*steps))
    machine = SimpleNamespace(runner=object(), seconds=1.0, reader=Files().machine().reader)
    found = experiments.tested_for_nothing(found, case, machine)
    assert tried == ([] if expected is None else [expected])
    known = None if expected is None or problem is not None else "works" if works else "fails"
    assert found.fixes[0].tried == known
    assert found.fixes[0].state == {None: "certain", "works": "tested", "fails": "may-help"}[known]


@pytest.mark.parametrize("made, state, works, known", [
    (WriteImport(statement="import comb"), "may-help", True, ("works", "may-help")),  # that comb is here does not show that it was meant
    (WriteImport(statement="import comb"), "certain", True, ("works", "tested")),
    (WriteImport(statement="import comb"), "may-help", False, ("fails", "may-help")),
    (INSTALL, "may-help", True, ("works", "tested")),
    (INSTALL, "certain", False, ("fails", "may-help")),
])  # fmt: skip
def test_what_a_trial_makes_of_a_fix(made, state, works, known):
    item = replace(fix(made), state=state).was_tried(works)
    assert (item.tried, item.state) == known


ITEMS = [f"V{number}" for number in range(23)]


@pytest.mark.parametrize("guilty, expected", [
    ([{"V7"}], {"V7"}),                            # one does it
    ([{"V0"}], {"V0"}),
    ([{"V22"}], {"V22"}),
    ([{"V3", "V19"}], {"V3", "V19"}),              # both must be left out
    ([{"V1", "V2", "V3"}], {"V1", "V2", "V3"}),
    ([{"V4"}, {"V15"}], {"V4"}),                   # either will do
    ([set(ITEMS)], set(ITEMS)),
    ([], None),                                    # none of them is the cause
])  # fmt: skip
def test_what_is_left_out_is_the_least_that_makes_it_work(guilty, expected, monkeypatch):
    """A search by halves: where leaving out one of the sets (all of it) makes an import work."""
    from kalyx.core.imports.trial import Raised, Trial

    tried = []

    def attempt(case, experiment, runner, seconds):
        tried.append(set(experiment.without))
        works = any(set_out <= set(experiment.without) for set_out in guilty)
        return Trial(answered=True, imports=works, chain=[] if works else [Raised(type="E", text="x")])

    monkeypatch.setattr(difference, "try_with", attempt)
    case = SimpleNamespace(raised=Raised(type="E", text="x"), module="hive")
    machine = SimpleNamespace(runner=object(), seconds=1.0)
    found = difference.least(case, machine, difference.Dimension("variable", list(ITEMS), lambda items: Experiment("x", without=tuple(items))))
    assert (found and set(found.items)) == expected
    assert len(tried) <= (1 if expected is None else 2 + 10 * len(expected))
    if expected is not None:
        # Nothing of it can be put back.
        assert all(not any(set_out <= set(found.items) - {item} for set_out in guilty) for item in found.items)


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
    invocation = Invocation.of_command(words.split(), machine_reader, interpreter, {})
    assert invocation.flags == flags
    asked = "import sys; print(sys.flags.optimize, sys.flags.bytes_warning, sys.flags.dev_mode, sys.flags.isolated, sys.warnoptions)"
    own = words.split()
    at = next(number for number, word in enumerate(own) if word in ("-c", "-m", "x.py"))
    said = [subprocess.run([sys.executable, *some, "-c", asked], capture_output=True, text=True, check=True, stdin=subprocess.DEVNULL).stdout
            for some in ([word for word in own[:at] if word != "-i"], invocation.flags)]  # fmt: skip
    assert said[0] == said[1]


def test_what_is_remembered_of_a_program_is_that_of_this_very_file():
    """Its size alone says nothing: another of the same size is another program."""
    files = Files()
    first = version_cache._key(files.machine().reader, "/usr/bin/python3.11")
    status = files.machine().reader.status("/usr/bin/python3.11")
    parts = first.split("|")
    assert parts[1] == str(status.size) and str(status.modified_ns) in parts[2] and len(parts) == 4
    assert version_cache._key(files.machine().reader, "/nowhere") is None


SYSTEMS = {'ID=debian\n': "debian", 'ID="linuxmint"\nID_LIKE="ubuntu debian"\n': "debian", "ID=ubuntu\n": "debian", "ID=rocky\nID_LIKE='rhel centos fedora'\n": "fedora",
           "ID=arch\n": "", "NAME=debian\n": "", "": ""}  # fmt: skip


@pytest.mark.parametrize("text", SYSTEMS)
def test_whose_packages_the_system_has(text):
    files = Files()
    files["/etc/os-release"] = text
    assert fixes._family(files.machine()) == SYSTEMS[text]


def test_two_installations_in_one_prefix_differ():
    machine = plus(Files(), {"/usr/bin/python3.9": BINARY.replace(b"3.11.7", b"3.9.2"), "/usr/lib/python3.9/os.py": b""}).machine()
    eleven, again, nine, heath = (resolve(machine, path) for path in ("/usr/bin/python3.11", "/usr/bin/python3", "/usr/bin/python3.9", f"{HOME}/heath"))
    assert [here.relation(seat, eleven) for seat in (eleven, again, nine, heath)] == ["same", "same", "differs", "differs"]
    assert [seat.interpreter.is_in_environment_of(eleven.interpreter) for seat in (again, nine, heath)] == [True, False, False]
    machine.environments.add(nine.environment)
    assert machine.environments.at("/usr/bin/python3.9").target == "/usr/bin/python3.9" and heath.environment.target == heath.environment.prefix
    assert here.relation(Seat(seat="shell", name="x", reason="gone"), eleven) == "dead"
    assert here.relation(Seat(seat="shell", name="x", reason="?", undecided=True), eleven) == "unknown"


@pytest.mark.parametrize("prefix, root", [("/usr", "/usr/lib/python3.11"), ("/usr/local", "/usr/local/lib/python3.11"), ("/", "/lib/python3.11"), ("/opt/hive", "/opt/hive")])
def test_of_a_prefix_that_others_share_the_library_is_measured(prefix, root):
    others = [SimpleNamespace(prefix="/moor", version="3.11.7", library="/moor/x"), SimpleNamespace(prefix=prefix, version="3.9.1", library="/x")]
    own = SimpleNamespace(prefix=prefix, version="3.11.7", library=f"{prefix.rstrip('/')}/lib/python3.11")
    machine = SimpleNamespace(interpreters=[*others, own])
    assert survey._own_root(machine, SimpleNamespace(prefix=prefix, key=prefix, version="3.11.7")) == root
    assert survey._own_root(machine, SimpleNamespace(prefix=prefix, key="/key", version="2.7.18")) == "/key"


def test_the_size_of_what_a_whole_system_stands_in_is_that_of_its_library():
    files = Files()
    files["/usr/share/much"] = b"x" * 100_000
    machine = files.machine()
    installation = next(found for found in machine.environments.everywhere if found.kind == "installation" and found.prefix == "/usr")
    assert survey._own_root(machine, installation) == "/usr/lib/python3.11"
    virtual = next(found for found in machine.environments.everywhere if found.name == "heath")
    assert isinstance(virtual, Environment) and survey._own_root(machine, virtual) == f"{HOME}/heath"


@pytest.mark.parametrize("name, other, message, fix, expected", [
    ("heath-two", "heath", "kernel heath starts X", "", "kernel heath-two starts X"),
    ("heath", "heath-two", "kernel heath-two starts X", "", "kernel heath starts X"),
    ("moor", "heath", "kernel heath-two starts X", "", "kernel heath-two starts X"),  # another kernel, which is meant
    ("moor", "heath", "kernel heath starts X", "restart heath", None),  # a fix for the other one
    ("heath", "heath", "kernel heath starts X", "restart heath", "kernel heath starts X"),
])  # fmt: skip
def test_an_answer_is_shared_by_seats_only_where_its_message_alone_names_them(name, other, message, fix, expected):
    fixes_told = [Fix(message=fix)] if fix else []
    answer = ImportAnswer(statement="import x", module="x", outcome="fails", findings=[Finding.proven("absent", message, [], fixes_told)])
    told = why_everywhere._as_told_of(Seat(seat="kernel", name=name), Seat(seat="kernel", name=other), answer)
    assert (told and told.findings[0].message) == expected


@pytest.mark.parametrize("path, expected", [
    ("/a/b/c/d.py", ("/a", "b.c.d")), ("/a/b/c/__init__.py", ("/a", "b.c")), ("/a/x.py", ("/", "a.x")), ("/a/b/c/d-e.py", ("/a", None)), ("/a/b/n.ipynb", ("/a", None)),
])  # fmt: skip
def test_the_package_that_a_file_is_of(path, expected):
    files = {"/a/b/__init__.py": b"", "/a/b/c/__init__.py": b"", "/a/b/c/d.py": b"", "/a/x.py": b""}
    assert package_of(MemoryReader("linux", files), path) == expected
