"""Rules, targets and figures of an engagement, as its page and a monitoring program ask for them."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from typing import Any

import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from tarnfell.clerk import loop
from tarnfell.core.days.rounds import Rounds
from tarnfell.server.alerts import rules as rules_page
from tarnfell.store import alerts as alert_store
from tarnfell.store import calls as call_store
from tarnfell.store import presence, sites
from tarnfell.store import targets as target_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import connect, now_us, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.members import adopt
from tarnfell.work.alerts import trial as trial_room
from tarnfell.work.alerts.figures import openmetrics
from tarnfell.work.alerts.looking import look
from tarnfell.work.watch.packing import pack_next
from tests.core.days.weeks import Week
from tests.server.conftest import SITE, House, record_file
from tests.work.watched import batches_of

PATH = "/api/engagements/customer/alerts"
LOSS = {"kind": "loss", "role": "gateway", "limit": 2, "minutes": 3}


@pytest.fixture
def db(house: House) -> Iterator[sqlite3.Connection]:
    found = connect(house.folder)
    yield found
    found.close()


def put(house: House, path: str, body: dict[str, Any]) -> Any:
    return house.person.put(f"{PATH}/{path}", json=body, headers={"X-CSRF-Token": house.csrf})


def delete(house: House, path: str) -> Any:
    return house.person.delete(f"{PATH}/{path}", headers={"X-CSRF-Token": house.csrf})


def metrics(house: House, token: str, slug: str = "customer") -> Any:
    return house.app.test_client().get(f"/api/engagements/{slug}/metrics", headers={"Authorization": f"Bearer {token}"})


def test_a_rule_is_kept_changed_and_removed(house: House, db: sqlite3.Connection) -> None:
    page = house.post(
        f"{PATH}/rules", {**LOSS, "site_slug": "pier", "mail": True, "quiet_from": 1320, "quiet_until": 420}
    )
    (rule,) = page.json["rules"]
    assert rule["sentence"] == "When the gateway loses more than 2 % for 3 minutes."
    assert (rule["site_slug"], rule["site_name"]) == ("pier", "Pier office")
    assert (rule["mail"], rule["webhook"], rule["collect"]) == (True, False, False)
    assert (rule["quiet_from"], rule["quiet_until"]) == (1320, 420)
    alert_store.add_alert(db, rule["id"], 1, "watch 1 place 1", now_us() - 1000, None, "It loses.")
    shown = house.person.get(PATH).json
    assert [(one["says"], one["ended_us"], one["site_slug"]) for one in shown["alerts"]] == [
        ("It loses.", None, "pier")
    ]
    assert (shown["rules"][0]["open"], len(shown["rules"][0]["week"])) == (1, 1)
    page = put(house, f"rules/{rule['id']}", {**LOSS, "limit": 5})
    (changed,) = page.json["rules"]
    assert (changed["id"] != rule["id"], changed["limit"], changed["site_slug"]) == (True, 5, None)
    assert page.json["alerts"][0]["ended_us"] is not None
    assert put(house, f"rules/{rule['id']}", LOSS).status_code == 404  # another has its place
    assert delete(house, f"rules/{changed['id']}").json["rules"] == []


@pytest.mark.parametrize(
    ("form", "status", "words"),
    [
        ({**LOSS, "role": None}, 422, "Choose the place"),
        ({**LOSS, "minutes": 0}, 422, "1 to 1440 minutes"),
        ({**LOSS, "quiet_from": 5}, 422, "Quiet hours need"),
        ({**LOSS, "site_slug": "elsewhere"}, 404, "has no site"),
        ({**LOSS, "kind": "noise"}, 422, ""),
    ],
)
def test_a_rule_that_cannot_be_says_why(house: House, form: dict[str, Any], status: int, words: str) -> None:
    answer = house.post(f"{PATH}/rules", form)
    assert (answer.status_code, words in answer.json["detail"]) == (status, True)
    if "quiet_from" not in form:
        assert house.person.get(f"{PATH}/try", query_string=form).status_code == status


def test_a_rule_belongs_to_its_engagement(house: House, db: sqlite3.Connection) -> None:
    add_engagement(db, "other", "Other")
    adopt(db, 1)
    (rule,) = house.post(f"{PATH}/rules", LOSS).json["rules"]
    for method in (house.person.put, house.person.delete):
        answer = method(
            f"/api/engagements/other/alerts/rules/{rule['id']}", json=LOSS, headers={"X-CSRF-Token": house.csrf}
        )
        assert answer.status_code == 404
    assert house.person.get("/api/engagements/other/alerts").json["rules"] == []
    answer = house.person.get("/api/engagements/other/alerts/try", query_string={**LOSS, "site_slug": "pier"})
    assert answer.status_code == 404


def test_there_are_so_many_rules_and_no_more(house: House) -> None:
    for _ in range(50):
        assert house.post(f"{PATH}/rules", LOSS).status_code == 200
    assert house.post(f"{PATH}/rules", LOSS).status_code == 409


def tried(house: House, **rule: Any) -> dict[str, Any]:
    answer = house.person.get(f"{PATH}/try", query_string=rule)
    assert answer.status_code == 200, answer.text
    return dict(answer.json)


def test_a_rule_is_tried_on_samples_that_came_in(house: House, db: sqlite3.Connection) -> None:
    begun_us = _watched(db)
    rule = {"kind": "loss", "role": "far-end", "limit": 2, "minutes": 3}
    trial = tried(house, **rule)
    week = trial["week"]
    assert (week["count"], len(week["fired"]), week["note"]) == (1, 1, "")
    assert trial["waiting"] is None
    (fired,) = week["fired"]
    assert (fired["from_us"], fired["until_us"]) == (begun_us, begun_us + 5 * 60_000_000)
    assert (fired["site_name"], fired["time_zone"]) == ("Pier office", "Europe/London")
    assert tried(house, **{**LOSS, "role": "gateway"})["week"]["count"] == 0
    assert house.person.get(PATH).json["rules"] == []  # nothing is kept


def test_a_rule_is_tried_on_many_sites_by_the_clerk(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    _watched(db)
    rule = {"kind": "loss", "role": "far-end", "limit": 2, "minutes": 3}
    at_once = tried(house, **rule)
    monkeypatch.setattr(trial_room, "SITES_AT_ONCE", 0)
    # Up to the last ten minutes: it is the same when it is made.
    monkeypatch.setattr(trial_room, "STEP_US", 1_000_000)
    at_us = at_once["week"]["until_us"] + 60_000_000
    monkeypatch.setattr(rules_page, "now_us", lambda: at_us)
    first = tried(house, **rule)
    assert (first["sentence"], first["week"]) == (at_once["sentence"], None)
    assert (first["waiting"]["held_up"], first["waiting"]["given_up"]) == (True, False)
    loop.answer(db)
    found = tried(house, **rule)
    assert found["waiting"] is None
    assert found["week"]["until_us"] == at_us // 1_000_000 * 1_000_000
    assert found["week"]["fired"] == at_once["week"]["fired"]
    # Another site joins: it is another trial.
    with writing(db):
        sites.add_site(db, 1, **SITE | {"slug": "quay", "name": "Quay"})
    assert tried(house, **rule)["week"] is None
    loop.answer(db)
    assert tried(house, **rule, site_slug="quay")["week"] is None
    assert db.execute("SELECT count(*) FROM deed").fetchone()[0] == 0  # whoever asks has done nothing


def _watched(db: sqlite3.Connection) -> int:
    """An hour of samples that ends now, with five minutes in which the far end lost half."""
    watch_store.want(db, 1, 1, 1000, 46, None)
    rounds = Week(1, days=1).rounds()
    start = (now_us() - 3_600_000_000) // 60_000_000 * 60_000_000
    rounds.at_us[:] += start - rounds.at_us[0]
    own = rounds.at_us < start + 3_590_000_000
    bad = (rounds.at_us >= start + 1_200_000_000) & (rounds.at_us < start + 1_500_000_000)
    rounds.rtt_ms[-1, bad & (rounds.at_us // 1_000_000 % 2 == 0)] = float("nan")
    hour = Rounds(rounds.places, rounds.at_us[own], rounds.sent[:, own], rounds.rtt_ms[:, own], rounds.interval_us)
    watch_store.keep(db, batches_of(hour, each=600))
    while pack_next(db, now_us() + 3_600_000_000):
        pass
    return start + 1_200_000_000


def test_whom_alerts_are_sent_to(house: House) -> None:
    form = {
        "addresses": [" ops@customer.example ", "ops@customer.example", ""],
        "webhook_url": "https://hooks.example/a",
    }
    targets = put(house, "targets", form).json["targets"]
    assert (targets["addresses"], targets["webhook_url"]) == (["ops@customer.example"], "https://hooks.example/a")
    secret = targets["webhook_secret"]
    assert len(secret) >= 40
    assert put(house, "targets", form).json["targets"]["webhook_secret"] == secret
    other = put(house, "targets", {**form, "webhook_url": "https://other.example/"}).json["targets"]
    assert other["webhook_secret"] not in ("", secret)
    assert put(house, "targets", {"addresses": []}).json["targets"]["webhook_secret"] == ""


@pytest.mark.parametrize(
    "form",
    [
        {"addresses": ["ops"]}, {"addresses": ["a@b\r\nBcc: x@y"]}, {"addresses": ["Ops <ops@customer.example>"]},
        {"addresses": ["a@b.example,c@d.example"]}, {"addresses": [], "webhook_url": "ftp://x.example"},
        {"addresses": [f"{'a' * 250}@b.example"]}, {"addresses": ["a@b.example"] * 21},
    ],
)  # fmt: skip
def test_targets_that_cannot_be(house: House, form: dict[str, Any]) -> None:
    assert put(house, "targets", form).status_code == 422


def test_the_mail_servers_password_is_kept_for_it_and_shown_to_nobody(house: House, db: sqlite3.Connection) -> None:
    form = {
        "host": "mail.example", "port": 587, "security": "starttls", "user_name": "tarnfell", "password": "hush-hush",
        "sender": "tarnfell@customer.example",
    }  # fmt: skip
    page = put(house, "mail-server", form)
    assert page.json["mail_server"] == {k: v for k, v in form.items() if k != "password"} | {"has_password": True}
    assert "hush" not in page.text
    put(house, "mail-server", {**form, "password": None, "user_name": "other"})
    assert _server(db).password == "hush-hush"
    put(house, "mail-server", {**form, "password": None, "host": "elsewhere.example"})
    assert _server(db).password == ""  # it was not given for that one
    assert put(house, "mail-server", {**form, "sender": "nobody"}).status_code == 422
    assert put(house, "mail-server", {**form, "host": "mail example"}).status_code == 422
    assert put(house, "mail-server", {**form, "host": ""}).json["mail_server"] is None


def _server(db: sqlite3.Connection) -> target_store.MailServer:
    found = target_store.mail_server(db)
    assert found is not None
    return found


def test_a_trial_needs_somebody_to_go_to(house: House) -> None:
    assert house.post(f"{PATH}/trial", {"channel": "webhook"}).status_code == 409
    put(house, "targets", {"addresses": ["ops@customer.example"], "webhook_url": "https://hooks.example/"})
    assert house.post(f"{PATH}/trial", {"channel": "mail"}).status_code == 409  # no mail server
    for _ in range(2):
        page = house.post(f"{PATH}/trial", {"channel": "webhook"}).json
        assert [(one["channel"], one["what"], one["state"]) for one in page["trials"]] == [
            ("webhook", "trial", "waiting")
        ]


def test_figures_are_read_by_their_token_alone(house: House, db: sqlite3.Connection) -> None:
    add_engagement(db, "other", "Other")
    assert house.person.get("/api/engagements/customer/metrics").status_code == 401  # not even by who is signed in
    token = house.post(f"{PATH}/metrics-token", {}).json["token"]
    assert metrics(house, token).status_code == 200
    for slug in ("other", "nothing"):
        assert metrics(house, token, slug).status_code == 401
    assert metrics(house, "").status_code == 401
    again = house.post(f"{PATH}/metrics-token", {}).json["token"]
    assert (metrics(house, token).status_code, metrics(house, again).status_code) == (401, 200)
    assert delete(house, "metrics-token").json["metrics_made_us"] is None
    assert metrics(house, again).status_code == 401


def test_figures_as_monitoring_reads_them(house: House, db: sqlite3.Connection) -> None:
    _watched(db)
    rule = {"kind": "loss", "role": "far-end", "limit": 0, "minutes": 1}
    house.post(f"{PATH}/rules", rule)
    presence.note_up(db)
    look(db)
    token = house.post(f"{PATH}/metrics-token", {}).json["token"]
    answer = metrics(house, token)
    assert answer.content_type.startswith("application/openmetrics-text; version=1.0.0")
    found = {family.name: family.samples for family in text_string_to_metric_families(answer.text)}
    assert [(s.labels, s.value) for s in found["tarnfell_probe_online"]] == [
        ({"site": "pier", "probe": "pier-probe"}, 1.0)
    ]
    (newest,) = found["tarnfell_watch_last_sample_timestamp_seconds"]
    assert 0 < now_us() / 1e6 - newest.value < 600
    trips = {s.labels["place"]: s.value for s in found["tarnfell_watch_round_trip_seconds"]}
    assert set(trips) == {"192.0.2.1", "198.51.100.1", "203.0.113.53", "203.0.113.99", "far"}
    assert 0.030 < trips["far"] < 0.034
    assert {s.labels["role"] for s in found["tarnfell_watch_loss_ratio"]} == {"gateway", "edge", "outside", "far-end"}
    assert all(0 <= s.value < 0.02 for s in found["tarnfell_watch_loss_ratio"])
    assert all(500 < s.value <= 600 for s in found["tarnfell_watch_sent"])
    for later_min, told in ((19, True), (31, False)):  # what lies back further says nothing of now
        text = openmetrics(db, 1, now_us() + later_min * 60_000_000)
        sent = next(f for f in text_string_to_metric_families(text) if f.name == "tarnfell_watch_sent")
        assert bool(sent.samples) is told
    (opened,) = found["tarnfell_alerts_open"]
    assert opened.labels["rule"].endswith("When the far end loses more than 0 % for a minute.")
    assert found["tarnfell_calls_mos"] == []


def test_a_direction_that_nothing_was_heard_of_is_the_worst_there_is(house: House, db: sqlite3.Connection) -> None:
    """As of a run whose one direction never came through: no MOS was computed, and none is needed."""
    for mos in ((4.4, 4.3), (4.4, None), (3.0, 4.4)):
        run = house.place().json["id"]
        house.heartbeat()
        assert house.deliver(run, record_file()).status_code == 200
        for way, value in zip(("up", "down"), mos, strict=True):
            of_run = "call_id IN (SELECT id FROM call WHERE run_id = ?)"
            db.execute(f"UPDATE direction SET mos = ? WHERE direction = ? AND {of_run}", (value, way, run))
    db.execute("UPDATE call SET started_us = ? + run_id", (now_us() - 60_000_000,))
    found = call_store.tests_since(db, 1, 0, least=1)
    assert [one.mos for one in found] == [4.3, 1.0, 3.0]
    db.execute("UPDATE job SET ended_us = 5")
    assert [one.mos for one in call_store.tests_since(db, 1, 6, least=2)] == [1.0, 3.0]
    assert [one.mos for one in call_store.tests_since(db, 1, 5, least=1)] == [4.3, 1.0, 3.0]
    db.execute("UPDATE run SET tainted = 1 WHERE id = (SELECT min(id) FROM run)")
    assert len(call_store.tests_since(db, 1, 5, least=1)) == 2
    house.post(f"{PATH}/rules", {"kind": "calls-below", "limit": 3.5, "count": 2, "of": 2})
    look(db)
    (alert,) = house.person.get(PATH).json["alerts"]
    assert alert["says"].startswith("Calls: median 2.00 MOS over the tests below 3.5 MOS, since ")
