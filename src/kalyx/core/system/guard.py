"""The guard: what Kalyx started, and its temporary folder, go when Kalyx goes, however it ends.

Each run has one small shell in a session of its own, which waits on a pipe that only Kalyx holds. Kalyx writes to it
which process groups began and ended. When the pipe ends without a word that all is over, the shell kills the groups
that are left and every process with this run's mark among its variables (a program that leaves its group and session
keeps its variables), and removes the temporary folder. Without a POSIX shell there is no guard.
"""

from __future__ import annotations

import atexit
import os
import shutil
import stat
import subprocess
import sys
import tempfile
import threading
from contextlib import suppress
from itertools import count

from kalyx.core.model.records import KalyxError
from kalyx.core.system.processes import is_living
from kalyx.core.system.reasons import reason_of
from kalyx.core.text.numbers import is_number

# The variable that every program started by this run carries: the run's mark, and the program's number in it.
MARK_VARIABLE = "KALYX_STARTED"
_PREFIX = "kalyx-"

# $1: the mark, $2: the temporary folder. A program that is just being started shows its variables a moment later.
_WATCH = r"""groups=" "
while read -r action group; do
  case $action in
    begun) groups="$groups$group " ;;
    over) case $groups in *" $group "*) groups="${groups%% $group *} ${groups#* $group }" ;; esac ;;
  esac
done
for group in $groups; do kill -s KILL -- "-$group"; done
if [ -d /proc/self ]; then
  for round in 1 2 3; do
    for file in $(grep -ls -- "$1" /proc/[0-9]*/environ); do
      pid=${file#/proc/}; pid=${pid%/environ}
      [ "$pid" = self ] || [ "$pid" = $$ ] || kill -s KILL "$pid"
    done
    [ $round = 3 ] || sleep 0.1
  done
fi
rm -rf -- "$2"
"""


class Guard:
    """The guard of this run, and its temporary folder; each comes into being when it is first needed."""

    def __init__(self) -> None:
        chance = os.urandom(6).hex()
        self.mark = f"{os.getpid()}-{chance}"
        self.folder = os.path.join(tempfile.gettempdir(), f"{_PREFIX}{os.getpid()}-{chance}")
        self._shell: subprocess.Popen[bytes] | None = None
        self._held = -1
        self._programs = count(1)  # programs may be started side by side
        self._groups: set[int] = set()
        self._starting: set[str] = set()  # marks of programs of which it is not known whether they run
        self._has_folder = False
        self._lock = threading.RLock()
        atexit.register(self.dismiss)

    def new_mark(self) -> str:
        """The mark of the next program, which is being started from now on: this run's, and its number."""
        mark = f"{self.mark}-{next(self._programs)}"
        self._starting.add(mark)
        return mark

    def stand(self) -> None:
        """Have the guard in its place before anything is started. Raises OSError where it cannot be."""
        with self._lock:
            if self._shell is not None or sys.platform == "win32":
                return
            waits_on, self._held = os.pipe()
            try:
                self._shell = subprocess.Popen(
                    ["/bin/sh", "-c", _WATCH, "sh", self.mark, self.folder],
                    stdin=waits_on,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                    start_new_session=True,
                    cwd="/",
                    env={"PATH": os.defpath},
                )
            except BaseException:
                os.close(self._held)
                raise
            finally:
                os.close(waits_on)

    def begun(self, mark: str, group: int) -> None:
        """A program was started: its process is the first of this group."""
        self._groups.add(group)
        self._tell(f"begun {group}\n")
        self._starting.discard(mark)

    def refused(self, mark: str) -> None:
        """The system did not start a program."""
        self._starting.discard(mark)

    def over(self, group: int) -> None:
        """The program has ended, and so have the processes that it left running."""
        self._groups.discard(group)
        self._tell(f"over {group}\n")

    def _tell(self, line: str) -> None:
        if self._shell is not None:
            try:
                os.write(self._held, line.encode())
            except OSError:
                pass  # the guard was killed, and the program continues

    def new_folder(self) -> str:
        """A new empty folder, for this user only, that is gone when the run ends. Raises KalyxError."""
        try:
            with self._lock:
                if not self._has_folder or not os.path.isdir(self.folder):  # a run may outlast what clears old folders
                    self.stand()
                    _clear_left_over(os.path.dirname(self.folder))
                    os.mkdir(self.folder, 0o700)
                    self._has_folder = True
            # A short path: the address of a local socket in it may have about a hundred bytes.
            return tempfile.mkdtemp(prefix="", dir=self.folder)
        except OSError as error:
            reason = reason_of(error)
            message = (
                f"{self.folder}: no temporary folder can be made ({reason}); set TMPDIR to one that may be written"
            )
            raise KalyxError(message) from None

    def dismiss(self) -> None:
        """The run is over: the folder goes, and the guard goes home; where a program still runs, it ends that first."""
        if self._has_folder:
            shutil.rmtree(self.folder, ignore_errors=True)
            self._has_folder = False
        if self._shell is not None:
            with suppress(OSError):  # it ends by itself too, once nothing holds its input
                # Where its folder could not be removed from here, the guard tries once more.
                if not self._groups and not self._starting and not os.path.lexists(self.folder):
                    self._shell.kill()
            os.close(self._held)
            self._shell.wait()
            self._shell = None


def _clear_left_over(folder: str) -> None:
    """Remove the temporary folders of runs that are gone and were not guarded to the end; only this user's own."""
    try:
        names = [name for name in os.listdir(folder) if name.startswith(_PREFIX)]
    except OSError:
        return
    for name in names:
        number = name.removeprefix(_PREFIX).partition("-")[0]
        if not is_number(number) or is_living(int(number)):
            continue
        path = os.path.join(folder, name)
        try:
            seen = os.lstat(path)
        except OSError:
            continue
        if stat.S_ISDIR(seen.st_mode) and (not hasattr(os, "getuid") or seen.st_uid == os.getuid()):
            shutil.rmtree(path, ignore_errors=True)


_guard: Guard | None = None


_making = threading.Lock()


def guard() -> Guard:
    """The one guard of this run of Kalyx."""
    global _guard
    with _making:
        if _guard is None:
            _guard = Guard()
        return _guard
