"""From a prefix or an interpreter to an environment record."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from kalyx.core.environments.searchpath import site_folders
from kalyx.core.interpreters.reading import (
    SETTINGS_NAME,
    NotAnInterpreter,
    PyvenvCfg,
    read_interpreter,
    read_settings,
    sees_base_without_settings,
    version_in,
)
from kalyx.core.model.records import Environment, EnvironmentKind, Interpreter
from kalyx.core.system import Reader
from kalyx.core.system.reader import FileStat, Refused
from kalyx.core.text.numbers import are_numbers

# The packages that every new environment has: no user chose them; and their modules.
BROUGHT_ALONG = frozenset({"pip", "setuptools", "wheel"})
BROUGHT_MODULES = BROUGHT_ALONG | {"pkg_resources", "_distutils_hack", "easy_install.py", "__pycache__"}
# The names that environments of a project usually have, likeliest first.
USUAL_NAMES = (".venv", "venv", "env", ".env")
# Folder names that are too common to identify an environment: its name includes the folder above.
_NAMELESS = {*USUAL_NAMES, "virtualenv", ".virtualenv"}


def executables_of(reader: Reader, prefix: str) -> Iterator[str]:
    """The paths that a prefix's interpreter may have, likeliest first, whether they exist or not."""
    if reader.system == "windows":
        yield reader.join(prefix, "Scripts", "python.exe")
        yield reader.join(prefix, "python.exe")
        yield reader.join(prefix, "bin", "python.exe")
        return
    folder = reader.join(prefix, "bin")
    usual = ("python", "python3", "python2")
    yield from (reader.join(folder, name) for name in usual)
    for name in reader.names(folder):
        if name.startswith(("python", "pypy")) and name not in usual and _is_numbered(name):
            yield reader.join(folder, name)


def _is_numbered(name: str) -> bool:
    number = name.removeprefix("python").removeprefix("pypy").removesuffix(".exe")
    return number == "" or are_numbers(number)


def looks_like_environment(reader: Reader, folder: str) -> bool:
    """Whether a folder carries the mark of an environment: its settings file or a manager's own record."""
    if reader.may_be_there(reader.join(folder, SETTINGS_NAME)) or reader.is_folder(reader.join(folder, "conda-meta")):
        return True
    # The older layout has no settings file, and one may have lost it: an activation script tells.
    if not has_activation_script(reader, folder):
        return False
    return any(reader.may_be_there(executable) for executable in executables_of(reader, folder))


def prefix_around(reader: Reader, path: str) -> str | None:
    """The environment that a path names, or that the interpreter of this path is in; None where there is none."""
    prefixes = (path, reader.parent(reader.parent(path))) if reader.path.isabs(path) else ()
    return next((prefix for prefix in prefixes if looks_like_environment(reader, prefix)), None)


def is_a_strangers(reader: Reader, folder: str) -> bool:
    """Whether a folder belongs to another user and is closed to this one: a home folder, a temporary folder.

    One of this user's own, or with an environment's usual name, is an environment that may not be read. On Windows,
    whose owners are not read, the user's own are those in the home folder.
    """
    path = reader.join(folder, SETTINGS_NAME)
    if not isinstance(reader.kind(path), Refused) or reader.name(folder) in USUAL_NAMES:
        return False
    status = reader.status(folder)
    is_another = isinstance(status, FileStat) and status.owner != reader.user
    if not reader.inside(folder, reader.home) if reader.system == "windows" else is_another:
        reader.passed_over.add(path)
        return True
    return False


def has_activation_script(reader: Reader, prefix: str) -> bool:
    """Whether a prefix holds a script that activates an environment."""
    scripts = reader.join(prefix, "Scripts" if reader.system == "windows" else "bin")
    script = reader.join(scripts, "activate")
    return reader.is_file(script) and "VIRTUAL_ENV" in (reader.text_or_none(script, 65536) or "")


class View(Struct):
    """An environment with everything that was read for its record; the findings use all of it."""

    environment: Environment
    interpreter: Interpreter | None
    settings: PyvenvCfg | None
    problem: NotAnInterpreter | None


def read_environment(reader: Reader, prefix: str) -> View:
    """The environment at ``prefix``, unjudged. Never raises for what is wrong inside it."""
    settings = read_settings(reader, reader.join(prefix, SETTINGS_NAME))
    interpreter: Interpreter | None = None
    problem: NotAnInterpreter | None = None
    for executable in executables_of(reader, prefix):
        if not reader.may_be_there(executable):
            continue
        try:
            interpreter = read_interpreter(reader, executable)
            break
        except NotAnInterpreter as refusal:
            problem = problem or refusal
    if interpreter is not None and settings is None and interpreter.prefix != prefix:
        # A folder whose python is a link to an installation elsewhere starts that installation.
        problem = NotAnInterpreter(interpreter.executable, f"starts the interpreter of {interpreter.prefix}")
    return _view(reader, prefix, interpreter, settings, problem)


def view_of(reader: Reader, interpreter: Interpreter) -> View:
    """The environment that an interpreter runs in, or is in where its settings file is lost; with what was read."""
    folder = reader.parent(interpreter.executable)
    above = reader.parent(folder)
    is_of_none = above != interpreter.prefix == interpreter.base_prefix and reader.name(folder) in ("bin", "Scripts")
    if is_of_none and has_activation_script(reader, above):
        return read_environment(reader, above)
    settings = read_settings(reader, reader.join(interpreter.prefix, SETTINGS_NAME))
    return _view(reader, interpreter.prefix, interpreter, settings, None)


def key_of(reader: Reader, installed: Interpreter) -> str:
    """The key of an installation: where several versions share a prefix (``/usr``), each has a library of its own."""
    shared = reader.system != "windows" and installed.library
    return reader.real(installed.library if shared else installed.prefix)


def environment_of(reader: Reader, interpreter: Interpreter) -> Environment:
    """The environment that an interpreter runs in, unjudged."""
    return view_of(reader, interpreter).environment


def _view(
    reader: Reader,
    prefix: str,
    interpreter: Interpreter | None,
    settings: PyvenvCfg | None,
    problem: NotAnInterpreter | None,
) -> View:
    kind: EnvironmentKind = "installation"
    if settings is not None or (interpreter is not None and interpreter.prefix != interpreter.base_prefix):
        kind = "virtual"
    elif reader.is_folder(reader.join(prefix, "conda-meta")):
        kind = "kept"
    elif (interpreter is None or interpreter.prefix != prefix) and has_activation_script(reader, prefix):
        kind = "virtual"  # its settings file is gone
    version = interpreter.version if interpreter else None
    if version is None and settings is not None:
        version = version_in(settings) or _version_of_packages(reader, prefix)
    real = reader.real(prefix)
    is_own = kind == "installation" and interpreter is not None and reader.real(interpreter.prefix) == real
    environment = Environment(
        key=key_of(reader, interpreter) if interpreter is not None and is_own else real,
        prefix=prefix,
        name=_name(reader, real, kind, settings, version),  # a link to it gives no other name
        kind=kind,
        version=version,
        base_prefix=interpreter.base_prefix if interpreter else None,
        sees_base=_sees_base(reader, interpreter, settings),
        site_packages=_site_packages(reader, prefix, interpreter, kind == "virtual"),
        executable=interpreter.executable if interpreter else None,
    )
    return View(environment, interpreter, settings, problem)


def _version_of_packages(reader: Reader, prefix: str) -> str | None:
    """The version that the folder of the packages is named after, where it is the only one."""
    numbers = {
        name.removeprefix("python").rstrip("t")
        for name in map(reader.name, map(reader.parent, all_sites(reader, prefix)))
    }
    return numbers.pop() if len(numbers) == 1 and all(map(are_numbers, numbers)) else None


def _sees_base(reader: Reader, interpreter: Interpreter | None, settings: PyvenvCfg | None) -> bool:
    older = sees_base_without_settings(reader, interpreter) if interpreter is not None else None
    if older is not None:
        return older
    return settings.sees_base if settings is not None else False


def _site_packages(reader: Reader, prefix: str, interpreter: Interpreter | None, is_virtual: bool) -> list[str]:
    if interpreter is None:
        return []
    # Also where Python no longer takes it for one: some systems' base Pythons have folders of other names.
    folders = site_folders(reader, prefix, interpreter, interpreter.library, is_virtual)
    if reader.system == "windows":
        folders = folders[1:]
    return [folder for folder in folders if reader.is_folder(folder)]


def all_sites(reader: Reader, prefix: str) -> list[str]:
    """Every folder of packages in a prefix, of whatever version and system; also where it starts nothing."""
    uppers = [prefix]
    for root in (("lib",), ("lib64",), ("local", "lib"), ("Lib",)):
        library = reader.join(prefix, *root)
        uppers += [library, *(reader.join(library, name) for name in reader.names(library))]
    sites: dict[str, str] = {}
    for upper in uppers:
        for site in (reader.join(upper, name) for name in ("site-packages", "dist-packages")):
            if reader.is_folder(site):
                sites.setdefault(reader.real(site), site)
    return list(sites.values())


def _name(reader: Reader, prefix: str, kind: EnvironmentKind, settings: PyvenvCfg | None, version: str | None) -> str:
    if kind == "installation":
        return f"python{version}" if version else reader.name(prefix) or prefix
    prompt = settings.get("prompt") if settings is not None else None
    if prompt:
        return _unquoted(prompt)
    folder = reader.name(prefix)
    if folder.lower() in _NAMELESS:
        return f"{reader.name(reader.parent(prefix))}/{folder}"
    return folder


def _unquoted(prompt: str) -> str:
    """A prompt is written as a Python literal by the standard module and bare by others."""
    if prompt[:1] in "'\"":
        import ast

        try:
            value = ast.literal_eval(prompt)
        except (ValueError, SyntaxError):
            return prompt
        if isinstance(value, str):
            prompt = value
    return prompt.strip().removeprefix("(").removesuffix(")")
