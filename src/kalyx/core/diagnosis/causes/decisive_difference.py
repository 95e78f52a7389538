"""One variable, flag, file or limit makes the import fail: without it the import works; no other cause explains it.

How to tell: the import was tried without its variables, flags, entries of sys.path, start-up files, compiled files,
limits and settings files, then with half of them, until the smallest set was left that decides.
Fix: remove or correct what decides.

Example:
    heath has hivescale 2.1 that raises when HIVE_MODE is strict
    HIVE_MODE is strict
    asked in heath: import hivescale

Not this (it raises whatever is left out):
    heath has hivescale 2.1 that raises on import
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.difference import Decisive, compiled_forms, decisive
from kalyx.core.diagnosis.shared.failing import raised_evidence, set_here
from kalyx.core.diagnosis.shared.rerun import without_entries, without_flags, without_variables
from kalyx.core.imports.case import Case
from kalyx.core.kernels.specs import SPEC_FILE
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix, KalyxError
from kalyx.core.model.steps import ManualStep, RemoveFiles, RunWith

# What says how it failed, and not why: a search may say more.
_SAYS_ONLY_HOW = {"raises", "crashes"}
# If no module of the name is found, only these can hide one that is installed.
_OF_THE_PATH = ("variable", "flag", "start-up")

# The names of limits as getrlimit(2) has them, with the letter of the shell's ulimit and what they limit.
_ULIMIT = {
    "RLIMIT_AS": ("v", "memory"), "RLIMIT_DATA": ("d", "data"), "RLIMIT_NOFILE": ("n", "open files"),
    "RLIMIT_NPROC": ("u", "processes"), "RLIMIT_STACK": ("s", "the stack"), "RLIMIT_FSIZE": ("f", "the size of files"),
    "RLIMIT_CPU": ("t", "processor time"),
}  # fmt: skip


def look_after(case: Case, machine: Machine, ordered: list[Finding]) -> list[Finding]:
    """The findings with what decides before them; unchanged where a cause is proven that says why.

    Raises KalyxError on a captured machine.
    """
    if machine.runner is None or case.trial is None or case.trial.imports or case.trial.timed_out:
        return ordered
    if not case.trial.answered and not case.trial.stack and case.trial.problem is not None:
        return ordered  # it was not started
    if ordered and _says_why(ordered[0], case):
        return ordered
    kinds = _OF_THE_PATH if case.missing_is_asked else None
    if kinds is not None and not _anything_of_python(case):
        return ordered
    if not machine.runner.is_live:
        # A capture holds neither all variables nor all files: of two trials it may have one answer.
        raise KalyxError("which variable, flag or file decides is searched for on the machine itself, not on a capture")
    decided = decisive(case, machine, kinds=kinds)
    if decided is None:
        return ordered
    return [_finding(case, machine, decided), *ordered]


def _says_why(finding: Finding, case: Case) -> bool:
    """Whether a finding is proven and has a fix that a command carries out: then nothing more is searched for."""
    from kalyx.core.diagnosis.catalogue import TIER_OF

    if TIER_OF[finding.cause].name == "fallback" and (case.missing_is_asked or finding.cause in _SAYS_ONLY_HOW):
        return False
    known = [fix for fix in finding.fixes if fix.state != "may-help"]
    return finding.certainty == "proven" and any(
        fix.state == "tested" or not isinstance(step, ManualStep) for fix in known for step in fix.steps
    )


def _anything_of_python(case: Case) -> bool:
    """Whether a variable of Python's, or a flag, can decide what is found."""
    return bool(case.invocation.flags) or any(name.upper().startswith("PYTHON") for name in case.invocation.variables)


def _finding(case: Case, machine: Machine, decided: Decisive) -> Finding:
    message, facts, offered = _OF_KIND[decided.kind](case, machine, decided)
    what = _THAT.get(decided.kind) or _that(decided.items)
    facts.append(Evidence(fact=f"without {what} import {case.module} works", source="tried"))
    if decided.alone:
        fact = f"with {what} alone, everything else left out, the import fails as before"
        facts.append(Evidence(fact=fact, source="tried"))
    if not decided.is_least:
        fact = f"the search ended before it found which of these {len(decided.items)} decides"
        facts.append(Evidence(fact=fact, source="tried"))
    return Finding(
        cause="decisive-difference",
        certainty="proven" if decided.is_least else "likely",
        message=message,
        evidence=[*facts, *raised_evidence(case)],
        fixes=offered,
    )


# Where the name of an item says too little, what is left out in words.
_THAT = {"limit": "that limit", "path": "that PATH", "encoding": "that encoding", "bytecode": "that compiled file"}


def _that(items: list[str]) -> str:
    shown = ", ".join(items[:3])
    return f"{shown} and {len(items) - 3} more" if len(items) > 3 else shown


def _variable(case: Case, machine: Machine, decided: Decisive) -> tuple[str, list[Evidence], list[Fix]]:
    names = decided.items
    facts = [Evidence(fact=set_here(case, name), source="the variables of this seat") for name in names]
    what = f"the variable {names[0]} makes" if len(names) == 1 else f"the variables {_that(names)} together make"
    fix = without_variables(machine, case, names)
    fix = fix.was_tried(works=True)
    return f"{what} the import of {case.module} fail", facts, [fix]


def _path(case: Case, machine: Machine, decided: Decisive) -> tuple[str, list[Evidence], list[Fix]]:
    value = case.invocation.variables["PATH"]
    facts = [Evidence(fact=f"PATH is {value}", source="the variables of this seat")]
    usual = f"{value}:/usr/local/bin:/usr/bin:/bin"
    step = fixes.step(machine, RunWith(words=case.command, variables={"PATH": usual}))
    fix = Fix(message="run it with the system's folders on PATH too", steps=[step])
    return f"{case.module} starts a program that is in none of the folders on PATH", facts, [fix]


def _encoding(case: Case, machine: Machine, decided: Decisive) -> tuple[str, list[Evidence], list[Fix]]:
    names = ("LANG", "LC_ALL", "LC_CTYPE")
    locale = [f"{name} is {value}" for name, value in sorted(case.invocation.variables.items()) if name in names]
    facts = [Evidence(fact="; ".join(locale) or "no variable names a locale", source="the variables of this seat")]
    step = fixes.step(machine, RunWith(words=case.command, variables={"PYTHONUTF8": "1"}))
    fix = Fix(message="let Python read files as UTF-8", steps=[step])
    fix = fix.was_tried(works=True)
    return f"{case.module} reads a file in the encoding of the locale, which is not UTF-8", facts, [fix]


def _flag(case: Case, machine: Machine, decided: Decisive) -> tuple[str, list[Evidence], list[Fix]]:
    source = "the command line" if case.kernel is None else machine.reader.join(case.kernel.folder, SPEC_FILE)
    facts = [Evidence(fact=f"Python runs with {_that(decided.items)}", source=source)]
    fix = without_flags(machine, case, decided.items)
    fix = fix.was_tried(works=True)
    return f"the flag {_that(decided.items)} makes the import of {case.module} fail", facts, [fix]


def _entry(case: Case, machine: Machine, decided: Decisive) -> tuple[str, list[Evidence], list[Fix]]:
    entries = [entry for entry in case.search.entries if entry.entry in decided.items]
    facts = [Evidence(fact=f"sys.path has {entry.entry or case.resolver.folder}, by {entry.origin}",
                      source=entry.entry or case.resolver.folder) for entry in entries]  # fmt: skip
    offered = [without_entries(machine, case, entries)]
    offered[0] = offered[0].was_tried(works=True)
    return f"a folder on sys.path makes the import of {case.module} fail: {_that(decided.items)}", facts, offered


def _startup(case: Case, machine: Machine, decided: Decisive) -> tuple[str, list[Evidence], list[Fix]]:
    facts = [Evidence.at(path, "Python runs this file at start-up") for path in decided.items]
    offered = [_set_aside(machine, decided.items, "rename the start-up file")]
    return f"a start-up file makes the import of {case.module} fail: {_that(decided.items)}", facts, offered


def _set_aside(machine: Machine, paths: list[str], message: str) -> Fix:
    fix = fixes.set_aside(machine, paths, message)
    if fix.state == "certain":
        fix = fix.was_tried(works=True)
    return fix


def _bytecode(case: Case, machine: Machine, decided: Decisive) -> tuple[str, list[Evidence], list[Fix]]:
    forms = [form for source in decided.items for form in compiled_forms(machine, source)]
    facts = [Evidence.at(form, "Python takes this compiled file instead of its source")
             for form in forms]  # fmt: skip
    step = fixes.step(machine, RemoveFiles(paths=forms))
    fix = Fix(message="remove the compiled file; Python writes a new one", steps=[step], changes=forms)
    fix = fix.was_tried(works=True)
    return f"the compiled file of {_that(decided.items)} is not what its source says", facts, [fix]


def _limit(case: Case, machine: Machine, decided: Decisive) -> tuple[str, list[Evidence], list[Fix]]:
    words = [_ULIMIT[name] for name in decided.items]
    what = " and ".join(limited for _, limited in words)
    lines = [f'raise it in the shell that runs it: ulimit -S -{letter} "$(ulimit -H -{letter})"' for letter, _ in words]
    facts = [Evidence(fact=f"a limit on {what} is set ({', '.join(decided.items)})", source="the limits of this seat")]
    fix = Fix(message=f"raise the limit on {what}", steps=[fixes.by_hand(line) for line in lines])
    fix = fix.was_tried(works=True)
    return f"the limit on {what} makes the import of {case.module} fail", facts, [fix]


def _file(case: Case, machine: Machine, decided: Decisive) -> tuple[str, list[Evidence], list[Fix]]:
    facts = [Evidence.at(path, f"{case.module} reads this while it is imported")
             for path in decided.items]  # fmt: skip
    offered = [_set_aside(machine, decided.items, "rename it, or correct what is in it")]
    return f"what is in {_that(decided.items)} makes the import of {case.module} fail", facts, offered


_OF_KIND = {
    "variable": _variable, "path": _path, "encoding": _encoding, "flag": _flag, "entry": _entry, "start-up": _startup,
    "bytecode": _bytecode, "limit": _limit, "file": _file,
}  # fmt: skip
