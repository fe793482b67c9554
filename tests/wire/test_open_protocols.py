"""RTP, RTCP, STAMP and NTP time: real packet bytes, round trips, and bytes meant to break them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.wire import WireError, ntp, rtcp, rtp, stamp

u16, u32, u64 = st.integers(0, 0xFFFF), st.integers(0, 0xFFFFFFFF), st.integers(0, (1 << 64) - 1)
KEY = b"k" * 32

# One G.711 µ-law packet as a phone sends it: marker set, sequence 21278, 8 of its 160 bytes of near silence.
G711U = bytes.fromhex("8080531e0001e24011223344") + b"\xff\x7e\xff\xfe\x7f\xff\x7d\xfd"
# A compound as RFC 3550 §6.1 asks: sender report with one block, then SDES with a CNAME.
COMPOUND = bytes.fromhex(
    "81c8000c" "11223344" "e8a1b2c3d4e5f607" "0001e240" "00000102" "0000a140"
    "55667788" "05fffffe" "0001531e" "00000021" "b2c3d4e5" "00010000"
    "81ca0003" "11223344" "0104" "64657369" "0000"
)  # fmt: skip


def test_rtp_packet_of_a_phone() -> None:
    packet = rtp.RtpPacket.parse(G711U)
    assert (packet.payload_type, packet.sequence_number, packet.timestamp) == (0, 21278, 123456)
    assert (packet.ssrc, packet.marker, len(packet.payload)) == (0x11223344, True, 8)
    assert packet.serialize() == G711U


def test_rtp_with_contributors_extension_and_padding() -> None:
    packet = rtp.RtpPacket(
        payload_type=111,
        sequence_number=1,
        timestamp=2,
        ssrc=3,
        csrc=(4, 5),
        extension=bytes.fromhex("bede000110aa0000"),
        payload=b"opus",
        padding_bytes=4,
    )
    assert rtp.RtpPacket.parse(packet.serialize()) == packet


@given(st.builds(rtp.RtpPacket, st.integers(0, 127), u16, u32, u32, st.booleans(), payload=st.binary(max_size=200)))
def test_rtp_round_trip(packet: rtp.RtpPacket) -> None:
    assert rtp.RtpPacket.parse(packet.serialize()) == packet


@given(st.integers(0, 1 << 40), st.integers(-30_000, 30_000))
def test_sequence_numbers_are_extended_across_wraps(highest: int, step: int) -> None:
    true = max(0, highest + step)
    assert rtp.extend_sequence(highest, true & 0xFFFF) == true


@pytest.mark.parametrize(
    ("highest", "number", "extended"),
    [
        (0x1FFFF, 0, 0x20000), (0x20000, 0xFFFF, 0x1FFFF), (0x18000, 0, 0x10000), (0x18001, 0, 0x20000),
        (0x10000, 0x8000, 0x18000), (0x10000, 0x8001, 0x8001), (0x2FFF0, 5, 0x30005), (7, 7, 7),
    ],
)  # fmt: skip
def test_half_a_turn_away_a_sequence_number_is_of_this_turn(highest: int, number: int, extended: int) -> None:
    assert rtp.extend_sequence(highest, number) == extended


def test_rtcp_compound_of_a_phone() -> None:
    report, description = rtcp.parse_compound(COMPOUND)
    assert isinstance(report, rtcp.SenderReport)
    assert (report.ssrc, report.packet_count, report.octet_count) == (0x11223344, 258, 0xA140)
    (block,) = report.blocks
    assert (block.ssrc, block.fraction_lost, block.cumulative_lost) == (0x55667788, 5, -2)
    assert (block.highest_sequence, block.jitter, block.delay_since_last_sr) == (0x1531E, 33, 65536)
    assert isinstance(description, rtcp.OtherPacket)
    assert report.serialize() + description.serialize() == COMPOUND
    assert rtcp.source_description(0x11223344, "desi") == description


blocks = st.builds(
    rtcp.ReportBlock, u32, st.integers(0, 255), st.integers(-0x800000, 0x7FFFFF), u32, u32, u32, u32
)  # fmt: skip
some_blocks = st.lists(blocks, max_size=5).map(tuple)


@given(st.builds(rtcp.SenderReport, u32, u64, u32, u32, u32, some_blocks))
def test_sender_report_round_trip(report: rtcp.SenderReport) -> None:
    assert rtcp.parse_compound(report.serialize()) == [report]


@given(st.builds(rtcp.ReceiverReport, u32, some_blocks))
def test_receiver_report_round_trip(report: rtcp.ReceiverReport) -> None:
    assert rtcp.parse_compound(report.serialize()) == [report]


def test_media_and_reports_on_one_port_are_told_apart() -> None:
    assert rtp.looks_like_rtcp(COMPOUND)
    assert not rtp.looks_like_rtcp(G711U)


@pytest.mark.parametrize("key", [None, KEY])
@given(data=st.data())
def test_stamp_round_trip(key: bytes | None, data: st.DataObject) -> None:
    sender = data.draw(st.builds(stamp.SenderPacket, u32, u64, u16, u16))
    assert stamp.SenderPacket.parse(sender.serialize(key), key) == sender
    reflector = data.draw(st.builds(stamp.ReflectorPacket, u32, u64, u64, u32, u64, st.integers(0, 255), u16, u16, u16))
    assert stamp.ReflectorPacket.parse(reflector.serialize(key), key) == reflector


def test_stamp_sizes_and_places_are_rfc_8762() -> None:
    plain = stamp.SenderPacket(7, 0x0102030405060708).serialize()
    assert (len(plain), plain[:4], plain[4:12]) == (44, b"\0\0\0\7", bytes(range(1, 9)))
    sealed = stamp.SenderPacket(7, 0x0102030405060708).serialize(KEY)
    assert (len(sealed), sealed[:4], sealed[16:24]) == (112, b"\0\0\0\7", bytes(range(1, 9)))
    answer = stamp.ReflectorPacket(1, 2, 3, 4, 5, sender_ttl=61)
    assert (len(answer.serialize()), answer.serialize()[40]) == (44, 61)
    assert (len(answer.serialize(KEY)), answer.serialize(KEY)[80]) == (112, 61)


def test_stamp_is_made_larger_by_padding_that_is_carried_back() -> None:
    """RFC 8972 §4.1: flags, type 1, length of what follows."""
    padding = stamp.extra_padding(1000)
    assert (len(padding), padding[:4]) == (1000, b"\0\1" + (996).to_bytes(2, "big"))
    assert (stamp.extra_padding(3), stamp.extra_padding(4)) == (b"", b"\0\1\0\0")
    for key in (None, KEY):
        sent = stamp.SenderPacket(7, 8).serialize(key)
        assert stamp.SenderPacket.parse(sent + padding, key) == stamp.SenderPacket(7, 8)
        assert stamp.extensions_of(sent + padding, key) == padding
        assert stamp.extensions_of(sent, key) == b""


def test_stamp_with_another_key_or_one_bit_changed_is_turned_away() -> None:
    sealed = bytearray(stamp.SenderPacket(7, 8).serialize(KEY))
    with pytest.raises(WireError, match="authentication failed"):
        stamp.SenderPacket.parse(bytes(sealed), b"another key")
    sealed[20] ^= 1
    with pytest.raises(WireError, match="authentication failed"):
        stamp.SenderPacket.parse(bytes(sealed), KEY)


@given(st.integers(0, 4_200_000_000 * 10**9))
def test_ntp_time_keeps_the_nanosecond(unix_ns: int) -> None:
    assert abs(ntp.to_unix_ns(ntp.from_unix_ns(unix_ns)) - unix_ns) <= 1


PARSERS = {
    "rtp": rtp.RtpPacket.parse,
    "rtcp": rtcp.parse_compound,
    "stamp sender": stamp.SenderPacket.parse,
    "stamp reflector": stamp.ReflectorPacket.parse,
    "stamp sealed": lambda data: stamp.SenderPacket.parse(data, KEY),
}


@pytest.mark.parametrize("name", PARSERS)
@given(data=st.binary(max_size=300))
def test_hostile_bytes_raise_only_the_one_error(name: str, data: bytes) -> None:
    try:
        PARSERS[name](data)
    except WireError:
        pass


@pytest.mark.parametrize("real", [G711U, COMPOUND])
@given(data=st.data())
def test_damaged_packets_raise_only_the_one_error(real: bytes, data: st.DataObject) -> None:
    damaged = bytearray(real[: data.draw(st.integers(0, len(real)))])
    for _ in range(min(3, len(damaged))):
        damaged[data.draw(st.integers(0, len(damaged) - 1))] = data.draw(st.integers(0, 255))
    for parse in PARSERS.values():
        try:
            parse(bytes(damaged))
        except WireError:
            pass
