"""Numbers in text from outside: ASCII digits, and not too many: neither ``²`` nor 5,000 digits are a number."""

from __future__ import annotations

_DIGITS = 15


def is_number(text: str) -> bool:
    """Whether a text is a whole number of a sensible size."""
    return text.isascii() and text.isdecimal() and len(text) <= _DIGITS


def number_of(text: str) -> int | None:
    """The whole number that a text is; None where it is none."""
    return int(text) if is_number(text) else None


def are_numbers(text: str) -> bool:
    """Whether a text is numbers with points between them, as versions are: ``3``, ``3.11``."""
    return bool(text) and all(is_number(part) for part in text.split("."))


def exit_status(status: int | None, system: str) -> str:
    """The status that a program ended with as its system writes such numbers: in Windows an error's in hexadecimal."""
    if status is None or system != "windows" or 0 <= status <= 0xFFFF:
        return str(status)
    return f"0x{status & 0xFFFFFFFF:08X}"


def leading_number(text: str) -> int:
    """The number that a text begins with; nought where it begins with none (``7rc1``: 7)."""
    digits = ""
    for character in text:
        if not ("0" <= character <= "9") or len(digits) >= _DIGITS:
            break
        digits += character
    return int(digits or 0)
