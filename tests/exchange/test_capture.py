"""Captures: our own written and read back, other links, damaged and hostile files."""

from __future__ import annotations

import io
import socket

import dpkt
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for, judge
from tarnfell.exchange import capture
from tarnfell.exchange.capture import find_streams
from tarnfell.exchange.records import CaptureError
from tarnfell.exchange.streams import FoundStream
from tarnfell.exchange.writing import Sent, write_capture
from tarnfell.wire.rtp import RtpPacket

A, B = ("192.0.2.10", 20000), ("198.51.100.20", 30000)
START_US = 1_795_000_000_000_000


def packets(
    count: int = 500, lost: tuple[int, ...] = (), kind: int = 8, step: int = 160, first_seq: int = 65400,
    ssrc: int = 0x5EED, delay_us: np.ndarray | None = None, skew_ppm: float = 0,
) -> list[Sent]:  # fmt: skip
    delays = np.full(count, 30_000) if delay_us is None else delay_us
    return [
        Sent(
            at_us=START_US + round(i * 20_000 * (1 + skew_ppm * 1e-6)) + int(delays[i]),
            source=A,
            destination=B,
            dscp=46,
            ttl=57,
            packet=RtpPacket(
                payload_type=kind,
                sequence_number=(first_seq + i) % 65536,
                timestamp=(2**32 - 1000 + i * step) % 2**32,
                ssrc=ssrc,
                payload=bytes(160),
            ),
        )
        for i in range(count)
        if i not in lost
    ]


def found(data: bytes) -> list[FoundStream]:
    return find_streams(io.BytesIO(data)).streams


def test_a_stream_is_found_and_judged_as_it_was() -> None:
    """Numbers and timestamps wrap in the middle; ten packets in a row are missing."""
    (stream,) = found(write_capture(packets(lost=tuple(range(200, 210)))))
    assert (stream.source, stream.destination) == ("192.0.2.10:20000", "198.51.100.20:30000")
    assert (stream.ssrc, stream.payload_type, stream.codec) == (0x5EED, 8, "g711a")
    assert (stream.ptime_ms, stream.dscp) == (20, {"46": 490})
    quality = judge(stream.trace, criterion_for(find_codec("g711a"), 20))
    assert (quality.metrics.sent, quality.metrics.lost, quality.metrics.longest_loss_run) == (500, 10, 10)
    assert quality.metrics.delay_min_ms == 0
    assert quality.metrics.jitter_max_ms == pytest.approx(0, abs=0.01)


def test_jitter_is_measured_against_the_rtp_clock() -> None:
    rng = np.random.default_rng(3)
    delays = 30_000 + rng.integers(0, 15_000, 500)
    (stream,) = found(write_capture(packets(delay_us=delays)))
    pdv = judge(stream.trace, criterion_for(find_codec("g711a"), 20)).metrics.pdv_p95_ms
    assert pdv == pytest.approx(float(np.percentile(delays - delays.min(), 95)) / 1000, abs=0.1)


def test_a_drifting_media_clock_is_no_queue() -> None:
    """80 parts in a million over two minutes would be 10 ms of delay."""
    (stream,) = found(write_capture(packets(count=6000, skew_ppm=80)))
    assert stream.skew_ppm == pytest.approx(80, abs=2)
    assert (judge(stream.trace, criterion_for(find_codec("g711a"), 20)).metrics.pdv_max_ms or 0) < 0.5


def test_a_dynamic_payload_type_has_a_clock_but_no_codec() -> None:
    (stream,) = found(write_capture(packets(kind=111, step=960)))
    assert (stream.codec, stream.clock_hz, stream.ptime_ms) == (None, 48000, 20)


def test_two_calls_and_noise() -> None:
    """RTCP, DNS-like datagrams and a handful of look-alikes are left aside; streams come longest first."""
    noise = [
        Sent(START_US + i, A, B, 0, 64, RtpPacket(i % 128, (i * 7919) % 65536, i, ssrc=1000 + i, payload=b"x"))
        for i in range(40)
    ]
    data = write_capture([*packets(ssrc=1, count=100), *packets(ssrc=2, count=300), *noise])
    assert [(s.ssrc, len(s.trace)) for s in found(data)] == [(2, 300), (1, 100)]


@pytest.mark.parametrize("link", ["ethernet", "vlan", "sll", "sll2", "loopback", "pcapng"])
def test_links(link: str) -> None:
    raw = [(t, p) for t, p in dpkt.pcap.Reader(io.BytesIO(write_capture(packets(count=60))))]
    out = io.BytesIO()
    head = bytes(12)
    wrap = {
        "ethernet": (1, lambda p: head + b"\x08\x00" + p),
        "vlan": (1, lambda p: head + b"\x81\x00\x00\x05\x08\x00" + p),
        "sll": (113, lambda p: bytes([0, 0, 0, 1, 0, 6]) + bytes(8) + b"\x08\x00" + p),
        "sll2": (276, lambda p: b"\x08\x00" + bytes(18) + p),
        "loopback": (0, lambda p: b"\x02\x00\x00\x00" + p),
        "pcapng": (1, lambda p: head + b"\x08\x00" + p),
    }
    kind, dress = wrap[link]
    writer = dpkt.pcapng.Writer(out) if link == "pcapng" else dpkt.pcap.Writer(out, linktype=kind)
    for at, packet in raw:
        writer.writepkt(dress(packet), ts=at)
    (stream,) = found(out.getvalue())
    assert (len(stream.trace), stream.dscp) == (60, {"46": 60})


def test_a_capture_cut_off_in_the_middle_keeps_what_came_before() -> None:
    data = write_capture(packets(count=100))
    answer = find_streams(io.BytesIO(data[: len(data) - 90]))
    assert answer.cut_short
    assert 99 <= len(answer.streams[0].trace) <= 100
    assert not find_streams(io.BytesIO(data)).cut_short


def test_a_stray_before_the_stream_does_not_stretch_it() -> None:
    stray = Sent(START_US, A, B, 0, 64, RtpPacket(8, 3, 5, ssrc=0x5EED, payload=b"x"))
    (stream,) = found(write_capture([stray, *packets(count=100, first_seq=30_000)]))
    assert len(stream.trace) in (98, 99, 100)


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"", "no packet capture"),
        (b"GIF89a" + bytes(100), "no packet capture"),
        (bytes.fromhex("d4c3b2a1020004000000000000000000ffff000093000000"), r"type 147"),
    ],
)
def test_files_that_are_none(data: bytes, says: str) -> None:
    with pytest.raises(CaptureError, match=says):
        find_streams(io.BytesIO(data))


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_damaged_captures_are_read_or_turned_away(data: st.DataObject) -> None:
    whole = bytearray(write_capture(packets(count=30)))
    for _ in range(data.draw(st.integers(1, 30))):
        whole[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
    try:
        find_streams(io.BytesIO(bytes(whole[: data.draw(st.integers(0, len(whole)))])))
    except CaptureError:
        pass


@settings(max_examples=25, deadline=None)
@given(
    st.sets(st.integers(1, 118), max_size=60),
    st.integers(0, 65535),
    st.sampled_from([0, 4, 8, 9, 18]),
)
def test_what_was_lost_is_found_lost_wherever_numbers_begin(lost: set[int], first_seq: int, kind: int) -> None:
    """First and last packet arrive, so that nothing outside the stream is asked about."""
    (stream,) = found(write_capture(packets(count=120, lost=tuple(lost), first_seq=first_seq, kind=kind)))
    missing = {int(i) for i in np.flatnonzero(~stream.trace.arrived)}
    assert missing == lost
    assert len(stream.trace) == 120


def test_copies_and_overtaken_packets_are_counted() -> None:
    sent = packets(count=100)
    sent.append(Sent(sent[10].at_us + 5_000, A, B, 46, 57, sent[10].packet))
    late = sent[40]
    sent[40] = Sent(late.at_us + 45_000, A, B, 46, 57, late.packet)
    (stream,) = found(write_capture(sent))
    metrics = judge(stream.trace, criterion_for(find_codec("g711a"), 20)).metrics
    assert (metrics.duplicates, metrics.reordered, metrics.lost) == (1, 1, 0)


def test_marking_that_changes_on_the_way_is_told() -> None:
    one = packets(count=100)
    two = [Sent(p.at_us, A, B, 0 if i >= 60 else 46, 57, p.packet) for i, p in enumerate(one)]
    (stream,) = found(write_capture(two))
    assert stream.dscp == {"0": 40, "46": 60}


def rewrapped(raw: list[bytes]) -> bytes:
    """Bare IP packets as a capture, one every 20 ms."""
    out = io.BytesIO()
    writer = dpkt.pcap.Writer(out, linktype=101)
    for i, packet in enumerate(raw):
        writer.writepkt(packet, ts=1_795_000_000 + i * 0.02)
    return out.getvalue()


def bare(sent: list[Sent]) -> list[bytes]:
    return [packet for _, packet in dpkt.pcap.Reader(io.BytesIO(write_capture(sent)))]


def test_ipv6_is_found_with_its_marking() -> None:
    near, far = (socket.inet_pton(socket.AF_INET6, a) for a in ("2001:db8::10", "2001:db8:1::20"))
    raw = []
    for packet in bare(packets(count=80)):
        udp = dpkt.ip.IP(packet).data
        outer = dpkt.ip6.IP6(src=near, dst=far, nxt=17, hlim=57, data=udp, plen=len(udp))
        outer.fc = 46 << 2
        raw.append(bytes(outer))
    (stream,) = found(rewrapped(raw))
    assert (stream.source, stream.destination) == ("[2001:db8::10]:20000", "[2001:db8:1::20]:30000")
    assert (len(stream.trace), stream.dscp) == (80, {"46": 80})


def test_fragments_and_other_protocols_are_left_aside() -> None:
    raw = [bytearray(packet) for packet in bare(packets(count=60))]
    raw[10][6:8] = b"\x00\x20"  # a later fragment of something
    raw[20][9] = 6  # TCP
    raw[30][:] = b"\x45"  # a header of one byte
    (stream,) = found(rewrapped([bytes(packet) for packet in raw]))
    assert np.flatnonzero(~stream.trace.arrived).tolist() == [10, 20, 30]


def test_damaged_from_the_first_packet_on() -> None:
    with pytest.raises(CaptureError, match=r"no packet|damaged"):
        find_streams(io.BytesIO(write_capture(packets(count=5))[:30]))


def test_more_streams_than_are_followed_ask_for_a_filter(monkeypatch: pytest.MonkeyPatch) -> None:
    """Look-alikes of a packet or two are forgotten first."""
    monkeypatch.setattr(capture, "MAX_FLOWS", 20)
    lone = [Sent(START_US + i, A, B, 0, 64, RtpPacket(8, i, i, ssrc=i, payload=b"x")) for i in range(50)]
    assert len(found(write_capture([*lone, *packets(count=60)]))) == 1
    many = [packet for ssrc in range(30) for packet in bare(packets(count=12, ssrc=ssrc))]
    with pytest.raises(CaptureError, match=r"more than 20 streams\. Filter it"):
        find_streams(io.BytesIO(rewrapped(many)))


@pytest.mark.parametrize("slow", [slice(0, 3), slice(-9, None)], ids=["first", "last"])
def test_a_few_packets_late_at_either_end_are_late_and_no_jump_of_the_sender(slow: slice) -> None:
    delays = np.full(100, 30_000)
    delays[slow] = 430_000
    (stream,) = found(write_capture(sorted(packets(count=100, delay_us=delays), key=lambda p: p.at_us)))
    assert np.allclose(stream.trace.delay_us[slow], 400_000, atol=1000)
    assert not any("jumped" in note for note in stream.notes)


@given(st.lists(st.integers(0, 290_000), min_size=20, max_size=120), st.floats(-200, 200))
def test_delay_variation_of_a_capture_is_what_the_path_did(delays: list[int], skew_ppm: float) -> None:
    """The media clock runs apart from the capture's by up to 200 ppm; over two seconds that is nothing to be heard.

    From 300 ms on a step that stays is the sender's, by definition.
    """
    sent = packets(count=len(delays), delay_us=np.array(delays), skew_ppm=skew_ppm)
    (stream,) = found(write_capture(sorted(sent, key=lambda p: p.at_us)))
    told = stream.trace.delay_us - stream.trace.delay_us.min()
    assert len(told) == len(delays)
    true = np.array(delays) - min(delays)
    assert np.abs(told - true).max() < 5_000 + 0.3 * true.max()
    assert np.median(np.abs(told - true)) < 2_000 + 0.3 * float(np.median(true))


@pytest.mark.parametrize(("tags", "streams"), [(11, 1), (12, 0)])
def test_tags_in_tags_are_read_to_a_depth_that_no_network_has(tags: int, streams: int) -> None:
    """Twelve layers, of which IP is one: a frame that nests without end costs no more than that."""
    out = io.BytesIO()
    writer = dpkt.pcap.Writer(out, linktype=1)
    head = bytes(12) + b"\x81\x00\x00\x05" * tags + b"\x08\x00"
    for at, packet in dpkt.pcap.Reader(io.BytesIO(write_capture(packets(count=60)))):
        writer.writepkt(head + packet, ts=at)
    assert len(found(out.getvalue())) == streams
