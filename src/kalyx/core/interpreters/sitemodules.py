"""A site's module system: which modules are loaded, which are available, and which variables their files set.

Two forms of module files are read and never run: the Tcl form (first line
``#%Module``, documented in modulefile(5)) and the Lua form (ending ``.lua``).
Only literal words and the file's own plain variables are followed; what a file
computes by code stays unknown. Both systems list the loaded modules in
``LOADEDMODULES`` and ``_LMFILES_``, and the folders of others in ``MODULEPATH``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

from kalyx.core.system import Reader
from kalyx.core.text.lines import LONGEST_LINE, lines_of
from kalyx.core.text.patterns import pattern

_FILE_LIMIT = 64 * 1024
_FILES_LIMIT = 2000
_DEEPEST = 20
_WITHOUT_COMMENT = pattern(r"""(?:"[^"]{0,4000}"|'[^']{0,4000}'|(?!--).)*""")

# What sets a value in either form, after its words were taken apart.
_PREPENDS = {"prepend-path", "append-path", "prepend_path", "append_path"}
_SETS = {"setenv", "pushenv"}


class SiteModule(Struct, frozen=True):
    """One module: its name with the version, and its file."""

    name: str
    path: str


class Setting(Struct, frozen=True):
    """What one line of a module file does to a variable."""

    variable: str
    value: str
    line: int
    adds: bool


def loaded_modules(reader: Reader) -> list[SiteModule]:
    """The modules that this process's variables say are loaded, in the order they were."""
    names = [name for name in (reader.variable("LOADEDMODULES") or "").split(":") if name]
    files = (reader.variable("_LMFILES_") or "").split(":")
    return [SiteModule(name, path) for name, path in zip(names, files, strict=False) if reader.path.isabs(path)]


def available_modules(reader: Reader) -> Iterator[SiteModule]:
    """Modules below ``MODULEPATH`` whose name has ``python`` in it, versions first folder first."""
    seen = 0
    for root in (reader.variable("MODULEPATH") or "").split(":"):
        if not reader.path.isabs(root):
            continue
        for name in reader.names(root):
            if "python" not in name.lower():
                continue
            path = reader.join(root, name)
            inner = reader.names(path) if reader.is_folder(path) else [""]
            for version in inner:
                seen += 1
                if seen > _FILES_LIMIT:
                    return
                if not version.startswith("."):
                    called = f"{name}/{version}" if version else name
                    yield SiteModule(called.removesuffix(".lua"), reader.join(path, version) if version else path)


def settings_of(reader: Reader, module: SiteModule) -> list[Setting]:
    """What a module file says it sets, by its literal lines; nothing for one that cannot be read."""
    text = reader.text_or_none(module.path, _FILE_LIMIT) or ""
    if module.path.endswith(".lua"):
        return list(_lua_settings(text))
    return list(_tcl_settings(text)) if text.startswith("#%Module") else []


def _tcl_settings(text: str) -> Iterator[Setting]:
    known: dict[str, str] = {}

    def filled(word: str) -> str:
        whole = re.sub(
            r"\$(?:\{(\w+)\}|(\w+))", lambda match: known.get(match[1] or match[2], match[0]), word.strip('"{}')
        )
        return whole[:LONGEST_LINE]

    for number, line in lines_of(text):
        words = re.findall(r'"[^"]*"|\S+', line)
        while len(words) > 1 and words[1].startswith("-"):
            del words[1 : 3 if words[1] in ("-d", "--delim") else 2]
        if len(words) == 3 and words[0] == "set":
            known[words[1]] = filled(words[2])
        elif len(words) >= 3 and words[0] in _PREPENDS | _SETS:
            value = filled(words[2])
            if "$" not in value and "[" not in value:
                yield Setting(words[1], value, number, words[0] in _PREPENDS)


def _lua_settings(text: str) -> Iterator[Setting]:
    known: dict[str, str] = {}

    def value_of(expression: str, deep: int = 0) -> str | None:
        expression = expression.strip()
        if deep > _DEEPEST:
            return None
        joined = re.fullmatch(r"pathJoin\s*\((.*)\)", expression)
        if joined:
            parts = [value_of(part, deep + 1) for part in joined[1].split(",")]
            return None if None in parts else "/".join(part.rstrip("/") for part in parts if part)[:LONGEST_LINE]
        if ".." in expression and not expression.startswith(('"', "'")) or '" ..' in expression or '"..' in expression:
            parts = [value_of(part, deep + 1) for part in expression.split("..")]
            return None if None in parts else "".join(part for part in parts if part)[:LONGEST_LINE]
        quoted = re.fullmatch(r"""(["'])(.*)\1""", expression)
        return quoted[2] if quoted else known.get(expression)

    for number, line in lines_of(text):
        code = _WITHOUT_COMMENT.match(line)
        line = code[0].strip() if code is not None else ""
        named = re.match(r"(?:local\s+)?(\w+)\s*=(.+)", line)
        called = re.match(r"""(\w+)\s*[({]\s*["'](\w+)["']\s*,(.+)[)}]$""", line)
        if called and called[1] in _PREPENDS | _SETS:
            value = value_of(called[3])
            if value is not None:
                yield Setting(called[2], value, number, called[1] in _PREPENDS)
        elif named:
            value = value_of(named[2])
            if value is not None:
                known[named[1]] = value


def module_prefixes(reader: Reader) -> Iterator[str]:
    """Roots of Python installations that modules, loaded or not, put on ``PATH``."""
    for name in sorted(reader.variables):
        # The variables that such systems' module files set, where no file tells more.
        if name in ("PYTHON_ROOT", "PYTHON_HOME", "PYTHON_BASE", "EBROOTPYTHON", "EBROOTPYTHON3"):
            value = reader.variables[name]
            if reader.path.isabs(value) and reader.is_folder(value):
                yield reader.path.normpath(value)
    for module in [*loaded_modules(reader), *available_modules(reader)]:
        for setting in settings_of(reader, module):
            if setting.variable == "PATH" and reader.path.isabs(setting.value):
                folder = reader.path.normpath(setting.value)
                if reader.name(folder) == "bin" and reader.is_folder(folder):
                    yield reader.parent(folder)


def bringing(reader: Reader, path: str, variable: str) -> tuple[SiteModule, Setting] | None:
    """The loaded module, with its line, that put ``path`` or what it is in into ``variable``; or None."""
    for module in loaded_modules(reader):
        for setting in settings_of(reader, module):
            if (
                setting.variable == variable
                and setting.value
                and reader.inside(path, reader.path.normpath(setting.value))
            ):
                return module, setting
    return None


def needed_modules(reader: Reader, prefix: str) -> list[SiteModule]:
    """Modules, loaded first, then those that could be, that put the programs or libraries of ``prefix`` in place."""
    site_modules: list[SiteModule] = []
    for module in [*loaded_modules(reader), *available_modules(reader)]:
        for setting in settings_of(reader, module):
            if setting.variable in ("PATH", "LD_LIBRARY_PATH") and reader.inside(setting.value, prefix):
                if module.name not in [site_module.name for site_module in site_modules]:
                    site_modules.append(module)
                break
    return site_modules
