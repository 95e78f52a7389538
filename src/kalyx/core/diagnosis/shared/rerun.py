"""Fixes that run the same again another way: without a variable, a flag or an entry of sys.path, or with a folder."""

from __future__ import annotations

from collections.abc import Sequence

from kalyx.core.diagnosis import fixes
from kalyx.core.imports.case import Case
from kalyx.core.kernels.specs import SPEC_FILE, valid_id
from kalyx.core.machine import Machine
from kalyx.core.model.records import Environment, Fix, Kernel, PathEntry
from kalyx.core.model.steps import RunWith, RunWithout, Step

# Flags that make Python ignore its variables, PYTHONPATH with them.
_IGNORE_VARIABLES = ("-E", "-I")


def without_variables(machine: Machine, case: Case, variables: Sequence[str]) -> Fix:
    """Run the same once without some variables; a kernel that sets them is registered without them."""
    kernel, named = case.kernel, " and ".join(variables)
    path = machine.reader.join(kernel.folder, SPEC_FILE) if kernel is not None else ""
    text = (machine.reader.text_or_none(path, 1024 * 1024) or "") if kernel is not None else ""
    if kernel is not None and all(f'"{variable}"' in text for variable in variables):
        steps = [fixes.by_hand(f"take {named} out of the env of {path}")]
        return Fix(message=f"let the kernel {kernel.id} start without {named}", steps=steps, changes=[path])
    step = fixes.step(machine, RunWith(words=case.command, variables=dict.fromkeys(variables)))
    noun = "variable" if len(variables) == 1 else "variables"
    return Fix(message=f"run it without the {noun} {named}", steps=[step])


def without_flags(machine: Machine, case: Case, flags: Sequence[str]) -> Fix:
    """Run the same without some flags of the interpreter; of a kernel, change its file."""
    named = " and ".join(flags)
    steps: list[Step]
    if case.kernel is not None:
        path = machine.reader.join(case.kernel.folder, SPEC_FILE)
        steps = [fixes.by_hand(f"take {flag} out of the argv of {path}") for flag in flags]
        return Fix(message=f"run it without {named}", steps=steps, changes=[path])
    left = _left_of(case, flags)
    steps = [RunWithout(flag=flag, line=f"run it without {flag}") for flag in flags]
    if left is not None:
        steps = [fixes.step(machine, RunWith(words=left))]
    return Fix(message=f"run it without {named}", steps=steps)


def _left_of(case: Case, flags: Sequence[str]) -> list[str] | None:
    """The command line without some flags, the value of which may be a word of its own; None where that is no simple
    change: a flag is written in another form."""
    words, at = case.command, 1
    left = words[:1]
    while words[at : at + 1] and words[at].startswith("-") and words[at] not in ("-", "--", "-c", "-m"):
        count = 2 if words[at] in ("-W", "-X") else 1
        word = "".join(words[at : at + count])
        if word not in flags:
            left += words[at : at + count] if count == 2 else [_without_letters(word, flags)]
        at += count
    left += words[at:]  # what runs, with words of its own
    before, after = case.flags_of(words), case.flags_of(left)
    return left if set(after) == set(before) - set(flags) and set(flags) <= set(before) else None


def _without_letters(word: str, flags: Sequence[str]) -> str:
    """A word of several flags (``-sO``) without some; a word that has values in it is left as it is."""
    if not word[1:].isalpha() or len(word) < 3 or set(word) & set("cmWXQ"):
        return word
    for flag in flags:
        word = word.replace(flag[1:], "", 1)
    return word


def without_entries(machine: Machine, case: Case, entries: Sequence[PathEntry]) -> Fix:
    """Run the same with some entries of sys.path left out: those of PYTHONPATH by a line, others by hand."""
    gone = {entry.entry for entry in entries}
    if all(entry.put_by == "variable" for entry in entries):
        left = [entry.entry for entry in case.search.entries if entry.put_by == "variable" and entry.entry not in gone]
        if not left:
            return without_variables(machine, case, ["PYTHONPATH"])
        value = machine.reader.path.pathsep.join(left)
        step = fixes.step(machine, RunWith(words=case.command, variables={"PYTHONPATH": value}))
        return Fix(message="run it with PYTHONPATH without that folder", steps=[step])
    steps = [fixes.by_hand(f"take {entry.entry or case.resolver.folder} off sys.path: {entry.origin} puts it there")
             for entry in entries]  # fmt: skip
    return Fix(message="take that folder off sys.path", steps=steps)


def with_folder(machine: Machine, case: Case, folder: str) -> Fix:
    """Run the same once with a folder searched, nothing changed for others; a kernel is registered with the folder."""
    if case.kernel is not None and case.environment is not None and valid_id(case.kernel.id):
        return _kernel_with(machine, case.kernel, case.environment, folder)
    between = machine.reader.path.pathsep
    kept = [entry for entry in (machine.reader.variable("PYTHONPATH") or "").split(between) if entry]
    variables = {"PYTHONPATH": between.join(dict.fromkeys([folder, *kept]))}
    flags = [flag for flag in case.invocation.flags if flag in _IGNORE_VARIABLES]
    words = _left_of(case, flags)
    also = f"without {' and '.join(flags)} and " if flags else ""
    message = f"run it {also}with that folder searched"
    if words is None:
        return Fix(message=message, steps=[fixes.by_hand(f"{message}: PYTHONPATH={variables['PYTHONPATH']}")])
    return Fix(message=message, steps=[fixes.step(machine, RunWith(words=words, variables=dict(variables)))])


def _kernel_with(machine: Machine, kernel: Kernel, environment: Environment, folder: str) -> Fix:
    """The notebook's kernel, registered to search a folder: a notebook is not run by a line of its own."""
    own = kernel.env.get("PYTHONPATH")
    made = fixes.registering(machine, environment, kernel.id)
    made.take_over, made.explain = True, kernel.explains
    made.variables = {"PYTHONPATH": machine.reader.path.pathsep.join([folder, *([own] if own else [])])}
    message = f"let the kernel {kernel.id} search that folder; then restart it"
    return Fix(message=message, steps=[fixes.step(machine, made)], changes=[kernel.folder])
