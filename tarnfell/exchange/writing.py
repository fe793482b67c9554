"""Our own packets as a capture that others can open."""

from __future__ import annotations

import io
import socket
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import dpkt

from tarnfell.wire.rtp import RtpPacket

CHUNK_BYTES = 256 << 10


@dataclass(frozen=True)
class Sent:
    """A packet of ours as it arrived, for a capture that others can open."""

    at_us: int
    source: tuple[str, int]
    destination: tuple[str, int]
    dscp: int
    ttl: int
    packet: RtpPacket


def write_capture(packets: Iterable[Sent]) -> bytes:
    """A pcap of bare IPv4 packets, in the order of their time."""
    return b"".join(capture_chunks(sorted(packets, key=lambda one: one.at_us)))


def capture_chunks(packets: Iterable[Sent]) -> Iterator[bytes]:
    """The same a piece at a time, of packets that are in the order of their time."""
    out = io.BytesIO()
    writer = dpkt.pcap.Writer(out, linktype=dpkt.pcap.DLT_RAW)
    for one in packets:
        udp = dpkt.udp.UDP(sport=one.source[1], dport=one.destination[1], data=one.packet.serialize())
        udp.ulen = len(udp)
        ip = dpkt.ip.IP(
            src=socket.inet_aton(one.source[0]),
            dst=socket.inet_aton(one.destination[0]),
            p=dpkt.ip.IP_PROTO_UDP,
            tos=one.dscp << 2,
            ttl=one.ttl,
            data=udp,
        )
        ip.len = len(ip)
        writer.writepkt(bytes(ip), ts=one.at_us / 1e6)
        if out.tell() >= CHUNK_BYTES:
            yield out.getvalue()
            out.seek(0)
            out.truncate()
    yield out.getvalue()
