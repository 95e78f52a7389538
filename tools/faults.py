"""Put faults into copies of Kalyx, one at a time, and see whether the tests that run the faulty line notice.

python tools/faults.py map FOLDER                    note which lines each test runs (a whole run of the tests)
python tools/faults.py try FOLDER [--seed N] [--count N] [--only PART] [--workers N]
python tools/faults.py show FOLDER [--seed N] [--count N] [--only PART]     the faults alone
python tools/faults.py in-turn FOLDER                write tests/in_turn.txt: what takes long and runs only lines that others run

A fault is a negated condition, a call left out, two arguments exchanged, an exception that is caught too widely, or another
constant. Lines that no test runs are not chosen. The faults are spread over the packages by their size; the same seed gives
the same faults. What each came to is written to FOLDER/faults-SEED.jsonl. The map needs Python 3.12 or newer in the
environment that runs this. A fault is put into a fork of one run of the tests in memory first (tests/forking.py); what is not
noticed there is put into a copy, with the tests that run its line, the nearest first, a minute of them at most, and those that
compare word for word what is drawn, found, planned and read; then it is shown to the type checker, as in each run of the tests.
"""

from __future__ import annotations

import argparse
import ast
import concurrent.futures
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "kalyx"
# What runs on other interpreters, or is only shown.
_LEFT_OUT = ("core/probe.py", "demo/standin/", "demo/machines.py")
_SECONDS, _TESTS = 60.0, 40
_DRAWN = tuple(f"tests/{name}.py::" for name in ("cli/test_drawn", "core/test_findings", "core/test_plans", "core/test_readings", "core/test_diagnoses", "core/test_answers", "core/test_seats_read", "core/test_scripts_read", "core/test_captured", "cli/test_rendered", "cli/test_typed"))
# What runs in the process of the tests, on machines in memory.
_IN_MEMORY = ("tests/core", "tests/cli/test_drawn.py", "tests/cli/test_rendered.py", "tests/cli/test_typed.py", "tests/cli/test_many.py")
_WIDER = "wider exception"
# Calls that give the same whichever of two arguments comes first: exchanged, they are no fault.
_EITHER_WAY = ("max", "min", "same_path", "_same_seat")
# A test that takes less, in seconds, is in each run; so is what compares word for word, or is the only one of its kind.
_COSTLY = 0.5
_EACH_RUN = (*_DRAWN, "tests/cli/test_many.py", "tests/windows/", "tests/trust/test_brought.py::test_nothing_is_run[plainly]")
# And a costly one that runs so many lines a second which no other of the run does. A map of a slow hour counts alike:
# seconds are those of a machine on which all tests, one after another, take so many.
_WORTH, _ALL_SECONDS = 0.7, 3000


class Fault(NamedTuple):
    """A change of one place: what stands from ``start`` to ``end`` (line, byte in it) becomes ``text``."""

    file: str
    line: int
    kind: str
    start: tuple[int, int]
    end: tuple[int, int]
    text: str

    def line_of(self) -> str:
        return (SOURCE / self.file).read_text(encoding="utf-8").splitlines()[self.line - 1].strip()


def faults_of(file: str) -> Iterator[Fault]:
    """Every fault that can be put into the functions of one file."""
    content = (SOURCE / file).read_text(encoding="utf-8")
    lines = content.encode().splitlines(keepends=True)

    def text(node: ast.AST) -> str:
        return ast.get_source_segment(content, node) or ""

    def fault(node: ast.expr | ast.stmt, kind: str, instead: str) -> Fault:
        assert node.end_lineno is not None and node.end_col_offset is not None
        return Fault(file, node.lineno, kind, (node.lineno, node.col_offset), (node.end_lineno, node.end_col_offset), instead)

    for function in ast.walk(ast.parse(content)):
        if not isinstance(function, (ast.FunctionDef, ast.AsyncFunctionDef)):
            continue
        for node in (inner for statement in function.body for inner in ast.walk(statement)):
            if isinstance(node, (ast.If, ast.While, ast.IfExp)):
                yield fault(node.test, "negated condition", f"(not ({text(node.test)}))")
            elif isinstance(node, ast.Expr) and isinstance(node.value, ast.Call):
                yield fault(node, "call left out", "None")
            elif isinstance(node, ast.ExceptHandler) and node.type is not None and text(node.type) != "Exception":
                yield fault(node.type, _WIDER, "Exception")
            elif isinstance(node, ast.Call) and text(node.func).rpartition(".")[2] in _EITHER_WAY:
                continue
            elif isinstance(node, ast.Call) and len(node.args) >= 2 and not any(isinstance(arg, ast.Starred) for arg in node.args[:2]):
                first, second = node.args[0], node.args[1]
                if text(first) != text(second) and lines[first.lineno - 1] == lines[second.lineno - 1]:
                    whole = lines[first.lineno - 1][first.end_col_offset : second.col_offset].decode()
                    assert second.end_lineno is not None and second.end_col_offset is not None
                    if first.lineno == second.end_lineno:
                        yield Fault(file, first.lineno, "arguments exchanged", (first.lineno, first.col_offset),
                                    (second.end_lineno, second.end_col_offset), f"{text(second)}{whole}{text(first)}")  # fmt: skip
            elif isinstance(node, ast.Constant) and type(node.value) in (int, bool):
                yield fault(node, "other constant", str(not node.value) if isinstance(node.value, bool) else str(node.value + 1))
            elif isinstance(node, ast.Compare):
                for item in ast.walk(node):
                    if isinstance(item, ast.Constant) and isinstance(item.value, str) and "\n" not in text(item) and text(item)[:1] in "\"'":
                        yield fault(item, "other constant", repr(item.value + "~"))


def chosen(covered: dict[str, dict[int, list[int]]], seed: int, count: int, only: str) -> list[Fault]:
    """So many faults on lines that tests run, over the packages by their size."""
    chance = random.Random(seed)
    packages: dict[str, list[Fault]] = defaultdict(list)
    for path in sorted(SOURCE.rglob("*.py")):
        file = path.relative_to(SOURCE).as_posix()
        if only in file and not file.startswith(_LEFT_OUT):
            package = "/".join(file.split("/")[:2]) if file.count("/") > 1 else file.split("/")[0]
            packages[package] += [fromkey for fromkey in dict.fromkeys(faults_of(file)) if fromkey.line in covered.get(file, {})]
    names = [name for name, faults in sorted(packages.items()) for _ in range(len(faults))]
    found: dict[Fault, None] = {}
    while names and len(found) < min(count, len(names)):
        found[chance.choice(packages[chance.choice(names)])] = None
    return list(found)


class Map(NamedTuple):
    """Tests, the time of each, and of each line of a file which tests run it."""

    tests: list[str]
    seconds: list[float]
    size: list[int]
    covered: dict[str, dict[int, list[int]]]

    @classmethod
    def read(cls, folder: Path) -> Map:
        numbers: dict[str, int] = {}
        seconds: dict[int, float] = defaultdict(float)
        size: dict[int, int] = defaultdict(int)
        covered: dict[str, dict[int, set[int]]] = defaultdict(lambda: defaultdict(set))
        for file in sorted(folder.glob("*.lines")):
            for line in file.read_text(encoding="utf-8").splitlines():
                row = json.loads(line)
                test = row["test"]
                number = numbers.setdefault(test, len(numbers))
                seconds[number] += row["seconds"] or 0.0
                for name, ran in row["lines"].items():
                    size[number] += len(ran)
                    for at in ran:
                        covered[name][at].add(number)
        whole = {name: {at: sorted(ones) for at, ones in lines.items()} for name, lines in covered.items()}
        return cls(list(numbers), [seconds[n] for n in range(len(numbers))], [size[n] for n in range(len(numbers))], whole)

    def nearest(self, fault: Fault) -> list[str]:
        """The tests that run this line: those that run little else and take little time first, what is drawn last."""
        ones = sorted(self.covered[fault.file][fault.line], key=lambda n: self.size[n] * (1 + self.seconds[n]))
        picked: list[str] = []
        spent = 0.0
        for number in ones:
            if self.tests[number] and len(picked) < _TESTS and (not picked or spent + self.seconds[number] <= _SECONDS):
                picked.append(self.tests[number])
                spent += self.seconds[number]
        picked += [self.tests[number] for number in ones if self.tests[number].startswith(_DRAWN) and self.tests[number] not in picked]
        # The rule of the house about it reads the source, and runs no line of it.
        return picked + ([f"tests/core/test_rules.py::test_what_is_caught_is_named[{fault.file}]"] if fault.kind == _WIDER else [])


def in_turn(known: Map) -> tuple[list[str], int]:
    """The costly tests that need not be in each run, and how many of the lines that any test runs are run by them alone.

    Of the costly ones those stay that run the most new lines a second.
    """
    lines: list[set[tuple[str, int]]] = [set() for _ in known.tests]
    for file, covered in known.covered.items():
        for line, numbers in covered.items():
            for number in numbers:
                lines[number].add((file, line))
    seconds = [taken * _ALL_SECONDS / sum(known.seconds) for taken in known.seconds]
    costly = {n for n, test in enumerate(known.tests) if seconds[n] >= _COSTLY and not test.startswith(_EACH_RUN)}
    ran = set().union(*(lines[n] for n in range(len(lines)) if n not in costly))
    while True:
        best = max(costly, key=lambda n: len(lines[n] - ran) / seconds[n])
        if len(lines[best] - ran) <= _WORTH * seconds[best]:
            return sorted(known.tests[n] for n in costly), len(set().union(*lines) - ran)
        costly.discard(best)
        ran |= lines[best]


class Copy:
    """A copy of the product with an environment of its own, which is this one but for Kalyx."""

    def __init__(self, place: Path) -> None:
        self.place = place
        shutil.rmtree(place, ignore_errors=True)
        subprocess.run(["git", "clone", "-q", str(ROOT), str(place)], check=True)
        for name in ("src", "tests"):  # as they are here, also where that is not committed
            shutil.rmtree(place / name)
            shutil.copytree(ROOT / name, place / name, ignore=shutil.ignore_patterns("__pycache__"))
        own = place / ".venv"
        shutil.copytree(sys.prefix, own, symlinks=True, ignore=shutil.ignore_patterns("__pycache__"))
        site = next(own.glob("lib/python*/site-packages"))
        for path in [path for path in site.glob("*.pth") if str(ROOT) in path.read_text(encoding="utf-8")]:
            path.unlink()  # it leads to what is tried here
        (site / "copy.pth").write_text(f"{place / 'src'}\n")
        (own / "bin" / "kalyx").write_text(f"#!{own}/bin/python\nimport sys\nfrom kalyx.cli.entry import main\nif __name__ == '__main__':\n    sys.exit(main())\n")
        (own / "bin" / "kalyx").chmod(0o755)
        self.python = own / "bin" / "python"
        self.temporary = tempfile.mkdtemp(prefix="faults-")  # what other runs leave meanwhile is none of its tests' business

    def put(self, fault: Fault) -> None:
        path = self.place / "src" / "kalyx" / fault.file
        content = (SOURCE / fault.file).read_bytes()
        offsets = [0]
        for line in content.splitlines(keepends=True):
            offsets.append(offsets[-1] + len(line))
        start, end = (offsets[line - 1] + at for line, at in (fault.start, fault.end))
        path.write_bytes(content[:start] + fault.text.encode() + content[end:])
        compile(path.read_bytes(), str(path), "exec")

    def take_out(self, fault: Fault) -> None:
        shutil.copyfile(SOURCE / fault.file, self.place / "src" / "kalyx" / fault.file)

    def tests(self, tests: list[str]) -> str:
        """``caught`` with the test that did, ``survives``, or ``caught: no end``."""
        words = [self.python, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", "--no-header", "--tb=no", *tests]
        variables = {name: value for name, value in os.environ.items() if name != "KALYX_COVERED"} | {"TMPDIR": self.temporary}
        with subprocess.Popen(words, cwd=self.place, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, errors="replace",
                              env=variables, start_new_session=True) as running:  # fmt: skip
            try:
                said, _ = running.communicate(timeout=_SECONDS * 5)
            except subprocess.TimeoutExpired:
                os.killpg(running.pid, 9)
                return "caught: no end"
        if running.returncode == 0:
            return "survives"
        if running.returncode == 4 and "not found: " in said:
            return "not tried: " + next(line for line in said.splitlines() if "not found: " in line)[:160]
        failed = [line for line in said.splitlines() if line.startswith(("FAILED", "ERROR", "LEFT BEHIND"))]
        return "caught: " + (failed[0][:400] if failed else said.strip().splitlines()[-1][:160] if said.strip() else "no word")


    def types(self) -> str:
        """What the type checker says, which runs beside the tests in every run of them."""
        done = subprocess.run([self.python, "-m", "mypy"], cwd=self.place, capture_output=True, text=True, check=False)
        return "survives" if done.returncode == 0 else f"caught: {done.stdout.partition(chr(10))[0][:160]}"


def note(folder: Path) -> int:
    """Run all tests, and have each process write what it runs."""
    if sys.version_info < (3, 12):
        sys.exit("the map needs Python 3.12 or newer")
    folder.mkdir(parents=True, exist_ok=True)
    for old in folder.glob("*.lines"):
        old.unlink()
    words = [sys.executable, "-m", "pytest", "-q", "-n", str((os.cpu_count() or 1) + 1), "--dist", "loadgroup", "-p", "tests.covering"]
    return subprocess.run(words, cwd=ROOT, env={**os.environ, "KALYX_COVERED": str(folder)}, check=False).returncode


def in_forks(folder: Path, faults: list[Fault]) -> dict[Fault, str]:
    """The faults that the tests in memory notice, each with the test that does, from one run of these tests."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "faults.json").write_text(json.dumps([fault._asdict() for fault in faults]), encoding="utf-8")
    words = [sys.executable, "-m", "pytest", "-q", "-p", "tests.forking", "-p", "no:xdist", "-p", "no:cacheprovider", "--no-header", *_IN_MEMORY]
    subprocess.run(words, cwd=ROOT, env={**os.environ, "KALYX_FORKED": str(folder)}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    caught = json.loads((folder / "caught.json").read_text(encoding="utf-8"))
    return {fault: test for fault, test in zip(faults, caught, strict=True) if test}


def tried(copy: Copy, fault: Fault, known: Map) -> str:
    """What comes of a fault in a copy: the tests of its line, then the types."""
    try:
        copy.put(fault)
        outcome = copy.tests(known.nearest(fault))
        outcome = copy.types() if outcome == "survives" else outcome
        copy.take_out(fault)
        # The test that failed passes without the fault, or it says nothing.
        test = outcome.removeprefix("caught: FAILED ").removeprefix("caught: ERROR ").partition(" - ")[0]
        if test.startswith("tests/") and copy.tests([test]) != "survives":
            outcome = f"not tried: {test} fails without it"
        return outcome
    finally:
        copy.take_out(fault)


def try_all(folder: Path, faults: list[Fault], known: Map, seed: int, workers: int) -> None:
    """Try each fault: in forks, and those that are not noticed there in copies of the product; print what each came to."""
    noticed = in_forks(folder / "forked", faults)
    copies = [Copy(folder / f"copy{number}") for number in range(workers)]

    def outcome_of(fault: Fault) -> str:
        if fault in noticed:
            return f"caught: {noticed[fault]}"
        copy = copies.pop()
        try:
            return tried(copy, fault, known)
        finally:
            copies.append(copy)

    survived = untried = 0
    with concurrent.futures.ThreadPoolExecutor(workers) as pool, (folder / f"faults-{seed}.jsonl").open("w", encoding="utf-8") as file:
        for number, (fault, outcome) in enumerate(zip(faults, pool.map(outcome_of, faults), strict=True)):
            survived += outcome == "survives"
            untried += outcome.startswith("not tried")
            print(f"{number:3} {fault.file}:{fault.line} {fault.kind}: {fault.line_of()}  ->  {fault.text}: {outcome}", flush=True)
            file.write(json.dumps({**fault._asdict(), "outcome": outcome}) + "\n")
            file.flush()
    for copy in copies:
        shutil.rmtree(copy.temporary, ignore_errors=True)
    print(f"{len(faults) - survived - untried} of {len(faults)} caught, {untried} not tried")


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("what", choices=("map", "try", "show", "in-turn"))
    parser.add_argument("folder", type=Path)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--count", type=int, default=200)
    parser.add_argument("--only", default="", help="only files with this in their path")
    parser.add_argument("--workers", type=int, default=2)
    options = parser.parse_args()
    folder = options.folder.resolve()
    if options.what == "map":
        return note(folder)
    known = Map.read(folder)
    if options.what == "in-turn":
        tests, alone = in_turn(known)
        (ROOT / "tests" / "in_turn.txt").write_text("".join(f"{test}\n" for test in tests), encoding="utf-8")
        spent = sum(seconds for test, seconds in zip(known.tests, known.seconds, strict=True) if test in set(tests))
        print(f"{len(tests)} of {len(known.tests)} tests, {spent:.0f} of {sum(known.seconds):.0f} s; {alone} lines are run by these alone")
        return 0
    faults = chosen(known.covered, options.seed, options.count, options.only)
    if options.what == "show":
        for number, fault in enumerate(faults):
            print(f"{number:3} {fault.file}:{fault.line} {fault.kind}: {fault.line_of()}  ->  {fault.text}  ({len(known.nearest(fault))} tests)")
        return 0
    try_all(folder, faults, known, options.seed, options.workers)
    return 0


if __name__ == "__main__":
    sys.exit(main())
