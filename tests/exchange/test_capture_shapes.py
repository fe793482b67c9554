"""Captures as they come from the field: wrapped, mirrored, restarted, held, with digits, noise and other codecs."""

from __future__ import annotations

import io
import socket
import struct
from collections.abc import Callable

import numpy as np
import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import StreamQuality, criterion_for, judge
from tarnfell.exchange.capture import FoundStreams, find_streams
from tarnfell.exchange.streams import FoundStream
from tarnfell.wire.rtp import RtpPacket

START_US = 1_795_000_000_000_000
Sent = list[tuple[int, bytes]]
"""Time of arrival (µs) and bare IPv4 packet."""


def ip(
    payload: bytes, mark: int = 46, source: str = "192.0.2.10", target: str = "198.51.100.20", port: int = 20000
) -> bytes:
    udp = struct.pack("!4H", port, 30000, 8 + len(payload), 0) + payload
    head = struct.pack("!BBHHHBBH", 0x45, mark << 2, 20 + len(udp), 0, 0, 60, 17, 0)
    return head + socket.inet_aton(source) + socket.inet_aton(target) + udp


def rtp(number: int, timestamp: int, kind: int = 8, size: int = 160, ssrc: int = 7, marker: bool = False) -> bytes:
    return RtpPacket(kind, number % 65536, timestamp % 2**32, ssrc, marker, payload=bytes(size)).serialize()


def steady(count: int, first: int = 100, at_us: int = START_US, ticks: int = 5000, **how: int) -> Sent:
    return [
        (at_us + 20_000 * i + 30_000, ip(rtp(first + i, ticks + 160 * i, **how)))  # type: ignore[arg-type]
        for i in range(count)
    ]


def pcap(
    sent: Sent, link: int = 101, dress: Callable[[bytes], bytes] = bytes, order: str = "<", nano: bool = False
) -> bytes:
    out = [struct.pack(order + "IHHIIII", 0xA1B23C4D if nano else 0xA1B2C3D4, 2, 4, 0, 0, 65535, link)]
    for at, packet in sent:
        data = dress(packet)
        fraction = at % 1_000_000 * (1000 if nano else 1)
        out += [struct.pack(order + "4I", at // 1_000_000, fraction, len(data), len(data)), data]
    return b"".join(out)


def read(data: bytes) -> FoundStreams:
    return find_streams(io.BytesIO(data))


def one(sent: Sent) -> FoundStream:
    (stream,) = read(pcap(sorted(sent))).streams
    return stream


def judged(stream: FoundStream) -> StreamQuality:
    return judge(stream.trace, criterion_for(find_codec("g711a"), 20))


# Wrapped

MAC = bytes(12)
DRESS: dict[str, tuple[int, Callable[[bytes], bytes]]] = {
    "PPPoE": (1, lambda p: MAC + b"\x88\x64\x11\x00\x00\x01" + struct.pack("!H", len(p) + 2) + b"\x00\x21" + p),
    "PPPoE in a VLAN": (
        1,
        lambda p: MAC + b"\x81\0\0\x07\x88\x64\x11\0\0\x01" + struct.pack("!H", len(p) + 2) + b"\0\x21" + p,
    ),
    "two VLAN tags": (1, lambda p: MAC + b"\x88\xa8\x00\x05\x81\x00\x00\x06\x08\x00" + p),
    "MPLS": (1, lambda p: MAC + b"\x88\x47\x00\x01\x00\x40\x00\x02\x01\x40" + p),
    "802.3 with SNAP": (1, lambda p: MAC + struct.pack("!H", len(p) + 8) + b"\xaa\xaa\x03\x00\x00\x00\x08\x00" + p),
    "PPP": (9, lambda p: b"\xff\x03\x00\x21" + p),
    "PPP, short": (9, lambda p: b"\x21" + p),
    "PPP in HDLC": (50, lambda p: b"\xff\x03\x00\x21" + p),
    "HDLC": (104, lambda p: b"\x0f\x00\x08\x00" + p),
    "loopback, big endian": (108, lambda p: b"\x00\x00\x00\x02" + p),
    "cooked with VLAN": (113, lambda p: bytes([0, 0, 0, 1, 0, 6]) + bytes(8) + b"\x81\x00\x00\x05\x08\x00" + p),
    "cooked 2 with VLAN": (276, lambda p: b"\x81\x00" + bytes(18) + b"\x00\x05\x08\x00" + p),
    "radiotap": (
        127,
        lambda p: b"\0\0\x08\0" + bytes(4) + b"\x88\x01" + bytes(24) + b"\xaa\xaa\x03\0\0\0\x08\0" + p,
    ),
    "frame check sequence": (1 | 0x24000000, lambda p: MAC + b"\x08\x00" + p + b"\xde\xad\xbe\xef"),
    "padding to 60 bytes": (1, lambda p: MAC + b"\x08\x00" + p + bytes(20)),
}  # fmt: skip


def outer(protocol: int, inner: bytes) -> bytes:
    head = struct.pack("!BBHHHBBH", 0x45, 0, 20 + len(inner), 0, 0, 60, protocol, 0)
    return head + socket.inet_aton("203.0.113.1") + socket.inet_aton("203.0.113.2") + inner


TUNNELS: dict[str, Callable[[bytes], bytes]] = {
    "GRE": lambda p: outer(47, b"\x00\x00\x08\x00" + p),
    "GRE with key and number": lambda p: outer(47, b"\x30\x00\x08\x00" + bytes(8) + p),
    "GRE with Ethernet": lambda p: outer(47, b"\x00\x00\x65\x58" + MAC + b"\x08\x00" + p),
    "IP in IP": lambda p: outer(4, p),
    "VXLAN": lambda p: outer(
        17, struct.pack("!4H", 5, 4789, len(p) + 30, 0) + b"\x08" + bytes(7) + MAC + b"\x08\x00" + p
    ),
}


@pytest.mark.parametrize("name", DRESS)
def test_wrapped(name: str) -> None:
    link, dress = DRESS[name]
    found = read(pcap(steady(60), link, dress))
    (stream,) = found.streams
    assert (len(stream.trace), stream.dscp, stream.source) == (60, {"46": 60}, "192.0.2.10:20000")
    assert found.notes == ()


@pytest.mark.parametrize("name", TUNNELS)
def test_tunnelled(name: str) -> None:
    found = read(pcap(steady(60), 101, TUNNELS[name]))
    (stream,) = found.streams
    assert (len(stream.trace), stream.dscp, stream.source) == (60, {"46": 60}, "192.0.2.10:20000")
    assert found.notes[0].startswith("Through a tunnel: 60 packets.")


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("nano", [False, True])
def test_both_byte_orders_and_resolutions(order: str, nano: bool) -> None:
    (stream,) = read(pcap(steady(60), order=order, nano=nano)).streams
    assert stream.first_us == START_US + 30_000
    assert judged(stream).metrics.pdv_max_ms == 0


def test_a_relay_s_channel() -> None:
    sent = [(at, packet[:28] + struct.pack("!HH", 0x4001, len(packet) - 28) + packet[28:]) for at, packet in steady(60)]
    sent = [
        (at, p[:2] + struct.pack("!H", len(p)) + p[4:24] + struct.pack("!H", len(p) - 20) + p[26:]) for at, p in sent
    ]
    assert len(one(sent).trace) == 60


def test_packets_captured_in_part_only() -> None:
    """As with a snap length: the heads are enough."""
    data = bytearray(pcap(steady(60))[:24])
    for at, packet in steady(60):
        data += struct.pack("<4I", at // 1_000_000, at % 1_000_000, 44, len(packet)) + packet[:44]
    found = read(bytes(data))
    assert len(found.streams[0].trace) == 60
    assert found.notes == ("Captured in part only, so that just the headers were read: 60 packets.",)


def block(kind: int, body: bytes, order: str = "<") -> bytes:
    body += bytes(-len(body) % 4)
    length = 12 + len(body)
    return struct.pack(order + "II", kind, length) + body + struct.pack(order + "I", length)


def pcapng(order: str, interfaces: list[tuple[int, bytes]], packets: list[tuple[int, int, bytes]]) -> bytes:
    """Interfaces (link, options) and packets (interface, raw time stamp, data)."""
    out = block(0x0A0D0D0A, struct.pack(order + "IHHq", 0x1A2B3C4D, 1, 0, -1), order)
    for link, options in interfaces:
        out += block(1, struct.pack(order + "HHI", link, 0, 0) + options, order)
    for number, at, data in packets:
        head = struct.pack(order + "5I", number, at >> 32, at & 0xFFFFFFFF, len(data), len(data))
        out += block(6, head + data + bytes(-len(data) % 4), order)
    return out


@pytest.mark.parametrize("order", ["<", ">"])
def test_every_interface_of_a_pcapng(order: str) -> None:
    """Ethernet in microseconds, raw IP in nanoseconds, an unknown link; and a second section after them."""
    nano = struct.pack(order + "HHB3xHH", 9, 1, 9, 0, 0)
    first, second, third = steady(60), steady(60, ssrc=8), steady(60, ssrc=9)
    interfaces = [(1, b""), (101, nano), (147, b"")]
    packets = [(0, at, MAC + b"\x08\x00" + p) for at, p in first] + [(1, at * 1000, p) for at, p in second]
    packets += [(2, at, p) for at, p in steady(5)]
    data = pcapng(order, interfaces, packets) + pcapng("<", [(101, b"")], [(0, at, p) for at, p in third])
    found = read(data)
    assert sorted((s.ssrc, len(s.trace), s.first_us) for s in found.streams) == [
        (n, 60, START_US + 30_000) for n in (7, 8, 9)
    ]
    assert found.notes == ("Left out, of a kind of link that cannot be read (type 147): 5 packets.",)
    assert not found.cut_short


def test_packets_of_the_older_kinds_of_block() -> None:
    """Obsolete packet blocks carry a time; simple ones do not, and are cut to the interface's length."""
    old, simple = steady(60), steady(60, ssrc=8)
    data = pcapng("<", [(101, b"")], [])
    for at, p in old:
        data += block(
            2, struct.pack("<HHIIII", 0, 0, at >> 32, at & 0xFFFFFFFF, len(p), len(p)) + p + bytes(-len(p) % 4)
        )
    found = read(data)
    assert (len(found.streams[0].trace), found.streams[0].first_us) == (60, START_US + 30_000)
    short = block(0x0A0D0D0A, struct.pack("<IHHq", 0x1A2B3C4D, 1, 0, -1)) + block(1, struct.pack("<HHI", 101, 0, 44))
    for _, p in simple:
        short += block(3, struct.pack("<I", len(p)) + p[:44])
    cut = read(short)
    assert (cut.packets, cut.cut_short) == (60, False)
    # Without a time there is no stream to judge, and nothing is invented.
    assert all(len(s.trace) == 60 for s in cut.streams)


@pytest.mark.parametrize(
    ("options", "units"),
    [
        (struct.pack("<HHB3xHH", 9, 1, 0x80 | 20, 0, 0), 2**20),
        (struct.pack("<HHB3xHH", 9, 1, 3, 0, 0), 1000),
        (struct.pack("<HHqHH", 14, 8, 1_000_000, 0, 0), 1_000_000),
    ],
)
def test_resolutions_and_offsets_of_an_interface(options: bytes, units: int) -> None:
    offset_s = 1_000_000 if units == 1_000_000 else 0
    sent = steady(60)
    packets = [(0, (at - offset_s * 1_000_000) * units // 1_000_000, p) for at, p in sent]
    (stream,) = read(pcapng("<", [(101, options)], packets)).streams
    assert stream.first_us == pytest.approx(START_US + 30_000, abs=1000)
    assert stream.ptime_ms == pytest.approx(20, abs=0.01)


@pytest.mark.parametrize("order", ["<", ">"])
def test_the_modified_pcap_has_longer_heads(order: str) -> None:
    out = struct.pack(order + "IHHIIII", 0xA1B2CD34, 2, 4, 0, 0, 65535, 101)
    for at, p in steady(60):
        out += struct.pack(order + "4IIHBB", at // 1_000_000, at % 1_000_000, len(p), len(p), 1, 0, 0, 0) + p
    assert len(read(out).streams[0].trace) == 60


@pytest.mark.parametrize("family", [10, 23, 24, 28, 30])
def test_ipv6_on_a_loopback_of_any_system(family: int) -> None:
    def six(p: bytes) -> bytes:
        udp = p[20:]
        addresses = socket.inet_pton(socket.AF_INET6, "2001:db8::1") + socket.inet_pton(socket.AF_INET6, "2001:db8::2")
        return (
            struct.pack("<I", family) + struct.pack("!IHBB", 6 << 28 | 0xB8 << 20, len(udp), 17, 60) + addresses + udp
        )

    (stream,) = read(pcap(steady(60), 0, six)).streams
    assert (stream.source, stream.dscp) == ("[2001:db8::1]:20000", {"46": 60})


def test_ipv6_with_extension_headers_and_a_fragment() -> None:
    def six(p: bytes, offset: int = 0) -> bytes:
        udp = p[20:]
        head = b"\x2c\x00\x00\x00\x00\x00\x00\x00" + struct.pack("!BBHI", 17, 0, offset << 3, 5)
        addresses = bytes(32)
        return struct.pack("!IHBB", 6 << 28, len(udp) + len(head), 0, 60) + addresses + head + udp

    assert len(read(pcap(steady(60), 101, six)).streams[0].trace) == 60
    assert read(pcap(steady(60), 101, lambda p: six(p, 3))).streams == []


def test_a_pcapng_cut_in_its_last_block() -> None:
    data = pcapng("<", [(101, b"")], [(0, at, p) for at, p in steady(60)])
    found = read(data[:-7])
    assert (len(found.streams[0].trace), found.cut_short) == (59, True)


# What the network did and what the sender did


def test_an_outage_of_seventy_seconds_is_3500_lost_packets() -> None:
    sent = steady(8000)
    stream = one(sent[:2000] + sent[5500:])
    assert (judged(stream).metrics.lost, judged(stream).metrics.longest_loss_run) == (3500, 3500)
    assert stream.notes == ()


def test_an_outage_of_half_an_hour_wraps_the_numbers_and_is_still_counted() -> None:
    sent = steady(95_000)
    stream = one(sent[:2000] + sent[92_000:])
    assert judged(stream).metrics.lost == 90_000


@pytest.mark.parametrize("first", [9000, 50_000, 3])
def test_numbers_that_begin_anew_lose_nothing(first: int) -> None:
    """With timestamps that begin anew too."""
    sent = steady(500, first=30_000) + steady(500, first=first, at_us=START_US + 500 * 20_000, ticks=77)
    stream = one(sent)
    assert (len(stream.trace), judged(stream).metrics.lost, judged(stream).late) == (1000, 0, 0)
    assert "sequence numbers began anew once" in stream.notes[0]
    assert judged(stream).metrics.pdv_max_ms == pytest.approx(0, abs=0.1)


@pytest.mark.parametrize(
    ("waited_s", "numbers", "ticks"), [(70, 3500, 5000), (70, 9000, 560_000), (0.9, 3500, 560_000)]
)
def test_a_pause_that_does_not_fit_its_numbers_or_timestamps_is_no_outage(
    waited_s: float, numbers: int, ticks: int
) -> None:
    """Numbers, timestamps and time must have gone on alike for what lies between to be lost."""
    first = steady(300)
    at = START_US + 300 * 20_000 + round(waited_s * 1e6)
    stream = one(first + steady(300, first=400 + numbers, at_us=at, ticks=5000 + 160 * 300 + ticks))
    assert judged(stream).metrics.lost == 0
    assert "began anew once" in stream.notes[0]


def test_keys_pressed_before_the_first_word() -> None:
    sent = steady(300)
    for i in range(20):
        sent[i] = (sent[i][0], ip(rtp(100 + i, 5000, kind=101, size=4)))
    stream = one(sent)
    assert (judged(stream).metrics.sent, judged(stream).metrics.lost, judged(stream).late) == (300, 0, 0)
    assert judged(stream).metrics.pdv_max_ms == pytest.approx(0, abs=0.1)


def test_a_stray_number_in_the_middle_is_dropped() -> None:
    sent = steady(500)
    stray = (sent[250][0] + 5000, ip(rtp(40_000, 1)))
    stream = one([*sent, stray])
    assert (len(stream.trace), judged(stream).metrics.lost, stream.notes) == (500, 0, ())


def test_many_strays_are_dropped_and_too_many_are_no_stream() -> None:
    rng = np.random.default_rng(7)
    sent = steady(500)
    few = [(sent[i][0] + 5000, ip(rtp(int(rng.integers(20_000, 60_000)), 1))) for i in range(10, 450, 9)]
    stream = one(sent + few)
    assert (len(stream.trace), judged(stream).metrics.lost) == (500, 0)
    many = [(at + 5000, ip(rtp(int(rng.integers(0, 65_536)), 1))) for at, _ in sent]
    assert read(pcap(sorted(sent[:100] + many))).streams == []


@pytest.mark.parametrize("copies", [2, 3])
def test_a_mirror_port_shows_every_packet_twice(copies: int) -> None:
    sent = steady(500)
    sent = [s for i, s in enumerate(sent) if i not in (100, 101)]
    stream = one([(at + 40 * k, p) for at, p in sent for k in range(copies)])
    metrics = judged(stream).metrics
    assert (metrics.sent, metrics.lost, metrics.duplicates) == (500, 2, 0)
    assert ("twice" if copies == 2 else "3 times") in stream.notes[0]


def test_a_few_duplicates_are_duplicates() -> None:
    sent = steady(500)
    stream = one(sent + [(at + 40, p) for at, p in sent[:200]])
    assert (judged(stream).metrics.duplicates, stream.notes) == (200, ())


def with_digits(seconds: float = 0.2) -> Sent:
    """Speech, a key pressed (its timestamp stands still, its end is told three times), speech."""
    sent = steady(500)
    digits = int(seconds * 50)
    for i in range(digits):
        number = 200 + i
        sent[number] = (sent[number][0], ip(rtp(100 + number, 5000 + 160 * 200, kind=101, size=4)))
    return sent


def test_digits_are_not_jitter() -> None:
    stream = one(with_digits(2))
    metrics = judged(stream).metrics
    assert (metrics.sent, metrics.lost, judged(stream).late, stream.codec) == (500, 0, 0, "g711a")
    assert metrics.pdv_max_ms == pytest.approx(0, abs=0.1)
    assert stream.notes[0].startswith("100 packets are telephone events")


def test_a_lost_digit_is_lost() -> None:
    sent = with_digits(2)
    stream = one(sent[:220] + sent[230:])
    assert judged(stream).metrics.lost == 10


def silence(hold_s: float, frozen: bool, noise: bool = False) -> Sent:
    """Two stretches of speech; numbers go on by one, timestamps go on with time or stand still."""
    first = steady(300)
    ticks = 5000 + 160 * 300 + (0 if frozen else round(8000 * hold_s))
    at = START_US + 300 * 20_000 + round(hold_s * 1e6)
    second = steady(300, first=400 + noise, at_us=at, ticks=ticks)
    extra = [(START_US + 300 * 20_000 + 30_000, ip(rtp(400, 5000 + 160 * 300, kind=13, size=1)))] if noise else []
    return first + extra + second


@pytest.mark.parametrize("hold_s", [2, 10, 90, 4000])
@pytest.mark.parametrize("frozen", [False, True])
def test_a_held_call_loses_nothing(hold_s: float, frozen: bool) -> None:
    stream = one(silence(hold_s, frozen))
    metrics = judged(stream).metrics
    assert (metrics.sent, metrics.lost, judged(stream).late) == (600, 0, 0)
    assert metrics.pdv_max_ms == pytest.approx(0, abs=0.2)
    assert any("timestamps jumped" in note for note in stream.notes) == frozen


def test_comfort_noise_between_speech() -> None:
    stream = one(silence(5, frozen=False, noise=True))
    metrics = judged(stream).metrics
    assert (metrics.sent, metrics.lost, judged(stream).late) == (601, 0, 0)
    assert metrics.pdv_max_ms == pytest.approx(0, abs=0.2)
    assert stream.notes == ("1 packet is comfort noise: the sender fell silent on purpose.",)


@pytest.mark.parametrize("jump_s", [0.5, 3, 3600, -1])
def test_timestamps_that_jump_are_no_delay(jump_s: float) -> None:
    sent = steady(300) + steady(
        300, first=400, at_us=START_US + 300 * 20_000, ticks=5000 + 160 * 300 + round(8000 * jump_s)
    )
    stream = one(sent)
    assert judged(stream).metrics.pdv_max_ms == pytest.approx(0, abs=0.2)
    assert (judged(stream).late, len(stream.notes)) == (0, 1)


def test_a_stall_of_the_network_is_no_jump() -> None:
    """Two seconds nothing, then all of it at once, 1 ms apart: it was late and stays late."""
    sent = steady(600)
    freed = sent[300][0] + 2_000_000
    held = [(freed + 1000 * i, packet) for i, (_, packet) in enumerate(sent[300:400])]
    stream = one([*sent[:300], *held, *((max(at, held[-1][0]), p) for at, p in sent[400:])])
    assert judged(stream).metrics.pdv_max_ms == pytest.approx(2000, abs=100)
    assert judged(stream).late > 90
    assert stream.notes == ()


def test_a_route_step_is_neither_drift_nor_a_jump() -> None:
    sent = steady(6000)
    moved = [(at + (70_000 if i >= 3000 else 0), p) for i, (at, p) in enumerate(sent)]
    stream = one(moved)
    assert stream.skew_ppm == pytest.approx(0, abs=1)
    assert judged(stream).metrics.pdv_p95_ms == pytest.approx(70, abs=0.5)
    assert judged(stream).late == 100  # two seconds, until the receiver follows


def test_a_codec_that_changes_in_mid_stream_makes_two_parts() -> None:
    sent = steady(300) + steady(300, first=400, at_us=START_US + 6_000_000, ticks=5000 + 160 * 300, kind=18, size=20)
    streams = read(pcap(sent[:310] + sent[315:])).streams
    assert sorted((s.codec, len(s.trace), judged(s).metrics.lost) for s in streams) == [
        ("g711a", 300, 0), ("g729", 300, 5),
    ]  # fmt: skip
    assert all("G.711 A-law" in s.notes[0] and "G.729" in s.notes[0] for s in streams)


def test_large_pictures_are_a_stream() -> None:
    """Forty packets a frame, thirty frames a second, paced over half of each."""
    sent = [
        (START_US + frame * 33_333 + 400 * i, ip(rtp(frame * 40 + i, frame * 3000, kind=96, size=1100, marker=i == 39)))
        for frame in range(30) for i in range(40)
    ]  # fmt: skip
    stream = one([s for i, s in enumerate(sent) if i % 400 != 200])
    assert (stream.media, stream.codec, len(stream.trace)) == ("video", None, 1200)
    assert stream.ptime_ms == pytest.approx(33.3, abs=0.1)
    assert judged(stream).metrics.lost == 3
    assert "share a timestamp" in stream.notes[0]


def test_a_padded_or_extended_header_is_read() -> None:
    sent = [
        (at, ip(RtpPacket(8, 100 + i, 5000 + 160 * i, 7, extension=b"\xbe\xde\x00\x01\x10\xff\x00\x00",
                          payload=bytes(160), padding_bytes=4).serialize()))
        for i, (at, _) in enumerate(steady(60))
    ]  # fmt: skip
    assert len(one(sent).trace) == 60


def test_frames_out_of_order_in_the_file_are_put_in_order() -> None:
    sent = steady(500)
    rng = np.random.default_rng(1)
    mixed = [sent[i] for i in np.argsort(np.arange(500) + rng.uniform(0, 20, 500))]
    (stream,) = read(pcap(mixed)).streams
    assert (judged(stream).metrics.reordered, judged(stream).metrics.lost) == (0, 0)
