"""Captures as they come from the field: wrapped, mirrored, restarted, held, with digits, noise and other codecs."""

from __future__ import annotations

import io
import socket
import struct
from collections.abc import Callable

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
    "GRE of PPTP": lambda p: outer(47, b"\x30\x01\x88\x0b" + bytes(8) + b"\xff\x03\x00\x21" + p),
    "GRE of PPTP that acknowledges": lambda p: outer(47, b"\x30\x81\x88\x0b" + bytes(12) + b"\x21" + p),
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


@pytest.mark.parametrize("bits", [0x20, 0x10, 0x0F, 0x3F])
def test_padding_and_extensions_that_the_capture_cut_off_are_not_looked_for(bits: int) -> None:
    """Padding's length is the last byte; extension and sources stand behind the fixed header (RFC 3550 §5.1)."""
    data = bytearray(pcap(steady(60))[:24])
    for at, packet in steady(60):
        packet = packet[:28] + bytes([packet[28] | bits]) + packet[29:]
        data += struct.pack("<4I", at // 1_000_000, at % 1_000_000, 40, len(packet)) + packet[:40]
    (stream,) = read(bytes(data)).streams
    assert (len(stream.trace), stream.ssrc, stream.ptime_ms) == (60, 7, 20)


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


class Asked(io.BytesIO):
    """A file that knows the most it was asked for at once."""

    most = 0

    def read(self, size: int | None = -1, /) -> bytes:
        self.most = max(self.most, size or 0)
        return super().read(size)


@pytest.mark.parametrize("length", [0, 11, (64 << 20) + 1, 0xFFFFFFFF])
def test_a_block_of_an_impossible_length_ends_the_capture_unread(length: int) -> None:
    data = pcapng("<", [(101, b"")], [(0, at, p) for at, p in steady(60)])
    file = Asked(data + struct.pack("<II", 6, length) + bytes(64))
    found = find_streams(file)
    assert (len(found.streams[0].trace), found.cut_short) == (60, True)
    assert file.most < 1 << 20
