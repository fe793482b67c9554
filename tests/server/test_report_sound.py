"""A call that the reader of a report can hear: chosen, heard on the page, frozen with it."""

from __future__ import annotations

import base64
import io
import json
import re
import shutil
import sqlite3
import subprocess
import wave
from pathlib import Path
from typing import Any

import pytest

from tarnfell.report.render import pdf_of
from tarnfell.store import engagements as engagement_store
from tarnfell.store import sites as site_store
from tarnfell.store.calls import call_by_id
from tarnfell.store.db import connect, writing
from tarnfell.wire.record import Record
from tests.server.conftest import SITE, House, record_file
from tests.server.test_issued import change, page, shared

SOUND = "/api/sites/pier/report/sound"
PACKETS = 1000
LOST = tuple(range(700, 760))


@pytest.fixture
def call(house: House) -> int:
    """Call 1 of twenty seconds, of which a second up was lost late."""
    run = house.place(seconds=20).json["id"]
    house.heartbeat()
    assert house.deliver(run, record_file(packets=PACKETS, lost=LOST)).status_code == 200
    db = connect(house.folder)
    found = db.execute("SELECT id FROM call WHERE number = 1").fetchone()[0]
    db.close()
    return int(found)


def choose(house: House, call_id: int | None, direction: str = "up") -> Any:
    return change(house, "PUT", SOUND, {"call_id": call_id, "direction": direction})


def sounds_in(html: str) -> list[bytes]:
    return [base64.b64decode(one) for one in re.findall(r'src="data:audio/wav;base64,([^"]+)"', html)]


def test_the_page_plays_what_the_calls_own_page_does(house: House, call: int) -> None:
    assert "How it sounded" not in house.person.get("/api/sites/pier/report.html").text
    told = choose(house, call).json["sound"]
    assert (told["call_id"], told["direction"], told["audible"]) == (call, "up", True)
    assert told["words"].startswith("call 1 of run ")
    answer = house.person.get("/api/sites/pier/report.html")
    assert "media-src 'self' data:" in answer.headers["Content-Security-Policy"]
    sounds = sounds_in(answer.text)
    assert sounds == [house.person.get(f"/api/calls/{call}/up.wav?what={what}").data for what in ("sent", "heard")]
    assert sounds[0] != sounds[1]
    with wave.open(io.BytesIO(sounds[1])) as file:
        assert (file.getframerate(), file.getnframes()) == (8000, 12 * 8000)
    assert "60 of 600 packets were missed and filled in" in answer.text
    assert told["words"] in answer.text
    assert "carried from the site through the packets of" in answer.text
    assert "its seconds 3 to 15, where the listener missed most." in answer.text
    heard = house.person.get("/api/sites/pier/report.json").json["heard"]
    assert (heard["missed"], heard["packets"], heard["from_s"], heard["seconds"]) == (60, 600, 3.2, 12.0)
    assert (heard["missed_with_media_first"], heard["exact"]) == (None, True)
    choose(house, call, "down")
    quiet = house.person.get("/api/sites/pier/report.html").text
    assert "0 of 600 packets were missed" in quiet
    assert "carried to the site through" in quiet
    assert "of which the listener missed nothing." in quiet


def test_what_was_issued_goes_on_playing(house: House, call: int) -> None:
    choose(house, call)
    one = house.issue()
    link = shared(house, one)
    assert choose(house, None).json["sound"] is None
    assert "How it sounded" not in house.person.get("/api/sites/pier/report.html").text
    with writing(connect(house.folder)) as db:
        db.execute("DELETE FROM direction")
        db.execute("DELETE FROM call")
    assert len(sounds_in(page(house, one).decode())) == 2
    assert json.loads(page(house, one, "json"))["heard"]["missed"] == 60
    reader = house.app.test_client().get(f"{link}/report.html")
    assert len(sounds_in(reader.text)) == 2
    assert "media-src 'self' data:" in reader.headers["Content-Security-Policy"]


@pytest.mark.skipif(not shutil.which("pdftotext"), reason="pdftotext reads the pages")
def test_paper_says_that_it_is_silent(house: House, call: int, tmp_path: Path) -> None:
    choose(house, call)
    file = tmp_path / "report.pdf"
    file.write_bytes(pdf_of(house.person.get("/api/sites/pier/report.html").text))
    text = subprocess.run(["pdftotext", file, "-"], capture_output=True, text=True, check=True).stdout
    assert "Paper is silent: the page of this report plays it." in " ".join(text.split())


def test_what_is_written_for_the_report_stays_beside_it(house: House, call: int) -> None:
    change(house, "PUT", "/api/sites/pier/report/draft", {"summary": "Look at the uplink.", "note": "By hand."})
    choose(house, call)
    draft = house.person.get("/api/sites/pier/reports").json
    assert (draft["draft"]["summary"], draft["draft"]["note"]) == ("Look at the uplink.", "By hand.")
    change(house, "PUT", "/api/sites/pier/report/draft", {"summary": "", "note": "Other."})
    assert house.person.get("/api/sites/pier/reports").json["sound"]["call_id"] == call


def test_only_a_call_of_the_site_that_can_be_heard_is_taken(house: House, call: int) -> None:
    assert choose(house, call + 1000).status_code == 404
    assert choose(house, call, "sideways").status_code == 422
    with writing(connect(house.folder)) as db:
        other = site_store.add_site(db, engagement_store.engagements_of(db, 1)[0].id, **{**SITE, "slug": "quay"})
        db.execute("UPDATE job SET site_id = ?", (other,))
    refused = choose(house, call)
    assert (refused.status_code, "another site" in refused.json["detail"]) == (422, True)


def test_a_call_that_is_gone_is_left_out(house: House, call: int) -> None:
    choose(house, call)
    with writing(connect(house.folder)) as db:
        db.execute("DELETE FROM direction")
        db.execute("DELETE FROM call")
    assert house.person.get("/api/sites/pier/reports").json["sound"] is None
    assert sqlite3.connect(house.folder / "tarnfell.sqlite").execute(
        "SELECT sound_call FROM report_draft"
    ).fetchone() == (None,)


def test_only_what_can_be_heard_is_chosen(house: House, call: int) -> None:
    """A direction in which nothing was sent, and one of which the far end's half is missing, cannot be."""
    db = connect(house.folder)
    record = call_by_id(db, call).record
    with writing(db):
        db.execute("UPDATE direction SET sent = 0 WHERE call_id = ? AND direction = 'down'", (call,))
    refused = choose(house, call, "down")
    assert (refused.status_code, "nothing to hear" in refused.json["detail"]) == (422, True)
    assert choose(house, call, "up").json["sound"]["audible"] is True
    half = {"seconds": 10.0, "reached": 400, "received": 400}
    with writing(db):
        cut = Record({**record.meta, "half": half, "planned_packets": PACKETS}, record.columns)
        db.execute("UPDATE call SET record = ? WHERE id = ?", (cut.serialize(), call))
    assert choose(house, call, "up").status_code == 422
    page = house.person.get(f"/api/calls/{call}").json
    assert [page[way]["sound"] for way in ("up", "down")] == [None, None]
    assert page["down"]["figures"]["received"] > 0
    assert house.person.get("/api/sites/pier/reports").json["sound"]["audible"] is False
    assert sounds_in(house.person.get("/api/sites/pier/report.html").text) == []
