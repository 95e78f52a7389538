"""Machines by chance: environments bent in ways nobody thought of together, each asked of the interpreter and read by Kalyx.

A case is the interpreter, the kind of environment, a row of bends (each a building block that may follow any other), and a
way of running. ``difference`` builds it in a folder, asks the interpreter for its path, prefixes, version and distributions,
reads the same, and says where the two differ; ``smallest`` leaves out what the difference does not need. As a program:

    python -m tests.real.explore SECONDS [SEED]

prints each distinct difference as a case that can be kept.
"""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable
from pathlib import Path

from msgspec import Struct

from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.reading import environment_of
from kalyx.core.environments.searchpath import search_path
from kalyx.core.interpreters.reading import NotAnInterpreter, read_interpreter
from kalyx.core.model.records import Package
from kalyx.core.packages.contents import contents
from kalyx.core.system.live_reader import LiveReader
from kalyx.core.text.names import canonical
from tests.equipment import REAL, Real
from tests.real import paths
from tests.real.mutations import MUTATIONS, OTHER_RULES
from tests.real.paths import World

CODE = paths.CODE + """try:
    from importlib import metadata
except ImportError:
    metadata = None
dirs = [] if metadata is None or site is None else [site.getsitepackages(), [site.__file__.rpartition('/')[0]] + (site.getsitepackages([sys.base_prefix]) if sys.prefix != sys.base_prefix else []), [site.getusersitepackages()] if site.ENABLE_USER_SITE else []]
print(repr((dirs, [(str(d._path), d.metadata['Name'], d.version) for d in (metadata.distributions() if metadata else ()) if d.metadata['Name'] and d.metadata['Version']])))
"""

# By settings or without, and whether it sees the base.
OLDER = {"older": (False, False), "older, sees": (False, True), "own site module": (True, False), "own site module, sees": (True, True)}
OLDEST = ("cpython 2.7", "cpython 3.6")
KINDS = ["installation", "plain", "sees", "copies", "nested", *OLDER]


class Built:
    """What the blocks work on: the world, the environment's prefix, its base, and how it is started by now."""

    def __init__(self, world: World, prefix: Path, base: Real, executable: str) -> None:
        self.world, self.prefix, self.base, self.executable = world, prefix, base, executable

    @property
    def library(self) -> Path:
        name = ("pypy" if self.base.implementation == "pypy" else "python") + self.base.minor
        return self.prefix / "lib" / name

    @property
    def site(self) -> Path:
        found = self.library / "site-packages"
        if found.is_symlink():
            return found
        found.mkdir(parents=True, exist_ok=True)
        return found

    @property
    def user_site(self) -> Path:
        return self.world.user_site(self.base.minor, "pypy" if self.base.implementation == "pypy" else "python")


def _mutation(name: str) -> Callable[[Built], None]:
    def bend(built: Built) -> None:
        built.executable = MUTATIONS[name](built.prefix, built.base)

    return bend


def _path_file(name: str, text: str, user: bool = False) -> Callable[[Built], None]:
    def bend(built: Built) -> None:
        filled = text.format(root=built.world.root, site=built.site, prefix=built.prefix, user=built.user_site)
        ((built.user_site if user else built.site) / name).write_bytes(filled.encode("utf-8", "surrogateescape"))

    return bend


def _file(where: str, text: str) -> Callable[[Built], None]:
    def bend(built: Built) -> None:
        path = Path(where.format(root=built.world.root, site=built.site, prefix=built.prefix, user=built.user_site, cwd=built.world.cwd))
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text.format(root=built.world.root, prefix=built.prefix))

    return bend


def _link(where: str, to: str) -> Callable[[Built], None]:
    def bend(built: Built) -> None:
        words = {"root": built.world.root, "prefix": built.prefix, "python": built.executable, "base": built.base.real_executable, "basebin": Path(built.base.executable).parent}  # fmt: skip
        path = Path(where.format(**words))
        path.parent.mkdir(parents=True, exist_ok=True)
        path.unlink(missing_ok=True)
        os.symlink(to.format(**words), path)
        built.executable = str(path)

    return bend


def _moved_up(built: Built) -> None:
    above = built.world.root / "above" / "heath"
    above.parent.mkdir(exist_ok=True)
    shutil.move(built.prefix, above)
    os.symlink(above, built.prefix)


def _library_as_lib64(built: Built) -> None:
    if not (built.prefix / "lib64").exists():
        os.symlink("lib", built.prefix / "lib64")


def _another_minor(built: Built) -> None:
    (built.prefix / "lib" / "python3.5" / "site-packages").mkdir(parents=True, exist_ok=True)


def _egg(built: Built) -> None:
    egg = built.site / "combs-1.0-py3.egg"
    (egg / "EGG-INFO").mkdir(parents=True)
    (egg / "EGG-INFO" / "PKG-INFO").write_text("Name: combs\nVersion: 1.0\n")
    with zipfile.ZipFile(built.site / "frames-2.0-py3.egg", "w") as archive:
        archive.writestr("EGG-INFO/PKG-INFO", "Name: frames\nVersion: 2.0\n")
    (built.site / "easy-install.pth").write_text("./combs-1.0-py3.egg\n./frames-2.0-py3.egg\n")


BLOCKS: dict[str, Callable[[Built], None]] = {
    **{name: _mutation(name) for name in MUTATIONS},
    "a path": _path_file("a.pth", "{root}/one\n"),
    "a relative path": _path_file("b.pth", "../here-not\n../../..\n.\n"),
    "a path twice": _path_file("c.pth", "{root}/two\n{root}/two/\n{root}/one/../two\n"),
    "an archive": _path_file("d.pth", "{root}/eggs.zip\n"),
    "carriage returns": _path_file("e.pth", "{root}/scripts\r\n{root}/links\r{root}/one"),
    "blanks": _path_file("f.pth", "  {root}/two\n{root}/one  \n\t\n"),
    "a hidden path file": _path_file(".hidden.pth", "{root}/two\n"),
    "marked bytes": _path_file("i.pth", "\ufeff{root}/one\n{root}/two\n"),
    "other bytes": _path_file("j.pth", "{root}/on\udce9\n{root}/two\n"),
    "a null": _path_file("k.pth", "{root}/one\0\n{root}/two\n"),
    "form feed": _path_file("l.pth", "{root}/one\x0c{root}/two\n"),
    "a comment": _path_file("m.pth", "#{root}/one\n # {root}/two\n{root}/two # no\n"),
    "its own site folder": _path_file("n.pth", "{site}\n{site}/\n"),
    "capital ending": _path_file("o.PTH", "{root}/one\n"),
    "harmless code": _path_file("p.pth", "import sys; sys.kalyx = 1\n{root}/two\n"),
    "code that fails": _path_file("q.pth", "{root}/one\nimport nothing_of_this_name\n{root}/two\n"),
    "code with a tab": _path_file("r.pth", "import\tsys\n{root}/one\n"),
    "nearly code": _path_file("s.pth", "imports\nimport\n{root}/one\n"),
    "a site folder added": _path_file("t.pth", "import site; site.addsitedir('{root}/one')\n"),
    "the user's path": _path_file("u.pth", "{root}/two\n../x\n", user=True),
    "the user's packages": _file("{user}/pollenkit.py", ""),
    "a path file in a path": _file("{root}/one/late.pth", "{root}/two\n"),
    "a path file that is a folder": lambda built: (built.site / "v.pth").mkdir(exist_ok=True),
    "a path file by a link": lambda built: os.symlink(built.world.root / "w-target", built.site / "w.pth") if not (built.site / "w.pth").is_symlink() else None,
    "eggs": lambda built: _egg(built) if not (built.site / "easy-install.pth").exists() else None,
    "more in lib64": _library_as_lib64,
    "another minor beside": _another_minor,
    "reached by a linked folder above": lambda built: _moved_up(built) if not built.prefix.is_symlink() else None,
    "started by a link to it": _link("{root}/links/hive", "{python}"),
    "started by a link to a link": _link("{root}/links/hive two", "{python}"),
    "a numbered name": _link("{prefix}/bin/python3.99", "python"),
    "the base through a link in its folder": _link("{prefix}/bin/python", "{base}"),
    "the base through a chain": _link("{prefix}/bin/hivechain", "{base}"),
    "settings of nothing in the folder above": _file("{root}/pyvenv.cfg", "home = /no/where\n"),
    "settings beside a link": _file("{root}/links/pyvenv.cfg", "home = /usr/bin\ninclude-system-site-packages = true\n"),
    "an archive of the library": lambda built: zipfile.ZipFile(built.prefix / "lib" / f"python{built.base.minor.replace('.', '')}.zip", "w").close(),
    "a customize module": _file("{site}/usercustomize.txt", ""),
    "a landmark": _file("{prefix}/lib/python3.5/os.py", ""),
}  # fmt: skip

STEMS = {"wheel": "combs-1.0.dist-info/METADATA", "no version": "bee_keeper.dist-info/METADATA", "old folder": "Bee.Keeper-2.0-py3.9.egg-info/PKG-INFO", "old file": "FRAMES-1!3.0.egg-info",
         "dotted": "honey.pot-2.0+local.1.dist-info/METADATA", "dashes": "smoker-hat-1.0rc1.dist-info"}  # fmt: skip


def _distribution(folder: str, shape: str, name: str) -> Callable[[Built], None]:
    def bend(built: Built) -> None:
        words = {"site": built.site, "root": built.world.root, "user": built.user_site, "cwd": built.world.cwd, "userbase": f"{built.world.root}/userbase/lib/python{built.base.minor}/site-packages"}
        path = Path(folder.format(**words)) / STEMS[shape]
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(f"Metadata-Version: 2.1\nName: {name}\nVersion: 1.0\n\nName: other\n".encode().replace(b"\n", b"\r\n" if shape == "dotted" else b"\n"))

    return bend


def _in_an_archive(built: Built) -> None:
    with zipfile.ZipFile(built.world.root / "eggs.zip", "a") as archive:
        archive.writestr("smoker-1.0.dist-info/METADATA", "Name: smoker\nVersion: 1.0\n")


DISTRIBUTIONS = {f"{shape} of {name} in {folder[:7]}": _distribution(folder, shape, name) for folder in ("{site}", "{root}/one", "{root}/two", "{user}", "{userbase}") for shape, name in zip(STEMS, ("combs", "bee-keeper", "Bee.Keeper", "FRAMES", "honey.pot", "smoker.hat"), strict=True)}
DISTRIBUTIONS["a distribution in an archive"] = _in_an_archive
DISTRIBUTIONS["two in a path"] = lambda built: [bend(built) for bend in (_distribution("{root}/one", "wheel", "combs"), _distribution("{root}/one", "dashes", "smoker.hat"), BLOCKS["a path"])]  # type: ignore[assignment]

FLAGS = [[], [], [], ["-s"], ["-E"], ["-I"], ["-S"], ["-Es"], ["-sS"], ["-B", "-O"], ["-W", "ignore"], ["-X", "utf8"], ["-P"], ["-u"], ["-bb"], ["-sE", "-S"], ["-Wignore", "-I"]]  # fmt: skip
MODES = ["-c", "-c", "script", "link", "relative", "-m", "folder", "archive", "linked folder", "package", "folder and a slash", "dotted archive", "in an archive", "standard input"]
VARIABLES = [
    {}, {}, {}, {}, {"PYTHONPATH": "{root}/one"}, {"PYTHONPATH": "sub:{root}/one/:.::{root}/gone"}, {"PYTHONPATH": "{site}"}, {"PYTHONPATH": ":"},
    {"PYTHONPATH": "~/x:{root}/two/../one:{root}/eggs.zip"}, {"PYTHONHOME": "{base}"}, {"PYTHONHOME": "{base}:{base}"}, {"PYTHONHOME": "{base}/lib/.."}, {"PYTHONHOME": "{base}//"}, {"PYTHONHOME": "{base}/./:{base}/"}, {"PYTHONHOME": "/no/where"},
    {"PYTHONHOME": ""}, {"PYTHONPATH": "{root}//one/:{root}/./two"}, {"PYTHONUSERBASE": "{root}/two/..//userbase/"},
    {"PYTHONNOUSERSITE": "1"}, {"PYTHONNOUSERSITE": "0"}, {"PYTHONUSERBASE": "{root}/userbase"}, {"PYTHONUSERBASE": "sub"}, {"PYTHONSAFEPATH": "1"},
    {"PYTHONSAFEPATH": "0"}, {"PYTHONPLATLIBDIR": "lib64"}, {"PYTHONPATH": "", "PYTHONUSERBASE": ""}, {"PYTHONOPTIMIZE": "2"}, {"HOME": ""},
    {"PYTHONDONTWRITEBYTECODE": "1", "PYTHONPATH": "{root}/links"}, {"__PYVENV_LAUNCHER__": "/x/python"}, {"PYTHONEXECUTABLE": "/x/python"}]  # fmt: skip


class Case(Struct, frozen=True):
    """One machine and one question, in words that can be kept."""

    interpreter: str
    kind: str
    bends: tuple[str, ...] = ()
    flags: tuple[str, ...] = ()
    mode: str = "-c"
    variables: tuple[tuple[str, str], ...] = ()


def named() -> dict[str, Real]:
    """The interpreters of this machine, by version (and implementation, and whose)."""
    return {f"{item.implementation} {item.minor}{' system' if item.prefix == '/usr' else ''}": item for item in REAL}


def by_chance(chance: random.Random, known: list[str]) -> Case:
    interpreter = chance.choice(known)
    kind = chance.choice(KINDS if interpreter in OLDEST else [kind for kind in KINDS if kind not in OLDER])
    bends = [*chance.sample(list(BLOCKS), chance.choice([0, 1, 1, 2, 3, 4])), *chance.sample(list(DISTRIBUTIONS), chance.choice([0, 0, 1, 2, 3]))]
    return Case(
        interpreter=interpreter,
        kind=kind,
        bends=() if kind == "installation" else tuple(bends),
        flags=tuple(chance.choice(FLAGS)),
        mode=chance.choice(MODES),
        variables=tuple(sorted(chance.choice(VARIABLES).items())),
    )


# The site modules that makers of environments wrote into a library folder of the environment's own, without settings
# and (for version 2) with them: the base's own site module does the work, told which prefixes there are.
OWN_SITE = """import os, sys
HERE = os.path.dirname(os.path.abspath(__file__))
NAME = os.path.basename(HERE)
BASE, SEES = {how}
sys.real_prefix = BASE
source = os.path.join(BASE, "lib", NAME, "site.py")
text = open(source).read()
at = text.rindex("main()" if sys.version_info < (3,) else "if not sys.flags.no_site")
exec(compile(text[:at], source, "exec"))
abs__file__ = globals().get("abs__file__") or (lambda: None)
abs__file__()
known = removeduppaths()
for folder in {adds}:
    sys.path.append(folder) if folder not in sys.path else None
ENABLE_USER_SITE = check_enableusersite() if SEES else False
PREFIXES[:] = [sys.prefix]
known = set(sys.path)
addsitepackages(known)
if SEES:
    known = addusersitepackages(known) or known
    PREFIXES[:] = [BASE]
    addsitepackages(known)
"""
BY_PREFIX = """(open(os.path.join(HERE, "orig-prefix.txt")).read().strip(), not os.path.exists(os.path.join(HERE, "no-global-site-packages.txt")))"""
BY_SETTINGS = """(lambda said: (said["base-prefix"], said["include-system-site-packages"].lower() == "true"))(dict([part.strip() for part in line.split("=")] for line in open(os.path.join(sys.prefix, "pyvenv.cfg"))))"""
BASE_ADDED = """[os.path.join(BASE, "lib", NAME)] + [one for one in (os.path.join(BASE, "lib", NAME, more) for more in (("plat-linux2", "lib-tk") if sys.version_info < (3,) else ())) if os.path.isdir(one)]"""


def older(base: Real, prefix: Path, by_settings: bool, sees: bool) -> bool:
    """An environment with a library folder and a site module of its own; False where this interpreter takes none."""
    library, own = Path(base.prefix) / "lib" / f"python{base.minor}", prefix / "lib" / f"python{base.minor}"
    if base.implementation != "cpython" or f"cpython {base.minor}" not in OLDEST or (by_settings and base.minor != "2.7"):
        return False
    (own / "site-packages").mkdir(parents=True)
    (prefix / "bin").mkdir()
    for name in os.listdir(library):
        if name not in ("site.py", "site.pyc", "site.pyo", "site-packages", "__pycache__", "sitecustomize.py"):
            os.symlink(library / name, own / name)
    shutil.copy2(base.real_executable, prefix / "bin" / "python")
    (prefix / "bin" / "activate").write_text(f"VIRTUAL_ENV={prefix}\n")
    if by_settings:
        keys = f"home = {Path(base.executable).parent}\nbase-prefix = {base.prefix}\nversion_info = {base.version}\ninclude-system-site-packages = {str(sees).lower()}\n"
        (prefix / "pyvenv.cfg").write_text(keys)
        (own / "site.py").write_text(OWN_SITE.format(how=BY_SETTINGS, adds="()").replace("known = removeduppaths()", "sys.path[:] = [one.replace(sys.prefix, BASE) if one.startswith((HERE, HERE.replace(\".\", \"\") + \".zip\")) else one for one in sys.path]\nknown = removeduppaths()  # pyvenv.cfg"))
    else:
        (own / "orig-prefix.txt").write_text(base.prefix)
        if not sees:
            (own / "no-global-site-packages.txt").touch()
        (own / "site.py").write_text(OWN_SITE.format(how=BY_PREFIX, adds=BASE_ADDED))
    return True


def build(case: Case, root: Path) -> Built | None:
    """The machine of a case in an empty folder; None where this interpreter cannot be made into it."""
    base = named()[case.interpreter]
    world = World(root, CODE)
    (world.root / "w-target").write_text(f"{world.root}/two\n")
    (world.root / "userbase" / "lib" / f"python{base.minor}" / "site-packages").mkdir(parents=True)
    for name in ("app", "package"):
        (world.cwd / name).mkdir()
        (world.cwd / name / "__main__.py").write_text(CODE)
    (world.cwd / "package" / "__init__.py").touch()
    with zipfile.ZipFile(world.cwd / "app.zip", "w") as archive:
        archive.writestr("__main__.py", CODE)
        archive.writestr("sub/__main__.py", CODE)
    os.symlink(world.cwd / "app", world.root / "links" / "app")
    prefix = world.root / "heath"
    if case.kind == "installation":
        if case.bends:
            return None
        return Built(world, Path(base.prefix), base, base.executable)
    if base.minor.startswith("2.") and ("PYTHONHOME", "") in case.variables:
        return None  # it takes the empty word for the current folder: nobody has that
    if case.kind in OLDER:
        if not older(base, prefix, *OLDER[case.kind]):
            return None
    elif base.minor.startswith("2."):
        return None
    more = {"plain": [], "sees": ["--system-site-packages"], "copies": ["--copies"], "nested": ["--system-site-packages"]}.get(case.kind, [])
    if case.kind not in OLDER and not _made(base, more, prefix):
        return None
    built = Built(world, prefix, base, str(prefix / "bin" / "python"))
    if case.kind == "nested":
        again = world.root / "nested"
        subprocess.run([built.executable, "-m", "venv", "--without-pip", str(again)], capture_output=True, check=False)
        built = Built(world, again, base, str(again / "bin" / "python"))
    for bend in case.bends:
        try:
            if base.implementation == "pypy" and (bend in OTHER_RULES or (bend == "copied" and len(case.bends) > 1)):
                return None
            if case.kind in OLDER and bend == "by a dotted path":
                return None  # what comes of that is this test's own site module's doing
            (BLOCKS.get(bend) or DISTRIBUTIONS[bend])(built)
        except (OSError, StopIteration, shutil.Error):
            return None  # these two blocks do not go together
    return built


_templates: dict[tuple[str, ...], Path | None] = {}


def _made(base: Real, more: list[str], prefix: Path) -> bool:
    """The environment, copied from one made before: its settings name the base, and nothing names the place."""
    key = (base.executable, *more)
    if key not in _templates:
        place = Path(tempfile.mkdtemp(prefix="explore-")) / "heath"
        argv = [base.executable, "-m", "venv", "--without-pip", *more, str(place)]
        done = subprocess.run(argv, capture_output=True, check=False)
        _templates[key] = place if done.returncode == 0 else None
    template = _templates[key]
    if template is not None:
        shutil.copytree(template, prefix, symlinks=True)
    return template is not None


def clear() -> None:
    """Remove the environments that were made to be copied."""
    for place in _templates.values():
        if place is not None:
            shutil.rmtree(place.parent, ignore_errors=True)
    _templates.clear()


def command(case: Case, built: Built) -> list[str]:
    root = built.world.root
    words = {"-c": ["-c", CODE], "script": [f"{root}/scripts/say.py"], "link": [f"{root}/links/say.py"], "relative": ["../links/say.py"], "-m": ["-m", "say_module"],
             "folder": ["app"], "archive": ["app.zip"], "linked folder": [f"{root}/links/app"], "package": ["-m", "package"],
             "folder and a slash": ["./app/"], "dotted archive": ["././app.zip"], "in an archive": ["app.zip/sub"], "standard input": ["/dev/stdin"]}[case.mode]  # fmt: skip
    return [built.executable, *case.flags, *words]


def difference(case: Case, root: Path) -> str | None:
    """Where reading and the interpreter differ on this case; None where they do not, or where it cannot be asked."""
    built = build(case, root)
    if built is None:
        return None
    words = {"root": built.world.root, "base": built.base.base_prefix, "prefix": built.prefix, "site": built.prefix / "lib" / "site"}
    variables = {"HOME": str(built.world.home), "PATH": "/usr/bin:/bin", "LANG": "C.UTF-8"}
    variables |= {key: value.format(**words) for key, value in case.variables}
    argv = command(case, built)
    try:
        done = subprocess.run(argv, cwd=built.world.cwd, env=variables, input=CODE, capture_output=True, text=True, check=False, timeout=60)
    except OSError as refused:
        done = subprocess.CompletedProcess(argv, 127, "", str(refused))
    reader = LiveReader(variables=variables, folder=str(built.world.cwd))
    try:
        interpreter = read_interpreter(reader, built.executable)
    except NotAnInterpreter as refusal:
        return f"it starts, and reading says {refusal.reason}" if done.returncode == 0 else None
    if done.returncode == 127:
        return f"the system cannot start it ({done.stderr}), and reading says that it starts"
    if done.returncode != 0 or not done.stdout.strip():
        return None
    first, second = done.stdout.splitlines()[-2:]
    own, installed = eval(first), eval(second)
    invocation = Invocation.of_command(argv[1:], reader, interpreter, variables)
    search = search_path(reader, interpreter, invocation)
    environment_of(reader, interpreter)
    read = [entry.entry for entry in search.entries]
    if search.unknown and read != own[0]:
        return None  # reading says itself that a line of code may add to the path
    told = {"path": (own[0], read), "version": (own[4], interpreter.version if own[4].startswith(interpreter.version) else f"({interpreter.version})")}
    # Without its site module no Python of these knows that it is an environment's; with a variable that names its program
    # reading says that only the interpreter knows.
    if not any(key in ("PYTHONHOME", "PYTHONEXECUTABLE", "__PYVENV_LAUNCHER__") for key, _ in case.variables) and not any("S" in flag for flag in case.flags):
        told["prefix"] = os.path.normpath(own[1]), interpreter.prefix
        if case.kind not in OLDER:  # these have no name for it that all releases know
            told["base"] = own[2], interpreter.base_prefix
    for what, (theirs, ours) in told.items():
        if theirs != ours and what != "version":
            return f"{what}: it says {theirs}, reading says {ours}"
        if what == "version" and not own[4].startswith(interpreter.version):
            return f"version: it says {theirs}, reading says {ours}"
    return _other_packages(case, built, invocation, contents(reader, interpreter, search)[0], *installed) if installed[0] and not variables.get("PYTHONHOME") else None


def _other_packages(case: Case, built: Built, invocation: Invocation, packages: list[Package], sites: list[list[str]], installed: list[tuple[str, str, str]]) -> str | None:
    """Where the distributions differ: which there are, their versions, and by whose folder they are there."""
    own, base, user = sites
    variable = dict(case.variables).get("PYTHONPATH", "").format(root=built.world.root, site=built.prefix / "lib" / "site").split(":")
    named = {os.path.normpath(built.world.cwd / entry) for entry in variable} if not (invocation.isolated or invocation.ignore_variables) else set()
    theirs, ours = {}, {(package.location, canonical(package.name)): (package.version, package.origin) for package in packages if package.version}
    for path, name, version in installed:
        location = str(built.world.cwd / Path(path).parent)
        if os.path.samefile(location, built.world.cwd) if os.path.isdir(location) else False:
            continue  # the program's own folder holds no packages
        kinds = [("path", named), ("user", user), ("base", base), ("own", own)]
        theirs[location, canonical(name)] = version, next((kind for kind, folders in kinds if location in map(os.path.normpath, folders)), "linked")
    missing = {key: theirs[key] for key in theirs if ours.get(key) != theirs[key]}
    more = {key: ours[key] for key in ours if key not in theirs and not any(word in key[0] for word in ("egg", str(built.world.cwd)))}
    return f"distributions: it says {missing}, reading says {ours}; not there: {more}" if missing or more else None


def tried(case: Case) -> str | None:
    """``difference`` in a folder that goes afterwards."""
    with tempfile.TemporaryDirectory(prefix="explore-") as name:
        return difference(case, Path(name).resolve())


def smallest(case: Case) -> Case:
    """The case without whatever its difference does not need."""
    from msgspec.structs import replace

    again = True
    while again:
        again = False
        smaller = [replace(case, bends=tuple(b for b in case.bends if b != bend)) for bend in case.bends]
        smaller += [replace(case, **{field: value}) for field, value in (("flags", ()), ("mode", "-c"), ("variables", ()), ("kind", "plain" if case.kind not in OLDER else case.kind)) if getattr(case, field) != value]
        for item in smaller:
            if tried(item) is not None:
                case, again = item, True
                break
    return case


def main(seconds: float, seed: int) -> None:
    chance, known, found, asked = random.Random(seed), list(named()), {}, 0
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        case = by_chance(chance, known)
        asked += 1
        if tried(case) is not None:
            case = smallest(case)
            if case not in found:
                found[case] = tried(case)
                print(f"{case!r}\n    {found[case]}", flush=True)
    print(f"{asked} cases, {len(found)} distinct differences, seed {seed}")
    clear()


if __name__ == "__main__":
    main(float(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time()))
