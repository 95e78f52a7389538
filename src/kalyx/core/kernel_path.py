"""Where a kernel package puts the notebook's folder on the search path: first, or after the standard library.

``python -m`` puts the folder that a kernel starts in first, by its full path. The kernel package's launcher takes that
off again (older ones only the empty entry that Python 2.7 and 3.6 put there), and its shell adds the empty entry: older
ones first, newer ones before the first folder of packages (IPython, ``core/shellapp.py``, ``init_path``), the newest
not where the flag ``-P`` or its variable keeps the folder away. Before its version 8 the shell adds two folders at the
end. What this package does is read in its own source.
"""

from __future__ import annotations

from kalyx.core.environments.invocation import Invocation
from kalyx.core.environments.searchpath import BEHIND, PUT, search_path
from kalyx.core.imports.resolver import Resolver
from kalyx.core.kernels.makers import USUAL
from kalyx.core.model.records import Interpreter
from kalyx.core.system import Reader
from kalyx.core.system.reader import variable_of

_SHELL = "IPython.core.shellapp"
_LIMIT = 1024 * 1024


def path_changes(
    reader: Reader, interpreter: Interpreter | None, invocation: Invocation, folder: str
) -> tuple[str | None, tuple[str, ...]]:
    """The first entry of sys.path of a kernel that runs in ``folder``, and the entries added elsewhere, in probe words.

    ``invocation``: how the kernel is started, with what ``python -m`` puts first.
    """
    is_launcher = invocation.module == USUAL.module
    if interpreter is None or invocation.module not in (USUAL.module, USUAL.distribution):
        return "", ()
    search = search_path(reader, interpreter, Invocation(variables=invocation.variables))
    resolver = Resolver(reader, interpreter, search, folder)

    def source(name: str) -> str:
        location = resolver.resolve(name).location
        return (reader.text_or_none(location.path, _LIMIT) or "") if location is not None and location.path else ""

    last = _added_last(reader, resolver, invocation) if '"extensions"' in source("IPython") else ()
    shell = source(_SHELL)
    if "site-packages" not in shell or (not invocation.first and not is_launcher):
        return "", last
    is_taken_off = is_launcher and (not invocation.first or "cwd()" in source(USUAL.module))
    variable = variable_of(invocation.variables, "PYTHONSAFEPATH", reader.system)
    is_safe = invocation.isolated or invocation.safe_path or (bool(variable) and not invocation.ignore_variables)
    behind = () if is_safe and "safe_path" in shell else (BEHIND,)
    return None if is_taken_off else folder, (*behind, *last)


def _added_last(reader: Reader, resolver: Resolver, invocation: Invocation) -> tuple[str, ...]:
    """The folder of its extensions, and the user's folder of settings."""
    location = resolver.resolve("IPython").location
    assert location is not None
    settings = variable_of(invocation.variables, "IPYTHONDIR", reader.system) or reader.join(reader.home, ".ipython")
    return f"{PUT}{reader.join(reader.parent(location.path), 'extensions')}", f"{PUT}{settings}"
