"""A shared library that the package's compiled part needs is not found on this machine.

How to tell: the header of the compiled part names the library, and no folder that the loader looks in has it.
Fix: install the system's package that provides the library.

Example:
    heath has hivescale 2.1 whose compiled part needs libhoney.so.1
    asked in heath: import hivescale

Not this (the library is there, and lacks a version of a symbol):
    heath has hivescale 2.1 whose compiled part needs a newer libhoney.so.1
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis import fixes
from kalyx.core.diagnosis.shared.dlls import missing_dll, python_of
from kalyx.core.diagnosis.shared.failing import compiled_of, owned, reinstall
from kalyx.core.formats.fitting import is_compiled
from kalyx.core.formats.headers import read_header
from kalyx.core.imports.case import Case, Tried
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding, Fix
from kalyx.core.model.steps import RunWith
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.requirements import asked_by
from kalyx.core.text.patterns import pattern

_SAYS = [
    pattern(r"(?<![^\s:'\"])([^\s:'\"]+): cannot open shared object file"),
    pattern(r"Error loading shared library ([^\s:]+):"),
    pattern(r"Library not loaded: ([^\s']+)"),
    pattern(r"image not found: ([^\s']+)"),
]
# What Python for Windows says, in every language of the system, of a library that it could not load (dynload_win.c).
_DLL = "DLL load failed"
_READ = 300

LOOKS_AT = "tried"


def look(case: Tried, machine: Machine) -> Finding | None:
    trial = case.failed
    named = next((match[1] for message in _SAYS if (match := message.search(trial.words))), None)
    reader = machine.reader
    needer: str | None
    if _DLL in trial.words and (lacking := missing_dll(case, machine, compiled_of(case))) is not None:
        library, needer = lacking
        if python_of(case, machine, [lacking[1]]) is not None:
            return None
    elif named is None or "libpython" in named or "musl" in named or reader.is_file(named):
        return None
    else:
        library = reader.name(named)
        needer = _needer(case, machine, library)
    owner = case.owner(needer) if needer is not None else None
    evidence = [
        Evidence(fact=f"{case.raised.type}: {case.raised.text[:200]}" if case.raised else library, source="the trial")
    ]
    if needer is not None:
        evidence.insert(0, Evidence.at(needer, f"it needs {library}"))
    if owner is not None:
        evidence.append(owned(owner))
    message = f"{reader.name(needer) if needer else case.module} needs the library {library}, which is not found"
    return Finding.proven("library-missing", message, evidence, _ways_out(case, machine, library, owner, evidence))


def of_text(text: str, machine: Machine) -> Finding | None:
    """The same of an error's text alone, where nobody knows which module failed."""
    named = next((match[1] for message in _SAYS if (match := message.search(text))), None)
    if named is None or machine.reader.is_file(named):
        return None
    library = machine.reader.name(named)
    line = f"find out which package of this system provides {library} (nothing here says so), and install that"
    unknown = Fix(message="find out which package provides the library", steps=[fixes.by_hand(line)], state="may-help")
    message = f"a compiled module needs the library {library}, which is not found"
    evidence = [Evidence(fact=text[:200], source="the text given")]
    return Finding.likely("library-missing", message, evidence, [fixes.bringer_of_library(machine, library) or unknown])


def _needer(case: Case, machine: Machine, library: str) -> str | None:
    """The compiled file that asks for the library: one the failure names, else one of the same distribution."""
    candidates = compiled_of(case)
    for passed in [case.owner(path) for path in candidates[:3]] + [
        machine.distribution_of_module(case.module, case.sites)
    ]:
        for name in (passed.files or []) if passed is not None else []:
            if is_compiled(name) and passed is not None:
                candidates.append(machine.reader.join(passed.site, *name.split("/")))
    for path in machine.reader.first_of(list(dict.fromkeys(candidates)), _READ, "libraries of the package"):
        if library in (machine.reader.name(item) for item in read_header(machine.reader, path).needed):
            return path
    return next(iter(compiled_of(case)), None)


def _ways_out(
    case: Case, machine: Machine, library: str, owner: Installed | None, evidence: list[Evidence]
) -> list[Fix]:
    reader, interpreter, result = machine.reader, case.interpreter, []
    if owner is not None:
        lost = [file for file in owner.files or [] if file.rpartition("/")[2] == library]
        if lost and not reader.exists(reader.join(owner.site, *lost[0].split("/"))):
            record = reader.join(owner.path, "RECORD")
            evidence.append(Evidence.at(record, f"its record lists {lost[0]}, which is gone"))
            return [reinstall(machine, interpreter, owner)]
        here = {distribution.key for distribution in machine.installed(case.sites)}
        unmet = [
            requirement.line
            for requirement in asked_by(owner, interpreter, reader.system)
            if requirement.key not in here
        ]
        if unmet:
            fix = fixes.install(machine, interpreter, unmet[0], *unmet[1:])
            fix = fix.called(f"install what {owner.name} requires and is missing: it may provide {library}")
            result.append(fix)
    path = _elsewhere(case, machine, library)
    if path is not None:
        evidence.append(Evidence.at(path, f"{library} is in a folder that is not searched"))
        variable = "DYLD_LIBRARY_PATH" if reader.system == "macos" else "LD_LIBRARY_PATH"
        step = fixes.step(machine, RunWith(words=case.command, variables={variable: reader.parent(path)}))
        result.append(Fix(message=f"run it with {reader.parent(path)} on the library path", steps=[step]))
    bringer = fixes.bringer_of_library(machine, library)
    if bringer is not None:
        result.append(bringer)
    if not result:
        line = f"find out which package of this system provides {library} (nothing here says so), and install that"
        result.append(Fix(message="find out which package provides the library", steps=[fixes.by_hand(line)]))
    return result


def _elsewhere(case: Case, machine: Machine, library: str) -> str | None:
    """The library in a folder that may hold some and is not searched: the prefixes' own, local and optional ones."""
    reader = machine.reader
    folders = [reader.join(case.interpreter.prefix, "lib"), reader.join(case.interpreter.base_prefix, "lib")]
    if reader.system != "windows":
        folders += ["/usr/local/lib", "/usr/local/lib64", "/opt/homebrew/lib"]
        folders += [reader.join("/opt", name, "lib") for name in reader.names("/opt")]
    for site in case.sites:
        folders += [reader.join(site, name) for name in reader.names(site) if name.endswith((".libs", ".dylibs"))]
    return next((path for path in (reader.join(folder, library) for folder in folders) if reader.is_file(path)), None)
