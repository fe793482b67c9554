"""Small packets from the screen to the probe and back: consent, rules, ceiling, and what of them arrived."""

from __future__ import annotations

import json
from typing import Any

import pytest

from tarnfell.core.flow import FlowSeen
from tarnfell.probe.streams import streams_of as streams_at_probe
from tarnfell.store import flows as flow_store
from tarnfell.store.db import connect, writing
from tarnfell.wire.kinds.calls import CallPlan
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.flow import FlowArguments, FlowPlan, FlowResult
from tarnfell.wire.record import Record, join_parts
from tarnfell.work.ingest.flows import seen_of
from tarnfell.work.placing.flow_plan import streams_of
from tests.server.conftest import House

T0 = 1_795_000_000_000_000
PATH = "/api/sites/pier/flows"


def heartbeat(house: House) -> list[dict[str, Any]]:
    body = {"environment": {"system": "test"}, "kinds": ["calls", "flow"], "holds": []}
    return list(house.probe("POST", "/api/probe/heartbeat", json=body).json["jobs"])


def ask(house: House, **changes: Any) -> Any:
    return house.post(PATH, {"probe_id": 1, "far_end_id": 1, "consent": True, **changes})


def newest(house: House) -> dict[str, Any]:
    return dict(house.person.get(PATH).json["flows"][0])


def packets(
    seconds: float = 4.0, lost_second: int | None = None, stopped: bool = False, ways: str = "up down"
) -> bytes:
    """Two streams of 50 packets a second, half an interval apart; of one second nothing arrives up."""
    head = Record({"shared": True, "self_check": {"tainted": False, "reasons": []}, "stopped": stopped})
    parts = [head.serialize()]
    for stream in (1, 2):
        columns: dict[str, list[int]] = {}
        for way in ways.split():
            sent = [T0 + stream * 10_000 + n * 20_000 for n in range(int(seconds * 50))]
            kept = [n for n in range(len(sent)) if way == "down" or lost_second is None or n // 50 != lost_second]
            columns |= {
                f"{way}.sent_us": sent,
                f"{way}.arrival_seq": kept,
                f"{way}.arrival_us": [sent[n] + 15_000 for n in kept],
                f"{way}.arrival_dscp": [0] * len(kept),
            }
        ends = {way: {"ssrc": stream, "dscp_sent": 0} for way in ("up", "down")}
        meta = {
            "call": stream, "ptime_us": 20_000, "start_us": T0, "planned_packets": 200, "bound": True, **ends,
        }  # fmt: skip
        parts.append(Record.of(meta, columns).serialize())
    return join_parts(parts)


PLAN = FlowPlan(60, 100, 4)


def test_a_load_is_asked_for_sent_and_seen(house: House) -> None:
    heartbeat(house)
    assert house.person.get(PATH).json["flows"] == []
    answer = ask(house, packet_bytes=60, packets_per_s=250, seconds=4, dscp=46, direction="up")
    assert answer.status_code == 200, answer.text
    (job,) = heartbeat(house)
    arguments = read(FlowArguments, job["arguments"])
    assert (arguments.far_host, arguments.far_port, arguments.far_key) == ("192.0.2.10", 4870, "far-end-key")
    assert arguments.plan == streams_of(FlowPlan(60, 250, 4, 46, "up"))
    up, down = streams_at_probe(arguments.plan)
    assert (len(up), sum(one.packets for one in up), sum(one.packets for one in down)) == (3, 999, 0)
    assert {(one.payload_bytes, one.dscp) for one in up} == {(48, 46)}  # RTP's header is in the 60
    assert "loaded with small packets" in ask(house).json["detail"]
    result = FlowResult(packets(lost_second=1, ways="up"))
    told = {"result": json.loads(json.dumps(plain(result)))}
    assert house.probe("POST", f"/api/probe/jobs/{job['id']}/outcome", json=told).status_code == 200
    line = newest(house)
    assert (line["words"], line["seen"]) == ("Being judged.", None)
    house.judge()
    line = newest(house)
    assert (line["words"], line["seen"]["down"]) == ("", None)
    assert line["seen"]["up"]["lost_per_s"] == [0, 100, 0, 0]
    (says,) = line["seen"]["says"]
    assert says.startswith(
        "Upload: 75 of 100 packets a second arrived, 25.00 % lost; 95th percentile of delay 0.0 ms above"
    )
    assert house.probe("POST", f"/api/probe/jobs/{job['id']}/outcome", json=told).status_code == 200  # told again
    assert len(house.person.get(PATH).json["flows"]) == 1


def test_what_is_contradictory_is_refused_in_words_and_an_older_judgement_made_again(house: House) -> None:
    heartbeat(house)
    ask(house)
    (job,) = heartbeat(house)
    house.probe("POST", f"/api/probe/jobs/{job['id']}/outcome", json={"result": plain(FlowResult(b"junk"))})
    house.judge()
    assert newest(house)["seen"] is None
    assert newest(house)["words"] not in ("", "Being judged.")
    db = connect(house.folder)
    with writing(db):
        db.execute('UPDATE flow SET seen = \'{"of": "old"}\', failure = NULL, stale = 0')
        flow_store.judge_unreadable_again(db)
    assert flow_store.stale_one(db) is not None


@pytest.mark.parametrize(
    ("change", "status", "says"),
    [
        ({"packet_bytes": 19}, 422, "20"),
        ({"packet_bytes": 1401}, 422, "1400"),
        ({"packets_per_s": 5001}, 422, "5000"),
        ({"seconds": 61}, 422, "60"),
        ({"dscp": 64}, 422, "63"),
        ({"consent": False}, 422, "Consent"),
        ({"packets_per_s": 5000, "seconds": 8.1}, 422, "more than the 40000 of which a record is kept"),
    ],
)
def test_what_cannot_be_sent_gets_a_sentence(house: House, change: dict[str, Any], status: int, says: str) -> None:
    heartbeat(house)
    answer = ask(house, **change)
    assert (answer.status_code, says in answer.text) == (status, True), answer.text
    assert ask(house, packets_per_s=5000, seconds=8).status_code == 200


def test_the_sites_ceiling_holds_for_packets_too(house: House) -> None:
    heartbeat(house)
    db = connect(house.folder)
    with writing(db):
        db.execute("UPDATE site SET up_kbps = 1000, down_kbps = 4000, ceiling_pct = 50")
    # 97 bytes and 28 of headers are 1000 bits.
    assert "501 kbit/s each way are beyond this site's ceiling of 50 % of the line, 500 kbit/s." in ask(
        house, packet_bytes=97, packets_per_s=501
    ).json["detail"]  # fmt: skip
    assert ask(house, packet_bytes=97, packets_per_s=500).status_code == 200


@pytest.mark.parametrize(
    ("plan", "streams"),
    [
        (FlowPlan(60, 100, 4), CallPlan(1, 400, 10_000, 97, 8000, 48, 0)),
        (FlowPlan(60, 101, 4, 46, "up"), CallPlan(2, 202, 19_802, 97, 8000, 48, 46, "up")),
        (FlowPlan(97, 5000, 8), CallPlan(50, 800, 10_000, 97, 8000, 85, 0)),
    ],
)
def test_a_stream_sends_a_hundred_packets_a_second_at_the_most(plan: FlowPlan, streams: CallPlan) -> None:
    assert streams_of(plan) == streams


def test_one_that_waits_can_be_stopped_and_only_where_it_belongs(house: House) -> None:
    heartbeat(house)
    ask(house)
    job = newest(house)["id"]
    assert house.post(f"{PATH}/{job + 1}/stop", {}).status_code == 404
    house.post(f"{PATH}/{job}/stop", {})
    assert newest(house)["state"] == "failed"


def seen(record: bytes, cut: str | None = None) -> FlowSeen:
    return seen_of(FlowResult(record, cut=cut), PLAN)


def test_one_that_was_stopped_is_told_by_the_time_it_lasted() -> None:
    whole, stopped = seen(packets()), seen(packets(2.5, stopped=True))
    for one in (whole, stopped):
        assert one.up is not None
        assert one.down is not None
        assert one.up.offered.packets_per_s == pytest.approx(100, rel=0.005)
        assert one.down.received.packets_per_s == pytest.approx(100, rel=0.005)
    assert stopped.up is not None
    assert stopped.up.sent == 250


def test_of_one_that_was_cut_nothing_is_told_as_lost() -> None:
    one = seen(packets(ways="up"), cut="The far end went away.")
    assert (one.up, one.down) == (None, None)
    assert one.says == ("It was broken off, and what arrived is not known. The far end went away.",)
