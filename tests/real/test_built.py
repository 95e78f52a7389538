"""The files that are handed out: whole, with nothing else in them, the same when built twice; they install and work."""

import json
import os
import re
import subprocess
import sys
import tarfile
import zipfile
from email.parser import Parser
from pathlib import Path

import pytest
from packaging.requirements import Requirement

from kalyx import __version__
from tests.equipment import BY_VERSION, LONG

CLONE = Path(__file__).parents[2]
# In a source archive, beside what git keeps.
MADE = {"PKG-INFO"}


@pytest.fixture(scope="module")
def built(tmp_path_factory) -> list[Path]:
    """Two folders with what a clean clone builds; what would ask an index is told that there is none."""
    place = tmp_path_factory.mktemp("built")
    subprocess.run(["git", "clone", "-q", str(CLONE), str(place / "clone")], check=True)
    alone = {**os.environ, "PIP_NO_INDEX": "1", "HTTPS_PROXY": "http://127.0.0.1:9", "HTTP_PROXY": "http://127.0.0.1:9"}
    for number in "12":
        words = [sys.executable, "-m", "hatchling", "build", "-d", str(place / number)]
        subprocess.run(words, cwd=place / "clone", env=alone, check=True, capture_output=True)
    return [place / "1", place / "2"]


def kept_by_git() -> set[str]:
    said = subprocess.run(["git", "ls-tree", "-r", "--name-only", "HEAD"], cwd=CLONE, capture_output=True, text=True, check=True).stdout
    return set(said.splitlines())


def test_the_same_twice_and_nothing_else(built):
    names = [sorted(path.name for path in folder.iterdir()) for folder in built]
    assert names[0] == names[1] == [f"kalyx-{__version__}-py3-none-any.whl", f"kalyx-{__version__}.tar.gz"]
    for name in names[0]:
        assert (built[0] / name).read_bytes() == (built[1] / name).read_bytes(), name
    wheel, source = (built[0] / name for name in names[0])
    info, data = f"kalyx-{__version__}.dist-info/", f"kalyx-{__version__}.data/data/share/man/man1/kalyx.1"
    with zipfile.ZipFile(wheel) as opened:
        held = set(opened.namelist())
        metadata = Parser().parsestr(opened.read(info + "METADATA").decode())
    own = {name.removeprefix("src/") for name in kept_by_git() if name.startswith("src/kalyx/")}
    assert held == own | {data} | {info + name for name in ("METADATA", "WHEEL", "RECORD", "entry_points.txt", "licenses/LICENSE")}
    assert metadata["Version"] == __version__ and metadata["License-Expression"] == "MIT" and metadata["Requires-Python"] == ">=3.10"
    assert "# Kalyx" in metadata.get_payload() and "Programming Language :: Python :: 3.10" in metadata.get_all("Classifier")
    with tarfile.open(source) as opened:
        packed = {member.name.partition("/")[2] for member in opened.getmembers() if member.isfile()}
    assert packed == {name for name in kept_by_git() if not name.startswith(".ci/")} | MADE


def test_its_links_lead_to_where_it_is_handed_out(built, tmp_path):
    """Full addresses where there is a place to read on; else there are none, and none is made up."""
    place, clone = "https://example.org/kalyx/v1", built[0].parent / "clone"
    subprocess.run([sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(tmp_path)], cwd=clone, check=True, capture_output=True,
                   env={**os.environ, "KALYX_PLACE": place + "/"})  # fmt: skip
    told = {}
    for name, wheel in (("with", next(tmp_path.glob("*.whl"))), ("without", next(built[0].glob("*.whl")))):
        with zipfile.ZipFile(wheel) as opened:
            told[name] = Parser().parsestr(opened.read(f"kalyx-{__version__}.dist-info/METADATA").decode())
    targets = {name: re.findall(r"\]\(([^)#]+)", text.get_payload()) for name, text in told.items()}
    urls = dict(line.split(", ") for line in told["with"].get_all("Project-URL"))
    assert set(urls) == {"Homepage", "Documentation", "Changelog", "Security"} and told["without"].get_all("Project-URL") is None
    files = [*urls.values(), *targets["with"]]
    assert len(files) > 30 and all((clone / file.removeprefix(place + "/")).exists() and file.startswith(place) for file in files), files
    assert all((clone / item).exists() for item in targets["without"]) and len(targets["without"]) == len(targets["with"])


def lowest(wheel: Path, version: str) -> list[str]:
    """Each dependency on this Python in the lowest version that is said to be enough."""
    with zipfile.ZipFile(wheel) as opened:
        lines = Parser().parsestr(opened.read(f"kalyx-{__version__}.dist-info/METADATA").decode()).get_all("Requires-Dist")
    wanted = [Requirement(line) for line in lines if "extra ==" not in line]
    return [f"{item.name}=={next(iter(item.specifier)).version}" for item in wanted if not item.marker or item.marker.evaluate({"python_version": version})]


# What Kalyx runs on, whatever is here; and what of it is here.
RUNS_ON = ("3.10", "3.11", "3.12", "3.13", "3.14")
INTO = [version for version in RUNS_ON if version in BY_VERSION] or [f"{sys.version_info[0]}.{sys.version_info[1]}"]


@pytest.mark.parametrize("version", RUNS_ON)
def test_the_lowest_versions_come_without_a_compiler(version, built):
    """Of those that are compiled there is a wheel for each Python, also for one that is not here."""
    (wheel,) = built[0].glob("*.whl")
    compiled = [line for line in lowest(wheel, version) if line.startswith(("msgspec", "psutil", "pyzmq"))]
    assert len(compiled) == 3
    words = [sys.executable, "-m", "pip", "install", "-q", "--no-input", "--dry-run", "--no-deps", "--only-binary=:all:"]
    subprocess.run([*words, "--python-version", version, "--target", built[0] / "none", *compiled], check=True, capture_output=True)


@pytest.mark.parametrize("bounds, version", [("lowest", INTO[0]), *([("newest", item) for item in INTO] if LONG else [])])
def test_it_installs_and_works(bounds, version, built, tmp_path):
    """On the oldest Python that is here, with every dependency in the lowest version that is said to be enough.

    The newest versions are those that the tests themselves run with; in a long run they are put into each Python.
    """
    (wheel,) = built[0].glob("*.whl")
    place = tmp_path / "place"
    subprocess.run([BY_VERSION[version].executable, "-m", "venv", "--without-pip", str(place)], check=True)
    words = [sys.executable, "-m", "pip", "--python", place / "bin" / "python", "install", "-q", "--no-input", "--only-binary=:all:"]
    subprocess.run([*words, "--disable-pip-version-check", wheel, *(lowest(wheel, version) if bounds == "lowest" else [])], check=True, stderr=subprocess.DEVNULL)
    home = tmp_path / "home"
    home.mkdir()
    variables = {"HOME": str(home), "PATH": "/usr/bin:/bin", "LANG": "C.UTF-8", "TERM": "dumb"}

    def kalyx(*words: object, by: tuple = (place / "bin" / "kalyx",)) -> str:
        done = subprocess.run([*map(str, by), *map(str, words)], cwd=tmp_path, env=variables, capture_output=True, text=True, check=False)
        assert done.returncode in (0, 1) and not done.stderr, (words, done.stderr)
        return done.stdout

    as_module = (place / "bin" / "python", "-m", "kalyx")
    assert kalyx("--version") == kalyx("--version", by=as_module) == f"kalyx {__version__}\n"
    assert kalyx("causes", "shadowed") == kalyx("causes", "shadowed", by=as_module)
    assert re.search(r"^ *complete .* kalyx$", kalyx("completion", "bash"), re.MULTILINE)
    assert "kalyx" in (place / "share" / "man" / "man1" / "kalyx.1").read_text()[:100]
    if bounds == "lowest":
        kernel = [place / "bin" / "python", next(place.rglob("kalyx_standin_kernel.py")), "-f", "{connection_file}"]
        made = home / ".local" / "share" / "jupyter" / "kernels" / "orchard" / "kernel.json"
        made.parent.mkdir(parents=True)
        made.write_text(json.dumps({"argv": [*map(str, kernel)], "display_name": "Orchard", "language": "python"}))
        assert "imports" in kalyx("rehearse", "orchard", "--import", "json")
        assert "numbers" in kalyx("why", "numbers", "--in", "kernel:orchard", "--static")
    kalyx("capture", tmp_path / "file.capture")
    kalyx("report", "-o", tmp_path / "page.html", "--on", tmp_path / "file.capture")
    for machine in ("windows-larkmoor", "macos-larkmoor", "cluster-larkmoor"):
        assert "spring_weights.ipynb" in kalyx("here", "--on", machine) and "orchard" in kalyx("packages", "orchard", "--on", machine, "--json")


# What somebody does with Kalyx that leaves files in the home folder, and what is asked before Kalyx is removed.
USED = """
echo "status $?"
kalyx survey >/dev/null
kalyx unregister gone --yes >/dev/null
kalyx --version
command -v python3
test -f ~/.local/share/man/man1/kalyx.1 && echo manual
bash -c '. ~/.local/share/bash-completion/completions/kalyx; complete -p kalyx'
"""


def test_the_lines_of_the_readme_install_and_remove(built, tmp_path):
    """From the source archive to an answer, in a home folder with a blank in its name, by a user without rights where there is one."""
    install, _, remove = (CLONE / "README.md").read_text().partition("\n## Install\n")[2].split("```")[1:7:2]
    home, programs = tmp_path / "a home", tmp_path / "bin"
    gone = home / ".local" / "share" / "jupyter" / "kernels" / "gone" / "kernel.json"
    for folder in (programs, gone.parent):
        folder.mkdir(parents=True)
    gone.write_text(json.dumps({"argv": ["/gone/bin/python", "-f", "{connection_file}"], "display_name": "Gone", "language": "python"}))
    with tarfile.open(next(built[0].glob("*.tar.gz"))) as opened:
        opened.extractall(tmp_path, filter="data") if hasattr(tarfile, "data_filter") else opened.extractall(tmp_path)
    (source,) = tmp_path.glob("kalyx-*")
    others, theirs = {}, "/usr/bin/python3"
    code = "import ensurepip, sys, venv; sys.exit(sys.version_info < (3, 10))"
    if os.geteuid() == 0 and os.path.exists(theirs) and not subprocess.run([theirs, "-c", code], check=False).returncode:
        others = {"user": 65534, "group": 65534, "extra_groups": []}
        subprocess.run(["chown", "-R", "65534:65534", home, source], check=True)
    else:
        theirs = BY_VERSION[INTO[0]].executable
    (programs / "python3").symlink_to(theirs)
    shut = [folder for folder in (tmp_path, *tmp_path.parents) if folder.is_relative_to(os.environ["TMPDIR"])]
    variables = {name: value for name, value in os.environ.items() if name.startswith("PIP_") and name != "PIP_CACHE_DIR"}
    variables |= {"HOME": str(home), "PATH": f"{programs}:/usr/bin:/bin", "LANG": "C.UTF-8", "TMPDIR": str(home)}

    def typed(lines: str) -> str:
        done = subprocess.run(["sh", "-c", lines], cwd=source, env=variables, capture_output=True, text=True, check=False, **others)
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    def files() -> set[str]:
        return {str(path.relative_to(home)) for path in home.rglob("*") if not path.is_dir() and ".cache/pip" not in str(path)}

    modes = [folder.stat().st_mode for folder in shut]
    try:
        for folder, mode in zip(shut, modes, strict=True):
            folder.chmod(mode | (0o011 if others else 0))
        lines = typed(install + USED).splitlines()
        asked = lines[lines.index("status 1" if "status 1" in lines else "status 0") + 1 :]
        assert asked[:3] == [f"kalyx {__version__}", str(programs / "python3"), "manual"], lines
        assert re.fullmatch("complete .* kalyx", asked[3]) and any("shell" in line for line in lines), lines
        assert any("kalyx-removed" in name for name in files()) and not gone.exists(), files()
        typed(remove)
    finally:
        for folder, mode in zip(shut, modes, strict=True):
            folder.chmod(mode)
    assert files() == set(), "left in the home folder"
