"""Write docs/causes.md from the causes' own modules; with --results also docs/results.md, after making every fault.

python tools/causes.py
python tools/causes.py --results     (every builder on every interpreter here; prints the table)
python tools/causes.py --results REPORT...   (the table of such runs; a test counts as in the last report that has it)
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


def results(reports: list[Path]) -> str:
    """The table of how many faults were explained and fixed, from reports of test runs (junit_family=xunit1)."""
    roots = [ElementTree.parse(report).getroot() for report in reports]
    cases = {case.get("name"): case for root in roots for case in root.iter("testcase")}
    by_cause: dict[str, dict[str, list[bool]]] = {}
    for case in cases.values():
        about = {row.get("name"): row.get("value") or "" for row in case.iter("property")}
        if "cause" in about:
            good = case.find("failure") is None and case.find("error") is None
            by_cause.setdefault(about["cause"], {}).setdefault(about["version"], []).append(good)
    known = {version for row in by_cause.values() for version in row}
    versions = sorted(known, key=lambda text: [int(part) for part in text.split(".")])
    lines = [*RESULTS_HEAD, "", "| cause | " + " | ".join(versions) + " |", "|---" * (len(versions) + 1) + "|"]
    for cause in catalogue.ABOUT:
        row = by_cause.get(cause)
        if row is not None:
            cells = [f"{sum(row[v])} of {len(row[v])}" if v in row else "" for v in versions]
            lines.append(f"| {cause} | " + " | ".join(cells) + " |")
    return "\n".join(lines) + "\n"


def run_all(folder: str) -> Path:
    """Make every fault on every interpreter; the report of that."""
    report = Path(folder) / "report.xml"
    words = [sys.executable, "-m", "pytest", "-q", "-n", str(os.cpu_count() or 1), "--dist", "loadgroup",
             "tests/faults", f"--junitxml={report}", "-o", "junit_family=xunit1"]  # fmt: skip
    subprocess.run(words, cwd=ROOT, env={**os.environ, "KALYX_LONG": "1"}, check=False)
    return report


def main() -> None:
    PAGE.write_text(page())
    if "--results" in sys.argv[1:]:
        with tempfile.TemporaryDirectory() as folder:
            table = results([Path(word) for word in sys.argv[2:]] or [run_all(folder)])
        # What other long runs showed stands below it and is written by hand.
        kept = RESULTS.read_text().partition("\n## ") if RESULTS.exists() else ("", "", "")
        RESULTS.write_text(table + kept[1] + kept[2])
        print(table)


if __name__ == "__main__":
    main()
