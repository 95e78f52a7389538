"""Which programs of this machine can install a missing Python version, and their commands; installs nothing.

They are: a version manager in its own root, an environment manager in its
installation, and the system's package installer where its list has such a
package.
"""

from __future__ import annotations

from collections.abc import Iterator

from kalyx.core.environments.finding import manager_roots
from kalyx.core.machine import Machine
from kalyx.core.text.versions import minor_of

_SYSTEM_INSTALLER, _SYSTEM_LIST = "/usr/bin/apt-get", "/usr/bin/apt-cache"


def could_bring(machine: Machine, version: str) -> list[str]:
    """The lines that would install ``version`` (3.14, or 3.14.1), one for each program here that can."""
    return [machine.line(argv) for argv in _commands(machine, version)]


def _commands(machine: Machine, version: str) -> Iterator[list[str]]:
    reader = machine.reader
    for root in manager_roots(reader):
        manager = reader.parent(root)
        program = reader.join(manager, "bin", reader.name(manager).lstrip("."))
        if reader.is_file(program) and reader.may_run(program):
            yield [program, "install", version]
    minor = minor_of(version)
    for environment in machine.environments.everywhere:
        program = reader.join(environment.prefix, "bin", "conda")
        if environment.kind == "kept" and reader.is_file(program):
            yield [program, "create", "--prefix", reader.join(reader.folder, f"python{minor}"), f"python={version}"]
    if machine.runner is not None and reader.is_file(_SYSTEM_INSTALLER):
        package = f"python{minor}"
        ended = machine.runner.run([_SYSTEM_LIST, "policy", package], seconds=5.0)
        candidates = [line.split(":", 1)[1].strip() for line in ended.output.decode("utf-8", "replace").splitlines()
                      if line.strip().startswith("Candidate:")]  # fmt: skip
        if candidates and candidates[0].startswith(version):
            yield [_SYSTEM_INSTALLER, "install", package, f"{package}-venv"]
