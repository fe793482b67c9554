"""What the screens read: engagement, site, one call judged again, report, and the description of it all."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings

from tarnfell.core.tracefile import parse_csv
from tarnfell.server.http.api import openapi
from tarnfell.store.db import connect
from tarnfell.wire.record import Record, join_parts, pack_column, split_parts
from tests.server.conftest import House, record_file
from tests.server.test_runs import deliver, taken

WEB = Path(__file__).parents[2] / "web"


@pytest.fixture
def call_id(house: House) -> int:
    run_id = taken(house)
    deliver(house, run_id, record_file(lost=tuple(range(20, 30))))
    return int(house.person.get(f"/api/runs/{run_id}/calls").json["calls"][0]["id"])


def test_engagement_compares_its_sites(house: House, call_id: int) -> None:
    listed = house.person.get("/api/engagements").json["engagements"]
    assert [(e["slug"], e["sites"]) for e in listed] == [("customer", 1)]
    (line,) = house.person.get("/api/engagements/customer").json["sites"]
    assert line["name"] == "Pier office"
    assert line["verdict"]["word"] == "not shown yet"
    assert (line["verdict"]["low"], line["verdict"]["high"]) == (15, 100)
    assert line["path"]["worst"] == "up"
    assert line["next"]["action"] == "plan"
    assert len(line["strip"]) == 7 * 24


def test_one_page_tells_of_all_sites_at_work(house: House, call_id: int) -> None:
    def told() -> str:
        answer = house.person.get("/api/engagements/customer/report.html")
        assert answer.mimetype == "text/html"
        return str(answer.text)

    assert "Of 1 site, 1 is not shown yet." in told()
    assert "Pier office" in told()
    assert house.person.get("/api/engagements/nowhere/report.html").status_code == 404
    house.post("/api/sites/pier/archive", {"archived": True})
    assert "There is no site yet." in told()
    assert house.person.get("/api/engagements").json["engagements"][0]["sites"] == 0


def test_site_names_what_took_each_point(house: House, call_id: int) -> None:
    site = house.person.get("/api/sites/pier").json
    (cause,) = [c for c in site["causes"] if c["network"]]
    assert (cause["key"], cause["direction"], cause["leg"]) == ("line-loss", "up", "unknown")
    voice = next(d for d in site["dimensions"] if d["dimension"] == "voice")
    # One moment, half of its calls bad: everything is still possible.
    assert (voice["lost_points"], voice["open_points"], voice["taken"]) == (0, 30, [])
    db = connect(house.folder)
    db.execute("UPDATE site SET required_share_pct = 99.9")
    db.execute("UPDATE direction SET mos = 2.0, loss_pct = 10 WHERE direction = 'up'")
    db.execute("UPDATE run SET judged_us = judged_us + 1")
    voice = next(d for d in house.person.get("/api/sites/pier").json["dimensions"] if d["dimension"] == "voice")
    assert [t["title"] for t in voice["taken"]] == [cause["title"]]
    assert 0 < voice["lost_points"] == pytest.approx(voice["taken"][0]["points"])
    assert {r["state"] for r in site["requirements"]} == {"shown", "open"}
    cells = [c for day in site["sheet"]["days"] for c in day["call_id"] if c is not None]
    assert cells == [call_id]


def test_the_same_packets_judged_again(house: House, call_id: int) -> None:
    usual = house.person.get(f"/api/calls/{call_id}").json
    assert usual["up"]["figures"]["lost"] == 10
    assert sum(s["lost"] for s in usual["up"]["stretches"]) == 10
    assert (usual["up"]["seconds"], usual["up"]["stretch_s"], usual["up"]["seconds_below"]) == (2, 1, 1)
    assert (usual["long"], usual["awaited"]) == (False, None)
    assert [p["fate"] for p in usual["up"]["packets"]].count("lost") == 10
    assert usual["up"]["why"].startswith("Packets lost on the way took")
    other = house.person.get(f"/api/calls/{call_id}?codec=g729a&buffer_ms=200").json
    assert other["judged_as"] == "g729a"
    assert other["up"]["figures"]["mos"] < usual["up"]["figures"]["mos"]
    assert other["down"]["figures"]["mouth_to_ear_ms"] == usual["down"]["figures"]["mouth_to_ear_ms"] + 140 + 5
    refused = house.person.get(f"/api/calls/{call_id}?codec=g7231-63")
    assert (refused.status_code, "its frame is 30 ms" in refused.json["detail"]) == (422, True)


def test_delay_varies_from_one_packet_to_the_next(house: House) -> None:
    """Three of a hundred come 30 ms later than the others: one change in sixteen is of that size."""
    run_id = taken(house)
    head, first, second = split_parts(record_file())
    record = Record.parse(first)
    at = [us + (30_000 if n in (20, 40, 60) else 0) for n, us in enumerate(record.values("up.arrival_us"))]
    late = Record(record.meta, {**record.columns, "up.arrival_us": pack_column("up.arrival_us", at)})
    deliver(house, run_id, join_parts([head, late.serialize(), second]))
    call_id = house.person.get(f"/api/runs/{run_id}/calls").json["calls"][0]["id"]
    page = house.person.get(f"/api/calls/{call_id}").json
    assert (page["up"]["ipdv_p99_ms"], page["down"]["ipdv_p99_ms"]) == (30.0, 0.0)


def test_packets_leave_in_the_open_form(house: House, call_id: int) -> None:
    text = house.person.get(f"/api/calls/{call_id}/up.csv").text
    assert len(list(csv.DictReader(io.StringIO(text)))) == 100
    trace = parse_csv(text)
    assert (~trace.arrived).sum() == 10


def test_long_calls_are_thinned_but_keep_their_extremes(house: House) -> None:
    run_id = taken(house, calls=1, seconds=200)
    deliver(house, run_id, record_file(calls=1, packets=10_000, lost=(7777,)))
    call_id = house.person.get(f"/api/runs/{run_id}/calls").json["calls"][0]["id"]
    up = house.person.get(f"/api/calls/{call_id}").json["up"]
    assert up["thinned"] is True
    assert len(up["packets"]) <= 3000
    assert [p["at_ms"] for p in up["packets"] if p["fate"] == "lost"] == [7777 * 20]
    assert (up["seconds"], up["seconds_below"], up["stretch_s"]) == (200, 0, 1)
    worst = min(one["mos"] for one in up["stretches"])
    db = connect(house.folder)
    for target, below in ((worst, 0), (worst + 0.01, 1)):
        db.execute("UPDATE site SET target_mos = ?", (target,))
        assert house.person.get(f"/api/calls/{call_id}").json["up"]["seconds_below"] == below


def test_report_says_the_same_everywhere(house: House, call_id: int) -> None:
    page = house.person.get("/api/sites/pier/report.html")
    figures = house.person.get("/api/sites/pier/report.json").json
    site = house.person.get("/api/sites/pier").json
    assert (figures["verdict"]["low"], figures["verdict"]["high"]) == (site["verdict"]["low"], site["verdict"]["high"])
    for words in ("Pier office", "not shown yet", "Causes", "Method", "MOS-CQEN", figures["causes"][0]["title"]):
        assert words in page.text
    assert "<script" not in page.text


def test_report_of_a_site_without_evidence(house: House) -> None:
    page = house.person.get("/api/sites/pier/report.html")
    assert page.status_code == 200
    assert "No call counts at this site yet" in page.text


@pytest.mark.parametrize(
    "path",
    ["/api/engagements/none", "/api/sites/none", "/api/runs/99", "/api/calls/99", f"/api/runs/{10**30}", "/api/none"],
)
def test_unknown_addresses_get_a_sentence(house: House, path: str) -> None:
    answer = house.person.get(path)
    assert answer.status_code == 404
    assert answer.json["detail"].endswith(".")


def test_description_kept_for_the_front_end_is_current(house: House) -> None:
    assert json.loads((WEB / "openapi.json").read_text()) == json.loads(json.dumps(openapi()))


def test_api_keeps_its_own_description(house: House, call_id: int) -> None:
    """Arbitrary requests to every readable address: never a server error, always the described shape."""
    schema = schemathesis.openapi.from_wsgi("/api/openapi.json", house.app)
    cookie = house.person.get_cookie("tarnfell")
    assert cookie is not None
    signed_in = {"Cookie": f"tarnfell={cookie.value}"}
    tried = 0
    for found in schema.get_all_operations():
        operation = found.ok()
        if operation.method.upper() != "GET" or "report" in operation.path or "csv" in operation.path:
            continue
        tried += 1

        @settings(max_examples=6, deadline=None, database=None, suppress_health_check=list(HealthCheck))
        @given(case=operation.as_strategy())
        def check(case: schemathesis.Case) -> None:
            answer = case.call(headers=signed_in)
            assert answer.status_code < 500, case.path
            if answer.status_code == 200:
                case.validate_response(answer, checks=[schemathesis.checks.response_schema_conformance])

        check()
    assert tried >= 8
