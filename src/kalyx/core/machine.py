"""One lazy, read-only view of the machine, which seats, targets and findings share."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from functools import cached_property
from typing import TYPE_CHECKING

from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.known import Environments
from kalyx.core.environments.searchpath import search_path
from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.kernels.specs import UNLISTED, id_from
from kalyx.core.model.records import Environment, Interpreter, Kernel, Seat, Unread
from kalyx.core.seats import callers, shell
from kalyx.core.seats.notebook_servers import NotebookServers
from kalyx.core.system import Reader
from kalyx.core.text.quoting import Unquotable, line_for, line_that_runs_output

if TYPE_CHECKING:
    from kalyx.core.imports.resolver import Resolver
    from kalyx.core.interpreters.consent import NamedBy
    from kalyx.core.kernels.folders import Server
    from kalyx.core.packages.metadata import Installed
    from kalyx.core.system.runner import Runner
    from kalyx.core.system.writer import Writer


class Machine:
    """A Reader, a factory of Runners (None under ``--static``), and everything computed from them, once."""

    def __init__(
        self,
        reader: Reader,
        start: Callable[[], Runner] | None = None,
        seconds: float = 20.0,
        complete: Callable[[list[Interpreter]], list[Interpreter]] | None = None,
        subject: str | None = None,
        let_through: set[str] | None = None,
        writer: Writer | None = None,
    ) -> None:
        """``complete`` fills in what only asking tells of the interpreters that were read (their full version).

        ``subject``: the notebook asked about, by its path; None: the current folder. It decides which server answers.
        ``let_through``: the paths of programs that may be started; what this machine lets through is added.
        ``writer``: what changes this machine; None: the live one.
        """
        self.reader = reader
        self._writer = writer
        self.subject = subject or reader.folder
        self._complete = complete
        self._start = start
        self.seconds = seconds
        self.unread: list[Unread] = []
        self._let_through: set[str] = set() if let_through is None else let_through
        self._resolvers: dict[str, Resolver] = {}
        self._installed: dict[str, list[Installed]] = {}

    @cached_property
    def runner(self) -> Runner | None:
        """The Runner of other programs, made when the first is started: most questions need none."""
        from kalyx.core.interpreters.consent import Gate

        return Gate(self._start(), self.reader, self._let_through) if self._start is not None else None

    @cached_property
    def writer(self) -> Writer:
        """What changes this machine, loaded when the first change is made."""
        from kalyx.core.system.live_writer import LiveWriter

        return self._writer or LiveWriter()

    def objection(self, interpreter: Interpreter, named_by: NamedBy) -> str | None:
        """Why the interpreter may not be started, in words; None where it may: then the Runner starts it."""
        from kalyx.core.interpreters.consent import objection

        result = objection(self.reader, interpreter, named_by)
        if result is None:
            self.let_through(interpreter.executable)
        return result

    def let_through(self, path: str) -> None:
        """Have the Runner start this program: the user named it, or Kalyx made it."""
        self._let_through.add(path)

    @cached_property
    def shell(self) -> callers.ShellFound:
        """The shell that Kalyx was started from, and the source of that."""
        return callers.find_shell(self.reader)

    @cached_property
    def shell_seat(self) -> Seat:
        """What ``python`` starts in that shell."""
        return shell.read_shell(self.reader, self.shell)

    def line(self, argv: list[str]) -> str:
        """The line that starts ``argv`` in the user's shell; where that cannot carry a word, the reason instead."""
        try:
            return line_for(argv, self.shell.name)
        except Unquotable as refusal:
            return f"(no line of {self.shell.name} carries {refusal.word!r}: {refusal.reason})"

    def line_to_enter(self, prefix: str) -> str:
        """The line that enters an environment in the user's shell, as it is pasted."""
        argv = ["kalyx", "enter", prefix]
        try:
            return line_that_runs_output(argv, self.shell.name)
        except Unquotable:
            return self.line(argv)

    # -- environments and servers ---------------------------------------------

    @cached_property
    def environments(self) -> Environments:
        """The environments in the usual places and those that kernels and this shell start."""

        def started() -> list[Environment | None]:
            of_shell = [part.environment for part in self.shell_seat.parts]
            return [kernel.environment for kernel in self.servers.listed] + of_shell

        return Environments(self.reader, self.unread, started, self._complete)

    @property
    def interpreters(self) -> list[Interpreter]:
        """Every interpreter of this machine that could be found, each installation once."""
        return self.environments.interpreters

    @cached_property
    def servers(self) -> NotebookServers:
        """The notebook servers of this user, and which of them answers for the subject."""
        return NotebookServers(self.reader, self.subject, self.seconds, lambda: self.shell_seat.interpreter)

    @property
    def server(self) -> Server:
        """The notebook server that answers for the subject, running or not."""
        return self.servers.answering

    @cached_property
    def kernels(self) -> list[Kernel]:
        """Registered kernels as the server would list them; unjudged but for their files."""
        named = self.environments.named
        return [kernel.changed(environment=named(kernel.environment)) for kernel in self.servers.listed]

    def kernel_before(self, identifier: str, root: str) -> Kernel | None:
        """The kernel of this id that the server takes rather than one in the folder ``root``; None: that one wins."""
        folders = self.servers.kernel_folders
        order = {folder: number for number, folder in enumerate(folders)}
        own = order.get(root, len(folders))
        for kernel in self.kernels:
            at = order.get(self.reader.parent(kernel.folder))
            # The server itself lists kernels that are in none of the folders.
            wins = UNLISTED not in kernel.conditions and (at < own if at is not None else self._is_served(kernel))
            if kernel.id == identifier and wins:
                return kernel
        return None

    def free_id(self, name: str) -> str:
        """An id for a kernel of the environment of this name that no registered kernel has."""
        base = id_from(name)
        taken = {kernel.id for kernel in self.kernels}
        endings = ("", *(f"-{number}" for number in range(2, len(taken) + 3)))
        return next(base + ending for ending in endings if base + ending not in taken)

    @staticmethod
    def _is_served(kernel: Kernel) -> bool:
        """Whether only the server's own answer names this kernel."""
        return kernel.folder.startswith(("http://", "https://"))

    def kernel_by_id(self, identifier: str) -> Kernel | None:
        """The kernel a server takes for this id: the first in its folders."""
        return self._kernels_by_id.get(identifier.lower())

    def kernels_called(self, identifier: str) -> int:
        """How many registered kernels have this id."""
        return self._counts_of_ids[identifier]

    @cached_property
    def _counts_of_ids(self) -> Counter[str]:
        return Counter(kernel.id for kernel in self.kernels)

    @cached_property
    def _kernels_by_id(self) -> dict[str, Kernel]:
        listed = [kernel for kernel in self.kernels if UNLISTED not in kernel.conditions]
        return {kernel.id: kernel for kernel in reversed(listed)}

    # -- packages and modules -------------------------------------------------

    def resolver(self, environment: Environment) -> Resolver | None:
        """What the environment's own interpreter finds, without any seat's variables or folder."""
        if environment.key not in self._resolvers:
            interpreter = interpreter_at(self.reader, environment.executable)
            if interpreter is None:
                return None
            from kalyx.core.imports.resolver import Resolver

            search = search_path(self.reader, interpreter, Invocation(variables={}, no_user=True))
            self._resolvers[environment.key] = Resolver(self.reader, interpreter, search, self.reader.folder)
        return self._resolvers[environment.key]

    def installed(self, sites: list[str]) -> list[Installed]:
        """Every distribution in these site folders, the first folder first."""
        return [distribution for site in sites for distribution in self._installed_in(site)]

    def _installed_in(self, site: str) -> list[Installed]:
        if site not in self._installed:
            from kalyx.core.packages.metadata import installed_in

            self._installed[site] = installed_in(self.reader, site)
        return self._installed[site]

    def distribution_of_module(self, module: str, sites: list[str]) -> Installed | None:
        """The distribution in these folders that provides a top-level module, by its metadata."""
        top = module.split(".")[0]
        candidates = self.installed(sites)
        candidates.sort(key=lambda candidate: candidate.key != top.lower().replace("_", "-"))
        return next((distribution for distribution in candidates if distribution.provides(top)), None)
