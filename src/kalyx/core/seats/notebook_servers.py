"""The notebook servers of this user: those that run, what they answer, and the one that answers for a subject."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import TYPE_CHECKING

from kalyx.core.kernels.folders import Server, kernel_folders, reach_folder
from kalyx.core.kernels.specs import as_the_server_lists, listed_kernels
from kalyx.core.model.records import Interpreter, Kernel, Reach, Unread
from kalyx.core.seats.answering import running_server, server_to_start
from kalyx.core.seats.notebook import ENDING
from kalyx.core.system import Reader, Unreadable

if TYPE_CHECKING:  # few machines have a server that runs
    from kalyx.core.seats.running import Live
    from kalyx.core.seats.server import RunningServer


class NotebookServers:
    """The servers, read lazily and each asked once; ``unread`` lists those that did not answer."""

    def __init__(
        self, reader: Reader, subject: str, seconds: float, of_shell: Callable[[], Interpreter | None]
    ) -> None:
        """``subject``: the notebook or folder asked about; ``of_shell``: what a server started in the shell runs."""
        self.reader, self.subject, self.seconds, self._of_shell = reader, subject, seconds, of_shell
        self.unread: list[Unread] = []
        self._silent: dict[int, Unreadable] = {}

    @cached_property
    def running(self) -> list[RunningServer]:
        """The notebook servers of this user that run now."""
        from kalyx.core.seats.server import running_servers

        return running_servers(self.reader)

    def ask(self, server: RunningServer, path: str) -> object:
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
            self.unread.append(Unread(path=server.path, reason=problem.reason))
            raise

    @cached_property
    def lives(self) -> list[Live]:
        """The kernels that run now, with the notebook of each where its server says so."""
        from kalyx.core.seats.running import live_kernels

        return live_kernels(self.reader, self.running, self.ask if self.running else None)

    @cached_property
    def serving(self) -> tuple[RunningServer, Server] | None:
        """The running server that answers for the subject; None where none does (``seats/answering.py``)."""
        if not self.running:
            return None
        lives = self.lives if self.subject.endswith(ENDING) else []
        return running_server(self.reader, self.running, self.subject, lives)

    @cached_property
    def answering(self) -> Server:
        """The notebook server that answers for the subject, running or not."""
        return self.serving[1] if self.serving is not None else server_to_start(self.reader, self._of_shell())

    @property
    def _seen(self) -> Reader:
        """The machine as the answering server sees it."""
        server = self.answering
        return self.reader.seen_by(server.variables, server.folder) if server.folder is not None else self.reader

    @cached_property
    def kernel_folders(self) -> list[str]:
        """The folders in which the answering server looks for kernels, first the one that wins."""
        return [folder.path for folder in kernel_folders(self._seen, self.answering)]

    def registered_in(self, reach: Reach, prefix: str) -> str:
        """The folder in which a kernel of this reach is registered for the server. Raises KalyxError."""
        return reach_folder(self._seen, reach, prefix, self.answering.variables)

    @cached_property
    def listed(self) -> list[Kernel]:
        """The kernels in those folders, as the answering server lists them where it runs."""
        kernels = listed_kernels(self._seen, self.answering)
        if self.serving is None:
            return kernels
        from kalyx.core.seats.server import listed_by

        server = self.serving[0]
        try:
            of_server = listed_by(server, self.ask)
            return as_the_server_lists(self._seen, kernels, of_server, self.answering, server.address)
        except Unreadable:
            return kernels
