"""A router that is slow to answer for itself: what the kernel would say at once of packets that end here, it says late.

Run inside the router's namespace: ``python slow_router.py INTERFACE DELAY_MS``. Answers are marked (SO_MARK), so that a
rule can drop the kernel's own.
"""

from __future__ import annotations

import heapq
import select
import socket
import struct
import sys
import time

MARK = 7
_ETH_P_IP, _SO_MARK, _PACKET_OUTGOING = 0x0800, 36, 4


def checksum(data: bytes) -> int:
    total = sum(struct.unpack(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def main() -> None:
    interface, delay_s = sys.argv[1], float(sys.argv[2]) / 1000
    taker = socket.socket(socket.AF_PACKET, socket.SOCK_DGRAM, socket.htons(_ETH_P_IP))
    taker.bind((interface, _ETH_P_IP))
    sender = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
    sender.setsockopt(socket.SOL_SOCKET, _SO_MARK, MARK)
    waiting: list[tuple[float, bytes]] = []
    while True:
        left = max(0.0, waiting[0][0] - time.monotonic()) if waiting else 1.0
        if select.select([taker], [], [], left)[0]:
            packet, source = taker.recvfrom(2048)
            if source[2] != _PACKET_OUTGOING and packet[8] == 1:  # its lifetime ends here
                heapq.heappush(waiting, (time.monotonic() + delay_s, packet))
        while waiting and waiting[0][0] <= time.monotonic():
            packet = heapq.heappop(waiting)[1]
            quoted = (packet[:28] + bytes(28))[:28]
            body = struct.pack("!BBHI", 11, 0, 0, 0) + quoted
            body = body[:2] + struct.pack("!H", checksum(body)) + body[4:]
            sender.sendto(body, (socket.inet_ntoa(packet[12:16]), 0))


main()
