"""The life of a run: asked for, taken, followed, delivered once however often it is sent."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from tarnfell.server.http.app import create_app
from tarnfell.server.probe_api import probes
from tarnfell.store import jobs as job_store
from tarnfell.store import runs as run_store
from tarnfell.store.db import connect
from tarnfell.store.files import DELIVERIES
from tarnfell.work.placing import carry_out as placing
from tests.server.conftest import House, record_file


def progress(second: int, received: int, calls: int = 2, reached: int | None = None) -> dict[str, Any]:
    side = {
        "sent": received,
        "received": received,
        "reached": reached or received,
        "late": 0,
        "jitter_us": 300,
        "pdv_us": 400,
    }
    return {"second": second, "up": [side] * calls, "down": [side] * calls, "rtt_us": 30_000, "send_late_max_us": 90}


def taken(house: House, **changes: Any) -> int:
    house.heartbeat()
    placed = house.place(**changes)
    assert placed.status_code == 200, placed.text
    job = house.heartbeat()
    assert job is not None
    assert job["id"] == placed.json["id"]
    return int(job["id"])


def deliver(house: House, run_id: int, body: bytes) -> Any:
    return house.deliver(run_id, body)


def test_from_asking_to_result(house: House) -> None:
    run_id = taken(house)
    for second in (1, 2):
        told = house.probe("POST", f"/api/probe/jobs/{run_id}/progress", json=progress(second, 50 * second))
        assert told.json == {"stop": False}
    live = house.person.get(f"/api/runs/{run_id}/live?after=1").json
    assert live["state"] == "running"
    assert [s["second"] for s in live["seconds"]] == [2]
    assert live["seconds"][0]["up"]["rate"] == live["expected_rate"] == 50
    assert live["seconds"][0]["up"]["mos"] > 4.3

    assert deliver(house, run_id, record_file(lost=(10, 11, 12))).json == {"state": "done"}
    page = house.person.get(f"/api/runs/{run_id}").json
    assert [e["state"] for e in page["events"]] == ["waiting", "taken", "running", "running", "done"]
    assert page["up"]["lost"] == 3
    assert page["up"]["sent"] == 200
    assert page["up"]["why"] == "3 packets were lost in bursts."
    assert page["down"]["why"] == "Every packet arrived in time."
    calls = house.person.get(f"/api/runs/{run_id}/calls").json["calls"]
    assert [(c["number"], c["up"]["lost"], c["down"]["lost"]) for c in calls] == [(1, 3, 0), (2, 0, 0)]
    site = house.person.get("/api/sites/pier").json
    assert site["runs"][0]["good"] == page["good"]
    assert site["evidence"]["calls"] == 2


def test_the_same_record_twice_counts_once(house: House) -> None:
    run_id = taken(house)
    body = record_file()
    assert [deliver(house, run_id, body).status_code for _ in range(3)] == [200, 200, 200]
    assert house.person.get(f"/api/runs/{run_id}/calls").json["total"] == 2
    events = house.person.get(f"/api/runs/{run_id}").json["events"]
    assert [e["state"] for e in events].count("done") == 1


@pytest.mark.parametrize("judged", ["before it is looked at", "before it is noted"])
def test_a_record_that_is_judged_while_it_comes_once_more_counts_once(
    house: House, monkeypatch: pytest.MonkeyPatch, judged: str
) -> None:
    """As from a probe that was killed before it heard that its record had arrived."""
    run_id, body = taken(house), record_file()

    def put() -> Any:
        return house.probe("PUT", f"/api/probe/jobs/{run_id}/record", data=body).json

    assert put() == {"state": "delivered"}
    counted = probes.check_count

    def keep(data: Path, chunks: Iterable[bytes]) -> str:
        kept = DELIVERIES.keep(data, chunks)
        house.judge()
        return kept

    def check(*about: Any) -> None:
        counted(*about)
        house.judge()

    if judged == "before it is noted":
        monkeypatch.setattr(probes, "check_count", check)
    else:
        shelf = SimpleNamespace(keep=keep, place=DELIVERIES.place, drop=DELIVERIES.drop)
        monkeypatch.setattr(probes, "DELIVERIES", shelf)
    assert put() == {"state": "done"}
    events = house.person.get(f"/api/runs/{run_id}").json["events"]
    assert [e["state"] for e in events].count("done") == 1
    assert connect(house.folder).execute("SELECT count(*) FROM delivery").fetchone()[0] == 0
    assert list(DELIVERIES.names(house.folder)) == []


@pytest.mark.parametrize(
    ("body", "words"),
    [
        (b"", "is empty"),
        (b"nonsense", "cut short"),
        (record_file()[:-5], "cut short"),
        (record_file(calls=1), "holds 1 records; the run had 2 calls"),
        (record_file(calls=3), "holds 3 records; the run had 2 calls"),
    ],
)
def test_a_broken_record_is_turned_away_whole(house: House, body: bytes, words: str) -> None:
    run_id = taken(house)
    answer = deliver(house, run_id, body)
    assert answer.status_code == 422
    assert words in answer.json["detail"]
    db = connect(house.folder)
    assert db.execute("SELECT count(*) FROM call").fetchone()[0] == 0
    assert db.execute("SELECT state FROM job").fetchone()[0] == "taken"
    assert deliver(house, run_id, record_file()).status_code == 200


def test_nothing_half_written_when_the_disk_fails(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    run_id = taken(house)

    def full(*_: Any) -> None:
        raise sqlite3.OperationalError("database or disk is full")

    monkeypatch.setattr(job_store, "move", full)
    with pytest.raises(sqlite3.OperationalError):
        deliver(house, run_id, record_file())
    monkeypatch.undo()
    db = connect(house.folder)
    assert db.execute("SELECT count(*) FROM call").fetchone()[0] == 0
    house.judge()  # put off for a while, so that others go first
    assert db.execute("SELECT state FROM job").fetchone()[0] == "taken"
    db.execute("UPDATE delivery SET not_before_us = 0")
    house.judge()
    assert db.execute("SELECT state FROM job").fetchone()[0] == "done"


def test_server_restarted_in_the_middle(house: House) -> None:
    """A new server over the same data takes the rest of the progress and the record."""
    run_id = taken(house)
    house.probe("POST", f"/api/probe/jobs/{run_id}/progress", json=progress(1, 50))
    house.app = create_app(house.folder, web=house.folder)
    house.probe("POST", f"/api/probe/jobs/{run_id}/progress", json=progress(2, 100))
    assert deliver(house, run_id, record_file()).json == {"state": "done"}


def test_a_silent_probe_fails_the_run_and_its_late_record_mends_it(house: House) -> None:
    run_id = taken(house)
    db = connect(house.folder)
    db.execute("UPDATE probe SET last_contact_us = last_contact_us - ?", (job_store.SILENCE_US + 1_000_000,))
    placing.carry_out(db)
    page = house.person.get(f"/api/runs/{run_id}").json
    assert page["state"] == "failed"
    assert "went offline" in page["failure"]
    assert deliver(house, run_id, record_file()).json == {"state": "done"}
    assert house.person.get(f"/api/runs/{run_id}").json["failure"] is None


def test_failure_with_its_reason(house: House) -> None:
    run_id = taken(house)
    told = house.probe("POST", f"/api/probe/jobs/{run_id}/failure", json={"reason": "Nothing answers at 192.0.2.10."})
    assert told.json == {"state": "failed"}
    assert house.person.get(f"/api/runs/{run_id}").json["failure"] == "Nothing answers at 192.0.2.10."


def test_stop_reaches_the_probe_with_its_next_second(house: House) -> None:
    run_id = taken(house)
    house.post(f"/api/runs/{run_id}/stop", {})
    answer = house.probe("POST", f"/api/probe/jobs/{run_id}/progress", json=progress(1, 50))
    assert answer.json == {"stop": True}


def test_stop_before_the_probe_takes_it(house: House) -> None:
    house.heartbeat()
    run_id = house.place().json["id"]
    assert house.post(f"/api/runs/{run_id}/stop", {}).json["state"] == "failed"
    assert house.heartbeat() is None


@pytest.mark.parametrize(
    ("changes", "status", "words"),
    [
        ({"codec": "g999"}, 422, "No codec is called"),
        ({"ptime_ms": 25}, 422, "cannot be sent every 25 ms"),
        ({"calls": 0}, 422, "0 concurrent calls cannot be placed"),
        ({"calls": 10_000}, 422, "10000 concurrent calls cannot be placed"),
        ({"seconds": 0}, 422, "cannot be placed"),
        ({"dscp": 64}, 422, "DSCP must be at most 63."),
        ({"calls": "many"}, 422, "Calls must be"),
        ({"probe_id": 99}, 409, "no such probe"),
    ],
)
def test_plans_that_cannot_be(house: House, changes: dict[str, Any], status: int, words: str) -> None:
    house.heartbeat()
    answer = house.place(**changes)
    assert (answer.status_code, words in answer.json["detail"]) == (status, True), answer.json


def test_one_run_at_a_time_and_only_with_a_probe_that_is_heard(house: House) -> None:
    assert house.place().status_code == 200  # enrolled a moment ago
    busy = house.place()
    assert (busy.status_code, "A run is in progress" in busy.json["detail"]) == (409, True)
    connect(house.folder).execute("UPDATE probe SET last_contact_us = 1")
    silent = house.place()
    assert (silent.status_code, "is offline" in silent.json["detail"]) == (409, True)


def test_a_probe_sees_only_its_own_runs(house: House) -> None:
    assert deliver(house, 4711, record_file()).status_code == 404


def test_states_never_go_back(house: House) -> None:
    run_id = taken(house)
    deliver(house, run_id, record_file())
    db = connect(house.folder)
    run = run_store.run_by_id(db, run_id)
    for state in ("waiting", "taken", "running", "failed"):
        with pytest.raises(job_store.WrongState):
            job_store.move(db, run.id, state, "")


def test_a_tainted_run_is_kept_and_left_out_of_the_verdict(house: House) -> None:
    run_id = taken(house)
    deliver(house, run_id, record_file(tainted=True))
    page = house.person.get(f"/api/runs/{run_id}").json
    assert page["self_check"]["tainted"] is True
    site = house.person.get("/api/sites/pier").json
    assert (site["evidence"]["calls"], site["evidence"]["left_out_calls"]) == (0, 2)
    assert site["runs"][0]["tainted"] is True
    assert site["next"]["words"] == "Place the calls again"
    assert "does not count" in site["next"]["why"]


def test_a_run_is_named_noted_found_and_asked_for_once_more(house: House) -> None:
    house.heartbeat()
    first = house.place(calls=2, seconds=3, dscp=34, direction="up", video=[{"profile": "360p", "streams": 1}]).json
    house.post(f"/api/runs/{first['id']}/stop", {})
    said = {"name": "After the switch", "note": "Port 7 replaced\nby Ana"}
    answer = house.person.put(f"/api/runs/{first['id']}", json=said, headers={"X-CSRF-Token": house.csrf})
    assert (answer.json["name"], answer.json["note"]) == ("After the switch", "Port 7 replaced\nby Ana")
    again = answer.json["again"]
    assert {name: again[name] for name in ("calls", "seconds", "dscp", "direction")} == {
        "calls": 2, "seconds": 3, "dscp": 34, "direction": "up",
    }  # fmt: skip
    assert again["video"] == [{"profile": "360p", "streams": 1, "dscp": 34}]
    second = house.post("/api/sites/pier/runs", again).json
    assert {k: second[k] for k in ("calls", "seconds", "dscp", "direction")} == {
        k: first[k] for k in ("calls", "seconds", "dscp", "direction")
    }
    listed = house.person.get("/api/sites/pier/runs").json
    assert [r["id"] for r in listed["runs"]] == [second["id"], first["id"]]
    for words, found in (("SWITCH", 1), ("port 7", 1), ("g711a", 2), ("nothing like it", 0), ("%", 0)):
        page = house.person.get("/api/sites/pier/runs", query_string={"words": words}).json
        assert (page["total"], len(page["runs"])) == (found, found), words
    assert house.person.get("/api/sites/pier/runs?limit=1&offset=1").json["runs"][0]["id"] == first["id"]


def test_the_neighbours_of_a_call_are_in_its_own_run(house: House) -> None:
    house.heartbeat()
    for _ in range(2):
        run = house.place(calls=3).json["id"]
        house.heartbeat()
        house.deliver(run, record_file(calls=3))
    ids = [c["id"] for c in house.person.get(f"/api/runs/{run}/calls").json["calls"]]
    pages = [house.person.get(f"/api/calls/{call}").json for call in ids]
    assert [(p["previous_id"], p["next_id"]) for p in pages] == [
        (None, ids[1]), (ids[0], ids[2]), (ids[1], None),
    ]  # fmt: skip


def ask_for_work(house: House, holds: list[int]) -> Any:
    return house.probe("POST", "/api/probe/heartbeat", json={"environment": None, "holds": holds}).json["job"]


def test_a_job_whose_answer_was_lost_is_given_out_again(house: House) -> None:
    """A probe that asks for work has none: what it took and does not hold, it never heard of."""
    run_id = taken(house)
    assert ask_for_work(house, [run_id]) is None
    assert house.heartbeat() is None  # a probe of before does not tell what it holds
    again = ask_for_work(house, [])
    assert again["id"] == run_id
    assert [e["state"] for e in house.person.get(f"/api/runs/{run_id}").json["events"]] == ["waiting", "taken"]
    deliver(house, run_id, record_file())
    assert ask_for_work(house, []) is None


def test_a_run_that_was_begun_and_lost_fails_and_the_next_one_is_given_out(house: House) -> None:
    run_id = taken(house)
    house.probe("POST", f"/api/probe/jobs/{run_id}/progress", json=progress(1, 50))
    assert ask_for_work(house, [run_id]) is None
    assert house.person.get(f"/api/runs/{run_id}").json["state"] == "running"
    assert ask_for_work(house, []) is None
    page = house.person.get(f"/api/runs/{run_id}").json
    assert (page["state"], "lost this run" in page["failure"]) == ("failed", True)
    assert run_store.run_by_id(connect(house.folder), run_id).failure_code == "own"
    second = house.place().json["id"]
    assert ask_for_work(house, [])["id"] == second
    assert deliver(house, run_id, record_file()).json == {"state": "done"}  # it was not lost after all
