"""Making the environment stopped half-way.

Has it:
    heath was begun and not finished
    asked about heath

Only looks like it (it was finished, and its base was removed later):
    heath stands on /opt/old, which is gone
    asked about heath
"""

from __future__ import annotations

from kalyx.core.environments.reading import View
from kalyx.core.facts import Evidence, Finding
from kalyx.core.findings._conditions import condition, remove
from kalyx.core.machine import Machine

UNFINISHED_MARK = ".kalyx-unfinished"
YIELDS_TO = ("unreadable",)


def look_at_environment(view: View, machine: Machine) -> Finding | None:
    facts, environment, settings = machine.facts, view.environment, view.settings
    mark = facts.join(environment.prefix, UNFINISHED_MARK)
    mends = [remove(view, machine)]
    if facts.kind(mark) is not None:
        evidence = [Evidence(fact="the mark of an unfinished environment is there", source=mark, path=mark)]
        return condition("half-made", "making it was begun and not finished", evidence, mends)
    if environment.kind != "virtual" or settings is None or settings.problem:
        return None
    folder = facts.join(environment.prefix, "Scripts" if facts.system == "windows" else "bin")
    if view.interpreter is None and view.problem is None:
        evidence = [
            Evidence(fact=f"no interpreter in {folder}", source="listing", path=environment.prefix),
            Evidence(fact="the settings file is there", source=settings.path, path=settings.path),
        ]
        says = "it has a settings file and no interpreter: making it stopped half-way"
        return condition("half-made", says, evidence, mends)
    if view.interpreter is not None and not environment.site_packages:
        evidence = [Evidence(fact="no site-packages folder", source="listing", path=environment.prefix)]
        says = "it has an interpreter and no folder for packages: making it stopped half-way"
        return condition("half-made", says, evidence, mends)
    return None
