"""Run docs/guide.md and docs/questions on freshly made demo machines and write what each command prints into them:
python tools/guide.py

The pages of docs/questions are run one after the other on one machine: each leaves the machine as that page found it.
A block that begins with ``$ `` is run, line by line, in one shell that stands
in the demo's folder; what is below each line in the page is replaced by what it
printed. A line that is to end with another status than 0 says so behind it:
``$ kalyx why pollenkit   # ends with 1``.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
from pathlib import Path

PAGE = Path(__file__).resolve().parents[1] / "docs" / "guide.md"
QUESTIONS = sorted((PAGE.parent / "questions").glob("*.md"))
_BLOCK = re.compile(r"^```\n(\$ .*?)^```$", re.MULTILINE | re.DOTALL)


def blocks(page: str) -> list[list[tuple[str, list[str]]]]:
    """The blocks of a page: each a list of commands with the lines shown below them."""
    found = []
    for match in _BLOCK.finditer(page):
        block: list[tuple[str, list[str]]] = []
        for line in match[1].splitlines():
            if line.startswith("$ "):
                block.append((line[2:], []))
            else:
                block[-1][1].append(line)
        found.append(block)
    return found


def run(
    page: str, demo: Path, variables: dict[str, str] | None = None, *, as_built: bool = False
) -> list[tuple[str, int, list[str]]]:
    """Every command of the page in order, on a demo machine made in ``demo``: the command, its status, its lines.

    ``variables``: the surroundings it is walked in, instead of those here. ``as_built``: the machine is there already.
    """
    variables = dict(os.environ) if variables is None else variables
    if not as_built:
        words = [sys.executable, "-m", "kalyx", "demo", str(demo), "--build-only", "--yes"]
        subprocess.run(words, check=True, capture_output=True, env=variables)
    mark = "=====8====="
    script = [f". {demo}/enter.sh", "shopt -u checkwinsize", "export COLUMNS=100"]
    commands = [command for block in blocks(page) for command, _ in block]
    for command in commands:
        script += [f"{{ {command.split('   # ')[0]}\n}} </dev/null 2>&1", f"status=$?; echo; echo {mark}$status{mark}"]
    # From its input, as from a person: a script's shell would stand for the program that runs it.
    words = ["bash", "--norc", "--noprofile"]
    done = subprocess.run(words, input="\n".join(script) + "\n", capture_output=True, text=True,
                          env={**variables, "COLUMNS": "100", "TERM": "dumb"}, check=False)  # fmt: skip
    parts = re.split(rf"\n?{mark}(\d+){mark}\n", done.stdout)
    told = []
    for command, output, status in zip(commands, parts[0::2], parts[1::2], strict=False):
        text = output.replace(str(demo / "home"), "~").replace(str(demo), "/moor")
        told.append((command, int(status), text.strip("\n").splitlines()))
    return told


def expected_status(command: str) -> int:
    match = re.search(r"# ends with (\d)", command)
    return int(match[1]) if match else 0


def bases() -> dict[str, str]:
    """The prefixes of this machine's interpreters, and where the pages say that they lie."""
    argv = [sys.executable, "-m", "kalyx", "survey", "--json"]
    found = json.loads(subprocess.run(argv, capture_output=True, text=True, check=True).stdout)["interpreters"]
    return {item["prefix"]: f"/opt/python/{item['version']}" for item in found if item["prefix"] != "/usr"}


def elsewhere(text: str, bases: dict[str, str]) -> str:
    for prefix, said in bases.items():
        text = text.replace(prefix, said)
    return text


def renew(pages: list[Path]) -> None:
    """Run the pages in order on one demo machine, and write what each command printed into its page."""
    with tempfile.TemporaryDirectory(prefix="kalyx-guide-") as folder:
        told = iter(run("".join(page.read_text() for page in pages), Path(folder) / "moor"))
        places = bases()

    def renewed(match: re.Match[str]) -> str:
        lines = []
        for command, _ in blocks(match[0])[0]:
            said, status, output = next(told)
            if status != expected_status(said):
                print(f"{said}: ended with {status}\n" + "\n".join(output))
            lines += ["$ " + command, *(elsewhere(line.rstrip(), places) for line in output)]
        return "```\n" + "\n".join(lines) + "\n```"

    for page in pages:
        page.write_text(_BLOCK.sub(renewed, page.read_text()))


def main() -> int:
    renew([PAGE])
    renew(QUESTIONS)
    return 0


if __name__ == "__main__":
    sys.exit(main())
