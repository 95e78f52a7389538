"""Live Reader: this machine, each folder listed at most once in a run."""

from __future__ import annotations

import errno
import os
import stat
import sys
from collections.abc import Mapping
from contextlib import suppress
from functools import cache, cached_property
from typing import Any

from kalyx.core.model import System
from kalyx.core.model.records import KalyxError
from kalyx.core.system.reader import (
    LISTING_LIMIT,
    READ_LIMIT,
    SCAN_LIMIT,
    FileKind,
    FileStat,
    Process,
    Reader,
    Refused,
    Unreadable,
)
from kalyx.core.system.reasons import reason_of
from kalyx.core.text.numbers import is_number

# These errors mean that nothing exists at the path; after any other error that is not known.
_NOTHING_THERE = {errno.ENOENT, errno.ENOTDIR, errno.ELOOP, errno.ENAMETOOLONG, errno.EINVAL}
_WHOLE = 32 * 1024  # a smaller limit is that of a file's head
_PLAIN_PATHS = os.sep == "/"
_SYSTEMS: dict[str, System] = {"darwin": "macos", "win32": "windows", "cygwin": "windows"}


def _kind_of(mode: int) -> FileKind:
    if stat.S_ISREG(mode):
        return "file"
    if stat.S_ISDIR(mode):
        return "folder"
    return "link" if stat.S_ISLNK(mode) else "other"


def _on_disk(status: os.stat_result) -> int:
    """Bytes on disk: blocks of 512 where the system counts them, else the length."""
    blocks = getattr(status, "st_blocks", None)
    return status.st_size if blocks is None else blocks * 512


# File systems of another machine or of a program, which may never answer.
_REMOTE_KINDS = ("nfs", "nfs4", "cifs", "smb3", "smbfs", "9p", "afs", "ceph", "glusterfs", "autofs", "sshfs")
_MOUNT_SECONDS = 2.0


def mounts(table: str = "/proc/self/mountinfo") -> list[tuple[str, str]]:
    """Each folder where a file system is mounted, binds too, and that system's kind (proc_pid_mountinfo(5)).

    None where the system does not tell.
    """
    if os.name != "posix":
        return []
    try:
        with open(table, encoding="utf-8", errors="surrogateescape") as file:
            rows = [line.split() for line in file]
    except OSError:
        return []
    return [(_unescaped(words[4]), words[words.index("-") + 1]) for words in rows if "-" in words[5:-1]]


def _unescaped(word: str) -> str:
    for code, sign in (("\\040", " "), ("\\011", "\t"), ("\\012", "\n"), ("\\134", "\\")):
        word = word.replace(code, sign)
    return word


def remote_mounts(table: str = "/proc/self/mountinfo") -> list[str]:
    """The folders where such file systems are mounted."""
    return [folder for folder, kind in mounts(table) if kind in _REMOTE_KINDS or kind.startswith("fuse")]


def answers_in_time(folder: str, seconds: float = _MOUNT_SECONDS) -> bool:
    """Whether the system answers about a folder at all: asked in a thread that is left running when it does not."""
    import threading

    done = threading.Event()

    def ask() -> None:
        try:
            os.stat(folder)
        except OSError:
            pass
        done.set()

    threading.Thread(target=ask, daemon=True).start()
    return done.wait(seconds)


@cache
def _booted() -> float:
    """When the system started, in seconds since the epoch; processes count from there."""
    try:
        with open("/proc/stat", "rb") as file:
            return next((float(line.split()[1]) for line in file if line.startswith(b"btime ")), 0.0)
    except (OSError, ValueError):
        return 0.0


@cache
def _boot_id() -> str:
    """What names this start of the system (random(4)); the claim of a process of an earlier start names nobody."""
    try:
        with open("/proc/sys/kernel/random/boot_id", encoding="ascii") as file:
            return file.read(64).strip()[:8]
    except (OSError, ValueError):
        return ""


def _paths_of(pid: int, what: str) -> list[str]:
    """The paths of files that a process has open or loaded, by the library; none where the system does not tell.

    Windows may never answer for one of its handles; there each file is asked whether a program has it open (``trees``).
    """
    if sys.platform == "win32":
        return []
    import psutil

    try:
        return [item.path for item in getattr(psutil.Process(pid), what)() if os.path.isabs(item.path)]
    except (psutil.Error, OSError, AttributeError):
        return []


def _process_file(pid: int, name: str) -> bytes | None:
    """A file of the process folder, up to a mebibyte; None where it may not be read, or the process is gone."""
    try:
        handle = os.open(f"/proc/{pid}/{name}", os.O_RDONLY)
    except OSError:
        return None
    try:
        chunks, left = [], 1 << 20
        while left > 0:  # the system gives such a file in pieces of any size
            chunk = os.read(handle, min(left, 65536))
            if not chunk:
                break
            chunks.append(chunk)
            left -= len(chunk)
        return b"".join(chunks)
    except OSError:
        return None
    finally:
        os.close(handle)


def _words_of(block: bytes) -> tuple[str, ...]:
    return tuple(os.fsdecode(word) for word in block.split(b"\0")[:-1])


def _split(path: str) -> tuple[str, str]:
    """Folder and name; most paths here are plain ones, for which a cut at the last slash will do."""
    folder, _, name = path.rpartition("/")
    return (folder, name) if _PLAIN_PATHS and folder and folder[-1] != "/" else os.path.split(path)


class LiveReader(Reader):
    """The machine Kalyx runs on. ``variables`` and ``folder`` are those of the start unless given."""

    def __init__(self, variables: dict[str, str] | None = None, folder: str | None = None) -> None:
        self.system = _SYSTEMS.get(sys.platform, "linux")
        self.variables = dict(os.environ) if variables is None else variables
        self.folder = folder or self._current_folder()
        self.home = self.variable("USERPROFILE" if self.system == "windows" else "HOME") or os.path.expanduser("~")
        self.pid = os.getpid()
        self.user = os.getuid() if hasattr(os, "getuid") else 0
        self.refusals: dict[str, str] = {}
        self._remote = remote_mounts()
        self._answering: dict[str, bool] = {}
        self._listings: dict[str, dict[str, FileKind] | Unreadable] = {}
        self._processes: dict[int, Process | None] = {}
        self._kinds: dict[str, FileKind | Refused | None] = {}
        self._statuses: dict[str, FileStat | Refused | None] = {}
        self._links: dict[str, str | None] = {}
        self._scans: dict[tuple[str, bytes], list[bytes]] = {}

    def again(self) -> LiveReader:
        return LiveReader(dict(self.variables), self.folder)

    def _walked(self, path: str, known: dict[str, str], budget: int) -> str:
        """On Windows as the interpreter itself has it: only the system knows what a substituted drive stands for."""
        if self.system != "windows" or not self.path.isabs(path) or "\0" in path:
            return super()._walked(path, known, budget)
        known[path] = result = self._short_form(os.path.realpath(path))
        return result

    @staticmethod
    def _current_folder() -> str:
        """The folder as the shell wrote it (links kept) where that is true, else the system's word."""
        try:
            actual = os.getcwd()
        except OSError as error:
            message = f"the current folder cannot be read ({reason_of(error)}): change to one that is there"
            raise KalyxError(message) from None
        written = os.environ.get("PWD")
        if written and os.path.isabs(written):
            try:
                if os.path.samefile(written, actual):
                    return written
            except OSError:
                pass
        return actual

    def _note_refusal(self, path: str, error: OSError) -> Refused | None:
        """Note an error of the system as a refusal; None where the error means that nothing exists at the path."""
        if error.errno in _NOTHING_THERE:
            return None
        self.refusals.setdefault(path, reason_of(error))
        return Refused(reason_of(error))

    def _is_dead(self, path: str) -> bool:
        """Whether the path is on a mount that does not answer. Costs nothing where there are none of that kind."""
        for mount in self._remote:
            if path == mount or path.startswith(mount + "/") or mount == "/":
                if mount not in self._answering:
                    self._answering[mount] = answers_in_time(mount)
                if not self._answering[mount]:
                    self.refusals.setdefault(path, f"its file system gave no answer within {_MOUNT_SECONDS:g} seconds")
                    return True
        return False

    def listing(self, folder: str) -> Mapping[str, FileKind]:
        if self._remote and self._is_dead(folder):
            raise Unreadable(folder, f"its file system gave no answer within {_MOUNT_SECONDS:g} seconds")
        known = self._listings.get(folder)
        if known is None:
            known = self._listings[folder] = self._list(folder)
        if isinstance(known, Unreadable):
            raise known
        return known

    def _list(self, folder: str) -> dict[str, FileKind] | Unreadable:
        result: dict[str, FileKind] = {}
        kind: FileKind
        try:
            with os.scandir(folder) as entries:
                for entry in entries:
                    if entry.is_file(follow_symlinks=False):  # most are: asked first
                        kind = "file"
                    elif entry.is_dir(follow_symlinks=False):
                        kind = "folder"
                    else:
                        kind = "link" if entry.is_symlink() else "other"
                    result[entry.name] = kind
                    if len(result) > LISTING_LIMIT:
                        return Unreadable(folder, f"more than {LISTING_LIMIT} entries")
        except OSError as error:
            self._note_refusal(folder, error)
            return Unreadable(folder, reason_of(error))
        except ValueError:
            return Unreadable(folder, "not a possible path")
        return result

    def kind(self, path: str) -> FileKind | Refused | None:
        if self._remote and self._is_dead(path):
            return Refused(self.refusals[path])
        # The parent's listing answers without asking the system again.
        folder, name = _split(path)
        listed = self._listings.get(folder)
        if isinstance(listed, dict):
            kind = listed.get(name)
            if kind is not None:
                return kind
            if name and self.system == "linux" and name not in (".", ".."):
                return None
        known = self._kinds
        if path not in known:
            try:
                known[path] = _kind_of(os.lstat(path).st_mode)
            except OSError as error:
                known[path] = self._note_refusal(path, error)
            except ValueError:
                known[path] = None
        return known[path]

    def link(self, path: str) -> str | None:
        if self._remote and self._is_dead(path):
            return None
        if path not in self._links:
            target = None
            folder, name = _split(path)
            listed = self._listings.get(folder)
            if not isinstance(listed, dict) or listed.get(name, "link") == "link":
                try:
                    target = os.readlink(path)
                except (OSError, ValueError):
                    target = None
            self._links[path] = target
        return self._links[path]

    def status(self, path: str) -> FileStat | Refused | None:
        if self._remote and self._is_dead(path):
            return Refused(self.refusals[path])
        if path not in self._statuses:
            try:
                seen = os.stat(path)
            except OSError as error:
                self._statuses[path] = self._note_refusal(path, error)
            except ValueError:
                self._statuses[path] = None
            else:
                self._statuses[path] = FileStat(
                    _kind_of(seen.st_mode),
                    seen.st_size,
                    seen.st_mtime_ns,
                    seen.st_ino,
                    seen.st_dev,
                    stat.S_IMODE(seen.st_mode),
                    seen.st_uid,
                    seen.st_ctime_ns,
                )
        return self._statuses[path]

    def _open(self, path: str) -> int:
        if self._remote and self._is_dead(path):
            raise Unreadable(path, f"its file system gave no answer within {_MOUNT_SECONDS:g} seconds")
        # Without O_NONBLOCK a named pipe would hold the run for ever.
        flags = os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0)
        try:
            handle = os.open(path, flags)
        except ValueError:
            raise Unreadable(path, "not a possible path") from None
        except OSError as error:
            self._note_refusal(path, error)
            raise Unreadable(path, reason_of(error)) from None
        try:
            regular = stat.S_ISREG(os.fstat(handle).st_mode)
        except OSError as error:
            os.close(handle)
            self._note_refusal(path, error)
            raise Unreadable(path, reason_of(error)) from None
        if not regular:
            os.close(handle)
            raise Unreadable(path, "not a regular file")
        return handle

    def read(self, path: str, limit: int = READ_LIMIT, start: int = 0) -> bytes:
        handle = self._open(path)
        try:
            if start:
                os.lseek(handle, start, os.SEEK_SET)
            chunks, left = [], limit
            while left > 0:
                wanted = min(left, 1 << 20)
                chunk = os.read(handle, wanted)
                chunks.append(chunk)
                left -= len(chunk)
                if len(chunk) < wanted:
                    break  # of a regular file, less than asked for is its end
            # A caller that reads one byte more than its limit reports that itself; a head is no whole file, and what
            # begins further on is a part that was meant.
            if not (left or start) and limit >= _WHOLE and limit % 1024 == 0 and os.fstat(handle).st_size > limit:
                self.note_cut(path, f"only its first {limit} bytes were read")
            return b"".join(chunks)
        except OSError as error:
            self._note_refusal(path, error)
            raise Unreadable(path, reason_of(error)) from None
        finally:
            os.close(handle)

    def scan(self, path: str, pattern: bytes) -> list[bytes]:
        known = self._scans.get((path, pattern))
        if known is None:
            known = self._scans[(path, pattern)] = self._scanned(path, pattern)
        return known

    def _scanned(self, path: str, pattern: bytes) -> list[bytes]:
        import mmap
        import re

        handle = self._open(path)
        try:
            # Only the beginning of a large file: in programs the text that is searched for is there.
            size = os.fstat(handle).st_size
            if size > SCAN_LIMIT:
                self.note_cut(path, f"only its first {SCAN_LIMIT} bytes were searched")
                size = SCAN_LIMIT
            # Not closed here: after a signal an iterator may still hold a part of the map, which then cannot be closed.
            whole = mmap.mmap(handle, size, access=mmap.ACCESS_READ)
            return [match.group(1) for match in re.finditer(pattern, whole)]
        except (OSError, ValueError) as error:
            if isinstance(error, OSError):
                self._note_refusal(path, error)
            raise Unreadable(path, str(error)) from None
        finally:
            os.close(handle)

    @cached_property
    def _has_process_folder(self) -> bool:
        return os.name == "posix" and os.path.isdir("/proc/self")

    def processes(self) -> list[int]:
        return list(self._seen_processes)

    @cached_property
    def _seen_processes(self) -> list[int]:
        if self._has_process_folder:
            seen_processes = []
            try:
                names = os.listdir("/proc")
            except OSError as error:
                self._note_refusal("/proc", error)
                return []
            for name in names:
                try:
                    if is_number(name) and os.stat(f"/proc/{name}").st_uid == self.user:
                        seen_processes.append(int(name))
                except OSError:
                    continue
            return seen_processes
        import psutil

        return psutil.pids()

    def command_of(self, pid: int) -> tuple[str, ...]:
        if self._has_process_folder:
            return _words_of(_process_file(pid, "cmdline") or b"")
        return super().command_of(pid)

    def loaded_by(self, pid: int) -> list[str]:
        if not self._has_process_folder:
            return _paths_of(pid, "memory_maps")
        try:
            with open(f"/proc/{pid}/maps", encoding="utf-8", errors="surrogateescape") as file:
                paths = [line.rstrip("\n").partition("/") for line in file.read(16 << 20).split("\n")]
        except OSError:
            return []
        return list(dict.fromkeys("/" + remainder for _, slash, remainder in paths if slash))

    def opened_by(self, pid: int) -> list[str]:
        if not self._has_process_folder:
            return _paths_of(pid, "open_files")
        result = []
        try:
            for name in os.listdir(f"/proc/{pid}/fd"):
                with suppress(OSError):
                    result.append(os.readlink(f"/proc/{pid}/fd/{name}"))
        except OSError:
            return []
        return [path for path in result if path.startswith("/")]

    def program_of(self, pid: int) -> str | None:
        if self._has_process_folder:
            try:
                return os.readlink(f"/proc/{pid}/exe")
            except OSError:
                return None
        return super().program_of(pid)

    def listens(self, pid: int, port: int) -> bool | None:
        import psutil

        try:
            process = psutil.Process(pid)
            ask = getattr(process, "net_connections", None) or process.connections
            listens = ask(kind="tcp")
        except (psutil.Error, OSError):
            return None
        return any(item.status == psutil.CONN_LISTEN and item.laddr and item.laddr[1] == port for item in listens)

    def registry(self, key: str) -> dict[str, str] | None:
        if sys.platform != "win32":
            return None
        import winreg

        hive, _, remainder = key.partition("\\")
        result = {}
        try:
            with winreg.OpenKey(getattr(winreg, hive), remainder) as handle:
                for number in range(winreg.QueryInfoKey(handle)[1]):
                    name, value, _kind = winreg.EnumValue(handle, number)
                    if isinstance(value, str):
                        result[name] = value
        except OSError:
            return None
        return result

    def registry_keys(self, key: str) -> list[str]:
        if sys.platform != "win32":
            return []
        import winreg

        hive, _, remainder = key.partition("\\")
        try:
            with winreg.OpenKey(getattr(winreg, hive), remainder) as handle:
                return [winreg.EnumKey(handle, number) for number in range(winreg.QueryInfoKey(handle)[0])]
        except OSError:
            return []

    def usage_of_files(self, paths: list[str]) -> int:
        seen: dict[tuple[int, int], int] = {}
        for path in paths:
            try:
                details = os.lstat(path)
            except (OSError, ValueError):
                continue
            seen[(details.st_dev, details.st_ino)] = _on_disk(details)
        return sum(seen.values())

    def usage(self, folder: str) -> tuple[int, int]:
        seen: set[tuple[int, int]] = set()
        total, unread, pending = 0, 0, [folder]
        try:
            total += _on_disk(os.lstat(folder))
        except OSError:
            return 0, 1
        while pending:
            try:
                with os.scandir(pending.pop()) as entries:
                    for entry in entries:
                        details = entry.stat(follow_symlinks=False)
                        if entry.is_dir(follow_symlinks=False):
                            pending.append(entry.path)
                        elif details.st_nlink > 1:
                            if (details.st_dev, details.st_ino) in seen:
                                continue
                            seen.add((details.st_dev, details.st_ino))
                        total += _on_disk(details)
            except OSError:
                unread += 1
        return total, unread

    def may_read(self, path: str) -> bool:
        try:
            return os.access(path, os.R_OK | (os.X_OK if self.is_folder(path) else 0))
        except ValueError:
            return False  # not a possible path

    def may_run(self, path: str) -> bool:
        try:
            return self.system == "windows" or os.access(path, os.X_OK)
        except ValueError:
            return False

    def process(self, pid: int) -> Process | None:
        """Read from the system's process folder where there is one, else by psutil."""
        if pid not in self._processes:
            by_folder = self._has_process_folder
            self._processes[pid] = self._process_by_folder(pid) if by_folder else self._process_by_library(pid)
        return self._processes[pid]

    @staticmethod
    def _process_by_folder(pid: int) -> Process | None:
        def end(name: str) -> str | None:
            try:
                return os.readlink(f"/proc/{pid}/{name}")
            except OSError:
                return None

        status = _process_file(pid, "stat")
        if status is None:
            return None
        # The name is in brackets and may contain any character, brackets too.
        opening, closing = status.find(b"("), status.rfind(b")")
        fields = status[closing + 2 :].split()
        if fields[0] in (b"Z", b"X"):
            return None
        block = _process_file(pid, "environ")
        variables = None
        if block is not None:
            pairs = (item.partition(b"=") for item in block.split(b"\0") if b"=" in item)
            variables = {os.fsdecode(key): os.fsdecode(value) for key, _, value in pairs}
        try:
            started: float | None = _booted() + float(fields[19]) / os.sysconf("SC_CLK_TCK")
        except (ValueError, IndexError):
            started = None
        return Process(
            pid,
            int(fields[1]),
            end("exe"),
            _words_of(_process_file(pid, "cmdline") or b""),
            end("cwd"),
            variables,
            started,
            os.fsdecode(status[opening + 1 : closing]),
            # session equals pid, and the terminal's number is not zero
            int(fields[3]) == pid and int(fields[4]) != 0,
            f"{fields[19].decode('ascii', 'replace')}@{_boot_id()}" if len(fields) > 19 else "",
        )

    @staticmethod
    def _process_by_library(pid: int) -> Process | None:
        import psutil

        try:
            process = psutil.Process(pid)
        except (psutil.Error, OSError):
            return None

        def ask(what: str) -> Any:
            """One fact, or None: a process may refuse one and give the others."""
            try:
                return getattr(process, what)()
            except (psutil.Error, OSError):
                return None

        with process.oneshot():
            return Process(
                pid,
                ask("ppid") or 0,
                ask("exe") or None,
                tuple(ask("cmdline") or ()),
                ask("cwd"),
                ask("environ"),
                ask("create_time"),
                ask("name") or "",
            )
