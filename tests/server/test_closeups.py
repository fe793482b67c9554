"""Calls and video streams with more packets than are judged in a request: judged by the clerk, to the same figures."""

from __future__ import annotations

import sqlite3
from typing import Any

import pytest

from tarnfell.clerk import loop
from tarnfell.core.video import find_profile
from tarnfell.server.http.api import Problem
from tarnfell.store import tasks
from tarnfell.store.db import connect, writing
from tarnfell.store.files import MADE
from tarnfell.store.lock import only_one
from tarnfell.wire import WireError
from tarnfell.wire.record import Record, split_parts
from tarnfell.work import answers, making
from tarnfell.work.closeup.call import CallLook
from tarnfell.work.closeup.video import VideoLook
from tarnfell.work.ingest.packets import packets_in
from tests.server.conftest import House, record_file
from tests.server.test_hearing import queued_file
from tests.server.test_report_sound import choose, sounds_in
from tests.server.test_runs import taken
from tests.server.test_videos import upload

FEW = 100
"""More than that is many, in these tests: the calls have 100 packets each way."""


@pytest.fixture
def call(house: House) -> int:
    """A queue stands in it, and three packets are lost."""
    run_id = taken(house)
    assert house.deliver(run_id, queued_file()).status_code == 200
    return int(house.person.get(f"/api/runs/{run_id}/calls").json["calls"][0]["id"])


@pytest.fixture
def db(house: House) -> sqlite3.Connection:
    return connect(house.folder)


def get(house: House, path: str) -> dict[str, Any]:
    answer = house.person.get(path)
    assert answer.status_code == 200, answer.text
    return dict(answer.json)


def open_tasks(db: sqlite3.Connection) -> list[str]:
    return [row[0] for row in db.execute("SELECT mark FROM task WHERE state IN ('waiting', 'being made') ORDER BY id")]


def many(monkeypatch: pytest.MonkeyPatch) -> None:
    for look in (CallLook, VideoLook):
        monkeypatch.setattr(look, "at_once", FEW)


@pytest.mark.parametrize("asked", ["", "?buffer_ms=250&codec=g729a", "?buffer_ms=40&adaptive=true"])
def test_a_long_call_is_judged_by_the_clerk_as_a_short_one_is_at_once(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch, asked: str
) -> None:
    path, sound = f"/api/calls/{call}{asked}", f"/api/calls/{call}/up.wav{asked}"
    at_once, heard = get(house, path), house.person.get(sound).data
    assert at_once["up"]["sound"]["missed"] > 0
    monkeypatch.setattr(CallLook, "at_once", 199)  # it has 200
    first = get(house, path)
    assert (first["long"], first["up"], first["down"], first["number"]) == (True, None, None, 1)
    assert first["awaited"]["packets"] == 200
    assert (first["awaited"]["held_up"], "clerk is not at work" in first["awaited"]["words"]) == (True, True)
    with only_one(house.folder, "clerk"):
        again = get(house, path)["awaited"]
        assert (again["words"], again["held_up"], again["given_up"]) == ("Waiting for its turn.", False, False)
    early = house.person.get(sound)
    assert (early.status_code, "200 packets are being judged" in early.json["detail"]) == (409, True)
    assert len(open_tasks(db)) == 1
    loop.answer(db)
    assert get(house, path) == {**at_once, "long": True}
    assert house.person.get(sound).data == heard
    # As the page asks for its sound: with what it was judged by, said or not.
    said = "&".join(f"{name}={at_once[name]}" for name in ("buffer_ms", "adaptive")) + f"&codec={at_once['judged_as']}"
    assert house.person.get(f"/api/calls/{call}/up.wav?{said}").data == heard
    assert open_tasks(db) == []
    monkeypatch.setattr(CallLook, "at_once", 200)
    assert get(house, path) == at_once


def test_a_long_stream_is_judged_by_the_clerk_as_a_short_one_is_at_once(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch
) -> None:
    run = taken(house, seconds=4, video=[{"profile": "360p", "streams": 2, "dscp": 34}])
    house.deliver(run, upload(lost_up=(100, 101)))
    path = f"/api/videos/{get(house, f'/api/runs/{run}')['streams'][0]['id']}"
    at_once, other = get(house, path), get(house, f"{path}?refresh=interval")
    assert at_once != other
    many(monkeypatch)
    assert [get(house, one)["up"] for one in (path, f"{path}?refresh=interval")] == [None, None]
    loop.answer(db)
    # The one asked for last is what somebody waits for: what they asked for before was not begun.
    assert get(house, f"{path}?refresh=interval") == {**other, "long": True}
    assert get(house, path)["awaited"] is not None
    loop.answer(db)
    assert get(house, path) == {**at_once, "long": True}


@pytest.mark.parametrize(
    "change",
    ["UPDATE site SET up_kbps = 4000", "UPDATE site SET down_kbps = 4000", "UPDATE run SET clock_relation = NULL"],
)
def test_what_a_stream_follows_from_has_changed(
    house: House, db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch, change: str
) -> None:
    many(monkeypatch)
    run = taken(house, seconds=4, calls=1, video=[{"profile": "360p", "streams": 1, "dscp": 34}])
    profile = find_profile("360p")
    half_a_second = profile.packets_in(round(2.5 * profile.frames_per_s))
    house.deliver(run, upload(calls=1, streams=1, packets=half_a_second))
    path = f"/api/videos/{get(house, f'/api/runs/{run}')['streams'][0]['id']}"
    get(house, path)
    loop.answer(db)
    told = get(house, path)
    assert (told["up"]["seconds"], [one["frames"] for one in told["up"]["stretches"]]) == (3, [25, 25, 12])
    with writing(db):
        db.execute(change)
    assert get(house, path)["awaited"] is not None
    loop.answer(db)
    assert get(house, path) == told


def test_what_a_slider_passed_is_not_made(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    many(monkeypatch)
    other = call + 1
    with writing(db):
        another_person = tasks.ask(db, "close-up of a call", f"{call} elsewhere", None, site_id=1)
        mine = db.execute("SELECT id FROM user").fetchone()[0]
        longer_number = tasks.ask(db, "close-up of a call", f"{call}0 mine", mine, site_id=1)
    for path in (f"{other}", f"{call}?buffer_ms=80", f"{call}?buffer_ms=100"):
        get(house, f"/api/calls/{path}")
    waiting = open_tasks(db)
    assert waiting[:2] == [another_person.mark, longer_number.mark]
    assert [one.split(" ")[0] for one in waiting[2:]] == [str(other), str(call)]
    assert '"buffer_ms":100.0' in waiting[3]


def test_the_last_asked_is_made_first_and_no_document_waits_for_it(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    many(monkeypatch)
    get(house, f"/api/calls/{call}")
    get(house, f"/api/calls/{call + 1}")
    document = house.post("/api/sites/pier/report/pdf", {}).json["id"]
    first = tasks.last_task(db, among=("close-up of a call",))
    assert first is not None
    assert first.mark.startswith(f"{call + 1} ")
    following = tasks.next_task(db, but=("close-up of a call", "close-up of a video stream"))
    assert following is not None
    assert following.id == document
    loop.answer(db)
    assert tasks.task_by_id(db, document).state == "waiting"
    assert tasks.last_task(db, among=("close-up of a call",)) is None


@pytest.mark.parametrize(
    "change",
    [
        "UPDATE site SET target_mos = target_mos + 0.1",
        "UPDATE site SET up_kbps = 4000",
        "UPDATE site SET down_kbps = 4000",
        "UPDATE run SET clock_relation = NULL",
        "INSERT INTO codec_value (engagement_id, codec, ie, bpl, why, set_us) VALUES (1, 'g722', 5, 10, 'x', 1)",
    ],
)
def test_what_it_follows_from_has_changed(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch, change: str
) -> None:
    many(monkeypatch)
    path = f"/api/calls/{call}?codec=g722"
    get(house, path)
    loop.answer(db)
    assert get(house, path)["awaited"] is None
    with writing(db):
        db.execute(change)
    changed = get(house, path)
    assert changed["awaited"] is not None
    assert (changed["clock"] is None) == ("clock_relation" in change)
    loop.answer(db)
    done = get(house, path)
    assert (done["awaited"], done["clock"]) == (None, "both ends read one clock")


def test_what_cannot_be_made_says_so_and_is_tried_again_a_minute_later(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    many(monkeypatch)
    path = f"/api/calls/{call}"
    get(house, path)

    def broken(look: CallLook) -> None:
        raise Problem(500, "not of this machine")

    with monkeypatch.context() as fault:
        fault.setattr(CallLook, "answer", broken)
        loop.answer(db)
    told = get(house, path)["awaited"]
    assert (told["given_up"], told["held_up"], told["words"]) == (True, False, making.FAILED)
    assert open_tasks(db) == []
    db.execute("UPDATE task SET ended_us = ended_us - ?", (answers.ANEW_US,))
    assert get(house, path)["awaited"]["given_up"] is False
    loop.answer(db)
    assert get(house, path)["awaited"] is None


def test_what_changed_while_it_waited_is_not_kept_as_what_was_asked_for(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    many(monkeypatch)
    path, form = f"/api/calls/{call}", {"direction": "up"}
    get(house, path)
    table = house.post(f"{path}/packets", form).json["id"]
    with writing(db):
        target = db.execute("SELECT target_mos FROM site").fetchone()[0]
        db.execute("UPDATE site SET target_mos = target_mos + 0.1")
        kept_relation = db.execute("SELECT clock_relation FROM run").fetchone()[0]
        db.execute("UPDATE run SET clock_relation = NULL")
    loop.answer(db)
    loop.make(db, set())
    with writing(db):
        db.execute("UPDATE site SET target_mos = ?", (target,))
        db.execute("UPDATE run SET clock_relation = ?", (kept_relation,))
    told = get(house, path)["awaited"]
    assert (told["given_up"], told["words"]) == (True, making.CHANGED)
    assert get(house, f"/api/documents/{table}")["words"] == making.CHANGED
    assert house.post(f"{path}/packets", form).json["id"] != table


@pytest.mark.parametrize("harm", ["gone", "of another form"])
def test_a_kept_one_that_cannot_be_read_is_made_anew(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch, harm: str
) -> None:
    many(monkeypatch)
    path = f"/api/calls/{call}"
    get(house, path)
    loop.answer(db)
    told = get(house, path)
    (file,) = MADE.names(house.folder)
    if harm == "gone":
        file.unlink()
    else:
        file.write_text('{"relation": {}}')
    assert get(house, path)["awaited"] is not None
    loop.answer(db)
    assert get(house, path) == told


def test_so_many_are_kept_and_their_files(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    many(monkeypatch)
    monkeypatch.setattr("tarnfell.work.answering.MOST_KEPT", 3)
    buffers = (60, 80, 100, 120)
    for buffer in buffers:
        get(house, f"/api/calls/{call}?buffer_ms={buffer}")
        loop.answer(db)
    assert len(list(MADE.names(house.folder))) == 3
    told = [get(house, f"/api/calls/{call}?buffer_ms={buffer}")["awaited"] for buffer in buffers]
    assert [one is None for one in told] == [False, True, True, True]


def test_its_file_is_no_document(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    many(monkeypatch)
    get(house, f"/api/calls/{call}")
    loop.answer(db)
    (number,) = [row[0] for row in db.execute("SELECT id FROM task")]
    assert house.person.get(f"/api/documents/{number}").status_code == 404
    assert house.person.get(f"/api/documents/{number}/file").status_code == 404


def test_the_packets_of_a_long_one_are_asked_for(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    table = house.person.get(f"/api/calls/{call}/up.csv").data
    run = taken(house, seconds=4, calls=1, video=[{"profile": "360p", "streams": 1, "dscp": 34}])
    house.deliver(run, upload(calls=1, streams=1))
    stream = get(house, f"/api/runs/{run}")["streams"][0]["id"]
    frames = house.person.get(f"/api/videos/{stream}/down.csv").data
    assert len(table.splitlines()) == 101
    many(monkeypatch)
    refused = house.person.get(f"/api/calls/{call}/up.csv")
    assert (refused.status_code, "200 packets, too many" in refused.json["detail"]) == (409, True)
    for path, direction, name, body in (
        (f"/api/calls/{call}", "up", f"call{call}-up.csv", table),
        (f"/api/videos/{stream}", "down", f"video{stream}-down.csv", frames),
    ):
        asked = house.post(f"{path}/packets", {"direction": direction}).json
        assert asked["state"] == "waiting"
        assert house.post(f"{path}/packets", {"direction": direction}).json["id"] == asked["id"]
        loop.make(db, set())
        file = house.person.get(f"/api/documents/{asked['id']}/file")
        assert (file.mimetype, file.data == body) == ("text/csv", True)
        assert f"filename={name}" in file.headers["Content-Disposition"]
    assert house.post(f"/api/calls/{call}/packets", {"direction": "sideways"}).status_code == 422
    # By clocks that are known better now it is another table.
    path, form = f"/api/videos/{stream}/packets", {"direction": "down"}
    before = house.post(path, form).json["id"]
    with writing(db):
        db.execute("UPDATE run SET clock_relation = NULL")
    assert house.post(path, form).json["id"] != before


def test_of_a_direction_in_which_nothing_was_sent_there_is_no_table(house: House, db: sqlite3.Connection) -> None:
    run = taken(house, seconds=4, calls=1, direction="down", video=[])
    house.deliver(run, upload(calls=1, streams=0, direction="down"))
    call = get(house, f"/api/runs/{run}/calls")["calls"][0]["id"]
    assert house.person.get(f"/api/calls/{call}/up.csv").status_code == 404
    asked = house.post(f"/api/calls/{call}/packets", {"direction": "up"}).json["id"]
    loop.make(db, set())
    told = get(house, f"/api/documents/{asked}")
    assert (told["state"], told["words"]) == ("failed", "Nothing was sent in that direction.")


def test_a_report_says_that_its_long_call_is_being_judged_and_then_plays_it(
    house: House, db: sqlite3.Connection, call: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert choose(house, call).status_code == 200
    page = house.person.get("/api/sites/pier/report.html").text
    sounds = sounds_in(page)
    assert len(sounds) == 3
    many(monkeypatch)
    early = house.person.get("/api/sites/pier/report.html").text
    assert sounds_in(early) == []
    assert "The call that can be heard in it is still being judged" in early
    assert "still being judged" not in page
    assert get(house, "/api/sites/pier/reports")["sound"]["audible"] is True
    loop.answer(db)
    later = house.person.get("/api/sites/pier/report.html").text
    assert sounds_in(later) == sounds
    assert "still being judged" not in later
    assert house.issue()["id"] == 1  # the clerk waits for nobody
    assert sounds_in(house.person.get("/api/issued/1/report.html").text) == sounds


def test_packets_are_counted_without_unpacking_one() -> None:
    _, one, _ = split_parts(record_file(lost=(1, 2, 3)))
    record = Record.parse(one)
    assert packets_in(record) == 200
    assert packets_in(Record({**record.meta, "direction": "down"}, record.columns)) == 100
    received = {name: column for name, column in record.columns.items() if "sent" not in name}
    assert packets_in(Record(record.meta, received)) == 197
    half = {"seconds": 6.03, "reached": 90, "received": 80}
    cut = {**record.meta, "half": half, "planned_packets": 1000}
    assert packets_in(Record(cut, received)) == 2 * 301
    assert packets_in(Record({**cut, "planned_packets": 250}, received)) == 2 * 250
    assert packets_in(Record({**cut, "ptime_us": 1}, received)) == 2 * 1000
    with pytest.raises(WireError, match="plan of a cut run is missing"):
        packets_in(Record({**cut, "ptime_us": 0}, received))
