"""Surveyed places and quick looks, from the screen to the probe and back; and from the page of who carries it about."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

import pytest

from tarnfell.store import survey as survey_store
from tarnfell.store.db import connect, now_us, writing
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.look import LookResult, LookSeries
from tests.server.conftest import House, record_file

SMALL = LookSeries("gateway", "", "192.0.2.1", 64, 100, 95, 5, 0, 0, (64,), 1.0, 2.0, 4.0, 9.0, 0.5, (1000, -1))
SEEN = LookResult(
    (SMALL, replace(SMALL, packet_bytes=1400)), 20.0, "Wi-Fi", 400, -61, record=record_file(calls=1, packets=100)
)


def heartbeat(house: House, holds: list[int]) -> list[dict[str, Any]]:
    body = {"environment": {"system": "test"}, "kinds": ["calls", "look"], "holds": holds}
    answer = house.probe("POST", "/api/probe/heartbeat", json=body)
    assert answer.status_code == 200, answer.text
    return list(answer.json["jobs"])


def tell(house: House, job: int, what: str, result: LookResult) -> Any:
    return house.probe("POST", f"/api/probe/jobs/{job}/{what}", json={"result": json.loads(json.dumps(plain(result)))})


def measure(house: House, name: str = "Ticket desk", **more: Any) -> Any:
    return house.post("/api/sites/pier/survey", {"probe_id": 1, "far_end_id": 1, "name": name, **more})


def places(house: House) -> list[dict[str, Any]]:
    return list(house.person.get("/api/sites/pier/survey").json["places"])


def put(house: House, job: int, body: dict[str, Any]) -> Any:
    return house.person.put(f"/api/sites/pier/survey/{job}", json=body, headers={"X-CSRF-Token": house.csrf})


def test_a_place_is_measured_judged_and_named_anew(house: House) -> None:
    heartbeat(house, [])
    (place,) = measure(house, seconds=10).json["places"]
    assert (place["state"], place["words"], place["place"]) == ("waiting", "Waiting for the probe.", None)
    assert place["left_s"] > 10
    (job,) = heartbeat(house, [])
    told = job["arguments"]
    assert [one["role"] for one in told["targets"]] == ["gateway", "far-end"]
    assert told["targets"][1]["host"] == told["far_host"] == "192.0.2.10"
    assert (told["far_key"], told["call"]["packets"], told["call"]["dscp"]) == ("far-end-key", 500, 46)
    assert tell(house, job["id"], "known", replace(SEEN, record=b"")).json == {"stop": False}
    assert places(house)[0]["words"] == "Measuring. Stay where you are."
    assert tell(house, job["id"], "outcome", SEEN).json == {"state": "done"}
    assert places(house)[0]["words"] == "Being judged."
    house.judge()
    (place,) = places(house)
    assert (place["medium"], place["wifi_signal_dbm"], place["link_mbps"]) == ("Wi-Fi", -61, 400)
    assert place["place"]["up"]["mos"] > 4
    assert place["place"]["acceptable"] is True
    assert place["place"]["says"] == ["5.0 % of 100 small packets to the gateway were not answered."]
    assert (place["gateway_small"]["packet_bytes"], place["gateway_large"]["packet_bytes"]) == (64, 1400)
    assert place["gateway_small"]["rtt_us"] == []  # two hundred places are read at once
    assert survey_store.whole_of(connect(house.folder), job["id"]) == SEEN
    assert [one["name"] for one in put(house, job["id"], {"name": "Desk 2"}).json["places"]] == ["Desk 2"]
    assert put(house, job["id"], {"removed": True}).json["places"][0]["removed"] is True
    assert put(house, job["id"], {"removed": False}).json["places"][0]["removed"] is False


def test_one_place_at_a_time_and_never_beside_a_load(house: House) -> None:
    heartbeat(house, [])
    measure(house)
    assert (measure(house).status_code, "being measured" in measure(house).json["detail"]) == (409, True)
    (job,) = heartbeat(house, [])
    assert house.post(f"/api/sites/pier/survey/{job['id']}/stop", {}).status_code == 200
    assert tell(house, job["id"], "known", LookResult()).json == {"stop": True}
    tell(house, job["id"], "outcome", SEEN)
    house.place()
    assert "A run is in progress" in measure(house).json["detail"]


def test_a_record_that_contradicts_itself_is_said_and_the_brief_judges_again(house: House) -> None:
    heartbeat(house, [])
    for record in (b"\0\0\0\1x", record_file(calls=2)):
        measure(house)
        (job,) = heartbeat(house, [])
        tell(house, job["id"], "outcome", replace(SEEN, record=record))
        house.judge()
        place = places(house)[0]
        assert (place["place"], place["state"]) == (None, "done")
        assert place["words"] not in ("", "Being judged.")
    measure(house)
    (job,) = heartbeat(house, [])
    tell(house, job["id"], "outcome", SEEN)
    house.judge()
    assert places(house)[0]["place"]["acceptable"] is True
    db = connect(house.folder)
    with writing(db):
        db.execute("UPDATE site SET target_mos = 4.5")
        survey_store.judge_again(db, 1)
    house.judge()
    assert places(house)[0]["place"]["acceptable"] is False


def test_what_an_older_version_judged_is_judged_again_where_it_cannot_be_read(house: House) -> None:
    heartbeat(house, [])
    measure(house)
    (job,) = heartbeat(house, [])
    tell(house, job["id"], "outcome", SEEN)
    house.judge()
    db = connect(house.folder)
    with writing(db):
        survey_store.judge_unreadable_again(db)
    assert survey_store.stale_one(db) is None
    with writing(db):
        db.execute('UPDATE survey_place SET judged = \'{"of": "yesterday"}\'')
    assert places(house)[0]["place"] is None
    with writing(db):
        survey_store.judge_unreadable_again(db)
    house.judge()
    assert places(house)[0]["place"]["acceptable"] is True


def test_whoever_carries_the_probe_measures_from_its_own_page(house: House) -> None:
    db = connect(house.folder)
    code = db.execute("SELECT code FROM invitation").fetchone()[0]
    stranger = house.app.test_client()
    heartbeat(house, [])
    page = stranger.get(f"/api/join/{code}/survey").json
    assert (page["open"], page["places"]) == (True, [])
    page = stranger.post(f"/api/join/{code}/survey", json={"name": "Quay"}).json
    assert ([one["name"] for one in page["places"]], page["open"]) == (["Quay"], False)
    assert stranger.post(f"/api/join/{code}/survey", json={"name": "Quay"}).status_code == 409
    (job,) = heartbeat(house, [])
    assert job["arguments"]["call"]["packets"] == 1000
    assert stranger.get("/api/join/nonsense/survey").status_code == 404
    with writing(db):
        db.execute("UPDATE probe SET retired_us = ?", (now_us(),))
    answer = stranger.post(f"/api/join/{code}/survey", json={"name": "Quay"})
    assert (answer.status_code, "finished" in answer.json["detail"]) == (409, True)
    with writing(db):
        db.execute("UPDATE invitation SET used_us = NULL")
    assert "has not been started yet" in stranger.get(f"/api/join/{code}/survey").json["detail"]


# Quick looks


def look(house: House, **body: Any) -> Any:
    return house.post("/api/sites/pier/looks", {"probe_id": 1, "host": "pbx.example", **body})


def test_a_look_is_asked_for_followed_and_kept(house: House) -> None:
    heartbeat(house, [])
    (shown,) = look(house, rounds=40, interval_s=0.25, large_bytes=None).json["looks"]
    assert (shown["host"], shown["seconds"], shown["state"]) == ("pbx.example", 10.0, "waiting")
    (job,) = heartbeat(house, [])
    assert job["arguments"]["targets"] == [{"role": "any", "host": "pbx.example"}]
    assert (job["arguments"]["large_bytes"], job["arguments"]["seconds"]) == (0, 10.0)
    assert "call" not in job["arguments"]
    one = replace(SMALL, role="any", host="pbx.example")
    tell(house, job["id"], "known", LookResult((one,), 3.0))
    shown = house.person.get("/api/sites/pier/looks").json["looks"][0]
    assert (shown["state"], shown["after_s"], shown["series"][0]["lost"]) == ("running", 3.0, 5)
    tell(house, job["id"], "outcome", LookResult((one,), 10.0))
    shown = house.person.get("/api/sites/pier/looks").json["looks"][0]
    assert (shown["state"], shown["series"][0]["rtt_us"]) == ("done", [1000, -1])
    measure(house)
    assert len(house.person.get("/api/sites/pier/looks").json["looks"]) == 1  # a surveyed place is none


def test_looks_go_on_side_by_side_until_there_are_many(house: House) -> None:
    heartbeat(house, [])
    for _ in range(4):
        assert look(house).status_code == 200
    assert "4 looks go on" in look(house).json["detail"]
    assert len(heartbeat(house, [])) == 4
    first = house.person.get("/api/sites/pier/looks").json["looks"][-1]["id"]
    assert house.post(f"/api/sites/pier/looks/{first}/stop", {}).status_code == 200
    tell(house, first, "outcome", LookResult((SMALL,), 2.0))
    assert look(house, host="").json["looks"][0]["host"] == ""


@pytest.mark.parametrize(
    ("body", "says"),
    [
        ({"host": "two words"}, "holds no spaces"),
        ({"rounds": 7200, "interval_s": 1}, "take longer than an hour"),
        ({"large_bytes": 64}, "must be larger than small ones"),
        ({"interval_s": 0.01}, "at least 0.05"),
    ],
)
def test_what_cannot_be_looked_at_gets_a_sentence(house: House, body: dict[str, Any], says: str) -> None:
    heartbeat(house, [])
    answer = look(house, **body)
    assert (answer.status_code, says in answer.json["detail"]) == (422, True), answer.json["detail"]
