"""The watch of a site by its API: whom to ask, days by leg, episodes with calls, the minute bench."""

from __future__ import annotations

import io
import json
from dataclasses import replace
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from tarnfell.core.days.rounds import Rounds
from tarnfell.exchange.samples import read_samples
from tarnfell.store import cells as cell_store
from tarnfell.store import checks as check_store
from tarnfell.store import jobs as job_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.checks import Wish
from tarnfell.store.db import connect, now_us, writing
from tarnfell.store.sites import Blackout
from tarnfell.wire.kinds.check import CheckResult, EchoFacts, NameFacts, ServiceAsked, ServiceFacts, StackFacts
from tarnfell.wire.kinds.fields import plain
from tarnfell.wire.kinds.services import ServicesResult
from tarnfell.wire.kinds.watch import EchoTarget
from tarnfell.work.watch.packing import pack_next
from tarnfell.work.watch.reading import kept_reading, read_next
from tarnfell.work.watch.sheet import newest
from tests.core.days.weeks import Week, hours
from tests.server.conftest import House
from tests.work.watched import batches_of

LATER = 4_000_000_000_000_000
HOUR_US = 3_600_000_000


def page(house: House, **query: Any) -> Any:
    return house.person.get("/api/sites/pier/watch", query_string=query).json


def bench(house: House, from_us: float, until_us: float, probe: int = 1) -> Any:
    query = {"probe": probe, "from_us": int(from_us), "until_us": int(until_us)}
    return house.person.get("/api/sites/pier/watch/bench", query_string=query)


def put(house: House, wish: dict[str, Any]) -> Any:
    return house.person.put("/api/sites/pier/probes/1/watch", json=wish, headers={"X-CSRF-Token": house.csrf})


def watched(house: House, week: Week, seconds: float, from_s: float = 0) -> Rounds:
    """The first part of a week in the database, packed and read."""
    db = connect(house.folder)
    rounds = week.rounds()
    own = week.among(from_s, from_s + seconds)
    part = Rounds(rounds.places, rounds.at_us[own], rounds.sent[:, own], rounds.rtt_ms[:, own], rounds.interval_us)
    with writing(db):
        watch_store.want(db, 1, 1, 1000, 46, None)
        watch_store.keep(db, batches_of(part, each=100, large_every=5))
    while pack_next(db, LATER):
        pass
    assert read_next(db, now_us())
    return part


def test_a_watch_is_proposed_from_what_the_check_found(house: House) -> None:
    (probe,) = page(house)["probes"]
    assert probe["proposed"] == [{"role": "gateway", "address": ""}]
    assert (probe["watch"], page(house)["watched"]) == (None, None)
    db = connect(house.folder)
    site_id = db.execute("SELECT id FROM site").fetchone()[0]
    stack = StackFacts((), None, None, None, None, ())
    outside = EchoFacts("outside", "203.0.113.53", 64, 1, 1, (9.0,))
    result = plain(CheckResult("192.0.2.10", stack, edge="198.51.100.1", echoes=(outside,)))
    job = job_store.ask(db, site_id, 1, "check", None, {"far_end_id": 1})
    db.execute("UPDATE job SET state = 'done', result = ? WHERE id = ?", (json.dumps(result), job))
    assert [(one["role"], one["address"]) for one in page(house)["probes"][0]["proposed"]] == [
        ("gateway", ""), ("edge", "198.51.100.1"), ("outside", "203.0.113.53"),
    ]  # fmt: skip
    check_store.keep_wish(db, site_id, Wish(gateway="192.0.2.1", edge="198.51.100.7", outside=("203.0.113.99",)))
    assert [one["address"] for one in page(house)["probes"][0]["proposed"]] == [
        "192.0.2.1", "198.51.100.7", "203.0.113.99",
    ]  # fmt: skip


def test_places_are_asked_for_by_their_address(house: House) -> None:
    wish = {"far_end_id": 1, "large_every": 5, "echoes": [
        {"role": "gateway"}, {"role": "edge", "address": " 198.51.100.1 "},
        {"role": "outside", "address": "2001:db8::1"},
    ]}  # fmt: skip
    assert put(house, wish).status_code == 200
    told = house.probe("POST", "/api/probe/heartbeat", json={"kinds": [], "environment": None, "holds": []}).json[
        "watch"
    ]
    assert told["echoes"] == [
        {"role": "gateway"}, {"role": "edge", "address": "198.51.100.1"}, {"role": "outside", "address": "2001:db8::1"},
    ]  # fmt: skip
    assert told["large_every"] == 5
    shown = page(house)["probes"][0]["watch"]
    assert [one["address"] for one in shown["echoes"]] == ["", "198.51.100.1", "2001:db8::1"]
    for address in ("edge.example", "", "300.1.1.1"):
        answer = put(house, {"far_end_id": 1, "echoes": [{"role": "edge", "address": address}]})
        assert (answer.status_code, "is no address" in answer.json["detail"]) == (422, True)
    nine = [{"role": "outside", "address": "192.0.2.1"}] * 9
    assert put(house, {"far_end_id": 1, "echoes": nine}).status_code == 422


def test_days_by_leg_in_the_sites_own_cells(house: House) -> None:
    week = Week(5, days=2)
    week.queues("line", hours(0, 23.5), 900, 220)
    week.outage("inside", hours(1, 0.5), 600)
    watched(house, week, 2 * 3600, hours(0, 23))
    shown = page(house, measure="added")["watched"]
    assert [day["day"] for day in shown["days"]] == ["2026-03-02", "2026-03-03"]
    first, second = shown["days"]
    added = {row["leg"]: row["values"] for row in first["rows"]}
    assert list(added) == ["inside", "line", "beyond"]
    assert first["at_us"][138] == (1772409600 + 23 * 3600) * 1_000_000  # 23:00 in London on the 2nd of March
    assert [cell for cell, value in enumerate(added["line"]) if value is not None] == list(range(138, 144))
    assert [value > 100 for value in added["line"][138:]] == [False, False, False, True, True, False]
    assert max(added["beyond"][138:]) < 20
    assert second["rows"][0]["values"][3] is None
    lost = page(house, measure="loss")["watched"]["days"][1]["rows"][0]
    assert (lost["leg"], lost["values"][3]) == ("inside", 100)
    assert lost["values"][2] < 1
    assert second["at_us"][6] is None
    assert [(one["leg"], one["kind"]) for one in shown["episodes"]] == [("inside", "outage"), ("line", "delay")]
    assert [day["day"] for day in page(house, days=1)["watched"]["days"]] == ["2026-03-03"]
    assert page(house, probe=2)["watched"] is None


def test_parts_of_the_day_are_compared_over_the_days_that_are_shown(house: House) -> None:
    week = Week(5, days=2)
    week.outage("inside", hours(1, 0.5), 600)
    part = watched(house, week, 2 * 3600, hours(0, 23))
    shown = page(house, days=2)["watched"]["compared"]
    true = {
        (place.role, 12, int(sent.sum()), int((sent & np.isnan(rtt_ms)).sum()))
        for place, sent, rtt_ms in zip(part.places, part.sent, part.rtt_ms, strict=True)
    }
    told = {
        (one["role"], *(sum(of_day[name] for of_day in one["parts"]) for name in ("stretches", "sent", "lost")))
        for one in shown
    }
    assert told == true
    assert min(lost for _, _, _, lost in told) > 500
    # The hour before midnight is none of the one day that is shown.
    assert [len(one["parts"]) for one in page(house, days=1)["watched"]["compared"]] == [1] * len(shown)
    db, zone = connect(house.folder), ZoneInfo("Europe/London")
    reading = kept_reading(db, 1)
    assert reading is not None
    begun_us = reading.until_us // HOUR_US * HOUR_US - 2 * HOUR_US
    for days, until_h, stretches in ((1, 2, 6), (2, 2, 12), (2, 48, 12), (2, 48.5, 9), (2, 49, 6), (2, 50.5, 0)):
        later = replace(reading, until_us=int(begun_us + until_h * HOUR_US))
        assert len(newest(db, 1, later, days, zone).start_us) == stretches, (days, until_h)


def test_days_by_what_calls_would_have_had(house: House) -> None:
    week = Week(5, days=2)
    week.queues("line", hours(0, 23.5), 900, 220)
    week.outage("inside", hours(1, 0.5), 600)
    watched(house, week, 2 * 3600, hours(0, 23))
    first, second = page(house)["watched"]["days"]
    mos = {row["leg"]: row["values"] for row in first["rows"]}
    calm = mos["inside"][138]
    assert calm > 4.3
    assert [value < 4 for value in mos["line"][138:]] == [False, False, False, True, True, False]
    assert set(mos["beyond"][138:]) == {calm}
    # The outage from 00:30 to 00:40; nothing of it is the line's.
    assert [row["values"][3] for row in second["rows"]] == [1, calm, calm]
    assert second["rows"][0]["values"][6] is None


def test_days_of_one_place(house: House) -> None:
    week = Week(5, days=2)
    week.queues("line", hours(0, 23.5), 900, 220)
    rounds = watched(house, week, 2 * 3600, hours(0, 23))
    gateway, far = (
        next(i for i, place in enumerate(page(house)["watched"]["reading"]["places"]) if place["role"] == role)
        for role in ("gateway", "far-end")
    )
    rtt = rounds.rtt_ms[[place.role for place in rounds.places].index("far-end")][:600]

    def shown(place: int, measure: str) -> Any:
        return page(house, place=place, measure=measure)["watched"]["days"][0]["rows"]

    (delay,), (jitter,) = shown(far, "delay"), shown(far, "jitter")
    assert delay["leg"] is None
    assert delay["values"][138] == pytest.approx(np.nanmedian(rtt), rel=0.01)
    assert jitter["values"][138] == pytest.approx(np.nanpercentile(rtt, 95) - np.nanmedian(rtt), abs=0.4)
    assert delay["values"][141] > 100 > shown(gateway, "delay")[0]["values"][141]
    assert shown(far, "loss")[0]["values"][138] < 1
    for query, status in (
        ({"measure": "delay"}, 422), ({"measure": "mos", "place": far}, 422), ({"measure": "loss", "place": 60}, 404),
    ):  # fmt: skip
        assert house.person.get("/api/sites/pier/watch", query_string=query).status_code == status


def test_days_of_names_and_services(house: House) -> None:
    week = Week(5, days=2)
    watched(house, week, 2 * 3600, hours(0, 23))
    assert page(house)["watched"]["asks_services"] is False
    meet = ServiceAsked("Meetings", "meet.example", 443, "tls")
    begun = 1_772_492_400_000_000  # 23:00 in London on the 2nd of March
    db = connect(house.folder)
    for minute, state, took_ms in ((0, "open", 30.0), (5, "open", 50.0), (10, "filtered", None), (15, "open", 40.0)):
        job = job_store.add(db, 1, 1, "services", "Requested.", at_us=begun + minute * 60_000_000)
        job_store.move(db, job, "taken", "", begun + minute * 60_000_000)
        job_store.move(db, job, "running", "", begun + minute * 60_000_000)
        name = NameFacts("192.0.2.53", "meet.example", "udp", 9.0, 0 if minute < 15 else 3)
        result = plain(ServicesResult((name,), (ServiceFacts(meet, state, took_ms),)))  # type: ignore[arg-type]
        for _ in range(2):
            told = house.probe("POST", f"/api/probe/commands/{job}/outcome", json={"result": result})
            assert told.status_code == 200, told.text
    shown = page(house, measure="unanswered")["watched"]
    assert shown["asks_services"] is True
    (first,) = shown["days"]
    rows = {row["name"]: row["values"] for row in first["rows"]}
    assert list(rows) == ["Meetings", "meet.example by 192.0.2.53"]
    assert rows["Meetings"][137:141] == [None, 0, 50, None]
    assert rows["meet.example by 192.0.2.53"][138:140] == [0, 50]
    assert first["at_us"][138] == begun
    (answers,) = page(house, measure="answer")["watched"]["days"]
    assert answers["rows"][0]["values"][138:140] == [50, 40]


def test_loads_that_somebody_placed_stand_on_the_days(house: House) -> None:
    week = Week(5, days=2)
    rounds = watched(house, week, 2 * 3600, hours(0, 23))
    db = connect(house.folder)
    begun = int(rounds.at_us[600])
    spec = run_store.RunSpec(1, 1, 1, "g711a", 20, 2, 10, 46)
    runs = (
        ("placed", begun + 60_000_000), ("placed", begun), ("watch", begun + 700_000_000),
        ("placed", begun - 9 * 86_400_000_000),
    )  # fmt: skip
    for purpose, at_us in runs:
        run = run_store.add_run(db, replace(spec, purpose=purpose), "x", at_us)
        job_store.move(db, run.id, "taken", "", at_us)
        job_store.move(db, run.id, "running", "", at_us)
        job_store.move(db, run.id, "failed", "", at_us + 10_000_000)
    job = job_store.add(db, 1, 1, "fill", "x", at_us=begun)
    job_store.move(db, job, "taken", "", begun)
    job_store.move(db, job, "running", "", begun + 1_200_000_000)
    site_store.change_site(db, 1, blackouts=(Blackout("6", 60, 120, "backup"),))
    shown = page(house)
    assert [us - begun for us in shown["loads_us"]] == [0, 1_200_000_000]
    assert shown["blackouts"] == [{"days": "6", "from_minute": 60, "to_minute": 120, "why": "backup"}]
    assert len(page(house, days=30)["loads_us"]) == 3


def test_the_path_is_told_leg_by_leg_from_business_hours(house: House) -> None:
    week = Week(5, days=2)
    week.queues("line", hours(0, 10), 3000, 220)
    week.outage("inside", hours(0, 3), 1800)
    watched(house, week, 10 * 3600, hours(0, 2))
    path = house.person.get("/api/sites/pier").json["path"]
    watched_ = path["watched"]
    inside, line, beyond = watched_["legs"]
    assert [one["leg"] for one in watched_["legs"]] == ["inside", "line", "beyond"]
    # From eight to noon, in cells of ten minutes; the outage at three is not among them.
    assert (watched_["moments"], watched_["in_business_hours"], watched_["untold_s"]) == (24, True, 0)
    assert inside["up_mos"] == inside["down_mos"] == beyond["up_mos"] > 4.3
    assert line["up_mos"] < 4 > line["down_mos"]
    assert inside["spoiled_s"] == pytest.approx(1800, abs=5)
    assert line["spoiled_s"] == pytest.approx(3000, abs=60)
    assert path["up"]["mos_p10"] is None
    brief = house.person.get("/api/sites/pier/brief").json["form"] | {"open_minute": 120, "close_minute": 240}
    assert (
        house.person.put("/api/sites/pier/brief", json=brief, headers={"X-CSRF-Token": house.csrf}).status_code == 200
    )
    assert read_next(connect(house.folder), LATER)
    again = house.person.get("/api/sites/pier").json["path"]["watched"]
    assert again["moments"] == 12
    assert again["legs"][1]["up_mos"] > 4.3 > again["legs"][0]["up_mos"]


def test_an_episode_tells_what_calls_in_it_came_to(house: House) -> None:
    week = Week(5, days=1)
    week.outage("line", 1200, 300)
    watched(house, week, 3600)
    (one,) = page(house)["watched"]["episodes"]
    assert (one["calls"], one["calls_below"]) == (0, 0)


@pytest.mark.parametrize(
    ("span_s", "step", "count"),
    [
        (1200, "round", 1200),
        (1201, "minute", 60),
        (15 * 86_400, "ten minutes", 6),
        (15 * 86_400 + 1, "hour", 1),
    ],
)
def test_the_bench_is_as_fine_as_its_span_allows(house: House, span_s: int, step: str, count: int) -> None:
    week = Week(5, days=1)
    week.outage("line", 600, 120)
    rounds = watched(house, week, 3600)
    start = int(rounds.at_us[0])
    from_us = start if span_s < 2000 else start - HOUR_US
    told = bench(house, from_us, from_us + (span_s if span_s != 1201 else 7200) * 1_000_000).json["bench"]
    assert (told["step"], len(told["at_us"])) == (step, count)
    lanes = {lane["name"]: lane for lane in told["lanes"]}
    assert list(lanes) == ["far", "192.0.2.1", "198.51.100.1", "203.0.113.53", "203.0.113.99"]
    gateway, edge = lanes["192.0.2.1"], lanes["198.51.100.1"]
    seconds = min(1200, 3600) if step == "round" else 3600
    own = slice(0, seconds)
    assert sum(gateway["sent"]) == seconds
    assert sum(edge["lost"]) == int(np.isnan(rounds.rtt_ms[1, own]).sum())
    known = [value for value in edge["min_ms"] if value is not None]
    assert min(known) == pytest.approx(float(np.nanmin(rounds.rtt_ms[1, own])), rel=0.004)
    assert max(value for value in edge["max_ms"] if value is not None) == pytest.approx(
        float(np.nanmax(rounds.rtt_ms[1, own])), rel=0.004
    )
    if step in ("round", "minute"):
        assert None in edge["p50_ms"]


def test_the_bench_knows_its_bounds(house: House) -> None:
    assert bench(house, 0, 5).status_code == 404
    rounds = watched(house, Week(5, days=1), 600)
    start = int(rounds.at_us[0])
    assert bench(house, start + 5, start + 5).status_code == 422
    assert "up to 92 days" in bench(house, start, start + 93 * 86_400_000_000).json["detail"]
    empty = bench(house, start - HOUR_US, start - HOUR_US + 60_000_000).json["bench"]
    assert (empty["at_us"], empty["lanes"]) == ([], [])
    some = bench(house, start + 60_000_000, start + 120_000_000).json["bench"]
    assert (some["at_us"][0], some["at_us"][-1]) == (start + 60_000_000, start + 119_000_000)


def test_load_of_our_own_is_marked_on_the_bench(house: House) -> None:
    rounds = watched(house, Week(5, days=1), 60)
    db = connect(house.folder)
    (cell,) = cell_store.cells_between(db, 1, 0, LATER)
    from tarnfell.work.watch import cells

    part = cells.unpacked(cell)
    part.beside[10:20] = 7
    cell_store.keep_packed(db, [cells.packed(1, cell.start_us, part)], [])
    told = bench(house, rounds.at_us[0], rounds.at_us[0] + 60_000_000).json["bench"]
    assert told["beside_us"] == [[int(rounds.at_us[10]), int(rounds.at_us[19])]]


def test_echoes_are_kept_as_the_probe_reads_them(house: House) -> None:
    db = connect(house.folder)
    watch_store.want(db, 1, 1, 1000, 46, None, (EchoTarget("gateway"), EchoTarget("edge", "198.51.100.1")), 5)
    watch = watch_store.watch_of(db, 1)
    assert watch is not None
    assert watch.places == (EchoTarget("gateway"), EchoTarget("edge", "198.51.100.1"))
    assert plain(watch.places[0]) == {"role": "gateway"}


def test_a_span_of_samples_is_a_file_that_is_analysed_like_any(house: House) -> None:
    week = Week(5, days=1)
    week.outage("line", 600, 120)
    rounds = watched(house, week, 1500)
    start = int(rounds.at_us[0])
    query = {"probe": 1, "from_us": start + 300_000_000, "until_us": start + 1_200_000_000}
    answer = house.person.get("/api/sites/pier/watch/samples.csv", query_string=query)
    assert answer.mimetype == "text/csv"
    lines = answer.text.splitlines()
    assert lines[0] == "at,target,role,rtt_ms,large,beside"
    assert lines[1].startswith("2026-03-02T00:05:00.000Z,far,far-end,")
    assert len(lines) == 1 + 900 * 5
    assert sum(line.split(",")[4] == "1" for line in lines[1:]) == 180 * 4
    read = read_samples(io.StringIO(answer.text))
    assert [place.name for place in read.places] == [
        "192.0.2.1", "198.51.100.1", "203.0.113.53", "203.0.113.99", "far",
    ]  # fmt: skip
    assert read.sent[0].sum() == 720  # without the large ones
    assert read.sent[4].sum() == 900
    own = slice(300, 1200)
    assert np.allclose(read.rtt_ms[4], rounds.rtt_ms[4, own], rtol=0.003, equal_nan=True)
    for span in (0, 86_400_000_001):
        query["until_us"] = query["from_us"] + span
        assert house.person.get("/api/sites/pier/watch/samples.csv", query_string=query).status_code == 422
    query["probe"] = 2
    assert house.person.get("/api/sites/pier/watch/samples.csv", query_string=query).status_code == 404


def test_remedies_that_were_marked_are_on_the_sheet(house: House) -> None:
    assert house.person.get("/api/sites/pier/watch").json["remedies"] == []
    for at, words in (("2026-07-03T12:00", "a larger line"), ("2026-11-03T12:00", "fair queueing")):
        body = {"at_local": at, "words": words, "set_aside": False}
        assert house.post("/api/sites/pier/remedies", body).status_code == 200
    assert house.person.get("/api/sites/pier/watch").json["remedies"] == [
        {"at_us": 1_793_707_200_000_000, "words": "fair queueing"},
        {"at_us": 1_783_076_400_000_000, "words": "a larger line"},
    ]
