"""The line filled from a browser: asked for, streamed, delivered, judged, and what it counts into."""

from __future__ import annotations

import json
import re
import sqlite3
import threading
from http.client import HTTPConnection
from typing import Any

import pytest
from waitress.server import create_server

from tarnfell.store import browsers as browser_store
from tarnfell.store import fills as fill_store
from tarnfell.store import jobs as job_store
from tarnfell.store import sites as site_store
from tarnfell.store.brands import Brand, keep_brand
from tarnfell.store.calls import MAX_UPLOAD_BYTES
from tarnfell.store.db import now_us, writing
from tarnfell.wire.browser import PIECE_BYTES, BrowserCalls, CallsAsked
from tarnfell.wire.record import Record, join_parts, pack_column, split_parts
from tarnfell.work.evidence.facts import facts_of
from tarnfell.work.ingest.fills import judge_next_fill
from tarnfell.work.today import today
from tests import rig
from tests.server.conftest import House
from tests.server.test_desk import LINKS, add, asked, begin, code_of, db, join, stranger

__all__ = ["asked", "db"]

FILL_S, IDLE_S, REST_S = 5, 5, 4
LENGTH_S = IDLE_S + 2 * (FILL_S + REST_S)
PLANNED = LENGTH_S * 50
UP_FROM_S, DOWN_FROM_S = IDLE_S, IDLE_S + FILL_S + REST_S
UP_KBPS, DOWN_KBPS = 2000, 8000
QUEUED_US = 250_000
"""Added to every packet up while upload is filled, from its second second on."""


def begun(house: House, code: str, way: str = "straight") -> Any:
    (far_end,) = stranger(house, "GET", code).json["far_ends"]
    if way == "socket":
        return stranger(house, "POST", f"{code}/socket-fills", json={"far_end_id": far_end["id"]})
    body = {"far_end_id": far_end["id"], "offer": "v=0", "relayed": way == "relay"}
    return stranger(house, "POST", f"{code}/fills", json=body)


def up_us(number: int) -> int:
    """How long a packet up is on its way."""
    return 30_000 + (QUEUED_US if UP_FROM_S + 1 <= number / 50 < UP_FROM_S + FILL_S else 0)


def half(**changes: Any) -> bytes:
    at = now_us()
    second = 1_000_000
    slots = FILL_S * 10
    phases = [
        {"way": "idle", "from_us": at, "until_us": at + IDLE_S * second},
        {"way": "up", "from_us": at + UP_FROM_S * second, "until_us": at + (UP_FROM_S + FILL_S) * second,
         "up": [UP_KBPS * 100 // 8] * slots},
        {"way": "down", "from_us": at + DOWN_FROM_S * second, "until_us": at + (DOWN_FROM_S + FILL_S) * second,
         "down": [DOWN_KBPS * 100 // 8] * slots},
    ]  # fmt: skip
    call = {
        "sent_us": [20_000 * n for n in range(PLANNED)],
        "arrival_seq": list(range(PLANNED)),
        "arrival_us": [20_000 * n + 30_000 for n in range(PLANNED)],
        "far": [PLANNED, PLANNED],
    }
    stamps = {name: [100_000 * n + after for n in range(220)] for name, after in
              (("t1_us", 0), ("t2_us", 30_000), ("t3_us", 30_000), ("t4_us", 60_000))}  # fmt: skip
    told = {"started_us": at, "lasted_s": LENGTH_S + 1.5, "calls": [call], "exchange": stamps, "phases": phases}
    return json.dumps(told | changes).encode()


def whole_of(half: bytes, far_end: object, token: str) -> bytes:
    """As the far end joins it."""
    head, part = split_parts(half)
    one = Record.parse(part)
    start = int(one.meta["start_us"])
    columns = dict(one.columns) | {
        "up.arrival_seq": pack_column("up.arrival_seq", range(PLANNED)),
        "up.arrival_us": pack_column("up.arrival_us", [start + 20_000 * n + up_us(n) for n in range(PLANNED)]),
        "down.sent_us": pack_column("down.sent_us", [start + 20_000 * n for n in range(PLANNED)]),
    }
    return join_parts([head, Record({k: v for k, v in one.meta.items() if k != "half"}, columns).serialize()])


def filled(house: House, db: sqlite3.Connection, code: str, way: str = "straight", **changes: Any) -> int:
    job_id = int(begun(house, code, way).json["job_id"])
    assert stranger(house, "POST", f"{code}/jobs/{job_id}/alive").json == {"stop": False}
    stranger(house, "PUT", f"{code}/jobs/{job_id}/half", data=half(**changes))
    join(house, db, whole_of)
    judge_next_fill(db)
    return job_id


def test_from_the_link_to_what_calls_had_while_the_line_was_full(
    house: House, db: sqlite3.Connection, asked: list[BrowserCalls]
) -> None:
    code = code_of(add(house, fill_s=FILL_S))
    plan = stranger(house, "GET", code).json["fill"]
    assert (plan["idle_s"], plan["seconds"], plan["rest_s"], plan["length_s"]) == (IDLE_S, FILL_S, REST_S, LENGTH_S)
    assert plan["ways"] == ["up", "down"]
    # 10 Mbit/s up and 50 down, five seconds each.
    assert plan["volume_mb"] == pytest.approx(5 * (10 + 50) / 8)
    job_id = filled(house, db, code)
    (wanted,) = asked
    assert (wanted.calls, wanted.seconds, wanted.interval_ms) == (1, LENGTH_S, 20)
    (told,) = stranger(house, "GET", code).json["fills"]
    assert (told["job_id"], told["state"], told["failure"], told["doubts"]) == (job_id, "done", None, [])
    up, down = told["up"], told["down"]
    assert (up["throughput_kbps"], down["throughput_kbps"]) == (UP_KBPS, DOWN_KBPS)
    assert up["added_ms"] == pytest.approx(QUEUED_US / 1000, abs=1)
    assert down["added_ms"] == pytest.approx(0, abs=1)
    assert up["mos"] < 3.5 < up["mos_idle"]
    assert down["mos"] == pytest.approx(down["mos_idle"], abs=0.01)
    assert told["says"]
    assert house.person.get(LINKS).json["links"][0]["fills"] == [told]
    (line,) = house.person.get("/api/sites/pier/fills").json["fills"]
    assert (line["id"], line["probe"], line["judged"]) == (job_id, "Reception (browser)", True)


def test_sentences_are_written_as_in_the_readers_country(
    house: House, db: sqlite3.Connection, asked: list[BrowserCalls]
) -> None:
    code = code_of(add(house, fill_s=FILL_S))
    filled(house, db, code)
    page = stranger(house, "GET", code).json
    assert page["locale"] == "en-GB"
    (ours,) = page["fills"]
    assert "4.35" in " ".join(ours["says"]), ours["says"]
    with writing(db):
        keep_brand(db, 1, Brand(locale="de-DE"))
    page = stranger(house, "GET", code).json
    (told,) = page["fills"]
    assert page["locale"] == "de-DE"
    assert told["says"] == [re.sub(r"(\d)\.(\d)", r"\1,\2", sentence) for sentence in ours["says"]]
    # The consultant's own screens, and figures that are no sentence, stay as they are.
    assert {**told, "says": [], "reach": {}} == {**ours, "says": [], "reach": {}}
    assert house.person.get(LINKS).json["links"][0]["fills"] == [ours]


def test_the_start_page_tells_fills_from_browsers_apart(house: House, db: sqlite3.Connection) -> None:
    filled(house, db, code_of(add(house, fill_s=FILL_S)))
    told = today(db, 1, 0, now_us()).changed
    assert [one.says for one in told] == ["1 line fill from a browser"]


def test_it_counts_only_where_that_was_said(house: House, db: sqlite3.Connection) -> None:
    filled(house, db, code_of(add(house, fill_s=FILL_S)))
    site = site_store.site_by_id(db, 1)
    assert facts_of(db, site).fills == []
    with writing(db):
        site_store.change_site(db, 1, browser_counts=True)
    counted = facts_of(db, site_store.site_by_id(db, 1)).fills
    assert [one.direction for one in counted] == ["up", "down"]
    assert (counted[0].mos_marked, counted[0].kept_pct) == (None, None)  # a browser marks nothing


@pytest.mark.parametrize(
    ("way", "by"),
    [("relay", "a page in a browser, over WebRTC"), ("socket", "a page in a browser, over a WebSocket")],
)
def test_by_another_way_than_calls_take_it_is_told_as_that_and_never_counts(
    house: House, db: sqlite3.Connection, asked: list[BrowserCalls], way: str, by: str
) -> None:
    house.app.config["SOCKET_PORT"] = 8081
    code = code_of(add(house, fill_s=FILL_S))
    job_id = filled(house, db, code, way)
    assert len(asked) == (way == "relay")  # over a WebSocket no far end is asked
    (told,) = stranger(house, "GET", code).json["fills"]
    assert (told["job_id"], told["way"], told["state"], told["doubts"]) == (job_id, way, "done", [])
    assert (told["up"]["throughput_kbps"], told["down"]["throughput_kbps"]) == (UP_KBPS, DOWN_KBPS)
    (line,) = house.person.get("/api/sites/pier/fills").json["fills"]
    assert (line["id"], line["way"]) == (job_id, way)
    head = Record.parse(split_parts(fill_store.told_of(db, job_id).record)[0])
    assert head.meta["self_check"]["probe"]["arrangement"].startswith(by)
    with writing(db):
        site_store.change_site(db, 1, browser_counts=True)
    assert facts_of(db, site_store.site_by_id(db, 1)).fills == []
    filled(house, db, code)  # the straight way, of the same site: that one counts, and it alone
    assert {one.fill_id for one in facts_of(db, site_store.site_by_id(db, 1)).fills} == {job_id + 1}


def test_over_a_websocket_one_call_is_asked_for_as_long_as_the_fill_takes(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house, fill_s=FILL_S))
    refused = begun(house, code, "socket")
    assert (refused.status_code, refused.json["detail"]) == (409, "This server takes no tests over WebSocket.")
    house.app.config["SOCKET_PORT"] = 8081
    with writing(db):
        site_store.change_site(db, 1, metered_mb=30)
    told = begun(house, code, "socket").json
    assert 28_500_000 < told["most_bytes"] < 29_500_000
    with writing(db):
        assert browser_store.take_up_socket(db, told["token"]) == CallsAsked(1, 20, 93, LENGTH_S)
    plain = code_of(add(house, name="Warehouse"))
    assert "does not ask for the line to be filled" in begun(house, plain, "socket").json["detail"]


def test_streams_go_while_the_line_is_filled_and_at_no_other_time(house: House, db: sqlite3.Connection) -> None:
    code = code_of(add(house, fill_s=FILL_S))
    calls = begin(house, code).json["job_id"]
    assert stranger(house, "GET", f"{code}/jobs/{calls}/down").status_code == 409
    stranger(house, "POST", f"{code}/jobs/{calls}/failed", json={"why": "given-up"})
    job_id = begun(house, code).json["job_id"]
    piece = stranger(house, "GET", f"{code}/jobs/{job_id}/down")
    assert (len(piece.data), piece.headers["Cache-Control"]) == (PIECE_BYTES, "no-store, no-transform")
    assert len(set(piece.data[:4096])) > 200  # nothing that could be made smaller on the way
    assert stranger(house, "PUT", f"{code}/jobs/{job_id}/up", data=bytes(70_000)).json == {"bytes": 70_000}
    assert stranger(house, "PUT", f"{code}/jobs/{job_id}/up", data=bytes(PIECE_BYTES + 2)).status_code == 413
    other = code_of(add(house, name="Warehouse", fill_s=FILL_S))
    assert stranger(house, "GET", f"{other}/jobs/{job_id}/down").status_code == 404
    stranger(house, "POST", f"{code}/jobs/{job_id}/failed", json={"why": "no-connection"})
    for method, path in (("GET", "down"), ("PUT", "up")):
        assert stranger(house, method, f"{code}/jobs/{job_id}/{path}").status_code == 409


def test_the_largest_piece_passes_the_server_underneath_both_ways(house: House) -> None:
    """Which tells the application where a body ends in a way of its own."""
    code = code_of(add(house, fill_s=FILL_S))
    path = f"/api/test/{code}/jobs/{begun(house, code).json['job_id']}"
    server = create_server(house.app, host="127.0.0.1", port=0, max_request_body_size=MAX_UPLOAD_BYTES)
    thread = threading.Thread(target=server.run)
    thread.start()
    try:
        line = HTTPConnection("127.0.0.1", server.effective_port, timeout=rig.HANGS_S)
        line.request("PUT", f"{path}/up", body=bytes(PIECE_BYTES))
        assert json.loads(line.getresponse().read()) == {"bytes": PIECE_BYTES}
        line.request("GET", f"{path}/down")
        assert len(line.getresponse().read()) == PIECE_BYTES
        line.close()
    finally:
        server.close()
        thread.join(60)


def test_a_link_fills_only_where_it_asks_for_it_and_the_site_lets_it(house: House, db: sqlite3.Connection) -> None:
    plain = code_of(add(house))
    assert stranger(house, "GET", plain).json["fill"] is None
    assert (begun(house, plain).status_code, job_store.open_of_kind(db, 1, "fill")) == (409, [])
    code = code_of(add(house, fill_s=FILL_S))
    with writing(db):
        site_store.change_site(db, 1, ceiling_pct=90.0)
    assert stranger(house, "GET", code).json["fill"] is None
    assert "90 %" in house.person.get(LINKS).json["no_fill"]
    refused = begun(house, code)
    assert (refused.status_code, "90 %" in refused.json["detail"]) == (409, True)
    with writing(db):
        always = site_store.Blackout("1234567", 0, 1440, "stock-taking")
        site_store.change_site(db, 1, ceiling_pct=None, blackouts=[always])
    assert "stock-taking" in begun(house, code).json["detail"]
    with writing(db):
        site_store.change_site(db, 1, blackouts=[], metered_mb=30)
    # What goes beside the streams, about a megabyte, comes out of the day's allowance as well.
    assert 28_500_000 < begun(house, code).json["most_bytes"] < 29_500_000
    assert (
        house.post(LINKS, {"name": "x", "test_point_id": 1, "calls": 1, "seconds": 10, "fill_s": 7}).status_code == 422
    )


def test_a_fill_is_stopped_by_the_consultant_and_fails_when_its_page_is_closed(
    house: House, db: sqlite3.Connection
) -> None:
    code = code_of(add(house, fill_s=FILL_S))
    job_id = begun(house, code).json["job_id"]
    stranger(house, "POST", f"{code}/jobs/{job_id}/alive")
    house.post(f"/api/sites/pier/fills/{job_id}/stop", {})
    assert stranger(house, "POST", f"{code}/jobs/{job_id}/alive").json == {"stop": True}
    with writing(db):
        job_store.give_up_silent(db, [job_id])
    (told,) = stranger(house, "GET", code).json["fills"]
    assert (told["state"], told["failure"], told["up"]) == ("failed", job_store.PAGE_CLOSED, None)


def test_a_line_that_gave_out_is_judged_as_far_as_it_went(house: House, db: sqlite3.Connection) -> None:
    cut = {
        "code": "silent",
        "reason": "The far end has said nothing for 8 s.",
        "after_s": 12.5,
        "server_reachable": True,
    }
    job_id = filled(house, db, code_of(add(house, fill_s=FILL_S)), cut=cut)
    fill = fill_store.fill_by_id(db, job_id)
    assert fill is not None
    assert fill.filled is not None
    assert [one.way for one in fill.filled.phases] == ["idle", "up"]
    assert fill.filled.says[0].startswith("The run was broken off while download was filled")
