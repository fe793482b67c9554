"""Tests from a browser: the consultant's links, and what the page behind one may do, from the code to the evidence."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from icalendar import Calendar

from tarnfell.clerk import browsers as joining
from tarnfell.clerk.browsers import FarHalfMissing, Joining
from tarnfell.probe.connect import CallError
from tarnfell.server.place import desk, desk_link
from tarnfell.store import browsers as browser_store
from tarnfell.store import calls as call_store
from tarnfell.store import jobs as job_store
from tarnfell.store import places as place_store
from tarnfell.store import probes as probe_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.brands import Brand, keep_brand
from tarnfell.store.db import connect, now_us, writing
from tarnfell.store.runs import RunSpec
from tarnfell.wire.browser import BrowserCalls
from tarnfell.wire.record import Record, join_parts, pack_column, split_parts
from tarnfell.work.evidence.facts import facts_of
from tarnfell.work.placing.rules import against_browser
from tarnfell.work.today import today
from tests.server.conftest import House

SECONDS = 10
PLANNED = 500
LINKS = "/api/sites/pier/browser-links"


@pytest.fixture(autouse=True)
def asked(monkeypatch: pytest.MonkeyPatch) -> list[BrowserCalls]:
    """A far end that answers each offer; what it was asked."""
    told: list[BrowserCalls] = []

    def answer(host: str, port: int, key: str, wanted: BrowserCalls) -> str:
        told.append(wanted)
        return "v=0\r\n"

    monkeypatch.setattr(desk_link, "answer_of", answer)
    return told


@pytest.fixture
def db(house: House) -> Iterator[sqlite3.Connection]:
    made = connect(house.folder)
    yield made
    made.close()


def add(house: House, **changes: Any) -> Any:
    point = next(iter(house.person.get(LINKS).json["test_points"]))
    form = {"name": "Reception", "test_point_id": int(point), "calls": 2, "seconds": SECONDS, **changes}
    return house.post(LINKS, form)


def code_of(page: Any) -> str:
    return str(page.json["links"][0]["invitation"]["path"].removeprefix("/test/"))


def stranger(house: House, method: str, path: str, **options: Any) -> Any:
    return house.app.test_client().open(f"/api/test/{path}", method=method, **options)


def begin(house: House, code: str) -> Any:
    (far_end,) = stranger(house, "GET", code).json["far_ends"]
    return stranger(house, "POST", f"{code}/runs", json={"far_end_id": far_end["id"], "offer": "v=0"})


def half(calls: int = 2, **changes: Any) -> bytes:
    at = now_us()
    one = {
        "sent_us": [20_000 * n for n in range(PLANNED)],
        "arrival_seq": list(range(PLANNED)),
        "arrival_us": [20_000 * n + 30_000 for n in range(PLANNED)],
        "far": [PLANNED, PLANNED],
    }
    stamps = {name: [100_000 * n + add for n in range(90)] for name, add in
              (("t1_us", 0), ("t2_us", 30_000), ("t3_us", 30_000), ("t4_us", 60_000))}  # fmt: skip
    told = {"started_us": at, "lasted_s": 11.5, "calls": [one] * calls, "exchange": stamps, **changes}
    return json.dumps(told).encode()


def whole_of(half: bytes, far_end: object, token: str) -> bytes:
    """As the far end joins it: every packet came, but for the tenth of each call up."""
    head, *calls = split_parts(half)
    made = []
    for part in calls:
        one = Record.parse(part)
        start = int(one.meta["start_us"])
        came = [n for n in range(PLANNED) if n != 10]
        columns = dict(one.columns) | {
            "up.arrival_seq": pack_column("up.arrival_seq", came),
            "up.arrival_us": pack_column("up.arrival_us", [start + 20_000 * n + 30_000 for n in came]),
            "down.sent_us": pack_column("down.sent_us", [start + 20_000 * n for n in range(PLANNED)]),
        }
        made.append(Record({k: v for k, v in one.meta.items() if k != "half"}, columns).serialize())
    return join_parts([head, *made])


def join(house: House, db: sqlite3.Connection, complete: joining.Complete = whole_of) -> None:
    """One turn of the clerk, to its end."""
    one = Joining(house.folder, complete)
    one.turn(db)
    one.end()
    house.judge()


def carried_out(house: House, db: sqlite3.Connection, code: str, **changes: Any) -> int:
    run_id = int(begin(house, code).json["job_id"])
    assert stranger(house, "POST", f"{code}/jobs/{run_id}/alive").json == {"stop": False}
    assert stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=half(**changes)).json == {"state": "delivered"}
    join(house, db)
    return run_id


def test_from_the_link_to_the_evidence(house: House, db: sqlite3.Connection, asked: list[BrowserCalls]) -> None:
    page = add(house)
    assert page.status_code == 200, page.text
    assert page.json["links"][0]["invitation"]["state"] == "open"
    code = code_of(page)
    told = stranger(house, "GET", code).json
    # 160 bytes of G.711 in 200 of IP, twice 50 a second, both ways for ten seconds.
    assert (told["each_way_kbps"], told["volume_mb"]) == (160.0, 0.4)
    assert (told["calls"], told["interval_ms"], told["filling"], told["state"]) == (2, 20, 93, "open")
    assert house.person.get(LINKS).json["links"][0]["invitation"]["opened_us"]
    run_id = carried_out(house, db, code)
    (wanted,) = asked
    assert (wanted.calls, wanted.interval_ms, wanted.filling, wanted.seconds) == (2, 20, 93, SECONDS)
    (run,) = stranger(house, "GET", code).json["runs"]
    assert (run["run_id"], run["state"], run["doubts"]) == (run_id, "done", [])
    assert run["up"]["loss_pct"] == pytest.approx(100 / PLANNED)
    assert run["down"]["loss_pct"] == 0
    assert (run["up"]["acceptable"], run["down"]["acceptable"]) == (2, 2)
    assert run["up"]["delay_ms"] == pytest.approx(30, abs=1)
    assert house.person.get(LINKS).json["links"][0]["runs"][0]["run_id"] == run_id
    assert run_store.run_by_id(db, run_id).name == "Browser, self-run: Reception"


def test_what_arrived_since_the_last_visit_is_told_apart(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house))
    carried_out(house, db, code)
    stranger(house, "POST", f"{code}/jobs/{begin(house, code).json['job_id']}/failed", json={"why": "given-up"})
    told = today(db, 1, 0, now_us()).changed
    assert [one.says for one in told] == ["1 test from a browser; 1 test from a browser failed"]


def test_calls_of_browsers_are_evidence_only_where_that_was_allowed(house: House, db: sqlite3.Connection) -> None:
    carried_out(house, db, code_of(add(house)))
    site = site_store.sites_of(db, 1)[0]
    facts = facts_of(db, site)
    assert (facts.calls, facts.aside.browsers) == ([], 2)
    assert house.person.get(LINKS).json["not_counted"] == 2
    assert call_store.tests_since(db, 1, 0, 10) == []
    before = house.person.get("/api/sites/pier").json
    answer = house.person.put(
        "/api/sites/pier/browser-counts", json={"counts": True}, headers={"X-CSRF-Token": house.csrf}
    )
    assert (answer.json["counts"], answer.json["not_counted"]) == (True, 0)
    facts = facts_of(db, site_store.sites_of(db, 1)[0])
    assert len({fact.call_id for fact in facts.calls}) == 2
    assert facts.aside.browsers == 0
    assert len(call_store.tests_since(db, 1, 0, 10)) == 1  # what alerts look at
    assert house.person.get("/api/sites/pier").json != before


def test_a_link_that_is_revoked_or_expired_begins_nothing(house: House, db: sqlite3.Connection) -> None:
    page = add(house)
    code, number = code_of(page), page.json["links"][0]["probe_id"]
    gone = house.person.delete(f"{LINKS}/{number}/link", headers={"X-CSRF-Token": house.csrf})
    assert gone.json["links"][0]["invitation"]["state"] == "revoked"
    assert stranger(house, "GET", code).json["state"] == "revoked"
    refused = begin(house, code)
    assert (refused.status_code, "revoked" in refused.json["detail"]) == (410, True)
    code = code_of(house.post(f"{LINKS}/{number}/link", {}))
    with writing(db):
        db.execute("UPDATE invitation SET until_us = ? WHERE code = ?", (now_us() - 1, code))
    assert stranger(house, "GET", code).json["state"] == "expired"
    refused = begin(house, code)
    assert (refused.status_code, "expired" in refused.json["detail"]) == (410, True)
    assert stranger(house, "GET", f"{code}/rounds.ics").status_code == 410
    assert browser_store.newest_runs(db, number, 5) == []


def test_opened_twice_at_once_the_second_is_told_to_wait(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house))
    assert begin(house, code).status_code == 200
    second = begin(house, code)
    assert (second.status_code, second.json["detail"]) == (409, desk_link.BUSY)


def test_a_browsers_code_brings_no_probe_and_a_probes_code_opens_no_test(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house))
    assert house.app.test_client().get(f"/api/join/{code}").status_code == 404
    assert house.app.test_client().post("/api/probe/enrol", json={"token": code, "environment": {}}).status_code == 403
    probe = probe_store.probes_of(db, 1)[0]
    with writing(db):
        other = probe_store.invite(db, probe.id)
    assert stranger(house, "GET", other).status_code == 404
    assert house.app.test_client().get(f"/api/join/{other}").status_code == 200


def test_one_link_reaches_no_run_of_another(house: House, db: sqlite3.Connection) -> None:
    first = code_of(add(house))
    run_id = begin(house, first).json["job_id"]
    second = code_of(add(house, name="Warehouse"))
    for method, path, given in (
        ("POST", "alive", {}),
        ("POST", "failed", {"json": {"why": "given-up"}}),
        ("PUT", "half", {"data": half()}),
    ):
        assert stranger(house, method, f"{second}/jobs/{run_id}/{path}", **given).status_code == 404
    assert run_store.run_by_id(db, run_id).state == "taken"


def test_a_site_keeps_its_hours_and_its_ceiling(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house, calls=20))
    with writing(db):
        # 20 calls of 80 kbit/s are 1600; 15 % of 10 Mbit/s up are 1500.
        site_store.change_site(db, 1, ceiling_pct=15.0)
    refused = begin(house, code)
    assert (refused.status_code, "ceiling" in refused.json["detail"]) == (409, True)
    with writing(db):
        always = site_store.Blackout("1234567", 0, 1440, "stock-taking")
        site_store.change_site(db, 1, ceiling_pct=17.0, blackouts=[always])
    refused = begin(house, code)
    assert (refused.status_code, "stock-taking" in refused.json["detail"]) == (409, True)
    # In the way of the readers' country, but for what was typed in.
    with writing(db):
        site_store.change_site(db, 1, blackouts=[replace(always, why="1.5 tonnes")])
        keep_brand(db, 1, Brand(locale="de-DE"))
    assert "1.5 tonnes" in begin(house, code).json["detail"]
    with writing(db):
        site_store.change_site(db, 1, ceiling_pct=15.5, blackouts=[])
    assert "15,5 % of the line" in begin(house, code).json["detail"]
    with writing(db):
        site_store.change_site(db, 1, ceiling_pct=17.0)
    with writing(db):
        site_store.change_site(db, 1, blackouts=[])
    assert begin(house, code).status_code == 200


@pytest.mark.parametrize(
    ("before_s", "reason"), [(SECONDS + 1, None), (SECONDS - 1, "hours"), (-599, "hours"), (-601, None)]
)
def test_calls_of_a_browser_end_before_hours_without_load_begin(
    house: House, db: sqlite3.Connection, before_s: float, reason: str | None
) -> None:
    add(house)
    with writing(db):
        ten_minutes = site_store.Blackout("1234567", 12 * 60, 12 * 60 + 10, "stock-taking")
        site_store.change_site(db, 1, time_zone="UTC", blackouts=[ten_minutes])
    (browser,) = probe_store.probes_of(db, 1, "browser")
    spec = RunSpec(1, browser.id, 1, "g711a", 20, 2, SECONDS, 46)
    at = datetime(2026, 3, 4, 12, tzinfo=UTC) - timedelta(seconds=before_s)
    found = against_browser(db, site_store.site_by_id(db, 1), browser, spec, at)
    assert (found.code if found else None) == reason


def test_udp_that_does_not_pass_is_kept_as_what_the_network_did(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house))
    run_id = begin(house, code).json["job_id"]
    failed = stranger(house, "POST", f"{code}/jobs/{run_id}/failed", json={"why": "no-connection"})
    assert failed.json == {"state": "failed"}
    run = run_store.run_by_id(db, run_id)
    assert (run.failure_code, run.server_reachable) == ("no-media", 1)
    assert browser_store.half_of(db, run_id) is None
    # Counted, it is a firewall's doing and not the far end's, which answered the server that asked.
    with writing(db):
        site_store.change_site(db, 1, browser_counts=True, open_minute=0, close_minute=1440, open_days="1234567")
    page = house.person.get("/api/sites/pier").json
    (cause,) = [one for one in page["causes"] if one["network"]]
    assert (cause["key"], cause["direction"]) == ("udp-blocked", "both")
    assert (page["share"]["good"], page["share"]["calls"]) == (0, 2)
    assert "No audio arrived both ways in 2 of 2 calls" in cause["says"][0]
    assert "within 15 s no UDP packet went to the far end and back" in cause["says"][1]
    assert cause["alternatives"][0].startswith("The far end answered when they were asked for")
    other = begin(house, code).json["job_id"]
    stranger(house, "POST", f"{code}/jobs/{other}/failed", json={"why": "no-address"})
    assert run_store.run_by_id(db, other).failure_code == "other"  # nothing was tried
    refused = stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=half())
    assert (refused.status_code, "not waited for" in refused.json["detail"]) == (409, True)


def test_a_far_end_that_will_not_is_told_at_once(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*_: object) -> str:
        raise CallError("The far end at h refused: It takes no calls from browsers: it was not started for them.")

    monkeypatch.setattr(desk_link, "answer_of", refuse)
    code = code_of(add(house))
    refused = begin(house, code)
    assert refused.status_code == 502
    assert "was not started for them" in refused.json["detail"]
    assert [run.state for run in run_store.failed_runs(db, 1)] == []  # not evidence: a browser's, and not counted
    assert begin(house, code).status_code == 502  # the first stands in nobody's way


def test_packets_delivered_twice_are_kept_once(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house))
    run_id = begin(house, code).json["job_id"]
    for _ in range(2):
        assert stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=half()).json == {"state": "delivered"}
    assert len(list((house.folder / "browser-halves").iterdir())) == 1
    join(house, db)
    assert stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=half()).json == {"state": "done"}


def test_a_page_that_is_closed_fails_the_run_and_one_that_delivered_does_not(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    code = code_of(add(house))
    run_id = begin(house, code).json["job_id"]
    monkeypatch.setattr(job_store, "SILENCE_US", -1)
    assert job_store.silent_jobs(db) == [run_id]
    stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=half())
    assert job_store.silent_jobs(db) == []
    with writing(db):
        browser_store.forget(db, run_id)
        job_store.give_up_silent(db, [run_id])
    assert run_store.run_by_id(db, run_id).failure == job_store.PAGE_CLOSED


def test_a_far_half_that_is_missing_is_waited_for_and_then_told(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    def missing(*_: object) -> bytes:
        raise FarHalfMissing("Nothing was kept of that run.")

    code = code_of(add(house))
    run_id = begin(house, code).json["job_id"]
    stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=half())
    join(house, db, missing)
    assert run_store.run_by_id(db, run_id).state == "taken"
    assert browser_store.next_halves(db, 1) == []  # not before the pause is over
    monkeypatch.setattr(joining, "LONGEST_US", -1)
    with writing(db):
        db.execute("UPDATE browser_half SET not_before_us = 0")
    join(house, db, missing)
    failed = run_store.run_by_id(db, run_id)
    assert failed.state == "failed"
    assert "could not be fetched: Nothing was kept of that run." in (failed.failure or "")


def test_what_a_page_delivered_of_a_line_that_gave_out_is_judged_alone(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    def missing(*_: object) -> bytes:
        raise FarHalfMissing("It cannot be reached.")

    monkeypatch.setattr(joining, "LONGEST_US", -1)
    code = code_of(add(house))
    run_id = begin(house, code).json["job_id"]
    stranger(house, "POST", f"{code}/jobs/{run_id}/alive")
    cut = {"code": "gone", "reason": "The far end went away.", "after_s": 6.0, "server_reachable": False}
    stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=half(cut=cut, lasted_s=6.0))
    join(house, db, missing)
    run = run_store.run_by_id(db, run_id)
    assert (run.state, run.cut_reason, run.cut_after_s, run.server_reachable) == (
        "done", "The far end went away.", 6.0, 0,
    )  # fmt: skip


@pytest.mark.parametrize("body", [b"no json", half(calls=1), b"{}"])
def test_a_half_that_cannot_be_fails_the_run_with_the_reason(house: House, db: sqlite3.Connection, body: bytes) -> None:
    code = code_of(add(house))
    run_id = begin(house, code).json["job_id"]
    stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=body)
    join(house, db)
    failed = run_store.run_by_id(db, run_id)
    assert failed.state == "failed"
    assert (failed.failure or "").startswith("The record of its packets was not taken: ")
    assert begin(house, code).status_code == 200


def test_three_rounds_on_the_next_working_day_carry_the_link(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house))
    events = Calendar.from_ical(stranger(house, "GET", f"{code}/rounds.ics").data).walk("VEVENT")
    begins = [event["DTSTART"].dt for event in events]
    assert [f"{at:%H:%M}" for at in begins] == ["09:15", "12:45", "16:30"]
    assert len({at.date() for at in begins}) == 1
    site = site_store.sites_of(db, 1)[0]
    assert str(begins[0].isoweekday()) in site.open_days
    assert all(f"/test/{code}" in str(event["DESCRIPTION"]) for event in events)


def test_the_next_working_day() -> None:
    from datetime import date

    friday = date(2026, 11, 27)
    assert desk.next_open_day(friday, "12345") == date(2026, 11, 30)
    assert desk.next_open_day(friday, "6") == date(2026, 11, 28)
    assert desk.next_open_day(friday, "5") == date(2026, 12, 4)
    assert desk.next_open_day(friday, "") == date(2026, 11, 28)


def test_a_link_put_away_is_listed_no_more_and_its_run_stays(house: House, db: sqlite3.Connection) -> None:
    page = add(house)
    run_id = carried_out(house, db, code_of(page))
    number = page.json["links"][0]["probe_id"]
    put_away = house.person.delete(f"{LINKS}/{number}", headers={"X-CSRF-Token": house.csrf})
    assert put_away.json["links"] == []
    assert run_store.run_by_id(db, run_id).state == "done"
    assert begin(house, code_of(page)).status_code == 410


def test_a_browser_is_no_probe_of_the_site(house: House, db: sqlite3.Connection) -> None:
    number = add(house).json["links"][0]["probe_id"]
    assert number not in [probe.id for probe in probe_store.probes_of(db, 1)]
    asked = house.post(f"/api/sites/pier/probes/{number}/jobs", {"kind": "distances"})
    assert asked.status_code == 404
    assert house.place(probe_id=number).status_code == 409


def test_ends_for_browsers_come_nearest_first_and_without_probes(house: House, db: sqlite3.Connection) -> None:
    probe = probe_store.probes_of(db, 1)[0]
    with writing(db):
        near = place_store.add_far_end(db, "near", "here", "far.example", 4870, "k" * 16)
        other = place_store.add_far_end(db, "desk", "", "192.0.2.7", 4870, "k" * 16, kind="probe", probe_id=probe.id)
        for one in (near, other):
            place_store.choose_far_end(db, 1, one)
        place_store.keep_distance(db, probe.id, near, 12.0, None)
    told = stranger(house, "GET", code_of(add(house))).json["far_ends"]
    assert [(one["name"], one["connect_ms"]) for one in told] == [("near", 12.0), ("far", None)]


def test_what_does_not_fit_a_link_is_refused(house: House) -> None:
    for changes in ({"calls": 0}, {"calls": 21}, {"seconds": 9}, {"seconds": 121}, {"name": ""}):
        assert add(house, **changes).status_code == 422, changes
    assert add(house, test_point_id=99).status_code == 404


def test_a_far_end_is_told_by_its_address_unless_it_is_this_machine(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(desk_link.socket, "gethostbyname", lambda name: {"far.example": "203.0.113.4"}[name])
    assert desk_link.address_of("far.example") == "203.0.113.4"
    assert desk_link.address_of("198.51.100.3") == "198.51.100.3"
    assert desk_link.address_of("2001:db8::3") == "2001:db8::3"
    assert desk_link.address_of("127.0.0.1") == ""


def test_a_half_is_let_go_of_once_it_is_joined(house: House, db: sqlite3.Connection, tmp_path: Path) -> None:
    code = code_of(add(house))
    run_id = begin(house, code).json["job_id"]
    stranger(house, "PUT", f"{code}/jobs/{run_id}/half", data=half())
    (file,) = (house.folder / "browser-halves").iterdir()
    assert browser_store.halves_named(db) == {file.name}
    join(house, db)
    assert browser_store.halves_named(db) == set()
    assert not file.exists()
