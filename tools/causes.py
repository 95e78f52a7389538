"""Write docs/causes.md from the causes' own modules; with --results also docs/results.md, after making every fault.

python tools/causes.py
python tools/causes.py --results     (every builder on every interpreter here; prints the table)
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path
from xml.etree import ElementTree

from kalyx.core.diagnosis import catalogue

ROOT = Path(__file__).resolve().parents[1]
PAGE = ROOT / "docs" / "causes.md"
RESULTS = ROOT / "docs" / "results.md"

PAGE_HEAD = """# What Kalyx can find

Written by `python tools/causes.py` from the modules that look for each cause; `kalyx causes NAME` prints the same.
How often each was created and fixed: [results](results.md).""".splitlines()

RESULTS_HEAD = """# Faults created for real, explained and fixed

Written by `python tools/causes.py --results`. Each cell: how many of the faults of that kind, created on that Python,
were explained by the right cause first, and imported after the first fix was carried out as printed, of how many.
Empty: that Python cannot have the fault.""".splitlines()

KINDS = {
    "import": "Of an import",
    "environment": "Of an environment",
    "seat": "Of a seat",
    "kernel": "Of a kernel",
    "program": "Of a command",
}


def page() -> str:
    """Every cause with its sentence, what stands before it, and its example; those of imports first."""
    lines = [*PAGE_HEAD, ""]
    left = list(catalogue.ABOUT)
    for kind, title in [*KINDS.items(), ("", "Of what Kalyx itself does")]:
        chosen = [cause for cause in left if not kind or kind in catalogue.ABOUT[cause].split()]
        left = [cause for cause in left if cause not in chosen]
        lines += [f"## {title}", ""]
        for cause in chosen:
            text = catalogue.text_of(cause)
            lines += [f"### {cause}", "", text.message, ""]
            lines += ["```", text.example, "```", ""]
            lines += [f"How to tell: {text.how_to_tell}.", "", f"Fix: {text.fix}.", ""]
    return "\n".join(lines)


def results() -> str:
    """Make every fault on every interpreter, and the table of how many were explained and mended."""
    with tempfile.TemporaryDirectory() as folder:
        told = Path(folder) / "told.xml"
        words = [sys.executable, "-m", "pytest", "-q", "-n", str(os.cpu_count() or 1), "--dist", "loadgroup",
                 "tests/faults", f"--junitxml={told}", "-o", "junit_family=xunit1"]  # fmt: skip
        subprocess.run(words, cwd=ROOT, env={**os.environ, "KALYX_LONG": "1"}, check=False)
        cases = ElementTree.parse(told).getroot().iter("testcase")
        found: dict[str, dict[str, list[bool]]] = {}
        for case in cases:
            about = {one.get("name"): one.get("value") or "" for one in case.iter("property")}
            if "cause" not in about:
                continue
            good = case.find("failure") is None and case.find("error") is None
            found.setdefault(about["cause"], {}).setdefault(about["version"], []).append(good)
    versions = sorted(
        {v for row in found.values() for v in row}, key=lambda text: [int(part) for part in text.split(".")]
    )
    lines = [*RESULTS_HEAD, "", "| cause | " + " | ".join(versions) + " |", "|---" * (len(versions) + 1) + "|"]
    for cause in catalogue.ABOUT:
        row = found.get(cause)
        if row is not None:
            cells = [f"{sum(row[v])} of {len(row[v])}" if v in row else "" for v in versions]
            lines.append(f"| {cause} | " + " | ".join(cells) + " |")
    return "\n".join(lines) + "\n"


def main() -> None:
    PAGE.write_text(page())
    if "--results" in sys.argv[1:]:
        table = results()
        # What other long runs showed stands below it and is written by hand.
        kept = RESULTS.read_text().partition("\n## ") if RESULTS.exists() else ("", "", "")
        RESULTS.write_text(table + kept[1] + kept[2])
        print(table)


if __name__ == "__main__":
    main()
