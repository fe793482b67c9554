"""Video: how frames are cut into packets, which were whole and shown, where the picture froze, and the score."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tarnfell.core.picture import (
    Frames,
    Picture,
    PictureCriterion,
    fates,
    freezes_ms,
    judge_picture,
    picture_score,
    picture_stretches,
    view,
    worst_stretch,
)
from tarnfell.core.trace import NOT_ARRIVED, Trace
from tarnfell.core.video import VideoError, VideoProfile, find_profile, video_profiles

TINY = VideoProfile("tiny", "Tiny", 16, 16, frames_per_s=10, kbps=96, refresh_s=2, refresh_weight=3)
"""A frame each 100 ms, 20 to a refresh: 22 weights make 24 000 bytes, so 1 091 a frame (one packet), 3 273 a refresh
frame (three)."""
CRITERION = PictureCriterion(buffer_ms=100, round_trip_ms=100, encode_ms=50)
STRICT = PictureCriterion(buffer_ms=100, refresh="interval")


def packet_of(frame: int) -> int:
    """The first packet of a frame of TINY."""
    return TINY.packets_in(frame)


def stream(seconds: int, lost: tuple[int, ...] = (), late: tuple[int, ...] = (), delay_ms: int = 20) -> Trace:
    """A stream of TINY sent as planned; packets by number."""
    number = np.arange(TINY.packets_in(seconds * 10))
    frame = TINY.frame_of(number)
    sent = frame * 100_000 + (number - np.searchsorted(frame, frame)) * 1000
    recv = sent + delay_ms * 1000
    recv[list(late)] += 150_000
    recv[list(lost)] = NOT_ARRIVED
    return Trace(number, sent, recv)


def test_frames_keep_the_bit_rate_and_the_packets_their_size() -> None:
    for profile in video_profiles().values():
        refresh, ordinary = profile.frame_bytes()
        a_refresh = refresh + (profile.frames_per_refresh - 1) * ordinary
        assert a_refresh * 8 / profile.refresh_s == pytest.approx(profile.kbps * 1000, rel=0.01)
        assert refresh == pytest.approx(profile.refresh_weight * ordinary, rel=0.01)
        for sizes, whole in zip(profile.cut(), (refresh, ordinary), strict=True):
            assert sum(sizes) == whole
            assert max(sizes) <= 1200
            assert max(sizes) - min(sizes) <= 1


def test_packets_know_their_frame_and_size() -> None:
    assert TINY.cut() == ([1091, 1091, 1091], [1091])
    assert TINY.frame_of(np.array([0, 1, 2, 3, 4, 21, 22, 24, 25])).tolist() == [0, 0, 0, 1, 2, 19, 20, 20, 21]
    assert [replace(TINY, frames_per_s=n).frame_us for n in (10, 15, 30)] == [100_000, 66_667, 33_333]
    assert [TINY.packets_in(n) for n in (0, 1, 2, 20, 21, 40)] == [0, 3, 4, 22, 25, 44]
    profile = find_profile("720p30")
    number = np.arange(profile.packets_in(300))
    frame, size = profile.frame_of(number), profile.payload_of(number)
    assert frame[-1] == 299
    by_frame = np.bincount(frame, weights=size)
    assert set(by_frame[::120]) == {profile.frame_bytes()[0]}
    assert set(by_frame[1:120]) == {profile.frame_bytes()[1]}


def test_no_such_profile() -> None:
    with pytest.raises(VideoError, match="no video profile “8k”"):
        find_profile("8k")


def test_everything_arrived() -> None:
    judged = judge_picture(stream(3), TINY, CRITERION)
    assert (judged.frames, judged.whole, judged.shown, judged.freezes) == (30, 30, 30, 0)
    assert judged.score == 5.0
    assert judged.mean_fps == pytest.approx(10)
    assert judged.worst_second_fps == 10


def test_one_lost_packet_breaks_its_frame_and_what_follows_until_it_is_mended() -> None:
    # Frame 12 breaks; the refresh asked for comes 150 ms later, so frame 13 (100 ms on) is spoilt and 14 is shown.
    trace = stream(3, lost=(packet_of(12),))
    frames = view(trace, TINY, CRITERION).frames
    assert np.flatnonzero(~frames.whole).tolist() == [12]
    assert np.flatnonzero(~frames.shown).tolist() == [12, 13]
    # Frame 11 stood for 300 ms, three times its due.
    assert freezes_ms(frames, TINY).tolist() == [300.0]
    judged = judge_picture(trace, TINY, CRITERION)
    assert judged.worst_second_fps == 8
    assert judged.score == pytest.approx(1 + 4 * math.exp(-100 * 2 / 30 / 10 - 100 * 0.3 / 3 / 6))


def test_without_asking_it_mends_only_at_the_next_refresh_frame() -> None:
    frames = view(stream(4, lost=(packet_of(12),)), TINY, STRICT).frames
    assert np.flatnonzero(~frames.shown).tolist() == list(range(12, 20))


def test_a_refresh_frame_that_breaks_mends_nothing() -> None:
    lost = (packet_of(12), packet_of(20) + 2)
    frames = view(stream(5, lost=lost), TINY, STRICT).frames
    assert np.flatnonzero(~frames.shown).tolist() == list(range(12, 40))


def test_a_late_packet_breaks_its_frame_like_a_lost_one() -> None:
    late = judge_picture(stream(3, late=(packet_of(5),)), TINY, CRITERION)
    lost = judge_picture(stream(3, lost=(packet_of(5),)), TINY, CRITERION)
    assert (late.late, late.metrics.lost) == (1, 0)
    assert (late.whole, late.shown, late.score) == (lost.whole, lost.shown, lost.score)
    deep = judge_picture(stream(3, late=(packet_of(5),)), TINY, PictureCriterion(buffer_ms=200))
    assert deep.whole == 30


def test_nothing_arrived_is_one_long_freeze() -> None:
    judged = judge_picture(stream(2, lost=tuple(range(22))), TINY, CRITERION)
    assert (judged.whole, judged.shown, judged.freezes) == (0, 0, 1)
    assert judged.frozen_ms == 2000
    assert judged.score == pytest.approx(1.0, abs=1e-6)
    assert judged.worst_second_fps == 0


def test_a_packet_the_sender_never_sent_breaks_its_frame() -> None:
    whole = stream(2)
    keep = np.ones(len(whole), bool)
    keep[packet_of(7)] = False
    frames = view(Trace(whole.seq[keep], whole.sent_us[keep], whole.recv_us[keep]), TINY, CRITERION).frames
    assert len(frames.whole) == 20
    assert np.flatnonzero(~frames.whole).tolist() == [7]


def test_a_stream_that_was_stopped_within_a_frame_is_not_blamed_for_it() -> None:
    whole = stream(3)
    cut = slice(0, packet_of(20) + 2)
    frames = view(Trace(whole.seq[cut], whole.sent_us[cut], whole.recv_us[cut]), TINY, CRITERION).frames
    assert len(frames.whole) == 21
    assert frames.whole.all()


def test_seconds_tell_frames_and_packets_and_a_stretch_the_worst_of_them() -> None:
    trace = stream(3, lost=(packet_of(12),), late=(packet_of(25), packet_of(28)))
    viewed = view(trace, TINY, CRITERION)

    def told(length: int) -> list[tuple[int, ...]]:
        return [(s.frames, s.shown, s.broken, s.lost, s.late) for s in picture_stretches(trace, TINY, viewed, length)]

    assert told(1) == [(10, 10, 0, 0, 0), (10, 8, 1, 1, 0), (10, 6, 2, 0, 2)]
    assert told(2) == [(10, 8, 1, 1, 0), (10, 6, 2, 0, 2)]
    assert told(3) == told(60) == [(10, 6, 3, 1, 2)]


def test_what_was_played_already_is_not_played_again() -> None:
    trace = stream(3, lost=(packet_of(12),))
    deep = view(trace, TINY, PictureCriterion(buffer_ms=200))
    assert judge_picture(trace, TINY, CRITERION, deep) == judge_picture(trace, TINY, PictureCriterion(buffer_ms=200))


@pytest.mark.parametrize(("frames", "worst"), [(25, 10), (10, 10), (5, 5)])
def test_the_worst_second_is_a_whole_one_where_there_is_one(frames: int, worst: int) -> None:
    whole = stream(3)
    cut = slice(0, packet_of(frames))
    trace = Trace(whole.seq[cut], whole.sent_us[cut], whole.recv_us[cut])
    assert judge_picture(trace, TINY, CRITERION).worst_second_fps == worst


def test_the_score_falls_in_both_and_stays_in_its_range() -> None:
    assert picture_score(0, 0) == 5.0
    assert picture_score(100, 100) == pytest.approx(1.0, abs=1e-6)
    assert picture_score(4.7, 0) == pytest.approx(3.5, abs=0.01)
    assert picture_score(1.76, 1.76) == pytest.approx(3.5, abs=0.01)


packets = st.sets(st.integers(0, TINY.packets_in(40) - 1), max_size=12)


def judged(lost: set[int], criterion: PictureCriterion) -> Picture:
    # Packet 0 stays: it holds the fastest delay, from which lateness is counted.
    return judge_picture(stream(4, lost=tuple(sorted(lost - {0}))), TINY, criterion)


@settings(max_examples=150)
@given(packets, packets, st.sampled_from([CRITERION, STRICT]))
def test_more_loss_never_shows_more(some: set[int], more: set[int], criterion: PictureCriterion) -> None:
    few, many = judged(some, criterion), judged(some | more, criterion)
    assert many.whole <= few.whole
    assert many.shown <= few.shown <= few.whole
    assert many.frozen_ms >= few.frozen_ms
    assert 1 <= many.score <= few.score <= 5
    assert many.worst_second_fps <= few.worst_second_fps


@settings(max_examples=60)
@given(packets, st.integers(0, 400), st.integers(0, 400))
def test_a_longer_way_to_mend_never_helps(lost: set[int], one: int, other: int) -> None:
    quick, slow = sorted((one, other))
    few = judged(lost, PictureCriterion(round_trip_ms=quick))
    many = judged(lost, PictureCriterion(round_trip_ms=slow))
    assert many.shown <= few.shown
    assert many.shown >= judged(lost, STRICT).shown


def seen(codes: str) -> Frames:
    """s: shown; o: whole and not shown; b: broken."""
    whole = np.array([one != "b" for one in codes])
    return Frames(np.arange(len(codes)) * 40_000, whole, np.array([one == "s" for one in codes]))


@pytest.mark.parametrize(
    ("codes", "count", "first"),
    [("ssbsbs", 3, 2), ("ssbsbb", 2, 4), ("bsssb", 2, 0), ("sss", 2, 0), ("sbo", 9, 0), ("ssoob", 3, 2), ("ssb", 1, 2)],
)
def test_the_stretch_in_which_most_was_missed(codes: str, count: int, first: int) -> None:
    assert worst_stretch(seen(codes), count) == first
    assert fates(seen(codes), first, count) == codes[first : first + count]
