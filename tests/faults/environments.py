"""Where faults are made: environments of one interpreter, packages and compiled files; and carrying out a fix."""

import os
import shlex
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from kalyx.demo.wheels import Package, standin_package, write_wheel
from tests.conftest import Moor, make_environment, put_in, template
from tests.equipment import BY_VERSION, CAN_MAKE, WANT, need


class Environments:
    """One interpreter's environments orchard and heath, and a folder of wheels, shared by the faults of that version."""

    def __init__(self, version: str, root: Path) -> None:
        self.moor = Moor(root / "moor")
        self.wheels = root / "wheels"
        self.wheels.mkdir()
        self.version = version
        self.heath = make_environment(version, self.moor.root / "heath")
        self.orchard = make_environment(version, self.moor.root / "orchard")
        self.moor.variables |= {
            "PATH": f"{self.moor.root}/heath/bin:/usr/bin:/bin",
            "PIP_NO_INDEX": "1",
            "PIP_FIND_LINKS": str(self.wheels),
            "KALYX_ONLY_BELOW": str(self.moor.root),  # not what other tests make meanwhile
        }

        self.bases: set[str] = set()
        folders = [folder for name in ("heath", "orchard") for folder in (self.moor.root / name, self.site(name))]
        self._own = {folder: set(os.listdir(folder)) | {"data"} for folder in (self.moor.root, *folders)}

    def tidy(self) -> None:
        """Take away what an earlier fault put in: each fault finds the same, whatever was made before it."""
        for folder, names in self._own.items():
            for path in folder.iterdir():
                if path.name not in names | self.bases:
                    path.unlink() if path.is_symlink() or path.is_file() else shutil.rmtree(path)
        for path in self.moor.folder.iterdir():
            path.unlink() if path.is_symlink() or path.is_file() else shutil.rmtree(path)
        for left in (self.wheels.parent / "made", self.moor.data / "kernels"):
            shutil.rmtree(left, ignore_errors=True)

    def site(self, name: str = "heath") -> Path:
        return self.moor.root / name / "lib" / f"python{self.version}" / "site-packages"

    def install(self, name: str, package: Package) -> None:
        put_in(write_wheel(package, str(self.wheels)), self.site(name))

    def offer(self, package: Package) -> None:
        """A wheel that can be installed and is not."""
        write_wheel(package, str(self.wheels))


def plain(name: str, version: str = "1.0", source: str = "GRAMS = 1000\n", **more) -> Package:
    return Package(name, version, {f"{name.replace('-', '_')}/__init__.py": source}, **more)


def minor(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split("."))


def only(since: str = "", until: str = "") -> Callable[[Callable], Callable]:
    """For a builder whose fault only some Pythons can have."""

    def mark(builder: Callable) -> Callable:
        builder.versions = [
            item
            for item in CAN_MAKE
            if (not since or minor(item) >= minor(since)) and (not until or minor(item) <= minor(until))
        ]
        return builder

    return mark


def start_hook(envs: Environments) -> Path:
    """The start-up file of orchard that is not there yet; skips where the base has one, which stands before any other."""
    if (Path(BY_VERSION[envs.version].base_prefix) / "lib" / f"python{envs.version}" / "sitecustomize.py").exists():
        pytest.skip(f"{WANT}a Python without a sitecustomize of its own")
    return envs.site("orchard") / "sitecustomize.py"


def own_base(envs: Environments, name: str) -> tuple[Path, Path]:
    """An installation of its own, made by copying this version's: a real base may not be written to.

    Its executable and its site folder.
    """
    base = envs.moor.root / name
    envs.bases.add(name)
    short = f"python{envs.version}"
    installation(envs.version, base)
    own = base / "bin" / short
    said = subprocess.run(
        [own, "-c", "import site; print(site.getsitepackages()[0])"], capture_output=True, text=True, check=True
    )
    site = Path(said.stdout.strip())  # some systems' interpreters use a folder of another name
    site.mkdir(parents=True, exist_ok=True)
    return own, site


# Brings the installer by copying the one of the template, with its scripts.
_QUICK = """import pathlib, shutil, sys
kept, prefix = pathlib.Path(KEPT), pathlib.Path(sys.prefix)
for source in kept.glob("lib/*/site-packages"):
    site = prefix / source.relative_to(kept)
    shutil.rmtree(str(site), ignore_errors=True)  # an empty one: 3.7 and older copy only into a folder that is not there
    shutil.copytree(str(source), str(site))
for script in kept.glob("bin/pip*"):
    made = prefix / "bin" / script.name
    made.write_text(script.read_text().replace(str(kept), str(prefix)))
    made.chmod(0o755)
"""


def installation(version: str, base: Path) -> Path:
    """An installation of its own: this version's, copied, which brings an installer quickly. Its executable."""
    real, short = BY_VERSION[version], f"python{version}"
    if not base.exists():
        (base / "bin").mkdir(parents=True)
        (base / "lib").mkdir()
        shutil.copy2(real.real_executable, base / "bin" / short)
        for library in Path(real.prefix, "lib").glob("libpython*"):
            os.symlink(library, base / "lib" / library.name)
        shutil.copytree(Path(real.prefix, "lib", short), base / "lib" / short, symlinks=True,
                        ignore=shutil.ignore_patterns("site-packages", "test", "__pycache__", "idlelib", "config-*"))  # fmt: skip
        (base / "lib" / short / "site-packages").mkdir()
        (base / "lib" / short / "ensurepip" / "__main__.py").write_text(_QUICK.replace("KEPT", repr(str(template(version)))))
        headers = Path(real.prefix, "include")
        if headers.is_dir():
            os.symlink(headers, base / "include")
    return base / "bin" / short


def environment_over(executable: Path, prefix: Path, *more: str) -> str:
    done = subprocess.run([executable, "-m", "venv", *more, str(prefix)], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    return str(prefix / "bin" / "python")


# A compiled module without the interpreter's headers: the struct is the same in every version that is here.
MODULE = """
typedef struct { long refcnt; void *type; void *init; long index; void *copy; const char *name; const char *doc; long size;
  void *methods; void *slots; void *traverse; void *clear; void *free; } Def;
extern void *PyModule_Create2(void *, int);
extern void *PyExc_ImportError, *PyExc_RuntimeError;
extern void PyErr_SetString(void *, const char *);
static Def def = {1, 0, 0, 0, 0, "NAME", 0, -1, 0, 0, 0, 0, 0};
BEFORE
void *PyInit_NAME(void) { INSIDE return PyModule_Create2(&def, 1013); }
"""


def compiled(envs: Environments, name: str, before: str = "", inside: str = "", *flags: str) -> bytes:
    """The bytes of a compiled module called ``name``."""
    source, made = envs.wheels.parent / f"{name}.c", envs.wheels.parent / f"{name}.so"
    need("gcc")
    source.write_text(MODULE.replace("NAME", name).replace("BEFORE", before).replace("INSIDE", inside))
    subprocess.run(["gcc", "-shared", "-fPIC", "-o", made, source, *flags], check=True, capture_output=True)
    return made.read_bytes()


def library(envs: Environments, file: str, source: str, *flags: str) -> Path:
    """A shared library made of a line of C, in a folder of its own that no loader searches."""
    need("gcc")
    folder = envs.wheels.parent / "made"
    folder.mkdir(exist_ok=True)
    (folder / "source.c").write_text(source)
    made = folder / file
    argv = ["gcc", "-shared", "-fPIC", f"-Wl,-soname,{file}", "-o", made, folder / "source.c", *flags]
    subprocess.run(argv, check=True, capture_output=True)
    return made


def standin() -> Package:
    return standin_package()


def apply(envs: Environments, fix: dict, words: list[str], variables: dict[str, str | None]) -> list[str]:
    """Carry out a fix as printed; returns the call to repeat, changed where the fix says to write it otherwise.

    What a fix says of variables for one run goes into ``variables`` (None: left out).
    """
    for step in fix["steps"]:
        if step["command"] is None:
            if step["kind"] == "run-without":
                flag = step["flag"]
                words = [word.replace(f" {flag}", "") for word in words]
                continue
            assert step["kind"] == "write-import", step
            words = ["why", step["statement"], *words[2:]]
        elif step["command"][0] == "kalyx":
            ran = envs.moor.kalyx(*shlex.split(step["line"])[1:], "--yes")
            assert ran.status == 0, ran.out + ran.err
        else:
            environment = {**envs.moor.variables, **{k: v for k, v in variables.items() if v is not None}}
            done = subprocess.run(step["line"], shell=True, env=environment, cwd=envs.moor.folder,
                                  capture_output=True, text=True, check=False)  # fmt: skip
            assert done.returncode == 0, step["line"] + "\n" + done.stdout + done.stderr
            if step.get("kind") == "run-with":
                variables |= step["variables"]
                words = [step["words"][0] if word == "shell" and step["words"] else word for word in words]
                if "--as" in words:
                    words[words.index("--as") + 1] = shlex.join(step["words"])
    return words
