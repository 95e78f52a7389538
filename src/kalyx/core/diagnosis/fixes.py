"""Fixes that several causes share: install, register, rename, recreate.

The smallest change comes first; paths are complete; lines are for the user's
own shell. Where another tool manages an environment, its installer is not used.
No name is offered for installation that neither metadata nor a table has.
"""

from __future__ import annotations

import re
from functools import cache

from msgspec import Struct

from kalyx.core.data import table
from kalyx.core.kernels.specs import valid_id
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Fix, Interpreter, Kernel
from kalyx.core.model.steps import (
    Activate,
    BringInstaller,
    CreateEnvironment,
    FillEnvironment,
    Install,
    ManualStep,
    Move,
    Point,
    RegisterKernel,
    RunSystemProgram,
    RunWith,
    Step,
    UnregisterKernel,
    WriteImport,
)
from kalyx.core.system import Reader
from kalyx.core.text.names import is_requirement
from kalyx.core.text.quoting import Unquotable, line_for, line_with
from kalyx.core.text.visible import visible

KEEPER_FILE = "EXTERNALLY-MANAGED"


def step(machine: Machine, made: Step) -> Step:
    """The step with its command and its line to paste; in words where the user's shell cannot carry a word of it."""
    argv = made.argv(machine.reader.system)
    words = argv if argv is not None else made.words if isinstance(made, RunWith) else []
    try:
        if argv is not None:
            made.command, made.line = argv, line_for(argv, machine.shell.name)
        elif isinstance(made, RunWith):
            made.line = line_with(made.variables, words, machine.shell.name)
        return made
    except Unquotable as refusal:
        details = ", ".join(repr(word) for word in words)
        why = f"no line of {machine.shell.name} carries {refusal.word!r} ({refusal.reason})"
        return by_hand(f"{why}; start by other means: {details}")


def by_hand(text: str, typed: str | None = None) -> Step:
    """A step that no command does, in words, with the line to type then."""
    return ManualStep(line=": ".join(part for part in (text, typed) if part), typed=typed)


def activate(machine: Machine, prefix: str) -> Step:
    """Activate an environment in the user's shell."""
    return Activate(prefix=prefix, line=machine.line_to_enter(prefix))


def write(statement: str) -> Step:
    """Change the import statement."""
    return WriteImport(statement=statement, line=f"write: {statement}")


def keeper_of(machine: Machine, interpreter: Interpreter) -> str | None:
    """What manages this environment's packages, in words; None when its own installer does."""
    reader = machine.reader
    if interpreter.prefix == interpreter.base_prefix:
        # PEP 668: the mark is in the standard library's folder.
        mark = reader.join(interpreter.library, KEEPER_FILE)
        if reader.may_be_there(mark):
            return f"the system's own package manager ({mark})"
    records = reader.join(interpreter.prefix, "conda-meta")
    if reader.is_folder(records):
        return f"the installer that keeps {records}"
    lock = lock_file_of(machine, interpreter)
    return f"the project it lies in, by its lock file {lock}" if lock is not None else None


def lock_file_of(machine: Machine, interpreter: Interpreter) -> str | None:
    """The lock file next to an environment, in its project's folder: this file decides which packages it has."""
    reader = machine.reader
    if interpreter.prefix == interpreter.base_prefix:
        return None
    project = reader.parent(interpreter.prefix)
    names = reader.names(project)
    if "pyproject.toml" not in names:
        return None
    for name in names:
        # PEP 751 names its files so; the older forms end in .lock.
        if name == "pylock.toml" or (name.startswith("pylock.") and name.endswith(".toml")) or name.endswith(".lock"):
            return reader.join(project, name)
    return None


def install(machine: Machine, interpreter: Interpreter, requirement: str, *more: str) -> Fix:
    """Install a requirement into the environment of ``interpreter``, by its own installer and its full path."""
    return install_all(machine, interpreter, [requirement], *more)


def for_development(machine: Machine, interpreter: Interpreter, root: str, message: str, *more: str) -> list[Fix]:
    """Install a project from its own folder, so that its files are used where they are; none where it does not build.

    An environment that has the project's build backend needs no index for it.
    """
    from kalyx.core.packages.project import backend_of, is_refused_layout

    reader = machine.reader
    if is_refused_layout(reader, root):
        return []
    environment = machine.environments.of(interpreter)
    resolver = machine.resolver(environment) if environment is not None else None
    has_backend = resolver is not None and resolver.resolve(backend_of(reader, root).split(".")[0]).location is not None
    own = ["--no-build-isolation"] if has_backend and "--no-deps" in more else []
    fix = install(machine, interpreter, root, *own, *more, "-e").called(message)
    return [fix]


def install_all(machine: Machine, interpreter: Interpreter, requirements: list[str], *more: str) -> Fix:
    """Install several requirements at once, each within what everything else in the environment leaves open."""
    for requirement in requirements:
        if not _may_be_installed(machine, requirement, more):
            return _no_name(requirement)
    keeper = keeper_of(machine, interpreter)
    if keeper is not None:
        return _kept(machine, interpreter, keeper, requirements, more)
    steps: list[Step] = []
    is_base = interpreter.prefix == interpreter.base_prefix
    into = f"the base Python {interpreter.version}" if is_base else machine.reader.name(interpreter.prefix)
    message = f"install it into {into}"
    environment = machine.environments.of(interpreter)
    resolver = machine.resolver(environment) if environment else None
    if resolver is not None and resolver.resolve("pip").location is None:
        steps.append(step(machine, BringInstaller(python=interpreter.executable)))
    from kalyx.core.packages.bounds import within

    words, moved, minders, options = list[str](), list[str](), list[str](), list(more)
    here = machine.installed(environment.site_packages) if environment is not None and "-e" not in more else []
    for requirement in requirements:
        bounded = within(requirement, here, interpreter, machine.reader.system)
        words.append(bounded.line)
        minders += bounded.minders
        moved += bounded.in_the_way
    if minders:
        message += f", within what {' and '.join(minders[:2])} leaves open"
    if moved:
        # Another release of each package may accept it; if there is none, the installer says so and changes nothing.
        moved = list(dict.fromkeys(moved))
        options += [] if "--upgrade" in more else ["--upgrade"]
        words += moved
        message += f", with a release of {' and '.join(moved[:3])} that takes it"
    steps.append(step(machine, Install(python=interpreter.executable, requirements=words, options=options)))
    return Fix(message=message, steps=steps, changes=[interpreter.prefix])


def _kept(
    machine: Machine, interpreter: Interpreter, keeper: str, requirements: list[str], more: tuple[str, ...]
) -> Fix:
    """The fix where another tool manages the packages: an environment of the user's own."""
    own = own_environment(machine, interpreter, requirements)
    if own is None or "-e" in more:
        details = by_hand(f"add {' '.join(requirements)} through {keeper}, or use an environment of your own")
        return Fix(message=f"add it through {keeper}, which manages the packages there", steps=[details], changes=[])
    verb = "create an environment for" if isinstance(own, CreateEnvironment) else "install it into the environment of"
    message = f"{verb} this folder: {keeper} manages the packages of this Python"
    first = before_creating(machine, interpreter) if isinstance(own, CreateEnvironment) else None
    return Fix(message=message, steps=[*(first or []), step(machine, own)], changes=[own.prefix])


def own_environment(
    machine: Machine, interpreter: Interpreter, requirements: list[str]
) -> CreateEnvironment | FillEnvironment | None:
    """The step that gives the current folder an environment with these packages.

    None for an installation whose packages its own installer may change, and where none can be made of it.
    """
    reader = machine.reader
    path = reader.join(reader.folder, ".venv")
    if interpreter.prefix != interpreter.base_prefix or interpreter.version.startswith("2."):
        return None
    if reader.exists(path):
        own = machine.environments.at(path)
        fills = FillEnvironment(prefix=path, requirements=requirements)
        return fills if own is not None and own.executable is not None else None
    if before_creating(machine, interpreter) is None:
        return None
    return CreateEnvironment(prefix=path, python=interpreter.executable, requirements=requirements)


def lacks_to_create(machine: Machine, base: Interpreter) -> str | None:
    """The standard module that a base Python needs to create environments and does not have; None: it has both."""
    reader = machine.reader
    for module in ("venv", "ensurepip"):
        path = reader.join(base.library, module, "__init__.py")
        if not reader.is_file(path) and not reader.is_file(path + "c"):
            return module
    return None


def before_creating(machine: Machine, base: Interpreter) -> list[Step] | None:
    """What is to be done before a base Python can create an environment; None where that is not possible."""
    if base.version.startswith("2."):
        return None
    if lacks_to_create(machine, base) is None:
        return []
    # Another Python than the system's has nothing of the system's packages.
    brought = of_system(machine, f"python{base.minor}-venv", None, None) if base.prefix == "/usr" else None
    return list(brought.steps) if brought is not None else None


def _may_be_installed(machine: Machine, requirement: str, more: tuple[str, ...]) -> bool:
    """Whether the word is a requirement by the standards, or with ``-e`` a folder."""
    if "-e" in more:
        return machine.reader.path.isabs(requirement) and machine.reader.is_folder(requirement)
    return is_requirement(requirement)


def _no_name(requirement: str) -> Fix:
    """The fix where metadata has a name that no distribution may have: the name is not part of any line."""
    line = f"its metadata calls it {visible(requirement)!r}, which no distribution may be called:"
    line += " a damaged or hostile record"
    return Fix(message="do not install by that name", steps=[by_hand(line)])


def unknown_here(name: str) -> Fix:
    """The fix where no table and no metadata names the package: a guessed name may be a hostile package."""
    line = f"no metadata that Kalyx read, and no table of its own, says which package provides {visible(name)}:"
    details = by_hand(f"{line} look where the code that needs it comes from")
    return Fix(message="find out which package provides it", steps=[details], state="may-help")


def with_another_python(machine: Machine, interpreter: Interpreter, minor: str, requirement: str) -> Fix:
    """Create an environment with a Python version that the package supports: next to this one, of a base Python in the
    current folder."""
    if not is_requirement(requirement):
        return _no_name(requirement)
    is_base = interpreter.prefix == interpreter.base_prefix
    beside = machine.reader.join(machine.reader.folder, ".venv") if is_base else interpreter.prefix
    path = f"{beside}-{minor}"
    made = step(machine, CreateEnvironment(prefix=path, python=f"version:{minor}", requirements=[requirement]))
    message = f"create an environment with Python {minor}"
    here = any(item.minor == minor and before_creating(machine, item) is not None for item in machine.interpreters)
    if not here:
        lacking = [lacks_to_create(machine, item) for item in machine.interpreters if item.minor == minor]
        why = f"Python {minor} here lacks the module {lacking[0]}" if lacking else f"no Python {minor} was found here"
        details = by_hand(f"{why}; once that is installed", made.line)
        return Fix(message=message, steps=[details], state="may-help")
    return Fix(message=message, steps=[made], changes=[path])


def register(
    machine: Machine,
    environment: Environment,
    identifier: str,
    take_over: bool,
    notebook: str | None = None,
    own_path: bool = False,
) -> Fix:
    """Make a kernel of this id start this environment; of another id where the server would still start its own.

    ``notebook``: the path of the notebook that is to ask for the kernel, should the id be another; ``own_path``: the
    environment comes first on the kernel's PATH.
    """
    if not valid_id(identifier) or identifier.startswith("-"):
        line = f"{visible(identifier)!r} is not a kernel id: register it under one of letters, digits, '-', '_' and '.'"
        return Fix(message=f"make kernel {identifier} start {environment.name}", steps=[by_hand(line)])
    if machine.kernel_before(identifier, machine.servers.registered_in("me", environment.prefix)) is not None:
        return register_anew(machine, environment, notebook)
    made = registering(machine, environment, identifier)
    made.take_over, made.own_path = take_over, own_path
    made.explain = take_over and any(kernel.explains for kernel in machine.kernels if kernel.id == identifier)
    return _registers(machine, environment, made, f"make kernel {identifier} start {environment.name}", [identifier])


def register_anew(machine: Machine, environment: Environment, notebook: str | None) -> Fix:
    """Register an environment under an id that no kernel has; the notebook of this path asks for that kernel then."""
    made = registering(machine, environment, machine.free_id(environment.name))
    made.notebook = notebook
    message = f"register {environment.name} as kernel {made.identifier}"
    message += ", then choose that kernel" if notebook is None else f" and let {machine.reader.name(notebook)} use it"
    changes = [made.identifier] if notebook is None else [made.identifier, notebook]
    return _registers(machine, environment, made, message, changes)


def _registers(
    machine: Machine, environment: Environment, made: RegisterKernel, message: str, changes: list[str]
) -> Fix:
    """The fix of a registration; where another tool manages what would be brought, by an own environment or by hand."""
    resolver = machine.resolver(environment) if made.bring_package else None
    keeper = keeper_of(machine, resolver.interpreter) if resolver is not None else None
    if resolver is None or keeper is None:
        steps: list[Step] = [step(machine, made)]
        if resolver is not None and resolver.resolve("pip").location is None:
            steps.insert(0, step(machine, BringInstaller(python=resolver.interpreter.executable)))
        return Fix(message=message, steps=steps, changes=changes)
    from kalyx.core.kernels.makers import USUAL

    own = own_environment(machine, resolver.interpreter, [USUAL.distribution])
    made.bring_package = False
    if own is None:
        first = by_hand(f"add {USUAL.distribution} through {keeper}")
        message += f", once {keeper} has brought the kernel package"
    else:
        first, made.prefix, made.target = step(machine, own), own.prefix, None
        message += f", by an environment of this folder: {keeper} manages the packages of this Python"
        changes = [own.prefix, *changes]
    return Fix(message=message, steps=[first, step(machine, made)], changes=changes)


def run_notebook_on(machine: Machine, environment: Environment, notebook: str | None) -> Fix:
    """Let a notebook run on an environment: by a kernel that starts that environment, else by a new kernel."""
    from kalyx.core.diagnosis.shared.kernel_module import could_answer  # a survey has no notebooks

    ready = [
        kernel
        for kernel in machine.kernels
        if kernel.environment is not None
        and kernel.environment.key == environment.key
        and could_answer(kernel, machine)
    ]
    if not ready:
        return register_anew(machine, environment, notebook)
    first = ready[0]
    message = f"run it on kernel {first.id}, which starts {environment.name}"
    if notebook is None:
        choose = f"choose the kernel {first.id} ({first.label}): it runs {environment.name}"
        return Fix(message=message, steps=[by_hand(choose)])
    made = step(machine, Point(seat=f"notebook:{notebook}", target=f"kernel:{first.id}"))
    return Fix(message=message, steps=[made], changes=[notebook])


def registering(machine: Machine, environment: Environment, identifier: str) -> RegisterKernel:
    """The step that registers an environment; it brings a kernel package along where there is none."""
    resolver = machine.resolver(environment)
    from kalyx.core.kernels.makers import KERNEL_PACKAGES

    lacks = resolver is not None and all(
        resolver.resolve(kernel_package.module).location is None for kernel_package in KERNEL_PACKAGES
    )
    made = RegisterKernel(prefix=environment.prefix, identifier=identifier, bring_package=lacks)
    made.target = environment.target if environment.target != environment.prefix else None
    return made


def unregister(machine: Machine, kernel: Kernel) -> Fix:
    """Remove a kernel: by its id where that means just this one, else by its folder."""
    by_id = valid_id(kernel.id) and not kernel.id.startswith("-") and machine.kernels_called(kernel.id) < 2
    gone = step(machine, UnregisterKernel(kernel=kernel.id if by_id else kernel.folder))
    return Fix(message=f"remove the kernel {kernel.id}", steps=[gone], changes=[kernel.folder])


def set_aside(machine: Machine, paths: list[str], message: str) -> Fix:
    """Give files of the user's own another name, under which nothing reads them; who else owns one is to do that."""
    owners = [not_the_users_own(machine, path) for path in paths]
    steps = [
        by_hand(f"{path} belongs to {whose}: have it removed by what put it there") if whose is not None
        else step(machine, Move(path=path, to=path + ".aside"))
        for path, whose in zip(paths, owners, strict=True)
    ]  # fmt: skip
    changes = [path for path, whose in zip(paths, owners, strict=True) if whose is None]
    return Fix(message=message, steps=steps, changes=changes, state="certain" if changes == paths else "may-help")


def rename(machine: Machine, path: str, to: str) -> Fix:
    """Rename a file or folder of the user's own that hides a module; other files are not renamed."""
    whose = not_the_users_own(machine, path)
    if whose is not None:
        line = (
            f"{path} hides the module that is meant and belongs to {whose}, so it must not be moved;"
            " take its folder off sys.path"
        )
        return Fix(message="take its folder off sys.path", steps=[by_hand(line)], state="may-help")
    return Fix(message="rename it", steps=[step(machine, Move(path=path, to=to))], changes=[path])


def not_the_users_own(machine: Machine, path: str) -> str | None:
    """The owner, in words, of a file, link or folder that no fix may move or remove; None where it is the user's own.

    A link is moved or removed by itself, whatever it leads to. Not the user's own: files of a standard library, an
    installation of Python or a distribution, and everything outside the home folder and the current tree.
    """
    reader = machine.reader
    real = reader.join(reader.real(reader.parent(path)), reader.name(path))
    from kalyx.core.interpreters.consent import tree_of

    own = [reader.real(reader.home), reader.real(reader.folder), tree_of(reader) or reader.real(reader.folder)]
    if not any(reader.inside(real, folder) and real != folder for folder in own):
        return "others: it lies outside your own folders"
    here = real
    while True:
        upper = reader.parent(here)
        if upper == here:
            break
        if is_standard_library(reader, upper):
            return f"the standard library in {upper}"
        owner = _recorded_in(reader, upper, real) if reader.name(upper) in SITE_NAMES else None
        if owner is not None:
            return owner
        here = upper
    prefix = _installation_around(reader, real, own)
    return f"the Python installed in {prefix}" if prefix is not None else None


SITE_NAMES = ("site-packages", "dist-packages")


def _installation_around(reader: Reader, path: str, own: list[str]) -> str | None:
    """The nearest folder above a path that an installation of Python fills and that is none of the user's own."""
    here = reader.parent(path)
    while reader.parent(here) != here and not any(reader.inside(folder, here) for folder in own):
        libraries = [reader.join(here, "Lib")] if reader.system == "windows" else []
        libraries += [reader.join(here, "lib", name) for name in reader.names(reader.join(here, "lib"))
                      if name.startswith(("python", "pypy"))]  # fmt: skip
        if any(is_standard_library(reader, library) for library in libraries):
            return here
        here = reader.parent(here)
    return None


def is_standard_library(reader: Reader, folder: str) -> bool:
    """Whether a folder is the standard library of some Python, by the landmarks that interpreters look for."""
    return reader.is_file(reader.join(folder, "os.py")) and reader.is_folder(reader.join(folder, "encodings"))


def _recorded_in(reader: Reader, site: str, path: str) -> str | None:
    from kalyx.core.packages.metadata import installed_in

    for distribution in installed_in(reader, site):
        for file in distribution.files or ():
            listed = reader.real(reader.path.normpath(reader.join(distribution.site, *file.split("/"))))
            if listed == path or reader.inside(listed, path):
                return f"{distribution.name} {distribution.version}, which was installed"
    return None


def free_name(machine: Machine, path: str) -> str:
    """A path in the same folder that does not exist yet."""
    stem, extension = machine.reader.path.splitext(path)
    candidates = (f"{stem}_own{number}{extension}" for number in ("", *range(2, 1000)))
    # In a folder that may not be looked into none is known to be free; a move there is refused anyway.
    return next((item for item in candidates if not machine.reader.may_be_there(item)), f"{stem}_own{extension}")


def of_system(
    machine: Machine, debian: str | None, fedora: str | None, brew: str | None, again: bool = False
) -> Fix | None:
    """Install a system package with the installer of this kind of system; None where none is known.

    ``again``: also where the package is installed, because files of it are gone.
    """
    reader = machine.reader
    words = _family(machine)
    root = [] if reader.user == 0 else ["sudo"]
    chosen = {
        "debian": (debian, [*root, "apt-get", "install", *(["--reinstall"] if again else []), "-y"]),
        "fedora": (fedora, [*root, "dnf", "reinstall" if again else "install", "-y"]),
        "macos": (brew, ["brew", "install"]),
    }.get(words)
    if chosen is None or chosen[0] is None:
        return None
    name, argv = chosen[0], chosen[1]
    made = step(machine, RunSystemProgram(words=[*argv, name]))
    ending = ", again if it is installed" if again else ""
    return Fix(message=f"install the system's package {name}{ending}", steps=[made], changes=["/usr"])


def _family(machine: Machine) -> str:
    """``debian``, ``fedora``, ``macos`` or empty: whose packages this system has (the os-release document)."""
    if machine.reader.system != "linux":
        return machine.reader.system
    text = machine.reader.text_or_none("/etc/os-release", 65536) or ""
    details = {}
    for line in text.splitlines():
        key, _, value = line.partition("=")
        details[key] = value.strip("\"'")
    words = [details.get("ID", ""), *details.get("ID_LIKE", "").split()]
    if any(word in ("debian", "ubuntu") for word in words):
        return "debian"
    return "fedora" if any(word in ("fedora", "rhel", "centos") for word in words) else ""


# The package of a system: Debian's and its kin's, Fedora's and its kin's, Homebrew's; None where none is known.
_Package = tuple[str | None, str | None, str | None]


class _Packages(Struct, forbid_unknown_fields=True):
    about: str
    programs: dict[str, _Package]
    libraries: dict[str, _Package]


@cache
def _packages() -> _Packages:
    return table("libraries", _Packages)


def bringer_of_library(machine: Machine, library: str) -> Fix | None:
    """Install the system's package that usually provides a shared library; None where the table does not know it."""
    for name, packages in _packages().libraries.items():
        match = re.fullmatch(re.escape(name).replace(r"\*", r"([\d.]+)"), library)
        if match is not None:
            number = match[1].split(".")[0] if match.groups() else ""
            debian, fedora, brew = (package.replace("*", number) if package else None for package in packages)
            return of_system(machine, debian, fedora, brew)
    return None


def bringer_of_program(machine: Machine, program: str) -> Fix | None:
    """Install the system's package that usually provides a program; None where the table does not know it."""
    packages = _packages().programs.get(program.removesuffix(".exe"))
    return of_system(machine, *packages) if packages is not None else None


def bringer_of_named(machine: Machine, word: str) -> Fix | None:
    """Install the system's package of a library that an error calls by a word (``zbar``); None where none is known."""
    stem = "lib" + word.lower().removeprefix("lib")
    # libzbar.so.0, libenchant-2.so.2: the word, then a version or the ending.
    named = (name for name in _packages().libraries if name.lower().startswith(stem))
    names = [name for name in named if name[len(stem) :][:1] in ("-", ".")]
    return bringer_of_library(machine, names[0]) if names else None
