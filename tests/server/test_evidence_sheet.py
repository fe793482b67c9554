"""The evidence sheet of a fault: times in the site's zone, who answered meanwhile, what is ruled out; page and PDF."""

from __future__ import annotations

import csv
import io
import re
import sqlite3
from dataclasses import replace
from types import SimpleNamespace
from typing import Any, cast

import pytest

from tarnfell.clerk.loop import make
from tarnfell.store.db import connect
from tarnfell.work.issuing import evidence
from tarnfell.work.issuing.evidence import FINE_MS, FINE_PCT, _ruled_out
from tests.core.days.weeks import Week
from tests.server.conftest import House
from tests.server.test_watch_pages import watched


def sheet(house: House, fault: int = 0, probe: int = 1) -> Any:
    return house.person.get("/api/sites/pier/watch/evidence.html", query_string={"probe": probe, "fault": fault})


def ask(house: House, fault: int = 0) -> Any:
    return house.post("/api/sites/pier/watch/evidence/pdf", {"probe": 1, "fault": fault})


def line_down(house: House) -> None:
    week = Week(5, days=1)
    week.slow_edge()
    week.outage("line", 600, 120)
    week.outage("line", 2400, 60)
    watched(house, week, 3600)


def test_a_fault_on_one_page(house: House) -> None:
    line_down(house)
    page = sheet(house)
    assert page.mimetype == "text/html"
    text = re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", page.text.partition("</style>")[2]))
    assert "The line goes down" in text
    assert "Twice" in text or "2 times on 1 day" in text
    # Newest first, by the clocks of London.
    assert re.search(r"Mon 02 Mar 00:40:00 Mon 02 Mar 00:41:00 60 s 100 % – –", text)
    assert re.search(r"Mon 02 Mar 00:10:00 Mon 02 Mar 00:12:00 2 min 100 % – –", text)
    # Echoes without the large ones, which are each fifth.
    assert "Gateway 192.0.2.1 0.0 % of 144" in text
    assert "Far end far 100.0 % of 180" in text
    assert "From pier-probe, desk To far Times" in text
    assert (
        "Not up to Gateway 192.0.2.1: it answered 144 of 144 samples in these times, with at most 0 ms added (median)."
        in text
    )
    assert "Not to be taken for it: The provider’s edge (198.51.100.1) answers slowly for itself" in text
    assert "Not up to Far end" not in text
    # The beginning of the longer one, at the same instants: from answered to lost.
    rows = re.findall(r"00:(\d\d:\d\d)\.0 ([\d.]+ ms) (\S+ ?m?s?) (\S+ ?m?s?) (\S+ ?m?s?) (\S+ ?m?s?)", text)
    assert [row[0] for row in rows[:5]] == ["09:56", "09:57", "09:58", "09:59", "10:00"]
    assert [row[5].strip() == "lost" for row in rows] == [False] * 4 + [True] * (len(rows) - 4)
    assert len(rows) >= 12


def test_all_times_of_a_fault_are_a_table(house: House) -> None:
    line_down(house)
    answer = house.person.get("/api/sites/pier/watch/evidence.csv", query_string={"probe": 1, "fault": 0})
    assert answer.mimetype == "text/csv"
    rows = list(csv.DictReader(io.StringIO(answer.text)))
    told = [
        (one["from"], one["until"], one["seconds"], one["leg"], one["lost_pct"], one["added_ms"], one["mos"])
        for one in rows
    ]
    assert told == [
        ("2026-03-02T00:10:00.000Z", "2026-03-02T00:12:00.000Z", "120", "line", "100.0", "", "1.00"),
        ("2026-03-02T00:40:00.000Z", "2026-03-02T00:41:00.000Z", "60", "line", "100.0", "", "1.00"),
    ]
    first = rows[0]
    assert (first["far-end far sent"], first["far-end far lost"], first["far-end far added_ms"]) == ("120", "120", "")
    assert (first["gateway 192.0.2.1 sent"], first["gateway 192.0.2.1 lost"]) == ("96", "0")
    assert abs(float(first["gateway 192.0.2.1 added_ms"])) < 1
    for query in ({"probe": 1, "fault": 1}, {"probe": 1, "fault": 9}, {"probe": 9, "fault": 0}):
        assert house.person.get("/api/sites/pier/watch/evidence.csv", query_string=query).status_code == 404


def test_a_fault_of_weeks_has_all_its_seconds(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    line_down(house)
    found = evidence._found

    def longer(db: sqlite3.Connection, fault: evidence.Fault) -> Any:
        reading, finding = found(db, fault)
        more_us = 20 * 86_400_000_000 + 123_000
        return replace(reading, episodes=[replace(o, until_us=o.until_us + more_us) for o in reading.episodes]), finding

    monkeypatch.setattr(evidence, "_found", longer)
    answer = house.person.get("/api/sites/pier/watch/evidence.csv", query_string={"probe": 1, "fault": 0})
    assert [one["seconds"] for one in csv.DictReader(io.StringIO(answer.text))] == ["1728120.123", "1728060.123"]


def test_the_page_on_paper_is_made_by_the_clerk(house: House) -> None:
    line_down(house)
    asked = ask(house).json
    assert asked["state"] == "waiting"
    assert ask(house).json["id"] == asked["id"]  # the same as long as nothing has changed
    make(connect(house.folder), set())
    ready = house.person.get(f"/api/documents/{asked['id']}").json
    assert ready["state"] == "ready"
    file = house.person.get(f"/api/documents/{asked['id']}/file")
    assert file.data[:5] == b"%PDF-"
    assert "pier-evidence.pdf" in file.headers["Content-Disposition"]


def test_the_sheet_is_in_the_consultants_name_and_made_anew_when_that_changes(house: House) -> None:
    line_down(house)
    before = ask(house).json["id"]
    assert 'class="letterhead"' not in sheet(house).text
    brand = {"name": "Harrow Voice", "contact": "ines@harrow.example", "colour": "#123456"}
    answer = house.person.put("/api/engagements/customer/brand", json=brand, headers={"X-CSRF-Token": house.csrf})
    assert answer.status_code == 200
    page = sheet(house).text
    for part in ('class="letterhead"', "Harrow Voice · ines@harrow.example", "--accent: #123456"):
        assert part in page
    assert ask(house).json["id"] != before
    again = ask(house).json["id"]
    brief = house.person.get("/api/sites/pier/brief").json["form"] | {"name": "Another name"}
    house.person.put("/api/sites/pier/brief", json=brief, headers={"X-CSRF-Token": house.csrf})
    assert ask(house).json["id"] != again


def test_a_fault_that_is_not_there_is_said(house: House) -> None:
    assert sheet(house).status_code == 404
    assert ask(house).status_code == 404
    line_down(house)
    assert sheet(house, fault=9).status_code == 404
    assert "read again" in ask(house, fault=9).json["detail"]
    assert sheet(house, probe=2).status_code == 404


@pytest.mark.parametrize(
    ("sent", "lost", "added", "ruled_out"),
    [
        (200, 0, FINE_MS, True),
        (200, 0, FINE_MS + 0.1, False),
        (200, 0, None, False),
        (0, 0, 0.0, False),
        (1000, 10 + round(10 * FINE_PCT), 0.0, True),  # beyond the hundredth that it loses at all times
        (1000, 11 + round(10 * FINE_PCT), 0.0, False),
    ],
)
def test_what_answered_as_ever_is_ruled_out(sent: int, lost: int, added: float | None, ruled_out: bool) -> None:
    place: Any = SimpleNamespace(number=1, role="gateway", name="192.0.2.1", sent=10_000, lost=100)
    seen = SimpleNamespace(number=1, sent=sent, lost=lost, added_ms=added)
    other = SimpleNamespace(number=0, sent=sent, lost=sent, added_ms=None)
    episode: Any = SimpleNamespace(places=(seen, other))
    told = _ruled_out([place], [episode], cast(Any, SimpleNamespace(not_faults=())))
    assert [line.startswith("Not up to Gateway 192.0.2.1: it answered ") for line in told] == [True] * ruled_out
