"""The notebook messaging protocol, version 5, without sockets.

Strategy: a ``Session`` knows the key and makes and reads frames; nothing here
waits, connects or starts anything. A message on the wire is: identities,
``<IDS|MSG>``, the HMAC signature in hex over the four parts that follow, then
header, parent header, metadata and content as JSON, then buffers ("Messaging
in the notebook system", section "The wire protocol").
"""

from __future__ import annotations

import hashlib
import hmac
import json
from datetime import datetime, timezone
from uuid import uuid4

from msgspec import Struct

from kalyx.core.text.nested import nested

DELIMITER = b"<IDS|MSG>"
PROTOCOL_VERSION = "5.3"
MESSAGE_LIMIT = 16 * 1024 * 1024


class WireError(Exception):
    """Frames that are no message of this protocol, or whose signature is wrong."""


class Message(Struct):
    """One message as read: its type, what it answers, and its content."""

    type: str
    id: str
    parent: str | None
    content: dict[str, object]
    signed_wrongly: bool = False


def new_id() -> str:
    """A new identifier for a message or session."""
    return uuid4().hex


class Session:
    """Signs, frames and reads messages with one key."""

    def __init__(self, key: bytes, user: str = "kalyx") -> None:
        self.key = key
        self.user = user
        self.id = new_id()

    def sign(self, parts: list[bytes]) -> bytes:
        """The signature of the four JSON parts; empty where the key is empty (unsigned)."""
        if not self.key:
            return b""
        code = hmac.new(self.key, digestmod=hashlib.sha256)
        for part in parts:
            code.update(part)
        return code.hexdigest().encode("ascii")

    def request(self, kind: str, content: dict[str, object]) -> tuple[str, list[bytes]]:
        """A new request: its id and its frames."""
        identifier = new_id()
        header = {
            "msg_id": identifier,
            "session": self.id,
            "username": self.user,
            "date": datetime.now(timezone.utc).isoformat(),
            "msg_type": kind,
            "version": PROTOCOL_VERSION,
        }
        parts = [json.dumps(part).encode("utf-8") for part in (header, {}, {}, content)]
        return identifier, [DELIMITER, self.sign(parts), *parts]

    def read(self, frames: list[bytes]) -> Message:
        """The message in these frames. Raises WireError for what is none.

        A message whose signature is wrong is returned with that mark and
        without its content: it may be from anyone.
        """
        if DELIMITER not in frames:
            raise WireError("frames without the delimiter")
        after = frames[frames.index(DELIMITER) + 1 :]
        if len(after) < 5:
            raise WireError(f"{len(after)} parts after the delimiter, 5 are needed")
        if sum(map(len, after)) > MESSAGE_LIMIT:
            raise WireError(f"a message larger than {MESSAGE_LIMIT} bytes")
        signature, parts = after[0], after[1:5]
        if not hmac.compare_digest(signature, self.sign(parts)):
            return Message("", "", None, {}, signed_wrongly=True)
        try:
            header, parent, _, content = (json.loads(part.decode("utf-8")) for part in parts)
        except (ValueError, RecursionError) as error:
            raise WireError(f"a part that is no JSON: {error}") from None
        if not isinstance(header, dict) or not isinstance(content, dict):
            raise WireError("a header or content that is not an object")
        answers = nested(parent, "msg_id")
        answers = answers if isinstance(answers, str) else None
        return Message(str(header.get("msg_type")), str(header.get("msg_id")), answers, content)
