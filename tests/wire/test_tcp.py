"""The opening of a TCP connection made by hand, against the kernel's own and by the checksum's definition."""

from __future__ import annotations

import socket
import struct

import pytest

from tarnfell.wire import WireError, tcp
from tarnfell.wire.icmp import checksum


def test_a_syn_has_its_ports_number_and_a_checksum_that_sums_to_nothing() -> None:
    own, far = "192.0.2.9", "198.51.100.2"
    packet = tcp.opening(own, 40000, far, 4870, 0x1_0000_0005)
    from_port, to_port, number, acknowledged, offset, flags = struct.unpack_from("!HHIIBB", packet)
    assert (from_port, to_port, number, acknowledged, flags) == (40000, 4870, 5, 0, 2)
    assert offset >> 4 == len(packet) // 4
    pseudo = socket.inet_aton(own) + socket.inet_aton(far) + struct.pack("!BBH", 0, 6, len(packet))
    assert checksum(pseudo + packet) == 0


def test_what_answers_is_open_or_closed_and_anything_else_is_no_answer() -> None:
    def segment(flags: int) -> bytes:
        return struct.pack("!HHIIBBHHH", 4870, 40000, 7, 1008, 5 << 4, flags, 0, 0, 0)

    assert tcp.Answer.parse(segment(0x12)) == tcp.Answer(4870, 40000, 1008)
    assert tcp.Answer.parse(segment(0x14)) == tcp.Answer(4870, 40000, 1008)
    for flags in (0x02, 0x04, 0x10, 0x18, 0x11):
        with pytest.raises(WireError):
            tcp.Answer.parse(segment(flags))
    with pytest.raises(WireError):
        tcp.Answer.parse(segment(0x12)[:19])
