"""The search path worked out by reading is the interpreter's own, in order, on every interpreter of this machine.

Ways of running (``paths.py``) are a table; the interpreter is the authority. One interpreter also runs every way in
every kind of environment; the others run a fifth of the ways in each kind, all of them with KALYX_LONG set. Bent
environments are the search by chance's (``explore.py``).
"""

import os
import subprocess
from pathlib import Path

import pytest

from tests.conftest import make_environment
from tests.equipment import BY_VERSION, CAN_MAKE, LONG, NEW, REAL, some
from tests.real.paths import VARIANTS, World, applies, read, said

NAMES = [f"{item.implementation}-{item.version}{'-system' if item.prefix == '/usr' else ''}" for item in REAL]


def environments(world, interpreter):
    found = {"installation": interpreter.executable}
    if interpreter.version.startswith("2."):
        return found
    kinds = {"plain": [], "sees": ["--system-site-packages"], "copied": ["--copies"]}
    for kind, more in kinds.items():
        prefix = world.root / f"env {kind}"
        argv = [interpreter.executable, "-m", "venv", "--without-pip", *more, str(prefix)]
        # The other implementation of this system cannot copy itself: a defect of its packaging.
        if subprocess.run(argv, capture_output=True, check=False).returncode == 0:
            found[kind] = str(prefix / "bin" / "python")
    prefix = world.root / "nested"
    argv = [found["sees"], "-m", "venv", "--without-pip", "--system-site-packages", str(prefix)]
    subprocess.run(argv, capture_output=True, check=True)
    found["nested"] = str(prefix / "bin" / "python")
    return found


@pytest.mark.parametrize("interpreter", REAL, ids=NAMES)
def test_every_way_of_running(interpreter, tmp_path):
    world = World(tmp_path)
    short = ".".join(interpreter.version.split(".")[:2])
    name = "pypy" if interpreter.implementation == "pypy" else "python"
    user = world.user_site(short, name)
    world.path_files(user)
    (tmp_path / "userbase" / "lib" / f"{name}{short}" / "site-packages").mkdir(parents=True)
    compared = 0
    for number, (kind, executable) in enumerate(environments(world, interpreter).items()):
        if kind != "installation":
            world.path_files(next((tmp_path / executable).parents[1].glob("lib/py*")) / "site-packages")
        for at, (way, flags, mode, variables) in enumerate(VARIANTS):
            chosen = LONG or interpreter is BY_VERSION.get("3.11") or (at + number) % 5 == 0
            if not chosen or not applies(short, flags, mode):
                continue
            filled = {
                key: value.format(root=tmp_path, base=interpreter.base_prefix, prefix=interpreter.prefix, site=user)
                for key, value in variables.items()
            }
            own = said(world, executable, flags, mode, filled)
            if own is None:
                continue
            search, record = read(world, executable, flags, mode, filled)
            where = f"{way} in {kind}"
            assert [entry.entry for entry in search.entries] == own[0], where
            assert own[4].startswith(record.version), where
            compared += 1
    assert compared >= 4


@pytest.mark.parametrize("version", CAN_MAKE if LONG else some("3.6", "3.9", "3.11", NEW))
def test_start_up_code_is_asked_of_a_named_target_only(version, moor):
    """A hook that puts folders on the path: the interpreter is asked, in the way of running asked about."""
    prefix = moor.root / "hooked"
    executable = make_environment(version, prefix, "--without-pip")
    site = next(prefix.glob("lib/python*/site-packages"))
    # A system's own stands before any environment's.
    system_hook = Path(BY_VERSION[version].base_prefix) / "lib" / f"python{version}" / "sitecustomize.py"
    (site / "late.pth").write_text(f"import sys; sys.path.insert(2, {str(moor.root / 'combs')!r}); open({str(moor.root / 'ran')!r}, 'a')\n")
    (site / "sitecustomize.py").write_text(
        "import sys\nsys.path.append('/late')\n"
    )
    (moor.root / "combs").mkdir()
    (moor.root / "combs" / "combfound.py").touch()
    (moor.folder / "say.py").write_text("import sys\nprint(repr(sys.path))\n")
    for flags in ("", "-I", "-S", "-E -s"):
        command = [executable, *flags.split(), "say.py"]
        moor.root.joinpath("ran").unlink(missing_ok=True)
        own = eval(subprocess.run(command, cwd=moor.folder, env=moor.variables, capture_output=True, check=True).stdout)
        ran = moor.root.joinpath("ran").exists()
        read = moor.kalyx("packages", str(prefix), "--as", f"python {flags} say.py", "--json").json
        assert [entry["entry"] for entry in read["target"]["search_path"]] == own, flags
        assert not read["unknown"]
        assert any(package["name"] == "combfound" and package["origin"] == "linked" for package in read["packages"]) == ran
    moor.root.joinpath("ran").unlink(missing_ok=True)
    unasked = moor.kalyx("packages", str(prefix), "--static", "--json").json
    assert {os.path.basename(item["path"]) for item in unasked["unknown"]} == {"late.pth", *([] if system_hook.exists() else ["sitecustomize.py"])}
    found = moor.kalyx("survey", "--under", moor.root, "--json").json
    assert str(prefix) in [environment["prefix"] for environment in found["environments"]]
    seats = moor.kalyx("here", "--json", PATH=f"{prefix}/bin:/usr/bin:/bin").json["seats"]
    assert executable in [seat["interpreter"]["executable"] for seat in seats if seat["interpreter"]]
    assert not moor.root.joinpath("ran").exists(), "a hook ran for a target nobody named"
    assert moor.kalyx("contrast", str(prefix), str(prefix), "--static").status == 1
    assert moor.kalyx("contrast", str(prefix), str(prefix)).status == 0
