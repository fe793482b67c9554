"""Notes pinned to a stretch of time or a call: who may, what they are of, and that they come along into the report."""

from __future__ import annotations

import sqlite3
from typing import Any

import pytest

from tarnfell.store.db import connect
from tests.server.conftest import House
from tests.server.test_issued import change, measure, page

HOUR_US = 3_600_000_000
AT_US = 1_795_600_800_000_000  # 25 November 2026, 10:00 in London
NOTES = "/api/sites/pier/notes"


def noted(house: House, **form: Any) -> list[dict[str, Any]]:
    answer = change(house, "POST", NOTES, {"words": "The switch was restarted.", **form})
    assert answer.status_code == 200, answer.text
    return list(answer.json["notes"])


def test_a_note_is_of_a_stretch_of_time_and_numbered_by_it(house: House) -> None:
    noted(house, from_us=AT_US, until_us=AT_US + HOUR_US, words="Later", leg="line")
    found = noted(house, from_us=AT_US - HOUR_US, until_us=AT_US, words="Earlier", in_report=False)
    assert [(one["words"], one["leg"], one["in_report"], one["by"], one["until_us"]) for one in found] == [
        ("Earlier", "", False, "Tess Ter", AT_US),
        ("Later", "line", True, "Tess Ter", AT_US + HOUR_US),
    ]


@pytest.mark.parametrize("form", [{}, {"from_us": AT_US}, {"from_us": AT_US, "until_us": AT_US - 1}])
def test_a_note_of_nothing_is_none(house: House, form: dict[str, int]) -> None:
    answer = change(house, "POST", NOTES, {"words": "x", **form})
    assert (answer.status_code, "a stretch of time" in answer.json["detail"]) == (422, True)
    at_once = change(house, "POST", NOTES, {"words": "x", "from_us": AT_US, "until_us": AT_US})
    assert at_once.status_code == 200


def test_a_note_of_a_call_is_of_its_time(house: House) -> None:
    measure(house)
    (one,) = noted(house, call_id=2)
    call = house.person.get("/api/calls/2").json
    assert (one["call_number"], one["run_id"]) == (call["number"], call["run_id"]) == (2, 1)
    assert (one["from_us"], one["until_us"] - one["from_us"]) == (call["started_us"], 2_000_000)
    assert change(house, "POST", NOTES, {"words": "x", "call_id": 99}).status_code == 404


def test_a_note_is_changed_and_removed_and_stays_on_record(house: House) -> None:
    (one,) = noted(house, from_us=AT_US, until_us=AT_US)
    (changed,) = change(house, "PUT", f"{NOTES}/{one['id']}", {"words": "Other", "in_report": False}).json["notes"]
    assert (changed["words"], changed["in_report"], changed["from_us"]) == ("Other", False, AT_US)
    assert change(house, "DELETE", f"{NOTES}/{one['id']}").json["notes"] == []
    assert change(house, "DELETE", f"{NOTES}/{one['id']}").status_code == 404
    db: sqlite3.Connection = connect(house.folder)
    assert db.execute("SELECT words, removed_us IS NULL FROM note").fetchall()[0][:] == ("Other", 0)


def test_notes_come_along_into_the_report_in_site_time(house: House) -> None:
    measure(house)
    noted(house, from_us=AT_US, until_us=AT_US + HOUR_US, words="Their <b>provider</b> worked here.", leg="beyond")
    noted(house, from_us=AT_US, until_us=AT_US + 48 * HOUR_US, words="Half the staff was away.")
    noted(house, call_id=1, words="Somebody pulled the cable.")
    (*_, hidden) = noted(
        house, from_us=AT_US + HOUR_US, until_us=AT_US + HOUR_US, words="For us only.", in_report=False
    )
    draft = house.person.get("/api/sites/pier/report.json").json["noted"]
    told = {one["words"]: (one["at_local"], one["of"], one["by"]) for one in draft}
    assert told["Their <b>provider</b> worked here."] == (
        "25 November 2026, 10:00 to 11:00", "beyond the provider’s edge", "Tess Ter",
    )  # fmt: skip
    assert told["Half the staff was away."][0] == "25 November 2026, 10:00 to 27 November 2026, 10:00"
    assert told["Somebody pulled the cable."][1] == "call 1 of run 1"
    assert hidden["words"] not in told
    one = house.issue()
    before = page(house, one)
    assert b"Their &lt;b&gt;provider&lt;/b&gt; worked here." in before
    for note in house.person.get(NOTES).json["notes"]:
        change(house, "DELETE", f"{NOTES}/{note['id']}")
    assert page(house, one) == before
    assert house.person.get("/api/sites/pier/report.json").json["noted"] == []
