"""Answers of interpreters that were asked for their version, remembered between runs.

One small file in the user's cache folder, keyed by path, size, time and inode:
an interpreter that changed is asked again. A damaged or foreign file counts as
empty. The file is written under another name and renamed, so that two runs at once do no
harm: the last one wins, and an interpreter is asked twice at most.
"""

from __future__ import annotations

import json

from msgspec.structs import replace

from kalyx.core.interpreters.asking import ask_who
from kalyx.core.interpreters.consent import Gate, objection
from kalyx.core.model.records import Interpreter, KalyxError
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.own_files import believed, own_folder
from kalyx.core.system.reader import FileStat
from kalyx.core.system.runner import Runner
from kalyx.core.system.writer import Writer

_SCHEMA = "kalyx.remembered/1"
_LIMIT = 1024 * 1024


def cache_file(reader: Reader) -> str:
    """Where it is kept: the user's cache folder of the system."""
    return reader.join(own_folder(reader, "cache"), "interpreters.json")


def _key(reader: Reader, path: str) -> str | None:
    status = reader.status(path)
    if not isinstance(status, FileStat):
        return None
    return f"{path}|{status.size}|{status.modified_ns}|{status.device}:{status.inode}"


def _load(reader: Reader) -> dict[str, dict[str, str]]:
    try:
        whole = json.loads(believed(reader, cache_file(reader), _LIMIT))
    except (Unreadable, ValueError, RecursionError):
        return {}
    if not isinstance(whole, dict) or whole.get("schema") != _SCHEMA or not isinstance(whole.get("known"), dict):
        return {}
    wanted = {"version", "abi_flags"}
    return {
        key: value
        for key, value in whole["known"].items()
        if isinstance(value, dict) and set(value) == wanted and all(isinstance(text, str) for text in value.values())
    }


def completed(reader: Reader, runner: Runner, writer: Writer, interpreters: list[Interpreter]) -> list[Interpreter]:
    """The interpreters with the full versions that reading could not tell, from the cache or by asking.

    Only those that may be started are asked (``consent``).
    """
    unknown = [interpreter for interpreter in interpreters if interpreter.version.count(".") < 2]
    if not unknown:
        return interpreters
    known = _load(reader)
    keys = {interpreter.real_executable: _key(reader, interpreter.real_executable) for interpreter in unknown}
    may = [
        interpreter
        for interpreter in unknown
        if keys[interpreter.real_executable] and objection(reader, interpreter, "machine") is None
    ]
    new = [interpreter for interpreter in may if keys[interpreter.real_executable] not in known]
    paths = [interpreter.real_executable for interpreter in new]
    details = _asked(reader, Gate(runner, reader, set(paths)), paths)
    learned = {
        keys[interpreter.real_executable] or "": {"version": asked.version, "abi_flags": asked.abi_flags}
        for interpreter in new
        if (asked := details.get(interpreter.real_executable)) and asked.version.startswith(interpreter.version)
    }
    if learned:
        known |= learned
        _keep(reader, writer, known)
    full = {interpreter.real_executable: known.get(keys[interpreter.real_executable] or "") for interpreter in may}
    return [
        replace(interpreter, **words, known_by="asking")
        if interpreter in unknown and (words := full.get(interpreter.real_executable)) is not None
        else interpreter
        for interpreter in interpreters
    ]


def _asked(reader: Reader, runner: Runner, executables: list[str]) -> dict[str, Interpreter | None]:
    """Ask several interpreters at the same time, so that one without an answer delays no other."""
    several = list(dict.fromkeys(executables))
    if len(several) < 2:
        return {item: ask_who(reader, runner, item, 5.0) for item in several}
    from concurrent.futures import ThreadPoolExecutor

    pool = ThreadPoolExecutor(min(8, len(several)))
    try:
        waiting = {item: pool.submit(ask_who, reader, runner, item, 5.0) for item in several}
        return {item: answer.result() for item, answer in waiting.items()}
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _keep(reader: Reader, writer: Writer, known: dict[str, dict[str, str]]) -> None:
    path = cache_file(reader)
    try:
        writer.folder(reader.parent(path), private=True)
        writer.write(path, json.dumps({"schema": _SCHEMA, "known": known}).encode("utf-8"), mode=0o600)
    except KalyxError:
        pass  # a cache that cannot be kept costs a question next time, no more
