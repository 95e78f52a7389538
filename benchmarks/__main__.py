"""Every benchmark, side by side: python -m benchmarks [--write]

Prints each figure with what is to be kept and how far it is from that, and ends
with 1 when one is over. With ``--write`` docs/performance.md is written anew.
"""

from __future__ import annotations

import platform
import sys
from importlib import import_module
from pathlib import Path

from benchmarks import Row

PARTS = ("starts", "survey", "imports", "lifecycle", "watch")
PAGE = Path(__file__).resolve().parents[1] / "docs" / "performance.md"

HEAD = """# What it costs

Written by `python -m benchmarks --write`. Figures are ratios measured side by side in one run, since machines differ
and drift; each is a median. Take them in an environment that holds Kalyx and what it needs, nothing else, on a machine
that does nothing else:

```
python3 -m venv plain && plain/bin/pip install . && plain/bin/python -m benchmarks
```

`rehearse` is measured against the reference client where that is installed; `KALYX_CLIENT` names an interpreter that
has it, so that the plain environment stays plain. A part alone: `python -m benchmarks.survey` (`starts`, `imports`,
`lifecycle`, `watch`). A benchmark that measured nothing stops with an error. What is counted and not timed (modules
loaded, readings, file-system calls, bytes installed) stands in `benchmarks/weight.json` and is held by the tests.

"""


def table(rows: list[Row]) -> str:
    """The figures as a table of a page."""
    lines = ["| what | against | measured | keep | margin |", "|---|---|---|---|---|"]
    for row in rows:
        value = "" if row.value is None else f"{row.value:.2f}"
        keep = f"{row.keep:g}"
        lines.append(f"| {row.what} | {row.against} | {value} | {keep} | {row.margin} |")
    return "\n".join(lines) + "\n"


def main() -> int:
    rows: list[Row] = []
    for part in PARTS:
        print(f"{part} ...", file=sys.stderr, flush=True)
        rows += import_module(f"benchmarks.{part}").measure()
    said = table(rows)
    print(said)
    if "--write" in sys.argv:
        where = (
            f"Python {platform.python_version()}, {platform.system()} on {platform.machine()}, files in the cache.\n"
        )
        tail = PAGE.read_text(encoding="utf-8").partition("\n## ")[2] if PAGE.exists() else ""
        PAGE.write_text(HEAD + said + "\n" + where + (f"\n## {tail}" if tail else ""), encoding="utf-8")
    return int(any(row.is_over for row in rows))


if __name__ == "__main__":
    sys.exit(main())
