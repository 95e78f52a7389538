"""The steps of a fix, one type each: its command, what it removes or starts, and the step that undoes it.

A step is data. The code that carries it out, tries it or undoes it reads its fields, never its text.
"""

from __future__ import annotations

from typing import ClassVar

from msgspec import Struct

from kalyx.core.model import System


class StepBase(Struct, kw_only=True, tag_field="kind"):
    """One thing to do.

    ``command``: its words, None where it is to be done by hand; ``line``: the same for the user's shell, or what to do.
    """

    # Whether the step changes the machine, and whether something is lost by that.
    changes: ClassVar[bool] = True
    destroys: ClassVar[bool] = False

    command: list[str] | None = None
    line: str = ""

    @property
    def guesses(self) -> bool:
        """Whether only a trial can show that the step helps."""
        return False

    def argv(self, system: System) -> list[str] | None:
        """Its words on a machine of this system (``linux``, ``macos``, ``windows``); None where no command does it."""
        return None

    def inverse(self) -> Step | None:
        """The step that undoes this one, where its fields are enough to know it."""
        return None

    def moved(self) -> list[str]:
        """The paths that it moves or removes."""
        return []

    def started(self) -> list[str]:
        """The interpreters, and the prefixes of environments, whose code it starts."""
        return []

    def places(self) -> list[str]:
        """Every path that the step starts, moves or removes: none may have come with the current folder."""
        return [*self.started(), *self.moved()]


class Install(StepBase, tag="install"):
    """The environment's own installer installs requirements; ``wheels``: from this folder only."""

    python: str
    requirements: list[str]
    options: list[str] = []
    wheels: str | None = None

    @property
    def guesses(self) -> bool:
        # Whether the newest release differs in what failed, only a look at that release tells.
        bounded = any(sign in requirement for requirement in self.requirements for sign in "<>=~!")
        return "--upgrade" in self.options and not bounded

    def argv(self, system: System) -> list[str]:
        return [self.python, "-m", "pip", "install", *offline_words(self.wheels), *self.options, *self.requirements]

    def started(self) -> list[str]:
        return [self.python]


class Uninstall(StepBase, tag="uninstall"):
    """The environment's own installer removes distributions."""

    python: str
    names: list[str]

    def argv(self, system: System) -> list[str]:
        return [self.python, "-m", "pip", "uninstall", "-y", *self.names]

    def started(self) -> list[str]:
        return [self.python]


class BringInstaller(StepBase, tag="bring-installer"):
    """An environment without an installer gets the one that came with its Python."""

    python: str

    def argv(self, system: System) -> list[str]:
        return [self.python, "-m", "ensurepip"]

    def started(self) -> list[str]:
        return [self.python]


class Move(StepBase, tag="move"):
    """A file or folder gets another path, in the same folder or elsewhere."""

    path: str
    to: str

    def argv(self, system: System) -> list[str]:
        if system != "windows":
            return ["mv", self.path, self.to]
        folder, _, name = self.to.rpartition("\\")
        if self.path.rpartition("\\")[0] == folder:
            return ["cmd", "/c", "ren", self.path, name]
        return ["cmd", "/c", "move", self.path, self.to]

    def inverse(self) -> Step:
        return Move(path=self.to, to=self.path)

    def moved(self) -> list[str]:
        return [self.path, self.to]


class RemoveFiles(StepBase, tag="remove-files"):
    """Files and links are removed."""

    destroys: ClassVar[bool] = True

    paths: list[str]

    def argv(self, system: System) -> list[str]:
        return ["cmd", "/c", "del", *self.paths] if system == "windows" else ["rm", "-f", *self.paths]

    def moved(self) -> list[str]:
        return self.paths


class MakeReadable(StepBase, tag="make-readable"):
    """The owner of a path lets themselves read it."""

    path: str

    def argv(self, system: System) -> list[str] | None:
        return None if system == "windows" else ["chmod", "-R", "u+rX", self.path]


class RemakeEnvironment(StepBase, tag="remake-environment"):
    """The standard module recreates an environment in place; its packages stay."""

    python: str
    prefix: str
    options: list[str] = []

    def argv(self, system: System) -> list[str]:
        return [self.python, "-m", "venv", *self.options, self.prefix]

    def started(self) -> list[str]:
        return [self.python, self.prefix]


class CreateEnvironment(StepBase, tag="create-environment"):
    """Kalyx creates an environment, with requirements in it."""

    prefix: str
    python: str | None = None
    requirements: list[str] = []
    wheels: str | None = None
    asks: bool = False  # the user adds the name of a requirement to the line

    def argv(self, system: System) -> list[str]:
        base = ["--python", self.python] if self.python else []
        wanted = [word for requirement in self.requirements for word in ("--want", requirement)]
        return [
            "kalyx",
            "prepare",
            self.prefix,
            *base,
            *wanted,
            *_from(self.wheels),
            *(["--want"] if self.asks else []),
        ]

    def inverse(self) -> Step:
        return RemoveEnvironment(prefix=self.prefix)

    def started(self) -> list[str]:
        return [*([self.python] if self.python else []), self.prefix]


class FillEnvironment(StepBase, tag="fill-environment"):
    """Kalyx installs into an environment, from requirements or a project; or restores what a stopped fill left."""

    prefix: str
    requirements: list[str] = []
    source: str | None = None
    wheels: str | None = None
    restore: bool = False

    def argv(self, system: System) -> list[str]:
        source = ["--from", self.source] if self.source else []
        return [
            "kalyx",
            "fill",
            self.prefix,
            *self.requirements,
            *source,
            *(["--repair"] if self.restore else []),
            *_from(self.wheels),
        ]

    def started(self) -> list[str]:
        return [self.prefix]


class RemoveEnvironment(StepBase, tag="remove-environment"):
    """Kalyx removes an environment, after it checked what forbids that."""

    destroys: ClassVar[bool] = True

    prefix: str

    def argv(self, system: System) -> list[str]:
        return ["kalyx", "discard", self.prefix]

    def places(self) -> list[str]:
        return [self.prefix]


class RegisterKernel(StepBase, tag="register-kernel"):
    """Kalyx registers an environment as a kernel; ``take_over``: in place of the kernel that has this id.

    ``target``: the path that names the environment in the command, where that is not its prefix.
    ``notebook``: the notebook, by its path, that asks for this kernel then; ``explain``: it explains failing imports.
    """

    prefix: str
    identifier: str
    take_over: bool = False
    own_path: bool = False
    explain: bool = False
    variables: dict[str, str] = {}
    bring_package: bool = False
    wheels: str | None = None
    notebook: str | None = None
    target: str | None = None

    def argv(self, system: System) -> list[str]:
        switches = {"--own-path": self.own_path, "--explain": self.explain, "--take-over": self.take_over}
        chosen = [switch for switch, on in switches.items() if on]
        pairs = [word for name, value in self.variables.items() for word in ("--variable", f"{name}={value}")]
        brought = ["--bring-package", *_from(self.wheels)] if self.bring_package else []
        asks = ["--notebook", self.notebook] if self.notebook is not None else []
        words = ["kalyx", "register", self.target or self.prefix, "--id", self.identifier]
        return [*words, *chosen, *pairs, *brought, *asks]

    def inverse(self) -> Step | None:
        # What is installed with a kernel package is known only afterwards; another line undoes the notebook's change.
        known = not self.bring_package and self.notebook is None
        return None if not known else UnregisterKernel(kernel=self.identifier, restore=self.take_over)

    def started(self) -> list[str]:
        return [self.prefix]


class UnregisterKernel(StepBase, tag="unregister-kernel"):
    """Kalyx removes a kernel, by id or folder; ``restore``: it restores what was removed or replaced last."""

    destroys: ClassVar[bool] = True

    kernel: str
    restore: bool = False

    def argv(self, system: System) -> list[str]:
        return ["kalyx", "unregister", self.kernel, *(["--undo"] if self.restore else [])]

    def inverse(self) -> Step:
        return UnregisterKernel(kernel=self.kernel, restore=True)


class Point(StepBase, tag="point"):
    """Kalyx changes which interpreter or kernel a settings file or a notebook names."""

    seat: str
    target: str | None = None

    def argv(self, system: System) -> list[str]:
        return ["kalyx", "point", self.seat, self.target or "--undo"]

    def inverse(self) -> Step:
        return Point(seat=self.seat)


class RunSystemProgram(StepBase, tag="run-system-program"):
    """Another program changes something: the system's package manager, version control."""

    words: list[str]

    def argv(self, system: System) -> list[str]:
        return self.words


class RunWith(StepBase, tag="run-with"):
    """What was asked about is run differently: by another program, with variables set (None: left out).

    ``same_words``: the first word is another interpreter, and what stands after it is what was asked about.
    """

    changes: ClassVar[bool] = False

    words: list[str]
    variables: dict[str, str | None] = {}
    same_words: bool = False

    def argv(self, system: System) -> list[str] | None:
        if not self.variables:
            return self.words
        if system == "windows":
            return None  # on Windows the shell itself sets a variable (``quoting.line_with``)
        gone = [word for name, value in self.variables.items() if value is None for word in ("-u", name)]
        given = [f"{name}={value}" for name, value in self.variables.items() if value is not None]
        # Where PATH is wrong, no word may be looked up on PATH.
        return ["/usr/bin/env" if "PATH" in self.variables else "env", *gone, *given, *self.words]

    def started(self) -> list[str]:
        return self.words[:1]


class RunWithout(StepBase, tag="run-without"):
    """What was asked about is run without a flag of the interpreter."""

    changes: ClassVar[bool] = False

    flag: str


class Activate(StepBase, tag="activate"):
    """An environment is activated in the user's shell, which reads the line that a command prints: no program can."""

    changes: ClassVar[bool] = False

    prefix: str

    def started(self) -> list[str]:
        return [self.prefix]


class WriteImport(StepBase, tag="write-import"):
    """The import statement is changed."""

    changes: ClassVar[bool] = False

    statement: str


class ManualStep(StepBase, tag="by-hand"):
    """What no command does, in words; ``typed``: the line to type then, NAME in it being for the user to fill in."""

    changes: ClassVar[bool] = False
    typed: str | None = None


Step = (
    Install | Uninstall | BringInstaller | Move | RemoveFiles | MakeReadable | RemakeEnvironment | CreateEnvironment
    | FillEnvironment | RemoveEnvironment | RegisterKernel | UnregisterKernel | Point | RunSystemProgram | RunWith
    | RunWithout | Activate | WriteImport | ManualStep
)  # fmt: skip


def offline_words(wheels: str | None) -> list[str]:
    """The installer's options for installing from this folder of wheels only; none without a folder."""
    return ["--no-index", "--find-links", wheels] if wheels else []


def _from(wheels: str | None) -> list[str]:
    return ["--wheels", wheels] if wheels else []
