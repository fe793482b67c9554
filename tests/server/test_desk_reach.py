"""How far a browser is from each far end, and how it came to one."""

from __future__ import annotations

import json
import sqlite3
from typing import Any

import pytest

from tarnfell.probe.connect import CallError
from tarnfell.server.place import desk_link
from tarnfell.store import browsers as browser_store
from tarnfell.store import places as place_store
from tarnfell.store.db import writing
from tarnfell.wire.browser import BrowserCalls
from tarnfell.wire.record import Record, join_parts, split_parts
from tests.server.conftest import House
from tests.server.test_desk import LINKS, add, asked, begin, carried_out, code_of, db, half, join, stranger, whole_of

__all__ = ["asked", "db"]

PAGE = {
    "own": "host",
    "transport": "udp",
    "relay": "",
    "network": "wifi",
    "address": "198.51.100.2",
    "port": 40_012,
}
HOP = {"ttl": 1, "address": "198.51.100.1", "others": [], "sent": 3, "rtt_ms": [1.0, 4.0, 2.0]}
PATH = {
    "address": "203.0.113.5",
    "port": 33_434,
    "dscp": 0,
    "hops": [HOP, {**HOP, "ttl": 2, "address": None, "rtt_ms": []}],
    "reached": False,
    "sees_marking": False,
    "method": "udp",
}


def trip(house: House, code: str, far_end_id: int) -> Any:
    return stranger(house, "POST", f"{code}/round-trips", json={"far_end_id": far_end_id, "offer": "v=0"})


def test_each_far_end_is_asked_how_far_it_is_and_nothing_is_placed(
    house: House, db: sqlite3.Connection, asked: list[BrowserCalls]
) -> None:
    with writing(db):
        other = place_store.add_far_end(db, "near", "here", "192.0.2.9", 4870, "k" * 16)
        unchosen = place_store.add_far_end(db, "elsewhere", "", "192.0.2.10", 4870, "k" * 16)
        place_store.choose_far_end(db, 1, other)
    code = code_of(add(house))
    told = trip(house, code, other)
    assert told.json == {"answer": "v=0\r\n"}
    assert asked[0].reached_at == "192.0.2.9"
    assert db.execute("SELECT count(*) FROM job").fetchone()[0] == 0
    assert trip(house, code, unchosen).status_code == 409


def test_asking_is_bounded_for_each_far_end(house: House, asked: list[BrowserCalls]) -> None:
    code = code_of(add(house))
    (far_end,) = stranger(house, "GET", code).json["far_ends"]
    answers = [trip(house, code, far_end["id"]).status_code for _ in range(4)]
    assert answers == [200, 200, 200, 429]
    assert len(asked) == 3
    assert trip(house, code_of(add(house, name="Other")), far_end["id"]).status_code == 200  # by a link of its own


def test_a_link_that_is_over_measures_no_round_trip_and_a_far_end_that_will_not_says_so(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    page = add(house)
    code = code_of(page)
    (far_end,) = stranger(house, "GET", code).json["far_ends"]

    def refuse(*_: object) -> str:
        raise CallError("It was not started for them.")

    monkeypatch.setattr(desk_link, "answer_of", refuse)
    assert "not started for them" in trip(house, code, far_end["id"]).json["detail"]
    house.person.delete(f"{LINKS}/{page.json['links'][0]['probe_id']}/link", headers={"X-CSRF-Token": house.csrf})
    assert trip(house, code, far_end["id"]).status_code == 410


def test_how_it_came_there_stands_with_its_result(house: House, db: sqlite3.Connection) -> None:
    def seen_too(half: bytes, far_end: object, token: str) -> bytes:
        head, *calls = split_parts(whole_of(half, far_end, token))
        known = Record.parse(head)
        reach = {"address": "203.0.113.5", "port": 61_000, "path": PATH, "no_path": ""}
        return join_parts([Record({**known.meta, "far_reach": reach}, known.columns).serialize(), *calls])

    code = code_of(add(house))
    run_id = int(begin(house, code).json["job_id"])
    stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=half(reach=PAGE))
    join(house, db, seen_too)
    for run in (
        stranger(house, "GET", code).json["runs"][0],
        house.person.get(LINKS).json["links"][0]["runs"][0],
    ):
        assert run["state"] == "done"
        assert run["reach"]["hops"] == [
            {"number": 1, "address": "198.51.100.1", "rtt_ms": 2.0},
            {"number": 2, "address": None, "rtt_ms": None},
        ]
        how, network, seen, back = run["reach"]["says"]
        assert how.startswith("Packets went by UDP over IPv4 to 198.51.100.2 port 40012")
        assert network == "The browser says that it is on Wi-Fi."
        assert seen == "The far end saw it at 203.0.113.5 port 61000."  # and the web server a test on this machine
        assert "last heard of at hop 1" in back
    assert browser_store.reach_of(db, run_id)[1] == "127.0.0.1"


def test_a_browser_that_tells_nothing_is_no_fault(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house))
    carried_out(house, db, code, reach=None)
    assert stranger(house, "GET", code).json["runs"][0]["reach"] == {"says": [], "hops": []}


@pytest.mark.parametrize("reach", [{**PAGE, "port": 65_536}, {**PAGE, "address": "a" * 65}, {"via": 1}, "udp"])
def test_a_way_that_cannot_be_is_refused(house: House, db: sqlite3.Connection, reach: object) -> None:
    code = code_of(add(house))
    run_id = int(begin(house, code).json["job_id"])
    stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=json.dumps({**json.loads(half()), "reach": reach}))
    join(house, db)
    (run,) = stranger(house, "GET", code).json["runs"]
    assert run["state"] == "failed"
    assert "The record of its packets was not taken" in run["failure"]
