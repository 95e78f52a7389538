"""Record, point and discard with real environments: rebuilt and the same, refused where it would destroy, killed half-way."""

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from kalyx.demo.wheels import Package, write_wheel
from tests.conftest import make_environment
from tests.equipment import BY_VERSION, NEW, OLD, need, some
from tests.faults.missing import project


def install(python, *words, **variables):
    subprocess.run([python, "-m", "pip", "install", "-q", "--no-index", *map(str, words)], check=True, capture_output=True,
                   env={**os.environ, **variables})  # fmt: skip


@pytest.mark.parametrize("version", some(OLD, NEW))
def test_what_is_recorded_is_rebuilt_and_the_same(version, moor, wheels):
    python = make_environment(version, moor.root / "orchard")
    marked = Package(
        "moorkit", "1.0", {"moorkit.py": ""}, requires=["nectarflow>=1", "combtool; sys_platform == 'linux'", "lampkit; sys_platform == 'win32'"]
    )
    write_wheel(Package("lampkit", "1.0", {"lampkit.py": ""}), str(wheels))
    write_wheel(marked, str(wheels))
    install(python, "--no-deps", "--find-links", wheels, "hivescale", "nectarflow==1.0", "combtool", "moorkit", "lampkit")
    keeps_source = version != OLD  # its installer does not write down where something came from
    project(type("At", (), {"version": version}), "beelines", moor.root / "work")
    for words in (["init", "-q"], ["add", "."], ["-c", "user.name=keeper", "-c", "user.email=keeper@larkmoor.example", "commit", "-qm", "Begin"]):
        subprocess.run([need("git"), *words], cwd=moor.root / "work", check=True)
    if keeps_source:
        install(python, "--no-build-isolation", f"git+file://{moor.root}/work")
    file = moor.root / "orchard.txt"
    ran = moor.kalyx("record", python, "-o", file, "--json")
    assert ran.status == 0
    lines = {line["name"]: line["line"] for line in ran.json["lines"]}
    assert lines["hivescale"] == "hivescale==2.1" and lines["nectarflow"] == "nectarflow==1.0"
    assert lines["combtool"] == 'combtool==1.0 ; sys_platform == "linux"'
    assert lines["lampkit"] == "lampkit==1.0", "what another system alone asks for is here for another reason"
    if keeps_source:
        assert "#egg=beelines" in lines["beelines"] and lines["beelines"].startswith("git+file://")
    assert "pip" not in lines, "what making an environment brings is not pinned"
    file.write_text(
        file.read_text().replace("hivescale==2.1\n", "")
    )  # its requirement does not hold: two cannot be together
    moor.variables["PATH"] = f"{Path(BY_VERSION[version].executable).parent}:/usr/bin:/bin"
    copy = moor.folder / "copy"  # around the folder stood in: what Kalyx makes may be started all the same
    subprocess.run([python, "-m", "pip", "uninstall", "-q", "-y", "hivescale"], check=True, capture_output=True)
    ran = moor.kalyx("prepare", copy, "--from", file, "--wheels", wheels, "--yes", "--json")
    assert ran.status == 0, ran.out + ran.err
    assert {item["outcome"] for item in ran.json["imports"]} == {"imports"}, ran.out
    assert ran.json["interpreter"]["version"] == BY_VERSION[version].version
    for one, other in ((copy, file), (file, python), (copy, python)):
        ran = moor.kalyx("contrast", one, other)
        assert ran.status == 0 and "the same" in ran.out, ran.out
    install(copy / "bin" / "python", "--find-links", wheels, "nectarflow==1.2", "--no-deps")
    (difference,) = moor.kalyx("contrast", copy, file, "--json").json["differences"]
    assert (difference["name"], difference["left"], difference["right"]) == ("nectarflow", "1.2 (own)", "1.0 (own)")


def test_what_no_line_can_bring_is_said(moor, wheels):
    python = make_environment(NEW, moor.root / "orchard")

    class Here:
        version = NEW

    project(Here, "beelines", moor.root / "work")
    write_wheel(Package("localbuild", "1.0+moor", {"localbuild.py": ""}), str(wheels))
    install(python, "--no-build-isolation", "-e", moor.root / "work")
    install(python, "--find-links", wheels, "--no-deps", "localbuild", "hivescale", "nectarflow")
    install(python, "--no-deps", next(wheels.glob("combtool*")))
    site = moor.root / "orchard" / "lib" / f"python{NEW}" / "site-packages"
    (site / "loose.py").write_text("")
    (info,) = site.glob("nectarflow-*.dist-info")
    source = {"url": "https://example.org/moor/nectarflow", "vcs_info": {"vcs": "git", "commit_id": "a1b2"}}
    (info / "direct_url.json").write_text(json.dumps(source))
    ran = moor.kalyx("record", python, "--json", LOADEDMODULES="meadow/2.0")
    kinds = {line["name"]: (line["kind"], line["elsewhere"]) for line in ran.json["lines"]}
    assert kinds == {"beelines": ("development", False), "localbuild": ("pinned", False), "hivescale": ("pinned", True),
                     "nectarflow": ("direct", True), "combtool": ("pinned", False)}  # fmt: skip
    text = ran.json["text"]
    assert "nectarflow @ git+https://example.org/moor/nectarflow@a1b2  # 1.2\n" in text
    assert "# beelines: a development install of file://" in text and "loose in " in text and "meadow/2.0" in text
    (moor.folder / "weigh.py").write_text("import hivescale, json\nfrom nothing_here import x\n")
    used = moor.kalyx("record", python, "--used", moor.folder, "--json").json
    assert [line["name"] for line in used["lines"]] == ["hivescale", "nectarflow"]
    assert used["left_out"] == ["nothing_here is imported in weigh.py, line 2, and is not here"]
    (moor.folder / "own.txt").write_text("mine\n")
    ran = moor.kalyx("record", python, "-o", moor.folder / "own.txt")
    assert ran.status == 2 and (moor.folder / "own.txt").read_text() == "mine\n"


def test_what_must_not_be_removed_is_refused(moor):
    python = make_environment(NEW, moor.root / "orchard", "--without-pip")
    prefix = moor.root / "orchard"
    above = subprocess.run(
        [python, "-m", "venv", "--without-pip", moor.root / "above"], capture_output=True, check=True
    )
    assert above.returncode == 0
    shutil.copytree(prefix, moor.root / "heath", symlinks=True)
    heath = moor.root / "heath"
    cfg = moor.root / "above" / "pyvenv.cfg"
    cfg.write_text(f"home = {prefix}/bin\n" + cfg.read_text().partition("\n")[2])
    (moor.root / "above" / "bin" / "python").unlink()
    (moor.root / "above" / "bin" / "python").symlink_to(python)
    (moor.root / "link").symlink_to(heath)
    refused = {
        BY_VERSION[NEW].real_executable: "is an installation of Python",
        str(moor.root): "is not an environment",
        str(prefix): "is the base Python of other environments",
        str(moor.root / "link"): "is a link to",
        sys.prefix: "Kalyx itself runs in",
        str(moor.root / "nothing"): "",
    }
    for target, message in refused.items():
        ran = moor.kalyx("discard", target, "--yes")
        assert ran.status == 2 and message in ran.err, (target, ran.out + ran.err)
    running = subprocess.Popen(
        [heath / "bin" / "python", "-c", "import time; print(1, flush=True); time.sleep(60)"], stdout=subprocess.PIPE
    )
    running.stdout.readline()
    try:
        ran = moor.kalyx("discard", heath, "--yes")
        assert ran.status == 2 and f"process {running.pid}" in ran.err
    finally:
        running.kill()
        running.wait()
    (heath / "notes").mkdir()
    (heath / "notes" / "bees.ipynb").write_text("{}")
    (heath / "lib" / f"python{NEW}" / "site-packages" / "own.py").write_text("")
    for name in ("bin/pipeline.sh", "include/bees.h", "share/bees.txt", "lib/bees.txt"):
        (heath / name).parent.mkdir(exist_ok=True)
        (heath / name).write_text("mine")
    ran = moor.kalyx("discard", heath, "--yes")
    assert ran.status == 2 and "holds files that no package installed" in ran.err and " and 2 more" in ran.err, ran.err
    told = moor.kalyx("discard", heath, "--dry-run", "--with-own-files", "--json").json["unowned"]
    assert sorted(told) == ["bin/pipeline.sh", "include/bees.h", "lib/bees.txt", f"lib/python{NEW}/site-packages/own.py",
                            "notes/bees.ipynb", "share/bees.txt"]  # fmt: skip
    for stand in (heath, heath / "notes"):
        ran = moor.kalyx("discard", heath, "--yes", "--with-own-files", cwd=stand)
        assert ran.status == 2 and "holds the current folder" in ran.err, ran.err
    assert (heath / "pyvenv.cfg").exists()


def test_an_environment_goes_with_its_kernels_and_nothing_else(moor, wheels):
    prefix = moor.root / "heath"
    python = make_environment(NEW, prefix)
    install(python, "--find-links", wheels, "kalyx-standin-kernel", "broad")
    outside = moor.root / "outside"
    outside.mkdir()
    (outside / "kept.txt").write_text("kept")
    (prefix / "share").mkdir(exist_ok=True)
    (prefix / "lib" / f"python{NEW}" / "site-packages" / "broad" / "outside").symlink_to(outside)
    assert moor.kalyx("register", prefix, "--id", "heath", "--yes").status == 0
    moor.kernel("other", [BY_VERSION[NEW].executable, "-m", "none"])
    moor.notebook("spring.ipynb", "heath")
    (moor.folder / "mypy.ini").write_text(f"[mypy]\npython_executable = {python}\n")
    ran = moor.kalyx("discard", "kernel:heath", "--dry-run", "--json", "--with-own-files")
    assert ran.json["kernels"] == ["heath"] and ran.json["size_bytes"] > 1000 and prefix.exists()
    assert any("mypy.ini (line 2)" in pointer for pointer in ran.json["pointers"]) and any(
        "spring.ipynb" in pointer for pointer in ran.json["pointers"]
    )
    ran = moor.kalyx("discard", prefix, "--yes", "--with-own-files")
    assert ran.status == 0 and not prefix.exists(), ran.err
    assert (outside / "kept.txt").read_text() == "kept"
    assert [kernel["id"] for kernel in moor.kalyx("kernels", "--json").json["kernels"]] == ["other"]


SETTINGS = '{\n  // the moor\n  "a": [1,\n 2],\n  "python.defaultInterpreterPath": "%s", // mine\n}\n'


def test_an_editor_is_pointed_and_put_back(moor):
    heath, orchard = (make_environment(NEW, moor.root / name, "--without-pip") for name in ("heath", "orchard"))
    file = moor.folder / ".vscode" / "settings.json"
    ran = moor.kalyx("point", f"editor:{file}", orchard, "--yes", "--json")
    assert ran.status == 0 and json.loads(file.read_text()) == {"python.defaultInterpreterPath": orchard}
    assert moor.kalyx(*ran.json["undo"][1:], "--yes").status == 0 and not file.exists()
    file.write_text(SETTINGS % heath)
    assert moor.kalyx("point", "editor", orchard, "--dry-run").status == 0 and file.read_text() == SETTINGS % heath
    ran = moor.kalyx("point", "editor", orchard, "--yes", "--json")
    assert ran.status == 0 and file.read_text() == SETTINGS % orchard, ran.out + ran.err
    assert ran.json["seat"]["interpreter"]["executable"] == orchard and ran.json["was"] == heath
    seats = moor.kalyx("here", "--json").json["seats"]
    assert [seat["interpreter"]["executable"] for seat in seats if seat["seat"] == "editor"] == [orchard]
    assert moor.kalyx(*ran.json["undo"][1:], "--yes").status == 0 and file.read_text() == SETTINGS % heath
    other = moor.root / "other" / ".vscode" / "settings.json"
    other.parent.mkdir(parents=True)
    make_environment(NEW, moor.root / "other" / ".venv", "--without-pip")
    other.write_text('{"python.defaultInterpreterPath": "${workspaceFolder}/old/bin/python"}')
    assert moor.kalyx("point", f"editor:{other}", moor.root / "other" / ".venv", "--yes").status == 0
    assert other.read_text() == '{"python.defaultInterpreterPath": "${workspaceFolder}/.venv/bin/python"}'
    ran = moor.kalyx("point", "editor", moor.root / "nothing", "--yes")
    assert ran.status == 2 and file.read_text() == SETTINGS % heath
    git = [need("git"), "-C", str(moor.folder)]
    subprocess.run([*git, "init", "-q"], check=True)
    subprocess.run([*git, "add", "."], check=True)
    assert "under version control" in moor.kalyx("point", "editor", orchard, "--dry-run").out
    ran = moor.kalyx(
        "prepare", moor.root / "new", "--python", BY_VERSION[NEW].executable, "--point-editor", "--yes", "--json"
    )
    assert ran.status == 0 and file.read_text() == SETTINGS % (moor.root / "new" / "bin" / "python"), ran.out + ran.err
    file.write_text(SETTINGS % heath)
    file.chmod(0o444)
    ran = moor.kalyx("point", "editor", orchard, "--yes")
    assert ran.status == 2 and "read-only" in ran.err and file.read_text() == SETTINGS % heath
