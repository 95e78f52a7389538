"""Compiled files by their headers, on all three systems: for whom they are, and what is wrong with them."""

import struct

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kalyx.core.formats.fitting import build_of, foreign, is_other_build
from kalyx.core.formats.headers import read_header
from kalyx.core.model.records import Interpreter
from kalyx.core.system.memory_reader import MemoryReader
from tests.made import WINDOWS


def elf(machine: int) -> bytes:
    """An ELF header without segments or sections."""
    return (
        b"\x7fELF\x02\x01\x01"
        + b"\0" * 9
        + struct.pack("<HHIQQQIHHHHHH", 3, machine, 1, 0, 0, 0, 0, 64, 56, 0, 64, 0, 0)
    )


def mach(processor: int) -> bytes:
    return struct.pack("<IIIIIIII", 0xFEEDFACF, processor, 0, 8, 0, 0, 0, 0)


def fat(*processors: int) -> bytes:
    """A universal file of two."""
    head = struct.pack(">II", 0xCAFEBABE, len(processors))
    whole, at = b"", 4096
    for processor in processors:
        head += struct.pack(">IIIII", processor, 0, at, 32, 12)
        whole += mach(processor).ljust(4096, b"\0")
        at += 4096
    return head.ljust(4096, b"\0") + whole


def pe(machine: int) -> bytes:
    return WINDOWS.replace((0x8664).to_bytes(2, "little"), machine.to_bytes(2, "little"))


X86, ARM = 16777223, 16777228
CASES = [
    ("linux", elf(62), "_core.so", elf(62), None),
    ("linux", elf(62), "_core.so", elf(183), "for aarch64, and this interpreter is x86_64"),
    ("linux", elf(183), "_core.so", elf(62), "for x86_64, and this interpreter is aarch64"),
    ("linux", elf(62), "_core.cpython-311-darwin.so", mach(ARM), "for macOS, and this is Linux"),
    ("linux", elf(62), "_core.pyd", WINDOWS, "for Windows, and this is Linux"),
    ("macos", mach(ARM), "_core.so", mach(ARM), None),
    ("macos", mach(ARM), "_core.so", mach(X86), "for x86_64, and this interpreter is arm64"),
    ("macos", mach(ARM), "_core.so", fat(X86, ARM), None),
    ("macos", fat(X86, ARM), "_core.so", mach(X86), None),
    ("macos", mach(X86), "_core.so", elf(62), "for Linux, and this is macOS"),
    ("windows", pe(0x8664), "_core.pyd", pe(0x8664), None),
    ("windows", pe(0x8664), "_core.pyd", pe(0xAA64), "for arm64, and this interpreter is amd64"),
    ("windows", pe(0x8664), "_core.pyd", pe(0x14C), "for x86, and this interpreter is amd64"),
    ("windows", pe(0x8664), "_core.pyd", elf(62), "for Linux, and this is Windows"),
]  # fmt: skip


@pytest.mark.parametrize(("system", "own", "name", "content", "reason"), CASES)
def test_for_whom_a_compiled_file_is(system, own, name, content, reason):
    root = "C:\\moor" if system == "windows" else "/moor"
    sign = "\\" if system == "windows" else "/"
    reader = MemoryReader(system, {f"{root}{sign}python": own, f"{root}{sign}{name}": content})
    python = f"{root}{sign}python"
    interpreter = Interpreter(executable=python, real_executable=python, version="3.11.7", implementation="cpython",
                              prefix=root, base_prefix=root)  # fmt: skip
    assert foreign(reader, interpreter, f"{root}{sign}{name}") == reason


NAMES = [
    ("_core.cpython-310-x86_64-linux-gnu.so", "3.10", True), ("_core.cpython-311-x86_64-linux-gnu.so", "3.11", False),
    ("_core.cpython-311-darwin.so", "3.11", False), ("_core.cp39-win_amd64.pyd", "3.9", True), ("_core.abi3.so", None, False),
    ("_core.so", None, False), ("_core.cpython-313t-x86_64-linux-gnu.so", "3.13 without the lock", True),
    ("_core.pypy39-pp73-x86_64-linux-gnu.so", "PyPy 3.9", True), ("_core.cpython-36m-x86_64-linux-gnu.so", "3.6", True),
]  # fmt: skip


@pytest.mark.parametrize(("name", "build", "is_other"), NAMES)
def test_which_python_a_name_says(name, build, is_other):
    interpreter = Interpreter(
        executable="/p", real_executable="/p", version="3.11.7", implementation="cpython", prefix="/", base_prefix="/"
    )
    assert (build_of(f"/moor/{name}"), is_other_build(f"/moor/{name}", interpreter)) == (build, is_other)


@pytest.mark.parametrize(("content", "message"), [
    (b"", "it is empty"), (b"not compiled", "not a compiled file"), (elf(62)[:40], "cannot be read"), (b"MZ" + b"\0" * 100, "cannot be read"),
    (elf(62)[:40] + struct.pack("<Q", 9999) + elf(62)[48:60] + struct.pack("<HH", 3, 0), "cut short"),
    (b"\xcf\xfa\xed\xfe" + b"\xff" * 60, "cannot be read"),
])  # fmt: skip
def test_what_is_wrong_with_a_file(content, message):
    reader = MemoryReader("linux", {"/moor/_core.so": content})
    assert message in (read_header(reader, "/moor/_core.so").problem or ""), read_header(reader, "/moor/_core.so")


@settings(max_examples=150, deadline=None)
@given(st.sampled_from([elf(62), mach(ARM), fat(X86, ARM), WINDOWS]), st.lists(st.tuples(st.integers(4, 200), st.integers(0, 255))),
       st.integers(4, 300))  # fmt: skip
def test_no_header_breaks_the_reader(content, changes, size):
    damaged = bytearray(content)
    for at, value in changes:
        damaged[at % len(damaged)] = value
    reader = MemoryReader("linux", {"/moor/_core.so": bytes(damaged[:size])})
    assert read_header(reader, "/moor/_core.so").form in ("ELF", "Mach-O", "PE", None)
