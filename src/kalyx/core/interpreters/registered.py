"""What Windows' registry says of interpreters, and which of them the launcher ``py`` starts.

Entries by PEP 514: the user's before the machine's, those of 32-bit programs in a view of their own. The launcher by
PEP 397 and "Python Launcher for Windows" in Python's manual: an active environment, else the default version that a
variable or one of two ``py.ini`` files name, else the newest.
"""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.formats import ini
from kalyx.core.formats.span import Malformed
from kalyx.core.system import Reader
from kalyx.core.text.numbers import are_numbers

_HIVES = ("HKEY_CURRENT_USER", "HKEY_LOCAL_MACHINE")
_ROOTS = [f"{hive}\\Software\\{view}Python" for view in ("", "WOW6432Node\\") for hive in _HIVES]


class Registered(Struct):
    """One entry: who entered it, under which tag, its folder and its executable."""

    company: str
    tag: str
    prefix: str
    executable: str


def registered(reader: Reader) -> list[Registered]:
    """Every entry that names a folder or an executable, there or not."""
    result: dict[tuple[str, str, str], Registered] = {}
    for root in _ROOTS:
        for company in reader.registry_keys(root):
            if company.lower() == "pylauncher":
                continue
            for tag in reader.registry_keys(f"{root}\\{company}"):
                values = reader.registry(f"{root}\\{company}\\{tag}\\InstallPath") or {}
                prefix, executable = values.get(""), values.get("ExecutablePath")
                if prefix or executable:
                    prefix = reader.path.normpath(prefix or reader.parent(str(executable)))
                    executable = reader.path.normpath(executable or reader.join(prefix, "python.exe"))
                    result.setdefault((company, tag, prefix), Registered(company, tag, prefix, executable))
    return list(result.values())


def registered_paths(reader: Reader, tag: str, core: bool) -> list[tuple[str, str]]:
    """Folders that applications put on the search path of a version (``3.12``) by the registry, with their keys.

    Using Python on Windows, "Finding modules": the subkeys of ``PythonPath``, the user's first. ``core``: what the key
    itself says too, which counts where the library's folder was not found.
    """
    result = []
    for hive in _HIVES:
        root = f"{hive}\\Software\\Python\\PythonCore\\{tag}\\PythonPath"
        for key in [*(f"{root}\\{name}" for name in reader.registry_keys(root)), *([root] if core else [])]:
            value = (reader.registry(key) or {}).get("")
            result += [(entry, key) for entry in (value or "").split(";") if entry]
    return result


def launched(reader: Reader, launcher: str) -> tuple[str | None, str]:
    """The executable that ``py`` without words starts, and why that one; None and the reason where it starts none.

    ``launcher`` is the path of ``py.exe``: one of its settings files is next to it.
    """
    active = reader.variable("VIRTUAL_ENV")
    if active:
        return reader.join(active, "Scripts", "python.exe"), "VIRTUAL_ENV is set"
    wanted, why = _default(reader, launcher, "")
    if wanted in ("2", "3"):
        finer, because = _default(reader, launcher, wanted)
        wanted, why = (finer, because) if finer else (wanted, why)
    fit = [entry for entry in registered(reader) if _fits(entry, wanted)]
    if not fit:
        return None, f"py starts {wanted}, which is not entered ({why})" if wanted else "py finds no Python entered"
    best = max(fit, key=_order)  # of equals the first
    return best.executable, why or "it is the newest that is entered"


def _default(reader: Reader, launcher: str, major: str) -> tuple[str, str]:
    """The version that a variable or a settings file names for ``python`` or ``python3``, and where."""
    variable = f"PY_PYTHON{major}"
    value = (reader.variable(variable) or "").strip()
    if value:
        return value, f"{variable} is {value}"
    local = reader.variable("LOCALAPPDATA") or reader.join(reader.home, "AppData", "Local")
    for path in (reader.join(local, "py.ini"), reader.join(reader.parent(launcher), "py.ini")):
        text = reader.text_or_none(path, 64 * 1024)
        try:
            span = ini.read(text).get(("defaults", f"python{major}")) if text else None
        except Malformed:
            continue
        if span is not None and span.value.strip():
            return span.value.strip(), f"{path} says {span.value.strip()}"
    return "", ""


def _fits(entry: Registered, wanted: str) -> bool:
    """Whether an entry is of the wanted version: ``3``, ``3.12``, ``3.12-32``, ``3-64``; the newest: only real ones."""
    if entry.company.lower() != "pythoncore":
        return False
    version, _, bits = wanted.partition("-")
    tag, _, own = entry.tag.partition("-")
    if bits and (own or "64") != bits.removeprefix("bits"):
        return False
    return not version or tag == version or tag.startswith(version + ".")


def _order(entry: Registered) -> tuple[tuple[int, ...], bool]:
    tag, _, bits = entry.tag.partition("-")
    parts = tag.split(".")
    return tuple(int(part) for part in parts) if all(map(are_numbers, parts)) else (), not bits
