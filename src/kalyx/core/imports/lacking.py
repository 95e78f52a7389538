"""A name that is imported from a module which lacks it: the module, the name, and the code that imports."""

from __future__ import annotations

from msgspec import Struct

from kalyx.core.imports.case import Case
from kalyx.core.imports.traceback import NO_ATTRIBUTE
from kalyx.core.imports.trial import lacking_name
from kalyx.core.packages.metadata import Installed
from kalyx.core.packages.removals import removal_of


class Lack(Struct):
    """A module and the name it has not; where it is asked for, who owns both."""

    module: str
    name: str
    owner: Installed | None = None
    asker: Installed | None = None


def lack_of(case: Case) -> Lack | None:
    """What is asked of a module that it does not have, by an import or as an attribute; None where that is not it."""
    raised = case.raised
    if raised is None or case.resolver is None or case.interpreter is None:
        return None
    name, module = lacking_name(raised), None
    if name is not None:
        module = raised.name or module_asked(case)
    elif raised.type == "AttributeError" and (match := NO_ATTRIBUTE.search(raised.text)):
        module, name = match.groups()
    else:
        # Some packages raise an error of their own for a name that was removed.
        gone = [name for name in case.wanted.names if name in raised.text and removal_of(case.module, name) is not None]
        if gone and not case.missing:
            name, module = gone[0], case.module
    if name is None or module is None:
        return None
    location = case.resolver.resolve(module).location
    return Lack(module, name, case.owner(location.path) if location is not None else None, case.asker())


def module_asked(case: Case) -> str | None:
    """Older versions do not say which module lacks the name: the line that asked does."""
    words = case.asking_line().split()
    if len(words) > 1 and words[0] == "from" and not words[1].startswith("."):
        return words[1]
    return None
