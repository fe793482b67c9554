"""DNS, STUN and ICMP as they stand in their RFCs, and anything else turned away."""

from __future__ import annotations

import contextlib
import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.standin import names
from tarnfell.wire import WireError, dns, icmp, stun

TRANSACTION = bytes.fromhex("b7e7a701bc34d686fa87dfae")
RFC5769_IPV4 = bytes.fromhex(
    "0101003c2112a442b7e7a701bc34d686fa87dfae8022000b7465737420766563746f7220002000080001a147e112a643"
    "000800142b91f599fd9e90c38c7489f92af9ba53f06be7d780280004c07d4c96"
)
RFC5769_IPV6 = bytes.fromhex(
    "010100482112a442b7e7a701bc34d686fa87dfae8022000b7465737420766563746f7220002000140002a147"
    "0113a9faa5d3f179bc25f4b5bed2b9d900080014a382954e4be67bf11784c97c8292c275bfe3ed4180280004c8fb0b4c"
)

REFUSED = struct.pack("!HHI", 0x0111, 8, stun.COOKIE) + TRANSACTION + bytes.fromhex("0009000400000414")


def test_stun_answers_of_rfc_5769() -> None:
    """§2.2 and §2.3: the same port, an IPv4 and an IPv6 address."""
    assert stun.answer(RFC5769_IPV4, TRANSACTION).mapped == stun.Endpoint("192.0.2.1", 32853)
    assert stun.answer(RFC5769_IPV6, TRANSACTION).mapped == stun.Endpoint("2001:db8:1234:5678:11:2233:4455:6677", 32853)


@pytest.mark.parametrize(
    ("attributes", "number"),
    [
        ("", 0),
        ("0009000400000414", 420),
        ("0009000b00000414556e6b6e6f776e00", 420),  # with its reason in words, as servers tell it
        ("0009000400000601", 601),
        ("0009000200000000", 0),
    ],
)
def test_stun_refusals_have_their_number_where_one_is_told(attributes: str, number: int) -> None:
    body = bytes.fromhex(attributes)
    refused = struct.pack("!HHI", 0x0111, len(body), stun.COOKIE) + TRANSACTION + body
    with pytest.raises(WireError, match=rf"refuses \({number}\)"):
        stun.answer(refused, TRANSACTION)


def test_stun_request_and_its_wish_for_another_address() -> None:
    assert stun.request(TRANSACTION) == bytes.fromhex("000100002112a442") + TRANSACTION
    assert stun.request(TRANSACTION, change_address=True)[20:] == bytes.fromhex("0003000400000004")
    assert stun.request(TRANSACTION, change_port=True)[20:] == bytes.fromhex("0003000400000002")


def test_stun_tells_the_plain_address_and_the_second_one() -> None:
    body = bytes.fromhex("00010008000111c1cb007105") + bytes.fromhex("802c000800011194cb007106")
    told = stun.answer(struct.pack("!HHI", 0x0101, len(body), stun.COOKIE) + TRANSACTION + body, TRANSACTION)
    assert told == stun.Bound(stun.Endpoint("203.0.113.5", 4545), stun.Endpoint("203.0.113.6", 4500))


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (RFC5769_IPV4[:19], "cut short"),
        (RFC5769_IPV4[:-1], "cut short"),
        (b"\0\1" + RFC5769_IPV4[2:], "no answer to this request"),
        (RFC5769_IPV4[:8] + b"x" * 12 + RFC5769_IPV4[20:], "no answer to this request"),
        (struct.pack("!HHI", 0x0101, 0, stun.COOKIE) + TRANSACTION, "names no address"),
        (
            struct.pack("!HHI", 0x0111, 8, stun.COOKIE) + TRANSACTION + bytes.fromhex("0009000400000414"),
            r"refuses \(420\)",
        ),
    ],
)
def test_stun_answers_that_are_none(data: bytes, says: str) -> None:
    with pytest.raises(WireError, match=says):
        stun.answer(data, TRANSACTION)


def test_a_question_as_rfc_1035_has_it() -> None:
    assert dns.question(0x1234, "meet.example") == bytes.fromhex("123401000001000000000000") + (
        b"\4meet\7example\0\0\1\0\1"
    )
    assert dns.question(1, "bücher.example", dns.AAAA)[12:] == b"\x0dxn--bcher-kva\7example\0\0\x1c\0\1"


def reply(
    rcode: int = 0, flags: int = 0x8180, records: bytes = b"", count: int = 0, name: bytes = b"\4meet\7example\0"
) -> bytes:
    return struct.pack("!HHHHHH", 7, flags | rcode, 1, count, 0, 0) + name + b"\0\1\0\1" + records


def record(kind: int, body: bytes) -> bytes:
    return b"\xc0\x0c" + struct.pack("!HHIH", kind, 1, 60, len(body)) + body


def test_answers_name_addresses_in_their_order_past_other_records() -> None:
    records = record(5, b"\3www\xc0\x0c") + record(1, bytes([192, 0, 2, 9])) + record(1, bytes([192, 0, 2, 8]))
    told = dns.answer(reply(records=records, count=3), 7, "MEET.example")
    assert told == dns.Answer(0, False, ("192.0.2.9", "192.0.2.8"))
    assert dns.answer(reply(3), 7, "meet.example").rcode == dns.NXDOMAIN
    assert dns.answer(reply(flags=0x8380), 7, "meet.example").truncated
    assert dns.answer(struct.pack("!HHHHHH", 7, 0x8001, 0, 0, 0, 0), 7, "meet.example").rcode == 1


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"\0" * 11, "cut short"),
        (reply(flags=0x0100), "no answer to this question"),
        (reply(name=b"\4meat\7example\0"), "another question"),
        (reply(records=record(1, b"\1\2\3\4")[:-1], count=1), "record is cut short"),
        (reply(records=b"\4meet", count=1), "name does not end"),
    ],
)
def test_answers_that_are_none(data: bytes, says: str) -> None:
    with pytest.raises(WireError, match=says):
        dns.answer(data, 7, "meet.example")
    with pytest.raises(WireError):
        dns.answer(reply(), 8, "meet.example")


@pytest.mark.parametrize("name", ["", "a..b", "x" * 64 + ".example", "a." * 140])
def test_names_that_cannot_be_asked_for(name: str) -> None:
    with pytest.raises(WireError, match="no name that can be asked for"):
        dns.question(1, name)


def test_the_stand_in_knows_its_names_and_denies_the_others() -> None:
    known = {"meet.example": "192.0.2.7"}
    for name, kind, told in (
        ("meet.example", dns.A, dns.Answer(0, False, ("192.0.2.7",))),
        ("meet.example", dns.AAAA, dns.Answer(0, False, ())),
        ("other.example", dns.A, dns.Answer(dns.NXDOMAIN, False, ())),
    ):
        said = names.answer(dns.question(9, name, kind), known)
        assert said is not None
        assert dns.answer(said, 9, name, kind) == told
    assert names.answer(b"\0" * 12, known) is None


@given(st.binary(max_size=200))
def test_any_bytes_are_read_or_turned_away(data: bytes) -> None:
    for read in (
        lambda: dns.answer(data, 7, "meet.example"),
        lambda: stun.answer(data, TRANSACTION),
        lambda: icmp.Echo.parse_reply(data),
        lambda: icmp.quoted(data),
        lambda: icmp.without_ip_head(data),
    ):
        with contextlib.suppress(WireError):
            read()
    names.answer(data, {})


def test_an_echo_and_its_checksum() -> None:
    """RFC 1071 §3's own numbers, and a packet whose sum with its checksum is nothing."""
    assert icmp.checksum(bytes.fromhex("0001f203f4f5f6f7")) == 0xFFFF - 0xDDF2
    packet = icmp.Echo(0x1234, 7, b"abc").serialize()
    assert packet[:2] == b"\x08\0"
    assert icmp.checksum(packet) == 0
    assert icmp.Echo(1, 2).serialize(v6=True)[:2] == b"\x80\0"
    assert icmp.Echo.parse_reply(b"\0\0\0\0\x12\x34\0\7abc") == icmp.Echo(0x1234, 7, b"abc")
    for other in (packet, b"\x81\0\0\0\0\1\0\2", b"\0\1\0\0\0\1\0\2"):
        with pytest.raises(WireError, match="no answer to an echo"):
            icmp.Echo.parse_reply(other)


def test_an_error_quotes_marking_and_port() -> None:
    inner = (
        bytes.fromhex("45b8003c000040000111")
        + b"\0\0"
        + bytes([192, 0, 2, 1, 198, 51, 100, 2])
        + b"\x9c\x40\x4e\x20\0\x28\0\0"
    )
    told = icmp.quoted(b"\x0b\0\0\0\0\0\0\0" + inner)
    assert (told.kind, told.dscp, told.protocol, told.next_mtu) == (icmp.TIME_EXCEEDED, 46, 17, None)
    assert (told.source, told.destination) == (bytes([192, 0, 2, 1]), bytes([198, 51, 100, 2]))
    assert told.payload[:4] == b"\x9c\x40\x4e\x20"
    assert icmp.quoted(b"\x03\x04\0\0\0\0\x05\x78" + inner).next_mtu == 1400
    assert icmp.quoted(b"\x03\x04\0\0\0\0\0\0" + inner).next_mtu is None  # of before RFC 1191
    assert icmp.quoted(b"\x03\x03\0\0\0\0\x05\x78" + inner).next_mtu is None
    for cut in (inner[:27], b"\x65" + inner[1:]):
        with pytest.raises(WireError, match="cut short"):
            icmp.quoted(b"\x0b\0\0\0\0\0\0\0" + cut)


def test_a_server_reads_what_is_asked_and_tells_where_it_came_from() -> None:
    transaction = bytes(range(12))
    for address in ("203.0.113.9", "2001:db8::9"):
        told = stun.success(transaction, stun.Endpoint(address, 61_000))
        assert stun.answer(told, transaction).mapped == stun.Endpoint(address, 61_000)
        assert len(told) <= stun.PADDED_BYTES  # never more bytes out than came in
    assert stun.asked(stun.padded_request(transaction)) == stun.Asked(transaction, None)
    assert stun.asked(stun.padded_request(transaction, 6000)) == stun.Asked(transaction, 6000)
    assert len(stun.padded_request(transaction)) == len(stun.padded_request(transaction, 1)) == stun.PADDED_BYTES
    assert stun.asked(stun.request(transaction)) == stun.Asked(transaction, None)


@pytest.mark.parametrize("cut", [*range(24), 63])
def test_a_question_cut_short_is_none(cut: int) -> None:
    with pytest.raises(WireError):
        stun.asked(stun.padded_request(bytes(12), 7)[:cut])


def test_what_is_no_question_is_none() -> None:
    whole = bytearray(stun.padded_request(bytes(12), 7))
    for place, value in ((0, 1), (4, 0), (24, 0)):
        spoilt = bytearray(whole)
        spoilt[place] = value
        if place == 24:
            spoilt[24:26] = b"\0\0"  # port 0
        with pytest.raises(WireError):
            stun.asked(bytes(spoilt))
    with pytest.raises(WireError):
        stun.asked(bytes(whole) + b"\0")
