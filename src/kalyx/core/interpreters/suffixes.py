"""The endings of compiled modules that an interpreter accepts, in its order (PEP 3149, PEP 384, PEP 703).

Read off the interpreter's own compiled modules, which all carry the first of them; where it has none (a build with
everything in one file), written as that build would be.
"""

from __future__ import annotations

from kalyx.core.system import Reader
from kalyx.core.text.numbers import is_number
from kalyx.core.text.versions import pair_of

_WINDOWS = {
    "x86_64": "win_amd64",
    "amd64": "win_amd64",
    "aarch64": "win_arm64",
    "arm64": "win_arm64",
    "arm": "win_arm32",
}
_LOWER = "abcdefghijklmnopqrstuvwxyz"


def suffixes_of(
    reader: Reader, version: str, implementation: str, library: str, abi_flags: str, architecture: str | None
) -> list[str]:
    """``library``: the folder of its standard library; ``abi_flags``: d, m, t, u; ``architecture``: of its own file."""
    major, minor = pair_of(version)
    lock = "t" not in abi_flags  # without the lock there is a stable binary interface from 3.15 on (PEP 803)
    if reader.system == "windows":
        if major < 3:
            return [".pyd"]
        debug, tag = "_d" * ("d" in abi_flags), f"cp{major}{minor}{'' if lock else 't'}"
        return [f"{debug}.{tag}-{_WINDOWS.get(architecture or 'x86_64', 'win32')}.pyd", f"{debug}.pyd"]
    if major < 3:
        return [".so", "module.so"]
    own = _off_its_parts(reader, library)
    if implementation == "pypy":
        return own
    own = own or _as_it_would_be(reader, f"{major}{minor}{abi_flags}", architecture)
    if "d" in abi_flags and minor >= 8:
        own += [item.replace(f"{minor}d-", f"{minor}-") for item in own[:1]]  # it also takes those of the usual build
    return [*own, *(_stable(own, minor) if lock else []), *(_stable(own, minor, "abi3t") if minor >= 15 else []), ".so"]


def _stable(own: list[str], minor: int, name: str = "abi3") -> list[str]:
    """The suffixes of modules for every version: from 3.14 on also with the platform, which 3.15 takes first."""
    plain = f".{name}.so"
    platform = own[0].rpartition(".")[0].split("-", 2)[2:] if own and minor >= 14 else []
    parted = [f".{name}-{words}.so" for words in platform]
    return [*parted, plain] if minor >= 15 else [plain, *parted]


def _off_its_parts(reader: Reader, library: str) -> list[str]:
    for folder in (reader.join(library, "lib-dynload"), library):
        for name in reader.names(folder):
            tag = name.removesuffix(".so").rpartition(".")[2]
            if name.endswith(f".{tag}.so") and _is_own(tag):
                return [f".{tag}.so"]
    return []


def _is_own(tag: str) -> bool:
    """Whether a compiled module's tag names one interpreter: ``cpython-312-…``, ``cpython-37m-…``, ``pypy310-…``."""
    implementation, _, remainder = tag.partition("-")
    if implementation == "cpython":
        number, _, remainder = remainder.partition("-")
        return bool(remainder) and is_number(number.rstrip(_LOWER))
    return bool(remainder) and implementation.startswith("pypy") and is_number(implementation[4:])


def _as_it_would_be(reader: Reader, tag: str, architecture: str | None) -> list[str]:
    if reader.system == "macos":
        return [f".cpython-{tag}-darwin.so"]
    return [f".cpython-{tag}-{architecture}-linux-gnu.so"] if architecture else []
