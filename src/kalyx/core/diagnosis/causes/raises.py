"""Its own code raises something else on import.

How to tell: the module is found, and its own code fails in a way that nothing more specific explains.
Fix: look at the line it fails in.

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
from kalyx.core.text.names import canonical
from kalyx.core.text.patterns import pattern

SUPPRESSED_BY_OTHERS = True

_DOWNGRADE = pattern(
    r"[Dd]owngrade (?:the )?([A-Za-z][\w.-]*?)(?: package)? (?:version )?to (?:version )?(\d+(?:\.\d+)*(?:\.x)?)"
)

# How packages say that ctypes found no library of a name: "Unable to find zbar shared library", "PortAudio library not
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
    # A file of a system error is what was to be opened: the line is that of the code which failed at that.
    file, line = (raised.file, raised.line) if raised.line is not None else (None, None)
    if frame is not None and file is None:
        file, line = frame.file, frame.line
    owner = case.owner(file) if file else None
    where = f"{file}, line {line}" if file else "an unknown place"
    evidence = [
        Evidence(
            fact=f"{raised.type}: {raised.text[:300]}", source=where if file else "the trial", path=file, line=line
        )
    ]
    if owner is not None:
        evidence.append(
            Evidence(fact=f"the file belongs to {owner.name} {owner.version}", source=owner.path, path=owner.path)
        )
        again = fixes.install(machine, case.interpreter, owner.name, "--upgrade")
        again.message = f"a newer {owner.name} may have a fix"
        mends = [again]
        for passed in owners_passed(case):
            broken = broken_requirement(case, machine, passed)
            if broken is not None:
                fact = (
                    f"{passed.name} {passed.version} requires {broken[0]}; {broken[1].name} {broken[1].version} is here"
                )
                evidence.append(Evidence(fact=fact, source=passed.path, path=passed.path))
                mend = fixes.install(machine, case.interpreter, broken[0])
                mend.message = f"install {broken[0]}, as {passed.name} {passed.version} requires"
                mends.insert(0, mend)
                break
    else:
        mends = [Fix(message="read the line that raises", steps=[fixes.by_hand(f"look at {where}")])]
    meant = namesake(machine, case.interpreter, owner, case.module) if owner is not None else None
    if meant is not None:
        mends.insert(0, meant)
    program = program_of(case)
    if program is not None:
        evidence.append(
            Evidence(fact=f"{program} is in none of the folders on PATH", source="the variables of this seat")
        )
        step = fixes.by_hand(f"install the program {program}, or put its folder on PATH")
        own = fixes.bringer_of_program(machine, program) or Fix(message=f"install {program}", steps=[step])
        mends = [own]
    library = next((match[1] for form in _LIBRARY if (match := form.search(raised.text))), None)
    system = fixes.bringer_of_named(machine, library) if library is not None else None
    if system is not None:
        mends.insert(0, system)
    fix = _by_its_own_words(case, machine)
    if fix is not None:
        mends.insert(0, fix)
    limit = limit_met(case)
    if limit is not None:
        evidence.append(Evidence(fact=limit[0], source="the limits of this seat"))
        details = fixes.by_hand(
            f"raise it where it is set (ulimit -{limit[1]} in a start-up file, a container, a batch job)"
        )
        mends = [Fix(message="raise that limit", steps=[details], state="may-help")]
    message = f"the code of {owner.name if owner else case.module} raises {raised.type} while it is imported"
    if program is not None:
        message = (
            f"the code of {owner.name if owner else case.module} starts the program {program}, which is not on PATH"
        )
    unset = variable_of(case)
    if unset is not None:
        message = f"the code of {owner.name if owner else case.module} reads the variable {unset}, which is not set"
        evidence.append(Evidence(fact=f"{unset} is not set", source="the variables of this seat"))
        step = fixes.by_hand(f"set {unset} where this seat starts, to what the code's documentation says")
        mends = [Fix(message=f"set the variable {unset}", steps=[step])]
    return Finding(
        cause="raises",
        certainty="proven",
        message=message,
        evidence=evidence,
        fixes=mends,
    )


def variable_of(case: Raising) -> str | None:
    """The variable that code read from ``os.environ`` and that is not set; None where that is not it."""
    raised, last = case.raised, next(reversed(case.raised.frames), None)
    name = raised.text.strip("'")
    by_the_system = last is not None and case.resolver.reader.name(last.file) == "os.py"
    return name if raised.type == "KeyError" and by_the_system and name not in case.way.variables else None


# What Python and the system say where a resource has run out, the limit that this is, and the letter of ulimit.
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


def limit_met(case: Raising) -> tuple[str, str] | None:
    """A limit that is in force and that the failure's own words speak of, and the letter of ulimit for it."""
    text = f"{case.raised.type}: {case.raised.text}"
    for form, name, letter, what, unit, unit_name in _RAN_OUT:
        number = case.failed.limits.get(name)
        if number is not None and form.search(text) is not None:
            return f"the limit on {what} is {number // unit}{unit_name}", letter
    return None


def program_of(case: Raising) -> str | None:
    """The program that code was to start and the system did not find; None where that is not it."""
    raised = case.raised
    starts = any(case.resolver.reader.name(frame.file) == "subprocess.py" for frame in raised.frames)
    name = raised.file or ""
    is_word = bool(name) and not any(sign in name for sign in "/\\ ")
    return name if raised.type == "FileNotFoundError" and starts and is_word else None


_UPDATE = pattern(r"[Pp]lease (?:update|upgrade|install) ((?:[A-Za-z][\w.-]*\w(?:, and |, | and |\.?\s|\.?$)){1,5})")


def _by_its_own_words(case: Raising, machine: Machine) -> Fix | None:
    """Some errors say themselves what to do with packages: those that are here, or that a table knows."""
    here = {distribution.key: distribution for distribution in machine.installed(case.sites)}
    match = _DOWNGRADE.search(case.raised.text)
    owner = here.get(canonical(match[1])) if match is not None else None
    if match is not None and owner is not None:
        mend = fixes.install(machine, case.interpreter, f"{owner.name}=={match[2].removesuffix('.x')}.*")
        mend.message = "do what the error itself says"
        return mend
    match = _UPDATE.search(case.raised.text)
    words = match[1].replace(" and ", ",").replace(".", " ").replace(",", " ").split() if match is not None else []
    named = [word for word in words if canonical(word) in here or is_well_known(word) or modules_of_listed(word)]
    if not named:
        return None
    mend = fixes.install_all(machine, case.interpreter, named, "--upgrade")
    mend.message = "do what the error itself says"
    return mend
