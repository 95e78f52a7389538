"""The end of each help text: how a target is named, examples that run on the demo machine, the exit status."""

from __future__ import annotations

BEGIN = """\
Your terminal, notebooks and editor may each use a different Python.
Kalyx calls each of them a seat.

  kalyx here            which Python each seat in this folder really uses
  kalyx why NAME        explain why an import fails, with the line that fixes it
  kalyx survey          list every interpreter and environment on this machine
  kalyx prepare FOLDER  create an environment, install packages, optionally
                        register a kernel
  kalyx demo FOLDER     build a made-up machine to try every command on

kalyx --help lists every command, kalyx COMMAND --help explains one."""

_TARGET = """\
TARGET is a path, an environment's name, a notebook file, shell, kernel:ID,
pid:N, program:NAME, editor, editor:FILE, server:PORT or version:3.11."""

_STATUS = {
    "here": "0: all seats agree; 1: some differ, or something was found; 2: refused",
    "why": "0: the import works; 1: it fails; 2: refused, or not tested",
    "explain": "the command's own; of an answer to a kernel 0, 2: refused",
    "rehearse": "0: it answered; 1: it did not; 2: refused",
    "register": "0: registered, and it answered; 1: it did not; 2: refused",
    "survey": "0: done; 1: with --unsound, an unsound environment was found; 2: refused",
    "prepare": "0: done; 1: done, but an import fails; 2: refused, nothing was changed",
    "fill": "0: done; 1: done, but a package is now broken; 2: refused, nothing was changed",
    "kernels": "0: all kernels can be used; 1: some cannot; 2: refused",
    "contrast": "0: the same; 1: they differ; 2: refused",
    "packages": "0: done; 1: with --unmet or --for, a requirement is not met; 2: refused",
    "enter": "0: the line was printed; 2: refused",
    "causes": "0: done; 2: no cause has this name",
    "record": "0: done; 1: done, but a package could not be read; 2: refused, nothing was written",
    "point": "0: done; 2: refused, nothing was changed",
    "discard": "0: removed; 2: refused, nothing was changed",
    "unregister": "0: removed; 2: refused, nothing was changed",
    "report": "0: written; 2: refused, nothing was written",
    "capture": "0: written; 2: refused, nothing was written",
    "completion": "0: the code was printed; 2: refused",
    "demo": "0: each step ended as it should; 1: a step did not; 2: refused, nothing was changed",
}
# The marks in front of a seat or kernel, and their plain forms where these differ.
_MARKS = {
    "here": """\
marks: = the same environment as the reference; ≠ (plain: !) another environment;
∅ (plain: -) starts nothing; ? not known.""",
    "kernels": """\
marks: ≠ (plain: !) something is wrong, and the line's end names that;
∅ (plain: -) starts nothing; ? not known.""",
}

# Each runs on the machine that kalyx demo makes.
EXAMPLES = {
    "here": ["kalyx here", "kalyx here --against kernel:orchard -v", "kalyx here --json"],
    "survey": ["kalyx survey", "kalyx survey --json"],
    "prepare": ["kalyx prepare ~/larkmoor/meadow --want hivescale --dry-run"],
    "fill": ["kalyx fill heath pollen-kit --dry-run"],
    "packages": ["kalyx packages orchard", "kalyx packages kernel:orchard-spring --json"],
    "contrast": ["kalyx contrast shell kernel:orchard-spring"],
    "enter": ['eval "$(kalyx enter heath)"', "kalyx enter heath --shell fish"],
    "why": ["kalyx why hivescale", "kalyx why hivescale --in spring_weights.ipynb", "kalyx why spring_weights.ipynb"],
    "explain": ["kalyx explain -- python spring_weights.py"],
    "causes": ["kalyx causes", "kalyx causes name-misleads"],
    "kernels": ["kalyx kernels", "kalyx kernels --json"],
    "register": ["kalyx register heath --id heath-spring --dry-run"],
    "rehearse": ["kalyx rehearse orchard --import hivescale"],
    "record": ["kalyx record orchard", "kalyx record orchard -o requirements.txt"],
    "point": ["kalyx point notebook:spring_weights.ipynb kernel:orchard --dry-run"],
    "discard": ["kalyx discard heath --dry-run"],
    "unregister": ["kalyx unregister orchard-spring --dry-run"],
    "report": [
        "kalyx report -o moor.html",
        "kalyx report -o moor.html --why hivescale --sizes",
        "kalyx report -o moor.svg --on windows-larkmoor",
    ],
    "capture": [
        "kalyx capture moor.capture --why hivescale",
        "kalyx capture moor.capture --show",
        "kalyx here --on moor.capture",
    ],
    "completion": ['eval "$(kalyx completion bash)"', "kalyx completion fish"],
    "demo": ["kalyx demo larkmoor", "kalyx demo larkmoor --dry-run"],
}


def ending(command: str, with_target: bool) -> str:
    """The last part of a command's help."""
    parts = [_TARGET] if with_target else []
    parts.append("examples:\n" + "\n".join(f"  {line}" for line in EXAMPLES[command]))
    parts += [_MARKS[command]] if command in _MARKS else []
    parts.append(f"exit status: {_STATUS[command]}")
    return "\n\n".join(parts)
