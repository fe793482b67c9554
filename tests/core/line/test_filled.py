"""A filled line, judged: figures of each phase against made-up truth, and every threshold from both sides."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest

from tarnfell.core.clock import Exchanges
from tarnfell.core.codecs import find_codec
from tarnfell.core.line.filled import LEAST_ECHOES, Filled, _Case, _rate, judge_filled
from tarnfell.core.line.measure import Held, HeldCall, settled, steadiness, throughput_kbps
from tarnfell.core.line.values import FillLimits, LineFilled, Side
from tarnfell.core.quality import criterion_for
from tarnfell.core.trace import NOT_ARRIVED, Trace
from tarnfell.wire.kinds.fill import Echoes, FillPhase, Place, SenderFacts

T0 = 1_795_000_000_000_000
BASE_MS = 15.0
CRITERION = criterion_for(find_codec("g711a"), 20)
LIMITS = FillLimits(need_kbps=160)
Delay = Callable[[float], float]
"""Added to a packet sent so many seconds into the run, ms."""


def flat(_at_s: float) -> float:
    return 0.0


def while_up(ms: float) -> Delay:
    """The upload is filled from 5 s to 15 s."""
    return lambda at_s: ms if 5 <= at_s < 15 else 0.0


def trace(added: Delay = flat, lost_every: int = 0, lost_from_s: float = 5.0, offset_us: int = 0) -> Trace:
    sent = T0 + offset_us + np.arange(19 * 50, dtype=np.int64) * 20_000
    at_s = (sent - sent[0]) / 1e6
    # A millisecond of scatter, so that a queue is not taken for a longer route.
    scatter = np.where(np.arange(len(sent)) % 2, 0.0, 0.4)
    wobble = np.array([added(s) * (1 + 0.15 * np.sin(7 * s)) for s in at_s])
    recv = sent + ((BASE_MS + wobble + scatter) * 1000).astype(np.int64)
    if lost_every:
        recv[(np.arange(len(sent)) % lost_every == 0) & (at_s >= lost_from_s) & (at_s < 15)] = NOT_ARRIVED
    return Trace(np.arange(len(sent), dtype=np.int64), sent, recv)


def exchanges(added: Delay = flat) -> Exchanges:
    t1 = T0 * 1000 + np.arange(19 * 20, dtype=np.int64) * 50_000_000
    way = np.array([added((t - t1[0]) / 1e9) for t in t1]) * 1e6
    t2 = t1 + (BASE_MS * 1e6 + way).astype(np.int64)
    t3 = t2 + 100_000
    return Exchanges(t1, t2, t3, t3 + int(BASE_MS * 1e6))


def phases(kbps: float = 5000, resent_pct: float = 2.0, queued_ms: float = 0.0) -> tuple[FillPhase, ...]:
    sent = int(kbps * 1000 / 8 * 10)
    sender = SenderFacts("cubic", sent, int(sent * resent_pct / 100), 0.0, 0.0, queued_ms)
    slots = (int(kbps * 1000 / 8 / 10),) * 100
    return (
        FillPhase("idle", T0, T0 + 5_000_000),
        FillPhase("up", T0 + 5_000_000, T0 + 15_000_000, slots, (), sender, None),
    )


def run(
    plain: Trace | None = None,
    marked: Trace | None = None,
    round_trips: Exchanges | None = None,
    told: tuple[FillPhase, ...] = (),
    echoes: tuple[Echoes, ...] = (),
    down: Trace | None = None,
    **more: float,
) -> Filled:
    plain = plain or trace()
    down = down or trace(offset_us=7_000_000)
    kept: dict[Side, float | None] = {"up": 100.0, "down": 100.0}
    held = Held(
        HeldCall({"up": plain, "down": down}, kept),
        HeldCall({"up": marked or plain, "down": down}, kept),
        round_trips or exchanges(),
        CRITERION,
    )
    return Filled(held, told or phases(), echoes, calls_kbps=160, **more)  # type: ignore[arg-type]


def keys(filled: LineFilled) -> list[tuple[str, str, str]]:
    return [(cause.key, cause.leg, cause.direction) for cause in filled.causes]


def echoed(place: Place, added: Delay) -> Echoes:
    at = tuple(T0 + n * 200_000 for n in range(95))
    return Echoes(place, "192.0.2.1", at, tuple(round((2 + added((t - T0) / 1e6)) * 1000) for t in at))


def test_figures_of_a_phase_are_those_of_its_settled_part() -> None:
    filled = judge_filled(run(trace(while_up(200)), round_trips=exchanges(while_up(200))), LIMITS)
    idle, up = filled.phase("idle"), filled.phase("up")
    assert idle is not None
    assert up is not None
    assert (up.from_s, up.until_s) == (5, 15)
    assert idle.rtt_p50_ms == pytest.approx(2 * BASE_MS, abs=0.1)
    assert up.rtt_p50_ms == pytest.approx(2 * BASE_MS + 200, abs=0.1)
    assert up.added_delay_p50_ms == pytest.approx(200, abs=0.1)
    assert up.rpm == pytest.approx(60_000 / 230, rel=1e-3)
    assert up.exchanges == 8 * 20  # the first two seconds are left out
    assert up.up.delay_added_p50_ms == pytest.approx(200, abs=8)
    assert up.up.delay_added_p95_ms == pytest.approx(230, abs=5)
    assert up.up.throughput_kbps == pytest.approx(5000)
    assert up.up.throughput_ip_kbps == pytest.approx(5000 * 1500 / 1448)
    assert up.up.retransmitted_pct == pytest.approx(2.0)
    assert up.up.filled is True
    assert up.down.filled is None  # it was not to be
    assert up.mos_loaded == up.up.mos
    assert up.up.mos < 2 < 4.3 < idle.up.mos  # type: ignore[operator]
    # The far end's clock is seven seconds ahead: its packets still fall into their phases.
    assert up.down.delay_added_p50_ms == pytest.approx(0, abs=0.5)
    assert up.down.mos > 4.3  # type: ignore[operator]
    assert filled.moved_bytes == 6_250_000
    assert len(filled.seconds) == 19
    assert filled.instants[100].up_ms > 150  # type: ignore[operator]
    assert filled.instants[100].down_ms < 1  # type: ignore[operator]
    assert filled.instants[100].rtt_ms == pytest.approx(230, abs=1)


def test_a_queue_and_priority_that_is_not_honoured() -> None:
    filled = judge_filled(run(trace(while_up(200)), round_trips=exchanges(while_up(200))), LIMITS)
    assert keys(filled) == [("uplink-queue", "unknown", "up"), ("priority-ignored", "unknown", "up")]
    assert filled.says[0].endswith("marking does not help: a marked call waits as long (1.00).")
    assert filled.phases[1].up.marked_added_p50_ms == pytest.approx(200, abs=8)
    # 5000 of payload are 5180 at IP, and 160 of calls among it: nine tenths and nineteen twentieths of 5340.
    assert "90–95 % of its rate (4.81 Mbit/s to 5.07 Mbit/s at IP)" in filled.causes[0].remedy
    spared = judge_filled(run(trace(while_up(200)), trace(), exchanges(while_up(200))), LIMITS)
    assert keys(spared) == [("uplink-queue", "unknown", "up")]
    assert "priority is honoured" in spared.says[0]
    assert "mark" in spared.causes[0].remedy


@pytest.mark.parametrize(
    ("kbps", "words"),
    [
        (96.04, "96 kbit/s"), (999.4, "999 kbit/s"), (999.6, "1 Mbit/s"), (1000.0, "1 Mbit/s"), (5340.0, "5.34 Mbit/s"),
        (999_600.0, "1000 Mbit/s"), (2_345_000.0, "2340 Mbit/s"),
    ],
)  # fmt: skip
def test_a_rate_is_told_by_three_figures_of_a_gigabit_line_too(kbps: float, words: str) -> None:
    assert _rate(kbps) == words


@pytest.mark.parametrize(
    ("added_ms", "mos", "marked", "waits_ms", "found"),
    [
        (29.9, 3.0, 3.0, 0.0, []),
        (30.0, 3.0, 3.0, 0.0, ["uplink-queue", "priority-ignored"]),
        (30.0, 4.0, 4.0, 0.0, []),  # the target is kept
        (30.0, 3.0, 3.09, 0.0, ["uplink-queue", "priority-ignored"]),
        (30.0, 3.0, 3.11, 9.9, ["uplink-queue"]),  # it may be chance
        (30.0, 3.0, 3.49, 10.0, ["uplink-queue", "priority-ignored"]),  # but it waits in the same queue
        (30.0, 3.0, 3.5, 10.0, ["uplink-queue"]),
    ],
)
def test_from_where_on_a_queue_and_ignored_priority_are_told(
    added_ms: float, mos: float, marked: float, waits_ms: float, found: list[str]
) -> None:
    case = case_of(20.0, mos, marked, waits_ms, added_ms)
    assert [one.key for one in case.causes()] == found


def case_of(waits_ms: float, mos: float, marked: float, marked_ms: float | None, added_ms: float = 40.0) -> _Case:
    """A full upload, its two calls' medians of added delay and MOS set to these."""
    done = run(trace(while_up(200)), round_trips=exchanges(while_up(200)))
    idle, up = (one for one in judge_filled(done, LIMITS).phases)
    figures = replace(
        up.up, delay_added_p50_ms=waits_ms, delay_added_p95_ms=added_ms, mos=mos, mos_marked=marked,
        marked_added_p50_ms=marked_ms,
    )  # fmt: skip
    return _Case(done, LIMITS, "up", idle.up, replace(up, up=figures), done.phases[1])


@pytest.mark.parametrize(
    ("mos", "marked", "waits_ms", "marked_ms", "said"),
    [
        (3.0, 4.1, 50.0, 2.0, "a marked one stays at 4.10: priority is honoured."),
        (3.0, 3.6, 50.0, 2.0, "marking helps and is not enough (3.60)."),
        (3.98, 4.02, 50.0, 2.0, "marking does not help (4.02)."),
        (3.8, 4.02, 50.0, 2.0, "a marked one to 4.02: too little to tell."),
        (3.8, 4.02, 50.0, None, "a marked one to 4.02: too little to tell."),
        (3.8, 4.02, 50.0, 24.9, "a marked one to 4.02: too little to tell."),
        (3.8, 4.02, 50.0, 25.0, "marking does not help: a marked call waits as long (4.02)."),
        (3.8, 3.9, 19.9, 19.9, "a marked one to 3.90: too little to tell."),
    ],
)
def test_what_marking_does_is_told_no_surer_than_it_is(
    mos: float, marked: float, waits_ms: float, marked_ms: float | None, said: str
) -> None:
    case = case_of(waits_ms, mos, marked, marked_ms)
    assert case.sentence().endswith(said)
    # Marked calls pass the queue only where they are seen to.
    assert [("Marked calls pass" in one.remedy) for one in case.causes()][:1] == ["honoured" in said]


def test_what_the_path_carries_is_the_streams_and_what_arrived_of_the_calls() -> None:
    done = run(trace(while_up(200)), round_trips=exchanges(while_up(200)))
    assert done.held.length_s == pytest.approx(18.98)
    for lost_pct, carried in ((0.0, 1160), (50.0, 1080), (None, 1160)):
        case = case_of(200.0, 3.0, 3.0, 200.0)
        now = replace(case.now, throughput_ip_kbps=1000.0, loss_pct=lost_pct)
        case.now = now
        assert case._carried_kbps() == pytest.approx(carried)


def test_marking_that_does_not_arrive_cannot_be_honoured() -> None:
    whole = run(trace(while_up(200)), round_trips=exchanges(while_up(200)))
    for kept, second in ((89.9, "marking-changed"), (90.0, "priority-ignored"), (None, "priority-ignored")):
        marked = replace(whole.held.marked, kept_pct={"up": kept, "down": 100.0})
        judged = judge_filled(replace(whole, held=replace(whole.held, marked=marked)), LIMITS)
        assert [key for key, _, _ in keys(judged)] == ["uplink-queue", second]


def test_a_fill_that_was_stopped_before_it_began_says_so() -> None:
    assert "nothing follows for calls" in judge_filled(run(told=phases()[:1]), LIMITS).says[0]


def test_a_queue_that_calls_do_not_feel_is_no_cause() -> None:
    filled = judge_filled(run(trace(while_up(35)), round_trips=exchanges(while_up(35))), LIMITS)
    assert filled.phase("up").up.filled is True  # type: ignore[union-attr]
    assert keys(filled) == []
    assert "does not hurt them" in filled.says[0]
    # For a brief that asks for more the same is one.
    assert keys(judge_filled(run(trace(while_up(100)), round_trips=exchanges(while_up(100))), LIMITS))


@pytest.mark.parametrize(
    ("gateway", "edge", "leg", "key"),
    [
        (0, 200, "line", "uplink-queue"),
        (200, 200, "inside", "inside-congested"),
        (0, 0, "beyond", "beyond-congested"),
        (0, 110, "unknown", "uplink-queue"),  # half and half
        (None, 200, "inside or line", "uplink-queue"),
        (0, None, "unknown", "uplink-queue"),
        (600, 200, "inside", "inside-congested"),  # slow to answer for itself: no more than what lies beyond shows
        (600, 0, "beyond", "beyond-congested"),
    ],
)
def test_the_leg_is_where_the_echoes_begin_to_take_longer(
    gateway: float | None, edge: float | None, leg: str, key: str
) -> None:
    places: list[tuple[Place, float | None]] = [("gateway", gateway), ("edge", edge)]
    echoes = tuple(echoed(place, while_up(ms)) for place, ms in places if ms is not None)
    filled = judge_filled(run(trace(while_up(200)), round_trips=exchanges(while_up(200)), echoes=echoes), LIMITS)
    assert (filled.causes[0].key, filled.causes[0].leg) == (key, leg)


@pytest.mark.parametrize(("answered", "leg"), [(LEAST_ECHOES - 1, "unknown"), (LEAST_ECHOES, "line")])
def test_how_many_echoes_place_a_queue(answered: int, leg: str) -> None:
    whole, left = echoed("edge", while_up(200)), dict.fromkeys(("idle", "up"), answered)
    rtt_us = []
    for at, rtt in zip(whole.at_us, whole.rtt_us, strict=True):
        phase = next((one for one in phases() if settled(one)[0] <= at < settled(one)[1]), None)
        told = phase is not None and left[phase.way] > 0
        if phase is not None and told:
            left[phase.way] -= 1
        rtt_us.append(rtt if told else -1)
    beside = (echoed("gateway", flat), replace(whole, rtt_us=tuple(rtt_us)))
    filled = judge_filled(run(trace(while_up(200)), round_trips=exchanges(while_up(200)), echoes=beside), LIMITS)
    assert filled.causes[0].leg == leg


def test_too_few_echoes_place_nothing() -> None:
    whole = echoed("edge", while_up(200))
    silent = replace(whole, rtt_us=tuple(rtt if n % 12 == 0 else -1 for n, rtt in enumerate(whole.rtt_us)))
    filled = judge_filled(
        run(trace(while_up(200)), round_trips=exchanges(while_up(200)), echoes=(echoed("gateway", flat), silent)),
        LIMITS,
    )
    assert filled.causes[0].leg == "unknown"


def test_packets_beyond_a_rate_that_are_dropped() -> None:
    policed = run(trace(lost_every=100))
    assert keys(judge_filled(policed, LIMITS)) == [("policed", "unknown", "up")]
    # 2 of 400 packets are half a per cent, and enough.
    assert keys(judge_filled(run(trace(lost_every=200), told=phases(resent_pct=0.0)), LIMITS)) == [
        ("policed", "unknown", "up")
    ]
    # Neither the call nor TCP lost enough.
    assert keys(judge_filled(run(trace(lost_every=250), told=phases(resent_pct=0.3)), LIMITS)) == []
    # TCP's bytes alone tell of a policer, unless they queue.
    assert keys(judge_filled(run(told=phases(resent_pct=5, queued_ms=3)), LIMITS)) == [("policed", "unknown", "up")]
    assert keys(judge_filled(run(told=phases(resent_pct=5, queued_ms=60)), LIMITS)) == []
    # The idle line loses as well: that is no policer.
    assert keys(judge_filled(run(trace(lost_every=100, lost_from_s=0)), LIMITS)) == []


def test_a_rate_that_comes_and_goes_is_no_ceiling() -> None:
    idle, up = phases()
    uneven = replace(up, up=tuple(count * (2 if n // 20 % 2 else 0) for n, count in enumerate(up.up)))
    assert steadiness(up.up, up) == pytest.approx(1)
    assert steadiness(uneven.up, uneven) == 0
    assert keys(judge_filled(run(trace(lost_every=100), told=(idle, uneven)), LIMITS)) == []


def test_a_line_too_small_for_the_calls_it_must_carry() -> None:
    need = FillLimits(need_kbps=5500)
    filled = judge_filled(run(trace(while_up(200)), round_trips=exchanges(while_up(200))), need)
    assert keys(filled) == [("uplink-small", "unknown", "up")]
    assert "5340 kbit/s" in filled.causes[0].says
    assert "7333 kbit/s" in filled.causes[0].remedy  # a quarter to spare
    assert keys(
        judge_filled(run(trace(while_up(200)), round_trips=exchanges(while_up(200))), FillLimits(need_kbps=5300))
    )[0][0] == ("uplink-queue")


def test_a_line_that_calls_alone_overflow() -> None:
    standing = trace(lambda at_s: min(800.0, 400 * at_s), lost_every=3, lost_from_s=1)
    idle, up = phases()
    filled = judge_filled(run(standing, told=(idle, replace(up, up=()))), LIMITS)
    assert keys(filled) == [("uplink-small", "unknown", "up")]
    assert "too small" in filled.says[0]


def test_what_was_bad_before_is_not_put_down_to_the_load() -> None:
    filled = judge_filled(run(trace(lambda at_s: 150 * (0.5 + 0.5 * np.sin(5 * at_s)))), LIMITS)
    assert keys(filled) == []
    assert "on the idle line already" in filled.says[0]


def test_a_line_that_was_not_full_proves_nothing() -> None:
    limited = tuple(
        replace(one, up_sender=SenderFacts("cubic", 10**7, 0, 80.0, 0.0)) if one.way == "up" else one
        for one in phases()
    )
    filled = judge_filled(run(told=limited), LIMITS)
    side = filled.phase("up").up  # type: ignore[union-attr]
    assert (side.filled, side.limited_by) == (False, "receiver")
    assert "Upload was not seen to be full" in filled.says[0]
    assert "receiving end" in filled.says[0]
    # By the rate that was sold it is full.
    sold = judge_filled(run(told=limited), replace(LIMITS, up_kbps=6000))
    assert sold.phase("up").up.filled is True  # type: ignore[union-attr]
    assert judge_filled(run(told=limited), replace(LIMITS, up_kbps=6200)).phase("up").up.filled is False  # type: ignore[union-attr]
    kept = judge_filled(run(told=phases(resent_pct=0), ceiling=True), LIMITS)
    assert kept.phase("up").up.limited_by == "ceiling"  # type: ignore[union-attr]


def test_download_filled_by_itself_is_judged_by_itself() -> None:
    idle, up = phases()
    down = replace(up, way="down", up=(), down=up.up, up_sender=None, down_sender=up.up_sender)
    (told,) = judge_filled(run(told=(idle, down)), LIMITS).says
    assert told.startswith("A full download")


def test_streams_that_could_not_be_opened_are_told() -> None:
    idle, up = phases()
    filled = judge_filled(run(told=(idle, replace(up, up=(), failure="The far end refused."))), LIMITS)
    assert filled.says == ("Upload could not be filled: The far end refused.",)
    assert keys(filled) == []


def test_throughput_leaves_out_how_streams_begin_and_end() -> None:
    phase = phases()[1]
    slow = (0,) * 20 + (62_500,) * 80 + (10_000_000,)
    assert throughput_kbps(slow, phase) == pytest.approx(5000)
    # Slots that were never told, because the connection died: nothing moved in them.
    assert throughput_kbps((62_500,) * 60, phase) == pytest.approx(2500)
    assert throughput_kbps((62_500,) * 90, phase) == pytest.approx(5000)  # told late
    assert throughput_kbps((), phase) is None


@pytest.mark.parametrize(
    ("cut_s", "judged", "during"),
    [
        (17.0, True, ""),  # the upload was over at 15 s, two seconds before
        (16.9, False, " while upload was filled or soon after"),
        (9.0, False, " while upload was filled or soon after"),
        (5.0, False, " while the line was idle or soon after"),
    ],
)
def test_a_run_that_broke_off_is_judged_as_far_as_it_was_surely_over(cut_s: float, judged: bool, during: str) -> None:
    whole = run(trace(while_up(200)), trace(while_up(200)), exchanges(while_up(200)))
    filled = judge_filled(replace(whole, cut="The far end went away.", cut_s=cut_s), LIMITS)
    assert filled.says[0] == (
        f"The run was broken off{during}: The far end went away. What was surely over by then is judged."
    )
    assert ("uplink-queue" in [key for key, *_ in keys(filled)]) is judged
    assert (filled.phase("up") is not None) is judged
    assert filled.moved_bytes == judge_filled(whole, LIMITS).moved_bytes


def test_a_half_of_a_run_tells_what_it_can() -> None:
    """Of what went up only the far end knows; what came down is here."""
    whole = run(down=trace(offset_us=7_000_000))
    held = replace(whole.held, plain=replace(whole.held.plain, traces={**whole.held.plain.traces, "up": None}))
    held = replace(held, marked=replace(held.marked, traces={**held.marked.traces, "up": None}))
    filled = judge_filled(replace(whole, held=held, cut="It went away.", cut_s=30.0), LIMITS)
    assert "not known" in filled.says[1]
    assert keys(filled) == []
