"""SIP messages written and read, and digest access by the vectors of the standards."""

from __future__ import annotations

import hashlib

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


def test_a_challenge_without_quality_is_met_as_rfc_2069_has_it() -> None:
    challenge = sip.Challenge.parse('Digest realm="kam.example", nonce="abc", opaque="o1"')
    assert (challenge.algorithm, challenge.has_qop, challenge.opaque) == ("MD5", False, "o1")
    header = sip.authorization(challenge, "desk", "secret", "REGISTER", "sip:kam.example", "unused")

    def md5(text: str) -> str:
        return hashlib.md5(text.encode()).hexdigest()

    wanted = md5(f"{md5('desk:kam.example:secret')}:abc:{md5('REGISTER:sip:kam.example')}")
    assert f'response="{wanted}"' in header
    assert 'opaque="o1"' in header
    assert "qop" not in header
    assert "cnonce" not in header
    assert sip.Challenge.parse('Digest realm="r", nonce="n", qop="auth-int, auth"').has_qop
    with pytest.raises(WireError):
        sip.Challenge.parse('Digest realm="r", nonce="n", qop="auth-int"')


def test_messages_of_a_stream_are_cut_by_their_lengths() -> None:
    one = sip.Message("OPTIONS sip:x SIP/2.0", (("CSeq", "1 OPTIONS"),), "v=0\r\n").serialize()
    two = sip.Message("BYE sip:x SIP/2.0", (("CSeq", "2 BYE"),)).serialize()
    for cut in range(len(one) + len(two) + 1):
        whole, rest = sip.whole_messages((one + two)[:cut])
        assert whole == [one, two][: (cut >= len(one)) + (cut >= len(one) + len(two))]
        assert b"".join(whole) + rest == (one + two)[:cut]
    endless = b"OPTIONS sip:x SIP/2.0\r\nCSeq: 1 OPTIONS\r\n\r\nabc"
    assert sip.whole_messages(endless) == ([endless], b"")


@pytest.mark.parametrize(
    ("text", "found"),
    [
        (sip.description("192.0.2.7", 4000), ("192.0.2.7", 4000)),
        (sip.description("2001:db8::7", 4000), ("2001:db8::7", 4000)),
        ("v=0\r\nc=IN IP4 192.0.2.1\r\nm=audio 5 RTP/AVP 8\r\nc=IN IP4 192.0.2.2\r\n", ("192.0.2.2", 5)),
        ("v=0\r\nc=IN IP4 192.0.2.1/127\r\nm=video 9 RTP/AVP 9\r\nm=audio 7 RTP/AVP 8\r\n", ("192.0.2.1", 7)),
        ("v=0\r\nm=audio 7 RTP/AVP 8\r\nm=video 9 RTP/AVP 9\r\nc=IN IP4 192.0.2.9\r\n", None),
        ("v=0\r\nc=IN IP4 192.0.2.1\r\nm=audio 0 RTP/AVP 8\r\n", None),
        ("v=0\r\nc=IN IP4 192.0.2.1\r\n", None),
        ("", None),
    ],
)
def test_where_a_description_wants_media(text: str, found: tuple[str, int] | None) -> None:
    assert sip.media_of(text) == found


@pytest.mark.parametrize(
    ("value", "uri"),
    [
        ('"Desk" <sip:desk@192.0.2.1:5060;transport=udp>;expires=60', "sip:desk@192.0.2.1:5060;transport=udp"),
        ("sip:desk@192.0.2.1;expires=60", "sip:desk@192.0.2.1"),
        ("", ""),
    ],
)
def test_the_address_in_a_contact(value: str, uri: str) -> None:
    assert sip.uri_of(value) == uri


def test_an_answer_goes_back_the_way_the_request_came() -> None:
    asked = sip.Message(
        "INVITE sip:x SIP/2.0",
        (
            ("Via", "SIP/2.0/UDP p;branch=1;rport"), ("v", "SIP/2.0/UDP a;branch=2;rport"), ("From", "<sip:a>;tag=1"),
            ("To", "<sip:x>"), ("Call-ID", "c"), ("CSeq", "4 INVITE"), ("Record-Route", "<sip:p2>"),
            ("Record-Route", "<sip:p1>"),
        ),
    )  # fmt: skip
    told = sip.answer(asked, "200 OK", ("192.0.2.3", 5), "t")
    assert told.all("via") == [
        "SIP/2.0/UDP p;branch=1;rport=5;received=192.0.2.3", "SIP/2.0/UDP a;branch=2;rport",
    ]  # fmt: skip
    assert told.all("record-route") == ["<sip:p2>", "<sip:p1>"]
    assert (told.get("to"), told.get("from"), told.get("cseq")) == ("<sip:x>;tag=t", "<sip:a>;tag=1", "4 INVITE")
    again = sip.answer(told, "200 OK", ("192.0.2.3", 5), "other")
    assert again.get("to") == "<sip:x>;tag=t"
