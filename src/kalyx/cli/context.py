"""What every command needs from its call: the machine, the way to print, consent to change."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache, cached_property, partial
from typing import TYPE_CHECKING

from kalyx.core.kernels.folders import Server
from kalyx.core.machine import Machine
from kalyx.core.model.records import Interpreter, KalyxError, Seat, Unread
from kalyx.core.seats.notebook import ENDING
from kalyx.core.system import Reader
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.visible import visible

if TYPE_CHECKING:
    from msgspec import Struct
    from rich.status import Status
    from rich.text import Text

    from kalyx.cli.render.screen import Screen
    from kalyx.core.invocation import Question
    from kalyx.core.seats.server import RunningServer
    from kalyx.core.system.live_runner import LiveRunner
    from kalyx.core.system.runner import Runner
    from kalyx.core.system.writer import Writer

_NAMED = 3  # places that could not be read


class Call:
    """One call of Kalyx: its options and, lazily, the machine and the screen."""

    def __init__(
        self,
        options: argparse.Namespace,
        reader: Reader | None = None,
        runner: Runner | None = None,
        writer: Writer | None = None,
    ) -> None:
        """``reader``: the machine asked about, where it is not this one.

        ``runner`` and ``writer``: what starts programs and what changes files there.
        """
        self.options = options
        self._reader, self._own_runner, self._writer = reader, runner, writer
        self._let_through: set[str] = set()
        self._told: list[Unread] = []  # what the JSON answer says was not read
        if reader is None and getattr(options, "on", None):
            self._reader, self._own_runner = captured_system(options.on)

    def again(self, options: argparse.Namespace) -> Call:
        """Another call about the same machine, as it was read so far."""
        return self.handing_on(Call(options, self.machine.reader, self._own_runner, self._writer))

    def reread(self) -> Call:
        """The same call with nothing read yet: for use after a change."""
        reader = self._reader.again() if self._reader is not None else None
        return self.handing_on(Call(self.options, reader, self._own_runner, self._writer))

    def handing_on(self, call: Call) -> Call:
        """Another call, which may start what this one may."""
        call._let_through = self._let_through
        return call

    @cached_property
    def machine(self) -> Machine:
        """The machine asked about, read lazily; without a Runner under ``--static`` or where it is not this one."""
        reader = LiveReader() if self._reader is None else self._reader
        folder = getattr(self.options, "folder", None)
        if folder is not None:
            reader.folder = reader.absolute(folder)
            if not reader.is_folder(reader.folder):
                what = "is not a folder" if reader.exists(reader.folder) else NOTHING_THERE
                raise KalyxError(f"{visible(reader.folder)}: {what}")
        # --static is a run without a Runner.
        start: Callable[[], Runner] | None = None
        complete: Callable[[list[Interpreter]], list[Interpreter]] | None = None
        own = self._own_runner
        if not self.options.static and isinstance(reader, LiveReader):
            start, complete = _runner, partial(_completed, reader)
        elif not self.options.static and own is not None:
            start, complete = (lambda: own), partial(_completed_elsewhere, reader, own)
        subject = _notebook_of(self.options, reader)
        machine = Machine(reader, start, self.options.timeout, complete, subject, self._let_through, self._writer)
        seen_by = getattr(self.options, "seen_by", None)
        if seen_by is not None:
            machine.servers.serving, machine.servers.answering = server_of(machine, seen_by)
        return machine

    @cached_property
    def screen(self) -> Screen:
        """What the answer is drawn on: width and colour of the terminal, plain in a pipe."""
        from kalyx.cli.render.screen import Screen

        return Screen(self.machine, plain=self.options.plain)

    def tell_what_was_not_read(self) -> None:
        """Print on standard error what was read only up to a limit, or refused, unless the answer names that."""
        cut, refused = list[Unread](), list[Unread]()
        for place, is_cut in self._unread() if "machine" in self.__dict__ else ():
            is_shown = "screen" in self.__dict__ and self.screen.has_shown(place)
            if place not in self._told and (is_cut or not is_shown):
                (cut if is_cut else refused).append(place)
        for place in cut:
            print(f"kalyx: {visible(place.path)}: {place.reason}", file=sys.stderr)
        most = len(refused) if self.options.verbose else _NAMED
        named = ", ".join(f"{visible(place.path)} ({visible(place.reason)})" for place in refused[:most])
        more = f" and {len(refused) - most} more (-v names them)" if len(refused) > most else ""
        if refused:
            print(f"kalyx: the answer may lack what could not be read: {named}{more}", file=sys.stderr)

    def _unread(self) -> Iterator[tuple[Unread, bool]]:
        """What was read only up to a limit (True), and what the system refused to show."""
        for places, is_cut in ((self.machine.reader.cut, True), (self.machine.reader.refused_places(), False)):
            yield from ((Unread(path=path, reason=reason), is_cut) for path, reason in places.items())

    @property
    def question(self) -> Question:
        """Whether the user named the target, and the command line that the code was run by.

        The default target and the seats of ``--everywhere`` are not named.
        """
        from kalyx.core import invocation

        options = self.options
        named = getattr(options, "target", None) is not None and not getattr(options, "unnamed", False)
        return invocation.Question(named, getattr(options, "command_line", None))

    @property
    def as_json(self) -> bool:
        """Whether the answer is to be one JSON object."""
        return bool(self.options.json)

    @property
    def at_terminal(self) -> bool:
        """Whether a user at a terminal can be asked."""
        return sys.stdin.isatty() and sys.stderr.isatty()

    def take_target_of_command(self) -> None:
        """Where no target is named, the interpreter that the command line of ``--as`` names by a path is the target."""
        from kalyx.core.invocation import command_given

        options, reader = self.options, self.machine.reader
        if options.target is None and options.command_line is not None:
            program = command_given(reader, options.command_line).program
            options.target = reader.absolute(program) if reader.path.dirname(program) else None

    def target(self, text: str | None) -> Seat:
        """The seat of a TARGET, or the default one, its environment under its name."""
        return self.machine.environments.named_seat(self.seat(text))

    def seat(self, text: str | None) -> Seat:
        """The seat of a TARGET, or the default one; its environment gets no unique name, for which all are read."""
        from kalyx.core.targets import default_seat, resolve

        return default_seat(self.machine) if text is None else resolve(self.machine, text)

    def target_to_change(self, text: str | None) -> Seat:
        """The seat of a TARGET that is to be changed, or the default one. Raises KalyxError."""
        from kalyx.core.targets import default_seat, resolve_to_change

        seat = default_seat(self.machine) if text is None else resolve_to_change(self.machine, text)
        return self.machine.environments.named_seat(seat)

    def print_json(self, answer: Struct) -> None:
        """Print one answer as JSON, by its schema."""
        import msgspec
        from msgspec.structs import replace

        from kalyx.core.text.redaction import may_hold_a_secret

        unread: list[Unread] | None = getattr(answer, "unread", None)
        if unread is not None and "machine" in self.__dict__:
            known = {place.path for place in unread}
            # In a copy: whether the command found something is not decided by what is added.
            self._told = unread + [place for place, _ in self._unread() if place.path not in known]
            answer = replace(answer, unread=self._told)
        text = _json_of(answer)
        if may_hold_a_secret(text):
            text = _json_of(_without_secrets(msgspec.to_builtins(answer)))
        sys.stdout.buffer.write(_fit_for_a_terminal(text).encode("utf-8") + b"\n")
        sys.stdout.buffer.flush()

    @property
    def wheels(self) -> str | None:
        """The folder of wheels to install from, or None for the index. Raises KalyxError where it is not there."""
        named = self.options.wheels
        path = self.machine.reader.absolute(named) if named else None
        if path is not None and not self.machine.reader.is_folder(path):
            raise KalyxError(f"{visible(path)}: {NOTHING_THERE}")
        return path

    @contextmanager
    def progress(self, message: str) -> Iterator[Callable[[str], None]]:
        """Show on standard error what is being done, from half a second on; nothing in a pipe."""
        if self.as_json or self.options.plain or not sys.stderr.isatty():
            yield lambda text: None
            return
        from threading import Lock, Timer

        shown: list[Status] = []  # the status that is drawn, once the work takes that long
        latest, lock = [message], Lock()

        def drawn() -> Text:
            from rich.text import Text

            return Text(visible(latest[0]), overflow="ellipsis", no_wrap=True)  # a bracket in the text is no mark-up

        def begin() -> None:
            from rich.console import Console

            with lock:
                if not over:
                    shown.append(Console(stderr=True).status(drawn(), spinner="line"))
                    shown[0].start()

        def tell(text: str) -> None:
            latest[0] = f"{message} {text}"
            if shown:
                shown[0].update(drawn())

        over: list[bool] = []
        timer = Timer(0.5, begin)
        timer.daemon = True
        timer.start()
        try:
            yield tell
        finally:
            timer.cancel()
            with lock:
                over.append(True)
                if shown:
                    shown[0].stop()

    def may_change(self, question: str) -> bool:
        """Whether the user agrees; False for a dry run. Raises KalyxError where nobody can be asked."""
        if self.options.dry_run:
            return False
        if self.options.yes:
            return True
        if not self.at_terminal:
            raise KalyxError("nothing was changed: cannot ask without a terminal; add --yes")
        sys.stderr.write(f"{visible(question)} [y/N] ")
        sys.stderr.flush()
        if sys.stdin.readline().strip().lower() not in ("y", "yes"):
            raise KalyxError("nothing was changed")
        return True


def _json_of(value: object) -> str:
    """An answer, or a part of one, as JSON text."""
    import msgspec

    try:
        return msgspec.json.format(msgspec.json.encode(value), indent=1).decode("utf-8")
    except UnicodeEncodeError:
        import json

        # Lone surrogates stand for bytes that are no text; only ASCII escapes can carry them.
        return json.dumps(msgspec.to_builtins(value), indent=1, ensure_ascii=True)


def _without_secrets(value: object) -> object:
    """The parts of an answer, without credentials in its addresses and command lines."""
    from kalyx.core.text.redaction import redacted, redacted_words

    without = cache(redacted)  # many texts stand in each item of a list

    def cleared(value: object, is_line: bool = False) -> object:
        if isinstance(value, str):
            return without(value)
        if isinstance(value, dict):
            return {key: cleared(item, key in ("argv", "command")) for key, item in value.items()}
        if isinstance(value, (list, tuple)):
            if is_line and all(isinstance(item, str) for item in value):
                return redacted_words(value)
            return [cleared(item) for item in value]
        return value

    return cleared(value)


def _fit_for_a_terminal(text: str) -> str:
    """JSON whose control and direction characters are written as escapes: a parser reads the same values."""
    if text.isascii() and "\x7f" not in text:
        return text
    return "".join(item if item.isprintable() or item in "\n\r\t" else _escape(item) for item in text)


def _escape(character: str) -> str:
    code = ord(character)
    if code < 0x10000:
        return f"\\u{code:04x}"
    code -= 0x10000
    return f"\\u{0xD800 + (code >> 10):04x}\\u{0xDC00 + (code & 0x3FF):04x}"


def _completed(reader: Reader, interpreters: list[Interpreter]) -> list[Interpreter]:
    """Ask interpreters for what reading could not tell, and remember the answers; on most machines none is asked."""
    if any(interpreter.version.count(".") < 2 for interpreter in interpreters):
        from kalyx.core.actions.version_cache import completed
        from kalyx.core.system.live_writer import LiveWriter

        return completed(reader, _runner(), LiveWriter(), interpreters)
    return interpreters


def captured_system(name: str) -> tuple[Reader, Runner | None]:
    """The Reader and Runner of a captured machine, or of a made-up one that ships with Kalyx. Raises KalyxError."""
    import os

    from kalyx.core.system.player import machine_of, read_capture
    from kalyx.demo.machines import MACHINES

    if name in MACHINES and not os.path.exists(name):
        return MACHINES[name](), None
    return machine_of(read_capture(name))


def _completed_elsewhere(reader: Reader, runner: Runner, interpreters: list[Interpreter]) -> list[Interpreter]:
    """The same through another Reader and Runner; the answers are not remembered on this machine."""
    from kalyx.core.actions.version_cache import completed
    from kalyx.core.system.writer import NoWriter

    return completed(reader, runner, NoWriter(), interpreters)


def _runner() -> LiveRunner:
    from kalyx.core.system.live_runner import LiveRunner

    return LiveRunner()


def _notebook_of(options: argparse.Namespace, reader: Reader) -> str | None:
    """The notebook that a call names, by its path: it decides which notebook server answers."""
    words = [getattr(options, name, None) for name in ("notebook", "target", "seat", "left", "right")]
    words += getattr(options, "what", [])
    named = (word for word in words if word and (word.startswith("notebook:") or word.endswith(ENDING)))
    return next((reader.absolute(word.removeprefix("notebook:")) for word in named), None)


def server_of(machine: Machine, target: str) -> tuple[tuple[RunningServer, Server] | None, Server]:
    """The notebook server that a target names: a running one with what is known of it, else the one it would run."""
    from kalyx.core.invocation import interpreter_of
    from kalyx.core.seats.answering import called
    from kalyx.core.targets import resolve

    seat, why = resolve(machine, target), "--seen-by names it"
    for running in machine.servers.running if seat.seat == "server" else []:
        if running.path == seat.source:
            server = called(running, why)  # with the server's own variables and current folder
            return (running, server), server
    interpreter = interpreter_of(seat, machine, so="it can be no server")
    return None, Server(interpreter, machine.reader.variables, f"a server of {target}", why=why)
