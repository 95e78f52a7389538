"""``kalyx packages``: list importable packages, where each comes from, and hidden copies."""

from __future__ import annotations

import argparse

from msgspec.structs import replace

from kalyx.cli.context import Call
from kalyx.core.environments.searchpath import SearchPath
from kalyx.core.invocation import interpreter_of, search_of
from kalyx.core.model.records import Interpreter, KalyxError, Package
from kalyx.core.model.results import PackagesAnswer
from kalyx.core.packages.contents import contents
from kalyx.core.packages.metadata import installed_in
from kalyx.core.system.reasons import NOTHING_THERE
from kalyx.core.text.names import canonical
from kalyx.core.text.visible import visible


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("target", nargs="?", metavar="TARGET", help="the seat or environment (the caller or the shell)")
    parser.add_argument(
        "--as",
        dest="command_line",
        metavar="COMMANDLINE",
        help='list what this command line could import ("python -I tool.py"); python by its path is the target',
    )
    parser.add_argument("--origin", choices=("own", "base", "user", "path", "linked"), help="only packages from there")
    parser.add_argument("--hidden", action="store_true", help="only copies that another one hides")
    parser.add_argument("--unmet", action="store_true", help="only packages with an unmet requirement")
    parser.add_argument("--for", dest="project", metavar="FOLDER", help="what this project asks for, one by one")
    parser.add_argument("--match", metavar="TEXT", help="only names or modules with this text in them")
    parser.add_argument("--sizes", action="store_true", help="measure what each takes on disk")


def run(call: Call) -> int:
    call.take_target_of_command()
    seat = call.target(call.options.target)
    interpreter = interpreter_of(seat, call.machine)
    search = search_of(seat, call.machine, call.question)
    seat = replace(seat, search_path=search.entries)
    packages, unread = contents(call.machine.reader, interpreter, search)
    chosen = [package for package in packages if _wanted(package, call.options)]
    if call.options.sizes:
        _measure(call, chosen)
    count = sum(package.version is not None for package in packages)
    answer = PackagesAnswer(target=seat, packages=chosen, searched=count, unread=unread, unknown=search.unknown)
    if call.options.project is not None:
        _judge(call, answer, interpreter, search)
    if call.as_json:
        call.print_json(answer)
    else:
        from kalyx.cli.render.packages import draw_packages

        draw_packages(call.screen, answer, call.options)
    if answer.fitness is not None:
        return 0 if answer.fitness.runs else 1
    result = answer.unread or (call.options.unmet and any(package.unmet for package in packages))
    return 1 if result else 0


def _judge(call: Call, answer: PackagesAnswer, interpreter: Interpreter, search: SearchPath) -> None:
    """What the project in a folder (or a script with a block of its own) asks for, against what is here."""
    from kalyx.core.packages.project import block_of_script, project_of
    from kalyx.core.queries.fitness import fitness
    from kalyx.core.queries.here import asks_of

    reader = call.machine.reader
    path = reader.absolute(call.options.project)
    if reader.is_file(path) and path.endswith(".py"):
        project = block_of_script(reader, path)
    else:
        project = project_of(reader, path) if reader.is_folder(path) else None
    if project is None:
        what = "no project's files are there or above" if reader.exists(path) else NOTHING_THERE
        raise KalyxError(f"{visible(path)}: {what}")
    if project.problem is not None:
        raise KalyxError(f"{visible(project.path)}: {project.problem}")
    answer.project, answer.fitness = asks_of(project), fitness(call.machine, interpreter, search, project)


def _wanted(package: Package, options: argparse.Namespace) -> bool:
    if options.origin is not None and package.origin != options.origin:
        return False
    if options.hidden and package.hidden_by is None:
        return False
    if options.unmet and not package.unmet:
        return False
    text = (options.match or "").lower()
    return text in package.name.lower() or any(text in module.lower() for module in package.modules)


def _measure(call: Call, packages: list[Package]) -> None:
    reader = call.machine.reader
    records = {}
    for folder in {package.location for package in packages}:
        for installed in installed_in(reader, folder):
            records[folder, canonical(installed.name)] = installed
    for package in packages:
        record = records.get((package.location, canonical(package.name)))
        if record is not None and record.files is not None:
            files = [reader.path.normpath(reader.join(record.site, file)) for file in record.files]
            package.size_bytes = reader.usage_of_files(files)
