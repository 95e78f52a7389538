"""``kalyx capture``: one file that carries this machine's facts, to be examined elsewhere."""

from __future__ import annotations

import argparse
import io
import sys
from collections.abc import Callable
from importlib import import_module

from kalyx.cli.commands.why import words_of
from kalyx.cli.context import Call
from kalyx.cli.start import changing, command_parser
from kalyx.core.model.action_results import CaptureAnswer, Captured
from kalyx.core.model.records import ChangePlan, KalyxError
from kalyx.core.system import Unreadable
from kalyx.core.system.player import Capture


def arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", metavar="FILE", help="the file to write, or with --show to look into")
    parser.add_argument(
        "--why", action="append", default=[], metavar="WHAT",
        help="try this import too, in every seat, or \"WHAT --in TARGET\" there; may be repeated",
    )  # fmt: skip
    parser.add_argument("--show", action="store_true", help="list what a capture holds, before it is sent")
    changing(parser)


def run(call: Call) -> int:
    path = call.machine.reader.absolute(call.options.file)
    return _shown(call, path) if call.options.show else _made(call, path)


def _made(call: Call, path: str) -> int:
    machine = call.machine
    answer = CaptureAnswer(path=path, plan=[ChangePlan(action="write a capture", path=path)])
    if machine.reader.known_kind(path) is not None:
        raise KalyxError(f"{path} exists already; name a new file")
    if not call.options.dry_run:
        import socket

        from kalyx.core.queries.captures import blinding

        if machine.runner is None:
            raise KalyxError("a capture asks interpreters, and --static starts none")
        with call.progress("capturing:") as tell:
            made = _recorded(call, tell)
            blind = blinding(machine.reader, socket.gethostname())
            content = made.write(blind.content, blind.entry)
        machine.writer.write(path, content, mode=0o600, new=True)
        answer.done, answer.bytes = True, len(content)
        answer.readings, answer.answers = len(made.readings), len(made.answers)
    if call.as_json:
        call.print_json(answer)
        return 0
    from kalyx.cli.render.colours import BLUE
    from kalyx.cli.render.survey import said_size

    screen = call.screen
    if not answer.done:
        screen.line(("write".ljust(14), BLUE), screen.path(path))
        return 0
    screen.line(("written".ljust(14), BLUE), screen.path(path), f"  {said_size(answer.bytes)}")
    screen.line(
        "".ljust(14),
        f"{answer.readings} readings and {answer.answers} answers of programs; names and secrets are left out",
    )
    screen.line("".ljust(14), "to see what is in it:  ", (machine.line(["kalyx", "capture", path, "--show"]), "bold"))
    screen.line("".ljust(14), "to examine it:         ", (machine.line(["kalyx", "here", "--on", path]), "bold"))
    return 0


def _recorded(call: Call, tell: Callable[[str], None]) -> Capture:
    """Every question that a capture answers, asked once as its command asks it, through the recorder."""
    from kalyx.core.queries import captures
    from kalyx.core.system.recorder import Recorder, RecordingRunner

    made, live = Capture(), call.machine
    assert live.runner is not None
    runner = RecordingRunner(live.runner, made, live.reader.variables)
    reader = Recorder(live.reader, made)

    def ask(*words: str, by_user: bool = False) -> None:
        """Ask one question. A seat that is taken from the list of all seats does not count as named by the user."""
        tell(" ".join(words))
        options = command_parser(words[0]).parse_args(["--json", *words[1:]])
        options.unnamed = not by_user
        text, sys.stdout = sys.stdout, io.TextIOWrapper(io.BytesIO(), "utf-8", "backslashreplace")
        try:
            # This machine starts the programs of the question.
            asked = call.handing_on(Call(options, reader.again(), runner, live.writer))
            import_module(f"kalyx.cli.commands.{words[0]}").run(asked)
        except (KalyxError, Unreadable):
            pass  # a question without an answer here has none on the capture either
        finally:
            sys.stdout = text

    for words in (["here"], ["survey"], ["kernels"], ["packages"], ["record"]):
        ask(*words)
    targets = captures.targets_of(live)
    exactly = [words for words in map(words_of, call.options.why) if len(words) > 1]
    asked = [words[0] for words in map(words_of, call.options.why) if len(words) == 1]
    wanted = list(dict.fromkeys([*asked, *captures.modules_of(live)]))
    for target in targets:
        ask("packages", "--", target)
        ask("enter", "--", target)
        for statement in wanted:
            ask("why", f"--in={target}", "--", statement)
    for name in captures.environments_of(live):
        ask("packages", "--", name)
        ask("enter", "--", name)
        for requirement in asked:
            ask("why", f"--in={name}", "--", requirement)
    for words in exactly:
        ask("why", *words, by_user=True)
    for statement in wanted:
        ask("why", "--", statement)
    return captures.finished(made, live.reader)


def _shown(call: Call, path: str) -> int:
    """Every file, folder, variable, process and program in a capture, with what it holds of each."""
    from kalyx.core.system.player import contents_of, read_capture

    capture = read_capture(path)
    answer = CaptureAnswer(path=path, done=True, readings=len(capture.readings), answers=len(capture.answers))
    answer.held = [Captured(kind=kind, name=name, bytes=size) for kind, name, size in contents_of(capture)]
    if call.as_json:
        call.print_json(answer)
        return 0
    from kalyx.cli.render.colours import BLUE, QUIET
    from kalyx.cli.render.survey import said_size

    screen, before = call.screen, ""
    screen.line(("capture", BLUE), f"  of a {capture.head.system} machine, folder {capture.head.folder}")
    for item in answer.held:
        if item.kind != before:
            screen.blank()
            screen.line((item.kind, "bold"))
            before = item.kind
        screen.line("   ", item.name, (f"  {said_size(item.bytes)}" if item.bytes else "", QUIET))
    return 0
