"""What the tests share: the built program, real interpreters, a home folder of one's own."""

from __future__ import annotations

import base64
import csv
import hashlib
import inspect
import json
import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path

import jsonschema
import pytest

from tests.preloaded import Preloaded, fits
from tests.traces import Traces

# A run in the background is started with Ctrl-C or a hang-up ignored, and so would be all that the tests start and stop.
signal.signal(signal.SIGINT, signal.default_int_handler)
if hasattr(signal, "SIGHUP"):
    signal.signal(signal.SIGHUP, signal.SIG_DFL)

_IS_WORKER = "PYTEST_XDIST_WORKER" in os.environ
# Before pytest chooses its own temporary folder, and before a worker is started.
_traces = None if _IS_WORKER else Traces()

from tests.equipment import BY_VERSION, LONG, SEED, wanted_by  # noqa: E402

# Whose tests share something that takes long to make: those of a group go to one worker, one after the other.
TOGETHER = {"tests/core/test_house.py": "sources", "tests/core/test_rules.py": "sources", "tests/cli/test_demo.py": "demo", "tests/trust/test_traced.py": "demo", "tests/real/test_command_interpreter.py": "words",
            "tests/real/test_built.py": "built", "tests/real/test_folders.py": "folders"}  # fmt: skip


def group_of(test: str) -> str:
    """What a worker is given at once: a group of those above, the faults of one version, else the test by itself."""
    file, _, rest = test.partition("::")
    if file in TOGETHER:
        return TOGETHER[file]
    return f"{file} {rest.rpartition('-')[2]}" if file == "tests/faults/test_faults.py" and "[" in rest else test


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--quick", action="store_true", help="no test that makes an environment or starts an installer, a server or a browser")
    parser.addoption("--in-turn", action="store_true", help="of the tests of tests/in_turn.txt only an eighth, which the seed names")
    parser.addoption("--keep", action="store_true", help="keep the folder of the run, with the machines that were made in it")


def pytest_report_header(config: pytest.Config) -> str:
    return f"seed: {SEED}" + (f", turn {SEED % TURNS + 1} of {TURNS} of what takes long" if config.getoption("--in-turn") else "")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """With ``--quick`` only the folders of quick tests, without those whose code speaks of what takes long.

    What takes minutes begins first: the other worker has enough to do until it ends.
    """
    items.sort(key=lambda item: not item.nodeid.startswith("tests/windows/"))
    chosen = items
    if config.getoption("--quick"):
        chosen = [item for item in items if item.nodeid.startswith(QUICK) and not _takes_long(item)]
    elif config.getoption("--in-turn") and not LONG:
        chosen = [item for item in items if item.nodeid not in IN_TURN or has_its_turn(item.nodeid)]
    taken = set(chosen)
    config.hook.pytest_deselected(items=[item for item in items if item not in taken])
    items[:] = chosen


# Of so many runs one takes a test that is in the list, by its seed.
TURNS = 8
IN_TURN = frozenset((Path(__file__).with_name("in_turn.txt")).read_text(encoding="utf-8").splitlines())


def has_its_turn(test: str) -> bool:
    """Whether this run takes a test that takes turns."""
    return zlib.crc32(test.encode()) % TURNS == SEED % TURNS


QUICK = ("tests/core/", "tests/cli/test_contract.py", "tests/trust/test_fuzzed.py", "tests/trust/test_spoilt.py", "tests/trust/test_lines.py",
         "tests/trust/test_words.py", "tests/trust/test_removal.py", "tests/real/test_search_path.py", "tests/real/test_other_systems_paths.py")  # fmt: skip
_TAKES_LONG = re.compile(r"make_environment\(|_venv\(|\"venv\"|\"pip\"|\"prepare\"|\"fill\"|\"demo\"|\bneed\(|started\(")


def _takes_long(item: pytest.Item) -> bool:
    """By the code of the test and of its fixtures."""
    fixtures = [one.func for named in item._fixtureinfo.name2fixturedefs.values() for one in named if one.func.__module__.startswith("tests.")]
    return any(_TAKES_LONG.search(inspect.getsource(inspect.unwrap(fixture))) for fixture in (item.function, *fixtures))


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item, call: pytest.CallInfo) -> Iterator[None]:
    """A failure names the machine that it was made on, and the line that makes it again."""
    report = yield
    if report.failed:
        set_ones = " ".join(f"{name}={value}" for name, value in sorted(os.environ.items()) if name.startswith("KALYX_") and name != "KALYX_COVERED")
        line = f"{set_ones} python -m pytest --keep {shlex.quote(item.nodeid)}"
        folder = item.funcargs.get("tmp_path") or os.environ["TMPDIR"]
        kept = "is kept" if item.config.getoption("--keep") else "goes at the end; --keep keeps it"
        properties = "".join(f", {name} {value}" for name, value in item.user_properties)
        report.sections.append(("to see it again", f"{line}\nfolder: {folder} ({kept})\nby {sys.executable}, {sys.version.split()[0]}{properties}"))
    return report


def pytest_xdist_make_scheduler(config: pytest.Config, log: object) -> object:
    """The tests are spread by ``group_of`` (with ``--dist loadgroup``), whatever the marks of a plugin come to."""
    if config.getvalue("dist") != "loadgroup":
        return None
    from xdist.scheduler import LoadGroupScheduling

    class Spread(LoadGroupScheduling):
        def _split_scope(self, nodeid: str) -> str:
            return group_of(nodeid)

    return Spread(config, log)


@pytest.hookimpl(trylast=True)
def pytest_sessionfinish(session: pytest.Session) -> None:
    """The run fails where it left something; by then all workers have ended, and what this process itself keeps is ended here."""
    from kalyx.core.system.guard import guard

    guard().dismiss()
    if preloaded.cache_info().currsize:
        preloaded().end()
    if _traces is not None:
        session.config.stash[_LEFT] = left = _traces.left(session.config.getoption("--keep"))
        if left:
            session.exitstatus = LEFT_BEHIND


# A status of its own: no second try of a test makes it good.
LEFT_BEHIND = 70
_LEFT = pytest.StashKey[list[str]]()


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """What was left behind, and in one line what was skipped for want of what."""
    if _traces is not None and terminalreporter.config.getoption("--keep"):
        terminalreporter.write_line(f"kept: {_traces.folder}")
    for line in terminalreporter.config.stash.get(_LEFT, []):
        terminalreporter.write_line(f"LEFT BEHIND: {line}", red=True)
    skipped = terminalreporter.stats.get("skipped", [])
    wanted = wanted_by([report.longrepr[2] for report in skipped if isinstance(report.longrepr, tuple)])
    if wanted:
        terminalreporter.write_line(wanted, yellow=True)


@contextmanager
def started(words: list, **more: object) -> Iterator[subprocess.Popen]:
    """A program that runs for as long as the block does, and is ended with it whatever happens there."""
    running = subprocess.Popen([str(word) for word in words], **more)
    try:
        yield running
    finally:
        running.terminate()
        try:
            running.wait(10)
        except subprocess.TimeoutExpired:
            running.kill()
            running.wait()
        for pipe in (running.stdin, running.stdout, running.stderr):
            if pipe is not None:
                pipe.close()


def until(holds: Callable[[], object], what: str, seconds: float = 30.0) -> object:
    """What ``holds`` gives once it gives something true. Fails, saying what did not come, after this time."""
    import time

    end = time.monotonic() + seconds
    while True:
        found = holds()
        if found:
            return found
        assert time.monotonic() < end, f"{what} did not come within {seconds:g} s"
        time.sleep(0.05)


# The command as it is installed; ``python -m kalyx`` is the same, but for files of the folder that Python itself needs.
KALYX = str(Path(sys.executable).with_name("kalyx"))


@cache
def preloaded() -> Preloaded:
    """This worker's process that forks; it ends with the session."""
    return Preloaded(KALYX)


class Ran:
    """One call of the built program: status, output, and its JSON."""

    def __init__(self, done: subprocess.CompletedProcess) -> None:
        self.status, self.out, self.err = done.returncode, done.stdout, done.stderr

    @property
    def json(self) -> dict:
        """What it printed, which must fit the schema that is published for it."""
        answer = json.loads(self.out)
        name = answer["schema"].removeprefix("kalyx.").split("/")[0]
        wrong = next(_validator(name).iter_errors(answer), None)
        if wrong is not None:
            raise wrong
        return answer


@cache
def _validator(name: str) -> jsonschema.protocols.Validator:
    schema = json.loads((Path(__file__).parents[1] / "docs" / "schema" / f"{name}.json").read_text())
    kind = jsonschema.validators.validator_for(schema)
    kind.check_schema(schema)
    return kind(schema)


TIMES = {"seconds", "modified", "began"}


def without_times(value):
    if isinstance(value, dict):
        return {key: without_times(item) for key, item in value.items() if key not in TIMES}
    return [without_times(item) for item in value] if isinstance(value, list) else value


class Moor:
    """A home folder for a test: variables, files, and the program run in it."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.folder = root / "spring"
        self.folder.mkdir(parents=True)
        self.data = root / "data"
        self.variables = {
            "HOME": str(root),
            "PATH": "/usr/bin:/bin",
            "JUPYTER_DATA_DIR": str(self.data),
            "IPYTHONDIR": str(root / "ipython"),
            "LANG": "C.UTF-8",
            "PYTHONDONTWRITEBYTECODE": "1",
            "XDG_CACHE_HOME": str(root.parent / "cache"),
            "PIP_DISABLE_PIP_VERSION_CHECK": "1",
            "TMPDIR": os.environ["TMPDIR"],
        }

    def kalyx(
        self, *words: str, cwd: Path | None = None, before: tuple = (), given: str | None = None, **variables: str
    ) -> Ran:
        """Run the program; ``before`` are words of another program that starts it, ``given`` its standard input."""
        environment = {**self.variables, **variables}
        if not before and fits(environment):
            done = preloaded().run([*map(str, words)], str(cwd or self.folder), environment, given, 180)
            assert "Traceback (most recent call last)" not in done.stderr, done.stderr
            return Ran(done)
        done = subprocess.run(
            [*before, sys.executable, KALYX, *map(str, words)],
            cwd=cwd or self.folder,
            env=environment,
            capture_output=True,
            text=True,
            encoding="utf-8",
            errors="surrogateescape",
            **({"stdin": subprocess.DEVNULL} if given is None else {"input": given}),
            timeout=180,
            check=False,
        )
        assert "Traceback (most recent call last)" not in done.stderr, done.stderr
        return Ran(done)

    def stepped(self, action: str, number: int, *words: object) -> tuple[int, list[str], str]:
        """The program with one step spoilt (``stepping.py``): its status, the steps it took, what it said."""
        report = self.root.parent / "steps"
        # What runs before left in the journal would be taken back first: then the steps would be others each time.
        journal = self.root / ".local" / "state" / "kalyx" / "journal"
        journal.mkdir(parents=True, exist_ok=True)
        for left in journal.iterdir():
            left.unlink()
        done = preloaded().run([action, str(number), str(report), *map(str, words)], str(self.folder), self.variables, None, 180, "tests.stepping")
        return done.returncode, report.read_text(errors="surrogateescape").splitlines(), done.stdout + done.stderr

    def steps_of(self, *words: object) -> list[str]:
        """The steps that the program takes from beginning to end; it is run to its end for that."""
        status, steps, said = self.stepped("KILL", 0, *words)
        assert status == 0 and steps, said
        return steps

    def left_unfinished(self, prefix: Path, work: str, *inverses: dict) -> Path:
        """What a killed run leaves: the lock of the environment, and the record of its mark, whose file is returned."""
        from kalyx.core.environments.journal import LOCKS

        mark, lock = os.urandom(16).hex(), prefix / LOCKS[work]
        record = {"schema": "kalyx.changes/1", "worker": "999999999 1", "inverses": [{"how": "remove", "path": str(lock), "always": True}, *inverses],
                  "work": work, "target": os.path.realpath(prefix), "mark": mark, "is_settled": work == "discard"}  # fmt: skip
        path = self.root / ".local" / "state" / "kalyx" / "journal" / f"changes-{mark}.json"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(json.dumps(record))
        path.chmod(0o600)
        lock.write_text(f"999999999 1\n{mark}\n")
        return path

    def kernel(self, identifier: str, argv: list[str] | None = None, raw: str | None = None, **more: object) -> Path:
        folder = self.data / "kernels" / identifier
        folder.mkdir(parents=True, exist_ok=True)
        spec = {"argv": argv, "display_name": identifier, "language": "python", **more}
        (folder / "kernel.json").write_text(json.dumps(spec, indent=1) if raw is None else raw)
        return folder

    def notebook(self, name: str, kernel: str) -> Path:
        path = self.folder / name
        metadata = {"kernelspec": {"name": kernel, "display_name": kernel, "language": "python"}}
        path.write_text(json.dumps({"cells": [], "metadata": metadata, "nbformat": 4, "nbformat_minor": 5}, indent=1))
        return path


@pytest.fixture
def moor(tmp_path: Path) -> Moor:
    return Moor(tmp_path / "moor")


@pytest.fixture(scope="session")
def story(tmp_path_factory: pytest.TempPathFactory) -> tuple[Moor, dict]:
    """The demo built and walked through once, by the program: its home, and what it said. A copy is kept of it as built."""
    moor = Moor(tmp_path_factory.mktemp("story") / "moor")
    asked = moor.kalyx("demo", "larkmoor")
    assert asked.status == 2 and "without a terminal" in asked.err and not (moor.folder / "larkmoor").exists()
    assert moor.kalyx("demo", "larkmoor", "--static", "--yes").status == 2
    code = ("import os, runpy, shutil, sys, kalyx.demo.walk as walk; write = walk.write_enter_files; sys.argv = sys.argv[2:]\n"
            "def kept(demo): write(demo); shutil.copytree(demo.root, os.environ['HOME'] + '/larkmoor-as-built', symlinks=True)\n"
            "walk.write_enter_files = kept; runpy.run_path(sys.argv[0], run_name='__main__')")  # fmt: skip
    ran = moor.kalyx("demo", "larkmoor", "--json", "--yes", before=(sys.executable, "-c", code))
    assert ran.status == 0, ran.out + ran.err
    return moor, ran.json


@pytest.fixture(scope="session")
def as_built(story: tuple[Moor, dict]) -> Callable[[], Moor]:
    """What puts the demo back as it is when it was built and nobody walked on it."""
    moor, _ = story
    place, kept = moor.folder / "larkmoor", moor.root / "larkmoor-as-built"

    def back() -> Moor:
        shutil.rmtree(place)
        shutil.copytree(kept, place, symlinks=True)
        return moor

    return back


@pytest.fixture
def wheels(tmp_path: Path) -> Path:
    """A folder of made-up wheels: two versions of one package, one that breaks another, one that does not import."""
    from kalyx.demo.wheels import Package, standin_package, write_wheel

    folder = tmp_path / "wheels"
    folder.mkdir()
    for package in (
        Package("hivescale", "2.1", {"hivescale/__init__.py": "import nectarflow\n"}, requires=["nectarflow>=1.1"]),
        Package("nectarflow", "1.0", {"nectarflow.py": ""}),
        Package("nectarflow", "1.2", {"nectarflow.py": ""}),
        Package("combtool", "1.0", {"combtool.py": ""}, requires=["nectarflow<1.1"]),
        Package("torn-comb", "1.0", {"torncomb.py": "import gone_for_good\n"}),
        Package("broad", "1.0", {f"broad/part{number}.py": f"x = {number}\n" for number in range(400)}),
        standin_package(),
    ):
        write_wheel(package, str(folder))
    return folder


def small(limit: str, value: int) -> tuple[str, ...]:
    """What starts the program with this limit at this value (``Moor.kalyx``)."""
    module, _, name = limit.rpartition(".")
    code = ("import importlib, runpy, sys; module = importlib.import_module(sys.argv[1]); assert hasattr(module, sys.argv[2]); "
            "setattr(module, sys.argv[2], int(sys.argv[3])); sys.argv = sys.argv[5:]; runpy.run_path(sys.argv[0], run_name='__main__')")  # fmt: skip
    return sys.executable, "-c", code, "kalyx." + module.replace("/", "."), name, str(value)


def put_in(wheel: str | Path, site: Path, scripts: tuple[str, ...] = ()) -> None:
    """What the installer makes of a wheel (PEP 376, 427, 627), but for bytecode and scripts; starting it takes a second."""
    with zipfile.ZipFile(wheel) as archive:
        inside = archive.namelist()
        info = next(item for item in inside if item.endswith(".dist-info/RECORD")).partition("/")[0]
        for old in site.glob(f"{info.partition('-')[0]}-*.dist-info"):
            for line in csv.reader((old / "RECORD").read_text().splitlines()):
                (site / line[0]).unlink(missing_ok=True)
            old.rmdir()
        archive.extractall(site)
        rows = list(csv.reader(archive.read(f"{info}/RECORD").decode().splitlines()))
    for name in (f"{info}/INSTALLER", f"{info}/REQUESTED", *scripts):
        if name.startswith(info):
            (site / name).write_bytes(b"pip\n" if name.endswith("INSTALLER") else b"")
        content = (site / name).read_bytes()
        digest = base64.urlsafe_b64encode(hashlib.sha256(content).digest()).rstrip(b"=").decode()
        rows.insert(-1, [name, f"sha256={digest}", str(len(content))])
    with (site / info / "RECORD").open("w", newline="") as file:
        csv.writer(file, lineterminator="\n").writerows(rows)


def make_environment(version: str, prefix: Path, *more: str) -> str:
    """A real virtual environment; returns its interpreter's path.

    A copy of the first of its kind, moved as a whole (``template``): making one takes a fifth of a second, and bringing the
    installer in, as the standard module does, six seconds (``test_lifecycle`` has it so).
    """
    if not re.fullmatch(r"[\w/.-]+", str(prefix), re.ASCII):  # each version quotes such a path in its scripts in its own way
        _venv(version, prefix, *more)
        return str(prefix / "bin" / "python")
    kept = template(version, *more)
    shutil.copytree(kept, prefix, symlinks=True, dirs_exist_ok=True)
    for path in [prefix / "pyvenv.cfg", *(prefix / "bin").iterdir()]:
        if path.is_file() and not path.is_symlink() and str(kept).encode() in (content := path.read_bytes()):
            path.write_bytes(content.replace(str(kept).encode(), str(prefix).encode()))
    return str(prefix / "bin" / "python")


def template(version: str, *more: str) -> Path:
    """An environment that is made once a run, to be copied; with an installer if none of ``more`` says otherwise."""
    kept = Path(os.environ["TMPDIR"]) / "pytest-of-templates" / "-".join([version, *more])
    with _locked(kept.with_suffix(".lock")):
        if not kept.exists():
            _venv(version, kept, *dict.fromkeys(["--without-pip", *more]))
            if "--without-pip" not in more:
                _put_installer_in(version, kept)
    return kept


def _put_installer_in(version: str, prefix: Path) -> None:
    """What the standard module ``ensurepip`` would install; its scripts as well, and compiled as far as it is used."""
    python = prefix / "bin" / "python"
    code = "import ensurepip, os, glob; print(sorted(glob.glob(os.path.join(os.path.dirname(ensurepip.__file__), '_bundled', '*.whl'))))"
    wheels = answer_of(BY_VERSION[version].executable, code) or [str(path) for path in Path("/usr/share/python-wheels").glob("*.whl")]
    (site,) = prefix.glob("lib/python*/site-packages")
    for wheel in {Path(item).name.partition("-")[0]: item for item in sorted(wheels)}.values():  # of two versions the newer
        scripts = ["pip", "pip3", f"pip{version}"] if Path(wheel).name.startswith("pip-") else []
        place = "pip._internal.cli.main" if version != "3.6" else "pip._internal"
        for name in scripts:
            (prefix / "bin" / name).write_text(f"#!{python}\n# -*- coding: utf-8 -*-\nimport re\nimport sys\nfrom {place} import main\n"
                                               "if __name__ == '__main__':\n    sys.exit(main())\n")  # fmt: skip
            (prefix / "bin" / name).chmod(0o755)
        put_in(wheel, site, tuple(f"../../../bin/{name}" for name in scripts))
    compiling = {key: value for key, value in os.environ.items() if not key.startswith("PYTHON")}
    argv = [python, "-m", "pip", "install", "-q", "--no-index", "--disable-pip-version-check", "no-such-package"]
    subprocess.run(argv, capture_output=True, check=False, env=compiling)


def _venv(version: str, prefix: Path, *more: str) -> None:
    scratch = Path(os.environ["TMPDIR"]) / "pytest-of-templates"  # older releases leave what they unpacked
    scratch.mkdir(exist_ok=True)
    clean = {key: value for key, value in os.environ.items() if not key.startswith("PYTHON")} | {"TMPDIR": str(scratch)}
    argv = [BY_VERSION[version].executable, "-m", "venv", *more, str(prefix)]
    subprocess.run(argv, check=True, env=clean, capture_output=True)


@contextmanager
def _locked(path: Path) -> Iterator[None]:
    """One worker at a time."""
    import fcntl

    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        yield


def tree(prefix: Path) -> dict[str, str]:
    """Every file of an environment with its content, but for bytecode."""
    return {
        str(path.relative_to(prefix)): os.readlink(path)
        if path.is_symlink()
        else hashlib.md5(path.read_bytes()).hexdigest()
        for path in sorted(prefix.rglob("*"))
        if (path.is_file() or path.is_symlink()) and "__pycache__" not in path.parts
    }


def answer_of(executable: str, code: str, *flags: str, **kwargs: object) -> object:
    """What an interpreter itself says: a Python literal printed by ``code``."""
    import ast

    done = subprocess.run([executable, *flags, "-c", code], capture_output=True, text=True, check=True, **kwargs)
    return ast.literal_eval(done.stdout)
