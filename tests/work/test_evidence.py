"""What counts as evidence: runs that never began or were cut, what one end knows, what a remedy sets aside."""

from __future__ import annotations

import json
from collections import Counter
from typing import Any

import pytest

from tarnfell.core.clock import from_round_trip
from tarnfell.core.codecs import find_codec
from tarnfell.core.quality import criterion_for
from tarnfell.core.verdict.readings import read
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import connect, now_us
from tarnfell.wire import WireError
from tarnfell.wire.failures import CODES, OF_THE_NETWORK, code_of
from tarnfell.wire.record import Record, join_parts, split_parts
from tarnfell.work.evidence.facts import facts_of
from tarnfell.work.ingest.packets import clock_relation, half_of, judge_record, trace_of
from tarnfell.work.ingest.uploads import figures_of
from tests.server.conftest import House, _short_calls_count, house, record_file
from tests.server.test_runs import deliver, taken

__all__ = ["_short_calls_count", "house"]

STARTED_US = 1_790_000_000_000_000


def fail(house: House, run_id: int, reason: str, **more: Any) -> None:
    answer = house.probe("POST", f"/api/probe/jobs/{run_id}/failure", json={"reason": reason, **more})
    assert answer.json == {"state": "failed"}, answer.text


def site(house: House) -> dict[str, Any]:
    return dict(house.person.get("/api/sites/pier").json)


def all_day(house: House) -> None:
    """Business at every hour, so that no test depends on when it runs."""
    connect(house.folder).execute("UPDATE site SET open_minute = 0, close_minute = 1440, open_days = '1234567'")


OLD_SENTENCES = {
    "The far end at 192.0.2.10 cannot be reached on TCP 4870 (timed out). Check the address.": "unreachable",
    "Nothing answers at 192.0.2.10 on TCP 4870: the host is there, but no far end listens.": "unreachable",
    "The far end at 192.0.2.10 has said nothing for 30 s, from 12 s into the calls on.": "silent",
    "The far end at 192.0.2.10 went away 12 s into the calls. Nothing of this run is judged.": "gone",
    "What answers at 192.0.2.10 on TCP 4870 is not a far end, or it is full.": "refused",
    "The far end at 192.0.2.10 did not accept the key.": "key",
    "The probe was ended during the run. Place the calls again.": "own",
    "Nobody knows.": "other",
}


@pytest.mark.parametrize(("sentence", "code"), OLD_SENTENCES.items())
def test_a_sentence_of_an_older_probe_has_its_code(sentence: str, code: str) -> None:
    assert code_of(sentence) == code
    assert code in CODES


@pytest.mark.parametrize(("reason", "code"), [*OLD_SENTENCES.items()])
def test_a_run_that_failed_of_the_network_is_all_its_calls_and_any_other_is_left_out(
    house: House, reason: str, code: str
) -> None:
    all_day(house)
    fail(house, taken(house, calls=3), reason)
    page = site(house)
    fail(house, taken(house, calls=3), reason)  # for the numbers below
    if code in OF_THE_NETWORK:
        assert (page["evidence"]["calls"], page["share"]["good"], page["share"]["calls"]) == (3, 0, 3)
        assert page["causes"][0]["key"] in ("line-down", "beyond-down")
        assert page["left_out"] == []
        assert page["sheet"]["days"][-1]["up_mos"].count(1.0) == 1
        db = connect(house.folder)
        calls = facts_of(db, site_store.sites_of(db, 1)[0]).calls
        # Two directions of each; no call that has a page can have such a number.
        assert sorted(Counter(one.call_id for one in calls).values()) == [2] * 6
        assert all(one.call_id < 0 for one in calls)
    else:
        assert (page["evidence"]["calls"], page["causes"]) == (0, [])
        assert page["left_out"] == [
            {"what": "of runs that failed for a reason that says nothing of the network", "calls": 3}
        ]


@pytest.mark.parametrize(
    ("reachable", "key", "leg"),
    [(True, "beyond-down", "beyond"), (False, "line-down", "inside or line")],
)
def test_whether_the_server_was_reached_tells_the_site_from_the_far_end(
    house: House, reachable: bool, key: str, leg: str
) -> None:
    fail(house, taken(house), "No.", code="unreachable", server_reachable=reachable)
    (cause,) = [c for c in site(house)["causes"] if c["network"]]
    assert (cause["key"], cause["leg"]) == (key, leg)
    assert "could not be placed" in cause["says"][0]


def test_an_older_probe_that_told_at_once_could_reach_the_server_and_one_that_told_late_is_not_known(
    house: House,
) -> None:
    reason = "The far end at 192.0.2.10 cannot be reached on TCP 4870 (timed out)."
    fail(house, taken(house), reason)
    assert site(house)["causes"][0]["key"] == "beyond-down"
    db = connect(house.folder)
    db.execute("UPDATE job SET ended_us = ended_us + 3600000000")
    db.execute("UPDATE run SET judged_us = 1")
    assert site(house)["causes"][0]["leg"] == "unknown"


def test_a_run_somebody_took_back_is_no_evidence_and_nothing_left_out(house: House) -> None:
    run_id = house.place().json["id"]
    house.post(f"/api/runs/{run_id}/stop", {})
    page = site(house)
    assert (page["evidence"]["calls"], page["left_out"]) == (0, [])


# A cut run: the probe's half


def half_file(seconds: float = 4.0, down: int = 100, told: tuple[int, int] = (90, 90), **cut: Any) -> bytes:
    """Two calls of ten seconds, cut: ``down`` packets came, and the far end had told of the first packets up."""
    about = {"code": "silent", "reason": "The far end has said nothing for 30 s.", "after_s": seconds, **cut}
    head = {"shared": True, "self_check": {"tainted": False, "reasons": []}, "stopped": False, "cut": about}
    parts = [Record(head).serialize()]
    for call in (1, 2):
        sent = [STARTED_US + i * 20_000 for i in range(200)]
        meta = {
            "call": call, "ptime_us": 20_000, "start_us": STARTED_US, "planned_packets": 500, "bound": True,
            "up": {"ssrc": call, "dscp_sent": 46}, "down": {"ssrc": 9 + call, "dscp_sent": 46},
            "half": {"seconds": seconds, "reached": told[0], "received": told[1]},
        }  # fmt: skip
        columns = {
            "up.sent_us": sent,
            "down.arrival_seq": list(range(down)),
            "down.arrival_us": [STARTED_US + 77_000 + i * 20_000 for i in range(down)],
        }
        parts.append(Record.of(meta, columns).serialize())
    return join_parts(parts)


def test_a_cut_run_is_judged_as_far_as_it_is_known_and_its_calls_are_bad(house: House) -> None:
    all_day(house)
    run_id = taken(house, seconds=10)
    assert deliver(house, run_id, half_file(server_reachable=False)).json == {"state": "done"}
    page = house.person.get(f"/api/runs/{run_id}").json
    assert page["cut"] == "The far end has said nothing for 30 s."
    assert page["good"] == 0
    assert page["events"][-1]["words"].startswith("Cut: ")
    up, down = page["up"], page["down"]
    assert (up["sent"], up["lost"], up["mos_p50"]) == (180, 0, None)
    # Four seconds were due, two came: the outage is in the loss.
    assert (down["sent"], down["lost"]) == (400, 200)
    assert down["delay_p50_ms"] is None
    found = site(house)
    assert (found["share"]["good"], found["share"]["calls"]) == (0, 2)
    (cause,) = [c for c in found["causes"] if c["network"]]
    assert (cause["key"], cause["calls_hit"]) == ("line-down", 2)
    assert "2 were cut, 0 could not be placed" in cause["says"][0]
    call = house.person.get(f"/api/runs/{run_id}/calls").json["calls"][0]
    assert call["acceptable"] is False
    assert house.person.get(f"/api/calls/{call['id']}").status_code == 200


@pytest.mark.parametrize(("late_ms", "counted"), [(57.4, 2), (4999.0, 2), (5000.0, 0), (30_000.0, 0)])
def test_a_cut_run_counts_unless_an_end_slept_through_it(house: House, late_ms: float, counted: int) -> None:
    """Packets sent late spoil figures; they cut no line. A machine that stood still for seconds may have."""
    all_day(house)
    check = {"tainted": True, "reasons": ["late"], "far_end": {}, "probe": {"send_late_ms": {"max": late_ms}}}
    body = half_file(server_reachable=False)
    head, *rest = split_parts(body)
    spoiled = Record({**Record.parse(head).meta, "self_check": check})
    deliver(house, taken(house, seconds=10), join_parts([spoiled.serialize(), *rest]))
    found = site(house)
    assert found["share"]["calls"] == counted
    assert [c["key"] for c in found["causes"] if c["key"] != "evidence-short"] == (
        ["line-down"] if counted else ["probe-spoiled"]
    )


def test_a_cut_run_judged_again_stays_as_it_was(house: House) -> None:
    run_id = taken(house, seconds=10)
    deliver(house, run_id, half_file())
    before = house.person.get(f"/api/runs/{run_id}").json
    db = connect(house.folder)
    db.execute("UPDATE run SET stale = 1")
    db.execute("UPDATE direction SET sent = 1, loss_pct = 99, mos = 4")
    from tarnfell.clerk.loop import judge_stale

    judge_stale(db, for_s=60)
    assert house.person.get(f"/api/runs/{run_id}").json == before


@pytest.mark.parametrize(
    "cut",
    [{"code": "key"}, {"code": "no-media"}, {"code": "engine"}, {"after_s": "soon"}, {"after_s": None}],
)
def test_what_does_not_cut_a_run_is_turned_away(house: House, cut: dict[str, Any]) -> None:
    assert deliver(house, taken(house), half_file(**cut)).status_code == 422


@pytest.mark.parametrize(
    "half", [{}, {"seconds": -1, "reached": 0, "received": 0}, {"seconds": 1, "reached": 1, "received": 2}]
)
def test_a_half_that_cannot_be_is_turned_away(half: dict[str, Any]) -> None:
    with pytest.raises(WireError, match="cut run"):
        half_of(Record({"half": half}))


def test_the_rest_of_a_half_is_silence_and_never_more_than_was_planned() -> None:
    """Ten seconds planned, cut after forty: what was due is ten."""
    record = Record.parse(split_parts(half_file(seconds=40.0, down=50))[1])
    relation = clock_relation(Record({"shared": True}))
    trace = trace_of(record, "down", relation)
    assert trace is not None
    assert (len(trace), int(trace.arrived.sum())) == (500, 50)
    assert trace_of(record, "up", relation) is None
    judged = judge_record(record, relation, criterion_for(find_codec("g711a"), 20))
    figures = figures_of(judged["up"], criterion_for(find_codec("g711a"), 20), half_of(record))
    assert (figures.sent, figures.received, figures.mos) == (90, 90, None)
    assert "cut" in (figures.reason or "")


# Delay without answered time stamps


def lone(rtcp_rtt_us: int | None, delay_us: int = 300_000) -> tuple[Any, Record]:
    sent = [STARTED_US + i * 20_000 for i in range(500)]
    about = {"ssrc": 1, "dscp_sent": 46}
    columns = {
        "up.sent_us": sent,
        "up.arrival_seq": list(range(500)),
        "up.arrival_us": [t + delay_us + 9**9 for t in sent],
    }
    record = Record.of({"call": 1, "start_us": STARTED_US, "direction": "up", "up": about}, columns)
    return clock_relation(Record({"shared": False, "rtcp_rtt_us": rtcp_rtt_us})), record


def test_a_satellite_line_without_time_stamps_has_half_of_rtcps_round_trip() -> None:
    relation, record = lone(600_000)
    assert relation == from_round_trip(600_000)
    assert relation.uncertainty_ms == 300
    up = judge_record(record, relation, criterion_for(find_codec("g711a"), 20))["up"].quality
    assert up is not None
    assert up.metrics.delay_p50_ms == pytest.approx(300)
    assert up.mouth_to_ear_ms == pytest.approx(380)
    assert up.mos == pytest.approx(3.31, abs=0.02)


def test_with_nothing_known_the_delay_is_open_and_not_nothing() -> None:
    relation, record = lone(None)
    assert relation.kind == "unknown"
    up = judge_record(record, relation, criterion_for(find_codec("g711a"), 20))["up"].quality
    assert up is not None
    assert (up.metrics.delay_p50_ms, up.mouth_to_ear_ms) == (None, None)
    assert up.mos is not None


# Remedies


def mark(house: House, at_local: str, **more: Any) -> Any:
    return house.post("/api/sites/pier/remedies", {"at_local": at_local, "words": "new router", **more})


def test_what_was_measured_before_a_remedy_is_set_aside_and_comes_back(house: House) -> None:
    deliver(house, taken(house), record_file(lost=tuple(range(40))))
    assert site(house)["evidence"]["calls"] == 2
    assert mark(house, "2026-09-22T09:00").status_code == 200
    page = site(house)
    assert page["evidence"]["calls"] == 0
    assert page["left_out"] == [{"what": "from before the remedy: new router", "calls": 2}]
    (remedy,) = page["remedies"]
    assert (remedy["words"], remedy["set_aside"], remedy["marked_by"]) == ("new router", True, "Tess Ter")
    report = house.person.get("/api/sites/pier/report.html").text
    assert "2 from before the remedy: new router" in report
    headers = {"X-CSRF-Token": house.csrf}
    assert house.person.delete(f"/api/sites/pier/remedies/{remedy['id']}", headers=headers).json == {"remedies": []}
    assert site(house)["evidence"]["calls"] == 2
    assert house.person.delete("/api/sites/pier/remedies/99", headers=headers).status_code == 404


def test_a_remedy_is_dated_in_the_sites_own_time_and_may_leave_evidence_standing(house: House) -> None:
    deliver(house, taken(house), record_file())  # began at 14:13:20 UTC, 15:13:20 at the site
    assert mark(house, "2026-09-21T15:13:20", set_aside=True).status_code == 200
    assert site(house)["evidence"]["calls"] == 2
    assert mark(house, "2026-09-21T15:13:21", set_aside=False).status_code == 200
    assert site(house)["evidence"]["calls"] == 2
    mark(house, "2026-09-21T15:13:21")
    assert site(house)["evidence"]["calls"] == 0


@pytest.mark.parametrize(
    ("body", "says"),
    [
        ({"at_local": "soon"}, "such as 2026-11-20T14:00"),
        ({"at_local": "2999-01-01T00:00"}, "still to come"),
        ({"at_local": "2026-09-21T10:00", "words": ""}, "must not be empty"),
    ],
)
def test_remedies_that_cannot_be(house: House, body: dict[str, Any], says: str) -> None:
    answer = house.post("/api/sites/pier/remedies", {"words": "x", **body})
    assert answer.status_code == 422
    assert says in answer.json["detail"]


def test_two_test_points_are_two_ways(house: House) -> None:
    """The second probe's runs carry its number into the facts."""
    deliver(house, taken(house), record_file())
    deliver(house, taken(house), record_file(delay_us=90_000))
    db = connect(house.folder)
    db.execute("INSERT INTO probe (site_id, test_point_id, name, created_us) VALUES (1, 1, 'second', 1)")
    db.execute("UPDATE job SET probe_id = 2 WHERE id = 2")
    here = site_store.site_by_id(db, 1)
    found = read(facts_of(db, here).calls, here.brief)
    assert {r.fact.probe_id for r in found} == {1, 2}
    assert max(r.added_ms or 0 for r in found) == 0


def test_a_clock_that_was_set_is_told_from_a_busy_machine(house: House) -> None:
    for check in ({}, {"probe": {"clock_steps": [{"at_us": 1, "step_ms": 500}]}}):
        deliver(house, taken(house), record_file(tainted=True))
        db = connect(house.folder)
        run = run_store.run_by_id(db, db.execute("SELECT max(id) FROM run").fetchone()[0])
        kept = {**json.loads(run.self_check or "{}"), **check}
        db.execute("UPDATE run SET self_check = ?, judged_us = ? WHERE id = ?", (json.dumps(kept), now_us(), run.id))
    assert {c["key"] for c in site(house)["causes"]} == {"probe-spoiled", "clock-set"}
