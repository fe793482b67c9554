"""People let in by links, given roles, sent letters; their accounts, and the trail of what they did."""

from __future__ import annotations

import csv
import io
import re
import sqlite3
from typing import Any

import pytest
from flask.testing import FlaskClient

from tarnfell.server.http import throttle
from tarnfell.store import letters, members, people, sessions, welcomes
from tarnfell.store.db import connect, now_us, writing
from tarnfell.store.outbox import PAUSES_US
from tarnfell.store.targets import MailServer, keep_mail_server
from tarnfell.work.outbox import deliver, mail
from tarnfell.work.outbox.deliver import Sending, deliver_next
from tarnfell.work.outbox.failures import NotNow, Refused
from tests.server.conftest import EMAIL, PASSWORD, House
from tests.server.test_issued import change
from tests.server.test_roles import Person, signed_in

PEOPLE = "/api/engagements/customer/people"
INVITE = "/api/engagements/customer/invitations"
NEW = "Mairi@Ferries.example"
SERVER = MailServer("mail.example", 25, "none", "", "", "tarnfell@merrow.example")


@pytest.fixture
def db(house: House) -> sqlite3.Connection:
    return connect(house.folder)


def invited(house: House, role: str = "colleague", email: str = NEW) -> str:
    """The code."""
    answer = change(house, "POST", INVITE, {"email": email, "role": role})
    assert answer.status_code == 200, answer.text
    link = str(answer.json["link"])
    assert link.startswith("/invited/")
    return link.removeprefix("/invited/")


def enter(house: House, code: str, password: str = "a-password-of-mairi", name: str = "Mairi Sound") -> Any:
    client = house.app.test_client()
    answer = client.post(f"/api/welcome/{code}/enter", json={"name": name, "password": password})
    answer.person = Person(client, answer.json.get("csrf", ""))
    return answer


def told(house: House) -> list[tuple[str, str]]:
    return [(one["email"], one["role"]) for one in house.person.get(PEOPLE).json["members"]]


# Invitations


def test_an_invitation_is_good_once_and_makes_an_account(house: House) -> None:
    code = invited(house)
    page = house.app.test_client().get(f"/api/welcome/{code}").json
    assert (page["kind"], page["email"], page["engagement_name"], page["role"], page["by"], page["has_account"]) == (
        "invitation", NEW, "Customer", "colleague", "Tess Ter", False,
    )  # fmt: skip
    short = enter(house, code, password="short")
    assert (short.status_code, "at least 10" in short.json["detail"]) == (422, True)
    answer = enter(house, code)
    assert (answer.status_code, answer.json["name"], answer.json["outside"]) == (200, "Mairi Sound", False)
    assert answer.person.ask("GET", "/api/engagements/customer").status_code == 200
    assert told(house) == [(EMAIL, "consultant"), (NEW, "colleague")]
    assert house.person.get(PEOPLE).json["invited"] == []
    again = enter(house, code)
    assert (again.status_code, "was used" in again.json["detail"]) == (404, True)
    assert house.app.test_client().get(f"/api/welcome/{code}").status_code == 404


def test_only_the_newest_invitation_of_somebody_is_good_until_revoked_or_expired(
    house: House, db: sqlite3.Connection
) -> None:
    first, second = invited(house), invited(house, email=NEW.lower())
    assert enter(house, first).status_code == 404
    (one,) = house.person.get(PEOPLE).json["invited"]
    assert one["expires_us"] - one["made_us"] == 14 * 86_400_000_000
    assert change(house, "DELETE", f"{INVITE}/{one['id']}").json["invited"] == []
    assert change(house, "DELETE", f"{INVITE}/{one['id']}").status_code == 404
    assert enter(house, second).status_code == 404
    third = invited(house)
    with writing(db):
        db.execute("UPDATE welcome SET expires_us = ? WHERE used_us IS NULL", (now_us(),))
    assert enter(house, third).status_code == 404
    assert len(told(house)) == 1


def test_who_has_an_account_proves_it_and_keeps_it(house: House) -> None:
    with writing(connect(house.folder)) as db:
        known = people.add_user(db, NEW, "Mairi", "her-own-password", outside=True)
    code = invited(house, "consultant")
    assert house.app.test_client().get(f"/api/welcome/{code}").json["has_account"] is True
    wrong = enter(house, code)
    assert (wrong.status_code, "another password" in wrong.json["detail"]) == (401, True)
    assert len(told(house)) == 1
    answer = enter(house, code, password="her-own-password", name="Somebody else")
    # What she may now is more than a customer may.
    assert (answer.json["name"], answer.json["outside"]) == ("Mairi", False)
    assert members.role_of(connect(house.folder), 1, known.id) == "consultant"
    again = change(house, "POST", INVITE, {"email": NEW, "role": "colleague"})
    assert (again.status_code, "already" in again.json["detail"]) == (409, True)


def test_who_came_to_belong_meanwhile_keeps_that_role(house: House) -> None:
    """The last consultant is not made a colleague by an old link."""
    with writing(connect(house.folder)) as db:
        known = people.add_user(db, NEW, "Mairi", "her-own-password")
    code = invited(house)
    with writing(connect(house.folder)) as db:
        members.join(db, 1, known.id, "consultant")
        members.leave(db, 1, 1)
    answer = enter(house, code, password="her-own-password")
    assert answer.status_code == 200, answer.text
    assert members.role_of(connect(house.folder), 1, known.id) == "consultant"


def test_an_invitations_password_cannot_be_guessed_for_long(house: House) -> None:
    with writing(connect(house.folder)) as db:
        people.add_user(db, NEW, "Mairi", "her-own-password")
    code = invited(house)
    codes = [enter(house, code, password=f"guess-number-{i}").status_code for i in range(throttle.MAX_FAILURES + 1)]
    assert codes == [401] * throttle.MAX_FAILURES + [429]


@pytest.mark.parametrize("email", ["nobody", "a b@c.example", "a@b@c.example", "@", "a@" + "b" * 253])
def test_an_invitation_needs_an_address(house: House, email: str) -> None:
    assert change(house, "POST", INVITE, {"email": email, "role": "customer"}).status_code == 422


# Roles


def test_an_engagement_keeps_a_consultant(house: House) -> None:
    me = house.person.get(PEOPLE).json["members"][0]["user_id"]
    answer = change(house, "PUT", f"{PEOPLE}/{me}", {"role": "colleague"})
    assert (answer.status_code, "needs a consultant" in answer.json["detail"]) == (409, True)
    assert change(house, "DELETE", f"{PEOPLE}/{me}").status_code == 409
    other = enter(house, invited(house)).person
    number = next(one["user_id"] for one in house.person.get(PEOPLE).json["members"] if not one["you"])
    assert other.ask("DELETE", f"{PEOPLE}/{me}").status_code == 403
    assert change(house, "PUT", f"{PEOPLE}/{number}", {"role": "consultant"}).status_code == 200
    assert other.ask("PUT", f"{PEOPLE}/{me}", json={"role": "customer"}).status_code == 200
    assert house.person.get(PEOPLE).status_code == 403
    assert other.ask("DELETE", f"{PEOPLE}/{me}").status_code == 200
    assert house.person.get("/api/engagements/customer").status_code == 404
    assert house.person.get("/api/engagements").json["engagements"] == []


def test_whoever_begins_an_engagement_is_its_consultant(house: House) -> None:
    slug = change(house, "POST", "/api/engagements", {"name": "Next", "summary": ""}).json["slug"]
    page = house.person.get(f"/api/engagements/{slug}/people").json
    assert [(one["role"], one["you"]) for one in page["members"]] == [("consultant", True)]
    (deed,) = house.person.get(f"/api/engagements/{slug}/trail").json["deeds"]
    assert deed["says"] == "Begin an engagement"


def test_customers_see_how_it_stands_only_where_they_may(house: House) -> None:
    mairi = enter(house, invited(house, "customer")).person
    page = mairi.ask("GET", "/api/engagements/customer/shown").json
    assert (page["live"], page["sites"][0]["name"], page["sites"][0]["now"]) == (False, "Pier office", None)
    assert change(house, "PUT", "/api/engagements/customer/live", {"live": True}).json["live"] is True
    now = mairi.ask("GET", "/api/engagements/customer/shown").json["sites"][0]["now"]
    assert now["verdict"]["word"] == "not shown yet"
    assert "open" in now["summary"][0]
    assert change(house, "PUT", "/api/engagements/customer/live", {"live": False}).json["live"] is False
    assert mairi.ask("GET", "/api/engagements/customer/shown").json["sites"][0]["now"] is None


# Accounts


def test_a_password_is_changed_by_who_knows_it_and_ends_the_other_sessions(house: House) -> None:
    other = signed_in(house, EMAIL)
    wrong = change(house, "PUT", "/api/account/password", {"before": "wrong", "password": "a-longer-password"})
    assert (wrong.status_code, "not your password" in wrong.json["detail"]) == (422, True)
    short = change(house, "PUT", "/api/account/password", {"before": PASSWORD, "password": "short"})
    assert short.status_code == 422
    assert other.ask("GET", "/api/session").status_code == 200
    answer = change(house, "PUT", "/api/account/password", {"before": PASSWORD, "password": " with blanks around "})
    assert [one["this"] for one in answer.json["sessions"]] == [True]
    assert other.ask("GET", "/api/session").status_code == 401
    assert house.person.get("/api/session").status_code == 200
    assert signed_in(house, EMAIL, " with blanks around ")


def test_a_password_cannot_be_guessed_from_within_a_session(house: House) -> None:
    form = {"before": "wrong", "password": "a-longer-password"}
    codes = [change(house, "PUT", "/api/account/password", form).status_code for _ in range(throttle.MAX_FAILURES + 1)]
    assert codes == [422] * throttle.MAX_FAILURES + [429]


def test_a_name_is_changed(house: House) -> None:
    assert change(house, "PUT", "/api/account", {"name": "Tess T."}).json["name"] == "Tess T."
    assert house.person.get("/api/session").json["name"] == "Tess T."
    assert change(house, "PUT", "/api/account", {"name": " "}).status_code == 422


def test_sessions_are_told_and_end_when_nobody_came_back(house: House, db: sqlite3.Connection) -> None:
    client = house.app.test_client()
    client.post("/api/session", json={"email": EMAIL, "password": PASSWORD}, headers={"User-Agent": "x" * 5000})
    newest, first = client.get("/api/account").json["sessions"]
    assert (newest["this"], first["this"], newest["peer"], len(newest["browser"])) == (True, False, "127.0.0.1", 200)
    aged = now_us() - sessions.LASTS_US - 1
    with writing(db):
        db.execute("UPDATE session SET seen_us = ? WHERE id = ?", (aged, first["id"]))
    assert house.person.get("/api/session").status_code == 401
    assert len(client.get("/api/account").json["sessions"]) == 1
    client.post("/api/session", json={"email": EMAIL, "password": PASSWORD})
    assert aged not in [row[0] for row in db.execute("SELECT seen_us FROM session")]


def test_when_a_session_was_last_seen_is_kept_to_the_minute(house: House, db: sqlite3.Connection) -> None:
    def seen() -> int:
        return int(db.execute("SELECT seen_us FROM session").fetchone()[0])

    now = now_us()
    for ago_s, moves in ((30, False), (90, True)):
        with writing(db):
            db.execute("UPDATE session SET seen_us = ?", (now - ago_s * 1_000_000,))
        house.person.get("/api/session")
        assert (seen() >= now) == moves


def test_a_disk_that_cannot_be_written_to_keeps_nobody_from_reading(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    with writing(db):
        db.execute("UPDATE session SET seen_us = seen_us - 90000000")

    def full(*_: object) -> None:
        raise sqlite3.OperationalError("disk full")

    monkeypatch.setattr(sessions, "note_seen", full)
    assert house.person.get("/api/session").status_code == 200


# New passwords


def reset_code(db: sqlite3.Connection) -> str:
    letter = letters.next_due(db)
    assert letter is not None
    return re.findall(r"https://tarnfell.example/reset/(\S+)", letter.words)[0]


def test_a_new_password_is_asked_for_by_mail_and_nobody_can_tell_who_has_an_account(
    house: House, db: sqlite3.Connection
) -> None:
    def ask(email: str) -> Any:
        headers = {"Host": "elsewhere.example"}
        return house.app.test_client().post("/api/password-reset", json={"email": email}, headers=headers)

    assert "no mail" in ask(EMAIL).json["detail"]
    house.app.config["PUBLIC_ADDRESS"] = "https://tarnfell.example/"
    assert ask(EMAIL).status_code == 409
    with writing(db):
        keep_mail_server(db, SERVER)
    answers = [ask(email).json["says"] for email in (EMAIL, "nobody@customer.example")]
    assert answers[0].replace(EMAIL, "X") == answers[1].replace("nobody@customer.example", "X")
    first = reset_code(db)
    assert db.execute("SELECT count(*) FROM letter").fetchone()[0] == 1
    ask(EMAIL)
    db.execute("DELETE FROM letter WHERE id = 1")
    code = reset_code(db)
    fresh = {"password": "another-long-password"}
    stranger = house.app.test_client()
    assert stranger.get(f"/api/welcome/{code}").json["kind"] == "new password"
    assert stranger.post(f"/api/welcome/{first}/password", json=fresh).status_code == 404  # the newest counts
    assert stranger.post(f"/api/welcome/{code}/password", json={"password": "short"}).status_code == 422
    assert stranger.post(f"/api/welcome/{code}/enter", json=fresh).status_code == 404
    assert house.person.get("/api/session").status_code == 200
    assert stranger.post(f"/api/welcome/{code}/password", json=fresh).status_code == 200
    assert house.person.get("/api/session").status_code == 401
    assert stranger.post(f"/api/welcome/{code}/password", json=fresh).status_code == 404
    assert signed_in(house, EMAIL, "another-long-password")
    codes = [ask("many@customer.example").status_code for _ in range(throttle.MAX_FAILURES + 1)]
    assert codes[-1] == 429


def test_an_invitation_sets_no_password_and_a_link_to_one_is_good_for_an_hour(
    house: House, db: sqlite3.Connection
) -> None:
    code = invited(house)
    answer = house.app.test_client().post(f"/api/welcome/{code}/password", json={"password": "another-long-one"})
    assert answer.status_code == 404
    with writing(db):
        number, _ = welcomes.reset(db, EMAIL)
    made, expires = db.execute("SELECT made_us, expires_us FROM welcome WHERE id = ?", (number,)).fetchone()
    assert expires - made == 3_600_000_000


# Letters


def sent(monkeypatch: pytest.MonkeyPatch, *outcomes: Exception | None) -> list[tuple[Any, ...]]:
    """What is given to the mail server, and what it says of each."""
    gone: list[tuple[Any, ...]] = []
    left = list(outcomes)

    def send(_server: MailServer, to: list[str], subject: str, text: str, number: str, _at_us: int) -> None:
        gone.append((to, subject, text, number))
        outcome = left.pop(0) if left else None
        if outcome:
            raise outcome

    monkeypatch.setattr(mail, "send", send)
    return gone


def test_an_invitation_goes_out_by_mail_and_its_words_are_let_go_of(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    gone = sent(monkeypatch)
    invited(house)
    assert not deliver_next(db, Sending(), "letter")  # no mail server, no letter
    with writing(db):
        keep_mail_server(db, SERVER)
    house.app.config["PUBLIC_ADDRESS"] = "https://tarnfell.example"
    code = invited(house)
    assert house.person.get(PEOPLE).json["invited"][0]["letter"] == "waiting"
    assert deliver_next(db, Sending(), "letter")
    assert not deliver_next(db, Sending(), "letter")
    (((to,), subject, text, number),) = gone
    assert (to, subject, number) == (NEW, "Tess Ter invites you to Customer", "letter-1")
    assert f"https://tarnfell.example/invited/{code}\n" in text
    assert house.person.get(PEOPLE).json["invited"][0]["letter"] == "sent"
    assert db.execute("SELECT words FROM letter").fetchone()[0] == ""


def test_a_letter_that_cannot_go_is_tried_again_and_given_up(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    tries = len(PAUSES_US) + 1
    gone = sent(monkeypatch, *[NotNow("it is away")] * tries)
    with writing(db):
        keep_mail_server(db, SERVER)
    invited(house)
    for number in range(tries):
        with writing(db):
            db.execute("UPDATE letter SET next_us = 0 WHERE state = 'waiting'")
        before = now_us()
        assert deliver_next(db, Sending(), "letter")
        one = house.person.get(PEOPLE).json["invited"][0]
        assert one["failure"] == "it is away"
        if number < len(PAUSES_US):
            next_us = db.execute("SELECT next_us FROM letter").fetchone()[0]
            assert PAUSES_US[number] <= next_us - before < PAUSES_US[number] + 60_000_000
            assert one["letter"] == "waiting"
            assert not deliver_next(db, Sending(), "letter")
    assert (house.person.get(PEOPLE).json["invited"][0]["letter"], len(gone)) == ("failed", tries)
    assert db.execute("SELECT words FROM letter").fetchone()[0] == ""


def test_a_letter_refused_for_good_is_not_tried_again(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    sent(monkeypatch, Refused("nobody of that name"))
    with writing(db):
        keep_mail_server(db, SERVER)
    invited(house)
    assert deliver_next(db, Sending(), "letter")
    one = house.person.get(PEOPLE).json["invited"][0]
    assert (one["letter"], one["failure"]) == ("failed", "nobody of that name")
    assert not deliver_next(db, Sending(), "letter")


def test_what_is_revoked_is_not_sent_any_more(house: House, db: sqlite3.Connection) -> None:
    with writing(db):
        keep_mail_server(db, SERVER)
    invited(house)
    invited(house)  # in the place of the first
    assert db.execute("SELECT count(*) FROM letter").fetchone()[0] == 1
    (one,) = house.person.get(PEOPLE).json["invited"]
    change(house, "DELETE", f"{INVITE}/{one['id']}")
    assert letters.next_due(db) is None
    assert not deliver.deliver_next(db, Sending(), "letter")


# The trail


def test_who_did_what_is_told_newest_first(house: House) -> None:
    change(house, "POST", "/api/sites/pier/notes", {"words": "=x", "from_us": 1, "until_us": 1})
    assert change(house, "POST", "/api/sites/pier/notes", {"words": ""}).status_code == 422  # came to nothing
    assert change(house, "POST", "/api/arithmetic", {}).status_code == 422
    house.person.get("/api/engagements/customer")
    invited(house)
    page = house.person.get("/api/engagements/customer/trail").json
    assert [(one["says"], one["name"], one["email"], one["site"]) for one in page["deeds"]] == [
        ("Invite somebody", "Tess Ter", EMAIL, ""),
        ("Pin a note to a call or a stretch of time", "Tess Ter", EMAIL, "Pier office"),
    ]  # fmt: skip
    assert page["total"] == 2
    assert len(house.person.get("/api/engagements/customer/trail?limit=1&offset=1").json["deeds"]) == 1
    change(house, "PUT", "/api/account", {"name": "=HYPERLINK()"})
    rows = list(csv.reader(io.StringIO(house.person.get("/api/engagements/customer/trail.csv").text)))
    assert rows[0] == ["at", "name", "email", "site", "what", "address"]
    assert rows[2][1:4] == ["'=HYPERLINK()", EMAIL, "Pier office"]
    assert rows[2][5] == "/api/sites/pier/notes"


def test_what_only_computes_is_no_deed(house: House, db: sqlite3.Connection) -> None:
    with writing(db):
        db.execute("UPDATE session SET seen_us = seen_us - 90000000")  # that it was seen is written, and is no deed
    verify = change(house, "POST", "/api/issued/verify", {"sha256": "0" * 64})
    assert verify.status_code == 200
    assert db.execute("SELECT count(*) FROM deed").fetchone()[0] == 0


def test_a_trail_that_cannot_be_written_undoes_nothing(
    house: House, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def full(*_: object) -> None:
        raise sqlite3.OperationalError("disk full")

    monkeypatch.setattr("tarnfell.store.deeds.note", full)
    assert change(house, "PUT", "/api/account", {"name": "Tess"}).json["name"] == "Tess"
    assert "missing on the trail" in caplog.text


def test_somebody_signed_in_elsewhere_is_somebody_else(house: House) -> None:
    """A cookie of before sessions were kept, or one made up, opens nothing."""
    stranger: FlaskClient = house.app.test_client()
    with stranger.session_transaction() as made_up:
        made_up["key"] = "x" * 32
    assert stranger.get("/api/session").status_code == 401
    with stranger.session_transaction() as of_before:
        of_before.pop("key")
        of_before["user"] = 1
    assert stranger.get("/api/session").status_code == 401
