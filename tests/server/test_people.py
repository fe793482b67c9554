"""Signing in, staying in, and who may do what."""

from __future__ import annotations

import time
from pathlib import Path

import pytest

from tarnfell.server.http import throttle
from tarnfell.server.http.app import create_app
from tarnfell.store import first_account, people
from tarnfell.store.db import connect, writing
from tests.server.conftest import EMAIL, PASSWORD, House


def test_wrong_password_and_unknown_address_say_the_same(house: House) -> None:
    stranger = house.app.test_client()
    answers = [
        stranger.post("/api/session", json={"email": email, "password": "wrong"})
        for email in (EMAIL, "nobody@customer.example")
    ]
    assert [a.status_code for a in answers] == [401, 401]
    assert answers[0].json["detail"] == answers[1].json["detail"]
    assert answers[0].mimetype == "application/problem+json"


def test_password_is_not_kept_as_such(house: House) -> None:
    assert PASSWORD.encode() not in b"".join(f.read_bytes() for f in house.folder.glob("tarnfell.sqlite*"))


def test_too_many_wrong_passwords_have_to_wait(house: House) -> None:
    stranger = house.app.test_client()
    codes = [
        stranger.post("/api/session", json={"email": "guess@customer.example", "password": str(i)}).status_code
        for i in range(throttle.MAX_FAILURES + 1)
    ]
    assert codes == [401] * throttle.MAX_FAILURES + [429]


@pytest.mark.parametrize(
    "path",
    [
        "/api/session",
        "/api/engagements",
        "/api/sites/pier",
        "/api/runs/1",
        "/api/calls/1",
        "/api/sites/pier/report.html",
    ],
)
def test_nothing_without_signing_in(house: House, path: str) -> None:
    stranger = house.app.test_client()
    assert stranger.get(path).status_code == 401
    assert stranger.head(path).status_code == 401


def test_a_change_needs_the_token_of_the_page(house: House) -> None:
    house.heartbeat()
    plan = {"codec": "g711a", "ptime_ms": 20, "calls": 1, "seconds": 2}
    assert house.person.post("/api/sites/pier/runs", json=plan).status_code == 403
    assert house.post("/api/sites/pier/runs", plan).status_code == 200


def test_sign_out_ends_it(house: House) -> None:
    assert house.person.delete("/api/session", headers={"X-CSRF-Token": house.csrf}).status_code == 200
    assert house.person.get("/api/session").status_code == 401


def test_headers_guard_every_answer(house: House) -> None:
    answer = house.person.get("/api/engagements")
    assert "default-src 'self'" in answer.headers["Content-Security-Policy"]
    assert answer.headers["X-Content-Type-Options"] == "nosniff"
    cookie = house.app.test_client().post("/api/session", json={"email": EMAIL, "password": PASSWORD})
    assert "HttpOnly" in cookie.headers["Set-Cookie"]
    assert "SameSite=Lax" in cookie.headers["Set-Cookie"]


def test_probe_needs_its_secret_and_a_token_works_once(house: House) -> None:
    stranger = house.app.test_client()
    assert stranger.post("/api/probe/heartbeat", json={}).status_code == 401
    house.heartbeat()
    again = stranger.post("/api/probe/enrol", json={"token": house.token})
    assert again.status_code == 403
    assert "used, revoked or expired" in again.json["detail"]
    # A person's cookie is no probe, and a probe is no person.
    assert house.person.post("/api/probe/heartbeat", json={}).status_code == 401
    assert house.probe("GET", "/api/engagements").status_code == 401


def test_an_interrupted_first_start_leaves_a_key_to_sign_with(tmp_path: Path) -> None:
    """The key of the cookies was being written when the power went."""
    (tmp_path / "session.key.new").write_text("half")
    first = create_app(tmp_path, web=tmp_path).config["SECRET_KEY"]
    assert len(first) == 64
    assert (tmp_path / "session.key").stat().st_mode & 0o077 == 0
    assert [f.name for f in tmp_path.glob("session.key*")] == ["session.key"]
    assert create_app(tmp_path, web=tmp_path).config["SECRET_KEY"] == first


def test_blanks_around_a_password_are_part_of_it(house: House) -> None:
    def signs_in(email: str, password: str) -> int:
        answer = house.app.test_client().post("/api/session", json={"email": email, "password": password})
        return int(answer.status_code)

    assert signs_in(f" {EMAIL} ", PASSWORD) == 200
    assert signs_in(EMAIL, f"{PASSWORD} ") == 401


@pytest.mark.parametrize(
    ("set_by_s", "status"),
    [(-400 * 86_400, 200), (-60, 200), (13 * 86_400, 200), (15 * 86_400, 401)],
)
def test_who_is_signed_in_stays_so_when_the_servers_clock_is_set_back(
    house: House, monkeypatch: pytest.MonkeyPatch, set_by_s: int, status: int
) -> None:
    at, at_ns = time.time(), time.time_ns()
    monkeypatch.setattr(time, "time", lambda: at + set_by_s)
    monkeypatch.setattr(time, "time_ns", lambda: at_ns + set_by_s * 1_000_000_000)
    cookie = house.person.get_cookie("tarnfell")
    assert cookie is not None
    stranger = house.app.test_client(use_cookies=False)  # one that knows nothing of when a cookie ends
    headers = {"Cookie": f"tarnfell={cookie.value}"}
    assert stranger.get("/api/session", headers=headers).status_code == status
    other = cookie.value[:-2] + ("AA" if cookie.value[-2:] != "AA" else "BB")
    assert stranger.get("/api/session", headers={"Cookie": f"tarnfell={other}"}).status_code == 401


def test_a_new_password_ends_every_session(house: House) -> None:
    assert house.person.get("/api/session").status_code == 200
    db = connect(house.folder)
    with writing(db):
        people.set_password(db, EMAIL, "another-long-password")
    assert house.person.get("/api/session").status_code == 401
    again = {"email": EMAIL, "password": "another-long-password"}
    assert house.person.post("/api/session", json=again).status_code == 200
    with pytest.raises(KeyError):
        people.set_password(db, "nobody@customer.example", "another-long-password")
    with pytest.raises(ValueError, match="at least 10"):
        people.set_password(db, EMAIL, "short")


def test_who_was_removed_signs_in_no_more_and_may_come_back(house: House) -> None:
    db = connect(house.folder)
    with writing(db):
        people.remove_user(db, EMAIL)
    assert house.person.get("/api/session").status_code == 401
    assert house.person.post("/api/session", json={"email": EMAIL, "password": PASSWORD}).status_code == 401
    assert people.users(db) == []
    with pytest.raises(KeyError):
        people.remove_user(db, EMAIL)
    with writing(db):
        back = people.add_user(db, EMAIL.upper(), "Tess Again", "another-long-password")
    assert [(u.id, u.name) for u in people.users(db)] == [(back.id, "Tess Again")]
    assert back.id == 1


FIRST = {"email": "ines@merrow.example", "name": "Ines", "password": "a-long-enough-password"}


def test_the_first_account_is_made_with_the_code_that_was_printed(tmp_path: Path) -> None:
    client = create_app(tmp_path, web=tmp_path / "none").test_client()
    assert client.get("/api/first-account").json == {"wanted": True}
    assert client.post("/api/first-account", json={**FIRST, "code": ""}).status_code == 403  # none was printed yet
    code = first_account.make_code(tmp_path)
    assert first_account.make_code(tmp_path) == code
    assert (tmp_path / "first-account-code").stat().st_mode & 0o077 == 0
    assert client.post("/api/first-account", json={**FIRST, "code": "wrong"}).status_code == 403
    short = client.post("/api/first-account", json={**FIRST, "code": code, "password": "short"})
    assert "at least 10 characters" in short.json["detail"]
    made = client.post("/api/first-account", json={**FIRST, "code": f" {code.upper()} "})
    assert made.json["name"] == "Ines"
    assert client.get("/api/session").json["email"] == FIRST["email"]
    assert not (tmp_path / "first-account-code").exists()
    assert client.get("/api/first-account").json == {"wanted": False}
    assert client.post("/api/first-account", json={**FIRST, "code": code}).status_code == 409


def test_codes_cannot_be_guessed_for_long(tmp_path: Path) -> None:
    client = create_app(tmp_path, web=tmp_path / "none").test_client()
    code = first_account.make_code(tmp_path)
    throttle._failures.clear()
    for _ in range(throttle.MAX_FAILURES):
        client.post("/api/first-account", json={**FIRST, "code": "wrong"})
    assert client.post("/api/first-account", json={**FIRST, "code": code}).status_code == 429
    throttle._failures.clear()
