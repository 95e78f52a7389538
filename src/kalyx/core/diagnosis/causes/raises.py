"""The module's own code raises an error while it is imported.

How to tell: the module is found, its code raises an error, and no other cause explains that.
Fix: read the line that raises.

Example:
    heath has hivescale 2.1 that raises on import
    asked in heath: import hivescale

Not this (it fails for want of another package):
    heath has hivescale 2.1 requiring nectarflow>=1.2
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.brought import is_well_known, modules_of_listed
from kalyx.core.diagnosis.shared.failing import broken_requirement, namesake, owners_passed
from kalyx.core.imports.case import Raising
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.packages.metadata import Installed
from kalyx.core.text.names import canonical
from kalyx.core.text.patterns import pattern

SUPPRESSED_BY_OTHERS = True

_DOWNGRADE = pattern(
    r"[Dd]owngrade (?:the )?([A-Za-z][\w.-]*?)(?: package)? (?:version )?to (?:version )?(\d+(?:\.\d+)*(?:\.x)?)"
)

# Messages of packages for which ctypes found no library: "Unable to find zbar shared library", "PortAudio library not
# found", "The 'enchant' C library was not found", "failed to find libmagic".
_LIBRARY = [
    pattern(item)
    for item in (
        r"(?:[Uu]nable to|[Cc]ould ?n[o']t|[Cc]an(?:not|'t)|[Ff]ailed to) (?:find|load|locate) (?:the )?[`'\"]?"
        r"(\w[\w+-]{1,40})[`'\"]? (?:shared |dynamic |C )?librar(?:y|ies)\b",
        r"[`'\"]?(\w[\w+-]{1,40})[`'\"]? (?:shared |dynamic |C )?library (?:was |is |could )?not (?:be )?found\b",
        r"(?:find|load|locate) (lib\w[\w+-]{1,40})\b",
    )
]


LOOKS_AT = "raising"


def look(case: Raising, machine: Machine) -> Finding | None:
    raised = case.raised
    if case.missing is not None:
        return None
    frame = case.blamed()
    # The file of a system error is the file that code wanted to open; the line is that of the code.
    file, line = (raised.file, raised.line) if raised.line is not None else (None, None)
    if frame is not None and file is None:
        file, line = frame.file, frame.line
    owner = case.owner(file) if file else None
    where = f"{file}, line {line}" if file else "the trial"
    evidence = [Evidence(fact=f"{raised.type}: {raised.text[:300]}", source=where, path=file, line=line)]
    if owner is not None:
        fact = f"the file belongs to {owner.name} {owner.version}"
        evidence.append(Evidence.at(owner.path, fact))
    code = f"the code of {owner.name if owner else case.module}"
    for lacks in (_lacks_program, _lacks_variable, _met_limit):
        lacking = lacks(case, machine)
        if lacking is not None:
            message, fact, fix = lacking
            evidence.append(Evidence(fact=fact, source="the variables and limits of this seat"))
            return Finding.proven("raises", f"{code} {message}", evidence, [fix])
    message = f"{code} raises {raised.type} while it is imported"
    offered = _ways_out(case, machine, owner, where if file else "an unknown place", evidence)
    return Finding.proven("raises", message, evidence, offered)


def _ways_out(
    case: Raising, machine: Machine, owner: Installed | None, where: str, evidence: list[Evidence]
) -> list[Fix]:
    """The fixes: as the error says, a library's package, another distribution, a requirement; last a newer release."""
    if owner is None:
        offered = [Fix(message="read the line that raises", steps=[fixes.by_hand(f"look at {where}")])]
    else:
        again = fixes.install(machine, case.interpreter, owner.name, "--upgrade")
        again = again.called(f"a newer {owner.name} may have a fix")
        offered = [again]
        for passed in owners_passed(case):
            broken = broken_requirement(case, machine, passed)
            if broken is not None:
                line, there = broken
                fact = f"{passed.name} {passed.version} requires {line}; {there.name} {there.version} is here"
                evidence.append(Evidence.at(passed.path, fact))
                fix = fixes.install(machine, case.interpreter, line)
                fix = fix.called(f"install {line}, as {passed.name} {passed.version} requires")
                offered.insert(0, fix)
                break
        meant = namesake(machine, case.interpreter, owner, case.module)
        offered = [meant, *offered] if meant is not None else offered
    library = next((match[1] for form in _LIBRARY if (match := form.search(case.raised.text))), None)
    system = fixes.bringer_of_named(machine, library) if library is not None else None
    return [fix for fix in (_by_its_own_words(case, machine), system) if fix is not None] + offered


def _lacks_program(case: Raising, machine: Machine) -> tuple[str, str, Fix] | None:
    """The program that code was to start and the system did not find: in words, as a fact, and what provides it."""
    raised = case.raised
    starts = any(case.resolver.reader.name(frame.file) == "subprocess.py" for frame in raised.frames)
    name = raised.file or ""
    if raised.type != "FileNotFoundError" or not starts or not name or any(sign in name for sign in "/\\ "):
        return None
    step = fixes.by_hand(f"install the program {name}, or put its folder on PATH")
    fix = fixes.bringer_of_program(machine, name) or Fix(message=f"install {name}", steps=[step])
    return f"starts the program {name}, which is not on PATH", f"{name} is in none of the folders on PATH", fix


def _lacks_variable(case: Raising, machine: Machine) -> tuple[str, str, Fix] | None:
    """The variable that code read from ``os.environ`` and that is not set."""
    raised, last = case.raised, next(reversed(case.raised.frames), None)
    name = raised.text.strip("'")
    # From 3.11 on the module is part of the interpreter.
    by_the_system = last is not None and case.resolver.reader.name(last.file) in ("os.py", "<frozen os>")
    if raised.type != "KeyError" or not by_the_system or name in case.invocation.variables:
        return None
    step = fixes.by_hand(f"set {name} where this seat starts, to what the code's documentation says")
    fix = Fix(message=f"set the variable {name}", steps=[step])
    return f"reads the variable {name}, which is not set", f"{name} is not set", fix


# Messages of Python and of the system when a limit is reached, the limit's name, and its letter for ulimit.
_RAN_OUT = [
    (
        pattern(r"^MemoryError|Cannot allocate memory|failed to map segment"),
        "RLIMIT_AS",
        "v",
        "memory",
        1 << 20,
        " MiB",
    ),
    (pattern(r"Too many open files"), "RLIMIT_NOFILE", "n", "open files", 1, ""),
    (pattern(r"can't start new thread|Resource temporarily unavailable"), "RLIMIT_NPROC", "u", "processes", 1, ""),
    (pattern(r"File too large"), "RLIMIT_FSIZE", "f", "the size of a file", 1 << 10, " KiB"),
]


def _met_limit(case: Raising, machine: Machine) -> tuple[str, str, Fix] | None:
    """A limit of this process that the error names."""
    text = f"{case.raised.type}: {case.raised.text}"
    for form, name, letter, what, unit, unit_name in _RAN_OUT:
        number = case.failed.limits.get(name)
        if number is not None and form.search(text) is not None:
            line = f"raise it where it is set (ulimit -{letter} in a start-up file, a container, a batch job)"
            fix = Fix(message="raise that limit", steps=[fixes.by_hand(line)])
            fact = f"the limit on {what} is {number // unit}{unit_name}"
            return f"raises {case.raised.type}: {fact}", fact, fix
    return None


_UPDATE = pattern(r"[Pp]lease (?:update|upgrade|install) ((?:[A-Za-z][\w.-]*\w(?:, and |, | and |\.?\s|\.?$)){1,5})")


def _by_its_own_words(case: Raising, machine: Machine) -> Fix | None:
    """The fix that the error itself proposes, for packages that are installed or that a table lists."""
    here = {distribution.key: distribution for distribution in machine.installed(case.sites)}
    match = _DOWNGRADE.search(case.raised.text)
    owner = here.get(canonical(match[1])) if match is not None else None
    if match is not None and owner is not None:
        fix = fixes.install(machine, case.interpreter, f"{owner.name}=={match[2].removesuffix('.x')}.*")
        fix = fix.called("do what the error itself says")
        return fix
    match = _UPDATE.search(case.raised.text)
    words = match[1].replace(" and ", ",").replace(".", " ").replace(",", " ").split() if match is not None else []
    named = [word for word in words if canonical(word) in here or is_well_known(word) or modules_of_listed(word)]
    if not named:
        return None
    fix = fixes.install_all(machine, case.interpreter, named, "--upgrade").called("do what the error itself says")
    return fix
