"""The error is in the user's own code or data, for example an undefined name: no other environment fixes it.

How to tell: the last frame is your own file, and no import caused the error.
Fix: correct your own code.

Example:
    a traceback that ends in a NameError in spring/weights.py
    asked: kalyx why -

Not this (a traceback that ends in an import that failed):
    a traceback that ends in ModuleNotFoundError in spring/weights.py
    asked: kalyx why -
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.imports.traceback import ErrorReport
from kalyx.core.model.records import Evidence, Finding, Fix


def finding(report: ErrorReport, is_own: bool) -> Finding:
    """The finding that the error is in code or data, with the line that raised it: no other environment fixes that."""
    evidence = [
        Evidence(
            fact=f"{report.type}: {report.text}"[:300] if report.text else str(report.type), source="the text given"
        )
    ]
    where = ""
    if report.frames:
        path, line = report.frames[-1]
        evidence.append(Evidence.at(path, "raised here", line or None))
        where = f" in {path}, line {line}"
    if report.type is not None and report.type.endswith(("ImportError", "ModuleNotFoundError")):
        message = f"an import failed{where}, and the text does not say which module"
        offered = [Fix(message="ask for the module by its name", steps=[fixes.by_hand("", "kalyx why MODULE")])]
        return Finding.possible("not-the-environment", message, evidence, offered)
    whose = "the program's own code or data" if is_own else "what that code was given"
    return Finding(
        cause="not-the-environment",
        certainty="proven" if is_own else "likely",
        message=f"not an import error: the error is in {whose}{where}; another environment will not fix it",
        evidence=evidence,
        fixes=[
            Fix(message="look at that line", steps=[fixes.by_hand(f"look at {where[4:] or 'the line that raised it'}")])
        ],
    )
