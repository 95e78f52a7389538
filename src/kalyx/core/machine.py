"""One lazy, read-only view of the machine, which seats, targets and findings share."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from functools import cached_property
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.environments.found import (
    bases_of,
    found_environments,
    found_interpreters,
    in_order_of_versions,
    names_of,
    with_name,
)
from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.reading import View, environment_of, read_environment
from kalyx.core.environments.searchpath import SearchPath, search_path
from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.kernels.folders import Server, kernel_folders, reach_folder
from kalyx.core.kernels.specs import UNLISTED, as_the_server_lists, id_from, listed_kernels
from kalyx.core.model.records import Environment, Interpreter, Kernel, Reach, Seat, Unread
from kalyx.core.seats import callers, shell
from kalyx.core.seats.answering import running_server, server_to_start
from kalyx.core.seats.notebook import ENDING
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.quoting import Unquotable, line_for, line_that_runs_output

if TYPE_CHECKING:
    from kalyx.core.imports.resolver import Resolver
    from kalyx.core.interpreters.consent import NamedBy
    from kalyx.core.packages.metadata import Installed
    from kalyx.core.seats.running import Live
    from kalyx.core.seats.server import RunningServer
    from kalyx.core.system.runner import Runner
    from kalyx.core.system.writer import Writer


class _Surveyed(Struct):
    """The environments that are known, under their names; ``everywhere``: with every installation, once asked for."""

    views: list[View]
    by_key: dict[str, Environment]
    everywhere: list[Environment] | None = None


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
        self.unread_servers: list[Unread] = []
        self._silent: dict[int, Unreadable] = {}
        self._meant: dict[str, Environment] = {}
        self._surveyed: _Surveyed | None = None
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

    # -- the survey -----------------------------------------------------------

    @cached_property
    def interpreters(self) -> list[Interpreter]:
        """Every interpreter of this machine that could be found, each installation once."""
        interpreters = found_interpreters(self.reader, self.unread)
        interpreters = in_order_of_versions(interpreters + bases_of(self.reader, self.views, interpreters))
        return self._complete(interpreters) if self._complete is not None else interpreters

    def know(self, environment: Environment | None) -> None:
        """Add an environment that is asked about to the known ones, wherever it is."""
        if environment is None or environment.key in self._meant:
            return
        self._meant[environment.key] = environment
        if self._surveyed is not None and environment.key not in self._surveyed.by_key:
            self._surveyed = None  # with one more the others may have other names

    @property
    def _known(self) -> _Surveyed:
        if self._surveyed is None:
            views = self._views()
            self._surveyed = _Surveyed(views, {view.environment.key: view.environment for view in views})
        return self._surveyed

    @property
    def views(self) -> list[View]:
        """Environments in the usual places and those that kernels and this shell start; named, unjudged."""
        return self._known.views

    def _views(self) -> list[View]:
        installed, prefixes = self.started(self._listed)
        pairs = found_environments(self.reader, installed, [], prefixes, self.unread)
        views = [view for view, _ in pairs]
        names = names_of(self.reader, [view.environment for view in views])
        return [replace(view, environment=with_name(view.environment, names)) for view in views]

    def started(self, kernels: list[Kernel]) -> tuple[list[Interpreter], list[str]]:
        """What kernels and this shell start and what was asked about: interpreters of installations, other prefixes."""
        environments = [kernel.environment for kernel in kernels]
        environments += [part.environment for part in self.shell_seat.parts]
        environments += self._meant.values()
        installed, prefixes = list[Interpreter](), list[str]()
        for environment in environments:
            if environment is not None and environment.target == environment.prefix:
                prefixes.append(environment.prefix)
            elif environment is not None:
                own = interpreter_at(self.reader, environment.target)
                installed += [own] if own is not None else []
        return installed, prefixes

    @property
    def environments(self) -> list[Environment]:
        """Every environment that is known without looking for more."""
        return list(self._known.by_key.values())

    def named(self, environment: Environment | None) -> Environment | None:
        """The environment with its unique name, for which all others are read."""
        if environment is None:
            return None
        known = self._known.by_key.get(environment.key)
        if known is None:
            return environment
        return replace(environment, name=known.name, called=known.called)

    def named_seat(self, seat: Seat) -> Seat:
        """The seat with its environments under their names."""
        parts = [replace(part, environment=self.named(part.environment)) for part in seat.parts]
        return replace(seat, environment=self.named(seat.environment), parts=parts)

    @property
    def all_environments(self) -> list[Environment]:
        """The environments in the usual places and every installation: where a package may be that is missing here."""
        known = self._known
        if known.everywhere is None:
            pairs = found_environments(
                self.reader, self.interpreters, [], [], self.unread, running=True, known=known.views
            )
            every = dict(known.by_key)
            for view, _ in pairs:
                every.setdefault(view.environment.key, view.environment)
            known.everywhere = list(every.values())
        return known.everywhere

    def environment_of(self, interpreter: Interpreter) -> Environment | None:
        """The known environment that an interpreter runs in, with its name."""
        return self._known.by_key.get(environment_of(self.reader, interpreter).key)

    def environment_at(self, path: str) -> Environment | None:
        """The known environment at a prefix or of the interpreter at a path, with its name."""
        if self.reader.is_folder(path):
            return self._known.by_key.get(read_environment(self.reader, path).environment.key)
        interpreter = interpreter_at(self.reader, path)
        return self.environment_of(interpreter) if interpreter is not None else None

    # -- kernels --------------------------------------------------------------

    @cached_property
    def servers(self) -> list[RunningServer]:
        """The notebook servers of this user that run now."""
        from kalyx.core.seats.server import running_servers

        return running_servers(self.reader)

    def ask_server(self, server: RunningServer, path: str) -> object:
        """What a running server answers; under ``--static`` too: it is read, no program is started.

        Its token goes only to the process that its file names, where that is the one that listens: a file can name
        any port, and any process can listen on one. Raises Unreadable.
        """
        from kalyx.core.system.loopback import ask_server

        if server.pid in self._silent:
            raise self._silent[server.pid]  # a server that did not answer once is not asked again
        asked: list[object] = [server.pid, server.port, path]
        try:
            if server.port is None or self.reader.listens(server.pid, server.port) is not True:
                refused = f"process {server.pid}, which it names, does not listen on port {server.port}"
                raise Unreadable(server.path, refused)
            return self.reader.served(
                asked, lambda: ask_server(server.address, server.token, path, min(self.seconds, 5))
            )
        except Unreadable as problem:
            self._silent[server.pid] = problem
            self.unread_servers.append(Unread(path=server.path, reason=problem.reason))
            raise

    @cached_property
    def lives(self) -> list[Live]:
        """The kernels that run now, with the notebook of each where its server says so."""
        from kalyx.core.seats.running import live_kernels

        ask = self.ask_server if self.servers else None
        return live_kernels(self.reader, self.servers, ask)

    @cached_property
    def serving(self) -> tuple[RunningServer, Server] | None:
        """The running server that answers for the subject; None where none does (``seats/answering.py``)."""
        if not self.servers:
            return None
        lives = self.lives if self.subject.endswith(ENDING) else []
        return running_server(self.reader, self.servers, self.subject, lives)

    @cached_property
    def server(self) -> Server:
        """The notebook server that answers for the subject, running or not."""
        if self.serving is not None:
            return self.serving[1]
        return server_to_start(self.reader, self.shell_seat.interpreter)

    @cached_property
    def kernels(self) -> list[Kernel]:
        """Registered kernels as the server would list them; unjudged but for their files."""
        return [kernel.changed(environment=self.named(kernel.environment)) for kernel in self._listed]

    @cached_property
    def kernel_folders(self) -> list[str]:
        """The folders in which the server looks for kernels, first the one that wins."""
        return [folder.path for folder in kernel_folders(self._seen_by_server, self.server)]

    @property
    def _seen_by_server(self) -> Reader:
        own = self.server.folder is not None
        return self.reader.seen_by(self.server.variables, self.server.folder) if own else self.reader

    def registered_in(self, reach: Reach, prefix: str) -> str:
        """The folder in which a kernel of this reach is registered for the server. Raises KalyxError."""
        return reach_folder(self._seen_by_server, reach, prefix, self.server.variables)

    def kernel_before(self, identifier: str, root: str) -> Kernel | None:
        """The kernel of this id that the server takes rather than one in the folder ``root``; None: that one wins."""
        folders = self.kernel_folders
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

    @cached_property
    def _listed(self) -> list[Kernel]:
        reader = self._seen_by_server
        kernels = listed_kernels(reader, self.server)
        if self.serving is None:
            return kernels
        from kalyx.core.seats.server import listed_by

        server = self.serving[0]
        try:
            return as_the_server_lists(reader, kernels, listed_by(server, self.ask_server), self.server, server.address)
        except Unreadable:
            return kernels

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

    def search(self, interpreter: Interpreter, invocation: Invocation) -> SearchPath:
        """The search path of an interpreter for a way of running, worked out once."""
        return search_path(self.reader, interpreter, invocation)

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
