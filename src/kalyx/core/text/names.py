"""What may be a name, a version, a requirement: checked by the standards before it becomes part of a line.

Core metadata ("Name"), the version specifiers of PEP 440, dependency specifiers without a place to fetch from
(PEP 508), and module names as the language has them. What does not fit is damaged or hostile, and is shown as that.
"""

from __future__ import annotations

import re

from kalyx.core.text.patterns import pattern

_NAME = r"[A-Za-z0-9](?:[A-Za-z0-9._-]{0,300}[A-Za-z0-9])?"
_VERSION = r"[A-Za-z0-9](?:[A-Za-z0-9.!+_-]{0,300}[A-Za-z0-9])?"
_CLAUSE = rf"(?:===?|~=|!=|<=?|>=?)\s{{0,9}}{_VERSION}(?:\.\*)?"
_DISTRIBUTION = pattern(_NAME)
_REQUIREMENT = pattern(
    rf"{_NAME}\s*(?:\[\s*{_NAME}(?:\s{{0,9}},\s{{0,9}}{_NAME})*\s*\])?\s*"
    rf"(?:\(?\s*{_CLAUSE}(?:\s{{0,9}},\s{{0,9}}{_CLAUSE})*\s*\)?)?"
)
_LONGEST = 300


def is_distribution_name(text: str) -> bool:
    """Whether a distribution may be called so."""
    return len(text) <= _LONGEST and _DISTRIBUTION.fullmatch(text) is not None


def is_version(text: str) -> bool:
    """Whether a text is a version that can follow a comparison operator."""
    return len(text) <= _LONGEST and re.fullmatch(_VERSION, text) is not None


def is_requirement(text: str) -> bool:
    """Whether a text is a name with, at most, extras and versions: no option, no path, no marker."""
    return len(text) <= _LONGEST and _REQUIREMENT.fullmatch(text) is not None


def is_module_name(text: str) -> bool:
    """Whether this can stand in an import statement."""
    parts = text.split(".")
    return len(parts) <= 100 and len(text) <= _LONGEST and all(part.isidentifier() for part in parts)


def canonical(name: str) -> str:
    """A distribution's name in the form that compares (PEP 503)."""
    plain = name.lower().replace("_", "-").replace(".", "-")
    while "--" in plain:
        plain = plain.replace("--", "-")
    return plain
