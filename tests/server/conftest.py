"""A server over data of its own, and a record as a probe uploads it."""

from __future__ import annotations

import atexit
import shutil
import sqlite3
import tempfile
import time
from copy import copy
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

import pytest
from flask import Config, Flask
from flask.testing import FlaskClient

from tarnfell.clerk import loop
from tarnfell.core.verdict import readings, site
from tarnfell.server.http import throttle
from tarnfell.server.http.app import create_app
from tarnfell.store import places as place_store
from tarnfell.store import sites as site_store
from tarnfell.store.connections import Connections
from tarnfell.store.db import connect, now_us, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.members import adopt
from tarnfell.store.people import add_user
from tarnfell.store.probes import add_probe, invite
from tarnfell.wire.record import Record, join_parts
from tarnfell.work.issuing.documents import make_next

EMAIL, PASSWORD = "tester@customer.example", "a-long-enough-password"
SITE = {
    "slug": "pier",
    "name": "Pier office",
    "time_zone": "Europe/London",
    "needed_calls": 2,
    "codec": "g711a",
    "ptime_ms": 20,
    "up_kbps": 10_000,
    "down_kbps": 50_000,
}


class Outcome(NamedTuple):
    status_code: int
    json: dict[str, str]


@dataclass
class House:
    """The server, a signed-in person, and the site's probe."""

    app: Flask
    folder: Path
    person: FlaskClient
    csrf: str
    token: str
    secret: str = ""

    def post(self, path: str, body: dict[str, Any]) -> Any:
        return self.person.post(path, json=body, headers={"X-CSRF-Token": self.csrf})

    def probe(self, method: str, path: str, **options: Any) -> Any:
        headers = {"Authorization": f"Bearer {self.secret}"}
        return self.app.test_client().open(path, method=method, headers=headers, **options)

    def heartbeat(self) -> dict[str, Any] | None:
        answer = self.probe("POST", "/api/probe/heartbeat", json={"environment": {"system": "test"}})
        assert answer.status_code == 200, answer.text
        return answer.json["job"]

    def document(self, path: str) -> Any:
        """The file of a document that is asked for by this path, made by the clerk."""
        asked = self.post(path, {})
        assert asked.status_code == 200, asked.text
        db = connect(self.folder)
        while make_next(db, self.folder):
            pass
        db.close()
        return self.person.get(f"/api/documents/{asked.json['id']}/file")

    def issue(self) -> dict[str, Any]:
        """The report of the site asked for and issued by the clerk."""
        answer = self.post("/api/sites/pier/report/issue", {})
        assert answer.status_code == 200, answer.text
        db = connect(self.folder)
        while make_next(db, self.folder):
            pass
        db.close()
        page = self.person.get("/api/sites/pier/reports").json
        assert page["issuing"] is None, page["issuing"]
        return dict(page["issued"][0])

    def deliver(self, run_id: int, body: bytes) -> Any:
        """A record as the probe uploads it, and what became of it: refused at the door or by the clerk, or done."""
        answer = self.probe("PUT", f"/api/probe/jobs/{run_id}/record", data=body)
        if answer.status_code != 200 or answer.json["state"] == "done":
            return answer
        assert answer.json == {"state": "delivered"}
        self.judge()
        db = connect(self.folder)
        state = db.execute("SELECT state FROM job WHERE id = ?", (run_id,)).fetchone()[0]
        refused = db.execute("SELECT refused FROM delivery WHERE run_id = ? AND refused NOT NULL", (run_id,)).fetchone()
        db.close()
        return Outcome(422, {"detail": refused[0]}) if refused else Outcome(200, {"state": state})

    def judge(self) -> None:
        """One turn of the clerk."""
        db = connect(self.folder)
        try:
            loop.judge(db, for_s=60)
        finally:
            db.close()

    def place(self, **changes: Any) -> Any:
        plan = {"codec": "g711a", "ptime_ms": 20, "calls": 2, "seconds": 2, "dscp": 46, **changes}
        return self.post("/api/sites/pier/runs", plan)


def set_up(db: sqlite3.Connection, far_host: str, far_port: int, far_key: str) -> tuple[int, str]:
    """An engagement with the site "pier", its far end and a probe yet to enrol: the probe's number and its code."""
    site_id = site_store.add_site(db, add_engagement(db, "customer", "Customer"), **SITE)
    place_store.choose_far_end(db, site_id, place_store.add_far_end(db, "far", "west", far_host, far_port, far_key))
    probe = add_probe(db, site_id, place_store.add_test_point(db, site_id, "desk", "desk"), "pier-probe")
    return probe, invite(db, probe)


@pytest.fixture(autouse=True)
def _short_calls_count(monkeypatch: pytest.MonkeyPatch) -> None:
    """Calls of two seconds stand in for longer ones here; tests/core/verdict holds the real bound."""
    for room in (readings, site):
        monkeypatch.setattr(room, "MIN_CALL_S", 1.0)


@pytest.fixture(autouse=True)
def _nobody_has_failed_yet() -> None:
    throttle._failures.clear()


@pytest.fixture
def house(tmp_path: Path) -> House:
    return built_house(tmp_path)


def built_house(folder: Path) -> House:
    """Over a copy of data that is made once: schema and password cost half a second, which hundreds of tests have no
    use for."""
    original, cookie, made = _template()
    shutil.copytree(original, folder, dirs_exist_ok=True)
    _made_now(folder)
    app = over(folder, made.app)
    person = app.test_client()
    person.set_cookie("tarnfell", cookie)
    return House(app, folder, person, made.csrf, made.token, made.secret)


def over(folder: Path, original: Flask) -> Flask:
    """The same server over other data. The table of its routes, which takes a fifth of a second to make, is shared."""
    app = copy(original)
    app.config = Config(original.config.root_path, original.config | {"DATA": folder, "WEB": folder / "no-web"})
    app.extensions = {"connections": Connections(folder)}
    return app


@pytest.fixture
def stopped_clock(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """It stays the moment at which the house was built, however long a test takes that is about seconds."""
    at_ns = time.time_ns()
    monkeypatch.setattr(time, "time_ns", lambda: at_ns)


@cache
def _template() -> tuple[Path, str, House]:
    folder = Path(tempfile.mkdtemp(prefix="tarnfell-template-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    app = create_app(folder, web=folder / "no-web")
    db = connect(folder)
    with writing(db):
        _, token = set_up(db, "192.0.2.10", 4870, "far-end-key")
        adopt(db, add_user(db, EMAIL, "Tess Ter", PASSWORD).id)
    person = app.test_client()
    signed_in = person.post("/api/session", json={"email": EMAIL, "password": PASSWORD})
    made = House(app, folder, person, signed_in.json["csrf"], token)
    enrolled = app.test_client().post("/api/probe/enrol", json={"token": token})
    made.secret = enrolled.json["secret"]
    db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    db.close()
    cookie = person.get_cookie("tarnfell")
    assert cookie is not None
    return folder, cookie.value, made


def _made_now(folder: Path) -> None:
    """All that happened in the template happened this moment."""
    db = connect(folder)
    with writing(db):
        past = now_us() - db.execute("SELECT last_contact_us FROM probe").fetchone()[0]
        for table in ("user", "engagement", "site", "test_point", "far_end", "site_far_end", "probe", "invitation",
                      "member", "session"):  # fmt: skip
            columns = [c["name"] for c in db.execute(f"PRAGMA table_info({table})") if c["name"].endswith("_us")]
            db.execute(f"UPDATE {table} SET " + ", ".join(f"{c} = {c} + {past}" for c in columns))
    db.close()


def record_file(
    calls: int = 2, packets: int = 100, lost: tuple[int, ...] = (), delay_us: int = 20_000, tainted: bool = False
) -> bytes:
    """A run's record: ``lost`` packets of call 1 never arrive up the line."""
    reasons = ["The probe once stood still."] if tainted else []
    head = Record({"shared": True, "self_check": {"tainted": tainted, "reasons": reasons}, "stopped": False})
    parts = [head.serialize()]
    for call in range(1, calls + 1):
        sent = [1_790_000_000_000_000 + i * 20_000 for i in range(packets)]
        columns = {}
        for direction in ("up", "down"):
            missing = lost if (call, direction) == (1, "up") else ()
            arrived = [i for i in range(packets) if i not in missing]
            columns |= {
                f"{direction}.sent_us": sent,
                f"{direction}.arrival_seq": arrived,
                f"{direction}.arrival_us": [sent[i] + delay_us for i in arrived],
                f"{direction}.arrival_dscp": [46] * len(arrived),
                f"{direction}.arrival_ttl": [60] * len(arrived),
                f"{direction}.arrival_bytes": [172] * len(arrived),
            }
        about = {"ssrc": call, "dscp_sent": 46}
        meta = {"call": call, "ptime_us": 20_000, "start_us": sent[0], "bound": True, "up": about, "down": about}
        parts.append(Record.of(meta, columns).serialize())
    return join_parts(parts)
