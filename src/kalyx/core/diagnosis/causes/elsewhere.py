"""The package is installed in another environment than the one that runs.

How to tell: an environment that was read has the module, and the one that runs has not.
Fix: install the package here too, or run the environment that has it.

Example:
    orchard has hivescale 2.1
    asked in heath: import hivescale

Not this (nothing has it):
    orchard has nectarflow 1.0
    asked in heath: import hivescale
"""

from __future__ import annotations

from kalyx.core.diagnosis.shared.holders import holders, proof, propose, ways_out
from kalyx.core.imports.case import Missing
from kalyx.core.machine import Machine
from kalyx.core.model.records import Evidence, Finding

SUPPRESSED_BY_OTHERS = True

LOOKS_AT = "missing"


def look(case: Missing, machine: Machine) -> Finding | None:
    result = holders(case, machine)
    if not result:
        return None
    environment, location = result[0]
    evidence, requirement = proof(case, machine, environment, location)
    for other, other_place in result[1:4]:
        evidence.append(Evidence.at(other_place.path, f"also in {other.name}"))
    propose(case, machine, "elsewhere", environment, location)
    message = f"{case.missing} is installed in {environment.name}, not in {case.here}"
    return Finding.proven("elsewhere", message, evidence, ways_out(case, machine, environment, requirement))
