"""Outside text made fit for a terminal: control characters and undecodable bytes written out."""

from __future__ import annotations

from kalyx.core.text.redaction import redacted


def visible(text: str) -> str:
    """Outside text with control characters and undecodable bytes written out, and without secrets, fit to be shown."""
    text = redacted(text)
    if text.isprintable():
        return text
    out = []
    for character in text:
        code = ord(character)
        if character.isprintable():
            out.append(character)
        elif 0xDC80 <= code <= 0xDCFF:
            out.append(f"\\x{code - 0xDC00:02x}")
        elif code < 0x100:
            out.append({"\n": "\\n", "\t": "\\t", "\r": "\\r"}.get(character, f"\\x{code:02x}"))
        else:
            out.append(f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}")
    return "".join(out)
