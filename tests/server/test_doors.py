"""Doors that lock: who is let in where, how much is read of whom, and what belongs to another."""

from __future__ import annotations

import os
import re
import sqlite3
from pathlib import Path
from typing import Any

import pytest
from flask import Flask

from tarnfell.server.http import throttle
from tarnfell.server.http.api import ENDPOINTS, MAX_BODY_BYTES
from tarnfell.server.http.app import create_app
from tarnfell.store import deliveries, hashing, jobs, members, places, sites, watches
from tarnfell.store.db import connect, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.probes import add_probe, enrol, invite, probe_by_id
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.wire.kinds.watch import LOST
from tarnfell.wire.record import join_parts
from tests.server.conftest import EMAIL, PASSWORD, SITE, House, record_file
from tests.server.test_runs import progress, taken
from tests.server.test_watch import batch_of

SIGN_IN = {"email": EMAIL, "password": PASSWORD}


def address(path: str, number: int = 1) -> str:
    return re.sub(r"<int:\w+>", str(number), re.sub(r"<(slug|code)>", "pier", path)).replace("<direction>", "up")


# Closed by default


def test_a_view_that_names_no_audience_is_open_to_nobody(house: House) -> None:
    app = create_app(house.folder, web=house.folder)
    app.add_url_rule("/api/forgotten", "forgotten", lambda: "secret")
    person = app.test_client()
    person.set_cookie("tarnfell", house.person.get_cookie("tarnfell").value)  # type: ignore[union-attr]
    answer = person.get("/api/forgotten")
    assert (answer.status_code, "secret" in answer.text) == (403, False)
    assert person.get("/api/nowhere").status_code == 404


def test_every_address_says_whom_it_is_for(house: House) -> None:
    for rule in house.app.url_map.iter_rules():
        assert getattr(house.app.view_functions[rule.endpoint], "audience", None), rule


@pytest.mark.parametrize("audience", ["user", "probe"])
def test_strangers_are_let_in_nowhere_and_neither_kind_through_the_others_door(house: House, audience: str) -> None:
    stranger = house.app.test_client()
    for e in ENDPOINTS:
        if e.audience == audience:
            assert stranger.open(address(e.path), method=e.method).status_code == 401, e
            if audience == "probe":
                as_person = house.person.open(address(e.path), method=e.method, headers={"X-CSRF-Token": house.csrf})
                assert as_person.status_code == 401, e
            else:
                assert house.probe(e.method, address(e.path)).status_code == 401, e


def test_whatever_writes_asks_for_the_pages_token(house: House) -> None:
    writes = [e for e in ENDPOINTS if e.audience == "user" and e.method not in ("GET", "HEAD")]
    assert len(writes) > 20
    for e in writes:
        for token in ({}, {"X-CSRF-Token": "x" * len(house.csrf)}):
            answer = house.person.open(address(e.path), method=e.method, headers=token)
            assert (answer.status_code, "signed-in page" in answer.text) == (403, True), e


# Two owners


@pytest.fixture
def other(house: House) -> House:
    """Another customer's site with a probe of its own, at the same server."""
    db = connect(house.folder)
    with writing(db):
        site = sites.add_site(db, add_engagement(db, "other", "Other"), **{**SITE, "slug": "quay", "name": "Quay"})
        members.adopt(db, 1)
        places.choose_far_end(db, site, 1)
        probe = add_probe(db, site, places.add_test_point(db, site, "hall", "desk"), "quay-probe")
        enrolled = enrol(db, invite(db, probe), Surroundings())
    db.close()
    assert enrolled is not None
    return House(house.app, house.folder, house.person, house.csrf, "", enrolled[1])


def test_a_probe_gets_only_what_is_its_own(house: House, other: House) -> None:
    run = taken(house)
    db = connect(house.folder)
    with writing(db):
        other_job = jobs.ask(db, 1, 1, "distances", None, {"far_ends": []})
        jobs.move(db, other_job, "taken", "")
        watches.want(db, 1, 1, 1000, 46, None)
    at = 1_800_000_000_000_000
    bodies: dict[str, dict[str, Any]] = {
        f"/api/probe/watches/1/samples/{at}": {"data": batch_of([(at, LOST, 0, 0)])},
        "/api/probe/watches/1/samples": {"data": join_parts([batch_of([(at, LOST, 0, 0)])])},
        f"/api/probe/jobs/{run}/progress": {"json": progress(1, 50)},
        f"/api/probe/jobs/{run}/record": {"data": record_file()},
        f"/api/probe/jobs/{run}/failure": {"json": {"reason": "none", "code": "own"}},
        f"/api/probe/jobs/{other_job}/known": {"json": {"result": {"distances": []}}},
        f"/api/probe/jobs/{other_job}/outcome": {"json": {"result": {"distances": []}}},
        f"/api/probe/commands/{other_job}/outcome": {"json": {"result": {"distances": []}}},
    }
    numbered = {e.path.replace("<int:run_id>", str(run)).replace("<int:job_id>/outcome", f"{other_job}/outcome")
                .replace("<int:job_id>/known", f"{other_job}/known")
                .replace("<int:job_id>", str(run))
                .replace("<int:watch_id>/samples", "1/samples").replace("<int:first_us>", str(at)) for e in ENDPOINTS
                if e.audience == "probe" and "<int:" in e.path}  # fmt: skip
    assert numbered == set(bodies)
    methods = {address(e.path, run): e.method for e in ENDPOINTS}
    for path, body in bodies.items():
        method = methods.get(path, "PUT" if "samples" in path else "POST")
        assert other.probe(method, path, **body).status_code == 404, path
    assert db.execute("SELECT count(*) FROM delivery").fetchone()[0] == 0
    assert db.execute("SELECT count(*) FROM sample_batch").fetchone()[0] == 0
    assert {row[0] for row in db.execute("SELECT state FROM job")} == {"taken"}
    assert other.heartbeat() is None
    for path, body in bodies.items():
        assert (
            house.probe(methods.get(path, "PUT" if "samples" in path else "POST"), path, **body).status_code == 200
        ), path


def test_what_is_another_sites_is_not_there(house: House, other: House) -> None:
    """Each numbered address below a site, asked for with the number of the other site's."""
    with writing(connect(house.folder)) as db:
        assert jobs.ask(db, 1, 1, "check", None, {"far_end_id": 1}) == 1
    house.heartbeat()
    form = {"name": "noon", "when": "draft", "shape": "hold", "calls": 2, "call_s": 30, "probe_id": 1, "far_end_id": 1,
            "codec": "g711a", "ptime_ms": 20}  # fmt: skip
    made = house.post("/api/sites/pier/plans", form)
    assert made.status_code == 200, made.text
    remedy = house.post("/api/sites/pier/remedies", {"at_local": "2026-01-01T10:00", "words": "x", "set_aside": False})
    assert remedy.status_code == 200, remedy.text
    bodies: dict[str, dict[str, Any]] = {
        "fill-plans": {"probe_id": 1, "far_end_id": 1, "when": "at", "consent": True},
        "plans": form,
        "remedies": {},
        "notes": {"words": "x", "in_report": True},
        "checks": {},
        "fills": {},
        "flows": {},
        "server-looks": {},
        "looks": {},
        "survey": {"name": "x"},
        "what-if": {},
        "own-causes": {"title": "x"},
        "test-points": {"name": "x", "kind": "desk", "note": ""},
        "jobs": {"kind": "distances"},
        "watch": {"far_end_id": 1},
        "probes": {"name": "x", "test_point_id": 1},
        "browser-links": {},
    }
    below = [e for e in ENDPOINTS if e.path.startswith("/api/sites/<slug>/") and "<int:" in e.path]
    shared = "far-ends"
    asked = [e for e in below if shared not in e.path]
    assert len(asked) >= 8
    for e in asked:
        path = address(e.path).replace("/pier/", "/quay/")
        body = next(body for part, body in bodies.items() if part in e.path)
        answer = house.person.open(path, method=e.method, json=body, headers={"X-CSRF-Token": house.csrf})
        assert answer.status_code == 404, (e.method, path, answer.text)
    db = connect(house.folder)
    kept = "SELECT (SELECT state FROM plan), (SELECT count(*) FROM remedy), (SELECT name FROM test_point WHERE id = 1)"
    assert tuple(db.execute(kept).fetchone()) == ("draft", 1, "desk")
    assert db.execute("SELECT stop_reason FROM job WHERE id = 1").fetchone()[0] is None
    assert db.execute("SELECT retired_us, name FROM probe WHERE id = 1").fetchone()[:] == (None, "pier-probe")


# How much is read of whom


def test_a_large_body_is_turned_away_unread(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(type(house.app.json), "loads", lambda *_, **__: pytest.fail("it was parsed"))
    large = b'{"email": "' + b"a" * MAX_BODY_BYTES + b'"}'
    stranger = house.app.test_client()
    answer = stranger.post("/api/session", data=large, content_type="application/json")
    assert (answer.status_code, "64 KiB" in answer.text) == (413, True)
    answer = stranger.post("/api/engagements", data=large, content_type="application/json")
    assert answer.status_code == 401  # who it is comes before how much it is


def test_64_kib_is_read_and_a_byte_more_is_not(house: House) -> None:
    for over, status in ((0, 422), (1, 413)):
        body = b'{"email": "' + b"a" * (MAX_BODY_BYTES - 13 + over) + b'"}'
        assert len(body) == MAX_BODY_BYTES + over
        sent = house.app.test_client().post("/api/session", data=body, content_type="application/json")
        assert sent.status_code == status, sent.text


@pytest.mark.parametrize(
    "body",
    [
        b"[" * 60_000,
        b'{"email":' * 7_000,
        b'{"email": ' + b"9" * 5_000 + b"}",
        b'{"email": 1.2.3}',
        '{"email": ²}'.encode(),
        b"\xff\xfe\x00",
        b'{"email": NaN, "password": Infinity}',
        b'{"email": "\\ud800", "password": "x"}',
    ],
    ids=["deep lists", "deep objects", "digits", "points", "superscript", "no text", "no number", "half a pair"],
)
def test_json_that_is_none_gets_a_sentence(house: House, body: bytes) -> None:
    for path in ("/api/session", "/api/probe/enrol"):
        answer = house.app.test_client().post(path, data=body, content_type="application/json")
        assert 400 <= answer.status_code < 500, answer.text
        assert answer.json["detail"]


# Signing in


def test_an_unknown_address_takes_as_many_hashes_as_a_known_one(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []
    real = hashing._hash
    monkeypatch.setattr(hashing, "_hash", lambda password, salt: asked.append(password) or real(password, salt))
    for email in (EMAIL, "nobody@customer.example"):
        asked.clear()
        house.app.test_client().post("/api/session", json={"email": email, "password": "wrong wrong wrong"})
        assert asked == ["wrong wrong wrong"]


def test_signing_in_again_begins_a_new_session(house: House) -> None:
    with house.person.session_transaction() as session:
        session["left"] = "over"
    renewed = house.person.post("/api/session", json=SIGN_IN).json["csrf"]
    assert renewed != house.csrf
    with house.person.session_transaction() as session:
        assert "left" not in session
    old = house.person.post("/api/sites/pier/runs", json={}, headers={"X-CSRF-Token": house.csrf})
    assert old.status_code == 403


@pytest.mark.parametrize(
    ("public", "secure"), [("https://tarnfell.example", True), ("http://tarnfell.example", False), (None, False)]
)
def test_cookies_stay_on_https_where_the_server_is_reached_so(house: House, public: str | None, secure: bool) -> None:
    app = create_app(house.folder, web=house.folder, public_address=public)
    cookie = app.test_client().post("/api/session", json=SIGN_IN).headers["Set-Cookie"]
    assert ("Secure" in cookie) == secure
    assert "HttpOnly" in cookie
    assert "SameSite=Lax" in cookie


def codes(app: Flask, peer: str, emails: list[str], **headers: str) -> list[int]:
    return [
        app.test_client().post(
            "/api/session", json={"email": email, "password": "wrong"}, headers=headers,
            environ_base={"REMOTE_ADDR": peer},
        ).status_code
        for email in emails
    ]  # fmt: skip


def test_wrong_passwords_lock_out_only_who_gave_them(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(hashing, "_hash", lambda *_: "no")
    assert codes(house.app, "192.0.2.66", [EMAIL.upper()] * 5 + [EMAIL] * 6) == [401] * 10 + [429]
    assert codes(house.app, "192.0.2.66", ["else@customer.example"]) == [401]
    monkeypatch.undo()
    assert house.app.test_client().post("/api/session", json=SIGN_IN).status_code == 200


def test_one_peer_cannot_try_many_addresses_and_the_table_is_bounded(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(hashing, "_hash", lambda *_: "no")
    many = [f"u{i}@customer.example" for i in range(51)]
    assert codes(house.app, "192.0.2.66", many) == [401] * 50 + [429]
    monkeypatch.setattr(throttle, "MAX_WATCHED", 20)
    for i in range(100):
        throttle.note_failure(f"198.51.100.{i}", EMAIL)
    assert len(throttle._failures) == 20
    assert throttle._recent(("198.51.100.99", EMAIL)) == 1


def test_failures_are_forgotten_after_the_window(monkeypatch: pytest.MonkeyPatch) -> None:
    now = [1000.0]
    monkeypatch.setattr(throttle.time, "monotonic", lambda: now[0])
    for _ in range(throttle.MAX_FAILURES):
        throttle.note_failure("192.0.2.1", EMAIL)
    for later, held in ((299.9, True), (300.1, False)):
        now[0] = 1000.0 + later
        assert throttle.is_held("192.0.2.1", EMAIL) == held


def test_behind_a_proxy_of_this_machine_the_peer_is_the_one_it_wrote_down(tmp_path: Path, house: House) -> None:
    app = create_app(house.folder, web=tmp_path, public_address="https://tarnfell.example")
    made_up = {"X-Forwarded-For": "198.51.100.1, 192.0.2.7"}
    codes(app, "127.0.0.1", [EMAIL] * 2, **made_up)
    codes(app, "203.0.113.5", [EMAIL], **made_up)  # no proxy of ours: what it says of others is not believed
    assert throttle._recent(("192.0.2.7", EMAIL)) == 2
    heartbeat = {"Authorization": f"Bearer {house.secret}", **made_up}
    for peer, known in (("127.0.0.1", "192.0.2.7"), ("203.0.113.5", "203.0.113.5")):
        asked = {"REMOTE_ADDR": peer}
        news = {"environment": {"system": "test"}}
        told = app.test_client().post("/api/probe/heartbeat", json=news, headers=heartbeat, environ_base=asked)
        assert told.status_code == 200
        assert probe_by_id(connect(house.folder), 1).contact_address == known
    assert throttle._recent(("203.0.113.5", EMAIL)) == 1


# What fails on this side


def told(code: int) -> sqlite3.Error:
    """As SQLite raises it."""
    error = sqlite3.OperationalError("why")
    error.sqlite_errorcode = code
    return error


@pytest.mark.parametrize(
    ("error", "status", "words"),
    [
        (told(sqlite3.SQLITE_FULL), 503, "disk is full"),
        (told(sqlite3.SQLITE_BUSY_SNAPSHOT), 503, "busy writing"),
        (told(sqlite3.SQLITE_CANTOPEN), 503, "cannot read or write its data"),
        (told(sqlite3.SQLITE_IOERR_WRITE), 503, "cannot read or write its data"),
        (told(sqlite3.SQLITE_CORRUPT), 500, "database is damaged"),
        (told(sqlite3.SQLITE_CONSTRAINT_UNIQUE), 500, "it is in its log"),
        (told(sqlite3.SQLITE_ERROR), 500, "it is in its log"),
        (sqlite3.ProgrammingError("closed"), 500, "it is in its log"),
        (OSError(28, "No space left on device"), 503, "No space left on device"),
        (ZeroDivisionError(), 500, "it is in its log"),
    ],
)
def test_what_fails_here_is_told_as_such(
    house: House, monkeypatch: pytest.MonkeyPatch, error: Exception, status: int, words: str
) -> None:
    """503 is waited out by a probe, and nothing is thrown away for it."""

    def fails(*_: Any) -> None:
        raise error

    monkeypatch.setattr("tarnfell.server.http.health.is_held", fails)
    answer = house.person.get("/api/health")
    assert (answer.status_code, words in answer.json["detail"]) == (status, True), answer.text


def test_a_file_is_synced_before_a_row_names_it(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """The file, then its folder, then the row: what was acknowledged survives the machine."""
    run = taken(house)
    order: list[str] = []
    real_sync, real_add = os.fsync, deliveries.add
    monkeypatch.setattr(os, "fsync", lambda fd: order.append("sync") or real_sync(fd))
    monkeypatch.setattr(deliveries, "add", lambda *given: order.append("row") or real_add(*given))
    assert house.probe("PUT", f"/api/probe/jobs/{run}/record", data=record_file()).status_code == 200
    assert order == ["sync", "sync", "row"]
