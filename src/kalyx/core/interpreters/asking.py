"""Asking an interpreter itself, where reading cannot know or the user asked for a trial."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, TypeVar

import msgspec
from msgspec import Struct

from kalyx.core.data import PROBE_PATH
from kalyx.core.interpreters.suffixes import suffixes_of
from kalyx.core.interpreters.versions import installation_at
from kalyx.core.model.records import Interpreter
from kalyx.core.system import Reader
from kalyx.core.text.versions import minor_of

if TYPE_CHECKING:
    from kalyx.core.system.runner import Ended, Runner


# Bytes of an answer, enough for several thousand modules with their paths.
_ANSWER_LIMIT = 32 * 1024 * 1024

Answer = TypeVar("Answer")


class Who(Struct):
    """What an interpreter says of itself."""

    executable: str | None
    version: str
    implementation: str
    prefix: str
    base_prefix: str
    path: list[str]
    abi_flags: str | None = None


class Parsed(Struct):
    """Whether a compiler takes a file, and its words where it does not."""

    parses: bool
    text: str = ""


def new_mark(runner: Runner) -> str:
    """A random mark that no program prints by accident."""
    return "kalyx" + runner.chance(12)


def answer_between(output: str, mark: str, kind: type[Answer]) -> Answer | None:
    """The answer between its marks, of this shape; None when it gave none, or what only looks like one."""
    import ast

    framed = output.split(mark)
    if len(framed) < 3:
        return None
    try:
        return msgspec.convert(ast.literal_eval(framed[-2]), kind)
    except (ValueError, TypeError, SyntaxError, MemoryError, RecursionError):  # a wrong shape is a ValueError
        return None


def ask_witness(
    runner: Runner,
    executable: str,
    flags: list[str],
    arguments: list[str],
    kind: type[Answer],
    *,
    variables: Mapping[str, str] | None = None,
    folder: str | None = None,
    seconds: float = 10.0,
    begun: Callable[[], None] | None = None,
) -> tuple[Answer | None, Ended]:
    """Run the probe in ``executable`` with ``flags`` and return its answer, of this shape, with how it ended."""
    mark = new_mark(runner)
    ended = runner.run(
        [executable, *flags, PROBE_PATH, mark, *arguments],
        variables=variables,
        folder=folder,
        seconds=seconds,
        limit=_ANSWER_LIMIT,
        bounded=True,
        begun=begun,
    )
    return answer_between(ended.output.decode("utf-8", "surrogateescape"), mark, kind), ended


def parsed_by(runner: Runner, executable: str, path: str) -> Parsed | None:
    """Whether an interpreter's compiler takes a file, of which nothing runs; None when it gives no answer."""
    flags = ["-E", "-s", "-S", "-B"]
    with runner.empty_folder() as empty:
        answer, _ = ask_witness(runner, executable, flags, ["parse", path], Parsed, folder=empty, seconds=10)
    return answer


def ask_who(
    reader: Reader, runner: Runner, executable: str, seconds: float = 10.0, *, with_site: bool = False
) -> Interpreter | None:
    """What the interpreter says of itself, without the user's packages. None when it gives no answer.

    Asked with ``-E -s -S -B`` from an empty folder, so that nothing a folder brought along runs. ``with_site``: without
    ``-S``, by which alone it knows its environment; start-up hooks run then, so only for what the user named.
    """
    flags = ["-E", "-s", "-B", *([] if with_site else ["-S"])]
    with runner.empty_folder() as empty:
        answer, _ = ask_witness(runner, executable, flags, ["who"], Who, folder=empty, seconds=seconds)
    if answer is None:
        return None
    base, version, implementation = answer.base_prefix, answer.version, answer.implementation
    installation = installation_at(reader, base, minor_of(version))
    library = (
        installation.library if installation is not None else reader.join(base, "lib", f"python{minor_of(version)}")
    )
    abi_flags = answer.abi_flags or ""
    return Interpreter(
        executable=executable,
        real_executable=reader.real(executable),
        version=version,
        implementation=implementation,
        prefix=answer.prefix,
        base_prefix=base,
        links=[executable],
        known_by="asking",
        abi_flags=abi_flags,
        library=library,
        suffixes=suffixes_of(reader, version, implementation, library, abi_flags, None),
    )
