"""The headers of compiled files: system, processor, C library, needed libraries and their versions.

ELF by the System V ABI and the GNU symbol versions, Mach-O by its loader
headers, PE by Microsoft's format document: each read by the standard package.
"""

from __future__ import annotations

import io
from typing import Any, Literal

from msgspec import Struct

from kalyx.core.formats.processors import MACH, processor_of
from kalyx.core.model import System
from kalyx.core.system import Reader, Unreadable
from kalyx.core.system.once import once
from kalyx.core.system.reader import FileStat

Form = Literal["ELF", "Mach-O", "PE"]
SYSTEMS: dict[Form, System] = {"ELF": "linux", "Mach-O": "macos", "PE": "windows"}
# Bytes that are read at once. Not a multiple of 1,024: only such numbers count as limits that a note is printed about.
_PART = 65_537
COMPILED = (".so", ".pyd", ".dylib", ".dll")


class Header(Struct, kw_only=True):
    """The header of a compiled file; ``problem`` where the file is none, or is incomplete.

    ``asks``: versions of symbols it asks for, by library; ``gives``: those it offers; ``folders``: where it looks
    for its libraries before the system does.
    """

    form: Form | None = None
    machines: list[str] = []
    needed: list[str] = []
    asks: dict[str, list[str]] = {}
    gives: list[str] = []
    folders: list[str] = []
    problem: str | None = None

    @property
    def system(self) -> System | None:
        """The system that a file of this form is for; None for no known form."""
        return SYSTEMS[self.form] if self.form is not None else None

    @property
    def c_library(self) -> str | None:
        """``musl`` or ``glibc`` for a file that names the one it was built for."""
        if any("musl" in name for name in self.needed):
            return "musl"
        return "glibc" if "libc.so.6" in self.needed else None


class _DoorFile(io.RawIOBase):
    """A file read through the Reader, for packages that need a file object."""

    def __init__(self, reader: Reader, path: str, size: int) -> None:
        super().__init__()
        self.reader, self.path, self.size, self.at = reader, path, size, 0
        self.name = path

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = 0) -> int:
        self.at = max(0, {0: 0, 1: self.at, 2: self.size}[whence] + offset)
        return self.at

    def tell(self) -> int:
        return self.at

    def readinto(self, buffer: Any) -> int:
        data = self.reader.read(self.path, len(buffer), self.at)
        buffer[: len(data)] = data
        self.at += len(data)
        return len(data)


@once
def read_header(reader: Reader, path: str) -> Header:
    """The header of a compiled file. Never raises for what is wrong in it."""
    try:
        magic = reader.read(path, 8)
    except Unreadable as problem:
        return Header(problem=problem.reason)
    status = reader.status(path)
    size = status.size if isinstance(status, FileStat) else 0
    if not magic:
        return Header(problem="it is empty")
    parser = None
    form: Form
    if magic[:4] == b"\x7fELF":
        parser, form = _elf, "ELF"
    elif magic[:4] in (b"\xcf\xfa\xed\xfe", b"\xce\xfa\xed\xfe", b"\xca\xfe\xba\xbe", b"\xfe\xed\xfa\xcf"):
        parser, form = _mach, "Mach-O"
    elif magic[:2] == b"MZ":
        parser, form = _pe, "PE"
    if parser is None:
        return Header(problem="it is not a compiled file of any system")
    processor = processor_of(reader.read(path, 4096))
    header = Header(form=form, machines=[processor] if processor else [])
    file: Any = io.BufferedReader(_DoorFile(reader, path, size), _PART)
    try:
        parser(header, file, size)
    except Exception as error:
        # These packages raise many kinds of exceptions for a damaged file.
        header.problem = header.problem or f"its header cannot be read: {type(error).__name__}"
    return header


def _elf(header: Header, file: Any, size: int) -> None:
    from elftools.elf.dynamic import DynamicSegment
    from elftools.elf.elffile import ELFFile
    from elftools.elf.gnuversions import GNUVerDefSection, GNUVerNeedSection

    whole = ELFFile(file)
    ends = [segment["p_offset"] + segment["p_filesz"] for segment in whole.iter_segments()]
    ends.append(whole["e_shoff"] + whole["e_shnum"] * whole["e_shentsize"])
    if max(ends, default=0) > size:
        header.problem = f"it is cut short: it should have {max(ends)} bytes and has {size}"
        return
    for segment in whole.iter_segments():
        if isinstance(segment, DynamicSegment):
            tag: Any  # what it carries depends on its kind
            for tag in segment.iter_tags():
                if tag.entry.d_tag == "DT_NEEDED":
                    header.needed.append(tag.needed)
                elif tag.entry.d_tag in ("DT_RPATH", "DT_RUNPATH"):
                    text = tag.rpath if tag.entry.d_tag == "DT_RPATH" else tag.runpath
                    header.folders += text.split(":")
    for section in whole.iter_sections():
        if isinstance(section, GNUVerNeedSection):
            for library, versions in section.iter_versions():
                header.asks[library.name or ""] = [version.name for version in versions]
        elif isinstance(section, GNUVerDefSection):
            header.gives = [next(names).name for _, names in section.iter_versions()]


def _mach(header: Header, file: Any, size: int) -> None:
    from macholib.MachO import MachO

    whole = MachO.__new__(MachO)  # its own constructor opens the file by name, without the Reader
    whole.graphident, whole.filename, whole.loader_path, whole.fat, whole.headers = None, "", "", None, []
    whole.allow_unknown_load_commands = True
    whole.load(file)
    header.machines = [
        MACH.get(header.header.cputype, f"processor {header.header.cputype}") for header in whole.headers
    ]
    for item in whole.headers:
        header.needed += [name for _, _, name in item.walkRelocatables() if name not in header.needed]
        if item.offset + item.size > size:
            header.problem = f"it is cut short: it should have {item.offset + item.size} bytes and has {size}"


def _pe(header: Header, file: Any, size: int) -> None:
    import pefile

    whole = pefile.PE(data=file.read(64 * 1024 * 1024), fast_load=True)
    end = max((section.PointerToRawData + section.SizeOfRawData for section in whole.sections), default=0)
    if end > size:
        header.problem = f"it is cut short: it should have {end} bytes and has {size}"
        return
    whole.parse_data_directories(directories=[pefile.DIRECTORY_ENTRY["IMAGE_DIRECTORY_ENTRY_IMPORT"]])
    header.needed = [item.dll.decode("latin-1") for item in getattr(whole, "DIRECTORY_ENTRY_IMPORT", [])]
