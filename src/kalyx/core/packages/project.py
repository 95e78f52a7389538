"""What a project asks for, in its own files: the Python, and the requirements.

``pyproject.toml`` (PEP 621: ``requires-python``, ``dependencies``, ``optional-dependencies``; PEP 735: groups), a
script's own block (PEP 723), and requirements files next to them. Read, never built or run.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import takewhile

from msgspec import Struct

from kalyx.core.environments.reading import USUAL_NAMES
from kalyx.core.formats.span import Malformed
from kalyx.core.interpreters.reading import SETTINGS_NAME
from kalyx.core.system import Reader, Unreadable
from kalyx.core.text.nested import nested

_LIMIT = 1024 * 1024
_ABOVE = 12
_MOST, _FILES = 2000, 50
PROJECT, REQUIREMENTS = "pyproject.toml", "requirements.txt"
# Whose presence makes a folder a project that can be installed; of the last alone it cannot.
PROJECT_FILES = (PROJECT, "setup.py", "setup.cfg")


class ProjectRequirement(Struct, frozen=True):
    """One requirement line, where it stands, and the extra or group it belongs to (None: always asked for)."""

    line: str
    path: str
    number: int | None = None
    group: str | None = None


class Project(Struct):
    """A project's wishes; ``problem`` where a file of it cannot be read, ``dynamic`` where only a build tells."""

    path: str
    name: str
    requires_python: str | None = None
    wishes: list[ProjectRequirement] = []
    dynamic: bool = False
    problem: str | None = None


def project_of(reader: Reader, folder: str) -> Project | None:
    """The project that a folder belongs to: its own files, else those of the nearest folder above. None: there is none.

    Above the home folder, or above the top of a repository, nothing is looked for.
    """
    here = folder
    for _ in range(_ABOVE):
        project = _in_folder(reader, here)
        if project is not None:
            return project
        above = reader.parent(here)
        is_top = reader.is_there(reader.join(here, ".git")) or reader.real(here) == reader.real(reader.home)
        if above == here or is_top:
            return None
        here = above
    return None


def environment_of_project(reader: Reader, folder: str) -> str | None:
    """The prefix of the environment that a folder's project has next to its own files; None where it has none.

    Looked for from the folder up to that of the project's files. An environment of another name than the usual ones
    counts where it is the only one in the project's folder.
    """
    project = project_of(reader, folder)
    top = reader.parent(project.path) if project is not None else folder
    here = folder
    while True:
        for name in USUAL_NAMES:
            if reader.is_file(reader.join(here, name, SETTINGS_NAME)):
                return reader.join(here, name)
        if here == top or reader.parent(here) == here:
            break
        here = reader.parent(here)
    if project is None:
        return None
    names = [name for name in reader.names(top) if reader.is_file(reader.join(top, name, SETTINGS_NAME))]
    return reader.join(top, names[0]) if len(names) == 1 else None


def _in_folder(reader: Reader, folder: str) -> Project | None:
    path, listed = reader.join(folder, PROJECT), reader.join(folder, REQUIREMENTS)
    project = None
    if reader.is_file(path):
        project = project_in(reader, path)
    if reader.is_file(listed):
        project = project or Project(listed, reader.name(folder) or folder)
        known = {wish.line for wish in project.wishes}
        project.wishes += [wish for wish in lines_of_requirements(reader, listed) if wish.line not in known]
    return project


def project_in(reader: Reader, path: str) -> Project | None:
    """What a project file says; None where it holds settings of tools alone."""
    from kalyx.core.formats import toml

    try:
        text = reader.read_text(path, _LIMIT)
        whole = toml.read(text)
    except (Unreadable, Malformed) as problem:
        reason = problem.reason if isinstance(problem, Unreadable) else str(problem)
        return Project(path, reader.name(reader.parent(path)), problem=reason)
    message, groups = whole.get("project"), whole.get("dependency-groups")
    if not isinstance(message, dict) and not isinstance(groups, dict):
        return None  # settings of tools alone: no project
    table = message if isinstance(message, dict) else {}
    name = table.get("name")
    project = Project(path, name if isinstance(name, str) else reader.name(reader.parent(path)))
    python = table.get("requires-python")
    project.requires_python = python if isinstance(python, str) else None
    if _is_long(whole):
        project.problem = f"it asks for more than {_MOST} requirements"
        return project
    dynamic = table.get("dynamic")
    project.dynamic = isinstance(dynamic, list) and "dependencies" in dynamic
    listed = table.get("dependencies", [])
    if not isinstance(listed, list) or not all(isinstance(line, str) for line in listed):
        project.problem = "project.dependencies is not a list of texts"
    project.wishes = [_wish(text, line, path, None) for line in _texts(listed)]
    optional = table.get("optional-dependencies")
    for group, lines in (optional if isinstance(optional, dict) else {}).items():
        project.wishes += [_wish(text, line, path, str(group)) for line in _texts(lines)]
    for group in groups if isinstance(groups, dict) else {}:
        project.wishes += [_wish(text, line, path, str(group)) for line in _of_group(groups, group, set())]
    return project


# Folders at the top of a project in which the usual build backend looks for no package (setuptools, "Automatic
# discovery", flat layout).
_NO_PACKAGE = {
    "ci", "bin", "debian", "doc", "docs", "documentation", "manpages", "news", "newsfragments", "changelog", "test",
    "tests", "unit_test", "unit_tests", "example", "examples", "scripts", "tools", "util", "utils", "python", "build",
    "benchmark", "benchmarks", "exercise", "exercises", "htmlcov",
}  # fmt: skip


def backend_of(reader: Reader, folder: str) -> str:
    """The module that builds a project (PEP 517); what the standard says where the project says nothing."""
    from kalyx.core.formats import toml

    try:
        whole = toml.read(reader.text_or_none(reader.join(folder, PROJECT), _LIMIT) or "")
        backend = nested(whole, "build-system", "build-backend")
    except Malformed:
        backend = None
    return backend.split(":")[0] if isinstance(backend, str) and backend else "setuptools.build_meta"


def is_refused_layout(reader: Reader, folder: str) -> bool:
    """Whether the usual build backend refuses the project: several packages at its top and nothing that says
    which of them are meant, or a file that is no TOML."""
    from kalyx.core.formats import toml

    if not backend_of(reader, folder).startswith("setuptools") or reader.is_folder(reader.join(folder, "src")):
        return False
    if any(reader.is_file(reader.join(folder, name)) for name in PROJECT_FILES[1:]):
        return False  # written by hand: it may name its packages
    try:
        whole = toml.read(reader.text_or_none(reader.join(folder, PROJECT), _LIMIT) or "")
        settings = nested(whole, "tool", "setuptools")
    except Malformed:
        return True
    if nested(settings, "packages") is not None or nested(settings, "py-modules") is not None:
        return False
    names = [
        name for name in reader.names(folder) if name.isidentifier() and reader.is_folder(reader.join(folder, name))
    ]
    packages = [name for name in names if name not in _NO_PACKAGE and not name.startswith("_")]
    modules = [name for name in reader.names(folder) if name.endswith(".py") and name[:-3].isidentifier()]
    return len(packages) > 1 or (not packages and len(modules) > 1)


def _is_long(whole: dict[str, object]) -> bool:
    """Whether a project file asks for more than any project does, so that nothing of it is judged."""
    project = whole.get("project")
    project = project if isinstance(project, dict) else {}
    tables = [whole.get("dependency-groups"), project.get("optional-dependencies")]
    inner = [item for table in tables if isinstance(table, dict) for item in table.values()]
    several = [project.get("dependencies"), *inner]
    return sum(len(item) for item in several if isinstance(item, list)) > _MOST


def _of_group(groups: object, group: str, seen: set[str]) -> Iterator[str]:
    """A group's lines, with those of the groups it includes, each group once."""
    lines = nested(groups, group)
    if group in seen or not isinstance(lines, list):
        return
    seen.add(group)
    for line in lines:
        if isinstance(line, str):
            yield line
        elif isinstance(line, dict) and isinstance(line.get("include-group"), str):
            yield from _of_group(groups, line["include-group"], seen)


def _texts(value: object) -> list[str]:
    return [item for item in value if isinstance(item, str)] if isinstance(value, list) else []


def _wish(text: str, line: str, path: str, group: str | None) -> ProjectRequirement:
    # As a text of its own where it stands so: a name can be a part of another.
    at = max(text.find(f'"{line}"'), text.find(f"'{line}'"))
    at = at if at >= 0 else text.find(line)
    return ProjectRequirement(line, path, text.count("\n", 0, at) + 1 if at >= 0 else None, group)


def lines_of_requirements(reader: Reader, path: str, seen: set[str] | None = None) -> list[ProjectRequirement]:
    """The requirements of a file and of those it reads in, each file once, as many as any project has.

    Options and what has no name are passed over.
    """
    requirements: list[ProjectRequirement] = []
    seen = set() if seen is None else seen
    if path in seen or len(seen) > _FILES:
        return requirements
    seen.add(path)
    text = reader.text_or_none(path, _LIMIT) or ""
    for number, raw in enumerate(text.replace("\\\n", " ").splitlines(), 1):
        line = raw.split(" #")[0].split(" --")[0].strip()
        if len(requirements) >= _MOST:
            break
        if line.startswith(("-r ", "--requirement ")):
            named = line.partition(" ")[2].strip()
            requirements += lines_of_requirements(reader, reader.absolute(named, reader.parent(path)), seen)
        elif line and not line.startswith(("#", "-", ".", "/")) and "://" not in line.split("@")[0]:
            requirements.append(ProjectRequirement(line, path, number))
    return requirements


def block_of_script(reader: Reader, path: str) -> Project | None:
    """What a script says of itself in a block of comments (PEP 723); None where it has none."""
    lines = (reader.text_or_none(path, _LIMIT) or "").splitlines()
    if "# /// script" not in lines:
        return None
    below = lines[lines.index("# /// script") + 1 :]
    comments = list(takewhile(lambda line: line == "#" or line.startswith("# "), below))
    from kalyx.core.formats import toml

    project = Project(path, reader.name(path))
    if "# ///" not in comments:
        project.problem = "its block of requirements has no last line '# ///', so that it counts as a comment"
        return project
    # The last such line ends the block.
    block = [line[2:] for line in comments[: len(comments) - 1 - comments[::-1].index("# ///")]]
    try:
        message = toml.read("\n".join(block))
    except Malformed as problem:
        project.problem = str(problem)
        return project
    python = message.get("requires-python")
    project.requires_python = python if isinstance(python, str) else None
    text = "\n".join(lines)
    project.wishes = [_wish(text, line, path, None) for line in _texts(message.get("dependencies"))]
    return project
