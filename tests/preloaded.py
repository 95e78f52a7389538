"""Kalyx called by forking a process that has loaded its modules: a call takes half the processor time or less.

What runs is the same entry, with the words, variables, folder and standard streams of the call. Calls for which the start
of the interpreter matters (``PYTHON…`` variables, another locale) are not made this way (``fits``).

python preloaded.py SOCKET SCRIPT: the process that forks. It ends when its standard input does.
"""

from __future__ import annotations

import array
import importlib
import json
import os
import pkgutil
import select
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping
from pathlib import Path

if __name__ == "__main__":
    sys.path[0] = str(Path(__file__).parents[1])
from tests import covering

LOCALE = "C.UTF-8"
# What Kalyx's functions load when they need it.
_LIBRARIES = """argcomplete rich.console rich.text rich.live rich.table rich.progress rich.tree msgspec.json jinja2 packaging.requirements
    packaging.version packaging.markers packaging.specifiers packaging.tags pathspec psutil tomlkit zmq elftools.elf.elffile macholib.MachO
    pefile http.client ssl urllib.request concurrent.futures zipfile gzip hashlib hmac mmap uuid html difflib configparser
    xml.etree.ElementTree tempfile platform locale sysconfig csv plistlib ast tokenize shlex getpass inspect""".split()  # fmt: skip


def fits(variables: Mapping[str, str]) -> bool:
    """Whether a call with these variables starts as the process that forks did."""
    named = [name for name in variables if name.startswith(("PYTHON", "LC_", "LANGUAGE")) and name != "PYTHONDONTWRITEBYTECODE"]
    return not named and variables.get("LANG") == LOCALE and sys.platform != "win32"


class Preloaded:
    """One such process; ``run`` is like ``subprocess.run`` with text."""

    def __init__(self, script: str) -> None:
        self.folder = tempfile.mkdtemp()
        self.path = os.path.join(self.folder, "calls")
        variables = {name: value for name, value in os.environ.items() if not name.startswith(("PYTHON", "LC_"))} | {"LANG": LOCALE}
        self.process = subprocess.Popen([sys.executable, __file__, self.path, script], stdin=subprocess.PIPE, env=variables)
        end = time.monotonic() + 60
        while not os.path.exists(self.path):
            assert self.process.poll() is None and time.monotonic() < end, "no process that forks"
            time.sleep(0.01)

    def end(self) -> None:
        self.process.communicate(timeout=10)
        shutil.rmtree(self.folder)

    def run(self, words: list[str], folder: str, variables: Mapping[str, str], given: str | None, seconds: float,
            program: str = "kalyx.cli.entry") -> subprocess.CompletedProcess:  # fmt: skip
        """``program`` is the module whose ``main`` is called."""
        call = json.dumps({"program": program, "words": words, "folder": folder, "variables": dict(variables), "test": covering.current()}).encode()
        stdin = tempfile.TemporaryFile() if given is not None else open(os.devnull, "rb")  # noqa: SIM115  (closed below)
        (out, out_end), (err, err_end) = os.pipe(), os.pipe()
        with socket.socket(socket.AF_UNIX) as line, stdin:
            if given is not None:
                stdin.write(given.encode("utf-8", "surrogateescape"))
                stdin.seek(0)
            line.connect(self.path)
            handles = array.array("i", [stdin.fileno(), out_end, err_end])
            line.sendmsg([len(call).to_bytes(4, "big")], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, handles)])
            line.sendall(call)
            os.close(out_end)
            os.close(err_end)
            said: dict[int, list[bytes]] = {out: [], err: [], line.fileno(): []}
            open_ones, end = set(said), time.monotonic() + seconds
            while open_ones:
                ready = select.select(open_ones, [], [], max(0.0, end - time.monotonic()))[0]
                if not ready:
                    os.kill(int(b"".join(said[line.fileno()]).split()[0]), signal.SIGKILL)
                    raise subprocess.TimeoutExpired(words, seconds)
                for handle in ready:
                    chunk = os.read(handle, 65536)
                    said[handle].append(chunk)
                    if not chunk:
                        open_ones.discard(handle)
            status = int(b"".join(said[line.fileno()]).split()[1])
        texts = [b"".join(said[handle]).decode("utf-8", "surrogateescape") for handle in (out, err)]
        os.close(out)
        os.close(err)
        return subprocess.CompletedProcess(words, status, *texts)


def _serve(path: str, script: str) -> None:
    sys.path[0] = os.path.dirname(script)
    import kalyx

    for module in pkgutil.walk_packages(kalyx.__path__, "kalyx."):
        if not module.name.startswith(("kalyx.demo.standin", "kalyx.core.probe", "kalyx.__main__")):
            importlib.import_module(module.name)
    for name in (*_LIBRARIES, "tests.stepping", "tests.refusing"):
        importlib.import_module(name)
    import gc

    gc.freeze()
    ended_end, ended = os.pipe2(os.O_NONBLOCK)
    signal.signal(signal.SIGCHLD, lambda number, frame: None)
    signal.set_wakeup_fd(ended, warn_on_full_buffer=False)
    lines: dict[int, socket.socket] = {}
    with socket.socket(socket.AF_UNIX) as door:
        door.bind(path + ".new")
        door.listen(16)
        os.rename(path + ".new", path)
        while True:
            ready = select.select([door, sys.stdin, ended_end], [], [])[0]
            if sys.stdin in ready:
                return
            if ended_end in ready:
                os.read(ended_end, 4096)
                _tell_ends(lines)
            if door in ready:
                line, _ = door.accept()
                call, handles = _taken(line)
                child = os.fork()
                if child == 0:
                    signal.set_wakeup_fd(-1)
                    for item in (door, line, *lines.values()):
                        item.close()
                    _call(call, handles, script)
                for handle in handles:
                    os.close(handle)
                line.sendall(b"%d " % child)
                lines[child] = line


def _tell_ends(lines: dict[int, socket.socket]) -> None:
    """Tell each caller whose program has ended how it did."""
    while lines:
        child, status = os.waitpid(-1, os.WNOHANG)
        if not child:
            return
        with lines.pop(child) as line:
            line.sendall(b"%d" % os.waitstatus_to_exitcode(status))


def _taken(line: socket.socket) -> tuple[dict, array.array[int]]:
    length, ancillary, _, _ = line.recvmsg(4, socket.CMSG_SPACE(12))
    call = b""
    while len(call) < int.from_bytes(length, "big"):
        call += line.recv(1 << 20)
    return json.loads(call), array.array("i", ancillary[0][2])


def _call(call: dict, handles: array.array[int], script: str) -> None:
    for number, handle in enumerate(handles):
        os.dup2(handle, number)
        os.close(handle)
    os.chdir(call["folder"])
    os.environ.clear()
    os.environ.update(call["variables"])
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    sys.argv = [script, *call["words"]]
    main = importlib.import_module(call["program"]).main
    if covering.FOLDER:
        covering.begin()
    status = 1
    try:
        main()
    except SystemExit as end:
        status = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
    except BaseException:
        import traceback

        traceback.print_exc()
    import atexit

    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        stream.flush()
    if covering.FOLDER:
        covering.end(call["test"])
    os._exit(status)


if __name__ == "__main__":
    _serve(*sys.argv[1:])
