"""Continuous samples from a person's wish to figures on the screen, by the probe's protocol."""

from __future__ import annotations

import time
from typing import Any

import pytest

from tarnfell.store import places
from tarnfell.store.db import connect
from tarnfell.wire.kinds.watch import ANSWERED, LOST, NO_SESSION, STOOD_STILL
from tarnfell.wire.record import Record, join_parts
from tarnfell.work.watch.packing import pack_next
from tests.server.conftest import House

MS = 1_000_000
WISH = {"far_end_id": 1}


def put_watch(house: House, body: dict[str, Any] | None = None) -> Any:
    headers = {"X-CSRF-Token": house.csrf}
    return house.person.put("/api/sites/pier/probes/1/watch", json=WISH if body is None else body, headers=headers)


def end_watch(house: House) -> Any:
    return house.person.delete("/api/sites/pier/probes/1/watch", headers={"X-CSRF-Token": house.csrf})


def shown(house: House) -> dict[str, Any]:
    page = house.person.get("/api/sites/pier/place").json
    return next(p for s in page["test_points"] for p in s["probes"] if p["id"] == 1)["watch"]


def beat(house: House, watch: dict[str, Any] | None = None) -> dict[str, Any]:
    told = {"environment": None, "holds": [], "kinds": ["calls"], "watch": watch}
    answer = house.probe("POST", "/api/probe/heartbeat", json=told)
    assert answer.status_code == 200, answer.text
    return dict(answer.json)


Rows = list[tuple[int, int, int, float]]
"""Due time, fate, job beside, and milliseconds of round trip."""


def batch_of(rows: Rows, watch: int = 1, far_ms: float = 5, **changes: Any) -> bytes:
    columns: dict[str, list[int]] = {name: [] for name in
        ("due_us", "target", "fate", "beside", "t1_ns", "t2_ns", "t3_ns", "t4_ns")}  # fmt: skip
    for due, fate, beside, rtt in rows:
        t1 = due * 1000
        t2 = t1 + int(rtt * MS / 2)
        t3 = t2 + int(far_ms * MS)
        stamps = (t1, t2, t3, t3 + int(rtt * MS / 2)) if fate == ANSWERED else (t1 if fate == LOST else 0, 0, 0, 0)
        for name, value in zip(columns, (due, 0, fate, beside, *stamps), strict=True):
            columns[name].append(value)
    columns |= changes.pop("columns", {})
    return Record.of({"watch": watch, "version": 1, "targets": [1], **changes}, columns).serialize()


def deliver(house: House, body: bytes, first_us: int, watch: int = 1) -> Any:
    return house.probe("PUT", f"/api/probe/watches/{watch}/samples/{first_us}", data=body)


def deliver_together(house: House, bodies: list[bytes], watch: int = 1) -> Any:
    return house.probe("PUT", f"/api/probe/watches/{watch}/samples", data=join_parts(bodies))


def kept(house: House) -> list[tuple[int, ...]]:
    """First, last, answered, lost, not sent, thinned to one in, in the order of time."""
    rows = connect(house.folder).execute(
        "SELECT first_us, last_us, answered, lost, not_sent, one_in FROM sample_batch ORDER BY first_us"
    )
    return [tuple(row) for row in rows]


SECOND = 1_000_000


WHOM = "does not say whom it asked"


def now() -> int:
    return time.time_ns() // 1000


def test_a_watch_from_wish_to_figures(house: House) -> None:
    assert shown(house) is None
    assert beat(house)["watch"] is None
    assert put_watch(house).status_code == 200
    wanted = beat(house)["watch"]
    assert wanted == {
        "id": 1, "version": 1, "interval_ms": 1000,
        "targets": [{"far_end_id": 1, "host": "192.0.2.10", "port": 4870, "key": "far-end-key", "dscp": 46}],
    }  # fmt: skip
    assert shown(house)["state"] == "starting"
    beat(house, {"id": 1, "version": 1, "trouble": "The far end refused."})
    assert shown(house)["says"] == "Something is in the way: The far end refused."
    beat(house, {"id": 1, "version": 1})
    first = now()
    rows: Rows = [(first, ANSWERED, 0, 20), (first + 1, ANSWERED, 9, 30), (first + 2, ANSWERED, 9, 25),
                  (first + 3, LOST, 0, 0), (first + 4, NO_SESSION, 0, 0), (first + 5, STOOD_STILL, 0, 0)]  # fmt: skip
    for _ in range(2):  # an answer may be lost
        assert deliver(house, batch_of(rows), first).status_code == 200
    told = shown(house)
    assert (told["state"], told["answered"], told["lost"], told["not_sent"]) == ("sampling", 3, 1, 2)
    assert told["recent_rtt_ms"] == pytest.approx(25, abs=0.001)  # without what the far end took
    assert (told["recent_sent"], told["recent_lost"], told["recent_beside"]) == (4, 1, 2)
    assert (told["first_us"], told["last_us"]) == (first, first + 5)


def test_the_recent_figures_are_of_what_is_packed_and_of_what_waits(house: House) -> None:
    put_watch(house)
    beat(house, {"id": 1, "version": 1})
    start = now() - 300 * SECOND
    old, packed, waiting = (
        [
            (start + (at + i) * SECOND, fate, 7 * (i == 0), 20.0 + at)
            for i, fate in enumerate((ANSWERED, ANSWERED, LOST))
        ]
        for at in (-400, 0, 20)
    )
    for rows in (old, packed):
        deliver(house, batch_of(rows), rows[0][0])
    assert pack_next(connect(house.folder), now() + 3600 * SECOND)
    deliver(house, batch_of(waiting), waiting[0][0])
    told = shown(house)
    assert (told["recent_sent"], told["recent_lost"], told["recent_beside"]) == (6, 2, 2)
    assert told["recent_rtt_ms"] == pytest.approx(30, rel=0.003)
    assert (told["answered"], told["lost"]) == (6, 3)


def test_a_change_is_a_new_version_and_the_end_leaves_what_there_is(house: House) -> None:
    put_watch(house)
    first = now()
    deliver(house, batch_of([(first, LOST, 0, 0)]), first)
    assert put_watch(house, {**WISH, "interval_ms": 200, "dscp": 0}).status_code == 200
    wanted = beat(house)["watch"]
    assert (wanted["version"], wanted["interval_ms"], wanted["targets"][0]["dscp"]) == (2, 200, 0)
    beat(house, {"id": 1, "version": 1})
    assert shown(house)["state"] == "starting"  # the probe still runs the one before
    assert end_watch(house).status_code == 200
    assert beat(house)["watch"] is None
    assert (shown(house)["state"], shown(house)["lost"]) == ("ended", 1)
    # What the probe still had on its disk is taken all the same.
    assert deliver(house, batch_of([(first + 9, LOST, 0, 0)]), first + 9).status_code == 200
    assert shown(house)["lost"] == 2
    put_watch(house)
    assert beat(house)["watch"]["version"] == 4


@pytest.mark.usefixtures("stopped_clock")
def test_a_watch_that_stopped_bringing_samples_says_so(house: House) -> None:
    put_watch(house)
    db = connect(house.folder)
    beat(house, {"id": 1, "version": 1})
    for ago_s, state in ((44, "sampling"), (46, "quiet")):
        db.execute("DELETE FROM sample_batch")
        db.execute("UPDATE watch SET changed_us = 0")
        at = now() - ago_s * 1_000_000
        deliver(house, batch_of([(at, LOST, 0, 0)]), at)
        assert shown(house)["state"] == state
    db.execute("UPDATE probe SET last_contact_us = 5")
    assert shown(house)["state"] == "offline"
    places.archive_far_end(db, 1, archived=True)
    assert shown(house)["state"] == "trouble"
    assert beat(house)["watch"] is None


def test_time_without_samples_is_not_passed_over(house: House) -> None:
    """Two stretches an hour apart are not two hours of samples; a minute from one to the next may be the interval."""
    put_watch(house)
    start = now() - 3 * 3600 * 1_000_000
    for after_s in (0, 60, 60 + 66, 3600):
        at = start + after_s * 1_000_000
        deliver(house, batch_of([(at, LOST, 0, 0), (at + 1, LOST, 0, 0)]), at)
    assert shown(house)["without_us"] == (66 + 3600 - 126) * 1_000_000 - 2


def test_thinned_samples_stand_for_those_that_had_to_go(house: House) -> None:
    put_watch(house)
    first = now()
    deliver(house, batch_of([(first, LOST, 0, 0), (first + 4, ANSWERED, 0, 5)], one_in=4), first)
    assert (shown(house)["lost"], shown(house)["answered"]) == (4, 4)


@pytest.mark.parametrize(
    ("body", "words"),
    [
        (b"", "not one of ours"),
        (b"TFR1" + b"\xff" * 40, ""),
        (batch_of([(5, LOST, 0, 0)], watch=2), "not what its address says"),
        (batch_of([(5, LOST, 0, 0), (4, LOST, 0, 0)]), "not in the order of time"),
        (batch_of([(5, 9, 0, 0)]), "cannot be"),
        (batch_of([(5, LOST, -1, 0)]), "cannot be"),
        (batch_of([(5, ANSWERED, 0, 1)], columns={"t4_ns": [0]}), "without their times"),
        (batch_of([(5, LOST, 0, 0)], columns={"t4_ns": [0, 0]}), "not of one length"),
        (batch_of([(5, LOST, 0, 0)] * 4097), "1 to 4096 samples"),
        (batch_of([(5, LOST, 0, 0)], one_in=0), "how far it is thinned"),
        (batch_of([(5, LOST, 0, 0)], one_in="2"), "how far it is thinned"),
        (Record.of({"watch": 1, "targets": [1]}, {"due_us": [5]}).serialize(), "not all columns"),
        (batch_of([(5, LOST, 0, 0), (86_400_000_006, LOST, 0, 0)]), "too far apart"),
        (batch_of([(5, LOST, 0, 0)], columns={"target": [-1]}), "cannot be"),
        (batch_of([(5, LOST, 0, 0)], columns={"target": [1]}), WHOM),
        (batch_of([(5, ANSWERED, 0, 1)], columns={"t1_ns": [0]}), "without their times"),
        (batch_of([(5, ANSWERED, 0, 1)], columns={"t2_ns": [0]}), "without their times"),
        (batch_of([(5, ANSWERED, 0, 1)], columns={"t3_ns": [0]}), "without their times"),
        *((batch_of([(5, LOST, 0, 0)], targets=targets), WHOM) for targets in ("1", [True], ["1"], [1] * 9)),
        *(
            (batch_of([(5, LOST, 0, 0)], echoes=echoes), WHOM)
            for echoes in (
                "gateway",
                ["gateway"],
                [["gateway"]],
                [["gateway", 5]],
                [["nobody", "192.0.2.1"]],
                [["gateway", "1" * 101]],
                [["gateway", ""]] * 9,
            )
        ),
    ],
)
def test_what_is_no_batch_is_turned_away(house: House, body: bytes, words: str) -> None:
    put_watch(house)
    good = batch_of([(1, LOST, 0, 0)])
    for answer in (deliver(house, body, 5), *(deliver_together(house, two) for two in ([good, body], [body, good]))):
        assert answer.status_code == 422
        assert words in answer.json["detail"]
    assert kept(house) == []


def test_a_batch_that_begins_otherwise_than_its_address_is_turned_away(house: House) -> None:
    put_watch(house)
    assert "not what its address says" in deliver(house, batch_of([(6, LOST, 0, 0)]), 5).json["detail"]
    assert kept(house) == []


def test_batches_that_waited_come_together(house: House) -> None:
    """Of different lengths, with and without large packets, thinned or not: each is kept as if it came by itself."""
    put_watch(house)
    bodies = [
        batch_of([(10, LOST, 0, 0), (12, ANSWERED, 0, 5)]),
        batch_of([(20, NO_SESSION, 0, 0)], one_in=4),
        batch_of([(40, ANSWERED, 0, 5), (41, ANSWERED, 0, 5)], columns={"large": [0, 1]}),
        batch_of([(30, LOST, 0, 0), (31, LOST, 0, 0)], columns={"target": [0, 1]}, echoes=[["gateway", ""]]),
    ]
    told = [(10, 12, 1, 1, 0, 1), (20, 20, 0, 0, 1, 4), (30, 31, 0, 2, 0, 1), (40, 41, 2, 0, 0, 1)]
    for _ in range(2):  # an answer may be lost
        assert deliver_together(house, bodies).status_code == 200
        assert kept(house) == told
    records = connect(house.folder).execute("SELECT record FROM sample_batch ORDER BY first_us").fetchall()
    assert [row[0] for row in records] == [bodies[0], bodies[1], bodies[3], bodies[2]]


def test_only_so_much_comes_together(house: House) -> None:
    put_watch(house)
    each = [batch_of([(at, LOST, 0, 0)]) for at in range(101)]
    assert "1 to 100 batches" in deliver_together(house, []).json["detail"]
    assert "1 to 100 batches" in deliver_together(house, each).json["detail"]
    large = [batch_of([(at, LOST, 0, 0)] * 4096, columns={"large": [0] * 4096}) for at in range(16)]
    assert "more samples than" in deliver_together(house, [*large, each[50]]).json["detail"]
    assert "cut short" in house.probe("PUT", "/api/probe/watches/1/samples", data=join_parts(each)[:-1]).json["detail"]
    assert kept(house) == []
    assert deliver_together(house, each[:100]).status_code == 200
    assert len(kept(house)) == 100
    assert deliver_together(house, large).status_code == 200


def test_what_just_is_one_is_taken(house: House) -> None:
    """Up to the bounds; and an echo has no times of the far end's."""
    put_watch(house)
    echo = {"target": [1], "t2_ns": [0], "t3_ns": [0]}
    for first, body in (
        (5, batch_of([(5, LOST, 0, 0), (86_400_000_005, LOST, 0, 0)])),
        (6, batch_of([(6, ANSWERED, 0, 1)], columns=echo, echoes=[["gateway", "1" * 100]])),
        (7, batch_of([(7, LOST, 0, 0)], targets=[1] * 8, echoes=[["outside", "192.0.2.1"]] * 8)),
        (8, batch_of([(8, LOST, 0, 0)], columns={"target": [8]}, targets=[1], echoes=[["gateway", ""]] * 8)),
    ):
        assert deliver(house, body, first).status_code == 200, first


def test_another_far_end_than_the_sites_and_odd_wishes_are_refused(house: House) -> None:
    assert "not chosen" in put_watch(house, {"far_end_id": 99}).json["detail"]
    for odd in ({"interval_ms": 199}, {"interval_ms": 60_001}, {"dscp": 64}, {}):
        assert put_watch(house, {**({"far_end_id": 1} if odd else {}), **odd}).status_code == 422
    assert beat(house)["watch"] is None
    assert house.probe("POST", "/api/probe/heartbeat", json={"kinds": [], "watch": {"id": 0}}).status_code == 422


def test_a_probe_of_before_is_told_of_no_watch(house: House) -> None:
    put_watch(house)
    assert house.probe("POST", "/api/probe/heartbeat", json={"environment": None, "holds": []}).json["watch"] is None


@pytest.mark.parametrize(
    ("off_s", "told"),
    [
        (9, None), (-9, None), (11, "11 s ahead of"), (-86_400 - 3700, "1 d 1 h behind"), (86_500, "1 d ahead of"),
        (3_725, "1 h 2 min ahead of"),
    ],
)  # fmt: skip
@pytest.mark.usefixtures("stopped_clock")
def test_a_probe_whose_clock_is_off_is_told_as_such(house: House, off_s: int, told: str | None) -> None:
    assert put_watch(house).status_code == 200
    body = {"kinds": [], "environment": None, "holds": [], "clock_us": now() + off_s * SECOND}
    assert house.probe("POST", "/api/probe/heartbeat", json=body | {"environment": {"system": "x"}}).status_code == 200
    (probe,) = house.person.get("/api/sites/pier/watch").json["probes"]
    trouble = house.person.get("/api/today").json["trouble"]
    if told is None:
        assert probe["watch"]["state"] == "starting"
        assert trouble == []
    else:
        assert probe["watch"]["state"] == "trouble"
        assert f"The clock of pier-probe is {told} this server’s" in probe["watch"]["says"]
        assert [told in one["says"] for one in trouble] == [True]
    assert house.probe("POST", "/api/probe/heartbeat", json=body | {"clock_us": -1}).status_code == 422


def test_what_goes_on_beside_is_asked_for_within_its_limits(house: House) -> None:
    beside = {"call": 600, "needed": 3600, "services": 300, "fill": 14_400, "consent": True}
    assert put_watch(house, {"far_end_id": 1, "beside": beside}).status_code == 200
    page = house.person.get("/api/sites/pier/watch").json
    shown = page["probes"][0]["watch"]["beside"]
    assert {one["what"]: one["every_s"] for one in shown} == {
        what: n for what, n in beside.items() if what != "consent"
    }
    assert {one["quiet"] for one in shown} == {""}
    assert {one["what"]: one["usual_s"] for one in page["beside"]} == {
        "call": 600, "needed": 3600, "fill": 0, "services": 300,
    }  # fmt: skip
    for wrong, says in (
        ({"call": 59}, "A call may begin every 60 seconds at the most."),
        ({"fill": 14_400}, "A line is filled only where somebody at the site has agreed to it."),
        ({"fill": 1799, "consent": True}, "Line fill may begin every 1800 seconds at the most."),
    ):
        answer = put_watch(house, {"far_end_id": 1, "beside": wrong})
        assert (answer.status_code, answer.json["detail"]) == (422, says)
    assert len(house.person.get("/api/sites/pier/watch").json["probes"][0]["watch"]["beside"]) == 4
    assert put_watch(house).status_code == 200
    assert house.person.get("/api/sites/pier/watch").json["probes"][0]["watch"]["beside"] == []
