"""From facts to findings, score and verdict: what follows from what, and that worse never scores better."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tarnfell.core.evidence import Brief, CallFact, Trouble, read
from tarnfell.core.site import Evaluation, evaluate_site
from tarnfell.core.verdict import CONDITIONS_CAP, NOT_READY_CAP, WEIGHTS

BRIEF = Brief(
    needed_calls=4, target_mos=4.0, required_share_pct=97, required_days=2, required_busy_hours=2, required_calls=100
)


def fact(call: int, direction: str, **changes: object) -> CallFact:
    good = CallFact(
        call_id=call,
        run_id=call,
        direction=direction,
        day=f"2026-11-{16 + call % 3:02d}",
        minute=call * 10 % 1440,
        busy=480 <= call * 10 % 1440 < 1080,
        concurrent=1,
        sent=500,
        received=500,
        loss_pct=0.0,
        late_pct=0.0,
        burst_ratio=1.0,
        mos=4.36,
        delay_p50_ms=20.0,
        pdv_p50_ms=0.5,
        mouth_to_ear_ms=100.0,
        pdv_p95_ms=2.0,
        pdv_p99_ms=3.0,
        jitter_ms=0.4,
        dscp_sent=46,
        dscp_kept_pct=100.0,
        tainted=False,
    )
    return replace(good, **changes)


def calls(count: int = 300, first: int = 0, up: dict | None = None, **both: object) -> list[CallFact]:
    return [
        fact(first + i, direction, **{**both, **((up or {}) if direction == "up" else {})})
        for i in range(count)
        for direction in ("up", "down")
    ]


HELD = calls(4, first=9000, concurrent=4)
QUEUE = {"mos": 2.1, "delay_p50_ms": 300.0, "pdv_p50_ms": 60.0, "pdv_p95_ms": 120.0, "late_pct": 30.0}
LOSS = {"mos": 3.0, "loss_pct": 6.0, "received": 470, "burst_ratio": 2.5}
SCATTER = {"mos": 3.4, "late_pct": 9.0, "pdv_p50_ms": 19.0, "pdv_p95_ms": 75.0, "jitter_ms": 23.0}
SILENT = {"mos": None, "received": 0, "loss_pct": 100.0, "delay_p50_ms": None, "pdv_p50_ms": None, "pdv_p95_ms": None}
FAR = {"mos": 3.5, "delay_p50_ms": 290.0}


def judged(facts: list[CallFact], brief: Brief = BRIEF) -> Evaluation:
    return evaluate_site(facts, brief)


@pytest.mark.parametrize(
    ("what", "trouble", "key"),
    [
        (QUEUE, Trouble.QUEUE, "standing-queue-up"),
        (LOSS, Trouble.LOSS, "loss-up"),
        (SCATTER, Trouble.LATE, "late-up"),
        (SILENT, Trouble.SILENT, "silent-up"),
    ],
)
def test_each_trouble_is_told_from_the_others(what: dict, trouble: Trouble, key: str) -> None:
    facts = calls(200) + calls(60, first=200, up=what)
    troubles = {r.trouble for r in read(facts, BRIEF) if not r.good}
    assert troubles == {trouble}
    evaluation = judged(facts)
    assert [f.key for f in evaluation.findings] == [key]
    (finding,) = evaluation.findings
    assert (finding.calls_hit, finding.calls) == (60, 260)
    assert finding.who
    assert finding.remedy
    assert finding.alternatives
    assert set(finding.call_ids) <= set(range(200, 260))


def test_a_site_that_is_always_far_is_told_so() -> None:
    """Delay that never changes is distance, not a queue."""
    (finding,) = judged(calls(100, up=FAR)).findings
    assert finding.key == "delay-up"


def test_marking_that_does_not_arrive() -> None:
    keys = {f.key for f in judged(calls(50, up={"dscp_kept_pct": 0.0})).findings}
    assert keys == {"marking-up"}


def test_gain_counts_only_calls_that_nothing_else_spoils() -> None:
    facts = calls(100) + calls(10, first=100, up=LOSS) + calls(5, first=200, **LOSS)
    by_key = {f.key: f for f in judged(facts).findings}
    assert by_key["loss-up"].calls_hit == 15
    assert by_key["loss-up"].gain.endswith("10 of 115 calls saved.")


def test_ready_but_provisional_without_a_line_fill() -> None:
    verdict = judged(calls() + HELD).verdict
    assert (verdict.word, verdict.score, verdict.provisional) == ("ready", 100, True)
    assert verdict.missing == ("behaviour under load not measured",)
    assert verdict.sustained_calls == 4


def test_short_evidence_is_named() -> None:
    verdict = judged(calls(3, first=48, day="2026-11-16")).verdict
    assert "1 of 2 days" in verdict.missing
    assert "1 of 2 busy hours" in verdict.missing
    assert "3 of 100 calls" in verdict.missing


def test_nothing_is_not_a_score() -> None:
    verdict = judged([]).verdict
    assert (verdict.word, verdict.score, verdict.provisional) == ("no evidence", None, True)


def test_gates_cap_the_score() -> None:
    certain = judged(calls(200) + calls(40, first=200, up=LOSS) + HELD).verdict
    assert certain.word == "not ready"
    assert certain.score is not None
    assert certain.score <= NOT_READY_CAP
    straddling = judged(calls(100) + calls(3, first=100, up=LOSS) + HELD).verdict
    assert straddling.word == "ready with conditions"
    assert straddling.score is not None
    assert straddling.score <= CONDITIONS_CAP


def test_fewer_calls_than_needed_is_not_ready() -> None:
    verdict = judged(
        calls() + calls(2, first=8000, concurrent=2) + calls(4, first=9000, concurrent=4, up=QUEUE)
    ).verdict
    assert verdict.sustained_calls == 2
    assert verdict.word == "not ready"
    assert "2 calls at once are sustained, 4 are needed." in verdict.reasons


def test_sustained_stops_at_the_first_number_that_fails() -> None:
    facts = (
        calls(2, first=1, concurrent=2) + calls(3, first=10, concurrent=3, up=LOSS) + calls(4, first=20, concurrent=4)
    )
    assert judged(facts).verdict.sustained_calls == 2


def test_a_tainted_probe_says_nothing_of_the_network() -> None:
    evaluation = judged(calls(50) + calls(50, first=50, up=LOSS, tainted=True))
    assert evaluation.findings == []
    assert evaluation.tainted_calls == 50


def test_lost_points_add_up() -> None:
    verdict = judged(calls(200) + calls(40, first=200, up=QUEUE) + HELD).verdict
    assert verdict.uncapped is not None
    assert 100 - sum(d.lost_points for d in verdict.dimensions) == pytest.approx(verdict.uncapped)
    for d in verdict.dimensions:
        if d.lost_points > 0.05 and d.dimension in ("voice", "steadiness"):
            assert d.taken_by == "standing-queue-up"
    assert sum(WEIGHTS.values()) == 100


troubles = st.sampled_from([QUEUE, LOSS, SCATTER, SILENT, {"dscp_kept_pct": 0.0}])


@given(st.lists(troubles, max_size=8), troubles, st.integers(8, 39))
def test_worse_input_never_raises_the_score(before: list[dict], more: dict, at: int) -> None:
    """Spoil one more of the calls that were good: the score stays or falls."""
    spoiled = [fact(i, "up", **before[i]) if i < len(before) else fact(i, "up") for i in range(40)]
    downs = [fact(i, "down") for i in range(40)]
    first = judged(spoiled + downs + HELD).verdict.score
    worse = list(spoiled)
    worse[at] = replace(worse[at], **more)
    second = judged(worse + downs + HELD).verdict.score
    assert first is not None
    assert second is not None
    assert second <= first


def test_day_sheet_shows_the_worst_call_of_each_cell() -> None:
    facts = calls(1, first=60) + [
        fact(500, d, day="2026-11-16", minute=603, **(LOSS if d == "up" else {})) for d in ("up", "down")
    ]
    days = judged(facts).sheet
    assert len(days) == 7
    assert days[-1].day == "2026-11-16"
    assert days[-1].up.mos[60] == 3.0
    assert days[-1].down.mos[60] == 4.36
    assert days[-1].call_id[60] == 500
    assert days[-1].worst_mos(60, 61) == 3.0
    assert days[0].worst_mos(0, 144) is None
