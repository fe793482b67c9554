"""What whoever watches the server is told."""

from __future__ import annotations

import re

import pytest

from tarnfell import __version__
from tarnfell.store.lock import only_one
from tests.server.conftest import House


def test_health_tells_version_and_clerk_to_anyone(house: House) -> None:
    def told() -> object:
        return house.app.test_client().get("/api/health").json

    assert told() == {"version": __version__, "clerk": "absent"}
    with only_one(house.folder, "clerk"):
        assert told() == {"version": __version__, "clerk": "working"}
    assert told() == {"version": __version__, "clerk": "absent"}


def test_each_request_is_one_line_without_what_was_said(house: House, caplog: pytest.LogCaptureFixture) -> None:
    with caplog.at_level("DEBUG", "tarnfell.request"):
        house.heartbeat()
        house.person.get("/api/sites/pier?secret=1")
        house.app.test_client().post("/api/session", json={"email": "a@b.example", "password": "hunter2hunter2"})
        house.app.test_client().get("/api/%0aforged%20line")
        for path in (f"/api/join/{house.token}", f"/api/join/{house.token}/tarnfell-probe.pyz", f"/join/{house.token}"):
            house.app.test_client().get(path)
    told = [(r.levelname, re.sub(r"\d+ ms", "9 ms", r.getMessage())) for r in caplog.records]
    assert told == [
        ("DEBUG", "POST /api/probe/heartbeat 200 9 ms probe 1"),
        ("INFO", "GET /api/sites/pier 200 9 ms user 1"),
        ("INFO", "POST /api/session 401 9 ms nobody known, 127.0.0.1"),
        ("INFO", r"GET /api/\nforged line 404 9 ms nobody known, 127.0.0.1"),
        ("INFO", "GET /api/join/… 200 9 ms nobody known, 127.0.0.1"),
        ("INFO", "GET /api/join/…/tarnfell-probe.pyz 410 9 ms nobody known, 127.0.0.1"),
        ("INFO", "GET /join/… 404 9 ms nobody known, 127.0.0.1"),
    ]
    assert house.token not in caplog.text


def test_no_code_of_a_link_is_in_the_log(house: House, caplog: pytest.LogCaptureFixture) -> None:
    code = "0123456789abcdef0123456789ab"
    given = {"code": code, "job_id": "1", "kind": "html"}
    paths = {
        re.sub(r"<(?:\w+:)?(\w+)>", lambda one: given[one[1]], rule.rule)
        for rule in house.app.url_map.iter_rules()
        if "code" in rule.arguments
    }
    assert len(paths) >= 18
    pages = [f"/{page}/{code}" for page in ("join", "test", "invited", "reset")]
    with caplog.at_level("DEBUG", "tarnfell.request"):
        for path in [*sorted(paths), *pages]:
            house.app.test_client().get(path)
            house.app.test_client().post(path)
    assert len(caplog.records) == 2 * (len(paths) + len(pages))
    assert code not in caplog.text


def test_what_goes_wrong_here_is_a_warning(
    house: House, caplog: pytest.LogCaptureFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("tarnfell.server.http.health.is_held", lambda *_: 1 / 0)
    with caplog.at_level("INFO", "tarnfell.request"):
        assert house.app.test_client().get("/api/health").status_code == 500
    assert [r.levelname for r in caplog.records if r.name == "tarnfell.request"] == ["WARNING"]
