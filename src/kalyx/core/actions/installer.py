"""The installer of an environment, run by that environment's own interpreter.

Variables that would make it install elsewhere are removed, and its waits are
limited. When it fails, its whole output is kept in a file, and the line with the
reason is shown. What it would do comes from its own report (the "Installation
Report" format of the installer's documentation); an installer that is too old
for a report runs in a copy of the environment.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping

from msgspec import Struct

from kalyx.core.actions.version_cache import cache_file
from kalyx.core.environments.found import base_interpreter
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.machine import Machine
from kalyx.core.model.records import Interpreter, KalyxError, Package
from kalyx.core.model.steps import Step, offline_words
from kalyx.core.packages.contents import contents
from kalyx.core.packages.metadata import Installed, installed_in
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.own_command import own_command
from kalyx.core.system.own_files import distrust
from kalyx.core.system.reader import FileStat
from kalyx.core.text.numbers import is_number
from kalyx.core.text.patterns import pattern
from kalyx.core.text.redaction import redacted
from kalyx.core.text.visible import visible

INSTALL_SECONDS = 1800.0
# Bytes of its output: a report repeats the whole description of every package.
_OUTPUT_LIMIT = 128 * 1024 * 1024
_KEPT_LOGS = 5
_KEPT = pattern(r"installer-[0-9]{8}-[0-9]{6}-[0-9]{6}\.txt")
_TELLS_SINCE = (22, 2)

# What would make the installer work on another place than the environment it runs in.
_LEADS_ELSEWHERE = {"PYTHONHOME", "PYTHONPATH", "VIRTUAL_ENV", "CONDA_PREFIX", "__PYVENV_LAUNCHER__", "PIP_TARGET",
                    "PIP_PREFIX", "PIP_ROOT", "PIP_PYTHON", "PIP_DRY_RUN", "PIP_REPORT"}  # fmt: skip


class CommandFailed(KalyxError):
    """A command that was run failed: ``line``, how it is typed; ``reason``; ``whole``, where its output is kept."""

    def __init__(self, line: str, reason: str, whole: str = "") -> None:
        super().__init__(f"{line} failed: {reason}{whole}")
        self.line, self.reason, self.whole = line, reason, whole


def executable_in(reader: Reader, folder: str) -> str:
    """The interpreter of a virtual environment in ``folder``, there or not."""
    return reader.join(folder, *(("Scripts", "python.exe") if reader.system == "windows" else ("bin", "python")))


def made_in(reader: Reader, folder: str) -> Interpreter:
    """The interpreter of an environment that was just created. Raises KalyxError where it does not start."""
    try:
        return read_interpreter(reader, executable_in(reader, folder))
    except NotAnInterpreter as refusal:
        raise KalyxError(f"the new environment in {visible(folder)} does not start: {refusal.reason}") from None


class PlannedInstall(Struct, frozen=True):
    """A distribution that an installation would install, with what it requires."""

    name: str
    version: str
    requires: tuple[str, ...] = ()


def clean_variables(variables: Mapping[str, str], *, users_too: bool = True) -> dict[str, str]:
    """The user's variables without those that lead an installer to another place.

    ``users_too``: whether the installer sees the packages of the user's site.
    """
    kept = {key: value for key, value in variables.items() if key not in _LEADS_ELSEWHERE}
    kept["PIP_USER"] = "0"  # also where a settings file says otherwise
    if not users_too:
        kept["PYTHONNOUSERSITE"] = "1"
    return {key: value for key, value in kept.items() if value}


def _sees_the_users(interpreter: Interpreter) -> bool:
    """Whether the installer may see the user's packages: an installation's would remove what it replaces of them."""
    return interpreter.prefix != interpreter.base_prefix


def held(machine: Machine, interpreter: Interpreter) -> list[Package]:
    """The packages that the environment has now, read again, as its installer sees them."""
    reader = machine.reader.again()
    variables = clean_variables(reader.variables, users_too=_sees_the_users(interpreter))
    return contents(reader, interpreter, search_path(reader, interpreter, Invocation(variables=variables)))[0]


def users_packages(machine: Machine, interpreter: Interpreter) -> list[Package]:
    """The packages of the user's site that an import finds first, where the installer does not see them."""
    if _sees_the_users(interpreter):
        return []
    reader = machine.reader.again()
    invocation = Invocation(variables=clean_variables(reader.variables))
    packages, _ = contents(reader, interpreter, search_path(reader, interpreter, invocation))
    return [package for package in packages if package.origin == "user" and package.hidden_by is None]


def install_command(executable: str, wheels: str | None, seconds: float, words: list[str], *more: str) -> list[str]:
    """The command by which the installer of ``executable`` installs ``words``; ``seconds`` bounds each of its waits."""
    waits = ["--timeout", f"{max(1, round(seconds))}", "--retries", "1"]
    quiet = ["--disable-pip-version-check", "--no-input"]
    return [executable, "-m", "pip", "install", *quiet, *waits, *offline_words(wheels), *more, *words]


class Installer:
    """The installer of one environment, with or without an index."""

    def __init__(self, machine: Machine, interpreter: Interpreter, wheels: str | None = None) -> None:
        self.machine = machine
        self.interpreter = interpreter
        self.wheels = wheels

    def version(self, packages: list[Package]) -> tuple[int, ...] | None:
        """The installer's version by its metadata, or None where the environment has no installer."""
        version = next(
            (package.version for package in packages if package.name == "pip" and package.hidden_by is None), None
        )
        if version is None:
            return None
        return tuple(int(part) for part in version.split(".") if is_number(part))

    def install(self, words: list[str], *more: str) -> list[str]:
        """The command that installs ``words`` into this very environment."""
        return install_command(self.interpreter.executable, self.wheels, self.machine.seconds, words, *more)

    def remove(self, names: list[str]) -> list[str]:
        """The command that removes distributions from the environment."""
        quiet = ["--disable-pip-version-check", "--no-input"]
        return [self.interpreter.executable, "-m", "pip", "uninstall", *quiet, "-y", *names]

    def run(self, argv: list[str], tell: Callable[[str], None] = lambda text: None) -> bytes:
        """Run one of its commands to the end; what it printed. Raises KalyxError with its reason."""
        return run_to_end(self.machine, argv, tell, users_too=_sees_the_users(self.interpreter))

    def foresee(self, words: list[str], packages: list[Package], tell: Callable[[str], None]) -> list[PlannedInstall]:
        """What installing ``words`` would add. Raises KalyxError with the installer's reason where it cannot."""
        version = self.version(packages)
        if version is not None and version >= _TELLS_SINCE:
            tell("asking what would be installed")
            python, *remainder = self.install(words, "--dry-run", "--quiet", "--report", "-")
            ended = self.run([python, "-B", *remainder])  # what only asks leaves no compiled file
            return _reported(ended)
        return self._tried_in_a_copy(words, packages, tell)

    def _tried_in_a_copy(
        self, words: list[str], packages: list[Package], tell: Callable[[str], None]
    ) -> list[PlannedInstall]:
        """Install into a copy of the environment: for an installer that has no report."""
        machine, reader = self.machine, self.machine.reader
        assert machine.runner is not None
        with machine.runner.empty_folder() as path:
            prefix = reader.join(path, "copy")
            tell("testing it in a copy")
            base = (base_interpreter(reader, self.interpreter) or self.interpreter).real_executable
            sees = any(package.origin == "base" for package in packages)
            seen = ["--system-site-packages"] if sees else []
            self.run([base, "-m", "venv", "--without-pip", *seen, prefix])
            copy = made_in(reader.again(), prefix)
            machine.let_through(copy.executable)  # made right here
            for site in dict.fromkeys(package.location for package in packages if package.origin in ("own", "linked")):
                if reader.inside(site, self.interpreter.prefix):
                    relative = reader.path.relpath(site, self.interpreter.prefix)
                    machine.writer.copy_folder(site, reader.join(prefix, relative), linked=False)
            twin = Installer(machine, copy, self.wheels)
            before = _written(machine, held(machine, copy))
            try:
                self.run(twin.install(words), tell)
            except CommandFailed as failed:
                line = failed.line.replace(copy.executable, self.interpreter.executable)
                raise CommandFailed(line, failed.reason, failed.whole) from None
            after = _written(machine, held(machine, copy))
            return [
                PlannedInstall(distribution.name, distribution.version, tuple(distribution.requires))
                for mark, distribution in after.items()
                if mark not in before
            ]


def _written(machine: Machine, packages: list[Package]) -> dict[tuple[str, str, int, int], Installed]:
    """The distributions of these packages, by name, version and the time of their metadata.

    A distribution that is installed again in the same version has new metadata.
    """
    reader, result = machine.reader.again(), dict[tuple[str, str, int, int], Installed]()
    names = {package.name for package in packages if package.version}
    for location in dict.fromkeys(package.location for package in packages if package.version):
        for distribution in installed_in(reader, location):
            status = reader.status(distribution.path)
            if distribution.name in names and isinstance(status, FileStat):
                result[distribution.name, distribution.version, status.inode, status.modified_ns] = distribution
    return result


def _reported(output: bytes) -> list[PlannedInstall]:
    """The distributions of an installation report (version 1 of its format)."""
    try:
        report = json.loads(output)
        result = [item["metadata"] for item in report["install"]]
        return [
            PlannedInstall(item["name"], item["version"], tuple(item.get("requires_dist") or ())) for item in result
        ]
    except (ValueError, KeyError, TypeError, RecursionError):
        raise KalyxError(
            "the installer's report could not be read; it said what no version of its format has"
        ) from None


def run_to_end(
    machine: Machine, argv: list[str], tell: Callable[[str], None] = lambda text: None, *, users_too: bool = True
) -> bytes:
    """Run a command that makes or fills an environment. Raises KalyxError with its reason, the whole in a file."""
    assert machine.runner is not None
    variables = clean_variables(machine.reader.variables, users_too=users_too)
    with machine.runner.empty_folder() as path, machine.runner.empty_folder() as stand:
        log = machine.reader.join(path, "log")
        if "pip" in argv:
            variables.setdefault("PIP_LOG", log)
        ended = machine.runner.run(
            argv,
            # The installer unpacks into a folder that Kalyx removes, also where the installer is stopped.
            variables={**variables, "TMPDIR": path, "TEMP": path, "TMP": path},
            folder=stand,  # "-m" searches the current folder first: this folder is empty
            seconds=INSTALL_SECONDS,
            limit=_OUTPUT_LIMIT,
            heard=lambda words: tell(_last_line(words)),
        )
        refused = _refused(machine.reader, log) if ended.status else b""
    if ended.status == 0:
        return ended.output
    if ended.problem is not None:
        raise KalyxError(f"{argv[0]} {ended.problem}")
    words = refused + ended.output + ended.errors
    kept = _keep(machine, argv, words)
    whole = f" (the whole output: {kept})" if kept else ""
    message = f"it did not finish within {INSTALL_SECONDS:g} seconds" if ended.timed_out else what_matters(words)
    shown = [word for word in argv if word != "-B"][:4]
    raise CommandFailed(machine.line(shown), message, whole)


def run_step(machine: Machine, step: Step, tell: Callable[[str], None]) -> None:
    """Carry out a step that has a command: Kalyx's own by this Kalyx, without a question. Raises KalyxError."""
    assert step.command is not None
    own = step.command[0] == "kalyx"
    run_to_end(machine, own_command([*step.command[1:], "--yes"]) if own else step.command, tell)


def _last_line(words: bytes) -> str:
    lines = words[-400:].decode("utf-8", "replace").strip().splitlines()
    return lines[-1].strip() if lines else ""


# A connection that failed, in the words of every version of the installer; and the object that its reason begins with.
_UNANSWERED = pattern(
    r"connection broken by '\w+\((.*?),?\)'(?:: /|$)|Could not fetch URL \S+: (.*?)(?: - skipping)?$"
    r"|imeoutError: (.*)"
)
_OBJECT = pattern(r"^.*?[>)][:,] ")
# An index or a folder that the installer left out, in the words of every version.
_LEFT_OUT = pattern(
    r"The repository located at \S+ is .*?being ignored|(?:Location|Url) '.*' is ignored.*"
    r"|The index url .* seems invalid|Skipping page \S+ because .*?Content-Type: [^ .]*"
    r"|401 Error, Credentials not correct for .*|The package index \S+ answers .*"
)
# What an index answered to a request: the installer writes this into its log alone.
_ANSWERED = pattern(r"(\S+): (?:(\d{3}) \w+ Error: (.*?) for url|.*too many (\d{3}) error responses)")
_NO_SUCH_PAGE = ("404", "410")
# An index has answered: it has other versions.
_HAS_VERSIONS = pattern(r"\(from versions: (?!none)[^)]")

# Lines that repeat an earlier one, or that do not give the reason.
_SAYS_LITTLE = ("No matching distribution found for", "note:", "hint:", "[end of output]", "Failed to build")


def _refused(reader: Reader, log: str) -> bytes:
    """A line for each answer by which an index refused a request, from the installer's log; no such page is none."""
    try:
        messages = reader.again().scan(log, rb"Could not fetch URL (.*)")
    except Unreadable:
        return b""
    answers = dict[str, None]()
    for match in filter(None, (_ANSWERED.match(message.decode("utf-8", "replace")) for message in messages)):
        url, number, name, repeated = match.groups()
        if number not in _NO_SUCH_PAGE:
            answers[f"The package index {url} answers {' '.join(filter(None, (number, name, repeated)))}\n"] = None
    return "".join(answers).encode()


def what_matters(words: bytes) -> str:
    """The line of an installer's output that says why: its first telling error, else its last line."""
    lines = [line.strip() for line in words.decode("utf-8", "replace").splitlines() if line.strip()]
    errors = [line for line in lines if line.startswith("ERROR:") or "rror:" in line or "No space left" in line]
    errors += [line.removeprefix("kalyx: ") for line in lines if line.startswith("kalyx: ")]
    telling = [line for line in errors if not line.removeprefix("ERROR: ").startswith(_SAYS_LITTLE)]
    last = errors or [line for line in lines if not line.startswith(_SAYS_LITTLE)] or lines or ["it printed nothing"]
    chosen = telling[0] if telling else last[-1]
    if "No space" in chosen or any(map(_HAS_VERSIONS.search, lines)):
        return _shown(chosen)
    unanswered = [match for line in lines if (match := _UNANSWERED.search(line)) is not None]
    left_out = next((match.group() for line in lines if (match := _LEFT_OUT.search(line)) is not None), None)
    if unanswered:
        reason = _OBJECT.sub("", next(filter(None, unanswered[-1].groups()), "")).strip(" \"',")
        chosen = f"the package index does not answer ({reason[:160]})"
    elif left_out is not None and "(from versions: " in chosen:
        chosen = f"{left_out.rstrip('.')[:200]}; {chosen.removeprefix('ERROR: ')}"
    return _shown(chosen)


def _shown(words: str) -> str:
    return visible(redacted(words.removeprefix("ERROR: "))[:400])


def _keep(machine: Machine, argv: list[str], words: bytes) -> str | None:
    """Write all an installer said into the user's cache folder; the newest few are kept. Its path, or None."""
    reader, writer = machine.reader.again(), machine.writer
    folder = reader.join(reader.parent(cache_file(reader)), "said")
    if reader.kind(folder) not in (None, "folder") or distrust(reader, folder):
        return None
    try:
        writer.folder(folder, private=True)
        names = [name for name in reader.names(folder) if _KEPT.fullmatch(name)]
        for old in names[: max(0, len(names) - _KEPT_LOGS + 1)]:
            if reader.kind(reader.join(folder, old)) == "file":
                writer.remove_file(reader.join(folder, old))
        path = reader.join(folder, f"installer-{writer.stamp()}.txt")
        text = redacted(machine.line(argv) + "\n\n" + words.decode("utf-8", "surrogateescape"))
        writer.write(path, text.encode("utf-8", "surrogateescape"), mode=0o600)
    except (KalyxError, Unreadable):
        return None
    return path
