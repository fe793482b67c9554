"""Packet captures (pcap and pcapng): the RTP streams in them, found without being told where they are.

A capture is somebody else's evidence. Send times are not in it: RTP timestamps stand in for them (RFC 3550 A.8), so
one-way delay is not known, and a sender's media clock that drifts against the capturing one is taken out.
"""

from __future__ import annotations

import io
import math
import socket
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, BinaryIO

import dpkt
import numpy as np

from tarnfell.core.clock import drift_ppm
from tarnfell.core.codecs import Codec, codec_table
from tarnfell.core.trace import Ints, Trace, TraceError, build_trace
from tarnfell.wire import WireError
from tarnfell.wire.rtp import RtpPacket, extend_sequence, looks_like_rtcp

MAX_PACKETS = 5_000_000
MAX_FLOWS = 20_000
"""UDP flows followed at once; more than this is a scan and not a site's calls."""
MIN_PACKETS = 10
MAX_STEP = 3000
"""RFC 3550 A.1: a sequence number further off than this belongs to something else."""
STEADY_SHARE = 0.9

STATIC_TYPES = {0: "g711u", 4: "g7231-63", 8: "g711a", 9: "g722", 18: "g729"}
"""Payload types of RFC 3551 table 4 that we have a codec for."""
_CLOCKS_HZ = (8000, 16000, 24000, 32000, 48000, 90000)


class CaptureError(ValueError):
    """A file that is no capture, or one nothing can be read from; the text says why."""


@dataclass(frozen=True)
class Datagram:
    at_us: int
    source: str
    """Address and port."""
    destination: str
    dscp: int
    payload: bytes


@dataclass(frozen=True)
class FoundStream:
    """One RTP stream of a capture."""

    ssrc: int
    source: str
    destination: str
    payload_type: int
    codec: str | None
    """By payload type; None where that is dynamic and the session's description was not captured."""
    clock_hz: int
    ptime_ms: float
    first_us: int
    dscp: dict[str, int]
    trace: Trace
    """Sent by RTP timestamp, arrived by capture time, the fastest packet at zero delay."""
    skew_ppm: float | None
    """Of the sender's media clock against the capture's; None where the stream is too short to tell."""


@dataclass(frozen=True)
class FoundStreams:
    streams: list[FoundStream]
    packets: int
    """Read from the file, of any kind."""
    cut_short: bool
    """The file ended in the middle of a packet."""


@dataclass
class _Flow:
    """Packets with the same addresses, ports and SSRC."""

    highest: int = 0
    seq: list[int] = field(default_factory=list)
    timestamp: list[int] = field(default_factory=list)
    at_us: list[int] = field(default_factory=list)
    types: dict[int, int] = field(default_factory=dict)
    dscp: dict[int, int] = field(default_factory=dict)
    astray: int = 0

    def clear(self) -> None:
        for kept in (self.seq, self.timestamp, self.at_us, self.types, self.dscp):
            kept.clear()
        self.astray = 0

    def add(self, packet: RtpPacket, datagram: Datagram) -> None:
        if not self.seq:
            self.highest = packet.sequence_number + 65536
        extended = extend_sequence(self.highest, packet.sequence_number)
        if abs(extended - self.highest) > MAX_STEP:
            self.astray += 1
            if self.astray <= len(self.seq):
                return
            # What came first was the stray: begin anew with what there is more of.
            self.clear()
            self.highest = extended
        self.highest = max(self.highest, extended)
        self.seq.append(extended)
        self.timestamp.append(packet.timestamp)
        self.at_us.append(datagram.at_us)
        self.types[packet.payload_type] = self.types.get(packet.payload_type, 0) + 1
        self.dscp[datagram.dscp] = self.dscp.get(datagram.dscp, 0) + 1


def find_streams(file: BinaryIO) -> FoundStreams:
    """Every RTP stream in a pcap or pcapng file, longest first. Raises CaptureError."""
    flows: dict[tuple[str, str, int], _Flow] = {}
    reader = _Reader(file)
    for datagram in reader.datagrams():
        if looks_like_rtcp(datagram.payload):
            continue
        try:
            packet = RtpPacket.parse(datagram.payload)
        except WireError:
            continue
        key = (datagram.source, datagram.destination, packet.ssrc)
        flow = flows.get(key)
        if flow is None:
            if len(flows) >= MAX_FLOWS:
                _drop_short(flows)
            flow = flows[key] = _Flow()
        flow.add(packet, datagram)
    found = [_stream(key, flow) for key, flow in flows.items() if _is_stream(flow)]
    streams = sorted((s for s in found if s is not None), key=lambda s: -len(s.trace))
    return FoundStreams(streams, reader.packets, reader.cut_short)


class _Reader:
    """UDP datagrams of a capture, whatever its link."""

    def __init__(self, file: BinaryIO) -> None:
        self.packets = 0
        self._whole = _Whole(file)
        self._damaged = False
        magic = file.read(4)
        file.seek(0)
        try:
            if magic == b"\x0a\x0d\x0d\x0a":
                self._reader: Any = dpkt.pcapng.Reader(self._whole)
            else:
                self._reader = dpkt.pcap.Reader(self._whole)
        except (ValueError, dpkt.Error, KeyError, IndexError) as error:
            raise CaptureError("This is no packet capture: neither pcap nor pcapng.") from error
        self._link = self._reader.datalink()
        if self._link not in _LINKS:
            raise CaptureError(f"Captures of this kind of link (type {self._link}) cannot be read.")

    @property
    def cut_short(self) -> bool:
        return self._damaged or self._whole.short

    def datagrams(self) -> Iterator[Datagram]:
        packets = iter(self._reader)
        while True:
            try:
                at, data = next(packets)
            except StopIteration:
                return
            except (dpkt.Error, ValueError, KeyError, IndexError, OverflowError, MemoryError):
                # Half a packet at the end is how captures end that were cut off; what came before is good.
                self._damaged = True
                if self.packets == 0:
                    raise CaptureError("The capture is damaged from its first packet on.") from None
                return
            self.packets += 1
            if self.packets > MAX_PACKETS:
                raise CaptureError(f"The capture holds more than {MAX_PACKETS} packets. Split it.")
            datagram = _datagram(float(at), data, self._link)
            if datagram is not None:
                yield datagram


class _Whole:
    """A file that notices when it ends in the middle of what was asked for, as dpkt does not."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self.name = ""
        self.short = False

    def read(self, count: int = -1) -> bytes:
        data = self._file.read(count)
        self.short = self.short or 0 < len(data) < count
        return data

    def seek(self, place: int, whence: int = 0) -> int:
        return self._file.seek(place, whence)

    def tell(self) -> int:
        return self._file.tell()


_LINKS: dict[int, Any] = {
    0: dpkt.loopback.Loopback,
    1: dpkt.ethernet.Ethernet,
    12: None,
    14: None,
    101: None,
    113: dpkt.sll.SLL,
    228: None,
    229: None,
    276: dpkt.sll2.SLL2,
}
"""By link type; None where the packet is bare IP."""


def _datagram(at: float, data: bytes, link: int) -> Datagram | None:
    if not math.isfinite(at) or not 0 <= at < 2**40:
        return None
    try:
        kind = _LINKS[link]
        packet: Any = kind(data).data if kind else (dpkt.ip6.IP6(data) if data[0] >> 4 == 6 else dpkt.ip.IP(data))
        if isinstance(packet, dpkt.ip.IP):
            family, mark, fragment = socket.AF_INET, packet.tos, packet.offset
        elif isinstance(packet, dpkt.ip6.IP6):
            family, mark, fragment = socket.AF_INET6, packet.fc, 0
        else:
            return None
        udp = packet.data
        if fragment or not isinstance(udp, dpkt.udp.UDP):
            return None
        source = f"{_plain(family, packet.src)}:{udp.sport}"
        destination = f"{_plain(family, packet.dst)}:{udp.dport}"
        return Datagram(round(at * 1e6), source, destination, mark >> 2, bytes(udp.data))
    except (dpkt.Error, IndexError, ValueError, KeyError, AttributeError, TypeError):
        return None


def _plain(family: int, address: bytes) -> str:
    text = socket.inet_ntop(family, address)
    return f"[{text}]" if ":" in text else text


def _drop_short(flows: dict[tuple[str, str, int], _Flow]) -> None:
    """Random bytes look like RTP now and then; each makes a flow of one."""
    for key in [key for key, flow in flows.items() if len(flow.seq) < 3]:
        del flows[key]
    if len(flows) >= MAX_FLOWS:
        raise CaptureError(f"The capture holds more than {MAX_FLOWS} streams. Filter it to the site's calls.")


def _is_stream(flow: _Flow) -> bool:
    """Enough packets, nearly all of one payload type, with numbers that go on and timestamps that move."""
    count = len(flow.seq)
    if count < MIN_PACKETS or max(flow.types.values()) < STEADY_SHARE * count:
        return False
    steps = np.diff(np.array(flow.seq))
    steady = np.count_nonzero((steps >= -50) & (steps <= 50) & (steps != 0))
    return bool(steady >= STEADY_SHARE * len(steps) and len(set(flow.timestamp)) > count // 20)


def _stream(key: tuple[str, str, int], flow: _Flow) -> FoundStream | None:
    kind = max(flow.types, key=lambda t: flow.types[t])
    codec = _codec(kind)
    seq, at = np.array(flow.seq, np.int64), np.array(flow.at_us, np.int64)
    ticks = np.unwrap(np.array(flow.timestamp, float), period=2**32)
    clock = codec.clock_hz if codec else _clock_hz(ticks, at)
    unique, first = np.unique(seq, return_index=True)
    sent_known = (ticks[first] - ticks[first[0]]) * 1e6 / clock
    if bool(np.any(np.diff(sent_known) < 0)):
        sent_known = np.maximum.accumulate(sent_known)
    whole = np.arange(unique[0], unique[-1] + 1)
    sent = np.rint(np.interp(whole, unique, sent_known)).astype(np.int64)
    steps = np.diff(sent_known) / np.diff(unique)
    ptime_ms = float(np.median(steps)) / 1000 if len(steps) else 20.0
    try:
        trace = build_trace(whole, sent, seq, at)
    except TraceError:
        return None
    trace, skew = _on_one_clock(trace)
    return FoundStream(
        ssrc=key[2],
        source=key[0],
        destination=key[1],
        payload_type=kind,
        codec=codec.name if codec else None,
        clock_hz=clock,
        ptime_ms=ptime_ms,
        first_us=int(at[0]),
        dscp={str(mark): count for mark, count in sorted(flow.dscp.items())},
        trace=trace,
        skew_ppm=skew,
    )


def _codec(payload_type: int) -> Codec | None:
    name = STATIC_TYPES.get(payload_type)
    return codec_table()[name] if name else None


def _clock_hz(ticks: np.ndarray, at_us: Ints) -> int:
    """The usual media clock that fits what was captured best."""
    took = float(at_us[-1] - at_us[0]) / 1e6
    if took <= 0:
        return 8000
    measured = float(ticks[-1] - ticks[0]) / took
    return min(_CLOCKS_HZ, key=lambda hz: abs(math.log(max(measured, 1.0) / hz)))


def _on_one_clock(trace: Trace) -> tuple[Trace, float | None]:
    """Arrivals moved so that the fastest packet has no delay, and the media clock's drift is gone."""
    skew = drift_ppm(trace)
    if skew is not None:
        trace = trace.shifted(0.0, skew, int(trace.recv_us[trace.arrived][0]))
    return trace.shifted(float(trace.delay_us.min())), skew


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
