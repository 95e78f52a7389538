"""The very beginning of a call: nothing but built-in modules until Kalyx's own path is safe.

Kalyx is often started in the broken place it is asked about. A foreign
PYTHONPATH puts other people's modules before those that Kalyx needs; then this
hands over to an isolated child (``-I``) that finds Kalyx by the path it is
given. The variables stay in the environment: the trial is made with them.
"""

import _signal
import gc
import os
import sys

# What an isolated interpreter leaves out, and a user may have set for another one.
FOREIGN = ("PYTHONPATH", "PYTHONHOME", "PYTHONSAFEPATH", "PYTHONNOUSERSITE", "PYTHONUSERBASE", "PYTHONINSPECT",
           "PYTHONSTARTUP", "PYTHONVERBOSE", "PYTHONPLATLIBDIR", "PYTHONCASEOK", "PYTHONOPTIMIZE")  # fmt: skip


def main() -> None:
    """The console command."""
    _heed_early()
    if not sys.flags.isolated and sys.executable and any(os.environ.get(name) for name in FOREIGN):
        _hand_over()
    gc.disable()  # a call is short and keeps what it reads: collecting costs a tenth of it and frees nothing
    from kalyx.cli.start import main

    try:
        main()
    finally:
        gc.freeze()  # without this the interpreter collects objects at its exit, which takes a tenth of a short run


def _heed_early() -> None:
    """Make a signal that arrives while modules load end the run with one line: there is nothing to roll back yet."""

    def stop(number: int, frame: object) -> None:
        line = "kalyx: interrupted" if number == _signal.SIGINT else f"kalyx: ended by signal {number}"
        os.write(2, line.encode() + b"\n")
        os._exit(128 + number)

    for name in ("SIGINT", "SIGTERM", "SIGHUP", "SIGQUIT", "SIGUSR1", "SIGUSR2", "SIGALRM"):
        number = getattr(_signal, name, None)
        if number is not None and _signal.getsignal(number) != _signal.SIG_IGN:
            _signal.signal(number, stop)


def _hand_over() -> None:
    """Continue as an isolated child: its own sys.path first, then the entries of this process that have Kalyx."""
    home = os.path.dirname(os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
    path = os.pathsep.join([home, *(entry for entry in sys.path if entry)])
    words = [sys.executable, "-I", os.path.abspath(__file__), path, *sys.argv[1:]]
    sys.stdout.flush()
    if os.name == "posix":
        os.execv(words[0], words)
    import subprocess

    sys.exit(subprocess.run(words, check=False).returncode)


if __name__ == "__main__":
    # Read as a file: the isolated sys.path lacks this file's folder, and no module may be imported from there.
    own, *others = sys.argv[1].split(os.pathsep)
    if own not in sys.path:
        sys.path.insert(0, own)  # this very Kalyx, not another that is installed
    sys.path.extend(entry for entry in others if entry not in sys.path)
    sys.argv = ["kalyx", *sys.argv[2:]]
    main()
