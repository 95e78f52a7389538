"""Calls of every command, and bad ones, with what comes of them: on each system the same (no test is here)."""

from pathlib import Path


def answers(prefix: str) -> list[tuple[list[str], int]]:
    """Calls that answer in JSON, with their status, for an environment that brings the stand-in kernel."""
    return [
        (["survey", "--under", str(Path(prefix).parent)], 0),
        (["here", "--against", prefix], 1),
        (["why", "json", "no_such_module", "--in", prefix], 1),
        (["register", prefix, "--id", "Heath", "--yes"], 0),
        (["kernels"], 0),
        (["rehearse", "heath", "--import", "json", "--import", "no_such_module"], 1),
        (["unregister", "heath", "--yes"], 0),
        (["causes"], 0),
        (["enter", prefix], 0),
        (["packages", prefix, "--sizes"], 0),
        (["contrast", prefix, prefix], 0),
        (["prepare", "new", "--python", prefix, "--want", "nectarflow", "--dry-run"], 0),
        (["why", "../x"], 2),
    ]


def spoilt(folder: Path) -> None:
    """The files that the bad calls name."""
    (folder / "file.txt").write_text("hello\n")
    (folder / "broken.ipynb").write_text("{")
    (folder / "full").mkdir()
    (folder / "full" / "data").write_text("mine")


BAD = [
    (["here", "no/such/folder"], "there is nothing at this path"),
    (["here", "file.txt"], "is not a folder"),
    (["why", "../x"], "there is nothing at this path"),
    (["heer"], "nearest: here"),
    (["here", "--jsn"], "nearest: --json"),
    (["here", "--js"], "no option is called --js"),
    (["why", "weigh.py"], "there is nothing at this path"),
    (["why", "import"], "is not a module name"),
    (["why", "from . import x"], "is relative"),
    (["why", "import a; print(1)"], "more than imports"),
    (["why", "json", "--in", "nowhere"], "nothing here is called 'nowhere'"),
    (["why", "json", "--in", "./nowhere"], "there is nothing at this path"),
    (["why", "json", "--in", "kernel:nowhere"], "no kernel 'nowhere'"),
    (["why", "json", "--in", "kernel:"], "names nothing"),
    (["why", "json", "--in", "pid:999999999"], "no process"),
    (["why", "json", "--in", "pid:x"], "is not a process number"),
    (["why", "json", "--in", "program:hive-scale"], "is not on PATH"),
    (["why", "json", "--in", "version:9.9"], "no interpreter of version 9.9"),
    (["why", "json", "--in", "gone.ipynb"], "there is nothing at this path"),
    (["why", "json", "--in", "broken.ipynb"], "not a notebook"),
    (["why", "json", "--in", "."], "is not an environment"),
    (["register", "file.txt", "--yes"], "nothing here is called"),
    (["register", "./file.txt", "--yes"], "starts no interpreter"),
    (["register", "version:3", "--id", "../x", "--yes"], "is not a kernel id"),
    (["rehearse", "nowhere"], "no kernel 'nowhere'"),
    (["unregister", "../x", "--yes"], "is not a kernel's folder"),
    (["unregister", "..", "--yes"], "is not a kernel id"),
    (["unregister", "nowhere", "--yes"], "no kernel"),
    (["unregister", "nowhere", "--undo", "--yes"], "no removed kernel"),
    (["causes", "abesnt"], "there is no cause"),
    (["here", "--timeout", "0"], "seconds between"),
    (["here", "--timeout", "abc"], "'abc' is no number of seconds between 0 and 86400"),
    (["survey", "--under", "nowhere"], "there is nothing at this path"),
    (["nonsense"], "there is no command"),
    (["demo", "full"], "not empty"),
    (["fill", "version:3", "no such==="], "is not a requirement"),
    (["fill", "nowhere", "nectarflow"], "nothing here is called"),
    (["fill", "."], "name at least one requirement"),
    (["fill", "version:3", "nectarflow", "--wheels", "gone"], "there is nothing at this path"),
    (["packages", "version:3", "--as", 'python "'], "is not a command line"),
    (["enter", "version:3", "--shell", "hive"], "--shell does not take 'hive'"),
]
