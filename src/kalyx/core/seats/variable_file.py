"""What ``python`` is after a variable file (``.envrc``) of the folder, or of the nearest above it, has been loaded.

Such a file is a script of a shell, which a loader runs where the user has allowed it; here it is read and never run.
"""

from __future__ import annotations

from msgspec.structs import replace

from kalyx.core.interpreters.shell_script import Functions, variables_after
from kalyx.core.interpreters.shell_syntax import Unsettled
from kalyx.core.model.records import Part, Seat
from kalyx.core.seats.build import seat_from, silent_seat, starting
from kalyx.core.system import Reader

_LIMIT = 32 * 1024
_FORM = ".envrc: terminal's Python"


def variable_file_seat(reader: Reader, folder: str, path: str) -> Seat | None:
    """The seat of a folder's variable file; None where the file does not change which Python starts."""
    text = reader.text_or_none(path, _LIMIT)
    before = _python_on(reader, reader.variable("PATH"))
    try:
        variables = variables_after(reader, path, text or "", _functions(reader, reader.parent(path)))
        if (after := variables.get("PATH", "")) is None:
            raise Unsettled("its PATH is worked out")
    except Unsettled as reason:
        reason_now = f"only loading {path} shows it: {reason}"
        return silent_seat("editor", _FORM, reason_now, folder, undecided=True, source=path)
    python = _python_on(reader, after)
    if python == before:
        return None
    if python is None:
        part = Part(role="terminal", word="python", reason="no python on the PATH that it sets")
    else:
        part = starting(reader, python, "terminal", "python")
    seat = seat_from("editor", _FORM, part, folder, [part], source=path)
    return replace(seat, label="where its loader is allowed to load it")


def _python_on(reader: Reader, path: str | None) -> str | None:
    return next((python for word in ("python", "python3") for python in reader.lookup(word, path or "")), None)


def _functions(reader: Reader, folder: str) -> Functions:
    """The functions that the loader has for such files: those that say something about PATH."""

    def path_add(words: list[str | None], variables: dict[str, str | None]) -> None:
        for word in reversed(words):
            before = variables.get("PATH", "")
            here = variables.get("PWD", folder)
            known = word is not None and before is not None and here is not None
            variables["PATH"] = f"{reader.absolute(word or '', here)}:{before}" if known else None

    def layout(words: list[str | None], variables: dict[str, str | None]) -> None:
        made = reader.join(folder, ".direnv")
        names = [name for name in reader.names(made) if name.startswith("python-")]
        if not (words[:1] and (words[0] or "").startswith("python")) or len(names) != 1:
            raise Unsettled("a layout whose folder only the loader knows")
        path_add([reader.join(made, names[0], "bin")], variables)

    def nothing(words: list[str | None], variables: dict[str, str | None]) -> None:
        return

    quiet = dict.fromkeys(("watch_file", "watch_dir", "log_status", "strict_env", "unstrict_env"), nothing)
    return {"PATH_add": path_add, "path_add": path_add, "layout": layout, **quiet}
