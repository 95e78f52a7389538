"""The recorder: a Reader and a Runner that keep everything read or asked through them, for a capture."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import cached_property
from typing import Any, ParamSpec, TypeVar

from msgspec.structs import replace

from kalyx.core.system.player import Capture, Normal, key_of, packed
from kalyx.core.system.reader import READ_LIMIT, FileKind, FileStat, Process, Reader, Refused, Unreadable
from kalyx.core.system.runner import Ended, Runner, Through
from kalyx.core.text.essence import Essence

Words = ParamSpec("Words")
Result = TypeVar("Result")


class Recorder(Reader):
    """Reads through another Reader, and keeps the results."""

    def __init__(self, inner: Reader, capture: Capture, essence: Essence | None = None) -> None:
        """``essence``: what is kept of files and command lines; by default one with a salt of its own."""
        self._inner, self._capture = inner, capture
        self._essence = essence or Essence(os.urandom(16))
        self.system, self.folder, self.home = inner.system, inner.folder, inner.home
        self.pid, self.user = inner.pid, inner.user
        self.variables = inner.variables

    def again(self) -> Recorder:
        """The same machine through the same recorder, with nothing computed yet."""
        return Recorder(self._inner, self._capture, self._essence)

    @property
    def refusals(self) -> Mapping[str, str]:  # type: ignore[override]
        """What the system refused to show so far, as the other Reader keeps it."""
        return self._inner.refusals

    @cached_property
    def cut(self) -> dict[str, str]:
        """What the other Reader read only up to a limit."""
        return self._inner.cut

    def _kept(self, read: Callable[Words, Result], *words: Words.args, **none: Words.kwargs) -> Result:
        """The result of a primitive of the other Reader; the capture holds it."""
        return self._kept_as(lambda result: result, read, *words, **none)

    def _kept_as(
        self,
        keep: Callable[[Result], object],
        read: Callable[Words, Result],
        *words: Words.args,
        **none: Words.kwargs,
    ) -> Result:
        """The same, where the capture holds only what ``keep`` leaves of it."""
        key = key_of((read.__name__, *words))
        try:
            result = read(*words, **none)
        except Unreadable as refusal:
            self._capture.readings[key] = {"refused": refusal.reason, "path": refusal.path}
            raise
        if key not in self._capture.readings:
            self._capture.readings[key] = packed(keep(result))
        return result

    def listing(self, folder: str) -> Mapping[str, FileKind]:
        return self._kept(self._inner.listing, folder)

    def kind(self, path: str) -> FileKind | Refused | None:
        return self._kept_as(lambda kind: "refused" if isinstance(kind, Refused) else kind, self._inner.kind, path)

    def link(self, path: str) -> str | None:
        return self._kept(self._inner.link, path)

    def status(self, path: str) -> FileStat | Refused | None:
        return self._kept(self._inner.status, path)

    def read(self, path: str, limit: int = READ_LIMIT, start: int = 0) -> bytes:
        keep = self._essence.content
        return self._kept_as(lambda content: keep(path, content, start), self._inner.read, path, limit, start)

    def digest(self, path: str, limit: int) -> str:
        return self._kept(self._inner.digest, path, limit)

    def may_read(self, path: str) -> bool:
        return self._kept(self._inner.may_read, path)

    def may_run(self, path: str) -> bool:
        return self._kept(self._inner.may_run, path)

    def process(self, pid: int) -> Process | None:
        return self._kept_as(self._of_process, self._inner.process, pid)

    def _of_process(self, process: Process | None) -> Process | None:
        return None if process is None else replace(process, command=self._essence.command(process.command))

    def processes(self) -> list[int]:
        return self._kept(self._inner.processes)

    def command_of(self, pid: int) -> tuple[str, ...]:
        return self._kept_as(self._essence.command, self._inner.command_of, pid)

    def loaded_by(self, pid: int) -> list[str]:
        return self._kept(self._inner.loaded_by, pid)

    def program_of(self, pid: int) -> str | None:
        return self._kept(self._inner.program_of, pid)

    def listens(self, pid: int, port: int) -> bool | None:
        return self._kept(self._inner.listens, pid, port)

    def registry(self, key: str) -> Mapping[str, str] | None:
        return self._kept(self._inner.registry, key)

    def registry_keys(self, key: str) -> list[str]:
        return self._kept(self._inner.registry_keys, key)

    def usage_of_files(self, paths: list[str]) -> int:
        return self._kept(self._inner.usage_of_files, paths)

    def usage(self, folder: str) -> tuple[int, int]:
        return self._kept(self._inner.usage, folder)

    def scan(self, path: str, pattern: bytes) -> list[bytes]:
        return self._kept(self._inner.scan, path, pattern)

    def served(self, words: list[Any], ask: Callable[[], Any]) -> Any:
        def served(*_: object) -> str:
            return json.dumps(ask())

        return json.loads(self._kept(served, *words))


class RecordingRunner(Through):
    """Starts through another Runner, and keeps how each program ended."""

    def __init__(self, inner: Runner, capture: Capture, base: Mapping[str, str]) -> None:
        super().__init__(inner)
        self._capture, self._base = capture, base
        self._normal = Normal()

    @contextmanager
    def empty_folder(self) -> Iterator[str]:
        with self._inner.empty_folder() as folder:
            self._normal.folders.append(folder)
            yield folder

    def chance(self, count: int) -> str:
        mark = self._inner.chance(count)
        self._normal.marks.append(mark)
        return mark

    def run(
        self, argv: list[str], *, variables: Mapping[str, str] | None = None, folder: str | None = None, **more: Any
    ) -> Ended:
        ended = self._inner.run(argv, variables=variables, folder=folder, **more)
        text = [self._normal.words(item.decode("utf-8", "surrogateescape")).encode("utf-8", "surrogateescape")
                for item in (ended.output, ended.errors)]  # fmt: skip
        # The first answer stays: later ones may be without a variable that the capture does not hold.
        self._capture.answers.setdefault(key_of(self._normal.key(argv, self._base, variables, folder)), [
            ended.status, packed(text[0]), packed(text[1]), round(ended.seconds, 4),
            ended.timed_out, ended.cut, ended.problem,
        ])  # fmt: skip
        return ended
