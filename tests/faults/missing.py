"""Builders: nothing answers to that name here, for a reason of its own."""

import json
import shutil
import zipfile
from pathlib import Path

import pytest

from kalyx.demo.wheels import Package, write_wheel
from tests.equipment import BY_VERSION, WANT
from tests.faults.environments import environment_over, minor, only, own_base, plain, standin


def _unpacked(envs, package, folder: Path) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    zipfile.ZipFile(write_wheel(package, str(envs.wheels))).extractall(folder)


def other_minor_in_the_prefix(envs):
    _unpacked(envs, plain("frostcomb"), envs.moor.root / "heath" / "lib" / "python3.5" / "site-packages")
    return ["why", "frostcomb", "--in", envs.heath], "other-minor"


def other_minor_a_module(envs):
    package = Package("dewpoint", "1.0", {"dewpoint.py": ""})
    _unpacked(envs, package, envs.moor.root / "heath" / "lib" / "python3.4" / "site-packages")
    return ["why", "dewpoint", "--in", envs.heath], "other-minor"


def _user_site(envs) -> Path:
    return envs.moor.root / ".local" / "lib" / f"python{envs.version}" / "site-packages"


def user_site_off_by_the_environment(envs):
    _unpacked(envs, plain("gorsewax"), _user_site(envs))
    return ["why", "gorsewax", "--in", envs.heath], "user-site-off"


def user_site_off_by_a_variable(envs):
    _unpacked(envs, plain("lingbloom"), _user_site(envs))
    return (
        ["why", "lingbloom", "--in", BY_VERSION[envs.version].executable],
        "user-site-off",
        {"PYTHONNOUSERSITE": "1"},
    )


def stdlib_gone_renamed(envs):
    return (
        ["why", "from urlparse import urljoin", "--in", envs.heath],
        "stdlib-gone",
        None,
        lambda: ["why", "urllib.parse"],
    )


def stdlib_gone_a_package_needs_it(envs):
    source = "import smtpd\n" if minor(envs.version) >= (3, 12) else "import ConfigParser\n"
    envs.install("heath", plain("smokeline", source=source))
    envs.offer(plain("smokeline", "1.1"))
    return ["why", "smokeline", "--in", envs.heath], "stdlib-gone"


@only(until="3.10")
def stdlib_newer_a_package_needs_it(envs):
    envs.install("heath", plain("tallyfile", "1.1", source="import tomllib\n"))
    envs.offer(plain("tallyfile", "1.0"))
    return ["why", "tallyfile", "--in", envs.heath], "stdlib-newer"


@only(until="3.10")
def stdlib_newer_asked_for(envs):
    envs.offer(Package("tomli", "1.0", {"tomli.py": ""}))
    return ["why", "tomllib", "--in", envs.heath], "stdlib-newer"


def _without(envs, part: str, asked: str):
    """A base that was built without a part; building it again is what fixes it."""
    executable, site = own_base(envs, f"without{part}")
    parts = list(site.parent.glob(f"lib-dynload/{part}.*"))
    if not parts:
        pytest.skip(f"{WANT}a Python whose {part} is a file of its own")
    (lost,) = parts
    aside = envs.wheels.parent / lost.name
    shutil.move(lost, aside)
    python = environment_over(executable, envs.moor.root / f"over{part}", "--without-pip")
    return ["why", asked, "--in", python], "stdlib-part-missing", None, lambda: shutil.move(aside, lost) and None


def stdlib_part_missing_of_a_package(envs):
    return _without(envs, "_bz2", "bz2")


def stdlib_part_missing_itself(envs):
    return _without(envs, "_lzma", "import lzma")


# A project whose own file is its build backend: the installer needs nothing else to link it.
BACKEND = """
import os, zipfile
def _write(folder, name):
    wheel = f"{name}-1.0-py3-none-any.whl"
    info = f"{name}-1.0.dist-info"
    with zipfile.ZipFile(os.path.join(folder, wheel), "w") as z:
        z.writestr(name + ".pth", os.getcwd() + "\\n")
        z.writestr(info + "/METADATA", f"Metadata-Version: 2.1\\nName: {name}\\nVersion: 1.0\\n")
        z.writestr(info + "/WHEEL", "Wheel-Version: 1.0\\nGenerator: moor\\nRoot-Is-Purelib: true\\nTag: py3-none-any\\n")
        z.writestr(info + "/RECORD", f"{name}.pth,,\\n{info}/METADATA,,\\n{info}/WHEEL,,\\n{info}/RECORD,,\\n")
    return wheel
def build_editable(folder, settings=None, metadata=None): return _write(folder, "NAME")
build_wheel = build_editable
"""


def project(envs, name: str, folder: Path) -> None:
    (folder / name).mkdir(parents=True)
    (folder / name / "__init__.py").write_text("")
    (folder / "backend.py").write_text(BACKEND.replace("NAME", name))
    # The installer of the oldest knows no backends.
    (folder / ("pyproject.toml" if envs.version != "3.6" else "unused.toml")).write_text(
        '[build-system]\nrequires = []\nbuild-backend = "backend"\nbackend-path = ["."]\n'
        f'[project]\nname = "{name}"\nversion = "1.0"\n'
    )
    (folder / "setup.py").write_text(
        f"from setuptools import setup\nsetup(name='{name}', version='1.0', packages=['{name}'])\n"
    )


def link_broken_path_line(envs):
    project(envs, "beelines", envs.moor.root / "work" / "beelines-2")
    gone = envs.moor.root / "work" / "beelines"
    _unpacked(envs, Package("beelines", "1.0", {"beelines.pth": f"{gone}\n"}), envs.site())
    return ["why", "beelines", "--in", envs.heath], "link-broken"


def link_broken_finder(envs):
    project(envs, "hedgerow", envs.moor.root / "work" / "moved" / "hedgerow")
    gone = envs.moor.root / "work" / "moved" / "old" / "hedgerow"
    finder = f"MAPPING = {{'hedgerow': {str(gone)!r}}}\ndef install(): pass\n"
    files = {"__editable___hedgerow_1_0_finder.py": finder,
             "__editable__.hedgerow-1.0.pth": "import __editable___hedgerow_1_0_finder; __editable___hedgerow_1_0_finder.install()\n"}  # fmt: skip
    _unpacked(envs, Package("hedgerow", "1.0", files), envs.site())
    return ["why", "hedgerow", "--in", envs.heath], "link-broken"


def unmet_asked_for_by_name(envs):
    """What is missing is asked for through the import system's own function; another environment has it."""
    envs.install("orchard", plain("smokepot"))
    envs.offer(plain("smokepot"))
    source = "import importlib\nfor name in ('json', 'smokepot'):\n    importlib.import_module(name)\n"
    envs.install("heath", plain("beewatch", source=source, requires=["smokepot>=1"]))
    return ["why", "beewatch", "--in", envs.heath], "unmet"


def misspelt_part_of_a_known_name(envs):
    """The package is in the table of well-known names; the part of it is what is misspelt. The environment lies elsewhere."""
    files = {"yaml/__init__.py": "", "yaml/representer.py": "class Representer:\n    pass\n"}
    envs.install("heath", Package("PyYAML", "6.0", files))
    return ["why", "from yaml.represnter import Representer", "--in", envs.heath], "misspelt"


def optional_by_its_metadata(envs):
    package = Package("harvest", "1.0", {"harvest/__init__.py": "", "harvest/plots.py": "import inkwell\n"},
                      extras={"plots": ["inkwell>=1"]})  # fmt: skip
    envs.install("heath", package)
    envs.offer(plain("inkwell", "1.2"))
    return ["why", "harvest.plots", "--in", envs.heath], "optional"


def optional_by_its_own_words(envs):
    source = "try:\n    import quillpen\nexcept ImportError:\n    raise ImportError('please run: pip install \"Scriptory[pens]\"')\n"
    envs.install("heath", plain("scriptory", source=source, extras={"pens": ["quillpen"]}))
    envs.offer(plain("quillpen"))
    return ["why", "scriptory", "--in", envs.heath], "optional"


def path_cut_by_a_flag(envs):
    (envs.moor.folder / "flowering.py").write_text("")
    (envs.moor.folder / "sow.py").write_text("import flowering\n")
    return ["why", "flowering", "--in", envs.heath, "--as", "python -I sow.py"], "path-cut"


def _away_from_its_sources(envs, name: str) -> Path:
    """A project whose sources lie in src, and a folder of it that what runs lies in."""
    root = envs.moor.folder / f"{name}-project"
    (root / "src").mkdir(parents=True)
    (root / "runs").mkdir()
    (root / "src" / f"{name}.py").write_text("")
    return root / "runs"


def path_cut_of_a_script(envs):
    script = _away_from_its_sources(envs, "millrace") / "grind.py"
    script.write_text("import millrace\n")
    return ["why", str(script), "--in", envs.heath], "path-cut"


def path_cut_of_a_notebook(envs):
    envs.install("heath", standin())
    envs.moor.kernel("millpond", [envs.heath, "-m", "kalyx_standin_kernel", "-f", "{connection_file}"])
    notebook = _away_from_its_sources(envs, "millpond_sources") / "pond.ipynb"
    cell = {"cell_type": "code", "source": ["import millpond_sources"], "metadata": {}, "outputs": [], "execution_count": None}
    spec = {"kernelspec": {"name": "millpond", "display_name": "millpond", "language": "python"}}
    notebook.write_text(json.dumps({"cells": [cell], "metadata": spec, "nbformat": 4, "nbformat_minor": 5}))
    return ["why", str(notebook)], "path-cut"


def path_cut_sources_of_the_project(envs):
    folder = envs.moor.folder / "moorproject" / "src" / "heathland"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "__init__.py").write_text("")
    (envs.moor.folder / "moorproject" / "notebooks").mkdir(exist_ok=True)
    return [
        "why",
        "heathland",
        "--in",
        envs.heath,
        "--from",
        str(envs.moor.folder / "moorproject" / "notebooks"),
    ], "path-cut"


def project_not_installed_from_a_folder_of_it(envs):
    root = envs.moor.folder / "marshproject"
    project(envs, "marshgold", root)
    (root / "notebooks").mkdir()
    return ["why", "marshgold", "--in", envs.heath, "--from", str(root / "notebooks")], "project-not-installed"


def project_not_installed_sources(envs):
    root = envs.moor.folder / "fenproject"
    project(envs, "fenwort", root)
    (root / "src").mkdir()
    (root / "fenwort").rename(root / "src" / "fenwort")
    (root / "setup.py").write_text("from setuptools import setup\nsetup(name='fenwort', version='1.0', packages=['fenwort'], package_dir={'': 'src'})\n")
    (root / "backend.py").write_text(BACKEND.replace("NAME", "fenwort").replace("os.getcwd()", "os.path.join(os.getcwd(), 'src')"))
    return ["why", "from fenwort import __file__", "--in", envs.heath, "--from", str(root)], "project-not-installed"


def stubs_only_beside(envs):
    envs.install("heath", Package("types-reedbed", "1.0", {"reedbed-stubs/__init__.pyi": ""}))
    envs.install("orchard", plain("reedbed"))
    return ["why", "reedbed", "--in", envs.heath], "stubs-only"


def stubs_only_under_the_name(envs):
    envs.install("heath", Package("sallow-types", "1.0", {"sallow/weigh.pyi": "", "sallow/__init__.pyi": ""}))
    envs.install("orchard", plain("sallow"))
    return ["why", "from sallow import GRAMS", "--in", envs.heath], "stubs-only"


def submodule_gone_required_newer(envs):
    envs.install("heath", plain("hivescale-x", "1.0"))
    envs.install("heath", plain("needsit", source="import hivescale_x.frames\n", requires=["hivescale-x>=2"]))
    files = {"hivescale_x/__init__.py": "", "hivescale_x/frames.py": ""}
    envs.offer(Package("hivescale-x", "2.0", files))
    return ["why", "needsit", "--in", envs.heath], "submodule-gone"


def submodule_gone_another_environment_has_it(envs):
    envs.install("heath", plain("wickerwork", "3.0"))
    envs.install("orchard", Package("wickerwork", "2.0", {"wickerwork/__init__.py": "", "wickerwork/weave.py": ""}))
    return ["why", "wickerwork.weave", "--in", envs.heath], "submodule-gone"


def checker_only_settings(envs):
    envs.install("heath", plain("sweetclover"))
    settings = envs.moor.folder / ".vscode"
    settings.mkdir(exist_ok=True)
    (settings / "settings.json").write_text(
        json.dumps({"python.defaultInterpreterPath": envs.heath, "python.analysis.pythonPath": envs.orchard})
    )
    (settings / "launch.json").write_text("{}")
    path = envs.moor.folder / "pyrightconfig.json"
    path.write_text(json.dumps({"venvPath": str(envs.moor.root), "venv": "orchard"}))

    def fix():
        path.write_text(json.dumps({"venvPath": str(envs.moor.root), "venv": "heath"}))

    return ["why", "sweetclover", "--in", "editor:pyrightconfig.json"], "checker-only", None, fix


def checker_only_in_a_project_file(envs):
    envs.install("heath", plain("whiteclover"))
    path = envs.moor.folder / "mypy.ini"
    path.write_text(f"[mypy]\npython_executable = {envs.orchard}\n")

    def fix():
        path.write_text(f"[mypy]\npython_executable = {envs.heath}\n")

    return ["why", "whiteclover", "--in", "editor:mypy.ini"], "checker-only", None, fix
