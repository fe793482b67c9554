"""A page's half of the packets: what is taken of it, and what becomes of it with and without the far end's."""

from __future__ import annotations

import json
from typing import Any

import pytest

from tarnfell.core.clock import UNKNOWN, estimate
from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for
from tarnfell.probe import halves as far_halves
from tarnfell.wire import WireError
from tarnfell.wire.kinds.fill import FillPhase
from tarnfell.wire.kinds.selfcheck import FarCheck, self_check_of
from tarnfell.wire.record import Record, pack_column, split_parts
from tarnfell.work.ingest.browsers import Asked, fill_of, is_cut, own_half
from tarnfell.work.ingest.packets import clock_relation, half_of, judge_record, parse_checked, stamp_exchanges

pytestmark = pytest.mark.usefixtures("told_as_before")

START = 1_700_000_000_000_000
ASKED = Asked(calls=1, ptime_ms=20, seconds=1.0)


def half(**changes: Any) -> bytes:
    """Fifty packets each way, one a 20 ms; every tenth down is missing, and 30 ms each way."""
    told: dict[str, Any] = {
        "started_us": START,
        "lasted_s": 2.5,
        "agent": "A browser",
        "stopped": False,
        "check": {"late_ms": {"p50": 1.0, "p99": 4.0, "max": 6.0}, "scatter_ms": None, "held_ms": None, "hidden_s": 0},
        "cut": None,
        "calls": [
            {
                "sent_us": [20_000 * n for n in range(50)],
                "arrival_seq": [n for n in range(50) if n % 10],
                "arrival_us": [20_000 * n + 30_000 for n in range(50) if n % 10],
                "far": [50, 48],
            }
        ],
        "exchange": {
            "t1_us": [100_000 * n for n in range(20)],
            "t2_us": [100_000 * n + 30_000 for n in range(20)],
            "t3_us": [100_000 * n + 30_100 for n in range(20)],
            "t4_us": [100_000 * n + 60_100 for n in range(20)],
        },
    }
    return json.dumps({**told, **changes}).encode()


def parts(body: bytes) -> tuple[Record, Record]:
    head, call = split_parts(own_half(ASKED, body))
    return Record.parse(head), parse_checked(call)


def test_a_half_has_a_browsers_packets_and_waits_for_the_far_ends() -> None:
    head, call = parts(half())
    assert call.values("up.sent_us") == [START + 20_000 * n for n in range(50)]
    assert call.values("down.arrival_us")[:2] == [START + 50_000, START + 70_000]
    assert call.meta["call"] == 1
    assert (call.meta["planned_packets"], call.meta["ptime_us"]) == (50, 20_000)
    told = half_of(call)
    assert told is not None
    assert (told.seconds, told.expected, told.received) == (2.5, 50, 48)
    assert "cut" not in head.meta
    assert stamp_exchanges(head).round_trip_ms.tolist() == pytest.approx([60.0] * 20)
    assert estimate(stamp_exchanges(head)) != UNKNOWN


def test_joined_with_the_far_ends_it_is_judged_like_a_probes(monkeypatch: pytest.MonkeyPatch) -> None:
    """Of 50 up, number 7 and 8 never came; down every tenth is missing."""
    came = [n for n in range(50) if n not in (7, 8)]
    theirs = {
        0: {
            "arrival_seq": pack_column("arrival_seq", came),
            "arrival_us": pack_column("arrival_us", [START + 20_000 * n + 30_000 for n in came]),
            "sent_us": pack_column("sent_us", [START + 20_000 * n for n in range(50)]),
        }
    }
    monkeypatch.setattr(far_halves, "_fetch", lambda ticket: (theirs, FarCheck(("The far end once slept.",)), None))
    whole = far_halves.completed(own_half(ASKED, half()), far_halves.Ticket("h", 1, "k", "t", 0.0))
    head, call = (Record.parse(part) for part in split_parts(whole))
    assert half_of(call) is None
    judged = judge_record(call, clock_relation(head, [call]), criterion_for(find_codec("g711a"), 20))
    found = {way: one.quality.metrics for way, one in judged.items() if one.quality}
    assert (found["up"].sent, found["up"].lost) == (50, 2)
    assert (found["down"].sent, found["down"].lost) == (50, 5)
    assert found["up"].delay_p50_ms == pytest.approx(30, abs=0.5)
    assert self_check_of(head.meta["self_check"]).reasons == ("The far end once slept.",)


def test_a_page_that_was_late_is_not_to_be_trusted_and_says_why() -> None:
    late = {"late_ms": {"p50": 1.0, "p99": 31.0, "max": 40.0}, "scatter_ms": {"p50": 0.0, "p99": 2.0, "max": 3.0},
            "held_ms": {"p50": 0.0, "p99": 12.0, "max": 101.0}, "hidden_s": 3.5}  # fmt: skip
    head, _ = parts(half(check=late))
    check = self_check_of(head.meta["self_check"])
    assert check.tainted
    assert check.reasons == (
        "The browser sent one packet in a hundred over 31.0 ms late.",
        "The browser once let what was to leave wait for 101 ms.",
    )
    assert (check.probe.hidden_s, check.probe.scatter_ms.p99 if check.probe.scatter_ms else None) == (3.5, 2.0)
    assert "A browser" in (check.probe.arrangement or "")
    borne = {"late_ms": {"p50": 1.0, "p99": 30.0, "max": 100.0}, "scatter_ms": {"p50": 0.0, "p99": 30.0, "max": 100.0}}
    for check in ({}, {"check": borne}):
        head, _ = parts(half(**check))
        assert not self_check_of(head.meta["self_check"]).tainted


def test_a_cut_half_is_evidence_by_itself() -> None:
    cut = {"code": "silent", "reason": "It has said nothing for 8 s.", "after_s": 1.0, "server_reachable": True}
    body = half(cut=cut)
    assert is_cut(body)
    assert not is_cut(half())
    head, call = parts(body)
    assert head.meta["cut"] == cut
    judged = judge_record(call, UNKNOWN, criterion_for(find_codec("g711a"), 20))
    assert judged["down"].quality is not None
    assert judged["up"].quality is None


@pytest.mark.parametrize(
    "changes",
    [
        {"calls": []},
        {"calls": [{}, {}]},
        {"calls": "many"},
        {"calls": [7]},
        {"calls": [{"sent_us": [0] * 51}]},
        {"calls": [{"arrival_seq": [50], "arrival_us": [1]}]},
        {"calls": [{"arrival_seq": [-1], "arrival_us": [1]}]},
        {"calls": [{"arrival_seq": [1], "arrival_us": []}]},
        {"calls": [{"arrival_seq": [1] * 201, "arrival_us": [1] * 201}]},
        {"calls": [{"sent_us": [0.5]}]},
        {"calls": [{"sent_us": [True]}]},
        {"calls": [{"sent_us": [10**30]}]},
        {"calls": [{"far": [51, 0]}]},
        {"exchange": []},
        {"exchange": {"t1_us": [1], "t2_us": [], "t3_us": [], "t4_us": []}},
        {"started_us": -1},
        {"lasted_s": "long"},
        {"cut": {"code": "refused", "reason": "no", "after_s": 1.0}},
        {"check": {"late_ms": 3}},
        {"more": 1},
    ],
)
def test_a_half_that_cannot_be_is_refused_with_a_sentence(changes: dict[str, Any]) -> None:
    with pytest.raises(WireError) as refused:
        own_half(ASKED, half(**changes))
    assert str(refused.value).endswith(".")


@pytest.mark.parametrize("body", [b"", b"[]", b"\xff", b"[" * 100_000])
def test_what_is_no_object_is_refused(body: bytes) -> None:
    with pytest.raises(WireError):
        own_half(ASKED, body)


def test_a_far_end_cannot_have_received_more_than_reached_it() -> None:
    _, call = parts(half(calls=[{"far": [10, 12]}]))
    told = half_of(call)
    assert told is not None
    assert (told.expected, told.received) == (10, 10)


PHASE = {"way": "up", "from_us": START + 100_000, "until_us": START + 1_100_000, "up": [1000] * 10}


def test_phases_of_a_fill_are_told_with_the_packets() -> None:
    told = fill_of(half(phases=[PHASE], stopped=True), b"record")
    assert told.phases == (FillPhase("up", START + 100_000, START + 1_100_000, up=(1000,) * 10),)
    assert (told.record, told.stopped, told.cut, told.cut_s) == (b"record", True, None, 0.0)
    cut = {"code": "gone", "reason": "The far end went away.", "after_s": 1.5}
    assert (fill_of(half(cut=cut), b"").cut, fill_of(half(cut=cut), b"").cut_s) == ("The far end went away.", 1.5)


@pytest.mark.parametrize(
    ("phases", "words"),
    [
        ("none", "not a list"),
        ([PHASE] * 5, "not a list of at most 4"),
        ([PHASE | {"from_us": START - 1_100_000}], "outside the test"),
        ([PHASE | {"until_us": START + 3_600_000}], "outside the test"),
        ([PHASE | {"until_us": START}], "outside the test"),
        ([PHASE | {"up": [1] * 21}], "more time than it took"),
        ([PHASE | {"down": [-1]}], "more time than it took"),
        ([PHASE | {"up_sender": {"congestion": "cubic"}}], "no page in a browser"),
        ([PHASE | {"way": "sideways"}], "none of idle, up, down"),
    ],
)  # fmt: skip
def test_phases_that_cannot_be_are_refused(phases: Any, words: str) -> None:
    with pytest.raises(WireError, match=words):
        fill_of(half(phases=phases), b"")


@pytest.mark.parametrize(
    ("half", "whole"),
    [
        ({"seconds": 4, "reached": 9, "received": 0}, True),
        ({"seconds": 0, "reached": 9, "received": 9}, True),
        ({"seconds": 4, "reached": 9, "received": -1}, False),
        ({"seconds": -0.1, "reached": 9, "received": 0}, False),
    ],
)
def test_what_a_half_says_of_itself_can_be_or_not(half: dict[str, float], whole: bool) -> None:
    record = Record.of({"half": half}, {})
    if whole:
        assert half_of(record) is not None
    else:
        with pytest.raises(WireError, match="cannot be"):
            half_of(record)
