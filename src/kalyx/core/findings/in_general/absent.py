"""Nothing that provides it is found in any environment that Kalyx knows on this machine.

Has it:
    asked in heath: import broodmap

Only looks like it (it is in another environment):
    orchard has broodmap 1.0
    asked in heath: import broodmap
"""

from __future__ import annotations

from kalyx.core.findings import remedies
from kalyx.core.findings.shared.brought import brought_by, listed_part
from kalyx.core.findings.shared.failing import asked_here
from kalyx.core.imports.case import Missing
from kalyx.core.machine import Machine
from kalyx.core.packages.removals import requirement_with
from kalyx.core.records import Evidence, Finding, Remedy

FOLDS = True


def look(case: Missing, machine: Machine) -> Finding | None:
    missing = case.missing
    searched = len(case.search.entries)
    where = case.environment.name if case.environment else case.interpreter.prefix
    evidence = [
        Evidence(fact=f"no {missing} on the search path of {where}", source=f"{searched} entries read"),
        Evidence(
            fact=f"no environment known here has {missing.split('.')[0]}",
            source=f"{len(machine.all_environments)} environments read",
        ),
    ]
    if not case.missing_is_asked:
        evidence = asked_here(case, missing) + evidence
    known = listed_part(case.module if case.missing_is_asked else missing)
    if known is None and "." not in missing:
        known = brought_by(machine, missing)
    if known is not None:
        evidence.append(Evidence(fact=f"{missing} is brought by {known.name}", source=known.source, path=known.path))
        mend = remedies.install(machine, case.interpreter, requirement_with(missing, known.name))
    else:
        line = (
            f"find out which distribution brings {missing} (nothing that Kalyx read says so);"
            f" then install that one: {machine.line([case.interpreter.executable, '-m', 'pip', 'install'])} NAME"
        )
        mend = Remedy(says="its distribution is not known here", steps=[remedies.by_hand(line)])
    return Finding(
        cause="absent",
        certainty="proven" if case.trial is not None else "likely",
        says=f"{missing} is nowhere that Kalyx knows: {len(machine.all_environments)} environments were read",
        evidence=evidence,
        remedies=[mend],
    )
