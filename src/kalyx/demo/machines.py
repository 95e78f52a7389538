"""Three made-up machines of the Larkmoor scenario, to be examined anywhere: ``kalyx here --on NAME``.

Their files are as the installers of those systems leave them (Using Python on Windows; Using Python on macOS): one Python
for a user and one of 32 bits for all on the first, entered in the registry, with the store's aliases in front and ``py``
as the word that works; a framework, a home-brewed one and the system's starter on the second. The third is the login node
of a cluster: the system's Python has its library below lib64, those that people use come by modules of the site
(modulefile(5)), of which one was taken away, and a package of the user's own shows in every Python of its version.
"""

from __future__ import annotations

import json

from kalyx.core.system.memory_reader import Link, MemoryReader

# A PE file and a Mach-O file of no content, each with a real header: the processor is told by it.
_PE = (b"MZ" + b"\0" * 58 + (64).to_bytes(4, "little") + b"PE\0\0" + (0x8664).to_bytes(2, "little")
       + (0).to_bytes(2, "little") + b"\0" * 12 + (112).to_bytes(2, "little") + (0x2022).to_bytes(2, "little")
       + (0x20B).to_bytes(2, "little") + b"\0" * 110)  # fmt: skip
_MACH = (
    b"\xcf\xfa\xed\xfe"
    + (0x0100000C).to_bytes(4, "little")
    + (0).to_bytes(4, "little")
    + (2).to_bytes(4, "little")
    + b"\0" * 16
)

# An ELF file likewise: 64 bits, little-endian, a program, for x86-64.
_ELF = b"\x7fELF\x02\x01\x01" + b"\0" * 9 + (2).to_bytes(2, "little") + (62).to_bytes(2, "little") + b"\0" * 44

_METADATA = "Metadata-Version: 2.1\nName: {0}\nVersion: {1}\n"


def _library(folder: str) -> dict[str, str]:
    """What shows a standard library, and what it creates environments with; the folder ends with its separator."""
    return {
        f"{folder}{name}": "" for name in ("os.py", f"venv{folder[-1]}__init__.py", f"ensurepip{folder[-1]}__init__.py")
    }


def _spec(python: str, label: str) -> str:
    argv = [python, "-m", "ipykernel_launcher", "-f", "{connection_file}"]
    return json.dumps({"argv": argv, "display_name": label, "language": "python"}, indent=1)


def _notebook(kernel: str) -> str:
    cell = {"cell_type": "code", "source": ["import hivescale\n", "hivescale.weights()"], "metadata": {}, "outputs": []}
    metadata = {"kernelspec": {"name": kernel, "display_name": kernel, "language": "python"}}
    return json.dumps({"cells": [cell], "metadata": metadata, "nbformat": 4, "nbformat_minor": 5}, indent=1)


def _package(files: dict[str, object], site: str, sign: str, name: str, version: str, *parts: str) -> None:
    """A distribution with its record."""
    info = f"{name}-{version}.dist-info"
    listed = [f"{name}/__init__.py", *parts, f"{info}/METADATA"]
    for file in listed:
        files[sign.join([site, *file.split("/")])] = (
            _METADATA.format(name, version) if file.endswith("METADATA") else ""
        )
    files[sign.join([site, info, "RECORD"])] = "".join(f"{file},,\n" for file in [*listed, f"{info}/RECORD"])


def windows() -> MemoryReader:
    """A Windows machine: a home folder with a blank and letters beyond Latin, no python on PATH but the store's."""
    home = "C:\\Users\\Žofie Včelařka"
    local, moor = f"{home}\\AppData\\Local", f"{home}\\larkmoor"
    newer, older = f"{local}\\Programs\\Python\\Python312", "C:\\Program Files (x86)\\Python39-32"
    aliases, roaming = f"{local}\\Microsoft\\WindowsApps", f"{home}\\AppData\\Roaming"
    files: dict[str, object] = {
        "C:\\Windows\\py.exe": _PE,
        f"{aliases}\\python.exe": b"",
        f"{aliases}\\python3.exe": b"",
        f"{newer}\\python.exe": _PE + b"\x003.12.4\x00",
        f"{newer}\\python312.dll": _PE + b"\x003.12.4\x00",
        **_library(f"{newer}\\Lib\\"),
        f"{newer}\\DLLs\\_ssl.pyd": _PE,
        f"{older}\\python.exe": _PE + b"\x003.9.13\x00",
        f"{older}\\python39.dll": _PE + b"\x003.9.13\x00",
        **_library(f"{older}\\Lib\\"),
        f"{older}\\DLLs\\_ssl.pyd": _PE,
        f"{moor}\\spring\\spring_weights.ipynb": _notebook("orchard-spring"),
        f"{moor}\\spring\\weights.py": "import hivescale\n",
        f"{roaming}\\jupyter\\kernels\\orchard\\kernel.json": _spec(f"{moor}\\orchard\\Scripts\\python.exe", "Orchard"),
        f"{roaming}\\jupyter\\kernels\\orchard-spring\\kernel.json": _spec(
            f"{moor}\\heath\\Scripts\\python.exe", "Orchard, spring"
        ),
    }
    for name, base, version in (("orchard", newer, "3.12.4"), ("heath", older, "3.9.13")):
        files[f"{moor}\\{name}\\pyvenv.cfg"] = (
            f"home = {base}\ninclude-system-site-packages = false\nversion = {version}\n"
        )
        files[f"{moor}\\{name}\\Scripts\\python.exe"] = _PE
        files[f"{moor}\\{name}\\Scripts\\Activate.ps1"] = ""
        _package(files, f"{moor}\\{name}\\Lib\\site-packages", "\\", "pip", "24.0")
        _package(files, f"{moor}\\{name}\\Lib\\site-packages", "\\", "ipykernel", "6.29.4", "ipykernel_launcher.py")
    _package(files, f"{moor}\\orchard\\Lib\\site-packages", "\\", "hivescale", "2.1")
    core, wow = "Software\\Python\\PythonCore", "Software\\WOW6432Node\\Python\\PythonCore"
    registry = {
        f"HKEY_CURRENT_USER\\{core}\\3.12\\InstallPath": {"": f"{newer}\\", "ExecutablePath": f"{newer}\\python.exe"},
        f"HKEY_LOCAL_MACHINE\\{wow}\\3.9-32\\InstallPath": {"": f"{older}\\"},
    }
    variables = {"Path": f"C:\\Windows;{aliases}", "PATHEXT": ".COM;.EXE;.BAT;.CMD", "LOCALAPPDATA": local, "APPDATA": roaming,
                 "USERPROFILE": home, "PSModulePath": f"{home}\\Documents\\PowerShell\\Modules"}  # fmt: skip
    return MemoryReader("windows", files, variables=variables, folder=f"{moor}\\spring", home=home, registry=registry)


def macos() -> MemoryReader:
    """A Mac: a framework from the installer, a home-brewed Python in front, the system's starter without its tools."""
    home, moor = "/Users/keeper", "/Users/keeper/larkmoor"
    framework = "/Library/Frameworks/Python.framework/Versions/3.11"
    brewed = "/opt/homebrew/Cellar/python@3.12/3.12.4/Frameworks/Python.framework/Versions/3.12"
    files: dict[str, object] = {
        "/usr/bin/python3": _MACH,
        f"{framework}/bin/python3.11": _MACH + b"\x003.11.9\x00",
        **_library(f"{framework}/lib/python3.11/"),
        f"{framework}/lib/python3.11/lib-dynload/_ssl.so": _MACH,
        "/usr/local/bin/python3.11": Link(f"{framework}/bin/python3.11"),
        f"{brewed}/bin/python3.12": _MACH + b"\x003.12.4\x00",
        f"{brewed}/bin/python3": Link("python3.12"),
        **_library(f"{brewed}/lib/python3.12/"),
        f"{brewed}/lib/python3.12/lib-dynload/_ssl.so": _MACH,
        "/opt/homebrew/bin/python3": Link(f"{brewed}/bin/python3"),
        f"{moor}/spring/spring_weights.ipynb": _notebook("orchard-spring"),
        f"{moor}/spring/weights.py": "import hivescale\n",
        f"{home}/Library/Jupyter/kernels/orchard/kernel.json": _spec(f"{moor}/orchard/bin/python", "Orchard"),
        f"{home}/Library/Jupyter/kernels/orchard-spring/kernel.json": _spec(
            f"{moor}/heath/bin/python", "Orchard, spring"
        ),
    }
    for name, base, minor, version in (
        ("orchard", "/usr/local/bin/python3.11", "3.11", "3.11.9"),
        ("heath", "/opt/homebrew/bin/python3", "3.12", "3.12.4"),
    ):
        files[f"{moor}/{name}/pyvenv.cfg"] = (
            f"home = {base.rpartition('/')[0]}\ninclude-system-site-packages = false\nversion = {version}\n"
        )
        files[f"{moor}/{name}/bin/python"] = Link(base)
        files[f"{moor}/{name}/bin/activate"] = f"VIRTUAL_ENV={moor}/{name}\n"
        _package(files, f"{moor}/{name}/lib/python{minor}/site-packages", "/", "pip", "24.0")
        _package(
            files, f"{moor}/{name}/lib/python{minor}/site-packages", "/", "ipykernel", "6.29.4", "ipykernel_launcher.py"
        )
    _package(files, f"{moor}/orchard/lib/python3.11/site-packages", "/", "hivescale", "2.1")
    variables = {"PATH": "/opt/homebrew/bin:/usr/local/bin:/usr/bin:/bin", "HOME": home, "SHELL": "/bin/zsh"}
    return MemoryReader("macos", files, variables=variables, folder=f"{moor}/spring", home=home)


def cluster() -> MemoryReader:
    """A cluster's login node: a module is loaded; it is the base of one environment; that of another was removed."""
    home, moor, modules = "/home/g07/keeper", "/scratch/g07/larkmoor", "/apps/modules/all"
    files: dict[str, object] = {
        "/usr/bin/python3": Link("python3.9"),
        "/usr/bin/python3.9": _ELF + b"\x003.9.18\x00",
        **_library("/usr/lib64/python3.9/"),
        "/usr/lib64/python3.9/lib-dynload/_ssl.cpython-39-x86_64-linux-gnu.so": _ELF,
        f"{moor}/spring/spring_weights.ipynb": _notebook("heath"),
        f"{moor}/spring/weights.py": "import hivescale\nimport nectarflow\n",
        f"{home}/.local/share/jupyter/kernels/orchard/kernel.json": _spec(f"{moor}/orchard/bin/python", "Orchard"),
        f"{home}/.local/share/jupyter/kernels/heath/kernel.json": _spec(f"{moor}/heath/bin/python", "Heath"),
        f"{home}/.bashrc": "module load python/3.11.5\n",
    }
    for version in ("3.11.5", "3.12.3"):
        minor, prefix = version.rpartition(".")[0], f"/apps/python/{version}"
        files |= {
            f"{prefix}/bin/python{minor}": _ELF + f"\0{version}\0".encode(),
            f"{prefix}/bin/python3": Link(f"python{minor}"),
            f"{prefix}/bin/python": Link(f"python{minor}"),
            **_library(f"{prefix}/lib/python{minor}/"),
            f"{prefix}/lib/python{minor}/lib-dynload/_ssl.cpython-{minor.replace('.', '')}-x86_64-linux-gnu.so": _ELF,
            f"{modules}/python/{version}": f"#%Module\nprepend-path PATH {prefix}/bin\nsetenv PYTHON_ROOT {prefix}\n",
        }
        _package(files, f"{prefix}/lib/python{minor}/site-packages", "/", "pip", "24.0")
    for name, version in (("orchard", "3.11.5"), ("heath", "3.10.8")):
        minor, base = version.rpartition(".")[0], f"/apps/python/{version}/bin"
        site = f"{moor}/{name}/lib/python{minor}/site-packages"
        files |= {
            f"{moor}/{name}/pyvenv.cfg": f"home = {base}\ninclude-system-site-packages = false\nversion = {version}\n",
            f"{moor}/{name}/bin/python": Link(f"{base}/python3"),
            f"{moor}/{name}/bin/activate": f"VIRTUAL_ENV={moor}/{name}\n",
            f"{moor}/{name}/lib64": Link("lib"),
        }
        _package(files, site, "/", "pip", "24.0")
        _package(files, site, "/", "ipykernel", "6.29.4", "ipykernel_launcher.py")
        _package(files, site, "/", "hivescale", "2.1")
    _package(files, f"{home}/.local/lib/python3.11/site-packages", "/", "nectarflow", "0.4")
    variables = {"PATH": "/apps/python/3.11.5/bin:/usr/bin:/bin", "HOME": home, "SHELL": "/bin/bash", "MODULEPATH": modules,
                 "LOADEDMODULES": "python/3.11.5", "_LMFILES_": f"{modules}/python/3.11.5",
                 "PYTHON_ROOT": "/apps/python/3.11.5"}  # fmt: skip
    return MemoryReader("linux", files, variables=variables, folder=f"{moor}/spring", home=home)


MACHINES = {"windows-larkmoor": windows, "macos-larkmoor": macos, "cluster-larkmoor": cluster}
