"""Rehearsing a kernel: start the real kernel, ask who it is, try imports in it, stop it.

It is started exactly as a server would: the spec's command and variables, the
notebook's folder. Everything is bounded by one time limit, and at the end the
kernel and whatever it started are gone.
"""

from __future__ import annotations

from contextlib import nullcontext

from msgspec import Struct

from kalyx.core.diagnosis.conditions import no_answer
from kalyx.core.environments.found import base_interpreter
from kalyx.core.environments.reading import environment_of
from kalyx.core.imports.names import ImportStatement
from kalyx.core.interpreters.asking import answer_between, new_mark
from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.interpreters.scripts import interpreter_of_script
from kalyx.core.invocation import NAMED
from kalyx.core.kernels.makers import quietly
from kalyx.core.kernels.specs import kernel_variables
from kalyx.core.kernels.wire import Message, Session, WireError
from kalyx.core.machine import Machine
from kalyx.core.model.action_results import RehearsalAnswer, RehearsalSchema
from kalyx.core.model.records import (
    Distribution,
    ErrorText,
    ImportAnswer,
    Interpreter,
    KalyxError,
    Kernel,
    ShellReach,
)
from kalyx.core.packages.metadata import owner_of
from kalyx.core.system.loopback import Connection
from kalyx.core.system.runner import Runner, Running
from kalyx.core.targets import seat_of_kernel
from kalyx.core.text.numbers import exit_status

WORDS_KEPT = 20_000

# Runs inside the kernel, Python 2.7 to the newest: prints who it is and the outcome of each import.
_QUESTION = """
def _kalyx_question(mark, imports):
    import os, sys
    def plain(value):
        if value is None or isinstance(value, type(u"")):
            return value
        if isinstance(value, bytes):
            return value.decode(sys.getfilesystemencoding() or "utf-8", "replace")
        return type(u"")(value)
    answer = {
        "executable": plain(sys.executable), "prefix": plain(sys.prefix),
        "base_prefix": plain(getattr(sys, "real_prefix", getattr(sys, "base_prefix", sys.prefix))),
        "version": ".".join(str(part) for part in sys.version_info[:3]),
        "implementation": plain(getattr(getattr(sys, "implementation", None), "name", "cpython")),
        "path": plain(os.environ.get("PATH", "")), "folder": plain(os.getcwd()), "pid": os.getpid(), "imports": [],
    }
    for module, names in imports:
        row = {"module": module, "imports": False}
        try:
            imported = __import__(module, {}, {}, names or ["__doc__"], 0)
            for name in names:
                if name != "*" and not hasattr(imported, name):
                    exec("from %s import %s" % (module, name), {})
            row["imports"] = True
            file = getattr(imported, "__file__", None)
            row["file"] = plain(file if file else (list(getattr(imported, "__path__", [])) or [None])[0])
        except BaseException:
            error = sys.exc_info()[1]
            row["type"], row["text"] = type(error).__name__, plain(str(error))
        answer["imports"].append(row)
    sys.stdout.write("\\n" + mark + repr(answer) + mark + "\\n")
    sys.stdout.flush()
"""


class _Row(Struct):
    """The outcome of one import in the kernel."""

    imports: bool
    file: str | None = None
    type: str = ""
    text: str = ""


class Says(Struct):
    """What a kernel reports about itself; ``path``: its variable PATH."""

    executable: str | None
    version: str
    implementation: str
    prefix: str
    base_prefix: str
    path: str = ""
    imports: list[_Row] = []


class Talk(Struct):
    """The kernel's replies in one conversation."""

    answered: bool = False
    seconds: float | None = None
    mark: str = ""
    who: Says | None = None
    printed: str = ""
    script: str | None = None
    problem: str | None = None
    signed_wrongly: int = 0
    heartbeat: bool = False
    language: str = ""
    protocol: str = ""


class _Conversation:
    """Asks one kernel over its channels, against one deadline."""

    def __init__(self, runner: Runner, connection: Connection, running: Running, seconds: float, system: str) -> None:
        self.runner = runner
        self.clock = runner.loopback.clock
        self.system = system
        self.connection = connection
        self.running = running
        self.deadline = self.clock() + seconds
        self.session = Session(connection.key.encode("ascii"))
        self.talk = Talk()
        self.hears = False  # whether a broadcast has arrived

    def left(self) -> float:
        return self.deadline - self.clock()

    def _next(self, channels: tuple[str, ...], seconds: float) -> Message | None:
        result = self.connection.receive(channels, seconds)
        if result is None:
            return None
        try:
            message = self.session.read(result[1])
        except WireError as error:
            self.talk.problem = f"it sends what is not a message: {error}"
            return None
        if message.signed_wrongly:
            self.talk.signed_wrongly += 1
            return None
        self.hears = self.hears or result[0] == "iopub"
        return message

    def _alive(self) -> bool:
        if self.running.status() is None:
            return True
        status = exit_status(self.running.status(), self.system)
        self.talk.problem = f"it ended by itself with status {status}"
        return False

    def hello(self, began: float) -> bool:
        """Ask for the kernel's information until it answers; requests before it listens are kept for it.

        ``began`` is when the kernel was started: the time to the first answer counts from there.
        """
        identifier, frames = self.session.request("kernel_info_request", {})
        self.connection.send("shell", frames)
        while self.left() > 0:
            message = self._next(("shell", "iopub"), min(0.1, self.left()))
            if message is not None and message.parent == identifier and message.type == "kernel_info_reply":
                self.talk.answered = True
                self.talk.seconds = self.clock() - began
                about = message.content.get("language_info")
                self.talk.language = str(about.get("name", "")) if isinstance(about, dict) else ""
                self.talk.protocol = str(message.content.get("protocol_version", ""))
                self._until_heard()
                return True
            if not self._alive():
                return False
            if self.talk.signed_wrongly:
                self.talk.problem = "its answers carry a wrong signature"
                return False
        self.talk.problem = self.talk.problem or "it did not answer in time"
        return False

    def _until_heard(self) -> None:
        """Wait until broadcasts arrive: messages before the subscription is active are lost."""
        patience = self.clock() + min(1.5, max(0.0, self.left()))
        while not self.hears and self.clock() < patience and self._alive():
            _, frames = self.session.request("kernel_info_request", {})
            self.connection.send("shell", frames)
            again = self.clock() + 0.1
            while not self.hears and self.clock() < again:
                self._next(("shell", "iopub"), 0.05)

    def execute(self, code: str, mark: str | None) -> str:
        """Run code in the kernel without leaving it in its history; returns what it printed."""
        content = {
            "code": code,
            "silent": False,
            "store_history": False,
            "user_expressions": {},
            "allow_stdin": False,
            "stop_on_error": True,
        }
        identifier, frames = self.session.request("execute_request", content)
        self.connection.send("shell", frames)
        printed: list[str] = []
        size, replied, idle = 0, False, False
        while self.left() > 0 and not (replied and idle):
            message = self._next(("shell", "iopub"), min(0.2, self.left()))
            if message is None:
                if not self._alive():
                    break
                if self.talk.signed_wrongly:
                    self.talk.problem = "its answers carry a wrong signature"
                    break
                continue
            if message.parent != identifier:
                continue
            if message.type == "execute_reply":
                replied = True
            elif message.type == "status" and message.content.get("execution_state") == "idle":
                idle = True
            elif message.type == "stream":
                text = str(message.content.get("text", ""))
                size += len(text)
                if size <= 4_000_000:
                    printed.append(text)
            elif message.type == "error":
                printed.append(f"{message.content.get('ename')}: {message.content.get('evalue')}\n")
            if mark is not None and text_has_answer(printed, mark):
                break
        if not replied and self.talk.problem is None and self.left() <= 0:
            self.talk.problem = "it answered, and then did not finish what it was asked in time"
        return "".join(printed)

    def ask(self, imports: list[ImportStatement]) -> None:
        mark = self.talk.mark = new_mark(self.runner)
        asked = [(statement.module, list(statement.names)) for statement in imports]
        code = f"{_QUESTION}\n_kalyx_question({mark!r}, {asked!r})\ndel _kalyx_question\n"
        printed = self.execute(code, mark)
        parts = printed.split(mark)
        self.talk.printed = "".join(parts[:1] + parts[2:]).strip("\n")
        self.talk.who = answer_between(printed, mark, Says)

    def goodbye(self) -> None:
        """Ask it to shut down, on the control channel, and give it a moment."""
        if self.running.status() is None:
            _, frames = self.session.request("shutdown_request", {"restart": False})
            self.connection.send("control", frames)
            self.running.wait(2.0 if self.talk.answered else 0.2)


def text_has_answer(printed: list[str], mark: str) -> bool:
    """Whether both marks have come; a text may be cut anywhere between messages."""
    return sum(text.count(mark) for text in printed) >= 2 or "".join(printed).count(mark) >= 2


def rehearse(
    machine: Machine,
    kernel: Kernel,
    imports: list[ImportStatement],
    *,
    script: str | None = None,
    transport: str = "tcp",
    schema: RehearsalSchema = "kalyx.rehearse/2",
    stays: bool = True,
) -> RehearsalAnswer:
    """Start the kernel, ask it, stop it; returns the answer. Needs a Runner.

    ``stays``: whether the kernel stays registered where it gives no answer, so that a fix can name it. Raises
    KalyxError when Kalyx may not start programs.
    """
    answer = RehearsalAnswer(schema=schema, kernel=kernel, seen_by=machine.server.answers)
    # A program of another language has no interpreter to read and can be started all the same.
    if not kernel.argv or (kernel.reason is not None and not machine.reader.may_run(kernel.command[0])):
        answer.findings = list(kernel.findings)
        answer.output = kernel.reason or "; ".join(finding.message for finding in kernel.findings)
        return answer
    if machine.runner is None:
        raise KalyxError("a rehearsal starts the kernel, and --static starts no program")
    loopback = machine.runner.loopback
    if transport == "tcp" and machine.reader.system != "windows" and not loopback.answers_itself():
        transport = "ipc"
        answer.notes.append(
            "this machine does not reach itself by 127.0.0.1 (its loopback is down): the kernel was spoken to over"
            " local sockets, and a notebook server would not reach it"
        )
    # To prove that a kernel answers it need not stand among files that somebody else may have written; only what the
    # user has it import or run is tried as a notebook of this folder would.
    in_folder = bool(imports or script)
    stand = nullcontext(machine.reader.folder) if in_folder else machine.runner.empty_folder()
    if kernel.command and machine.reader.path.isabs(kernel.command[0]):
        machine.let_through(kernel.command[0])  # the user named the kernel
    with loopback.connection(transport) as connection, stand as folder:
        try:
            talk, words = _talk(machine, kernel, connection, folder, imports, script)
        except _NotStarted as error:
            answer.output = f"{kernel.command[0]}: {error}"
            answer.findings = [no_answer.finding(kernel, f"the system cannot start it: {error}", "", machine, stays)]
            return answer
    if not _fill(answer, machine, kernel, talk, words, imports):
        answer.findings = [no_answer.finding(kernel, talk.problem or "it gave no answer", words, machine, stays)]
    return answer


class _NotStarted(Exception):
    """The system does not start the kernel's program."""


def _talk(
    machine: Machine,
    kernel: Kernel,
    connection: Connection,
    folder: str,
    imports: list[ImportStatement],
    script: str | None,
) -> tuple[Talk, str]:
    """Start the kernel in a folder, ask, and end it: what it told, and the end of what it printed.

    Raises _NotStarted.
    """
    assert machine.runner is not None
    command = [word.replace("{connection_file}", connection.path) for word in quietly(kernel.command)]
    variables = kernel_variables(kernel, machine.server)
    connection.open()  # before the start, so that the kernel's own time is what is measured
    began = machine.runner.loopback.clock()
    try:
        running = machine.runner.start(command, variables=variables, folder=folder)
    except (OSError, ValueError) as error:
        raise _NotStarted(error) from None
    talk = _converse(machine, connection, running, began, imports, script)
    text = running.words()
    if talk.who is None and talk.mark:
        # A kernel package that does not carry standard output over lets it out on its own.
        talk.who = answer_between(text.decode("utf-8", "surrogateescape"), talk.mark, Says)
    return talk, text[-WORDS_KEPT:].decode("utf-8", "replace")


def _converse(
    machine: Machine,
    connection: Connection,
    running: Running,
    began: float,
    imports: list[ImportStatement],
    script: str | None,
) -> Talk:
    assert machine.runner is not None
    conversation = _Conversation(machine.runner, connection, running, machine.seconds, machine.reader.system)
    try:
        if conversation.hello(began):
            conversation.talk.heartbeat = connection.beats(min(2.0, max(0.1, conversation.left())))
            conversation.ask(imports)
            if script is not None and conversation.talk.who is not None:
                conversation.talk.script = conversation.execute(script, None).strip("\n")
        conversation.goodbye()
    finally:
        running.end(0.3)
    return conversation.talk


def _fill(
    answer: RehearsalAnswer, machine: Machine, kernel: Kernel, talk: Talk, words: str, imports: list[ImportStatement]
) -> bool:
    """Put into the answer what the kernel told; returns whether it told anything."""
    answer.answered = talk.answered and talk.who is not None
    answer.seconds = talk.seconds
    answer.output = "\n".join(part for part in (talk.printed, words.strip()) if part)
    answer.script_output = talk.script
    if talk.script is not None and talk.problem is not None:
        answer.notes.append(f"the script did not end: {talk.problem}")
    if talk.answered and not talk.heartbeat:
        answer.notes.append("its heartbeat channel gives no answer: a client that watches it takes the kernel for dead")
    if talk.who is None:
        if talk.answered and talk.language not in ("", "python"):
            answer.answered = True
            answer.notes.append(f"its language is {talk.language}: a Python import is not tried in it")
            answer.imports = [
                ImportAnswer(statement=item.statement, module=item.module, outcome="undetermined") for item in imports
            ]
        return answer.answered
    answer.interpreter = Interpreter(
        executable=talk.who.executable or "",
        real_executable=machine.reader.real(talk.who.executable) if talk.who.executable else "",
        version=talk.who.version,
        implementation=talk.who.implementation,
        prefix=talk.who.prefix,
        base_prefix=talk.who.base_prefix,
        known_by="asking",
    )
    conditions = ["answers", *(name for name in kernel.conditions if name != "answers")]
    answer.kernel = kernel.changed(conditions=conditions)
    answer.shell_reaches = _shell_reaches(machine, talk.who.path)
    for wanted, row in zip(imports, talk.who.imports, strict=False):
        answer.imports.append(_import_answer(machine, kernel, wanted, row))
    answer.notes += [note for item in answer.imports for note in _proves_nothing(machine, kernel, item)]
    return True


def _proves_nothing(machine: Machine, kernel: Kernel, answer: ImportAnswer) -> list[str]:
    """An import that the base below could answer as well says nothing about which of the two this kernel is."""
    environment = kernel.environment
    if answer.outcome != "imports" or environment is None or environment.base_prefix in (None, environment.prefix):
        return []
    assert kernel.interpreter is not None
    below = base_interpreter(machine.reader, kernel.interpreter)
    if below is None:
        return []
    resolver = machine.resolver(environment_of(machine.reader, below))
    location = resolver.resolve(answer.module).location if resolver is not None else None
    if location is None:
        return []
    if answer.found_at and location.kind != "builtin" and machine.reader.same_path(location.path, answer.found_at):
        return [f"{answer.module} was found in the base below, which does not prove that {environment.name} runs"]
    return [f"{answer.module} is in the base below too ({location.path}): only where it was found tells the two apart"]


def _import_answer(machine: Machine, kernel: Kernel, wanted: ImportStatement, row: _Row) -> ImportAnswer:
    answer = ImportAnswer(statement=wanted.statement, module=wanted.module, outcome="fails")
    if row.imports:
        answer.outcome = "imports"
        answer.found_at = row.file or "(built in)"
        sites = kernel.environment.site_packages if kernel.environment else []
        owner = owner_of(machine.reader, sites, answer.found_at or "")
        if owner is not None:
            answer.distribution = Distribution(name=owner.name, version=owner.version)
        return answer
    answer.error = ErrorText(type=row.type, text=row.text)
    from kalyx.core.queries.why import why_import

    explained = why_import(machine, seat_of_kernel(machine, kernel), wanted, NAMED)
    answer.findings = explained.findings
    return answer


def _shell_reaches(machine: Machine, path: str) -> ShellReach:
    """What ``!python`` and ``!pip`` would start, by the PATH the kernel itself has."""
    reader = machine.reader
    python, installer = (next(reader.lookup(word, path), None) for word in ("python", "pip"))
    runs = interpreter_of_script(reader, installer, {"PATH": path}).path if installer is not None else None
    return ShellReach(
        python=interpreter_at(reader, python),
        installer=interpreter_at(reader, runs),
        python_path=python,
        installer_path=installer,
    )
