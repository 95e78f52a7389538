"""Where a call begins: read the words, load the one command asked for, run it."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Iterable
from importlib import import_module
from typing import TYPE_CHECKING, Any, NoReturn

from kalyx import __version__
from kalyx.cli.lightly import load_records, untranslated
from kalyx.cli.streams import open_output, undelivered

if TYPE_CHECKING:
    from kalyx.cli.context import Call
    from kalyx.core.system import Reader
    from kalyx.core.system.runner import Runner
    from kalyx.core.system.writer import Writer

# Every command and what it answers; only the module of the command that is called is loaded.
COMMANDS = {
    "here": "show which interpreter each seat in this folder really uses, and which disagree",
    "survey": "list every interpreter and environment on this machine",
    "prepare": "create an environment, install packages, optionally register a kernel",
    "fill": "install packages into an existing environment, or remove them",
    "packages": "list importable packages, where each comes from, and hidden copies",
    "contrast": "compare two seats, environments, or earlier answers",
    "enter": "print the line that activates an environment in this shell",
    "why": "explain why an import fails, or where a module comes from",
    "explain": "run a command, and explain the import that ended it",
    "causes": "list the causes that Kalyx can find, or explain one with an example",
    "kernels": "list registered kernels and what each really starts",
    "register": "register an environment as a notebook kernel, then start that kernel once",
    "rehearse": "start a kernel for real, ask which Python it runs, try imports, stop it",
    "record": "write an environment's packages as a requirements file",
    "point": "make an editor, a run configuration or a notebook use an environment",
    "discard": "remove an environment and the kernels that start it",
    "unregister": "remove kernels, and say what stays",
    "report": "write one page about a folder: a map, findings, imports, kernels, environments",
    "capture": "write this machine's facts to one file, to be examined elsewhere with --on",
    "completion": "print the code that enables tab completion",
    "demo": "build a made-up machine in a folder and walk through the job on it",
}

# Those that only read and can do so on a captured machine.
EXAMINE = {"here", "survey", "packages", "contrast", "enter", "why", "causes", "kernels", "record", "report"}

# Those that change something; each first rolls back what a killed run had begun.
CHANGE = {"prepare", "fill", "register", "point", "discard", "unregister"}

FOUND, REFUSED = 1, 2
# Of one word of a call, and of the line that says why it was refused: characters.
_LONGEST, _LINE = 16_384, 2_000


class Refusal(Exception):
    """The words of the call are wrong: one line, and the command it was about."""


untranslated()


class _Help(argparse.RawDescriptionHelpFormatter):
    """argparse makes one for each option only to check it: it must not ask for the terminal's width.

    The lines are the same by every version of argparse.
    """

    def __init__(self, prog: str) -> None:
        super().__init__(prog, width=80)

    def format_help(self) -> str:
        from shutil import get_terminal_size

        self._width = max(get_terminal_size().columns - 2, 20)
        return super().format_help()

    def _format_usage(self, *words: Any) -> str:
        """Wrapped between options, never between an option and its value."""
        import re

        width, self._width = self._width, 10_000
        line = super()._format_usage(*words).strip()
        self._width = width
        head, _, options = line.partition(" [")
        room, lines = width - 1, [head]
        for part in re.findall(r"\[.*?\](?=\s|$)|-\w+ [^\s\[]+|\S+", f"[{options}" if options else ""):
            if len(lines[-1]) + 1 + len(part) > room:
                lines.append(" " * len(head))
            lines[-1] += f" {part}"
        return "\n".join(lines) + "\n\n"

    def _format_action_invocation(self, action: argparse.Action) -> str:
        if not action.option_strings or action.nargs == 0:
            return super()._format_action_invocation(action)
        value = self._format_args(action, self._get_default_metavar_for_optional(action))
        return f"{', '.join(action.option_strings)} {value}"


# What argparse says of a wrong call, as sentences.
_SENTENCES = [
    (r"^argument (\S+?)(?:/\S+)?: invalid choice: (.*) \(choose from (.*)\)$", r"\1 does not take \2, but \3"),
    (r"^argument (\S+?)(?:/\S+)?: expected (?:one argument|at least one argument)$", r"\1 needs a value"),
    (r"^argument (\S+?)(?:/\S+)?: ", r"\1: "),
    (r"^the following arguments are required: (.*)$", r"\1 is missing"),
    (r"^unrecognized arguments: (-.*)$", r"no option is called \1"),
    (r"^unrecognized arguments: (.*)$", r"too many arguments: \1"),
]


class Parser(argparse.ArgumentParser):
    """argparse with errors of one line, and without abbreviated options, which the next version may read otherwise."""

    def __init__(self, **more: Any) -> None:
        super().__init__(allow_abbrev=False, **more)

    def error(self, message: str) -> NoReturn:
        import re  # a call that is right needs no pattern

        for form, sentence in _SENTENCES:
            message = re.sub(form, sentence, message)
        if message.startswith("too many") and "--under" in self._option_string_actions:
            message += "; a folder to look below is named by --under"
        raise Refusal(f"{self.prog}: {message}; see {self.prog} --help")


def command_parser(name: str) -> Parser:
    """The parser of one command, whose words are given without its name."""
    summary = COMMANDS[name]
    text = summary[0].upper() + summary[1:] + "."
    parser = Parser(prog=f"kalyx {name}", description=text, formatter_class=_Help)
    common(parser)
    load_records()
    import_module(f"kalyx.cli.commands.{name}").arguments(parser)
    parser.set_defaults(command=name)
    return parser


def _explained(parser: Parser, name: str) -> Parser:
    """The parser with what its help ends with, which only a help needs."""
    from kalyx.cli.help_text import ending

    words = {str(action.metavar) for action in parser._actions}
    parser.epilog = ending(name, bool(words & {"TARGET", "LEFT"}))
    return parser


def build_parser(only: str | None = None) -> Parser:
    """The parser of a call that names no command; ``only``: with everything that this one takes."""
    parser = Parser(
        prog="kalyx",
        description="Which Python each of your seats uses, and why an import fails there.",
        epilog="kalyx COMMAND --help explains one command.",
        formatter_class=_Help,
    )
    parser.add_argument("--version", action="version", version=f"kalyx {__version__}")
    # Naming the program here spares argparse a look at the terminal on every start.
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", parser_class=Parser, prog="kalyx")
    for name, summary in COMMANDS.items():
        text = summary[0].upper() + summary[1:] + "."
        command = commands.add_parser(name, help=summary, description=text, formatter_class=_Help)
        if name == only:
            common(command)
            import_module(f"kalyx.cli.commands.{name}").arguments(command)
    return parser


def common(parser: argparse.ArgumentParser) -> None:
    """The options that every command takes."""
    group = parser.add_argument_group("for every command")
    group.add_argument("--json", action="store_true", help="print one JSON object and nothing else")
    group.add_argument("--plain", action="store_true", help="no colour, no boxes, no progress")
    group.add_argument("--static", action="store_true", help="read only: start no other program")
    group.add_argument("--on", metavar="FILE", help="examine the machine that this capture was made of")
    group.add_argument("--timeout", type=_seconds, default=20.0, metavar="SECONDS", help="limit for each wait (20)")
    group.add_argument("-v", "--verbose", action="store_true", help="say more")


def _command_first(words: list[str]) -> list[str]:
    """The words with the command before the options that every command takes, where some of these stand before it.

    Raises Refusal where no command follows them.
    """
    if not words or not words[0].startswith("-"):
        return words
    options = argparse.ArgumentParser(add_help=False)
    common(options)
    has_value = {name: action.nargs is None for action in options._actions for name in action.option_strings}
    at = 0
    while at < len(words) and (name := words[at].partition("=")[0]) in has_value:
        at += 2 if has_value[name] and name == words[at] else 1
    if at >= len(words):
        raise Refusal("no command is named; kalyx --help lists them")
    return words[at:] if words[at].startswith("-") else [words[at], *words[:at], *words[at + 1 :]]


def _seconds(text: str) -> float:
    from kalyx.core.text.visible import visible

    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not 0 < value <= 86400:
        raise argparse.ArgumentTypeError(f"{visible(text)!r} is no number of seconds between 0 and 86400")
    return value


def changing(parser: argparse.ArgumentParser) -> None:
    """The options of a command that changes something."""
    parser.add_argument("--dry-run", action="store_true", help="show what would change, and change nothing")
    parser.add_argument("--yes", action="store_true", help="do not ask before a change")


def call(
    words: list[str], reader: Reader | None = None, runner: Runner | None = None, writer: Writer | None = None
) -> int:
    """Run one call and return its exit status.

    ``reader``: the machine asked about, where it is not this one; ``runner`` and ``writer`` are those of that machine.
    """
    if "_ARGCOMPLETE" in os.environ:
        from kalyx.cli.completing import complete

        typed = os.environ.get("COMP_LINE", "").split()
        complete(build_parser(typed[1] if len(typed) > 1 else None))
    as_json = "--json" in words
    long = next((word for word in words if len(word) > _LONGEST), None)
    if long is not None:
        message = f"{long[:60]}… has {len(long)} characters; an argument has at most {_LONGEST}"
        return _refuse(message, [], as_json)
    try:
        words = _command_first(words)
    except Refusal as refusal:
        return _refuse(str(refusal), [], as_json)
    if words and words[0] not in COMMANDS and not words[0].startswith("-"):
        message = f"there is no command {words[0]!r}; kalyx --help lists them"
        return _refuse(message, _near(words[0], COMMANDS), as_json)
    try:
        options = _options_of(words)
    except Refusal as refusal:
        return _refuse(str(refusal).removeprefix("kalyx: "), [], as_json)
    except Exception as failure:
        return _refuse(_own_failure(failure, words), [], as_json)
    return 0 if options is None else _run(options, words, as_json, (reader, runner, writer))


def _options_of(words: list[str]) -> argparse.Namespace | None:
    """The options of a call; None where it only asked for help, which is printed. Raises Refusal."""
    if not words:
        from kalyx.cli.help_text import BEGIN

        print(BEGIN)
        return None
    if words[0] in COMMANDS:
        parser = command_parser(words[0])
        if {"-h", "--help"} & set(words[1:]):
            _explained(parser, words[0])
        return _parsed(parser, words[1:])
    parser = build_parser()
    options = parser.parse_args(words)
    if options.command is None:
        parser.print_help()
        return None
    return options


def _run(
    options: argparse.Namespace,
    words: list[str],
    as_json: bool,
    system: tuple[Reader | None, Runner | None, Writer | None],
) -> int:
    """Run the command and return its exit status."""
    from kalyx.cli.context import Call
    from kalyx.core.model.records import KalyxError
    from kalyx.core.system import Unreadable

    if getattr(options, "on", None) and options.command not in EXAMINE:
        return _refuse(f"{options.command} is not for a captured machine, which can only be examined", [], as_json)
    try:
        made = Call(options, *system)
        try:
            status = _carried_out(made)
        except (KalyxError, Unreadable) as error:
            status = _refuse(str(error), getattr(error, "candidates", []), as_json)
        made.tell_what_was_not_read()
        return status
    except KalyxError as error:  # no machine to ask about
        return _refuse(str(error), error.candidates, as_json)
    except Exception as failure:
        return _refuse(_own_failure(failure, words), [], as_json)


def _carried_out(made: Call) -> int:
    """Carry out the command, and print its answer."""
    options = made.options
    if options.command in CHANGE or getattr(options, "fix", False):
        _take_back_what_was_stopped(made)
    status = import_module(f"kalyx.cli.commands.{options.command}").run(made)
    if getattr(options, "dry_run", False) and not made.as_json:
        made.screen.line("nothing was changed: this was a dry run")
    sys.stdout.flush()
    return int(status)


def _take_back_what_was_stopped(made: Call) -> None:
    """Roll back what a killed run had begun to change, before anything is planned; not for a dry run."""
    if made.options.dry_run:
        return
    from kalyx.core.actions.transaction import recover
    from kalyx.core.text.visible import visible

    for line in recover(made.machine.reader.again(), made.machine.writer):
        print(f"kalyx: {visible(line)}", file=sys.stderr)


def _own_failure(failure: Exception, words: list[str]) -> str:
    """Report an error in Kalyx itself, with a status of its own: what it was, and the file with the details."""
    import tempfile
    import traceback

    text = "".join(traceback.format_exception(failure))
    lines = traceback.extract_tb(failure.__traceback__)
    where = f"{os.path.basename(lines[-1].filename)}, line {lines[-1].lineno}" if lines else "its own code"
    kept = ""
    try:
        handle, path = tempfile.mkstemp(prefix="kalyx-failure-", suffix=".txt")
        with os.fdopen(handle, "w", encoding="utf-8", errors="backslashreplace") as file:
            from kalyx.core.text.redaction import redacted, redacted_words

            message = f"kalyx {__version__}, Python {sys.version}\n{redacted_words(words)!r}\n\n{redacted(text)}"
            file.write(message)
        kept = f"; details are in {path}"
    except OSError:
        pass
    message = str(failure).split("\n")[0][:160]
    if isinstance(failure, OSError) and failure.strerror:
        about = f": {failure.filename}" if isinstance(failure.filename, str) else ""
        command = words[0] if words else "kalyx"
        return f"the system refused what {command} needs ({failure.strerror.lower()}{about}), so it has no answer{kept}"
    what = f"{type(failure).__name__}{': ' + message if message else ''}"
    details = f"this is a failure of Kalyx itself ({what}; {where}), the question was not answered"
    return f"{details}; to report it, add a capture: kalyx capture FILE{kept}"


def _parsed(parser: Parser, words: list[str]) -> argparse.Namespace:
    """The options of a call. A second parse reads options between the words of an argument that takes several."""
    options, remainder = parser.parse_known_args(words)
    if remainder and not any(word.startswith("-") for word in remainder):
        return parser.parse_intermixed_args(words)
    if remainder:
        known = [word for action in parser._actions for word in action.option_strings]
        unknown = next((word for word in remainder if word.startswith("-")), "").partition("=")[0]
        near = _near(unknown, known) if unknown else []
        nearest = f"; nearest: {near[0]}" if near else ""
        parser.error(f"unrecognized arguments: {unknown or remainder[0]}{nearest}")
    return options


def _near(word: str, known: Iterable[str]) -> list[str]:
    """The names nearest to a word that is none of them."""
    from kalyx.core.text.nearness import distance

    ranked = sorted((distance(word, item, 3), item) for item in known)
    return [item for far, item in ranked if far <= 3][:3]


def _refuse(message: str, candidates: list[str], as_json: bool) -> int:
    from kalyx.core.text.visible import visible

    if len(message) > _LINE:
        message = f"{message[: _LINE * 2 // 3]}…{message[-_LINE // 3 :]}"
    if as_json:
        import json

        print(json.dumps({"schema": "kalyx.error/2", "message": message, "candidates": candidates}))
        return REFUSED
    lead = "" if message.startswith("kalyx ") else "kalyx: "
    near = "; nearest: " + ", ".join(visible(candidate) for candidate in candidates[:3]) if candidates else ""
    print(f"{lead}{visible(message)}{near}", file=sys.stderr)
    return REFUSED


def _undelivered(status: int) -> int:
    """The status of a run: another one where the system refused to write the output, so that nobody has the answer."""
    why = undelivered()
    if why is None:
        return status
    print(f"kalyx: the answer could not be written to standard output ({why}), so it is not whole", file=sys.stderr)
    return REFUSED


def main() -> NoReturn:
    """The console command."""
    import warnings

    from kalyx.core import signals

    if not sys.warnoptions:
        warnings.simplefilter("ignore")  # what a library says to those who write code is not for Kalyx's users
    signals.heed()
    open_output()
    try:
        status = _undelivered(call(sys.argv[1:]))
    except SystemExit as end:  # help and version
        status = _undelivered(end.code if isinstance(end.code, int) else 0)
    except signals.Stopped as stopped:
        status = 128 + stopped.number
        print("kalyx: interrupted" if status == 130 else f"kalyx: ended by signal {stopped.number}", file=sys.stderr)
    except KeyboardInterrupt:
        status = 130
        print("kalyx: interrupted", file=sys.stderr)
    signals.over()
    sys.exit(status)
