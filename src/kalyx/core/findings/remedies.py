"""Remedies that several causes share: install, register, rename, remake.

Least change first; full paths; lines for the user's own shell. Nothing is
installed past what keeps an environment, and no name is offered for
installation that no metadata here and no table knows.
"""

from __future__ import annotations

from kalyx.core.facts import Environment, Interpreter, Remedy, Step
from kalyx.core.machine import Machine

KEEPER_FILE = "EXTERNALLY-MANAGED"


def command(machine: Machine, argv: list[str]) -> Step:
    return Step(command=argv, line=machine.line(argv))


def by_hand(text: str) -> Step:
    return Step(command=None, line=text)


def keeper_of(machine: Machine, interpreter: Interpreter) -> str | None:
    """What keeps this environment's packages, in words; None when its own installer does."""
    facts = machine.facts
    if interpreter.prefix == interpreter.base_prefix:
        # PEP 668: the mark lies in the standard library's folder.
        minor = ".".join(interpreter.version.split(".")[:2])
        library = (
            facts.join(interpreter.base_prefix, "Lib")
            if facts.system == "windows"
            else facts.join(interpreter.base_prefix, "lib", f"python{minor}")
        )
        mark = facts.join(library, KEEPER_FILE)
        if facts.kind(mark) is not None:
            return f"the system's own package manager ({mark})"
    records = facts.join(interpreter.prefix, "conda-meta")
    if facts.is_folder(records):
        return f"the installer that keeps {records}"
    lock = lock_file_of(machine, interpreter)
    return f"the project it lies in, by its lock file {lock}" if lock is not None else None


def lock_file_of(machine: Machine, interpreter: Interpreter) -> str | None:
    """The lock file of the project that an environment lies right in: what is locked there decides what is in it."""
    facts = machine.facts
    if interpreter.prefix == interpreter.base_prefix:
        return None
    project = facts.parent(interpreter.prefix)
    names = facts.names(project)
    if "pyproject.toml" not in names:
        return None
    for name in names:
        # PEP 751 names its files so; the older forms end in .lock.
        if name == "pylock.toml" or (name.startswith("pylock.") and name.endswith(".toml")) or name.endswith(".lock"):
            return facts.join(project, name)
    return None


def install(machine: Machine, interpreter: Interpreter, requirement: str, *more: str) -> Remedy:
    """Install a requirement into the environment of ``interpreter``, by its own installer and its full path."""
    keeper = keeper_of(machine, interpreter)
    where = machine.facts.name(interpreter.prefix)
    if keeper is not None:
        return Remedy(
            says=f"its packages are kept by {keeper}: add it there",
            steps=[by_hand(f"add {requirement} through {keeper}, or use an environment of your own")],
            touches=[],
        )
    steps = []
    environment = machine.environment_named(machine.facts.real(interpreter.prefix))
    resolver = machine.resolver(environment) if environment else None
    if resolver is not None and resolver.resolve("pip").place is None:
        steps.append(command(machine, [interpreter.executable, "-m", "ensurepip"]))
    steps.append(command(machine, [interpreter.executable, "-m", "pip", "install", *more, requirement]))
    return Remedy(says=f"install it in {where}", steps=steps, touches=[interpreter.prefix])


def with_another_python(machine: Machine, prefix: str, minor: str, requirement: str) -> Remedy:
    """An environment beside this one, on a Python version that suits a package without a newer release."""
    place = f"{prefix.rstrip('/')}-{minor}"
    argv = ["kalyx", "prepare", place, "--python", f"version:{minor}", "--want", requirement]
    return Remedy(
        says=f"or, where there is none, run it on Python {minor}", steps=[command(machine, argv)], touches=[place]
    )


def register(machine: Machine, environment: Environment, identifier: str, take_over: bool) -> Remedy:
    """Make a kernel of this id start this environment."""
    argv = ["kalyx", "register", environment.prefix, "--id", identifier]
    if take_over:
        argv.append("--take-over")
    return Remedy(
        says=f"make kernel {identifier} start {environment.name}",
        steps=[command(machine, argv)],
        touches=[identifier],
    )


def unregister(machine: Machine, identifier: str) -> Remedy:
    return Remedy(
        says=f"remove the kernel {identifier}",
        steps=[command(machine, ["kalyx", "unregister", identifier])],
        touches=[identifier],
    )


def rename(machine: Machine, path: str, to: str) -> Remedy:
    """Rename a file or folder that stands in the way."""
    windows = machine.facts.system == "windows"
    argv = ["cmd", "/c", "ren", path, machine.facts.name(to)] if windows else ["mv", path, to]
    return Remedy(says="give it another name", steps=[command(machine, argv)], touches=[path])


def free_name(machine: Machine, path: str, ending: str = "_own") -> str:
    """A name beside ``path`` that nothing has yet."""
    stem, extension = machine.facts.path.splitext(path)
    candidate = f"{stem}{ending}{extension}"
    number = 2
    while machine.facts.kind(candidate) is not None:
        candidate = f"{stem}{ending}{number}{extension}"
        number += 1
    return str(candidate)


def of_system(machine: Machine, debian: str | None, fedora: str | None, brew: str | None) -> Remedy | None:
    """Install a package of the system's own, by the installer this kind of system has; None where none is known."""
    facts = machine.facts
    words = _family(machine)
    root = [] if facts.user == 0 else ["sudo"]
    chosen = {
        "debian": (debian, [*root, "apt-get", "install", "-y"]),
        "fedora": (fedora, [*root, "dnf", "install", "-y"]),
        "macos": (brew, ["brew", "install"]),
    }.get(words)
    if chosen is None or chosen[0] is None:
        return None
    name, argv = str(chosen[0]), chosen[1]
    return Remedy(
        says=f"install the system's package {name}", steps=[command(machine, [*argv, name])], touches=["/usr"]
    )


def _family(machine: Machine) -> str:
    """``debian``, ``fedora``, ``macos`` or empty: whose packages this system has (the os-release document)."""
    if machine.facts.system != "linux":
        return machine.facts.system
    text = machine.facts.text_or_none("/etc/os-release", 65536) or ""
    told = {}
    for line in text.splitlines():
        key, _, value = line.partition("=")
        told[key] = value.strip("\"'")
    words = [told.get("ID", ""), *told.get("ID_LIKE", "").split()]
    if any(word in ("debian", "ubuntu") for word in words):
        return "debian"
    return "fedora" if any(word in ("fedora", "rhel", "centos") for word in words) else ""


def bringer_of_library(machine: Machine, library: str) -> Remedy | None:
    """Install the system's package that usually brings a shared library; None where the table does not know it."""
    import re

    from kalyx.core.data import table

    known = table("libraries")["libraries"]
    assert isinstance(known, dict)
    for name, packages in known.items():
        match = re.fullmatch(re.escape(name).replace(r"\*", r"([\d.]+)"), library)
        if match is not None:
            number = match[1].split(".")[0] if match.groups() else ""
            debian, fedora, brew = (one.replace("*", number) if one else None for one in packages)
            return of_system(machine, debian, fedora, brew)
    return None
