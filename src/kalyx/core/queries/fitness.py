"""Whether a seat can run the folder's project: its Python is allowed, each requirement is installed. Only read."""

from __future__ import annotations

from collections.abc import Mapping

from kalyx.core.environments.searchpath import SearchPath
from kalyx.core.machine import Machine
from kalyx.core.model.records import Fitness, Interpreter, Met
from kalyx.core.packages.contents import contents
from kalyx.core.packages.project import Project, ProjectRequirement
from kalyx.core.packages.requirements import asked_by_lines, satisfies
from kalyx.core.text.names import canonical


def fitness(machine: Machine, interpreter: Interpreter, search: SearchPath, project: Project) -> Fitness:
    """Which of the project's requirements this interpreter meets on this search path.

    Optional ones and groups are listed with their name, and none of them keeps a seat from running the project.
    """
    allowed = project.requires_python is None or satisfies(interpreter.version, project.requires_python)
    packages, _ = contents(machine.reader, interpreter, search)
    here = {
        canonical(package.name): package.version
        for package in packages
        if package.version is not None and package.hidden_by is None
    }
    result = Fitness(python=interpreter.version, requires_python=project.requires_python, python_allowed=allowed)
    for wish in project.wishes:
        result.requirements += _met(machine, interpreter, wish, here)
    asked = [status for status in result.requirements if status.group is None]
    result.met = sum(status.is_met for status in asked)
    result.missing = [status.name for status in asked if status.found is None]
    result.other = [status.name for status in asked if status.found is not None and not status.is_met]
    result.runs = allowed and not result.missing and not result.other
    return result


def _met(
    machine: Machine, interpreter: Interpreter, wish: ProjectRequirement, here: Mapping[str, str | None]
) -> list[Met]:
    """One requirement against what is there; none where its marker leaves this interpreter out."""
    statuses = []
    for asked in asked_by_lines([wish.line], interpreter, machine.reader.system):
        version = here.get(asked.key)
        is_met = version is not None and satisfies(version, asked.specifier)
        row = Met(name=asked.name, requirement=asked.line, found=version, is_met=is_met, group=wish.group,
                  path=wish.path, line=wish.number)  # fmt: skip
        statuses.append(row)
    return statuses
