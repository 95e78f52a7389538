"""Patterns for text that anyone may have written: their work grows with its length, not with the square of it."""

import importlib
import pkgutil
import re

try:
    from re import _constants as sre_constants
    from re import _parser as sre_parse
except ImportError:  # before 3.11
    import sre_constants
    import sre_parse
import signal
from pathlib import Path

import pytest

import kalyx
from kalyx.core.text.patterns import pattern as lazily
from tests.equipment import LONG

LAZY = type(lazily(""))

UNITS = ["a", " ", "\t", "a ", "/", "/a", "a.", "a-", '"', "'", "(", "[", "{", "\\", "=", "a=", "--x ", "token", "token ", "password=", "a://",
         "https://a", "alias -a ", "1.", "é", ".so", "\n", "a\n", 'File "', "'a'", "[a", "import x ", "version `", "lib", "x.y: ", "a,", "==1,", "a@b", "${a", "-- "]  # fmt: skip
HEADS = ["", "a", "a=", "a[", "a;", 'File "', "undefined symbol: ", "install ", "a(", "token", "${env:"]
# How long a text is, and how many seconds of the processor a pattern may take for one: the square of the length takes more.
LENGTH, SECONDS = 12_000, 0.7


def patterns():
    """Every pattern of a module, with how it is used there: from the start of a text, or anywhere in it."""
    for found in pkgutil.walk_packages(kalyx.__path__, "kalyx."):
        if "standin" in found.name or found.name.endswith(("__main__", "probe")):
            continue
        module = importlib.import_module(found.name)
        source = Path(module.__file__).read_text()
        for name, value in vars(module).items():
            rows = value if isinstance(value, (list, tuple)) else [value]
            for number, row in enumerate(rows):
                for item in row if isinstance(row, tuple) else [row]:
                    if isinstance(item, (re.Pattern, LAZY)):
                        only_first = re.search(rf"\b{name}\.(full)?match\(", source) and not re.search(rf"\b{name}\.(search|sub|find)", source)
                        yield pytest.param(item, bool(only_first), id=f"{found.name}.{name}[{number}]")


FOUND = list(patterns())


def nested(parsed, inside: bool = False) -> bool:
    """Whether a repetition without end stands within another, where both can take the same text."""
    for operation, value in parsed:
        name = str(operation)
        if name in ("MAX_REPEAT", "MIN_REPEAT"):
            _, most, inner = value
            endless = most == sre_constants.MAXREPEAT
            if endless and inside and len(inner) == 1:
                return True
            # What a part begins with that is always there parts one turn from the next.
            if nested(inner, inside or (endless and str(inner[0][0]) != "LITERAL")):
                return True
        elif name == "SUBPATTERN" and nested(value[-1], inside) or name == "BRANCH" and any(nested(item, inside) for item in value[1]) or name in ("ASSERT", "ASSERT_NOT") and nested(value[1], False):
            return True
    return False


@pytest.mark.parametrize(("pattern", "only_first"), FOUND)
def test_no_repetition_in_a_repetition(pattern, only_first):
    assert not nested(sre_parse.parse(pattern.pattern, pattern.flags & ~re.DEBUG)), pattern.pattern


def test_a_repetition_in_a_repetition_is_seen():
    assert nested(sre_parse.parse(r"(?:a*)*b")) and nested(sre_parse.parse(r"(\w+\s?)+x")) and not nested(sre_parse.parse(r"(?:,\s*a)*"))


class TooLong(Exception):
    pass




def test_patterns_are_found():
    assert len(FOUND) > 80


@pytest.mark.parametrize(("pattern", "only_first"), FOUND)
def test_no_pattern_takes_long(pattern, only_first):
    def stop(*_):
        raise TooLong

    kept = signal.signal(signal.SIGVTALRM, stop)
    try:
        for head in HEADS if LONG else HEADS[:3]:
            for unit in UNITS:
                text = head + (unit * LENGTH)[:LENGTH] + "\x01"
                given = text.encode() if isinstance(pattern.pattern, bytes) else text
                signal.setitimer(signal.ITIMER_VIRTUAL, SECONDS)
                (pattern.match if only_first else pattern.search)(given)
                signal.setitimer(signal.ITIMER_VIRTUAL, 0)
    except TooLong:
        pytest.fail(f"{pattern.pattern!r} takes more than {SECONDS} s on {head!r} and {unit!r} {LENGTH} long")
    finally:
        signal.setitimer(signal.ITIMER_VIRTUAL, 0)
        signal.signal(signal.SIGVTALRM, kept)
