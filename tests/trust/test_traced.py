"""What docs/security.md says that each command starts, writes and speaks to, by the word of the system's own tracer."""

import re
import shutil
import subprocess

import pytest

from tests.conftest import KALYX

pytestmark = pytest.mark.skipif(not shutil.which("strace"), reason="needs strace (Debian: strace)")

# What changes something on disk, starts a program or speaks to anybody; files are opened for reading by the thousand.
TRACED = "execve,execveat,open,openat,creat,mkdir,mkdirat,rename,renameat,renameat2,unlink,unlinkat,rmdir,symlink,symlinkat,link,linkat,chmod,fchmodat,truncate,connect,sendto"
STARTS_NOTHING = [
    "here --json", "here --plain", "kernels", "causes shadowed", "enter {orchard}", "completion bash",
    "survey --static", "packages {orchard} --static --json", "record {orchard} --static", "contrast {orchard} {heath} --static",
    "why hivescale --in {heath} --static", "why hivescale --everywhere --static", "why {spring}/spring_weights.ipynb --static",
    "here --on cluster-larkmoor", "why nectarflow --in kernel:orchard --on windows-larkmoor", "report -o {page} --on macos-larkmoor",
    "register {orchard} --id spring --dry-run", "discard {heath} --dry-run --static", "unregister orchard --dry-run",
]  # fmt: skip


@pytest.fixture(scope="module")
def machine(as_built, tmp_path_factory):
    moor, root = as_built(), tmp_path_factory.mktemp("traced")
    home = moor.folder / "larkmoor" / "home"
    larkmoor = home / "larkmoor"
    return {"home": home, "spring": larkmoor / "spring", "orchard": larkmoor / "orchard", "heath": larkmoor / "heath", "page": root / "page.html"}


def traced(machine: dict, words: list[str]) -> list[str]:
    """The calls that were made, those that failed left out, one line each; a call that another thread cut is whole again."""
    log = machine["home"].parent / "log"
    variables = {"HOME": str(machine["home"]), "PATH": f"{machine['orchard']}/bin:/usr/bin:/bin", "LANG": "C.UTF-8", "PYTHONDONTWRITEBYTECODE": "1"}
    done = subprocess.run(["strace", "-f", "-qq", "-s", "300", "-e", f"trace={TRACED}", "-o", log, KALYX, *words], cwd=machine["spring"],
                          env=variables, capture_output=True, text=True, check=False)  # fmt: skip
    assert done.returncode in (0, 1) and done.stdout, (words, done.stderr)
    begun: dict[str, str] = {}
    found = []
    for line in log.read_text(errors="replace").splitlines():
        number, _, call = line.partition(" ")
        call = call.strip()
        if call.endswith("<unfinished ...>"):
            begun[number] = call.removesuffix("<unfinished ...>")
            continue
        resumed = re.match(r"<\.\.\. \w+ resumed>(.*)", call)
        if resumed:
            call = begun.pop(number, "") + resumed[1]
        if re.search(r"\) += (?!-1\b)", call) or (call.startswith("connect(") and "EINPROGRESS" in call):
            found.append(call)
    assert any(call.startswith("execve(") for call in found), "nothing was traced"
    return found


def programs(calls: list[str]) -> list[str]:
    """What was started after Kalyx itself."""
    return [re.match(r'execve(?:at)?\((?:\d+, )?"([^"]*)"', call)[1] for call in calls if call.startswith("execve")][1:]


def changes(calls: list[str]) -> list[str]:
    """Every call that leaves something behind on disk; what is not a place on it is left out."""
    opened = [call for call in calls if not call.startswith(("execve", "connect(", "sendto("))]
    kept = [call for call in opened if not call.startswith(("open(", "openat(")) or re.search(r"O_(WRONLY|RDWR|CREAT|TRUNC|APPEND)", call)]
    return [call for call in kept if not re.search(r'"/(dev|proc)/', call)]


def peers(calls: list[str]) -> list[str]:
    """Whom a socket was connected to, or sent to, beyond this machine."""
    return [call for call in calls if call.startswith(("connect(", "sendto(")) and "AF_INET" in call and "127.0.0.1" not in call and '"::1"' not in call]


def test_those_that_only_read_start_nothing_and_write_nothing(machine):
    for line in STARTS_NOTHING:
        words = line.format(**machine).split()
        calls = traced(machine, words)
        beside = "/.kalyx-new-" if line.startswith("report") else "\0"  # the page is written beside, and renamed into its place
        written = [call for call in changes(calls) if beside not in call]
        assert bool(changes(calls)) == line.startswith("report"), "what is written is seen"
        assert (programs(calls), written, peers(calls)) == ([], [], []), line
    assert machine["page"].exists(), "the one file that was asked for"


def test_a_trial_starts_the_interpreter_of_the_seat_and_nothing_else(machine):
    """But for the guard that ends it; what it writes is temporary, or the cache. A kernel is spoken to over loopback."""
    orchard, temporary = str(machine["orchard"]), re.compile(r'"(/tmp|/var/tmp)/|"[^"/]*"|kalyx-\w+')
    cache = str(machine["home"] / ".cache" / "kalyx")
    for line, started in (("why hivescale --in {orchard}", orchard), ("packages {orchard}", orchard), ("rehearse orchard", orchard)):
        calls = traced(machine, line.format(**machine).split())
        others = [program for program in programs(calls) if not program.startswith(started) and program != "/bin/sh"]
        left = [call for call in changes(calls) if not temporary.search(call) and cache not in call]
        assert (others, left, peers(calls)) == ([], [], []), line
        assert programs(calls) or line.startswith("packages"), line
        spoken = [call for call in calls if call.startswith("connect(") and "127.0.0.1" in call]
        assert bool(spoken) == line.startswith("rehearse"), "who is spoken to is seen"
