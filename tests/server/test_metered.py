"""A metered line: what loads may move in a day of the site's, and what is done of a load that would move more."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from tarnfell.core.schedule import to_us
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import connect, writing
from tarnfell.store.fills import FillAsked
from tarnfell.store.runs import RunSpec
from tarnfell.store.sites import Site
from tarnfell.wire.kinds.fields import read
from tarnfell.wire.kinds.fill import FillArguments, FillPlan
from tarnfell.wire.kinds.flow import FlowPlan
from tarnfell.work.placing import metered, rules
from tarnfell.work.placing.rules import about_metered
from tests.server import test_fills as fills
from tests.server import test_flows as flows
from tests.server.conftest import House
from tests.server.test_runs import taken

LONDON = ZoneInfo("Europe/London")
CALL_S = 2 * 84_000 / 8
"""Bytes a second of a G.711 call at IP with RTCP, both ways."""


def set_site(house: House, **changes: Any) -> Site:
    db = connect(house.folder)
    with writing(db):
        for name, value in changes.items():
            db.execute(f"UPDATE site SET {name} = ?", (value,))
    return site_store.site_by_id(db, 1)


def left(house: House, at: datetime | None = None) -> int | None:
    db = connect(house.folder)
    return metered.left_bytes(db, site_store.site_by_id(db, 1), at or datetime.now(LONDON))


def test_calls_count_as_they_were_planned_from_the_sites_midnight_on(house: House) -> None:
    assert left(house) is None
    set_site(house, metered_mb=10)
    assert left(house) == 10_000_000
    run = taken(house)
    db = connect(house.folder)
    job = job_store.job_by_id(db, run)
    spec = RunSpec(site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=2, seconds=2, dscp=46)
    moved = metered.run_bytes(site_store.site_by_id(db, 1), spec)
    assert moved == pytest.approx(2 * CALL_S * 2)
    assert left(house) == 10_000_000 - round(moved)
    one_way = metered.run_bytes(site_store.site_by_id(db, 1), replace(spec, direction="up"))
    assert one_way == pytest.approx(moved / 2)
    # What was taken before midnight at the site is of the day before, whatever day it is elsewhere.
    assert job.taken_us is not None
    midnight = datetime(2026, 7, 2, tzinfo=LONDON)  # 23:00 of the day before in UTC
    for taken_at, counts in ((midnight, True), (midnight - timedelta(microseconds=1), False)):
        with writing(db):
            db.execute("UPDATE job SET taken_us = ?", (to_us(taken_at),))
        assert (left(house, midnight + timedelta(hours=5)) != 10_000_000) is counts
    with writing(db):
        db.execute("UPDATE job SET taken_us = NULL")
    assert left(house) == 10_000_000  # no probe has taken it


def test_what_would_move_more_than_is_left_is_refused_with_both_figures(house: House) -> None:
    house.heartbeat()
    set_site(house, metered_mb=1)
    detail = house.place(calls=10, seconds=6).json["detail"]
    assert "of 1 MB that loads may move in a day, 1.0 MB are left, and this takes 1.3 MB" in detail
    assert "midnight at the site" in detail
    assert house.place(calls=10, seconds=4).status_code == 200


def test_just_what_is_left_may_be_moved(house: House) -> None:
    site = set_site(house, metered_mb=3)
    db = connect(house.folder)
    at = datetime.now(LONDON)
    assert about_metered(db, site, 3_000_000, at) is None
    reason = about_metered(db, site, 3_000_001, at)
    assert reason is not None
    assert (reason.code, reason.afterwards) == ("metered", "The day’s allowance of the metered line was used up.")


def test_streams_end_with_the_allowance_and_count_as_measured(house: House) -> None:
    set_site(house, metered_mb=50)
    job = fills.taken(house, ways=["up", "down"])
    arguments = read(FillArguments, job["arguments"])
    beside = 2 * CALL_S * arguments.fill.length_s
    assert arguments.fill.most_bytes == 50_000_000 - round(beside)
    assert left(house) == 0  # until it is told it may have moved all of it
    assert house.person.get(fills.PATH).json["metered_left_bytes"] == 0
    told = fills.told(slot=120_000)
    fills.deliver(house, job["id"], told)
    streams = sum(sum(one.up) + sum(one.down) for one in told.phases)
    assert streams == 2 * 80 * 120_000
    assert left(house) == 50_000_000 - round(beside + streams)
    set_site(house, metered_mb=20)
    assert "0.0 MB are left" in fills.ask(house).json["detail"]


def test_a_fill_that_failed_counts_as_far_as_it_was_told(house: House) -> None:
    set_site(house, metered_mb=50)
    job = fills.taken(house, ways=["up", "down"])
    house.probe(
        "POST", f"/api/probe/jobs/{job['id']}/failure", json={"reason": "No call could be placed.", "code": "own"}
    )
    beside = 2 * CALL_S * read(FillArguments, job["arguments"]).fill.length_s
    assert left(house) == 50_000_000 - round(beside)


def test_a_line_that_is_not_metered_keeps_fills_as_they_are(house: House) -> None:
    job = fills.taken(house)
    assert "most_bytes" not in job["arguments"]["fill"]
    db = connect(house.folder)
    asked = FillAsked(1, "g711a", 20, FillPlan())
    site = site_store.site_by_id(db, 1)
    assert metered.within_allowance(db, site, asked, datetime.now(LONDON)) == asked
    # Where nothing is left a byte is, because none would mean no bound.
    spent = replace(site, metered_mb=0)
    assert metered.within_allowance(db, spent, asked, datetime.now(LONDON)).plan.most_bytes == 1


def test_small_packets_count_each_way_they_are_sent(house: House) -> None:
    plan = FlowPlan(97, 500, 10)  # 125 bytes at IP
    assert metered.flow_bytes(plan) == pytest.approx(2 * 500 * 10 * 125)
    assert metered.flow_bytes(replace(plan, direction="down")) == pytest.approx(500 * 10 * 125)
    flows.heartbeat(house)
    set_site(house, metered_mb=2, ceiling_pct=None)
    assert flows.ask(house, packet_bytes=97, packets_per_s=500, seconds=10).status_code == 200
    flows.heartbeat(house)
    assert left(house) == 2_000_000 - 1_250_000
    house.post(f"{flows.PATH}/{flows.newest(house)['id']}/stop", {})


def test_a_plan_that_moves_more_than_a_day_allows_is_spoken_against(house: House) -> None:
    house.heartbeat()
    set_site(house, metered_mb=5)
    plan = {"name": "noon", "when": "draft", "shape": "hold", "calls": 5, "call_s": 60, "probe_id": 1, "far_end_id": 1,
            "codec": "g711a", "ptime_ms": 20}  # fmt: skip

    def problems(**changes: Any) -> str:
        answer = house.post("/api/sites/pier/plans/check", {**plan, **changes})
        assert answer.status_code == 200, answer.text
        return " ".join(one["words"] for one in answer.json["problems"])

    assert "It moves 6 MB; on this metered line loads may move 5 MB in a day." in problems()
    assert "metered" not in problems(call_s=30)
    set_site(house, metered_mb=None)
    assert "metered" not in problems()


def test_a_browser_fills_a_line_where_more_is_left_than_its_calls_take(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    site, plan, db = set_site(house, metered_mb=50), FillPlan(), connect(house.folder)
    browser, calls_take = probe_store.probe_by_id(db, 1), metered.beside_bytes(site, plan)
    for kept, refused in ((calls_take - 1, True), (calls_take, True), (calls_take + 1, False)):
        monkeypatch.setattr(rules, "left_bytes", lambda *_, kept=kept: kept)
        reason = rules.against_browser_filling(db, site, browser, plan, datetime.now(LONDON))
        assert (reason is not None and reason.code == "metered") is refused
