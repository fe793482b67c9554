"""A relay for browsers where UDP does not pass: kept for an engagement, told to a page, and never evidence."""

from __future__ import annotations

import sqlite3
from typing import Any

from tarnfell.store import browsers as browser_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.work.evidence.facts import facts_of
from tests.server.conftest import House
from tests.server.test_desk import LINKS, add, asked, code_of, db, half, join, stranger
from tests.server.test_desk_reach import PAGE

__all__ = ["asked", "db"]

FORM = {"host": "relay.example.net", "port": 3478, "tls_port": 5349, "user": "", "secret": "north gate"}
TRIED = [
    {"by": "udp", "took_ms": None, "code": 701, "words": "TURN host lookup received error."},
    {"by": "tcp", "took_ms": 18.6, "code": 0, "words": ""},
    {"by": "tls", "took_ms": None, "code": 401, "words": "Unauthorized"},
]
OVER_TCP = (
    "The relay gave this browser an address over TCP (19 ms), and none over UDP and TLS. "
    "UDP: no answer (TURN host lookup received error); TLS: Unauthorized (401)."
)


def relay_of(house: House) -> str:
    engagement = house.person.get(LINKS).json["engagement_slug"]
    return f"/api/engagements/{engagement}/relay"


def put(house: House, **changes: Any) -> Any:
    headers = {"X-CSRF-Token": house.csrf}
    return house.person.put(relay_of(house), json={**FORM, **changes}, headers=headers)


def placed(house: House, db: sqlite3.Connection, code: str, relayed: bool, **told: Any) -> int:
    (far_end,) = stranger(house, "GET", code).json["far_ends"]
    body = {"far_end_id": far_end["id"], "offer": "v=0", "relayed": relayed}
    run_id = int(stranger(house, "POST", f"{code}/runs", json=body).json["job_id"])
    stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=half(**told))
    join(house, db)
    assert run_store.run_by_id(db, run_id).state == "done"
    return run_id


def test_a_relay_is_kept_without_telling_its_secret_and_given_to_good_links_alone(house: House) -> None:
    code = code_of(add(house))
    assert stranger(house, "GET", code).json["relay"] is None
    kept = {"relay": {"host": "relay.example.net", "port": 3478, "tls_port": 5349, "user": ""}}
    assert put(house).json == kept
    assert house.person.get(relay_of(house)).json == kept
    told = stranger(house, "GET", code).json["relay"]
    assert told["tcp"] == "turn:relay.example.net:3478?transport=tcp"
    assert told["user"].endswith(":tarnfell")
    assert "north gate" not in str(told)
    # What is not given anew stays; but a shared secret never becomes a password, which browsers are told.
    assert put(house, port=443, secret=None).json["relay"]["port"] == 443
    assert put(house, user="pier", secret=None).status_code == 422
    assert put(house, user="pier", secret="gangway").json["relay"]["user"] == "pier"
    assert put(house, user="quay", secret=None).json["relay"]["user"] == "quay"
    assert stranger(house, "GET", code).json["relay"]["password"] == "gangway"
    assert put(house, user="", secret=None).status_code == 422
    number = house.person.get(LINKS).json["links"][0]["probe_id"]
    house.person.delete(f"{LINKS}/{number}/link", headers={"X-CSRF-Token": house.csrf})
    assert stranger(house, "GET", code).json["relay"] is None
    assert house.person.delete(relay_of(house), headers={"X-CSRF-Token": house.csrf}).json == {"relay": None}


def test_what_is_no_relay_is_refused(house: House) -> None:
    assert put(house, secret=None).status_code == 422  # none is kept yet
    for host in ("relay example", "relay.example.net?transport=udp", "-", "a/b", ""):
        assert put(house, host=host).status_code == 422, host
    assert put(house, port=0).status_code == 422
    assert house.person.get(relay_of(house)).json == {"relay": None}


def test_calls_through_a_relay_are_shown_and_never_counted(house: House, db: sqlite3.Connection) -> None:
    headers = {"X-CSRF-Token": house.csrf}
    house.person.put("/api/sites/pier/browser-counts", json={"counts": True}, headers=headers)
    code = code_of(add(house))
    straight = placed(house, db, code, relayed=False)
    placed(house, db, code, relayed=True)
    # A page that says nothing of a relay, and went through one.
    placed(house, db, code, relayed=False, reach={**PAGE, "own": "relay", "relay": "tcp"}, relays=TRIED)
    shown = stranger(house, "GET", code).json["runs"]
    assert [run["way"] for run in shown] == ["relay", "relay", "straight"]
    assert shown[0]["reach"]["says"][0].startswith("Packets went through a relay, to which this browser spoke TCP")
    assert shown[0]["reach"]["says"][-1] == OVER_TCP
    site = site_store.site_by_slug(db, "pier")
    assert site is not None
    facts = facts_of(db, site)
    assert {fact.run_id for fact in facts.calls} == {straight}
    assert facts.aside.browsers == 4
    assert house.person.get(LINKS).json["not_counted"] == 4
    assert run_store.run_by_id(db, straight + 1).name == "Browser, self-run (by relay): Reception"


def test_where_nothing_came_through_the_relay_either_that_is_said(house: House) -> None:
    code = code_of(add(house))
    (far_end,) = stranger(house, "GET", code).json["far_ends"]
    body = {"far_end_id": far_end["id"], "offer": "v=0", "relayed": True}
    job_id = stranger(house, "POST", f"{code}/runs", json=body).json["job_id"]
    stranger(house, "POST", f"{code}/jobs/{job_id}/failed", json={"why": "no-connection", "relays": TRIED})
    (run,) = stranger(house, "GET", code).json["runs"]
    assert run["failure"].startswith("No media came through the relay")


def test_where_nothing_came_through_what_the_relay_did_stands_with_it(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house))
    (far_end,) = stranger(house, "GET", code).json["far_ends"]
    begun = stranger(house, "POST", f"{code}/runs", json={"far_end_id": far_end["id"], "offer": "v=0"})
    path = f"{code}/jobs/{begun.json['job_id']}/failed"
    told = stranger(house, "POST", path, json={"why": "no-connection", "relays": TRIED})
    assert told.json == {"state": "failed"}
    (run,) = stranger(house, "GET", code).json["runs"]
    assert run["failure"].startswith("No media came through")
    assert run["reach"]["says"] == [OVER_TCP]
    assert browser_store.way_of(db, run["run_id"]) == "straight"
    assert stranger(house, "POST", path, json={"why": "no-connection", "relays": TRIED * 2}).status_code == 422
