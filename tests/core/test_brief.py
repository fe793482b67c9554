"""Need, targets and video: the arithmetic of a brief and of what a load costs."""

from __future__ import annotations

from contextlib import nullcontext
from dataclasses import replace

import pytest

from tarnfell.core.codecs import find_codec
from tarnfell.core.need import NeedError, need_of
from tarnfell.core.rates import (
    Link,
    PlanError,
    Shape,
    VideoLoad,
    call_rate,
    check_shape,
    hold,
    plan_run,
    ramp,
    video_rate,
)
from tarnfell.core.stats import erlang_b, moments_to_show, shown_by
from tarnfell.core.targets import BOUNDS, PRESETS, TargetError, check_targets, in_words, judge_bounds
from tarnfell.core.video import MAX_PAYLOAD_BYTES, VideoError, find_profile, video_profiles

USUAL = next(p.targets for p in PRESETS if p.key == "usual")


def test_need_by_erlang_b() -> None:
    """120 people, 3 calls of 3 minutes in the busy hour: 18 erlangs; published tables give 28 circuits at 1 %."""
    need = need_of(120, 3, 3, 1)
    assert need.erlangs == pytest.approx(18)
    assert need.calls == 28
    at = {point.calls: point.blocked_pct for point in need.curve}
    assert at[28] == pytest.approx(100 * erlang_b(18, 28))
    assert at[0] == 100
    assert len(need.curve) <= 60


def test_people_who_never_call_need_one_call() -> None:
    assert need_of(5, 0, 3, 1).calls == 1


@pytest.mark.parametrize("habits", [(0, 3, 3, 1), (10, -1, 3, 1), (10, 3, 3, 0), (10, 3, 3, 100), (10**5, 60, 60, 1)])
def test_habits_that_cannot_be(habits: tuple[int, float, float, float]) -> None:
    with pytest.raises(NeedError):
        need_of(*habits)


def test_presets_keep_their_own_bounds_and_can_show_their_share() -> None:
    for preset in PRESETS:
        check_targets(preset.targets)
        assert preset.targets.required_moments >= moments_to_show(preset.targets.required_share_pct)
    strict, usual, tolerant = (p.targets for p in PRESETS)
    assert strict.target_mos > usual.target_mos > tolerant.target_mos
    assert all(b.source and b.meaning for b in BOUNDS)


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"target_mos": 4.6}, "Quality of a call: 4.6 cannot be; choose 1 to 4.5 MOS"),
        ({"required_share_pct": 100.0}, "Required share of acceptable calls: 100 cannot be"),
        ({"max_delay_ms": 0.0}, "Mouth-to-ear delay: 0 cannot be"),
        ({"required_days": 0}, "Days of evidence: 0 cannot be"),
    ],
)
def test_bounds_that_cannot_be(change: dict[str, float], says: str) -> None:
    with pytest.raises(TargetError, match=says):
        check_targets(replace(USUAL, **change))


GOOD = {"mos": 4.0, "mouth_to_ear_ms": 200.0, "loss_pct": 1.0, "pdv_p99_ms": 60.0, "worst_stretch_mos": 3.1}


@pytest.mark.parametrize(
    ("figures", "missed", "unknown"),
    [
        ({}, (), ()),
        ({"mos": 3.99}, ("target_mos",), ()),
        ({"mos": None}, ("target_mos",), ()),
        ({"mouth_to_ear_ms": 200.1}, ("max_delay_ms",), ()),
        ({"mouth_to_ear_ms": None}, (), ("target_mos", "min_stretch_mos", "max_delay_ms")),
        ({"mouth_to_ear_ms": None, "mos": 3.9}, ("target_mos",), ("min_stretch_mos", "max_delay_ms")),
        ({"loss_pct": 1.1, "pdv_p99_ms": 61.0}, ("max_loss_pct", "max_variation_ms"), ()),
        ({"worst_stretch_mos": 3.09}, ("min_stretch_mos",), ()),
        ({"worst_stretch_mos": None}, (), ("min_stretch_mos",)),
    ],
)
def test_which_bounds_a_call_misses_and_which_stay_open(
    figures: dict[str, float | None], missed: tuple[str, ...], unknown: tuple[str, ...]
) -> None:
    judged = judge_bounds(USUAL, **{**GOOD, **figures})  # type: ignore[arg-type]
    assert (tuple(judged.missed), judged.open) == (missed, unknown)
    assert judged.acceptable is (False if missed else None if unknown else True)


FREE = replace(USUAL, max_delay_ms=None, max_loss_pct=None, max_variation_ms=None, min_stretch_mos=None)


def test_targets_in_words() -> None:
    assert in_words(USUAL) == (
        "4.0 MOS or better, at most 200 ms mouth-to-ear, at most 1 % lost, at most 60 ms PDV, "
        "no ten seconds below 3.1 MOS"
    )
    assert in_words(FREE) == "4.0 MOS or better"


def test_a_bound_not_asked_is_never_missed() -> None:
    figures = {"mouth_to_ear_ms": 900.0, "loss_pct": 9.0, "pdv_p99_ms": 400.0, "worst_stretch_mos": 1.0}
    assert judge_bounds(FREE, mos=4.1, **figures).acceptable is True


@pytest.mark.parametrize("profile", video_profiles().values(), ids=lambda p: p.name)
def test_video_frames_keep_the_bit_rate_and_the_packet_size(profile) -> None:  # type: ignore[no-untyped-def]
    refresh, ordinary = profile.frame_bytes()
    whole = refresh + (profile.frames_per_refresh - 1) * ordinary
    assert whole * 8 / profile.refresh_s / 1000 == pytest.approx(profile.kbps, rel=0.01)
    for size in (refresh, ordinary):
        packets = profile.packets(size)
        assert sum(packets) == size
        assert max(packets) <= MAX_PAYLOAD_BYTES
        assert max(packets) - min(packets) <= 1
    rate = video_rate(profile)
    assert rate.ipv4_kbps == pytest.approx(profile.kbps + 40 * 8 * rate.packets_per_s / 1000)


def test_unknown_video_profile() -> None:
    with pytest.raises(VideoError, match="no video profile “8k”"):
        find_profile("8k")


def test_what_the_line_carries_counts_the_sites_own_overheads() -> None:
    g711 = find_codec("g711a")
    assert call_rate(g711, 20).line_kbps == pytest.approx(80 * 1.05)
    assert call_rate(g711, 20, Link(ipv6=True)).line_kbps == pytest.approx(88 * 1.05)
    full = Link(srtp=True, pppoe=True, tunnel_bytes=50)
    assert call_rate(g711, 20, full).line_kbps == pytest.approx((200 + 10 + 8 + 50) * 0.4 * 1.05)


def test_shapes() -> None:
    assert ramp(2, 9, 3, 30).steps == (2, 5, 8, 9)
    assert ramp(4, 4, 1, 30).steps == (4,)
    plan = plan_run(find_codec("g711a"), 20, ramp(1, 4, 1, 30, rounds=2))
    assert (plan.calls, plan.calls_at_once) == (20, 4)
    assert plan.run_s == 8 * 30 + 7 * 5
    assert plan.moments == 1
    assert plan.shows_pct == pytest.approx(shown_by(1)) == pytest.approx(2.5)
    assert plan_run(find_codec("g711a"), 20, hold(1, 601)).moments == 2


@pytest.mark.parametrize(
    "shape", [Shape((), 30), Shape((101,), 30), Shape((1,), 0.5), hold(1, 30, 0), Shape((1,) * 101, 30)]
)
def test_shapes_that_cannot_be_placed(shape: Shape) -> None:
    with pytest.raises(PlanError):
        check_shape(shape)
    with pytest.raises(PlanError, match="never goes up"):
        ramp(5, 4, 1, 30)


def test_a_plan_with_video_ends_where_its_record_would_be_full() -> None:
    """Thirty million packets both ways together, those of ten video streams among them."""
    video = (VideoLoad("720p30", 10),)
    per_s = 50 + 10 * find_profile("720p30").packets_per_s()
    most = int(15_000_000 / per_s)
    plan = plan_run(find_codec("g711a"), 20, hold(1, most), video=video)
    assert plan.packets == pytest.approx(30_000_000, rel=0.001)
    with pytest.raises(PlanError, match="packets"):
        plan_run(find_codec("g711a"), 20, hold(1, most + 2), video=video)


@pytest.mark.parametrize(
    ("streams", "dscp", "fine"), [(1, 0, True), (1, 63, True), (1, 64, False), (1, -1, False), (0, 34, False)]
)
def test_video_that_cannot_be_placed(streams: int, dscp: int, fine: bool) -> None:
    with nullcontext() if fine else pytest.raises(PlanError, match=r"DSCP|at least one"):
        plan_run(find_codec("g711a"), 20, hold(1, 10), video=(VideoLoad("720p30", streams, dscp),))
