"""Far ends, and what a probe is asked to do beside placing calls."""

from __future__ import annotations

import json
from typing import Any

import pytest

from tarnfell.server.place import probe_file
from tarnfell.store.db import connect, writing
from tests.server.conftest import House, record_file
from tests.server.test_places import command, finish, new_link, places, probe, send

# Far ends


FAR = {"name": "east", "place": "east hall", "host": "far.example", "port": 4871, "key": "k" * 20}


def test_far_ends_serve_every_site_that_chooses_them(house: House) -> None:
    page = send(house, "POST", "far-ends", FAR).json
    assert [(f["name"], f["chosen"]) for f in page["far_ends"]] == [("east", True), ("far", True)]
    assert probe(house)["history"][0]["what"] == "Check reachability and round trip"
    house.post("/api/sites/pier/duplicate", {"name": "Annex"})
    annex = house.person.get("/api/sites/annex/place").json["far_ends"]
    assert [(f["chosen"], f["other_sites"]) for f in annex] == [(False, 1), (False, 1)]
    assert "k" * 20 not in json.dumps(annex)
    kept = send(house, "PUT", "far-ends/2/chosen", {"chosen": False}).json["far_ends"]
    assert [(f["name"], f["chosen"]) for f in kept] == [("far", True), ("east", False)]


def test_far_ends_are_changed_archived_and_restored(house: House) -> None:
    send(house, "POST", "far-ends", FAR)
    send(house, "PUT", "far-ends/2", {**FAR, "name": "east-2", "key": None})
    row = connect(house.folder).execute("SELECT name, key FROM far_end WHERE id = 2").fetchone()
    assert tuple(row) == ("east-2", "k" * 20)
    house.post("/api/sites/pier/duplicate", {"name": "Annex"})
    headers = {"X-CSRF-Token": house.csrf}
    house.person.put("/api/sites/annex/far-ends/2/chosen", json={"chosen": True}, headers=headers)
    refused = send(house, "DELETE", "far-ends/2")
    assert "chosen by 1 more" in refused.json["detail"]
    house.person.put("/api/sites/annex/far-ends/2/chosen", json={"chosen": False}, headers=headers)
    away = send(house, "DELETE", "far-ends/2").json
    assert [f["name"] for f in away["far_ends"]] == ["far"]
    assert [f["name"] for f in away["archived_far_ends"]] == ["east-2"]
    back = send(house, "POST", "far-ends/2/restore", {}).json
    assert [(f["name"], f["chosen"]) for f in back["far_ends"]] == [("east-2", True), ("far", True)]
    assert back["archived_far_ends"] == []
    assert send(house, "POST", "far-ends/99/restore", {}).status_code == 404


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"key": None}, "Give the far end's key"),
        ({"key": "short"}, "Key must have at least 16 characters"),
        ({"media_low": 30000}, "must be a range"),
        ({"port": 0}, "Port must be at least 1."),
    ],
)
def test_far_ends_that_cannot_be(house: House, change: dict[str, Any], says: str) -> None:
    assert says in send(house, "POST", "far-ends", {**FAR, **change}).json["detail"]


# Commands


def test_a_command_has_a_visible_life(house: House) -> None:
    told = command(house, "distances")
    # With the key of the far ends this site calls, and of no others.
    known = {"id": 1, "host": "192.0.2.10", "port": 4870}
    assert told["arguments"] == {"far_ends": [{**known, "key": "far-end-key"}]}
    (shown,) = probe(house)["history"]
    assert (shown["state"], shown["asked_by"]) == ("taken", "Tess Ter")
    finish(house, told, {"distances": [{"id": 1, "connect_ms": 12.5, "key_fits": False}]})
    (shown,) = probe(house)["history"]
    assert shown["state"] == "done"
    assert shown["asked_us"] <= shown["taken_us"] <= shown["ended_us"]
    (far,) = places(house)["far_ends"]
    assert (far["distances"][0]["connect_ms"], far["distances"][0]["key_fits"]) == (12.5, False)
    # Told again, as after a lost answer: nothing changes.
    assert finish(house, told, {"distances": [{"id": 1, "connect_ms": 99}]}).status_code == 200
    assert places(house)["far_ends"][0]["distances"][0]["connect_ms"] == 12.5


def test_a_command_asked_twice_is_done_once(house: House) -> None:
    send(house, "POST", "probes/1/jobs", {"kind": "update"})
    told = command(house, "update")
    assert house.probe("POST", "/api/probe/heartbeat", json={}).json["command"] is None
    first, second = probe(house)["history"][::-1]
    assert "Asked for again" in first["outcome"]
    # The probe asked for more without saying how it ended: it was lost there.
    assert "lost it" in second["outcome"]
    assert finish(house, told, {}).status_code == 200
    assert "lost it" in probe(house)["history"][0]["outcome"]


@pytest.mark.parametrize("result", [None, {}, {"distances": [{}]}, {"distances": [{"id": 99, "connect_ms": 1}]}])
def test_an_outcome_that_makes_no_sense_is_a_failure(house: House, result: Any) -> None:
    finish(house, command(house, "distances"), result)
    assert probe(house)["history"][0]["outcome"] == "The probe's answer was not understood."


def test_outcomes_of_others_are_turned_away(house: House) -> None:
    assert finish(house, {"id": 5}, {}).status_code == 404


def test_a_probe_that_answers_is_a_far_end(house: House) -> None:
    told = command(house, "answer")
    finish(house, told, {"addresses": ["192.0.2.44"]})
    far = next(f for f in places(house)["far_ends"] if f["kind"] == "probe")
    assert (far["host"], far["port"], far["chosen"], far["probe_id"]) == ("192.0.2.44", 4870, True, 1)
    assert probe(house)["answers"] is True
    house.heartbeat()
    assert "cannot call itself" in house.place(probe_id=1, far_end_id=far["id"]).json["detail"]
    assert "kept by its probe" in send(house, "DELETE", f"far-ends/{far['id']}").json["detail"]
    # Asked again, the same far end has the new key; silenced, it is gone from the list.
    again = command(house, "answer")
    finish(house, again, {"addresses": ["192.0.2.45"]})
    key = connect(house.folder).execute("SELECT key FROM far_end WHERE id = ?", (far["id"],)).fetchone()[0]
    assert key == again["arguments"]["key"]
    finish(house, command(house, "silence"), {})
    assert [f["kind"] for f in places(house)["far_ends"]] == ["host"]


def test_a_probe_with_no_address_cannot_answer(house: House) -> None:
    finish(house, command(house, "answer"), {"addresses": []})
    assert "knows no address of its own" in probe(house)["history"][0]["outcome"]


def test_updating_fetches_this_servers_program(house: House) -> None:
    house.probe("POST", "/api/probe/heartbeat", json={"environment": {"program": "older"}})
    assert probe(house)["outdated"] is True
    told = command(house, "update")
    assert told["arguments"]["program"] == probe_file.program_digest()
    assert house.probe("GET", "/api/probe/program").data == probe_file.program()
    assert house.app.test_client().get("/api/probe/program").status_code == 401


def test_ending_the_work_keeps_the_evidence(house: House) -> None:
    run = house.place().json["id"]
    assert "is carrying out a run" in send(house, "POST", "probes/1/jobs", {"kind": "end"}).json["detail"]
    house.heartbeat()
    house.deliver(run, record_file())
    finish(house, command(house, "end"), {})
    assert places(house)["test_points"][0]["probes"] == []
    assert house.person.get("/api/sites/pier").json["runs_total"] == 1
    assert house.person.get(f"/api/runs/{run}").json["probe"] == "pier-probe"


def test_ending_a_probe_that_never_came_takes_its_link_back(house: House) -> None:
    code = new_link(house)
    assert "has not enrolled yet" in send(house, "POST", "probes/2/jobs", {"kind": "distances"}).json["detail"]
    send(house, "POST", "probes/2/jobs", {"kind": "end"})
    assert len(places(house)["test_points"][0]["probes"]) == 1
    assert house.app.test_client().post("/api/probe/enrol", json={"token": code}).status_code == 403


def test_next_steps_lead_to_the_first_call(house: House) -> None:
    def says() -> str:
        return str(house.person.get("/api/sites/annex").json["next"]["words"])

    house.post("/api/sites/pier/duplicate", {"name": "Annex"})
    assert says() == "Place a probe at the site"
    house.post("/api/sites/annex/test-points", {"name": "desk", "kind": "desk"})
    test_point = house.person.get("/api/sites/annex/place").json["test_points"][0]["id"]
    page = house.post("/api/sites/annex/probes", {"name": "lap", "test_point_id": test_point}).json
    assert says() == "Get lap running"
    code = page["test_points"][0]["probes"][0]["invitation"]["path"].removeprefix("/join/")
    house.app.test_client().post("/api/probe/enrol", json={"token": code})
    assert says() == "Choose where calls are answered"
    headers = {"X-CSRF-Token": house.csrf}
    house.person.put("/api/sites/annex/far-ends/1/chosen", json={"chosen": True}, headers=headers)
    assert says() == "Place the first calls"
    connect(house.folder).execute("UPDATE probe SET last_contact_us = 5")
    assert says() == "Find out why lap is offline"


def test_a_test_point_is_deleted_only_while_nothing_was_measured_from_it(house: House) -> None:
    send(house, "POST", "test-points", {"name": "attic", "kind": "desk", "note": ""})
    assert [s["name"] for s in send(house, "DELETE", "test-points/2").json["test_points"]] == ["desk"]
    refused = send(house, "DELETE", "test-points/1")
    assert (refused.status_code, "A probe stands at desk" in refused.json["detail"]) == (409, True)
    finish(house, command(house, "end"), {})
    refused = send(house, "DELETE", "test-points/1")
    assert "by a probe that is retired" in refused.json["detail"]
    assert send(house, "DELETE", "test-points/99").status_code == 404


def test_reports_name_the_test_point_of_a_retired_probe(house: House) -> None:
    run = house.place().json["id"] if house.heartbeat() is None else 0
    house.heartbeat()
    house.deliver(run, record_file())
    finish(house, command(house, "end"), {})
    assert house.person.get("/api/sites/pier/report.json").json["site"]["test_point"] == "desk"
    assert house.person.get("/api/sites/pier").json["path"]["test_point"] == "desk"


def test_a_keys_holder_is_told_only_of_far_ends_its_site_calls(house: House) -> None:
    send(house, "POST", "far-ends", FAR)
    send(house, "PUT", "far-ends/2/chosen", {"chosen": False})
    told = command(house, "distances")["arguments"]["far_ends"]
    assert {far["id"]: "key" in far for far in told} == {1: True, 2: False}


def test_people_at_the_site_read_how_long_and_how_much(house: House) -> None:
    code = new_link(house)
    page = house.app.test_client().get(f"/api/join/{code}").json
    assert page["loads"] == []
    assert 50 < page["file_kb"] < 1000
    made = house.post(
        "/api/sites/pier/plans",
        {"probe_id": 2, "far_end_id": 1, "codec": "g711a", "calls": 10, "call_s": 60, "when": "draft"},
    )
    assert made.status_code == 200
    db = connect(house.folder)
    with writing(db):
        db.execute("UPDATE plan SET state = 'scheduled', next_us = 2000000000000000")
    (load,) = house.app.test_client().get(f"/api/join/{code}").json["loads"]
    # Ten calls of 80 kbit/s and 5 % of RTCP each way, a minute, both ways.
    assert load["peak_kbps"] == pytest.approx(840)
    assert load["volume_mb"] == pytest.approx(840 * 60 * 2 / 8000)
    assert load["run_s"] == 60
