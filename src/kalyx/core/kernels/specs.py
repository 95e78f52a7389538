"""Kernel specs: read, and resolved to what they really start, by the server's rules.

The format is the notebook protocol's "Kernel specs" document. A bare
``python``, ``python3`` or ``python3.N`` (N the server's own) is the server's
interpreter; any other bare word is looked up on the child's ``PATH``; a
relative path goes by the kernel's working folder.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping

from msgspec import Struct

from kalyx.core.environments.reading import USUAL_NAMES, environment_of
from kalyx.core.interpreters.reading import NotAnInterpreter, interpreter_at, read_interpreter
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.kernels.folders import KernelFolder, Server, kernel_folders, own_search, provisioners
from kalyx.core.kernels.startup_file import is_named_in
from kalyx.core.model.records import Evidence, Finding, Interpreter, Kernel, Reach
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.command_line import PythonCommand, behind_python_or_none
from kalyx.core.text.nested import nested

_SPEC_LIMIT = 1024 * 1024
SPEC_FILE = "kernel.json"
CONNECTION_FILE = "{connection_file}"  # in argv, a server puts the file's path there
# The condition of a folder among the kernels that the server does not list.
UNLISTED = "unlisted"
# The kernel that a server with this package lists though no kernel file names it: one of its own interpreter.
OWN_KERNEL, _OWN_PACKAGE = "python3", "ipykernel"
ID_LETTERS = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._-")


def valid_id(identifier: str) -> bool:
    """ASCII letters, digits, ``.``, ``_`` and ``-``, as the notebook system allows; never only dots."""
    return bool(identifier) and set(identifier) <= ID_LETTERS and identifier.strip(".") != ""


def id_from(name: str) -> str:
    """The id under which an environment of this name is registered where nobody gives another."""
    words = name.replace("\\", "/").split("/")
    if len(words) > 1 and words[-1] in USUAL_NAMES:  # a common name: the folder above identifies
        words.pop()
    letters = "-".join(words).lower()
    made = "".join(letter if letter in ID_LETTERS else "-" for letter in letters).strip(".-_")
    return made or "python-environment"


def listed_kernels(reader: Reader, server: Server) -> list[Kernel]:
    """Every registered kernel in this server's folders, hidden ones too, in the order of the folders."""
    kernels: list[Kernel] = []
    winners: dict[str, Kernel] = {}
    for folder in kernel_folders(reader, server):
        for kernel in kernels_in(reader, folder, server):
            path = reader.join(kernel.folder, SPEC_FILE)
            if not reader.is_file(path) and reader.refusal(path) is None:
                # A server skips what is no file, which therefore hides no other kernel.
                kernels.append(kernel.with_condition(UNLISTED))
                continue
            winner = winners.setdefault(kernel.id, kernel)
            kernels.append(kernel if winner is kernel else _hidden(kernel, winner))
    own = _own_kernel(reader, server) if OWN_KERNEL not in winners else None
    return [*kernels, own] if own is not None else kernels


def _own_kernel(reader: Reader, server: Server) -> Kernel | None:
    """The kernel that the server itself offers where it can import the kernel package; None where it cannot."""
    folder = _own_folder(reader, server)
    if folder is None or server.interpreter is None:
        return None
    argv = [server.interpreter.executable, "-m", "ipykernel_launcher", "-f", "{connection_file}"]
    return kernel_of_spec(reader, folder, Spec(argv, "Python 3 (ipykernel)", "python"), server, OWN_KERNEL)


def _own_folder(reader: Reader, server: Server) -> str | None:
    """The folder that the server gives its own kernel: the resources of the kernel package that it can import."""
    folders = (reader.join(entry, _OWN_PACKAGE) for entry in own_search(reader, server))
    package = next((folder for folder in folders if reader.is_file(reader.join(folder, "kernelspec.py"))), None)
    return reader.join(package, "resources") if package is not None else None


def kernel_of_spec(
    reader: Reader, folder: str, spec: Spec, server: Server, identifier: str, reach: Reach | None = None
) -> Kernel:
    """The kernel that a spec describes, with what this server would start for it; else what is wrong with the spec."""
    key, path = reader.real(folder), reader.join(folder, SPEC_FILE)
    problem = spec.problem
    usual = spec.provisioner == USUAL_PROVISIONER
    if problem is None and not usual and spec.provisioner not in provisioners(reader, server):
        problem = f"it asks for the provisioner {spec.provisioner!r}, which this server does not have"
    if problem is not None:
        message = f"the kernel file of {identifier} cannot be used: {problem}"
        finding = Finding.proven("spec-unreadable", message, [Evidence.at(path, problem)])
        name = reader.name(folder)
        kernel = Kernel(key=key, id=identifier, label=name, folder=folder, argv=[], command=[], reach=reach)
        return kernel.with_condition(finding.cause, finding)
    starts = started_by(reader, folder, spec, server)
    return Kernel(
        key=key,
        id=identifier,
        label=spec.display_name or identifier,
        folder=folder,
        argv=spec.argv,
        command=starts.command,
        interpreter=starts.interpreter,
        environment=environment_of(reader, starts.interpreter) if starts.interpreter is not None else None,
        language=spec.language,
        reach=reach,
        reason=starts.reason,
        undecided=starts.undecided,
        explains=is_named_in(reader, spec.argv),
    ).with_env(spec.env)


def as_the_server_lists(
    reader: Reader, kernels: list[Kernel], listing: dict[str, dict[str, object]], server: Server, address: str
) -> list[Kernel]:
    """The kernels that were read, as the running server has them: its own list decides which of an id wins.

    What the server lists and no file explains stands first, by its address; what the server does not list is
    ``unlisted``.
    """
    kernels = [kernel for kernel in kernels if kernel.id != OWN_KERNEL or kernel.folder != _own_folder(reader, server)]
    explained: dict[str, Kernel] = {}
    for kernel in kernels:
        spec = listing.get(kernel.id, {})
        if kernel.argv and (kernel.argv, kernel.label) == (spec.get("argv"), spec.get("display_name") or kernel.id):
            explained.setdefault(kernel.id, kernel)
    result = []
    for identifier, content in listing.items():
        if identifier not in explained:
            own = _own_folder(reader, server) if identifier == OWN_KERNEL else None
            folder = own or f"{address}api/kernelspecs/{identifier}"
            result.append(kernel_of_spec(reader, folder, spec_of(content), server, identifier))
            explained[identifier] = result[-1]
    for kernel in kernels:
        winner = explained.get(kernel.id)
        if winner is kernel:
            kernel = kernel.without_condition("hidden")
        elif winner is not None and not {"hidden", UNLISTED} & set(kernel.conditions):
            kernel = _hidden(kernel, winner)
        elif winner is None and not {UNLISTED, "spec-unreadable"} & set(kernel.conditions):
            kernel = kernel.with_condition(UNLISTED)
        result.append(kernel)
    return result


def kernels_in(reader: Reader, folder: KernelFolder, server: Server) -> list[Kernel]:
    """The kernel specs that are in one folder; ids are in lower case, as servers have them."""
    kernels = []
    for name in reader.names(folder.path):
        path = reader.join(folder.path, name)
        if reader.is_folder(path) and reader.may_be_there(reader.join(path, SPEC_FILE)):
            kernels.append(read_kernel(reader, path, server, folder.reach))
    return kernels


def read_kernel(reader: Reader, folder: str, server: Server, reach: Reach | None = None) -> Kernel:
    """The kernel whose spec folder is ``folder``, and what this server would start for it."""
    try:
        spec = parse_spec(reader.read(reader.join(folder, SPEC_FILE), _SPEC_LIMIT))
    except Unreadable as refusal:
        spec = Spec(problem=refusal.reason)
    return kernel_of_spec(reader, folder, spec, server, reader.name(folder).lower(), reach)


# Programs that start what follows them on another machine, in a container or in a subsystem.
_ELSEWHERE = {"ssh", "docker", "podman", "kubectl", "wsl", "srun", "singularity", "apptainer", "lxc"}


# What starts a kernel where its file names nothing else.
USUAL_PROVISIONER = "local-provisioner"


class Spec(Struct):
    """A kernel file as servers read it; ``problem`` says why it cannot be used."""

    argv: list[str] = []
    display_name: str = ""
    language: str = ""
    env: dict[str, str] = {}
    problem: str | None = None
    provisioner: str = USUAL_PROVISIONER


def parse_spec(raw: bytes) -> Spec:
    """The spec in a kernel file. Never raises: what is wrong with it is its ``problem``."""
    try:
        whole = json.loads(raw.decode("utf-8"))
    except UnicodeDecodeError:
        return Spec(problem="it is not UTF-8")
    except ValueError as error:
        if raw.startswith(b"\xef\xbb\xbf"):
            return Spec(problem="it begins with a byte-order mark, and no server takes such a file")
        return Spec(problem=f"it is not JSON ({error})")
    except RecursionError:
        return Spec(problem="it is nested too deeply")
    return spec_of(whole)


def spec_of(whole: object) -> Spec:
    """The spec in the content of a kernel file. Never raises."""
    if not isinstance(whole, dict):
        return Spec(problem="it is JSON, but no object")
    argv, environment = whole.get("argv"), whole.get("env", {})
    if "argv" not in whole:
        return Spec(problem="it lacks argv, the command to start")
    argv = [argv] if isinstance(argv, str) else argv  # the library takes a text for a list of one
    if not isinstance(argv, list) or not argv or not all(isinstance(word, str) and "\0" not in word for word in argv):
        return Spec(problem="its argv is not a list of words")
    if not isinstance(environment, dict) or not all(isinstance(value, str) for value in environment.values()):
        return Spec(problem="its env is not an object of texts")
    problem = _problem_of_types(whole)
    if problem is not None:
        return Spec(problem=problem)
    provisioner = nested(whole, "metadata", "kernel_provisioner", "provisioner_name") or USUAL_PROVISIONER
    name, language = whole.get("display_name", ""), whole.get("language", "")
    return Spec(argv, name, language, environment, provisioner=str(provisioner))


def _problem_of_types(whole: dict[str, object]) -> str | None:
    """What keeps the library from listing a file whose command is right: it holds each key to a type."""
    for key in ("display_name", "language", "mimetype", "name"):
        if not isinstance(whole.get(key, ""), str):
            return f"its {key} is not a text"
    if "resource_dir" in whole:
        return "it sets resource_dir, which only the library may"
    if str(whole.get("interrupt_mode", "signal")).lower() not in ("signal", "message"):
        return "its interrupt_mode is neither signal nor message"
    metadata = whole.get("metadata", {})
    provisioner = metadata.get("kernel_provisioner", {}) if isinstance(metadata, dict) else {}
    if not isinstance(metadata, dict):
        return "its metadata is not an object"
    if not isinstance(provisioner, dict) or not isinstance(provisioner.get("provisioner_name", ""), str):
        return "its kernel_provisioner names none"
    return None


def names_connection_file(kernel: Kernel) -> bool:
    """Whether the command has the word for the connection file, by which alone servers and kernels find each other."""
    return not kernel.argv or any(CONNECTION_FILE in word for word in kernel.argv)


def kernel_variables(kernel: Kernel, server: Server) -> dict[str, str]:
    """The variables the kernel starts with: the server's, and the spec's own with ``${NAME}`` filled in."""
    return _variables(kernel.env, server)


def _variables(own: Mapping[str, str], server: Server) -> dict[str, str]:
    merged = dict(server.variables)
    if own:
        import string  # it compiles a pattern when loaded: only a spec that sets variables needs it

        merged |= {key: string.Template(text).safe_substitute(server.variables) for key, text in own.items()}
    merged.pop("PYTHONEXECUTABLE", None)
    return merged


def _filled(word: str, values: Mapping[str, str]) -> str:
    if "{" not in word:
        return word
    return re.sub(r"\{([A-Za-z0-9_]+)\}", lambda match: values.get(match.group(1), match.group()), word)


class Starts(Struct):
    """What a server starts for a kernel: the whole command and its interpreter, or why none is known."""

    command: list[str]
    interpreter: Interpreter | None = None
    reason: str | None = None
    undecided: bool = False


def started_by(reader: Reader, folder: str, spec: Spec, server: Server) -> Starts:
    """What this server starts for the kernel in ``folder``, whose spec has a command."""
    values = {"resource_dir": folder}
    if server.interpreter is not None:
        values["prefix"] = server.interpreter.prefix
    first, *words = (_filled(word, values) for word in spec.argv)
    command, named = [first, *words], spec.argv[0]
    if named in _own_names(server):
        if server.interpreter is None:
            reason = f'"{named}" means the interpreter of whichever server runs, and none is known'
            return Starts(command, reason=reason, undecided=True)
        return Starts([server.interpreter.executable, *words], server.interpreter)
    variables = _variables(spec.env, server)
    is_python = reader.name(named).lower().startswith(("python", "pypy"))
    behind = behind_python_or_none(command) if not is_python else None
    if behind is not None and behind.is_plain:
        interpreter = _behind(reader, first, behind, behind.variables(variables))
        if interpreter is not None:
            return Starts(command, interpreter)
    path = _program(reader, first, variables)
    if path is None:
        reason = f'no program "{first}" on the PATH of the kernel'
        refused = reader.refused_within(*reader.path_folders(variables.get("PATH", "")))
        if refused is None:
            return Starts(command, reason=reason)
        reason += f", as far as this user may look ({refused[0]}: {refused[1]})"
        return Starts(command, reason=reason, undecided=True)
    written = reader.join(reader.folder, first)
    if ".." in first and not reader.exists(written):
        # The system follows a path part by part: after a missing folder nothing is found, not even by "..".
        return Starts(command, reason=f"there is nothing at {written}")
    return _followed(reader, [path, *words], variables, sets_variables=bool(spec.env))


def _own_names(server: Server) -> set[str]:
    """The names by which a kernel file means the server's own interpreter."""
    if server.interpreter is None:
        return {"python", "python3"}
    return {"python", f"python{server.interpreter.pair[0]}", f"python{server.interpreter.minor}"}


def _followed(reader: Reader, command: list[str], variables: Mapping[str, str], *, sets_variables: bool) -> Starts:
    """What the program at the path ``command[0]`` starts, or why nothing."""
    path = command[0]
    try:
        interpreter = read_interpreter(reader, path, variables if sets_variables else None)
        if interpreter.real_executable != reader.real(path) and not _has_first_line(reader, path):
            return Starts(command, reason="a text without a first line, which only a shell runs")
        return Starts(command, interpreter)
    except NotAnInterpreter as refusal:
        is_barred = reader.is_file(path) and not reader.may_run(path) and not refusal.refused
        starts = _by_first_line(reader, command, variables) if not is_barred else Starts(command)
        if starts.interpreter is None and starts.reason is None:
            starts = Starts(command, reason=refusal.reason, undecided=not refusal.dead)
        if starts.undecided and reader.name(path).lower().removesuffix(".exe") in _ELSEWHERE:
            starts.reason = f"{reader.name(path)} starts it elsewhere: on another machine, or in a container"
        return starts


def _has_first_line(reader: Reader, path: str) -> bool:
    try:
        return reader.system == "windows" or reader.read(path, 2) == b"#!"
    except Unreadable:
        return True


def _by_first_line(reader: Reader, command: list[str], variables: Mapping[str, str]) -> Starts:
    """What a command of an environment runs on, by its first line; no reason where it has none."""
    line = interpreter_of_script(reader, command[0], variables)
    if line.path is None:
        return Starts(command)
    try:
        return Starts(command, read_interpreter(reader, line.path))
    except NotAnInterpreter as refusal:
        # A shell script can start any program.
        reason = f"its program's first line names {line.path}: {refusal.reason}"
        return Starts(command, reason=reason, undecided=not refusal.dead)


def _behind(reader: Reader, first: str, starts: PythonCommand, variables: Mapping[str, str]) -> Interpreter | None:
    """The interpreter that a command names after a program that starts another (``env``, a shell's ``-c``)."""
    path = _program(reader, starts.program, variables)
    if path is None or "$" in starts.program or _program(reader, first, variables) is None:
        return None
    return interpreter_at(reader, path)


def _program(reader: Reader, word: str, variables: Mapping[str, str]) -> str | None:
    if reader.path.dirname(word):
        return reader.absolute(word) if not word.startswith("~") else reader.join(reader.folder, word)
    return next(reader.lookup(word, variables.get("PATH", "")), None)


def _hidden(kernel: Kernel, winner: Kernel) -> Kernel:
    """The kernel, hidden by another of the same id."""
    evidence = [
        Evidence.at(winner.folder, f"{winner.id} is here first"),
        Evidence.at(kernel.folder, f"and here again: {kernel.folder}"),
    ]
    finding = Finding.proven("hidden", f"another kernel of the same id comes first: {winner.folder}", evidence)
    return kernel.with_condition("hidden", finding)


def line_of(reader: Reader, path: str, needle: str) -> int | None:
    """The line of a file that holds ``needle``; None when none does."""
    text = reader.text_or_none(path, _SPEC_LIMIT)
    for number, line in enumerate((text or "").splitlines(), 1):
        if needle in line:
            return number
    return None


def argv_line(reader: Reader, kernel: Kernel) -> int | None:
    """The line of the kernel file where its first argument stands."""
    path = reader.join(kernel.folder, SPEC_FILE)
    return line_of(reader, path, json.dumps(kernel.argv[0])) if kernel.argv else None
