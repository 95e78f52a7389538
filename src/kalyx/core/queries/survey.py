"""The survey as an answer: everything found, judged, named and tied to its kernels."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from msgspec.structs import replace

from kalyx.core.diagnosis import catalogue
from kalyx.core.environments.found import bases_of, found_environments, in_order_of_versions, names_of, with_name
from kalyx.core.environments.searchpath import user_site
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, PackageSize, Unread, UserPackages
from kalyx.core.model.results import SurveyAnswer
from kalyx.core.system import Unreadable


def survey(
    machine: Machine, under: Iterable[str], sizes: bool = False, watch: Callable[[int, int], None] | None = None
) -> SurveyAnswer:
    """Every interpreter and environment, each with its condition; with ``sizes`` the bytes each takes.

    ``watch`` is told how many environments are measured, of how many.
    """
    unread = machine.unread
    try:
        machine.reader.listing(machine.reader.home)
    except Unreadable as problem:
        unread.append(Unread(path=machine.reader.home, reason=problem.reason))
    below: list[str] = []
    known = machine.interpreters
    started, named = machine.environments.started()
    installed = [*known, *started]
    views = found_environments(machine.reader, installed, under, named, unread, running=True, installations=below)
    bases = bases_of(machine.reader, views, known, below)
    judged = [catalogue.judge_environment(view, machine) for view in views]
    names = names_of(machine.reader, judged)
    kernels: dict[str, list[str]] = {}
    for kernel in machine.kernels:
        if kernel.environment is not None:
            kernels.setdefault(kernel.environment.key, []).append(kernel.key)
    environments = [
        replace(with_name(environment, names), kernels=kernels.get(environment.key, [])) for environment in judged
    ]
    answer = SurveyAnswer(
        interpreters=in_order_of_versions(known + bases),
        environments=environments,
        unread=unread,
        user_packages=list(_user_packages(machine)),
    )
    if sizes:
        _measure(machine, answer, watch)
    return answer


def _user_packages(machine: Machine) -> Iterator[UserPackages]:
    """The user's own packages, one entry a version that has any."""
    reader, seen = machine.reader, set()
    for interpreter in machine.interpreters:
        folder = user_site(reader, interpreter, reader.variables)
        if folder in seen or not reader.is_folder(folder):
            continue
        seen.add(folder)
        from kalyx.core.packages.metadata import installed_in

        version = interpreter.minor
        yield UserPackages(version=version, folder=folder, distributions=len(installed_in(reader, folder)))


def _measure(machine: Machine, answer: SurveyAnswer, watch: Callable[[int, int], None] | None) -> None:
    """Bytes on disk; of an installation only its library and site folders, since a system's prefix is shared."""
    all_of_them, measured = len(answer.environments), list[Environment]()
    for number, environment in enumerate(answer.environments):
        if watch is not None:
            watch(number, all_of_them)
        if environment.condition != "unreadable":
            size, unread = machine.reader.usage(_own_root(machine, environment))
            sizes = _package_sizes(machine, environment)
            environment = replace(environment, package_sizes=sizes, size_bytes=size)
            if unread:
                places = "place" if unread == 1 else "places"
                answer.unread.append(Unread(path=environment.prefix, reason=f"{unread} {places} in it not measured"))
        measured.append(environment)
    answer.environments = measured
    answer.user_packages = [
        replace(user, size_bytes=machine.reader.usage(user.folder)[0]) for user in answer.user_packages
    ]


def _package_sizes(machine: Machine, environment: Environment) -> list[PackageSize]:
    reader, package_sizes = machine.reader, []
    for installed in machine.installed(environment.site_packages):
        files = installed.files
        size = None
        if files is not None:
            size = reader.usage_of_files([reader.path.normpath(reader.join(installed.site, file)) for file in files])
        package_sizes.append(PackageSize(name=installed.name, version=installed.version, size_bytes=size))
    return sorted(package_sizes, key=lambda row: -(row.size_bytes or 0))


def _own_root(machine: Machine, environment: Environment) -> str:
    if environment.prefix in ("/usr", "/usr/local", "/") and environment.version:
        own = next(
            (
                interpreter
                for interpreter in machine.interpreters
                if interpreter.prefix == environment.prefix and interpreter.version == environment.version
            ),
            None,
        )
        return own.library if own is not None and own.library else environment.key
    return environment.key
