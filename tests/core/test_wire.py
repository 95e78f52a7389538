"""The messaging protocol without sockets: signed, framed, checked."""


import pytest

from kalyx.core.kernels.wire import DELIMITER, Session, WireError


def test_a_wrong_signature_is_noticed():
    _, frames = Session(b"theirs").request("kernel_info_reply", {})
    assert Session(b"ours").read(frames).signed_wrongly


@pytest.mark.parametrize("frames", [[], [b"x"], [DELIMITER], [DELIMITER, b"", b"{}", b"{}", b"{}"],
                                    [DELIMITER, b"", b"{", b"{}", b"{}", b"{}"], [DELIMITER, b"", b"[]", b"{}", b"{}", b"{}"],
                                    [DELIMITER, b"", b"\xff", b"{}", b"{}", b"{}"]])  # fmt: skip
def test_what_is_no_message_is_refused(frames):
    with pytest.raises(WireError):
        Session(b"").read(frames)
