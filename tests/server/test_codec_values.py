"""Planning values a consultant replaces: what is judged by them, again and from then on, and what stands."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from typing import Any

import pytest

from tarnfell.clerk import loop
from tarnfell.core.codecs import find_codec
from tarnfell.exchange.writing import write_capture
from tarnfell.store import calls as call_store
from tarnfell.store import codecs as codec_store
from tarnfell.store import imports as import_store
from tarnfell.store import runs as run_store
from tarnfell.store.db import connect, writing
from tarnfell.store.members import adopt
from tarnfell.work.ingest import deliveries, uploads
from tarnfell.work.ingest.again import pass_on_codec_change
from tests.exchange.test_capture import packets
from tests.server.conftest import House, record_file
from tests.server.test_imports import bring, shown
from tests.server.test_runs import deliver, taken

PATH = "/api/engagements/customer/codecs"
OWN = {"ie": 12.0, "bpl": 10.0, "why": "Measured by the vendor, letter of March"}


def put(house: House, name: str, **changes: Any) -> Any:
    return house.person.put(f"{PATH}/{name}", json={**OWN, **changes}, headers={"X-CSRF-Token": house.csrf})


def value(page: dict[str, Any], name: str) -> dict[str, Any]:
    return next(v for v in page["codecs"] if v["name"] == name)


def mos_of(house: House, run_id: int) -> list[float]:
    calls = house.person.get(f"/api/runs/{run_id}/calls").json["calls"]
    return [c[side]["mos"] for c in calls for side in ("up", "down")]


def judge_all(house: House) -> None:
    db = connect(house.folder)
    loop.judge_stale(db, for_s=60)
    db.close()


def done(house: House, **record: Any) -> int:
    run_id = taken(house, codec="opus-24")
    assert deliver(house, run_id, record_file(**record)).status_code == 200
    return run_id


def test_every_codec_says_its_standing_and_what_it_makes_of_loss(house: House) -> None:
    page = house.person.get(PATH).json
    g711, opus = value(page, "g711a"), value(page, "opus-24")
    assert (g711["origin"], opus["origin"]) == ("published", "planning")
    assert g711["mos"] == sorted(g711["mos"], reverse=True)
    # G.107 with no loss and 100 ms: R 91.0 by the reference values.
    assert g711["mos"][0] == pytest.approx(4.36, abs=0.02)


def test_what_was_measured_is_judged_again_from_its_packets(house: House) -> None:
    run_id = done(house, lost=(10, 30, 50, 70, 90))
    before = mos_of(house, run_id)
    verdict = house.person.get("/api/sites/pier").json["share"]
    page = put(house, "opus-24", ie=60.0).json
    changed = value(page, "opus-24")
    assert (changed["origin"], changed["source"], changed["ie"]) == ("own", OWN["why"], 60.0)
    assert (changed["runs"], changed["stale"]) == (1, 1)
    judge_all(house)
    assert value(house.person.get(PATH).json, "opus-24")["stale"] == 0
    after = mos_of(house, run_id)
    assert all(new < old - 0.5 for new, old in zip(after, before, strict=True))
    # The verdict follows, although no call was added.
    assert house.person.get("/api/sites/pier").json["share"]["good"] < verdict["good"]
    # What a call shows, judged for its own page, agrees with what was written.
    call = house.person.get(f"/api/runs/{run_id}/calls").json["calls"][0]["id"]
    assert house.person.get(f"/api/calls/{call}").json["up"]["figures"]["mos"] == pytest.approx(after[0])

    back = house.person.delete(f"{PATH}/opus-24", headers={"X-CSRF-Token": house.csrf}).json
    assert value(back, "opus-24")["origin"] == "planning"
    judge_all(house)
    assert mos_of(house, run_id) == before


def test_what_comes_later_is_judged_by_them_at_once(house: House) -> None:
    plain = mos_of(house, done(house))
    put(house, "opus-24", ie=60.0)
    judge_all(house)
    assert max(mos_of(house, done(house))) < min(plain) - 0.5


def test_changed_while_an_upload_was_being_judged_it_is_judged_once_more(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = uploads.judge_upload

    def meanwhile(*given: Any) -> Any:
        judged = real(*given)
        db = connect(house.folder)
        with writing(db):
            changed = codec_store.codecs_of(db, 1)[0]
            assert changed.name == "g711u"
            db.execute("INSERT INTO codec_value VALUES (1, 'opus-24', 60, 10, 'new', NULL, 1)")
        db.close()
        return judged

    monkeypatch.setattr(deliveries, "judge_upload", meanwhile)
    monkeypatch.setattr(loop, "judge_stale", lambda *_: None)
    run_id = done(house)
    monkeypatch.undo()
    early = mos_of(house, run_id)
    assert value(house.person.get(PATH).json, "opus-24")["stale"] == 1
    judge_all(house)
    assert max(mos_of(house, run_id)) < min(early) - 0.5


def test_changed_again_while_judging_nothing_old_is_written(house: House) -> None:
    run_id = done(house)
    before = mos_of(house, run_id)
    db = connect(house.folder)
    run = run_store.run_by_id(db, run_id)
    stale = codec_store.codec_of_site(db, run.site_id, run.codec)
    fresh = uploads.judge_again(call_store.calls_of_run(db, run.id), [], run, stale, [])
    put(house, "opus-24", ie=60.0)
    with writing(db):
        call_store.replace_figures(db, run, fresh)
    assert mos_of(house, run_id) == before
    assert value(house.person.get(PATH).json, "opus-24")["stale"] == 1


def test_only_this_engagement_and_this_codec(house: House) -> None:
    db: sqlite3.Connection = connect(house.folder)
    with writing(db):
        db.execute("INSERT INTO engagement (slug, name, created_us) VALUES ('other', 'Other', 1)")
        adopt(db, 1)
    put(house, "opus-24")
    other = house.person.get("/api/engagements/other/codecs").json
    assert value(other, "opus-24")["origin"] == "planning"
    assert codec_store.codec_of_site(db, 1, "g711a") == find_codec("g711a")
    assert house.person.get("/api/codecs").json["codecs"] != []
    listed = house.person.get("/api/codecs?engagement=customer").json["codecs"]
    assert next(c for c in listed if c["name"] == "opus-24")["ie"] == OWN["ie"]


@pytest.mark.parametrize(
    ("name", "changes", "words"),
    [
        ("g711a", {}, "published"),
        ("opus-24", {"ie": -1}, "Ie -1 is not valid"),
        ("opus-24", {"ie": 96}, "Ie 96 is not valid"),
        ("opus-24", {"bpl": 0}, "Bpl 0 is not valid"),
        ("opus-24", {"why": "  "}, "Say where these values come from"),
        ("no-such", {}, "no-such"),
    ],
)
def test_what_cannot_be_gets_a_sentence(house: House, name: str, changes: dict[str, Any], words: str) -> None:
    answer = put(house, name, **changes)
    assert answer.status_code == 422
    assert words in answer.json["detail"]
    assert value(house.person.get(PATH).json, "opus-24")["origin"] == "planning"


def test_the_report_says_whose_values_they_are(house: House) -> None:
    db = connect(house.folder)
    with writing(db):
        db.execute("UPDATE site SET codec = 'opus-24'")
    done(house)
    assert "planning values" in house.person.get("/api/sites/pier/report.html").text
    put(house, "opus-24")
    text = house.person.get("/api/sites/pier/report.html").text
    assert "the consultant’s own values: Measured by the vendor, letter of March" in text


def test_imported_streams_of_the_codec_are_judged_again(house: House) -> None:
    body = write_capture(packets(kind=111, step=960, lost=tuple(range(100, 140))))
    number = bring(house, body, codec="opus-24").json["id"]
    other = bring(house, write_capture(packets(lost=(1, 2, 3))), "other.pcap").json["id"]

    def mos(of: int) -> float:
        return float(shown(house, of)["streams"][0]["mos"])

    before, untouched = mos(number), mos(other)
    db = connect(house.folder)
    put(house, "opus-24", ie=60.0)
    assert pass_on_codec_change(db)
    assert [row[0] for row in db.execute("SELECT id FROM imported WHERE stale = 1")] == [number]
    judge_all(house)
    assert mos(number) < before - 0.5
    assert mos(other) == untouched
    assert connect(house.folder).execute("SELECT sum(stale) FROM imported").fetchone()[0] == 0
    house.person.delete(f"{PATH}/opus-24", headers={"X-CSRF-Token": house.csrf})
    judge_all(house)
    assert mos(number) == before


def test_what_is_said_of_a_file_while_it_is_read_anew_is_not_lost(house: House) -> None:
    bring(house, write_capture(packets(kind=111, step=960)), codec="opus-24")
    put(house, "opus-24", ie=60.0)
    db = connect(house.folder)
    assert pass_on_codec_change(db)
    one = import_store.stale_import(db)
    assert one is not None
    import_store.change_import(db, one.id, one.name, replace(one.choices, shown=True), one.result)
    import_store.replace_result(db, one, replace(one.result, packets=-1))
    again = import_store.stale_import(db)
    assert again is not None
    assert (again.result.packets, again.choices.shown) == (one.result.packets, True)
