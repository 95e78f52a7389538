"""Checks after an installation: trial imports, and the processes that still use the former packages."""

from __future__ import annotations

from kalyx.core.imports.trial import Trial, try_import
from kalyx.core.machine import Machine
from kalyx.core.model.records import Distribution, Environment, ErrorText, ImportAnswer, Interpreter, Package
from kalyx.core.seats.callers import connection_file_of, python_processes
from kalyx.core.text.redaction import program_ran


def proofs(machine: Machine, interpreter: Interpreter, package: Package) -> list[ImportAnswer]:
    """Trial imports of the modules that a package provides, the first few, each from an empty folder."""
    modules = [module for module in package.modules if not module.startswith("_")]
    return [_try(machine, interpreter, package, module) for module in modules[:3]]


def _try(machine: Machine, interpreter: Interpreter, package: Package, module: str) -> ImportAnswer:
    assert machine.runner is not None
    with machine.runner.empty_folder() as empty:
        trial = try_import(machine.runner, interpreter.executable, module, folder=empty, seconds=machine.seconds,
                           variables=machine.reader.variables)  # fmt: skip
    answer = ImportAnswer(statement=f"import {module}", module=module, outcome="imports" if trial.imports else "fails")
    answer.found_at = trial.file
    answer.distribution = Distribution(name=package.name, version=package.version or "")
    if trial.root is not None:
        answer.error = ErrorText(type=trial.root.type, text=trial.root.text)
    elif not trial.imports:
        answer.error = ErrorText(type="no answer", text=_how_ended(trial, machine.seconds))
    return answer


def _how_ended(trial: Trial, seconds: float) -> str:
    """Why an interpreter said nothing about an import."""
    if trial.timed_out:
        return f"the import took longer than {seconds:g} seconds"
    if trial.signal is not None:
        return f"the interpreter was ended by {trial.signal}"
    return trial.problem or f"the interpreter ended with status {trial.status}"


def running_in(machine: Machine, environment: Environment) -> list[str]:
    """The processes of this user that run in the environment now, in words: kernels, and other programs."""
    from kalyx.core.seats.process import process_seat

    reader, result = machine.reader.again(), []
    for process in python_processes(reader):
        seat = process_seat(machine.reader, process, "")
        if seat.environment is None or seat.environment.key != environment.key:
            continue
        what = "kernel" if connection_file_of(process) else program_ran(process.command)
        result.append(f"process {process.pid} ({what})")
    return result
