"""The processor that a compiled file is for, from its first bytes: read for every interpreter, so without a package."""

from __future__ import annotations

_ELF = {0x3E: "x86_64", 0xB7: "aarch64", 0x03: "i686", 0x28: "armv7l", 0xF3: "riscv64", 0x15: "ppc64le", 0x16: "s390x"}
MACH = {0x01000007: "x86_64", 0x0100000C: "arm64"}
_PE = {0x8664: "amd64", 0xAA64: "arm64", 0x14C: "x86"}


def processor_of(start: bytes) -> str | None:
    """The processor by the header in the first 4096 bytes (ELF, Mach-O, PE); ``universal2`` for a file of several."""
    if start[:4] == b"\x7fELF" and len(start) > 20:
        return _ELF.get(int.from_bytes(start[18:20], "little" if start[5] == 1 else "big"))
    if start[:4] == b"\xcf\xfa\xed\xfe":
        return MACH.get(int.from_bytes(start[4:8], "little"))
    if start[:4] == b"\xca\xfe\xba\xbe":
        return "universal2"
    if start[:2] == b"MZ" and len(start) > 0x40:
        at = int.from_bytes(start[0x3C:0x40], "little")
        return _PE.get(int.from_bytes(start[at + 4 : at + 6], "little")) if start[at : at + 4] == b"PE\0\0" else None
    return None
