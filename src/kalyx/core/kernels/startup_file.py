"""The file that a kernel runs as it starts so that it explains its failing imports: its name, its text, its option.

The kernel package documents the option (IPython, "Terminal IPython options": ``InteractiveShellApp.file_to_run``; a
kernel takes it under the name of its own application). Where the file is gone, the kernel says so in its log and starts
as before.
"""

from __future__ import annotations

from kalyx.core.kernels.makers import KERNEL_PACKAGES, USUAL, KernelPackage
from kalyx.core.model.records import KalyxError
from kalyx.core.system import Reader
from kalyx.core.system.own_command import own_file

STARTUP_FILE = "kalyx_explain.py"
SECONDS = 5.0  # that a cell waits for an answer
IN_KERNEL = own_file("core", "kernels", "in_kernel.py")
_TEXT = """\
# Written by kalyx register --explain: Kalyx explains each import that ends a cell. Without Kalyx nothing happens.
# To remove this: kalyx unregister {identifier}, or kalyx register without --explain.
try:
    exec(
        compile(open(u{source!a}, "rb").read(), "kalyx_explain", "exec"),
        {{"GIVEN": (get_ipython(), [{words}], u{identifier!a}, {seconds:g})}},
    )
except Exception:
    pass
"""


def option_of(kernel_package: KernelPackage, path: str) -> str:
    """The word of a kernel's command that has the file run at its start. Raises KalyxError as ``refuse_without``."""
    refuse_without(kernel_package)
    return f"{kernel_package.runs_file}{path}"


def refuse_without(kernel_package: KernelPackage) -> None:
    """Raise KalyxError where a kernel package has no such option."""
    if kernel_package.runs_file is None:
        message = f"--explain: {kernel_package.distribution} runs no file as it starts"
        raise KalyxError(f"{message}; kernels of {USUAL.distribution} can explain their imports")


def content(kalyx: list[str], identifier: str) -> bytes:
    """The file for one kernel: it asks ``kalyx``, a command whose files are given by their full paths.

    What runs is Kalyx's own file, in a namespace in which no name of the user's stands.
    """
    words = ", ".join(f"u{word!a}" for word in kalyx)  # what this writes, Python 2 and 3 read alike
    return _TEXT.format(source=IN_KERNEL, words=words, identifier=identifier, seconds=SECONDS).encode("ascii")


def is_named_in(reader: Reader, argv: list[str]) -> bool:
    """Whether a kernel's command names such a file that is there."""
    options = [package.runs_file for package in KERNEL_PACKAGES if package.runs_file is not None]
    for word in argv:
        path = next((word[len(option) :] for option in options if word.startswith(option)), None)
        if path is not None and reader.name(path) == STARTUP_FILE and reader.is_file(path):
            return True
    return False
