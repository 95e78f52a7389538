"""Asking an interpreter itself, where reading cannot know or the user asked for a trial."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from kalyx.core.data import WITNESS_PATH
from kalyx.core.doors import Facts
from kalyx.core.interpreters.suffixes import suffixes_of
from kalyx.core.interpreters.versions import installation_at, minor_of
from kalyx.core.records import Interpreter

if TYPE_CHECKING:
    from kalyx.core.doors.starting import Ended, Runner


def new_mark(runner: Runner) -> str:
    """A mark no program prints by accident."""
    return "kalyx" + runner.chance(12)


def answer_between(output: bytes, mark: str) -> dict[str, Any] | None:
    """The witness's answer between its marks, or None when it gave none."""
    import ast

    framed = output.decode("utf-8", "surrogateescape").split(mark)
    if len(framed) < 3:
        return None
    try:
        answer = ast.literal_eval(framed[-2])
    except (ValueError, SyntaxError, MemoryError, RecursionError):
        return None
    return answer if isinstance(answer, dict) else None


def ask_witness(
    runner: Runner,
    executable: str,
    flags: list[str],
    arguments: list[str],
    *,
    variables: Mapping[str, str] | None = None,
    folder: str | None = None,
    seconds: float = 10.0,
    begun: Callable[[], None] | None = None,
) -> tuple[dict[str, Any] | None, Ended]:
    """Run the witness in ``executable`` with ``flags`` and return its answer with how it ended."""
    mark = new_mark(runner)
    ended = runner.run(
        [executable, *flags, WITNESS_PATH, mark, *arguments],
        variables=variables,
        folder=folder,
        seconds=seconds,
        bounded=True,
        begun=begun,
    )
    return answer_between(ended.output, mark), ended


def ask_who(facts: Facts, runner: Runner, executable: str, seconds: float = 10.0) -> Interpreter | None:
    """What the interpreter says of itself, without its start-up hooks or the user's packages.

    Asked with ``-E -s -S -B`` from an empty folder, so that nothing a folder
    brought along runs. None when it gives no answer.
    """
    with runner.empty_folder() as empty:
        answer, _ = ask_witness(runner, executable, ["-E", "-s", "-S", "-B"], ["who"], folder=empty, seconds=seconds)
    if answer is None:
        return None
    base, version, implementation = answer["base_prefix"], answer["version"], answer["implementation"]
    found = installation_at(facts, base, minor_of(version))
    library = found.library if found is not None else facts.join(base, "lib", f"python{minor_of(version)}")
    abi_flags = answer["abi_flags"] or ""
    return Interpreter(
        executable=executable,
        real_executable=facts.real(executable),
        version=version,
        implementation=implementation,
        prefix=answer["prefix"],
        base_prefix=base,
        links=[executable],
        known_by="asking",
        abi_flags=abi_flags,
        library=library,
        suffixes=suffixes_of(facts, version, implementation, library, abi_flags, None),
    )
