"""Streams of a capture: what the network did to them, and what the sender did."""

from __future__ import annotations

import numpy as np
import pytest

from tarnfell.wire.rtp import RtpPacket
from tests.exchange.test_capture_shapes import START_US, Sent, ip, judged, one, pcap, read, rtp, steady

# What the network did and what the sender did


def test_an_outage_of_seventy_seconds_is_3500_lost_packets() -> None:
    sent = steady(8000)
    stream = one(sent[:2000] + sent[5500:])
    assert (judged(stream).metrics.lost, judged(stream).metrics.longest_loss_run) == (3500, 3500)
    assert stream.notes == ()


def test_an_outage_is_counted_by_the_clock_of_the_stream_where_its_type_does_not_tell() -> None:
    """A type beyond 95 stands for whatever was agreed: here 48 kHz, found by its pace."""
    sent = [(START_US + 20_000 * i, ip(rtp(100 + i, 5000 + 960 * i, kind=111))) for i in range(8000)]
    stream = one(sent[:2000] + sent[5500:])
    assert (stream.clock_hz, judged(stream).metrics.lost) == (48_000, 3500)


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


@pytest.mark.parametrize("size", [4, 1])
def test_a_short_packet_of_the_usual_type_is_no_digit(size: int) -> None:
    sent = steady(500)
    sent[200] = (sent[200][0], ip(rtp(300, 5000 + 160 * 200, size=size)))
    assert not [note for note in one(sent).notes if "telephone" in note]


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


@pytest.mark.parametrize(("lost", "between"), [(24, True), (25, False)])
def test_a_jump_is_one_between_packets_that_follow_within_half_a_second(lost: int, between: bool) -> None:
    """By their numbers: beyond that nobody knows what the sender did meanwhile."""
    sent = steady(300) + steady(300, first=400 + lost, at_us=START_US + 300 * 20_000, ticks=5000 + 160 * 300 + 24_000)
    assert any("jumped" in note for note in one(sent).notes) is between


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


def test_a_codec_that_comes_back_makes_three_parts() -> None:
    sent = (
        steady(300)
        + steady(300, first=400, at_us=START_US + 6_000_000, ticks=5000 + 160 * 300, kind=18, size=20)
        + steady(250, first=700, at_us=START_US + 12_000_000, ticks=5000 + 160 * 600)
    )
    streams = read(pcap(sent[:700] + sent[702:])).streams
    assert [(s.codec, len(s.trace), judged(s).metrics.lost) for s in sorted(streams, key=lambda s: s.first_us)] == [
        ("g711a", 300, 0), ("g729", 300, 0), ("g711a", 250, 2),
    ]  # fmt: skip
    assert all("(G.711 A-law → G.729 8 kbit/s → G.711 A-law)" in s.notes[0] for s in streams)


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
