"""What is known of the interpreters and environments of a machine, each read once and under its unique name."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cached_property

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
from kalyx.core.environments.reading import View, environment_of, read_environment
from kalyx.core.interpreters.reading import interpreter_at
from kalyx.core.model.records import Environment, Interpreter, Seat, Unread
from kalyx.core.system import Reader


class _Usual(Struct):
    """The environments that are known, under their names; ``everywhere``: with every installation, once asked for."""

    views: list[View]
    by_key: dict[str, Environment]
    everywhere: list[Environment] | None = None


class Environments:
    """The environments in the usual places, those that something starts, and those that were asked about."""

    def __init__(
        self,
        reader: Reader,
        unread: list[Unread],
        started: Callable[[], Iterable[Environment | None]],
        complete: Callable[[list[Interpreter]], list[Interpreter]] | None,
    ) -> None:
        """``started``: the environments of kernels and seats. ``unread`` takes the places that could not be read.

        ``complete`` fills in what only asking tells of the interpreters that were read (their full version).
        """
        self.reader, self.unread, self._started, self._complete = reader, unread, started, complete
        self._asked_about: dict[str, Environment] = {}
        self._read: _Usual | None = None

    @cached_property
    def interpreters(self) -> list[Interpreter]:
        """Every interpreter of this machine that could be found, each installation once."""
        interpreters = found_interpreters(self.reader, self.unread)
        interpreters = in_order_of_versions(interpreters + bases_of(self.reader, self.views, interpreters))
        return self._complete(interpreters) if self._complete is not None else interpreters

    def add(self, environment: Environment | None) -> None:
        """Add an environment that is asked about to the known ones, wherever it is."""
        if environment is None or environment.key in self._asked_about:
            return
        self._asked_about[environment.key] = environment
        if self._read is not None and environment.key not in self._read.by_key:
            self._read = None  # with one more the others may have other names

    @property
    def _usual(self) -> _Usual:
        if self._read is None:
            installed, prefixes = self.started()
            found = found_environments(self.reader, installed, [], prefixes, self.unread)
            names = names_of(self.reader, [view.environment for view in found])
            views = [replace(view, environment=with_name(view.environment, names)) for view in found]
            self._read = _Usual(views, {view.environment.key: view.environment for view in views})
        return self._read

    @property
    def views(self) -> list[View]:
        """Every environment that is known without looking for more, as it was read; named, unjudged."""
        return self._usual.views

    @property
    def known(self) -> list[Environment]:
        """The same as records."""
        return list(self._usual.by_key.values())

    @property
    def everywhere(self) -> list[Environment]:
        """The known environments and every installation: where a package may be that is missing here."""
        usual = self._usual
        if usual.everywhere is None:
            views = found_environments(
                self.reader, self.interpreters, [], [], self.unread, running=True, known=usual.views
            )
            every = {view.environment.key: view.environment for view in views}
            usual.everywhere = list((every | usual.by_key).values())
        return usual.everywhere

    def started(self) -> tuple[list[Interpreter], list[str]]:
        """What kernels and seats start and what was asked about: interpreters of installations, other prefixes."""
        installed, prefixes = list[Interpreter](), list[str]()
        for environment in [*self._started(), *self._asked_about.values()]:
            if environment is not None and environment.target == environment.prefix:
                prefixes.append(environment.prefix)
            elif environment is not None:
                own = interpreter_at(self.reader, environment.target)
                installed += [own] if own is not None else []
        return installed, prefixes

    def named(self, environment: Environment | None) -> Environment | None:
        """The environment with its unique name, for which all others are read."""
        known = self._usual.by_key.get(environment.key) if environment is not None else None
        if environment is None or known is None:
            return environment
        return replace(environment, name=known.name, called=known.called)

    def named_seat(self, seat: Seat) -> Seat:
        """The seat with its environments under their names."""
        parts = [replace(part, environment=self.named(part.environment)) for part in seat.parts]
        return replace(seat, environment=self.named(seat.environment), parts=parts)

    def of(self, interpreter: Interpreter) -> Environment | None:
        """The known environment that an interpreter runs in, with its name."""
        return self._usual.by_key.get(environment_of(self.reader, interpreter).key)

    def at(self, path: str) -> Environment | None:
        """The known environment at a prefix or of the interpreter at a path, with its name."""
        if self.reader.is_folder(path):
            return self._usual.by_key.get(read_environment(self.reader, path).environment.key)
        interpreter = interpreter_at(self.reader, path)
        return self.of(interpreter) if interpreter is not None else None
