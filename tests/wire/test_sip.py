"""SIP messages written and read, and digest access by the vectors of the standards."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.wire import WireError, sip
from tarnfell.wire.sip import Challenge, Message

INVITE = Message(
    "INVITE sip:desk@192.0.2.9 SIP/2.0",
    (("Via", "SIP/2.0/UDP 10.0.0.9:5062;branch=z9hG4bK1;rport"), ("v", "SIP/2.0/UDP 10.0.0.1"), ("CSeq", "4 INVITE")),
    "v=0\r\n",
)


def test_messages_are_read_as_they_were_written() -> None:
    data = INVITE.serialize()
    assert data.startswith(b"INVITE sip:desk@192.0.2.9 SIP/2.0\r\nVia: SIP/2.0/UDP 10.0.0.9")
    assert data.endswith(b"Content-Length: 5\r\n\r\nv=0\r\n")
    again = Message.parse(data)
    assert again.headers[:3] == INVITE.headers
    assert (again.body, again.method, again.status) == ("v=0\r\n", "INVITE", None)
    assert again.all("VIA") == ["SIP/2.0/UDP 10.0.0.9:5062;branch=z9hG4bK1;rport", "SIP/2.0/UDP 10.0.0.1"]
    answer = Message("SIP/2.0 401 Unauthorized", (("CSeq", "2 REGISTER"),))
    assert (answer.status, answer.method) == (401, "REGISTER")
    assert sip.length_of(b"l : 12\r\n") == sip.length_of(b"X: y\r\nContent-Length:12\r\n") == 12


@pytest.mark.parametrize(
    "data",
    [b"", b"GET / HTTP/1.1\r\n\r\n", b"OPTIONS sip:x SIP/2.0\r\n", b"OPTIONS sip:x SIP/2.0\r\nno colon\r\n\r\n",
     b"OPTIONS sip:x SIP/2.0\r\n folded: x\r\n\r\n", b"SIP/2.0 20 OK\r\n\r\n", b"\xff\xfe\r\n\r\n",
     b"OPTIONS sip:x SIP/2.0\r\nA: " + b"x" * 4000 + b"\r\n\r\n"],
)  # fmt: skip
def test_what_is_no_message(data: bytes) -> None:
    with pytest.raises(WireError):
        Message.parse(data)


@given(st.binary(max_size=300))
def test_any_bytes_raise_only_the_one_error(data: bytes) -> None:
    for junk in (data, b"OPTIONS sip:x SIP/2.0\r\n" + data + b"\r\n\r\n"):
        try:
            Message.parse(junk)
        except WireError:
            pass
    with pytest.raises(WireError):
        sip.length_of(data.replace(b":", b""))


def test_digest_access_as_rfc_7616_has_it() -> None:
    """§3.9.1, for a method and an address of its own."""
    realm, nonce = "http-auth@example.org", "7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v"
    cnonce = "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ"
    for algorithm, response in (
        ("MD5", "8ca523f5e9506fed4657c9700eebdbec"),
        ("SHA-256", "753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"),
    ):
        challenge = Challenge(realm, nonce, algorithm)
        told = sip.authorization(challenge, "Mufasa", "Circle of Life", "GET", "/dir/index.html", cnonce)
        assert f'response="{response}"' in told
        assert sip.is_met(told, challenge, "Mufasa", "Circle of Life", "GET")
        for wrong in (
            ("Mufasa", "Circle of life", "GET"),
            ("Scar", "Circle of Life", "GET"),
            ("Mufasa", "Circle of Life", "PUT"),
        ):
            assert not sip.is_met(told, challenge, *wrong)
        assert not sip.is_met(told, Challenge(realm, "another", algorithm), "Mufasa", "Circle of Life", "GET")
        assert Challenge.parse(challenge.header()) == challenge


@pytest.mark.parametrize("header", ["", "Basic x", 'Digest realm="r"', 'Digest realm="r", nonce="n", algorithm=SHA-1'])
def test_a_challenge_that_cannot_be_met(header: str) -> None:
    with pytest.raises(WireError):
        Challenge.parse(header)
