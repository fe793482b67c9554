"""Tests from a browser over a WebSocket: offered, begun, joined from the data folder, and never counted."""

from __future__ import annotations

import json
import sqlite3
from functools import partial
from typing import Any

import pytest

from tarnfell.clerk.browsers import Joining
from tarnfell.cli.running import _completed
from tarnfell.farend.halves import Halves
from tarnfell.media.browser import far_side
from tarnfell.media.browser.far_side import FarSide
from tarnfell.store import browsers as browser_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store.browsers import SOCKET_HALVES
from tarnfell.store.db import now_us, writing
from tarnfell.wire.browser import BrowserCalls, CallsAsked, Packet
from tarnfell.work.evidence.facts import facts_of
from tests.server.conftest import House
from tests.server.test_desk import LINKS, PLANNED, add, asked, code_of, db, half, stranger

__all__ = ["asked", "db"]

PORT = 8081
WEB = {"asked": 20, "answered": 19, "median_ms": 24.2, "most_ms": 310.0}
REACH = {"own": "socket", "transport": "tcp"}


@pytest.fixture(autouse=True)
def offered(house: House) -> None:
    house.app.config["SOCKET_PORT"] = PORT


def begun(house: House, code: str) -> Any:
    (far_end,) = stranger(house, "GET", code).json["far_ends"]
    return stranger(house, "POST", f"{code}/socket-runs", json={"far_end_id": far_end["id"]})


def keep_own_packets(house: House, token: str, wanted: CallsAsked, monkeypatch: pytest.MonkeyPatch) -> None:
    """As the process for sockets keeps them: all of a call's packets came, 30 ms after they were sent."""
    start = now_us()
    clock = [start]
    monkeypatch.setattr(far_side, "now_us", lambda: clock[0])
    side = FarSide(wanted, lambda data: None, "a test")
    for number in range(PLANNED):
        clock[0] = start + 20_000 * number + 30_000
        for call in range(wanted.calls):
            side.take(Packet(call, number, 0.0).serialize())
            side._calls[call].sent_us.append(start + 20_000 * number)
    assert Halves(house.folder / SOCKET_HALVES).keep(token, side.half())


def join(house: House, db: sqlite3.Connection) -> None:
    """One turn of the clerk as it is put together for use."""
    one = Joining(house.folder, partial(_completed, house.folder))
    one.turn(db)
    one.end()
    house.judge()


def test_from_the_page_to_a_result_that_never_counts(
    house: House, db: sqlite3.Connection, asked: list[BrowserCalls], monkeypatch: pytest.MonkeyPatch
) -> None:
    code = code_of(add(house))
    assert stranger(house, "GET", code).json["socket"] == {"port": PORT}
    answer = begun(house, code)
    assert answer.status_code == 200, answer.text
    job_id, token = int(answer.json["job_id"]), answer.json["token"]
    assert run_store.run_by_id(db, job_id).name == "Browser, self-run (over WebSocket, to this server): Reception"
    assert browser_store.socket_waits(db, token)
    with writing(db):
        wanted = browser_store.take_up_socket(db, token)
    assert wanted == CallsAsked(2, 20, 93, 10.0)
    assert not browser_store.socket_waits(db, token)
    keep_own_packets(house, token, wanted, monkeypatch)
    stranger(house, "POST", f"{code}/jobs/{job_id}/alive")
    stranger(house, "PUT", f"{code}/jobs/{job_id}/half", data=half(reach=REACH, web=WEB))
    join(house, db)
    (run,) = stranger(house, "GET", code).json["runs"]
    assert (run["state"], run["way"], run["doubts"], run["hidden_s"]) == ("done", "socket", [], 0)
    assert (run["up"]["loss_pct"], run["down"]["loss_pct"]) == (0, 0)
    says = " ".join(run["reach"]["says"])
    assert "over a WebSocket to the web server, not to the far end" in says
    assert (
        "The web server answered 19 of 20 small requests, one after another: half of them within 24 ms, the slowest "
        "after 310 ms." in says
    )
    assert asked == []  # no far end
    # However the site counts browsers, this is not the way that its calls take.
    headers = {"X-CSRF-Token": house.csrf}
    page = house.person.put("/api/sites/pier/browser-counts", json={"counts": True}, headers=headers)
    assert (page.json["counts"], page.json["not_counted"]) == (True, 2)
    assert facts_of(db, site_store.sites_of(db, 1)[0]).calls == []
    assert house.person.get(LINKS).json["links"][0]["runs"][0]["way"] == "socket"


def test_a_half_of_the_servers_own_that_is_missing_is_waited_for_and_then_told(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("tarnfell.clerk.browsers.LONGEST_US", 0)
    code = code_of(add(house))
    job_id = int(begun(house, code).json["job_id"])
    stranger(house, "POST", f"{code}/jobs/{job_id}/alive")
    stranger(house, "PUT", f"{code}/jobs/{job_id}/half", data=half(reach=REACH))
    join(house, db)
    (run,) = stranger(house, "GET", code).json["runs"]
    assert run["state"] == "failed"
    assert "this server kept nothing of that test" in run["failure"]


def test_a_damaged_half_of_the_servers_own_is_told(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("tarnfell.clerk.browsers.LONGEST_US", 0)
    code = code_of(add(house))
    told = begun(house, code).json
    Halves(house.folder / SOCKET_HALVES).keep(told["token"], b"damaged")
    stranger(house, "POST", f"{code}/jobs/{told['job_id']}/alive")
    stranger(house, "PUT", f"{code}/jobs/{told['job_id']}/half", data=half(reach=REACH))
    join(house, db)
    (run,) = stranger(house, "GET", code).json["runs"]
    assert (run["state"], "what was kept is not understood" in run["failure"]) == ("failed", True)


def test_behind_a_proxy_the_way_is_of_the_pages_own_address(house: House) -> None:
    code = code_of(add(house))

    def may_connect(host: str) -> str:
        answer = house.app.test_client().get(f"/api/test/{code}", headers={"Host": host})
        return str(answer.headers["Content-Security-Policy"]).rpartition("connect-src ")[2]

    assert may_connect("192.0.2.1:8080") == f"'self' ws://*:{PORT}"
    house.app.config["PUBLIC_ADDRESS"] = "https://tarnfell.example"
    assert stranger(house, "GET", code).json["socket"] == {"port": None}
    # A brand's own address for the server is another name of it.
    assert may_connect("calls.harrow.example") == "'self' wss://calls.harrow.example"
    assert may_connect("[2001:db8::1]:8443") == "'self' wss://[2001:db8::1]:8443"
    house.app.config["PUBLIC_ADDRESS"] = "http://tarnfell.example"
    assert may_connect("tarnfell.example") == "'self' ws://tarnfell.example"
    house.app.config["SOCKET_PORT"] = None
    assert "connect-src" not in may_connect("tarnfell.example")


def test_a_server_without_sockets_offers_and_begins_none(house: House) -> None:
    house.app.config["SOCKET_PORT"] = None
    code = code_of(add(house))
    assert stranger(house, "GET", code).json["socket"] is None
    answer = begun(house, code)
    assert (answer.status_code, answer.json["detail"]) == (409, "This server takes no tests over WebSocket.")


def test_a_socket_that_did_not_open_is_told_with_what_the_web_did(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house))
    job_id = int(begun(house, code).json["job_id"])
    body = {"why": "no-socket", "web": {**WEB, "answered": 0, "median_ms": 0, "most_ms": 0}}
    assert stranger(house, "POST", f"{code}/jobs/{job_id}/failed", json=body).json == {"state": "failed"}
    (run,) = stranger(house, "GET", code).json["runs"]
    assert run["failure"].startswith("No WebSocket opened to this server, while it answered web requests")
    assert run["reach"]["says"] == ["The web server answered 0 of 20 small requests, one after another."]
    kept = json.loads(db.execute("SELECT told FROM browser_reach WHERE job_id = ?", (job_id,)).fetchone()[0])
    assert kept["web"]["asked"] == 20
    assert browser_store.way_of(db, job_id) == "socket"


@pytest.mark.parametrize(
    "web", [{}, {**WEB, "asked": 0}, {**WEB, "asked": 101}, {**WEB, "answered": -1}, {**WEB, "median_ms": -1}]
)
def test_what_no_page_can_have_found_is_refused(house: House, web: dict[str, Any]) -> None:
    code = code_of(add(house))
    job_id = int(begun(house, code).json["job_id"])
    answer = stranger(house, "POST", f"{code}/jobs/{job_id}/failed", json={"why": "no-socket", "web": web})
    assert answer.status_code == 422
