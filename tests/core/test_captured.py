"""What a capture gives back of a machine, and what of a broken or hostile one, word for word (captured/*.txt).

``KALYX_DRAW=1`` writes the files again; read the difference then.
"""

from __future__ import annotations

import gzip
import json
from collections.abc import Iterable

import pytest
from msgspec.structs import replace

from kalyx.core.system import player
from kalyx.core.system.memory_reader import MemoryReader, Shut
from kalyx.core.system.reader import FileStat, Process, Reader, Unreadable
from kalyx.core.system.recorder import Recorder, RecordingRunner
from kalyx.core.system.runner import Ended, Runner
from kalyx.core.text.blinding import Blinding
from kalyx.core.text.essence import Essence
from tests.made import HOME, Files
from tests.support.scenes import Scenes, plus, told

SCENES = Scenes("core/captured")
scene = SCENES.add
MACHINE = {"system": "linux", "folder": HOME, "home": HOME, "pid": 9, "user": 1000, "variables": {"A": "1"}, "refusals": {}}
HEAD = {"kalyx capture": player.VERSION, **MACHINE}


def asked(reader: Reader) -> Iterable[str]:
    """Every primitive of a Reader, on each kind of path and process."""
    for path in (f"{HOME}/heath/pyvenv.cfg", f"{HOME}/heath", f"{HOME}/heath/bin/python", f"{HOME}/shut", f"{HOME}/shut/x", f"{HOME}/none", f"{HOME}/gone", "/usr/bin/python3.11"):
        for name, words in (("kind", ()), ("link", ()), ("status", ()), ("listing", ()), ("read", (64, 0)), ("read", (8, 4)), ("digest", (64,)), ("may_read", ()), ("may_run", ()), ("usage", ()), ("scan", (rb"home([^\n]*)",))):
            try:
                result = getattr(reader, name)(path, *words)
                result = dict(result) if name == "listing" else replace(result, inode=1) if isinstance(result, FileStat) else result
            except (Unreadable, NotImplementedError) as refusal:
                result = f"{type(refusal).__name__} {refusal}"
            yield f"{name} {path} {words or ''}: {result}"
    for name, words in (("processes", ()), ("process", (9,)), ("process", (1,)), ("command_of", (9,)), ("loaded_by", (9,)), ("program_of", (9,)), ("listens", (9, 80)), ("registry", ("X",)), ("registry_keys", ("X",)), ("usage_of_files", ([f"{HOME}/heath/pyvenv.cfg"],))):
        try:
            result = getattr(reader, name)(*words)
        except (Unreadable, NotImplementedError, AttributeError) as refusal:
            result = f"{type(refusal).__name__} {refusal}"
        yield f"{name} {words}: {result}"
    for words, ask in ((["server"], lambda: {"a": 1}), (["other"], lambda: no())):
        try:
            result = reader.served(words, ask)
        except Unreadable as refusal:
            result = f"unreadable: {refusal}"
        yield f"served {words}: {result}"


def no() -> None:
    raise Unreadable("/served", "it does not answer")


@scene
def played_back() -> Iterable[str]:
    """What is read of a machine, and the same of a capture of it: where they differ, both."""
    files = plus(Files(), {f"{HOME}/none": None, f"{HOME}/shut": Shut(), f"{HOME}/shut/x": "", f"{HOME}/binary": b"\xff\0"})
    machine = MemoryReader("linux", files, home=HOME, processes={9: Process(9, 1, "/usr/bin/python3.11", ("python3.11", "x.py", "--token=hunter2"), HOME, {"A": "1"}, 5.0)}, pid=9)
    capture = player.Capture(player.Head(**MACHINE))
    first = list(asked(Recorder(machine, capture, Essence(b"salt"))))
    capture.head.refusals.update(machine.refusals)
    again = player.load(capture.write(lambda content: content), "moor.kalyx")
    played = player.Player(again)
    second = list(asked(played))
    for one, two in zip(first, second, strict=True):
        yield f"= {one}" if one == two else f"! {one}\n  {two}"
    yield f"refused: {played.refusals}"
    yield from (f"held: {item}" for item in player.contents_of(again))


class Answers(Runner):
    """A runner whose programs answer by their words."""

    def run(self, argv, **named):  # type: ignore[no-untyped-def,override]
        mark = self.chance(4)
        return Ended(0, f"{argv[-1]} {mark}".encode(), b"\xff", 0.5) if "fails" not in argv else Ended(None, b"", b"", 0.0, problem="was not started: no")

    def chance(self, count: int) -> str:
        return "ab" * count


@scene
def programs_asked() -> Iterable[str]:
    """Programs that were asked for a capture, and what a machine of the capture says of them."""
    machine = MemoryReader("linux", Files(), home=HOME, variables={"PATH": "/usr/bin", "PYTHONPATH": "/x"})
    capture = player.Capture(player.Head(**{**MACHINE, "variables": dict(machine.variables)}))
    runner = RecordingRunner(Answers(), capture, machine.variables)
    calls = [(["python", "x"], {}), (["python", "x"], {"folder": "/a"}), (["python", "x"], {"variables": {"PATH": "/usr/bin"}}), (["python", "x"], {"variables": {"PATH": "/usr/bin", "PYTHONPATH": "/y", "B": "2"}}), (["fails"], {})]
    for argv, named in calls:
        runner.run(argv, **named)
    capture = player.load(capture.write(lambda content: content), "moor.kalyx")
    reader, other = player.machine_of(capture)
    begun: list[int] = []
    for argv, named in [*calls, (["python", "y"], {}), (["python"], {"folder": "/a"})]:
        ended = other.run(argv, begun=lambda: begun.append(1), **named)
        yield f"{argv} {named}: {ended}"
    yield f"begun {len(begun)}, live {other.is_live}, chance {other.chance(2)}"
    with other.empty_folder() as folder:
        yield f"folder {folder}"
    for key, value in ((("python", "z"), 3), (("python", "z"), [1, 2, 3, 4, 5, 6, 7]), (("python", "z"), [0, {"odd": 1}, {"text": ""}, 0.0, None, False, False])):
        capture.answers[player.key_of([list(key), [], [], ""])] = value
        yield f"{value}: {other.run(list(key))}"
    try:
        other.start(["python"])
    except OSError as problem:
        yield f"started: {problem}"


def line(**words: object) -> str:
    return json.dumps(words) + "\n"


@scene
def files_of_captures() -> Iterable[str]:
    """What is told of a file that is no capture, or a broken one; what one that holds something else gives."""
    head = json.dumps(HEAD) + "\n"
    texts = [("nothing", b""), ("no gzip", b"hello"), ("an empty gzip", gzip.compress(b"")), ("cut short", gzip.compress(head.encode() * 40)[:-9]), ("too dense", gzip.compress(b"\0" * 80_000_000)), *((title, gzip.compress(text.encode())) for title, text in [
        ("no head", "{}\n"), ("a list", "[]\n"), ("another version", line(**{**HEAD, "kalyx capture": 999})), ("no folder", line(**{**HEAD, "folder": 3})), ("another system", line(**{**HEAD, "system": "amiga"})), ("no number", line(**{**HEAD, "pid": "9"})), ("odd variables", line(**{**HEAD, "variables": {"A": 1}})), ("no refusals", line(**{**HEAD, "refusals": []})), ("an empty line", head + "\n"), ("no JSON", head + "{\n"), ("neither", head + "{}\n"), ("no name", head + line(**{"read": [], "is": 1})), ("odd words", head + line(**{"read": 3, "is": 1})), ("an odd program", head + line(**{"ran": [3], "is": 1})), ("a name that is no text", head + '{"read": ["kind", "/\\ud800"], "is": "file"}\n'), ("another field", head + line(**{"read": ["kind", "/"], "is": 1, "more": 2})), ("whole", head + line(**{"read": ["kind", "/"], "is": "folder"}) + line(**{"ran": [["python"], [], [], ""], "is": 1})),
    ])]  # fmt: skip
    for title, content in texts:
        yield from told(title, lambda: [f"{len(capture.readings)} readings, {len(capture.answers)} answers" for capture in [player.load(content, "a\nb.kalyx")]])
    odd = [3, None, "text", [], {}, {"odd": 1}, {"text": 3}, {"bytes": "!"}, {"status": [1]}, {"process": {}}, {"map": 3}, {"words": 3}, {"list": [{"text": "a"}, 3]}, {"refused": "no", "path": "/p"}, {"refused": 3}, {"a": 1, "b": 2}, {"words": ["a", 3]}, {"list": ["a"]}, {"map": {"a": 1}}, {"text": "a"}]
    for value in odd:
        primitives = (("kind", "/p"), ("link", "/p"), ("status", "/p"), ("listing", "/p"), ("read", "/p", 64, 0), ("digest", "/p", 64), ("may_read", "/p"), ("process", 9), ("processes",), ("command_of", 9), ("loaded_by", 9), ("registry", "K"), ("usage", "/p"), ("scan", "/p", b"x"))
        capture = player.Capture(player.Head(**MACHINE))
        capture.readings = {player.key_of(key): value for key in primitives}
        reader = player.Player(capture)
        said = []
        for name, *words in primitives:
            try:
                said.append(f"{name} {getattr(reader, name)(*words)!r}")
            except Unreadable as refusal:
                said.append(f"{name} unreadable: {refusal.reason}")
        yield f"{value}: {'; '.join(said)}"


@scene
def blinded() -> Iterable[str]:
    """Which names and secrets are taken out of a capture, and what stands there then."""
    blinding = Blinding(["warden", "keeper", "moorhen", "larkmoor", "ab", "root"], ["/srv/people/heatherly", "C:\\Users\\keeper"])
    for text in ("/home/keeper/x", "/home/moorhen", "/home/moorhenry", "~keeper/x", "keeper", "a keeper b", "user@larkmoor", "https://larkmoor.example/x", "keeper@larkmoor", "\\\\larkmoor\\share", "C:\\Users\\keeper\\x", "C:\\\\Users\\\\keeper\\\\x", "/srv/people/heatherly/x", "/srv/heatherly", "//larkmoor/x", "/home/ab/x", "/home/root/x", "/Users/Moorhen", "/HOME/keeper", "/scratch/keeper\n/data/moorhen:/mnt/larkmoor", "password=hunter2 https://u:p4ss@x/", "TOKEN: abc def", "/home/keeper@2", "larkmoor.example", "'/home/keeper'", "x/home/keeper/y"):
        shown = blinding.text(text)
        assert len(shown) == len(text), text
        yield f"{text!r}: {shown!r}"
    for folder, name in (("/home", "keeper"), ("/home/", "moorhen"), ("/srv", "keeper"), ("C:\\Users", "keeper"), ("/srv/people", "heatherly"), ("/home", "other")):
        yield f"entry {name} of {folder}: {blinding.entry(folder, name)}"
    yield f"nobody: {Blinding([]).text('/home/keeper')!r}, bytes: {blinding.content(bytes([255, 47]) + b'home/keeper')!r}"


@pytest.mark.parametrize("name", SCENES.names)
def test_captured(name):
    assert not (difference := SCENES.difference(name)), difference[:6000]
