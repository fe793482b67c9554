"""Placing over the API: test points, probes and their links, far ends, commands and their life."""

from __future__ import annotations

import io
import json
import subprocess
import sys
import zipfile
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from tarnfell.server.http.app import create_app
from tarnfell.server.place import presence, probe_file
from tarnfell.store.db import connect, writing
from tarnfell.store.probes import invite
from tests.server.conftest import House


def places(house: House) -> dict[str, Any]:
    return house.person.get("/api/sites/pier/place").json


def send(house: House, method: str, path: str, body: dict[str, Any] | None = None) -> Any:
    headers = {"X-CSRF-Token": house.csrf}
    return house.person.open(f"/api/sites/pier/{path}", method=method, json=body or {}, headers=headers)


def probe(house: House, number: int = 1) -> dict[str, Any]:
    return next(p for s in places(house)["test_points"] for p in s["probes"] if p["id"] == number)


def command(house: House, kind: str) -> dict[str, Any]:
    """Ask for it and have the probe take it."""
    answer = send(house, "POST", "probes/1/jobs", {"kind": kind})
    assert answer.status_code == 200, answer.text
    return house.probe("POST", "/api/probe/heartbeat", json={"environment": None}).json["command"]


def finish(house: House, told: dict[str, Any], result: Any = None, failure: str | None = None) -> Any:
    body = {"result": result, "failure": failure}
    return house.probe("POST", f"/api/probe/commands/{told['id']}/outcome", json=body)


def new_link(house: House) -> str:
    """A second probe's code."""
    page = send(house, "POST", "probes", {"name": "second", "test_point_id": 1}).json
    card = next(p for s in page["test_points"] for p in s["probes"] if p["name"] == "second")
    return str(card["invitation"]["path"].removeprefix("/join/"))


# TestPoints and probes


def test_points_stand_in_the_order_of_the_path(house: House) -> None:
    for name, kind in (("rack", "firewall"), ("attic", "farthest"), ("street", "outside")):
        assert send(house, "POST", "test-points", {"name": name, "kind": kind}).status_code == 200
    assert [s["name"] for s in places(house)["test_points"]] == ["attic", "desk", "rack", "street"]
    send(house, "PUT", "test-points/1", {"name": "till", "kind": "wireless", "note": "left socket"})
    till = places(house)["test_points"][1]
    assert (till["name"], till["kind_words"], till["note"]) == ("till", "Desk on Wi-Fi", "left socket")
    assert send(house, "PUT", "test-points/99", {"name": "x", "kind": "desk"}).status_code == 404
    assert send(house, "POST", "test-points", {"name": "x", "kind": "roof"}).status_code == 422


def test_a_probe_is_renamed_and_moved(house: House) -> None:
    send(house, "POST", "test-points", {"name": "rack", "kind": "firewall"})
    assert send(house, "PUT", "probes/1", {"name": "box", "test_point_id": 2}).status_code == 200
    assert (probe(house)["name"], probe(house)["test_point_id"]) == ("box", 2)
    assert send(house, "PUT", "probes/1", {"name": "box", "test_point_id": 77}).status_code == 404
    assert send(house, "PUT", "probes/9", {"name": "box", "test_point_id": 1}).status_code == 404


def test_another_sites_probe_is_out_of_reach(house: House) -> None:
    house.post("/api/sites/pier/duplicate", {"name": "Annex"})
    answer = house.post("/api/sites/annex/probes/1/jobs", {"kind": "end"})
    assert answer.status_code == 404


def test_what_a_probe_told_is_shown_and_nonsense_is_left_out(house: House) -> None:
    told = {
        "system": "Debian", "gateway": "192.0.2.1", "addresses": ["eth0 192.0.2.9/24"], "medium": "Wi-Fi",
        "wifi_signal_dbm": -61, "link_mbps": "fast", "mtu": 1500, "cannot": "everything", "extra": {"a": 1},
    }  # fmt: skip
    house.probe("POST", "/api/probe/heartbeat", json={"environment": told})
    around = probe(house)["around"]
    assert (around["gateway"], around["wifi_signal_dbm"], around["mtu"]) == ("192.0.2.1", -61, 1500)
    assert (around["link_mbps"], around["cannot"]) == (None, [])
    house.probe(
        "POST", "/api/probe/heartbeat", json={"environment": {"system": "x" * 30_000, "cannot": ["y" * 300] * 40}}
    )
    around = probe(house)["around"]
    assert (len(around["system"]), [len(one) for one in around["cannot"]]) == (200, [200] * 32)


def test_a_silent_probe_says_since_when_and_what_to_try(house: House) -> None:
    house.probe("POST", "/api/probe/heartbeat", json={"environment": {"medium": "Wi-Fi"}})
    assert probe(house)["state"] == "online"
    connect(house.folder).execute("UPDATE probe SET last_contact_us = last_contact_us - 7200000000")
    silent = probe(house)
    assert silent["state"] == "offline"
    assert "still in range" in silent["says"]
    assert silent["last_contact_us"] is not None


def test_a_heartbeat_with_no_news_writes_nothing(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(presence, "NOTE_EVERY_US", 3_600 * 1_000_000)
    house.heartbeat()
    db = connect(house.folder)
    before = db.execute("PRAGMA data_version").fetchone()[0]
    for _ in range(5):
        house.probe("POST", "/api/probe/heartbeat", json={"environment": None})
    assert db.execute("PRAGMA data_version").fetchone()[0] == before


@pytest.mark.parametrize(("later_us", "noted"), [(-1, True), (0, False), (3_999_999, False), (4_000_000, True)])
def test_contact_is_written_down_every_four_seconds(
    monkeypatch: pytest.MonkeyPatch, later_us: int, noted: bool
) -> None:
    heard_us = 1_790_000_000_000_000
    monkeypatch.setattr(presence, "now_us", lambda: heard_us + later_us)
    spoke: Any = SimpleNamespace(last_contact_us=heard_us)
    assert presence.needs_note(spoke) is noted


def test_a_probe_is_asked_to_speak_often_only_while_somebody_looks(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    def again_s() -> float:
        return float(house.probe("POST", "/api/probe/heartbeat", json={}).json["again_s"])

    monkeypatch.setattr(presence, "_looked", {})
    assert again_s() == presence.SLOW_S
    places(house)
    assert again_s() == presence.QUICK_S
    monkeypatch.setattr(presence, "LOOKED_WITHIN_S", 0.0)
    assert again_s() == presence.SLOW_S


# Links


def test_a_link_from_opening_to_the_end_of_the_work(house: House) -> None:
    code = new_link(house)
    stranger = house.app.test_client()
    page = stranger.get(f"/api/join/{code}").json
    assert (page["state"], page["from_whom"], page["test_point"]) == ("open", "Tess Ter", "desk")
    assert page["destinations"][1] == {
        "host": "192.0.2.10",
        "ports": "TCP 4870, UDP ports the far end names",
        "what": "test calls to far",
    }
    assert code in page["command_unix"]
    assert probe(house, 2)["says"] == "The page was opened; the file has not been fetched yet."
    got = stranger.get(f"/api/join/{code}/tarnfell-probe.pyz")
    assert "tarnfell-probe.pyz" in got.headers["Content-Disposition"]
    assert "was fetched" in probe(house, 2)["says"]
    enrolled = stranger.post("/api/probe/enrol", json={"token": code}).json
    assert enrolled["name"] == "second"
    assert stranger.get(f"/api/join/{code}").json["state"] == "running"
    assert stranger.get(f"/api/join/{code}/tarnfell-probe.pyz").status_code == 410
    connect(house.folder).execute("UPDATE probe SET last_contact_us = 5 WHERE id = 2")
    assert stranger.get(f"/api/join/{code}").json["state"] == "offline"
    connect(house.folder).execute("UPDATE probe SET retired_us = 5 WHERE id = 2")
    assert "delete the file" in stranger.get(f"/api/join/{code}").json["says"]


def test_a_link_taken_back_renewed_or_expired_enrols_nobody(house: House) -> None:
    code = new_link(house)
    stranger = house.app.test_client()
    send(house, "DELETE", "probes/2/link")
    assert stranger.get(f"/api/join/{code}").json["state"] == "revoked"
    assert stranger.get(f"/api/join/{code}/tarnfell-probe.pyz").status_code == 410
    assert stranger.post("/api/probe/enrol", json={"token": code}).status_code == 403
    assert probe(house, 2)["invitation"]["state"] == "revoked"
    send(house, "POST", "probes/2/link")
    assert probe(house, 2)["invitation"]["state"] == "open"
    db = connect(house.folder)
    with writing(db):
        old = invite(db, 2, until_us=5)
    assert stranger.get(f"/api/join/{old}").json["state"] == "expired"
    assert stranger.get("/api/join/nobody-knows").status_code == 404
    assert "no valid link" in probe(house, 2)["says"]


def test_the_service_unit_cannot_be_broken_by_a_name(house: House) -> None:
    send(house, "PUT", "probes/1", {"name": "box\nExecStart=/bin/evil %h", "test_point_id": 1})
    db = connect(house.folder)
    with writing(db):
        code = invite(db, 1)
    unit = house.app.test_client().get(f"/api/join/{code}/tarnfell-probe.service").text
    assert [line for line in unit.splitlines() if line.startswith("ExecStart")] == [
        "ExecStart=/usr/bin/env python3 /var/lib/tarnfell-probe/tarnfell-probe.pyz "
        "--state /var/lib/tarnfell-probe/state"
    ]
    assert "DynamicUser=yes" in unit
    assert "%%h" in unit


def test_the_file_is_whole_and_names_the_public_address(house: House) -> None:
    code = new_link(house)
    app = create_app(house.folder, web=house.folder, public_address="https://tarnfell.example/")
    packed = app.test_client().get(f"/api/join/{code}/tarnfell-probe.pyz").data
    with zipfile.ZipFile(io.BytesIO(packed)) as inside:
        assert inside.testzip() is None
        carried = json.loads(inside.read("enrolment.json"))
        names = inside.namelist()
    assert carried == {"server": "https://tarnfell.example", "code": code, "folder": "probe-2"}
    assert not [n for n in names if "/core/" in n or "/server/" in n or "/store/" in n]
    assert probe_file.program() == probe_file.program.__wrapped__()


def test_the_file_needs_nothing_but_python(house: House, tmp_path: Path) -> None:
    """Isolated, without site packages, and from another folder: it says that it cannot reach its server."""
    file = tmp_path / "elsewhere" / "probe.pyz"
    file.parent.mkdir()
    file.write_bytes(probe_file.probe_file("http://127.0.0.1:9", "code", 7))
    with subprocess.Popen(
        [sys.executable, "-I", "-S", str(file), "--state", str(tmp_path / "state")],
        stdout=subprocess.PIPE, text=True, cwd="/",
    ) as child:  # fmt: skip
        assert child.stdout is not None
        line = child.stdout.readline()
        child.kill()
    assert "http://127.0.0.1:9 cannot be reached" in line
