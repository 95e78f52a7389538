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

PARTS = ("starts", "survey", "imports", "lifecycle", "watch", "many")
PAGE = Path(__file__).resolve().parents[1] / "docs" / "performance.md"

HEAD = """# What it costs

Written by `python -m benchmarks --write`. Figures are ratios measured side by side in one run, because machines differ
and change; the last three are seconds. Each is a median. Measure in an environment that holds only Kalyx and its
dependencies, on a machine that runs nothing else:

```
python3 -m venv plain && plain/bin/pip install . && plain/bin/python -m benchmarks
```

`rehearse` is measured against the reference client where that is installed; `KALYX_CLIENT` names an interpreter that
has it. To measure one part: `python -m benchmarks.survey` (`starts`, `imports`, `lifecycle`, `watch`, `many`). A
benchmark that measured nothing stops with an error. What is counted instead of timed (modules loaded, readings,
file-system calls, bytes installed) is in `benchmarks/weight.json`, and the tests compare it.

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
