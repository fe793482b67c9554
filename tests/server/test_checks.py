"""Checks from the screen to the probe and back: asked, followed as the answers come, compared, stopped."""

from __future__ import annotations

import json
from dataclasses import asdict, replace
from typing import Any

import pytest

from tarnfell.core.check.judge import judge
from tarnfell.core.check.values import USUAL, Limits
from tarnfell.store import checks as check_store
from tarnfell.store.checks import Wish
from tarnfell.store.db import connect
from tarnfell.store.jobs import WORDS
from tarnfell.wire.kinds import KINDS as KINDS_KNOWN
from tarnfell.wire.kinds.check import CheckResult, ServiceAsked
from tarnfell.wire.kinds.fields import plain
from tarnfell.work.judging import checks
from tests.core.check.test_judge import HEALTHY, WEB, call
from tests.server.conftest import House

KINDS = ["calls", "check"]


NOTHING: dict[str, Any] = {
    "gateway": "", "edge": "", "outside": [], "resolvers": [], "names": [], "services": [], "limits": asdict(USUAL),
}  # fmt: skip


def form(one: ServiceAsked) -> dict[str, Any]:
    return asdict(one)


def put(house: House, where: str, body: dict[str, Any]) -> Any:
    return house.person.put(f"/api/sites/pier/checks/{where}", json=body, headers={"X-CSRF-Token": house.csrf})


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
    assert (found["state"], found["asked"], found["questions"]) == ("running", 1, 11)
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
    listed = house.person.get("/api/sites/pier/checks").json["checks"]
    assert [one["changed"][-1:] for one in listed] == [
        ["Far end: failed before, passed now."], ["Far end: passed before, failed now."], [],
    ]  # fmt: skip
    stage = next(s for s in house.person.get("/api/sites/pier").json["stages"] if s["key"] == "check")
    assert (stage["stands"], stage["done"]) == ("12 of 12 rungs passed", True)
    done(house, replace(HEALTHY, services=(), names=()))  # unproven is not failed
    stage = next(s for s in house.person.get("/api/sites/pier").json["stages"] if s["key"] == "check")
    assert stage["stands"] == "10 of 12 rungs passed"
    done(house, replace(HEALTHY, services=(), names=(), media=(call(received_down=0),)))
    stage = next(s for s in house.person.get("/api/sites/pier").json["stages"] if s["key"] == "check")
    assert stage["stands"] == "1 of 12 rungs failed"


def test_checks_are_judged_once_until_the_limits_are_others(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[float] = []

    def judged(result: CheckResult, limits: Limits) -> Any:
        asked.append(limits.gateway_ms)
        return judge(result, limits)

    monkeypatch.setattr(checks, "judge", judged)
    heartbeat(house, [])
    done(house)
    checks._judged_before.cache_clear()
    first = newest(house)
    assert (newest(house), asked) == (first, [USUAL.gateway_ms])
    limits = {**asdict(USUAL), "gateway_ms": 0.5}
    assert put(house, "wish", {**NOTHING, "limits": limits}).status_code == 200
    assert newest(house) != first
    assert asked == [USUAL.gateway_ms, 0.5]


def test_what_is_asked_is_the_sites_own_and_goes_out_as_it_is_then(house: House) -> None:
    heartbeat(house, [])
    ask(house)
    wish = {
        "gateway": "192.0.2.1", "edge": "", "outside": ["198.51.100.53"], "resolvers": [], "names": ["meet.example"],
        "services": [form(WEB)], "limits": {**asdict(USUAL), "gateway_ms": 0.5},
        "account": None,
    }  # fmt: skip
    answer = put(house, "wish", wish)
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
        Limits(gateway_ms=0.5),
    )
    tell(house, job["id"], "outcome", HEALTHY)
    assert "a cable 0 ms are usual at most" in next(r for r in newest(house)["rungs"] if r["key"] == "gateway")["says"]


def test_a_password_at_a_registrar_is_kept_for_it_alone_and_never_told(house: House) -> None:
    heartbeat(house, [])
    account = {
        "host": "sip.customer.example",
        "user": "200",
        "password": "s3cret-of-200",
        "transport": "tls",
        "port": 5061,
    }
    ask(house)
    told = put(house, "wish", {**NOTHING, "account": account})
    assert told.json["wish"]["account"] == {**account, "password": None, "has_password": True, "domain": ""}
    (job,) = heartbeat(house, [])
    assert job["arguments"]["account"] == account
    put(house, "wish", {**NOTHING, "account": {**account, "password": None, "transport": "tcp"}})
    kept = check_store.wish_of(connect(house.folder), 1).account
    assert kept is not None
    assert (kept.password, kept.transport) == ("s3cret-of-200", "tcp")
    for other in ({"host": "sip.elsewhere.example"}, {"user": "201"}):
        put(house, "wish", {**NOTHING, "account": account})
        put(house, "wish", {**NOTHING, "account": {**account, "password": None, **other}})
        moved = check_store.wish_of(connect(house.folder), 1).account
        assert moved is not None
        assert moved.password == ""
    tell(house, job["id"], "outcome", HEALTHY)
    for page in ("/api/sites/pier/checks", f"/api/sites/pier/checks/{job['id']}/evidence"):
        assert "s3cret" not in house.person.get(page).get_data(as_text=True)
    assert put(house, "wish", NOTHING).json["wish"]["account"] is None


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"account": {"host": "sip example", "user": "1"}}, "host"),
        ({"account": {"host": "sip.example", "user": "a>b"}}, "user"),
        ({"gateway": "router"}, "The gateway must be an address"),
        ({"outside": ["192.0.2.300"]}, "“192.0.2.300” is none"),
        ({"resolvers": ["dns"]}, "A name server must be an address"),
        ({"names": ["a..b"]}, "no name that can be asked for"),
        ({"limits": {**asdict(USUAL), "binding_s": 4}}, "must be at least 5"),
        ({"services": [form(replace(WEB, path="x y"))]}, "path"),
    ],
)
def test_what_cannot_be_asked_gets_a_sentence(house: House, change: dict[str, Any], says: str) -> None:
    wish = {**NOTHING, **change}
    answer = put(house, "wish", wish)
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


def test_what_is_told_of_a_check_that_was_not_taken_changes_nothing(house: House) -> None:
    heartbeat(house, [])
    number = ask(house)["checks"][0]["id"]
    tell(house, number, "known", HEALTHY)
    assert (newest(house)["state"], newest(house)["rungs"]) == ("waiting", [])


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


def test_services_of_the_engagement_go_to_every_site_and_come_back_from_their_own_files(house: House) -> None:
    heartbeat(house, [])
    shared = [form(WEB), form(ServiceAsked("Names", "dns.example", 53, "dns"))]
    page = put(house, "services", {"services": shared}).json
    assert page["services"] == shared
    assert {"name": "STUN", "port": 3478, "protocol": "stun"} in page["usual_ports"]
    own = ServiceAsked("Meetings here", "meet.example", 443, "tls")
    put(house, "wish", {**NOTHING, "services": [form(own)]})
    ask(house)
    (job,) = heartbeat(house, [])
    asked = [(one["name"], one["port"]) for one in job["arguments"]["services"]]
    assert asked == [("Meetings here", 443), ("Names", 53)]  # what stands in both is asked once
    for ending in ("toml", "csv"):
        answer = house.person.get(f"/api/sites/pier/checks/services.{ending}")
        assert f"-services.{ending}" in answer.headers["Content-Disposition"]
        back = house.post("/api/sites/pier/checks/services/read", {"text": answer.text})
        assert back.json["services"] == shared, answer.text
    wrong = house.post("/api/sites/pier/checks/services/read", {"text": "name,host,port\nMeetings,meet.example,x"})
    assert (wrong.status_code, wrong.json["detail"]) == (422, "Line 2: “x” is no port.")


def test_all_that_came_back_can_be_read(house: House) -> None:
    heartbeat(house, [])
    ask(house)
    (job,) = heartbeat(house, [])
    where = f"/api/sites/pier/checks/{job['id']}/evidence"
    assert house.person.get(where).status_code == 404
    tell(house, job["id"], "outcome", HEALTHY)
    told = house.person.get(where).json["evidence"]
    assert [hop["address"] for hop in told["path"]["hops"]] == [hop.address for hop in HEALTHY.path.hops]  # type: ignore[union-attr]
    assert told["services"][0]["asked"]["host"] == "meet.example"
    assert "key" not in " ".join(told)


def test_another_route_is_said(house: House) -> None:
    heartbeat(house, [])
    done(house)
    assert HEALTHY.path is not None
    first, _, last = HEALTHY.path.hops
    moved = replace(HEALTHY.path, hops=(first, replace(last, ttl=2, address="192.0.2.99"), last))
    done(house, replace(HEALTHY, path=moved))
    assert newest(house)["changed"] == [
        "The route has changed: hop 2 is 192.0.2.99, it was 192.0.2.1; round trip 20.0 ms, 20.0 ms before.",
    ]  # fmt: skip
