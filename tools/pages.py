"""Write the manual page and one page a command from the same help: python tools/pages.py [man]

docs/man/kalyx.1 is made of the help alone; docs/commands/ also shows what each of a help's examples prints on a freshly
made demo machine. With ``man`` only the first is written.
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent))

import guide

from kalyx import __version__
from kalyx.cli.help_text import BEGIN, EXAMPLES, ending
from kalyx.cli.start import COMMANDS, command_parser

DOCS = Path(__file__).resolve().parents[1] / "docs"
EVERY = "for every command"
MANUAL = DOCS / "man" / "kalyx.1"


def parser_of(name: str) -> argparse.ArgumentParser:
    """The parser of a command with the end of its help."""
    parser = command_parser(name)
    words = {str(action.metavar) for action in parser._actions}
    parser.epilog = ending(name, bool(words & {"TARGET", "LEFT"}))
    return parser


def _roff(text: str) -> str:
    """Text as it stands: no word of it is a request."""
    out = text.replace("\\", "\\e").replace("-", "\\-").replace("'", "\\(aq")
    return "\n".join("\\&" + line if line.startswith((".", "\\(aq")) else line for line in out.splitlines())


def _literal(text: str) -> list[str]:
    return [".PP", ".nf", _roff(text), ".fi"]


def _option(action: argparse.Action) -> list[str]:
    said = ", ".join(action.option_strings) or str(action.metavar or "|".join(action.choices or [action.dest]))
    if action.option_strings and action.nargs != 0:
        said += f" {action.metavar or action.dest.upper()}"
    return [".TP", f"\\fB{_roff(said)}\\fR", _roff(action.help or "")]


def manual() -> str:
    """The manual page (man(7)), whatever the terminal."""
    os.environ["COLUMNS"] = "80"
    lines = [f'.TH KALYX 1 "" "kalyx {__version__}" "User commands"', ".SH NAME",
             "kalyx \\- which Python each of your seats uses, and why an import fails there",
             ".SH SYNOPSIS", ".B kalyx", ".I COMMAND", "[options]",
             ".SH DESCRIPTION", *_literal(BEGIN), ".SH COMMANDS"]  # fmt: skip
    for name in COMMANDS:
        parser = parser_of(name)
        lines += [f".SS kalyx {_roff(name)}", _roff(parser.description or ""), *_literal(parser.format_usage().strip())]
        for action in parser._actions:
            if action.dest != "help" and action.container.title != EVERY:
                lines += _option(action)
        lines += _literal(parser.epilog or "")
    lines += [".SH FOR EVERY COMMAND"]
    for action in parser_of("here")._actions:
        if action.container.title == EVERY:
            lines += _option(action)
    return "\n".join(lines) + "\n"


def help_of(name: str) -> str:
    """The help as it stands on the page, whatever the terminal."""
    os.environ["COLUMNS"] = "100"
    return parser_of(name).format_help().strip()


def page(name: str, shown: list[tuple[str, list[str]]]) -> str:
    """The page of a command: what it answers, real output, and its help."""
    summary = COMMANDS[name]
    parts = [f"# kalyx {name}", "", f"{summary[0].upper()}{summary[1:]}.", ""]
    for command, output in shown:
        long = output if len(output) <= 60 else [*output[:50], f"... {len(output) - 50} more lines"]
        parts += ["```", f"$ {command}", *(line.rstrip()[:160] for line in long), "```", ""]
    parts += ["## Words, options, exit status", "", "```", help_of(name), "```", ""]
    if (DOCS / "schema" / f"{name}.json").exists():
        parts += [f"`--json` prints one object by [this schema](../schema/{name}.json).", ""]
    return "\n".join(parts)


def main(words: list[str]) -> int:
    MANUAL.write_text(manual())
    if words == ["man"]:
        return 0
    all_lines = [(name, line) for name in COMMANDS if name not in ("demo", "completion") for line in EXAMPLES[name]]
    chosen = [(name, line) for name, line in all_lines if "--json" not in line and "--show" not in line]
    text = "".join(f"```\n$ {line.replace('~/larkmoor', '~')}\n```\n\n" for _, line in chosen)
    with tempfile.TemporaryDirectory(prefix="kalyx-pages-") as folder:
        told = guide.run(text, Path(folder) / "larkmoor")
    bases = guide.bases()
    for name in COMMANDS:
        shown = [(line, output) for (of, line), (_, _, output) in zip(chosen, told, strict=True) if of == name]
        shown = [(line, [guide.elsewhere(text, bases) for text in output]) for line, output in shown]
        (DOCS / "commands" / f"{name}.md").write_text(page(name, shown))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
