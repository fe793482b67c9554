"""Our own packets as a capture that others can open."""

from __future__ import annotations

import io
import socket
from dataclasses import dataclass

import dpkt

from tarnfell.wire.rtp import RtpPacket


@dataclass(frozen=True)
class Sent:
    """A packet of ours as it arrived, for a capture that others can open."""

    at_us: int
    source: tuple[str, int]
    destination: tuple[str, int]
    dscp: int
    ttl: int
    packet: RtpPacket


def write_capture(packets: list[Sent]) -> bytes:
    """A pcap of bare IPv4 packets, in the order of their time."""
    out = io.BytesIO()
    writer = dpkt.pcap.Writer(out, linktype=dpkt.pcap.DLT_RAW)
    for one in sorted(packets, key=lambda p: p.at_us):
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
    return out.getvalue()
