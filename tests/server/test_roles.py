"""Every route with every role: what each may, what is told of what it may not, and that nothing is told of what is
another's."""

from __future__ import annotations

import re
import sqlite3
from dataclasses import dataclass
from typing import Any

import pytest
from flask.testing import FlaskClient
from pydantic import BaseModel

from tarnfell.exchange.writing import write_capture
from tarnfell.server.http import api
from tarnfell.server.http.api import ENDPOINTS, Endpoint, Problem
from tarnfell.store import engagements, members, people
from tarnfell.store.db import connect, writing
from tarnfell.store.members import Role
from tests.exchange.test_capture import packets
from tests.server.conftest import PASSWORD, House, built_house
from tests.server.test_imports import bring
from tests.server.test_issued import change
from tests.server.test_plans import make
from tests.server.test_videos import upload

USERS = [one for one in ENDPOINTS if one.audience == "user"]
OWN = [one for one in USERS if "<" in one.path and "/account/" not in one.path]
"""Of an engagement, or of what belongs to one."""
CUSTOMERS = {
    "GET /api/session", "DELETE /api/session", "GET /api/account", "PUT /api/account", "PUT /api/account/password",
    "DELETE /api/account/sessions/<int:session_id>", "GET /api/shown", "GET /api/engagements/<slug>/shown",
    "GET /api/issued/<int:issued_id>/report.html", "GET /api/issued/<int:issued_id>/report.json",
    "GET /api/issued/<int:issued_id>/report.pdf", "GET /api/issued/<int:issued_id>/calls.csv",
    "GET /api/issued/compare",
    "POST /api/issued/verify",
}  # fmt: skip
CONSULTANTS = {
    "PUT /api/engagements/<slug>/brand", "PUT /api/engagements/<slug>/relay", "DELETE /api/engagements/<slug>/relay",
    "PUT /api/engagements/<slug>", "POST /api/engagements/<slug>/archive", "PUT /api/engagements/<slug>/live",
    "POST /api/engagements/<slug>/invitations", "DELETE /api/engagements/<slug>/invitations/<int:welcome_id>",
    "PUT /api/engagements/<slug>/people/<int:user_id>", "DELETE /api/engagements/<slug>/people/<int:user_id>",
    "GET /api/engagements/<slug>/trail", "GET /api/engagements/<slug>/trail.csv",
    "PUT /api/engagements/<slug>/alerts/targets", "POST /api/engagements/<slug>/alerts/trial",
    "PUT /api/engagements/<slug>/alerts/mail-server", "POST /api/engagements/<slug>/alerts/metrics-token",
    "DELETE /api/engagements/<slug>/alerts/metrics-token", "POST /api/sites/<slug>/report/issue",
    "POST /api/issued/<int:issued_id>/withdraw", "POST /api/issued/<int:issued_id>/links",
    "DELETE /api/issued/<int:issued_id>/links/<int:link_id>",
}  # fmt: skip


NOT_MADE = {
    "/api/sites/<slug>/checks/<int:job_id>/evidence", "/api/sites/<slug>/checks/<int:job_id>/signalling.txt",
    "/api/sites/<slug>/fills/<int:job_id>",
}  # fmt: skip
"""Addresses of rows that ``peopled`` has none of."""


def named(one: Endpoint) -> str:
    return f"{one.method} {one.path}"


@dataclass
class Person:
    client: FlaskClient
    csrf: str

    def ask(self, method: str, path: str, **options: Any) -> Any:
        return self.client.open(path, method=method, headers={"X-CSRF-Token": self.csrf}, **options)


def signed_in(house: House, email: str, password: str = PASSWORD) -> Person:
    client = house.app.test_client()
    answer = client.post("/api/session", json={"email": email, "password": password})
    assert answer.status_code == 200, answer.text
    return Person(client, answer.json["csrf"])


@pytest.fixture(scope="module")
def peopled(tmp_path_factory: pytest.TempPathFactory) -> House:
    """One row of all that has a number, all the same number; and people: a colleague, a customer of this engagement, a
    consultant who is a customer here, and one who has nothing to do with it."""
    house = built_house(tmp_path_factory.mktemp("roles"))
    house.heartbeat()
    house.place(calls=2, seconds=4, video=[{"profile": "360p", "streams": 2}])
    assert house.heartbeat() is not None
    assert house.deliver(1, upload()).status_code == 200
    assert bring(house, write_capture(packets())).json["id"] == 1
    assert make(house).json["series_id"] == 1
    assert change(house, "POST", "/api/sites/pier/report/pdf", {}).status_code == 200
    assert house.issue()["id"] == 1
    assert change(house, "POST", "/api/issued/1/links", {"name": "x"}).status_code == 200
    with writing(connect(house.folder)) as db:
        other = engagements.add_engagement(db, "other", "Other")
        for email, role in (("colleague", "colleague"), ("customer", "customer"), ("both", "customer")):
            one = people.add_user(db, f"{email}@customer.example", email, PASSWORD, outside=email == "customer")
            members.join(db, 1, one.id, role)  # type: ignore[arg-type]
        members.join(db, other, one.id, "consultant")
        foreign = people.add_user(db, "foreign@customer.example", "foreign", PASSWORD)
        members.join(db, other, foreign.id, "consultant")
    return house


@pytest.fixture
def no_bodies(monkeypatch: pytest.MonkeyPatch) -> None:
    """Who asks is looked at before what is asked: a body that is none does not hide the answer."""
    parse = api._parse

    def lenient(model: type[BaseModel], value: Any) -> BaseModel:
        try:
            return parse(model, value)
        except Problem:
            return model.model_construct()

    monkeypatch.setattr(api, "_parse", lenient)


def filled(path: str) -> str:
    path = path.replace("/engagements/<slug>", "/engagements/customer").replace("/sites/<slug>", "/sites/pier")
    return re.sub(r"<int:\w+>", "1", path).replace("<direction>", "up").replace("<name>", "g711a")


def kept(house: House) -> dict[str, list[tuple[Any, ...]]]:
    """All that is kept, but where people are signed in, when they were here, and what was judged anew."""
    db: sqlite3.Connection = connect(house.folder)
    tables = [row[0] for row in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
    return {
        table: [tuple(row) for row in db.execute(f"SELECT * FROM {table}")]
        for table in tables
        if table not in ("session", "user", "computed")
    }


def test_the_lists_here_are_those_of_the_routes() -> None:
    needs: dict[Role, set[str]] = {"customer": set(), "colleague": set(), "consultant": set()}
    for one in USERS:
        needs[one.needs].add(named(one))
    assert needs["customer"] == CUSTOMERS
    assert needs["consultant"] == CONSULTANTS


def test_what_is_another_engagements_is_not_there(peopled: House, no_bodies: None) -> None:
    before, foreign = kept(peopled), signed_in(peopled, "foreign@customer.example")
    missing = set()
    for one in OWN:
        answer = foreign.ask(one.method, filled(one.path), json={})
        assert answer.status_code == 404, (named(one), answer.status_code, answer.text)
        if one.method == "GET" and peopled.person.get(filled(one.path)).status_code == 404:
            missing.add(one.path)
    # All others are there for who belongs to it, so that the answer was not that of a row that does not exist.
    assert missing == NOT_MADE
    assert foreign.ask("GET", "/api/compare?first=1&second=1").status_code == 404
    assert foreign.ask("GET", "/api/codecs?engagement=customer").status_code == 404
    assert [one["slug"] for one in foreign.ask("GET", "/api/engagements").json["engagements"]] == ["other"]
    assert [one["slug"] for one in foreign.ask("GET", "/api/today").json["engagements"]] == ["other"]
    for kind in ("trouble", "running", "coming", "changed"):
        assert foreign.ask("GET", "/api/today").json[kind] == []
    assert kept(peopled) == before


def test_a_customer_reads_what_was_issued_and_no_more(peopled: House, no_bodies: None) -> None:
    before = kept(peopled)
    outside, inside = (signed_in(peopled, f"{name}@customer.example") for name in ("customer", "both"))
    for one in USERS:
        if named(one) in CUSTOMERS:
            continue
        answer = outside.ask(one.method, filled(one.path), json={})
        assert (answer.status_code, "customers" in answer.json["detail"]) == (403, True), named(one)
        if "<" in one.path:
            answer = inside.ask(one.method, filled(one.path), json={})
            told = "Only a consultant" if named(one) in CONSULTANTS else "as a customer"
            assert (answer.status_code, told in answer.json["detail"]) == (403, True), named(one)
    for who in (outside, inside):
        assert who.ask("GET", "/api/issued/1/report.html").status_code == 200
        assert who.ask("GET", "/api/issued/1/report.json").status_code == 200
        assert [one["slug"] for one in who.ask("GET", "/api/shown").json["engagements"]] == ["customer"]
    assert inside.ask("GET", "/api/engagements/other").status_code == 200
    assert inside.ask("GET", "/api/engagements").json["engagements"][0]["slug"] == "other"
    assert kept(peopled) == before


def test_a_colleague_does_the_work_and_gives_nothing_out(peopled: House, no_bodies: None) -> None:
    before, colleague = kept(peopled), signed_in(peopled, "colleague@customer.example")
    for one in USERS:
        if named(one) in CONSULTANTS:
            answer = colleague.ask(one.method, filled(one.path), json={})
            assert (answer.status_code, "Only a consultant" in answer.json["detail"]) == (403, True), named(one)
        elif one.method == "GET":
            assert colleague.ask("GET", filled(one.path)).status_code not in (401, 403), named(one)
    assert kept(peopled) == before
    page = colleague.ask("GET", "/api/engagements/customer/people").json
    assert (page["may_change"], len(page["members"])) == (False, 4)
    # What it may not do it is not offered, and no secret is told to it.
    form = {"addresses": [], "webhook_url": "https://hooks.example/x"}
    told = change(peopled, "PUT", "/api/engagements/customer/alerts/targets", form).json
    assert (told["may_change"], len(told["targets"]["webhook_secret"]) > 20) == (True, True)
    shown = colleague.ask("GET", "/api/engagements/customer/alerts").json
    assert (shown["may_change"], shown["targets"]["webhook_secret"]) == (False, "")
    for who, may in ((colleague.client, False), (peopled.person, True)):
        assert who.get("/api/sites/pier/reports").json["may_issue"] is may
        assert who.get("/api/engagements/customer").json["may_change"] is may
    assert colleague.ask("PUT", "/api/sites/pier/report/draft", json={"note": "x"}).status_code == 200


def test_a_session_that_was_ended_opens_nothing(peopled: House) -> None:
    first, second = (signed_in(peopled, "colleague@customer.example") for _ in range(2))
    (this,) = [one for one in first.ask("GET", "/api/account").json["sessions"] if one["this"]]
    assert second.ask("DELETE", f"/api/account/sessions/{this['id']}").status_code == 200
    for one in USERS:
        assert first.ask(one.method, filled(one.path), json={}).status_code == 401, named(one)
    assert second.ask("GET", "/api/session").status_code == 200
    # Nobody ends another person's.
    (other,) = [one for one in second.ask("GET", "/api/account").json["sessions"] if one["this"]]
    assert peopled.person.delete(
        f"/api/account/sessions/{other['id']}", headers={"X-CSRF-Token": peopled.csrf}
    ).status_code == 404  # fmt: skip
