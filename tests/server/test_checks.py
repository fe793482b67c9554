"""Checks from the screen to the probe and back: asked, followed as the answers come, compared, stopped."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

import pytest

from tarnfell.store import checks as check_store
from tarnfell.store.checks import Wish
from tarnfell.store.db import connect
from tarnfell.store.jobs import WORDS
from tarnfell.wire.kinds import KINDS as KINDS_KNOWN
from tarnfell.wire.kinds.check import CheckResult, ServiceAsked
from tarnfell.wire.kinds.fields import plain
from tests.core.check.test_judge import HEALTHY, WEB, call
from tests.server.conftest import House

KINDS = ["calls", "check"]


def heartbeat(house: House, holds: list[int]) -> list[dict[str, Any]]:
    body = {"environment": {"system": "test"}, "kinds": KINDS, "holds": holds}
    answer = house.probe("POST", "/api/probe/heartbeat", json=body)
    assert answer.status_code == 200, answer.text
    return list(answer.json["jobs"])


def ask(house: House) -> dict[str, Any]:
    answer = house.post("/api/sites/pier/checks", {"probe_id": 1, "far_end_id": 1})
    assert answer.status_code == 200, answer.text
    return dict(answer.json)


def newest(house: House) -> dict[str, Any]:
    return dict(house.person.get("/api/sites/pier/checks").json["checks"][0])


def tell(house: House, job: int, what: str, result: CheckResult) -> Any:
    return house.probe("POST", f"/api/probe/jobs/{job}/{what}", json={"result": json.loads(json.dumps(plain(result)))})


def done(house: House, result: CheckResult = HEALTHY) -> int:
    ask(house)
    (job,) = heartbeat(house, [])
    assert tell(house, job["id"], "outcome", result).json == {"state": "done"}
    return int(job["id"])


def test_a_check_is_asked_for_followed_and_judged(house: House) -> None:
    heartbeat(house, [])
    assert house.person.get("/api/sites/pier/checks").json["checks"] == []
    page = ask(house)
    assert (page["checks"][0]["state"], page["checks"][0]["rungs"]) == ("waiting", [])
    (job,) = heartbeat(house, [])
    assert job["kind"] == "check"
    told = connect(house.folder).execute("SELECT host, port, key FROM far_end").fetchone()
    assert [job["arguments"][name] for name in ("far_host", "far_port", "far_key")] == list(told)
    some = replace(HEALTHY, names=(), services=(), reach=None, media=(), took=HEALTHY.took[:1])
    assert tell(house, job["id"], "known", some).json == {"stop": False}
    found = newest(house)
    assert (found["state"], found["asked"], found["questions"]) == ("running", 1, 8)
    assert {r["key"]: r["state"] for r in found["rungs"]}["names"] == "unproven"
    bad = replace(HEALTHY, media=(call(received_down=0),))
    assert tell(house, job["id"], "outcome", bad).json == {"state": "done"}
    found = newest(house)
    assert [(c["key"], c["direction"]) for c in found["causes"]] == [("one-way", "down")]
    stage = next(s for s in house.person.get("/api/sites/pier").json["stages"] if s["key"] == "check")
    assert (stage["stands"], stage["done"]) == ("1 of 12 rungs failed", False)
    assert tell(house, job["id"], "known", some).json == {"stop": False}  # late, and changes nothing
    assert [c["key"] for c in newest(house)["causes"]] == ["one-way"]


def test_every_kind_has_words_and_a_check_stands_in_its_probes_history(house: House) -> None:
    assert set(WORDS) == set(KINDS_KNOWN)
    heartbeat(house, [])
    done(house)
    page = house.person.get("/api/sites/pier/place")
    assert page.status_code == 200
    assert "Check the site’s network" in page.text


def test_what_changed_since_the_check_before_is_told(house: House) -> None:
    heartbeat(house, [])
    done(house)
    assert newest(house)["changed"] == []
    done(house, replace(HEALTHY, media=(call(bound=False),)))
    assert newest(house)["changed"] == [
        "Marking: passed before, unproven now.", "Far end: passed before, failed now.",
    ]  # fmt: skip
    done(house)
    assert newest(house)["changed"] == [
        "Marking: unproven before, passed now.", "Far end: failed before, passed now.",
    ]  # fmt: skip
    stage = next(s for s in house.person.get("/api/sites/pier").json["stages"] if s["key"] == "check")
    assert (stage["stands"], stage["done"]) == ("12 of 12 rungs passed", True)


def test_what_is_asked_is_the_sites_own_and_goes_out_as_it_is_then(house: House) -> None:
    heartbeat(house, [])
    ask(house)
    wish = {
        "gateway": "192.0.2.1", "edge": "", "outside": ["198.51.100.53"], "resolvers": [], "names": ["meet.example"],
        "services": [{"name": "Meetings", "host": "meet.example", "port": 443, "protocol": "tls", "sha256": ""}],
    }  # fmt: skip
    headers = {"X-CSRF-Token": house.csrf}
    answer = house.person.put("/api/sites/pier/checks/wish", json=wish, headers=headers)
    assert answer.json["wish"] == wish
    (job,) = heartbeat(house, [])
    assert job["arguments"]["gateway"] == "192.0.2.1"
    assert job["arguments"]["outside"] == ["198.51.100.53"]
    assert job["arguments"]["services"] == [plain(WEB)]
    db = connect(house.folder)
    assert check_store.wish_of(db, 1) == Wish(
        "192.0.2.1",
        "",
        ("198.51.100.53",),
        (),
        ("meet.example",),
        (ServiceAsked("Meetings", "meet.example", 443, "tls"),),
    )


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"gateway": "router"}, "The gateway must be an address"),
        ({"outside": ["192.0.2.300"]}, "“192.0.2.300” is none"),
        ({"resolvers": ["dns"]}, "A name server must be an address"),
        ({"names": ["a..b"]}, "no name that can be asked for"),
    ],
)
def test_what_cannot_be_asked_gets_a_sentence(house: House, change: dict[str, Any], says: str) -> None:
    wish = {"gateway": "", "edge": "", "outside": [], "resolvers": [], "names": [], "services": [], **change}
    answer = house.person.put("/api/sites/pier/checks/wish", json=wish, headers={"X-CSRF-Token": house.csrf})
    assert (answer.status_code, says in answer.json["detail"]) == (422, True)


def test_a_check_can_be_stopped_and_only_where_it_belongs(house: House) -> None:
    heartbeat(house, [])
    ask(house)
    (job,) = heartbeat(house, [])
    assert house.post(f"/api/sites/pier/checks/{job['id']}/stop", {}).status_code == 200
    assert tell(house, job["id"], "known", HEALTHY).json == {"stop": True}
    assert house.post("/api/sites/pier/checks/99/stop", {}).status_code == 404
    run = house.place().json["id"]
    assert house.post(f"/api/sites/pier/checks/{run}/stop", {}).status_code == 404


def test_answers_that_are_none_are_turned_away_and_nothing_is_kept(house: House) -> None:
    heartbeat(house, [])
    ask(house)
    (job,) = heartbeat(house, [])
    answer = house.probe("POST", f"/api/probe/jobs/{job['id']}/known", json={"result": {"far_address": 3}})
    assert (answer.status_code, newest(house)["rungs"]) == (422, [])
    house.probe("POST", f"/api/probe/jobs/{job['id']}/outcome", json={"result": {"far_address": 3}})
    assert newest(house)["state"] == "failed"


def test_a_probe_that_is_away_or_a_far_end_that_is_not_chosen_is_said(house: House) -> None:
    db = connect(house.folder)
    db.execute("UPDATE probe SET last_contact_us = 5")
    away = house.post("/api/sites/pier/checks", {"probe_id": 1, "far_end_id": 1})
    assert (away.status_code, "online" in away.json["detail"] or "offline" in away.json["detail"]) == (409, True)
    heartbeat(house, [])
    other = house.post("/api/sites/pier/checks", {"probe_id": 1, "far_end_id": 7})
    assert (other.status_code, "not chosen for this site" in other.json["detail"]) == (409, True)


def test_an_older_probe_says_that_it_does_not_know_checks(house: House) -> None:
    heartbeat(house, [])
    ask(house)
    house.heartbeat()
    assert "does not know this yet" in newest(house)["words"]
