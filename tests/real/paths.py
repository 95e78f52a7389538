"""Ways of running Python, and what the interpreter itself says of its search path in each.

``VARIANTS`` is the table: name, flags, mode, variables, and a maker of files.
``said`` runs the interpreter; ``read`` works the same out by reading.
"""

from __future__ import annotations

import ast
import os
import subprocess
import zipfile
from pathlib import Path

from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import search_path
from kalyx.core.interpreters.reading import read_interpreter
from kalyx.core.system.live_reader import LiveReader

CODE = (
    "import sys\nsite = sys.modules.get('site')\n"
    "print(repr((sys.path, sys.prefix, getattr(sys, 'base_prefix', sys.prefix), getattr(site, 'ENABLE_USER_SITE', None),"
    " '.'.join(map(str, sys.version_info[:3])))))\n"
)


class World:
    """A folder to stand in, a home folder, and the files that the variants speak of."""

    def __init__(self, root: Path, code: str = CODE) -> None:
        self.root = root
        self.cwd = root / "stand here"
        self.home = root / "home"
        for folder in (self.cwd / "sub", self.home, root / "one", root / "two", root / "scripts", root / "links"):
            folder.mkdir(parents=True)
        (root / "scripts" / "say.py").write_text(code)
        (self.cwd / "say_module.py").write_text(code)
        os.symlink(root / "scripts" / "say.py", root / "links" / "say.py")
        (root / "scripts" / "deep").mkdir()
        (root / "scripts" / "deep" / "say.py").write_text(code)
        os.symlink(root / "scripts" / "deep", root / "links" / "deep")
        with zipfile.ZipFile(root / "eggs.zip", "w") as archive:
            archive.writestr("combs.py", "")

    def user_site(self, version: str, name: str = "python") -> Path:
        folder = self.home / ".local" / "lib" / f"{name}{version}" / "site-packages"
        folder.mkdir(parents=True, exist_ok=True)
        return folder

    def path_files(self, site: Path, every: bool = True) -> None:
        """Path files of every kind in a site folder."""
        root = self.root
        files = {
            "a_plain.pth": f"{root}/one\n",
            "b_relative.pth": "../here-not\n../../..\nsub-not\n",
            "c_comment.pth": f"# {root}/two\n\n   \n{root}/two\n{root}/two\n",
            "d_zip.pth": f"{root}/eggs.zip\n{root}/gone.zip\n",
            "e_windows.pth": f"{root}/scripts\r\n{root}/links\r",
            "f_spaces.pth": f"{root}/stand here/sub  \n  {root}/links\n",
            "g_harmless.pth": "import sys; sys.kalyx_was_here = True\n",
            "h_last.pth": f"{root}/home",
            ".hidden.pth": f"{root}/two/../home/.local\n",
            "z_not.PTH": f"{root}\n",
        }
        if every:
            files["i_bom.pth"] = f"\ufeff{root}/home/.local/lib\n"
        for name, text in files.items():
            (site / name).write_bytes(text.encode("utf-8"))


# name, flags, mode, variables (with {root}, {base}, {prefix})
VARIANTS = [
    ("plain -c", [], "-c", {}),
    ("script", [], "script", {}),
    ("script by a link", [], "link", {}),
    ("script by a relative path", [], "relative", {}),
    ("module", [], "-m", {}),
    ("no site", ["-S"], "-c", {}),
    ("no variables", ["-E"], "-c", {"PYTHONPATH": "{root}/one", "PYTHONNOUSERSITE": "1"}),
    ("no user", ["-s"], "-c", {}),
    ("isolated", ["-I"], "-c", {"PYTHONPATH": "{root}/one"}),
    ("isolated script", ["-I"], "script", {}),
    ("isolated module", ["-I"], "-m0", {}),
    ("safe path", ["-P"], "-c", {}),
    ("safe path script", ["-P"], "script", {}),
    ("safe path by variable", [], "script", {"PYTHONSAFEPATH": "1"}),
    ("safe path by an empty variable", [], "script", {"PYTHONSAFEPATH": ""}),
    ("path", [], "-c", {"PYTHONPATH": "{root}/one:{root}/two"}),
    ("path with all kinds", [], "script", {"PYTHONPATH": "sub:{root}/one/:.::{root}/gone:{root}/one:{root}/two/../two:~/x"}),
    ("path without site", ["-S"], "-c", {"PYTHONPATH": "sub:{root}/one/:.::{root}/gone:{root}/one"}),
    ("path is empty", [], "-c", {"PYTHONPATH": ""}),
    ("path is the site folder", [], "-c", {"PYTHONPATH": "{site}"}),
    ("home is the base", [], "-c", {"PYTHONHOME": "{base}"}),
    ("home is the base, no site", ["-S"], "-c", {"PYTHONHOME": "{base}"}),
    ("home twice", [], "-c", {"PYTHONHOME": "{base}:{base}"}),
    ("home with an empty second", [], "-c", {"PYTHONHOME": "{base}:"}),
    ("home with an empty first", [], "-c", {"PYTHONHOME": ":{base}"}),
    ("home ignored", ["-E"], "-c", {"PYTHONHOME": "/no/where"}),
    ("no user by variable", [], "-c", {"PYTHONNOUSERSITE": "0"}),
    ("no user by an empty variable", [], "-c", {"PYTHONNOUSERSITE": ""}),
    *[(f"no user by the number {text!r}", [], "-c", {"PYTHONNOUSERSITE": text}) for text in (" +00", "-0", "0 ", "0_0", "\u0660")],
    ("user base", [], "-c", {"PYTHONUSERBASE": "{root}/userbase"}),
    ("user base with -E", ["-E"], "-c", {"PYTHONUSERBASE": "{root}/userbase"}),
    ("user base by tilde", [], "-c", {"PYTHONUSERBASE": "~/.local"}),
    ("script in a linked folder", [], "linked", {}),
    ("script above a linked folder", [], "above a link", {}),
    ("code in the option's word", ["-s"], "-c joined", {"PYTHONPATH": "{root}/one"}),
    ("isolated, code in the option's word", [], "-Ic joined", {"PYTHONPATH": "{root}/one"}),
    ("module in the option's word", [], "-m joined", {}),
    ("a warning apart", ["-W", "ignore"], "script", {}),
    ("a warning in the option's word", ["-Wignore", "-S"], "script", {}),
    ("an option of the implementation", ["-X", "importtime"], "-c", {}),
    ("a long option with a value", ["--check-hash-based-pycs", "always"], "-c", {}),
    ("no more options", ["-s", "--"], "script", {}),
    ("both", ["-s", "-S"], "script", {"PYTHONPATH": "{root}/two"}),
]  # fmt: skip


def applies(version: str, flags: list[str], mode: str) -> bool:
    major, minor = (int(part) for part in version.split(".")[:2])
    if flags[:1] == ["--check-hash-based-pycs"] or "-X" in flags:
        return (major, minor) >= (3, 7)
    if mode == "-Ic joined":
        return major >= 3
    if "-P" in flags:
        return (major, minor) >= (3, 11)
    return "-I" not in flags or major >= 3


def command(world: World, executable: str, flags: list[str], mode: str) -> list[str]:
    if mode == "-c":
        return [executable, *flags, "-c", CODE]
    if mode.endswith(" joined"):
        return [executable, *flags, mode.split()[0] + ("say_module" if mode == "-m joined" else CODE)]
    if mode in ("-m", "-m0"):
        return [executable, *flags, "-m", "say_module"]
    script = {
        "script": f"{world.root}/scripts/say.py",
        "link": f"{world.root}/links/say.py",
        "relative": "../links/say.py",
        "linked": "../links/deep/say.py",
        "above a link": "../links/deep/../say.py",
    }
    return [executable, *flags, script[mode]]


def said(world: World, executable: str, flags: list[str], mode: str, variables: dict[str, str]) -> tuple | None:
    """What the interpreter says; None where it does not start."""
    if mode == "-m0":  # isolated: the module in the current folder is not found; the way is asked by -c instead
        mode = "-c"
    done = subprocess.run(
        command(world, executable, flags, mode),
        cwd=world.cwd,
        env={"HOME": str(world.home), "PATH": "/usr/bin:/bin", "LANG": "C.UTF-8", **variables},
        capture_output=True,
        text=True,
        check=False,
    )
    return ast.literal_eval(done.stdout) if done.returncode == 0 else None


def read(world: World, executable: str, flags: list[str], mode: str, variables: dict[str, str]):
    """The same, worked out by reading: the record of the path and the interpreter."""
    reader = LiveReader(variables={"HOME": str(world.home), "PATH": "/usr/bin:/bin", **variables}, folder=str(world.cwd))
    interpreter = read_interpreter(reader, executable)
    invocation = Invocation.of_command(command(world, executable, flags, mode)[1:], reader, interpreter, reader.variables)
    return search_path(reader, interpreter, invocation), interpreter
