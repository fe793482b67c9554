"""Packet captures (pcap and pcapng): the RTP streams in them, found without being told where they are.

A capture is somebody else's evidence. Send times are not in it: RTP timestamps stand in for them (RFC 3550 A.8), so
one-way delay is not known, and a sender's media clock that drifts against the capturing one is taken out.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from typing import BinaryIO

from tarnfell.exchange.frames import KNOWN_LINKS, Datagram, datagram_of
from tarnfell.exchange.records import CaptureError, FrameReader
from tarnfell.exchange.streams import FoundStream, Packets, streams_of
from tarnfell.wire import WireError
from tarnfell.wire.rtp import RtpPacket, looks_like_rtcp

MAX_FLOWS = 20_000
"""UDP flows followed at once; more than this is a scan and not a site's calls."""


@dataclass(frozen=True)
class FoundStreams:
    streams: list[FoundStream]
    """Longest first."""
    packets: int
    """Read from the file, of any kind."""
    cut_short: bool
    """The file ended in the middle of a packet."""
    notes: tuple[str, ...] = ()
    """Of the file as a whole."""


@dataclass
class _Seen:
    """What stands in the way of reading all of it."""

    unknown_links: Counter[int] = field(default_factory=Counter)
    shortened: int = 0
    wrapped: int = 0

    def notes(self) -> tuple[str, ...]:
        told = [
            f"Left out, of a kind of link that cannot be read (type {link}): {_packets(count)}."
            for link, count in self.unknown_links.items()
        ]
        if self.shortened:
            told.append(f"Captured in part only, so that just the headers were read: {_packets(self.shortened)}.")
        if self.wrapped:
            told.append(
                f"Through a tunnel: {_packets(self.wrapped)}. The marking told is the inner one, which the line "
                "outside did not see."
            )
        return tuple(told)


def _packets(count: int) -> str:
    return "1 packet" if count == 1 else f"{count} packets"


def find_streams(file: BinaryIO) -> FoundStreams:
    """Every RTP stream in a pcap or pcapng file, longest first. Raises CaptureError."""
    flows: dict[tuple[str, str, int], Packets] = {}
    reader, seen = FrameReader(file), _Seen()
    for frame in reader.frames():
        if frame.link not in KNOWN_LINKS:
            seen.unknown_links[frame.link] += 1
            continue
        datagram = datagram_of(frame)
        packet = _rtp(datagram) if datagram else None
        if datagram is None or packet is None:
            continue
        key = (datagram.source, datagram.destination, packet.ssrc)
        flow = flows.get(key)
        if flow is None:
            if len(flows) >= MAX_FLOWS:
                _drop_short(flows)
            flow = flows[key] = Packets()
        flow.add(packet, datagram)
        seen.shortened += not datagram.whole
        seen.wrapped += datagram.wrapped
    if reader.links and not reader.links & KNOWN_LINKS:
        links = ", ".join(str(link) for link in sorted(reader.links))
        raise CaptureError(f"Captures of this kind of link (type {links}) cannot be read.")
    streams = [stream for key, flow in flows.items() for stream in streams_of(*key, flow)]
    streams.sort(key=lambda s: -len(s.trace))
    return FoundStreams(streams, reader.packets, reader.cut_short, seen.notes())


def _rtp(datagram: Datagram) -> RtpPacket | None:
    data = datagram.payload
    if looks_like_rtcp(data):
        return None
    try:
        return RtpPacket.parse(data)
    except WireError:
        if datagram.whole or len(data) < 12 or data[0] >> 6 != 2:
            return None
        # Cut off by the capture: the fixed header is all that is needed.
        return RtpPacket.parse(bytes([data[0] & 0xC0]) + data[1:12])


def _drop_short(flows: dict[tuple[str, str, int], Packets]) -> None:
    """Random bytes look like RTP now and then; each makes a flow of one."""
    for key in [key for key, flow in flows.items() if len(flow.seq) < 3]:
        del flows[key]
    if len(flows) >= MAX_FLOWS:
        raise CaptureError(f"The capture holds more than {MAX_FLOWS} streams. Filter it to the site's calls.")
