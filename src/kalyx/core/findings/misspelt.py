"""One or two letters, the case or a hyphen away from a module that is there.

Has it:
    heath has hivescale 2.1
    asked in heath: import hivescael

Only looks like it (a module of exactly that name is elsewhere):
    heath has hivescale 2.1
    orchard has hivescales 1.0
    asked in heath: import hivescales
"""

from __future__ import annotations

from kalyx.core.findings import remedies
from kalyx.core.imports.case import Case
from kalyx.core.machine import Machine
from kalyx.core.records import Evidence, Finding, Remedy
from kalyx.core.words.nearness import distance

YIELDS_TO = ("elsewhere", "base-hidden", "misnamed", "gutted", "unmet", "seat-differs", "name-misleads", "shadowed",
             "startup-broken", "checker-only", "link-broken", "stdlib-gone", "stdlib-newer", "stdlib-part-missing",
             "path-cut", "user-site-off", "other-minor", "optional", "namespace-split", "older-wins",
             "folder-answers", "other-build", "other-platform", "syntax-newer", "syntax-older", "unreadable",
             "damaged", "library-missing", "submodule-gone")  # fmt: skip
FOLDS = True


def look(case: Case, machine: Machine) -> Finding | None:
    missing = case.missing
    if missing is None or case.resolver is None or not case.missing_is_asked:
        return None
    parent, _, word = missing.rpartition(".")
    names = _submodules(case, parent) if parent else case.resolver.top_level_names()
    limit = 2 if len(word) >= 6 else 1 if len(word) >= 3 else 0
    flat = word.lower().replace("_", "")
    ranked = []
    for name in names:
        if name == word or (name.startswith("_") and not word.startswith("_")):
            continue
        same_but_form = name.lower().replace("_", "") == flat
        far = 0 if same_but_form else distance(word.lower(), name.lower(), limit)
        # Two letters off in a word whose beginning differs too is another word.
        if far <= limit and (far < 2 or name[:1].lower() == word[:1].lower()):
            ranked.append((far, name))
    if not ranked:
        return None
    far, nearest = min(ranked)
    full = f"{parent}.{nearest}" if parent else nearest
    place = case.resolver.resolve(full).place
    if place is None:
        return None
    says = "but for case or underscores it is" if far == 0 else f"{far} letter{'s' * (far > 1)} from"
    return Finding(
        cause="misspelt",
        certainty="likely",
        says=f"there is no {missing}; {says} {full}, which is here",
        evidence=[Evidence(fact=f"{full} is here", source=place.path, path=place.path or None)],
        remedies=[Remedy(says="write it as it is called", steps=[remedies.by_hand(f"write: import {full}")])],
    )


def _submodules(case: Case, parent: str) -> set[str]:
    """The names that answer below a package."""
    assert case.resolver is not None
    place = case.resolver.resolve(parent).place
    found: set[str] = set()
    for portion in place.portions if place is not None else []:
        for name in case.resolver.facts.names(portion):
            stem = name.split(".")[0]
            is_folder = case.resolver.facts.is_folder(case.resolver.facts.join(portion, name))
            if stem.isidentifier() and (is_folder or name.endswith((".py", ".so", ".pyd"))):
                found.add(stem)
    return found - {"__init__", "__pycache__"}
