"""The messaging protocol without sockets: signed, framed, checked."""

import json

import pytest

from kalyx.core.kernels.wire import DELIMITER, Session, WireError


def test_a_message_is_read_back():
    session = Session(b"key")
    identifier, frames = session.request("execute_request", {"code": "1 + 1"})
    message = session.read([b"identity", *frames])
    assert (message.type, message.id, message.content) == ("execute_request", identifier, {"code": "1 + 1"})
    assert json.loads(frames[2])["version"].startswith("5.")


def test_signatures_follow_the_specification():
    # HMAC-SHA256 over header, parent, metadata, content, as hex; computed here by hand.
    import hashlib
    import hmac

    _, frames = Session(b"secret").request("kernel_info_request", {})
    assert frames[1] == hmac.new(b"secret", b"".join(frames[2:]), hashlib.sha256).hexdigest().encode()
    assert Session(b"").request("kernel_info_request", {})[1][1] == b""


def test_a_wrong_signature_is_noticed():
    _, frames = Session(b"theirs").request("kernel_info_reply", {})
    assert Session(b"ours").read(frames).signed_wrongly


@pytest.mark.parametrize("frames", [[], [b"x"], [DELIMITER], [DELIMITER, b"", b"{}", b"{}", b"{}"],
                                    [DELIMITER, b"", b"{", b"{}", b"{}", b"{}"], [DELIMITER, b"", b"[]", b"{}", b"{}", b"{}"],
                                    [DELIMITER, b"", b"\xff", b"{}", b"{}", b"{}"]])  # fmt: skip
def test_what_is_no_message_is_refused(frames):
    with pytest.raises(WireError):
        Session(b"").read(frames)
