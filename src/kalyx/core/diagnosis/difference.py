"""The smallest difference between an import that fails and one that works: found by trials, not from a list.

Each dimension is a kind of thing that can make an import fail: variables, flags, entries of sys.path, start-up files,
compiled files, limits, files of the home folder or of the current folder. A child process imports without a whole
dimension; where that works, the items left out are halved until no smaller set does it (the QuickXplain procedure,
Junker, AAAI 2004). A cause that proposes one experiment (``experiments``) is the smallest case.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Literal

from msgspec import Struct

from kalyx.core.imports.case import Case
from kalyx.core.imports.conducting import outcome_of, try_with
from kalyx.core.imports.experiment import Experiment, together
from kalyx.core.imports.trial import Trial
from kalyx.core.machine import Machine
from kalyx.core.model.records import PathEntry
from kalyx.core.system.runner import Runner

# Of one search.
_TRIALS, _SECONDS = 64, 25.0
# Files of one folder that are halved, and how deep folders in it are looked into.
_NAMES, _DEPTH = 400, 3

# Variables about the user and the system's folders: without them a program fails for another reason.
_KEPT = {
    "HOME", "USER", "LOGNAME", "SHELL", "PATH", "SYSTEMROOT", "SYSTEMDRIVE", "WINDIR", "COMSPEC", "PATHEXT", "OS",
    "USERPROFILE", "USERNAME", "APPDATA", "LOCALAPPDATA", "PROGRAMDATA", "PROGRAMFILES", "NUMBER_OF_PROCESSORS",
}  # fmt: skip
_LIMITS = ("RLIMIT_AS", "RLIMIT_NOFILE", "RLIMIT_NPROC", "RLIMIT_STACK", "RLIMIT_FSIZE", "RLIMIT_DATA", "RLIMIT_CPU")
_USUAL_PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"


Kind = Literal[
    "all", "bytecode", "encoding", "entry", "file", "flag", "leftover", "limit", "package", "path", "start-up",
    "variable", "version",
]  # fmt: skip


class Dimension(Struct):
    """One kind of difference: what may be left out, and the experiment without some of that.

    ``deeper``: the same for what one of its items consists of; None where an item is whole.
    """

    kind: Kind
    items: list[str]
    without: Callable[[Sequence[str]], Experiment]
    deeper: Callable[[str], Dimension | None] = lambda _: None
    made: Experiment | None = None

    @property
    def whole(self) -> Experiment:
        """The experiment without the whole dimension, made once: some need a folder of links."""
        self.made = self.made or self.without(self.items)
        return self.made

    def can_be_left_out(self) -> bool:
        """Whether the experiment is possible: a folder of links needs space, and on some systems a privilege."""
        try:
            return self.whole is not None
        except OSError:
            return False


class Decisive(Struct):
    """The items without which the import works. ``alone``: with these items only, the import fails as before."""

    kind: Kind
    items: list[str]
    imports: bool = True  # where the search only wanted Python to start: whether the import works too
    alone: bool = False
    is_least: bool = True  # False where the search ended early: the deciding items are among these


class _Spent(Exception):
    """The search has used up its trials or its seconds."""


class _Search:
    """Counts the trials of one case; ``good`` says whether a trial has the wanted result."""

    def __init__(
        self, case: Case, machine: Machine, runner: Runner, good: Callable[[Trial], bool], seconds: float = _SECONDS
    ) -> None:
        self.case, self.runner, self.good = case, runner, good
        self.seconds = min(machine.seconds, seconds, _SECONDS)  # of one trial
        self.trials, self.spent, self.imported = 0, 0.0, False
        self.is_over = False  # before the least was found

    def trial(self, experiment: Experiment) -> Trial:
        if self.trials >= _TRIALS or self.spent > _SECONDS:
            raise _Spent
        trial = try_with(self.case, experiment, self.runner, self.seconds)
        self.trials, self.spent = self.trials + 1, self.spent + trial.seconds
        self.imported = self.imported or trial.imports
        return trial

    def works(self, experiment: Experiment) -> bool:
        return self.good(self.trial(experiment))

    def smallest(self, dimension: Dimension) -> list[str]:
        """The smallest set of a dimension's items that must be left out; without all items the import is known to work.

        Where the limit of trials or seconds is reached before, a larger set.
        """

        def least_of(known: list[str], is_more: bool, items: list[str]) -> list[str]:
            if is_more and self.works(dimension.without(known)):
                return []
            if len(items) == 1:
                return items
            first, second = items[: len(items) // 2], items[len(items) // 2 :]
            of_second = least_of(known + first, True, second)
            of_first = least_of(known + of_second, bool(of_second), first)
            return of_first + of_second

        try:
            return least_of([], False, dimension.items)
        except (_Spent, OSError):
            self.is_over = True
            return dimension.items


def decisive(
    case: Case,
    machine: Machine,
    *,
    kinds: Iterable[str] | None = None,
    good: Callable[[Trial], bool] | None = None,
    seconds: float = _SECONDS,
) -> Decisive | None:
    """The items that decide whether the import works; None where leaving out everything changes nothing.

    ``kinds``: the dimensions that are searched; without it all. ``good``: the wanted result; else that it imports.
    ``seconds``: the limit of one trial.
    """
    if machine.runner is None:
        return None
    search = _Search(case, machine, machine.runner, good or (lambda trial: trial.imports), seconds)
    with _scratch(case, machine) as stands:
        dimensions = [
            dimension
            for dimension in _dimensions(case, machine, stands)
            if dimension.items and (kinds is None or dimension.kind in kinds) and dimension.can_be_left_out()
        ]
        try:
            return _deciding(search, dimensions) if dimensions else None
        except (_Spent, OSError):
            return None


def least(case: Case, machine: Machine, dimension: Dimension) -> Decisive | None:
    """The smallest set of one dimension without which the import works; None where no set is enough."""
    if machine.runner is None or not dimension.items:
        return None
    search = _Search(case, machine, machine.runner, lambda trial: trial.imports)
    try:
        if not search.works(dimension.without(dimension.items)):
            return None
        items = search.smallest(dimension)
        return Decisive(dimension.kind, items, is_least=not search.is_over)
    except (_Spent, OSError):
        return None


def _all_of(dimensions: list[Dimension]) -> Callable[[Sequence[str]], Experiment]:
    """The experiment without all of some dimensions, which are named by their numbers."""

    def without(numbers: Sequence[str]) -> Experiment:
        chosen = [dimensions[int(number)] for number in numbers]
        kinds = dict.fromkeys(dimension.kind for dimension in chosen)
        return together(f"with every {', '.join(kinds)} left out", [dimension.whole for dimension in chosen])

    return without


def _deciding(search: _Search, dimensions: list[Dimension]) -> Decisive | None:
    """The dimension that decides, and the smallest set of its items.

    Where the import fails as before without all dimensions, none of them is the cause; where it works, the dimensions
    are halved. Where it fails otherwise, something left out is needed, and each dimension is tried alone.
    """
    at_once = Dimension("all", [str(number) for number in range(len(dimensions))], _all_of(dimensions))
    first = search.trial(at_once.without(at_once.items)) if len(dimensions) > 1 else None
    works = first is not None and search.good(first)
    if first is not None and not works and outcome_of(search.case, first) == "fails alike":
        return None
    if works:
        deciding = [dimensions[int(item)] for item in search.smallest(at_once)]
    else:
        alone = next((dimension for dimension in dimensions if search.works(dimension.whole)), None)
        deciding = [alone] if alone is not None else []
    if len(deciding) != 1:
        return None
    dimension = deciding[0]
    items = search.smallest(dimension)
    with suppress(_Spent, OSError):  # what is known by then is an answer too
        while len(items) == 1 and (inside := dimension.deeper(items[0])) is not None and inside.items:
            if not search.works(inside.without(inside.items)):
                break
            dimension, items = inside, search.smallest(inside)
    result = Decisive(dimension.kind, items, search.imported, is_least=not search.is_over)
    result.alone = works and _fails_with(search, dimensions, result)
    return result


def _fails_with(search: _Search, dimensions: list[Dimension], decided: Decisive) -> bool:
    """Whether the import fails as before with these items alone, everything else left out."""
    others = [dimension for dimension in dimensions if dimension.kind != decided.kind]
    same = [dimension for dimension in dimensions if dimension.kind == decided.kind]
    kept = [[item for item in dimension.items if item not in decided.items] for dimension in same]
    experiments = [dimension.whole for dimension in others]
    experiments += [dimension.without(items) for dimension, items in zip(same, kept, strict=True) if items]
    try:
        trial = search.trial(together(f"with {' and '.join(decided.items[:3])} alone", experiments))
    except (_Spent, OSError):
        return False
    return outcome_of(search.case, trial) in ("fails alike", "gives no answer")


# -- the dimensions -----------------------------------------------------------


def _dimensions(case: Case, machine: Machine, stands: _Stands) -> Iterator[Dimension]:
    yield from _variables(case, machine)
    yield Dimension("flag", list(case.invocation.flags), _without_flags)
    yield Dimension("entry", [entry.entry for entry in _droppable(case)], _without_entries)
    yield _startup(case, machine)
    yield Dimension("bytecode", _compiled(case, machine), _compiled_anew)
    if machine.reader.system in ("linux", "macos"):
        yield Dimension("limit", list(_LIMITS), _without_limits)
        yield from _files(case, machine, stands)


def _variables(case: Case, machine: Machine) -> Iterator[Dimension]:
    """Python's own first, then the loader's, the locale, the path of programs, and all others."""
    names = sorted(case.invocation.variables)
    groups: list[list[str]] = [[], [], [], []]
    for name in names:
        upper = name.upper()
        at = 0 if upper.startswith("PYTHON") else 1 if upper.startswith(("LD_", "DYLD_")) else 3
        if upper.startswith("LC_") or upper in ("LANG", "LANGUAGE"):
            at = 2
        if upper not in _KEPT and not upper.startswith("KALYX_"):
            groups[at].append(name)
    for group in groups:
        yield Dimension("variable", group, _without_variables)
    if machine.reader.system != "windows" and case.invocation.variables.get("PATH") not in (None, _USUAL_PATH):
        yield Dimension(
            "path", ["PATH"], lambda _: Experiment("with the system's own PATH", given=(("PATH", _USUAL_PATH),))
        )
    if any("Unicode" in name for name in (case.raised.bases if case.raised is not None else [])):
        yield Dimension(
            "encoding", ["PYTHONUTF8"], lambda _: Experiment("with UTF-8 for files", given=(("PYTHONUTF8", "1"),))
        )


def _without_variables(items: Sequence[str]) -> Experiment:
    return Experiment(f"without the {_named('variable', items)}", without=tuple(items))


def _without_flags(items: Sequence[str]) -> Experiment:
    return Experiment(f"without the {_named('flag', items)}", flags_out=tuple(items))


def _droppable(case: Case) -> list[PathEntry]:
    """The entries that neither are the installation's own nor hold what was asked for."""
    location = case.resolver.resolve(case.module.split(".")[0]).location
    portions = location.portions if location is not None else []
    holding = {case.resolver.reader.parent(portion) for portion in portions}
    if location is not None:
        holding.add(location.entry)
    kept = ("library", "own", "base")
    return [
        entry
        for entry in case.search.entries
        if entry.put_by not in kept and entry.exists and (entry.entry or case.resolver.folder) not in holding
    ]


def _without_entries(items: Sequence[str]) -> Experiment:
    words = tuple(f"drop={item}" for item in items)
    return Experiment(f"without the {_named('entry', items)} of sys.path", words=words)


def _startup(case: Case, machine: Machine) -> Dimension:
    """The path files that run code, and the hooks: left out by ``-S``, with the folders of the path put back."""
    reader, sites = machine.reader, case.search.site_packages
    if "-S" in case.invocation.flags:
        return Dimension("start-up", [], _without_flags)
    files = list(dict.fromkeys(item.path for item in case.search.code if item.path))
    for entry in case.search.entries:
        for name in ("sitecustomize", "usercustomize"):
            files += [path for path in (reader.join(entry.entry, f"{name}.py"),) if reader.is_file(path)]
    kept = tuple(entry.entry for entry in case.search.entries if entry.put_by not in ("library", "program", "variable"))

    def without(items: Sequence[str]) -> Experiment:
        start_files = [f"start={path}" for path in files if path not in items]
        words = (f"prefix={case.interpreter.prefix}", *start_files)
        message = f"without the start-up {_named('file', items)}"
        return Experiment(message, put=kept or tuple(sites), words=words, flags_in=("-S",))

    return Dimension("start-up", files, without)


def _compiled(case: Case, machine: Machine) -> list[str]:
    """The sources that the import came by, of which a compiled form is kept (PEP 3147)."""
    if case.trial is None or case.interpreter.version.startswith("2."):
        return []
    reader = machine.reader
    passed = [frame.file for frame in case.frames()]
    places = [case.resolution.location.path] if case.resolution.location is not None else []
    loaded = [path for path in case.trial.files.values() if not any(reader.inside(path, top) for top in case.standard)]
    result = []
    for path in dict.fromkeys([*places, *passed, *loaded]):
        if path.endswith(".py") and compiled_forms(machine, path):
            result.append(path)
    return result


def compiled_forms(machine: Machine, source: str) -> list[str]:
    """The files in which a source's compiled form is kept next to it."""
    reader = machine.reader
    folder = reader.join(reader.parent(source), "__pycache__")
    stem = reader.name(source).removesuffix("py")
    return [reader.join(folder, name) for name in reader.names(folder) if name.startswith(stem)]


def _compiled_anew(items: Sequence[str]) -> Experiment:
    words = tuple(f"source={item}" for item in items)
    return Experiment(f"with {_named('source', items)} compiled again", words=words)


def _without_limits(items: Sequence[str]) -> Experiment:
    words = tuple(f"limit={item}" for item in items)
    return Experiment(f"with the {_named('limit', items)} raised", words=words)


def _named(kind: str, items: Sequence[str]) -> str:
    plural = {"entry": "entries"}.get(kind, kind + "s")
    return f"{kind if len(items) == 1 else plural} {', '.join(items[:3])}{' ...' if len(items) > 3 else ''}"


# -- files that an import may read --------------------------------------------


class _Stands(Struct):
    """Makes folders of links for one search; they are gone when the search ends."""

    make: Callable[[str, Sequence[str]], str]


@contextmanager
def _scratch(case: Case, machine: Machine) -> Iterator[_Stands]:
    from contextlib import ExitStack

    with ExitStack() as stack:

        def make(real: str, without: Sequence[str]) -> str:
            assert machine.runner is not None
            folder = stack.enter_context(machine.runner.empty_folder())
            machine.runner.link_all(real, folder, dict.fromkeys(without, ""))
            return folder

        yield _Stands(make)


def _files(case: Case, machine: Machine, stands: _Stands) -> Iterator[Dimension]:
    """Files of the home folder and of the current folder, without those that imports are found in."""
    reader, home = machine.reader, case.invocation.variables.get("HOME", "")
    names = [name for name in reader.names(home) if name.startswith(".") and name != ".local"]
    own = reader.join(home, ".local")  # its lib holds the user's own packages
    names += [reader.join(".local", name) for name in reader.names(own) if name not in ("lib", "bin")]
    if home and names:
        yield _tree(case, machine, stands, home, home, names, _DEPTH)
    folder = case.resolver.folder
    top = case.module.split(".")[0]
    if folder != home:
        names = [name for name in reader.names(folder) if name.split(".")[0] != top]
        yield _tree(case, machine, stands, folder, folder, names, _DEPTH)


def _tree(
    case: Case, machine: Machine, stands: _Stands, root: str, folder: str, names: list[str], depth: int
) -> Dimension:
    """Files below ``root``, which is the home folder or the folder it runs in; ``names``: of those in ``folder``."""
    reader = machine.reader
    is_home = reader.same_path(root, reader.home) and root != reader.folder

    def without(items: Sequence[str]) -> Experiment:
        made = stands.make(root, items)
        message = f"without the {_named('file', items)}"
        if not is_home:
            return Experiment(message, folder=made)
        # The user's own packages stay where they are (PEP 370).
        user = case.invocation.variables.get("PYTHONUSERBASE") or reader.join(root, ".local")
        return Experiment(message, given=(("HOME", made), ("PYTHONUSERBASE", user)))

    def deeper(item: str) -> Dimension | None:
        if depth == 0 or not reader.is_folder(item):
            return None
        return _tree(case, machine, stands, root, item, list(reader.names(item)), depth - 1)

    return Dimension("file", [reader.join(folder, name) for name in names[:_NAMES]], without, deeper)
