"""Two targets side by side: their differences."""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from kalyx.core.environments.reading import BROUGHT_ALONG
from kalyx.core.model.records import Evidence, Interpreter, Kernel, Package, Seat, Unread
from kalyx.core.model.results import ContrastAnswer, Difference, DifferenceKind
from kalyx.core.text.names import canonical
from kalyx.core.text.versions import minor_of

# Variables that change what an interpreter does.
MATTERING = ("PYTHONPATH", "PYTHONHOME", "PYTHONNOUSERSITE", "PYTHONSAFEPATH", "PYTHONUSERBASE", "PYTHONSTARTUP",
             "LD_LIBRARY_PATH", "DYLD_LIBRARY_PATH")  # fmt: skip


# What one kind of processor is called on another system.
_PROCESSORS = {"amd64": "x86_64", "arm64": "aarch64"}


class Side(Struct):
    """What is compared: a target, what it can import, and what only running its start-up code would tell."""

    seat: Seat
    packages: list[Package]
    unknown: list[Evidence] = []
    unread: list[Unread] = []
    is_record: bool = False
    system: str = ""
    kernels: list[Kernel] | None = None  # of a whole machine: its kernels
    unrecorded: set[str] = set()  # canonical names of the packages that no record of it would name


def contrast(first: Side, second: Side) -> ContrastAnswer:
    """Every difference; ``same`` only where there is none and everything could be compared."""
    left, right = first.seat, second.seat
    differences: list[Difference] = []

    def note(what: DifferenceKind, name: str, one: str | None, other: str | None) -> None:
        if one != other:
            differences.append(Difference(what=what, name=name, left=one, right=other))

    interpreter, other = left.interpreter, right.interpreter
    if interpreter is not None and other is not None:
        note("interpreter", "implementation", interpreter.implementation, other.implementation)
        note("version", "python", interpreter.version, other.version)
        note("interpreter", "abi", interpreter.abi_flags, other.abi_flags)
        if first.system and second.system:
            note("platform", "system", first.system, second.system)
        if _processor(interpreter) != _processor(other):
            note("platform", "architecture", interpreter.architecture, other.architecture)
    if first.kernels is not None and second.kernels is not None:
        mine, yours = _described(first.kernels), _described(second.kernels)
        for identifier in sorted(mine.keys() | yours.keys()):
            note("kernel", identifier, mine.get(identifier), yours.get(identifier))
    if first.is_record or second.is_record:
        # A record says what a target's own packages are, and nothing of paths and variables.
        _packages(*_comparable(first, second), differences)
        return ContrastAnswer(left=left, right=right, same=not differences, differences=differences)
    for name in MATTERING:
        note("variable", name, left.variables.get(name), right.variables.get(name))
    if first.system == second.system or not (first.system and second.system):
        _paths(left, right, differences)  # two machines have no common paths
    _packages(first.packages, second.packages, differences)
    unproved = first.unknown + second.unknown
    unread = list({refusal.path: refusal for refusal in first.unread + second.unread}.values())
    same = not (differences or unproved or unread)
    return ContrastAnswer(left=left, right=right, same=same, differences=differences, unproved=unproved, unread=unread)


def _processor(interpreter: Interpreter) -> str | None:
    return _PROCESSORS.get(interpreter.architecture or "", interpreter.architecture)


def _described(kernels: list[Kernel]) -> dict[str, str]:
    return {kernel.id: _as_told(kernel) for kernel in kernels if "hidden" not in kernel.conditions}


def _as_told(kernel: Kernel) -> str:
    """What a kernel starts, in words that two machines can share: no paths."""
    if kernel.interpreter is None:
        runs = "starts nothing"
    else:
        environment = kernel.environment.name if kernel.environment is not None else kernel.interpreter.implementation
        runs = f"{environment}, {kernel.interpreter.version}"
    conditions = [
        condition for condition in kernel.conditions if condition not in ("answers", "twin", "shell-elsewhere")
    ]
    return "; ".join([runs, *conditions])


def _comparable(first: Side, second: Side) -> tuple[list[Package], list[Package]]:
    """The packages that a record could name, on both sides: what creating brings along only where it is another."""
    sides = []
    for side, other in ((first, second), (second, first)):
        named = {canonical(package.name) for package in other.packages} if other.is_record else set()
        passed_over = {*BROUGHT_ALONG, *side.unrecorded} - named
        own = ("own", "linked")
        # Where a package is installed from a record, it is the environment's own.
        sides.append(
            [
                replace(package, origin="own")
                for package in side.packages
                if package.version is not None
                and package.hidden_by is None
                and (side.is_record or canonical(package.name) in named or package.origin in own)
                and (side.is_record or canonical(package.name) not in passed_over)
            ]
        )
    return sides[0], sides[1]


def _with_slashes(path: str) -> str:
    """A path of Windows with the separators of the others; either side may be of a captured machine."""
    return path.replace("\\", "/") if path[1:3] == ":\\" or path[:2] == "\\\\" else path


def _paths(left: Seat, right: Seat, differences: list[Difference]) -> None:
    """Entries that one has and the other has not, each written from its own prefix and without its own version."""

    def shown(seat: Seat) -> list[str]:
        interpreter = seat.interpreter
        entries = []
        for entry in seat.search_path:
            text = _with_slashes(entry.entry)
            for word, prefix in (("{prefix}", interpreter and entry.put_by != "library" and interpreter.prefix),
                                 ("{base}", interpreter and interpreter.base_prefix)):  # fmt: skip
                below = _with_slashes(prefix or "").rstrip("/")
                if prefix and (text == below or text.startswith(below + "/")):
                    text = word + text[len(below) :]
                    break
            if interpreter is not None:
                text = _without_version(text, interpreter.version)
            # On Windows the prefix itself is an entry, of an environment and of an installation for different reasons.
            if entry.put_by != "program" and text != "{prefix}":
                entries.append(text)
        return entries

    item, other = shown(left), shown(right)
    for text in [text for text in item if text not in other]:
        differences.append(Difference(what="search_path", name=text, left=text, right=None))
    for text in [text for text in other if text not in item]:
        differences.append(Difference(what="search_path", name=text, left=None, right=text))
    if not any(difference.what == "search_path" for difference in differences) and item != other:
        differences.append(Difference(what="search_path", name="order", left=" ".join(item), right=" ".join(other)))


def _without_version(path: str, version: str) -> str:
    """``lib/python3.11`` and ``lib/python3.9`` are one place in two versions; the version is compared by itself."""
    minor = minor_of(version)
    for written in (minor, minor.replace(".", "")):
        for name in ("python", "pypy", "Python"):
            path = path.replace(f"{name}{written}", name + "{version}")
    return path


def _packages(left: list[Package], right: list[Package], differences: list[Difference]) -> None:
    def seen(packages: list[Package]) -> dict[str, Package]:
        return {canonical(package.name): package for package in reversed(packages) if package.hidden_by is None}

    item, other = seen(left), seen(right)
    for key in sorted(item.keys() | other.keys()):
        a, b = item.get(key), other.get(key)
        message = [None if p is None else f"{p.version or 'no version'} ({p.origin})" for p in (a, b)]
        if message[0] != message[1]:
            name = a.name if a is not None else b.name if b is not None else key
            differences.append(Difference(what="package", name=name, left=message[0], right=message[1]))
