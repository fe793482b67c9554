"""In whose name reports are made: kept, shown in drafts, frozen with what is issued."""

from __future__ import annotations

import base64
import re
from typing import Any

import pytest

from tarnfell.store.db import connect, writing
from tarnfell.store.targets import MailServer, keep_mail_server
from tests.report.test_brand import SVG, picture
from tests.server.conftest import House

ADDRESS = "/api/engagements/customer/brand"
OWN = {"name": "Harrow Voice", "contact": "ines@harrow.example", "colour": "#123456"}


def put(house: House, **form: Any) -> Any:
    return house.person.put(ADDRESS, json=form, headers={"X-CSRF-Token": house.csrf})


def draft(house: House) -> str:
    return house.person.get("/api/sites/pier/report.html").text


def test_a_brand_stands_in_drafts_and_stays_in_what_was_issued(house: House) -> None:
    assert 'letterhead">' not in draft(house)
    logo = base64.b64encode(picture()).decode()
    told = put(house, **OWN, logo=logo).json
    assert (told["name"], told["colour"], told["site"]) == ("Harrow Voice", "#123456", "pier")
    assert told["logo"].startswith("data:image/png;base64,")
    page = draft(house)
    for part in ("Harrow Voice", "ines@harrow.example", "--accent: #123456", told["logo"]):
        assert part in page
    assert "Harrow Voice" in house.person.get("/api/engagements/customer/report.html").text
    house.issue()
    # Without a logo in the form the one that is there stays; an empty one takes it away.
    assert put(house, **{**OWN, "name": "Other"}).json["logo"] == told["logo"]
    assert put(house, name="Other", logo="").json["logo"] == ""
    assert "Harrow Voice" not in draft(house)
    frozen = house.person.get("/api/issued/1/report.html").text
    assert "Harrow Voice" in frozen
    assert told["logo"] in frozen
    assert house.person.get("/api/issued/1/report.json").json["by"] == {
        "name": "Harrow Voice", "contact": "ines@harrow.example",
    }  # fmt: skip


def test_what_would_do_harm_is_refused_and_changes_nothing(house: House) -> None:
    assert put(house, **OWN).status_code == 200
    script = base64.b64encode(SVG.format("<script/>").encode()).decode()
    for form, words in (
        ({"logo": script}, "holds <script>"),
        ({"logo": "not base64!"}, "did not arrive whole"),
        ({"colour": "#eeeeee"}, "too pale"),
        ({"colour": "red"}, "Write the colour"),
    ):
        answer = put(house, **{**OWN, "name": "x", **form})
        assert (answer.status_code, words in answer.json["detail"]) == (422, True), answer.text
    assert house.person.get(ADDRESS).json["name"] == "Harrow Voice"
    assert put(house, name="x" * 121).status_code == 422


def test_a_report_asked_for_anew_has_the_new_brand(house: House) -> None:
    first = house.post("/api/sites/pier/report/pdf", {}).json
    assert house.post("/api/sites/pier/report/pdf", {}).json["id"] == first["id"]
    put(house, **OWN)
    assert house.post("/api/sites/pier/report/pdf", {}).json["id"] != first["id"]


def test_who_reads_by_a_link_is_told_from_whom(house: House) -> None:
    put(house, **OWN)
    issued = house.issue()
    form = {"name": "The board", "passphrase": "seven terns at sea"}
    link = house.post(f"/api/issued/{issued['id']}/links", form).json["issued"][-1]["links"][0]
    stranger = house.app.test_client()
    asked = stranger.get(link["path"]).text
    for part in ("Harrow Voice", "ines@harrow.example", "--accent: #123456", "Passphrase"):
        assert part in asked
    assert "Harrow Voice" in stranger.post(link["path"], data={"passphrase": "wrong"}).text
    shown = stranger.post(link["path"], data={"passphrase": form["passphrase"]}).text
    assert "Harrow Voice" in shown
    assert "<iframe" in shown
    for path in (f"{link['path']}x", "/shared/nothing"):
        gone = stranger.get(path)
        assert (gone.status_code, "Harrow Voice" in gone.text) == (404, False)


def test_dates_and_numbers_are_written_as_in_the_readers_country(house: House) -> None:
    told = put(house, **OWN, locale="de-DE").json
    assert told["locale"] == "de-DE"
    examples = {one["tag"]: (one["title"], one["example"]) for one in told["locales"]}
    assert examples["de-DE"] == ("German (Germany)", "3. November 2026, 14:05, 1.234,5")
    assert examples["en-GB"][1] == "3 November 2026, 14:05, 1,234.5"
    for page in (draft(house), house.person.get("/api/engagements/customer/report.html").text):
        assert re.search(r"\d\d?\. [A-Z][a-zä]+ 20\d\d, \d\d:\d\d", page)
        assert not re.search(r" \d\d? [A-Z][a-z]+ 20\d\d", page)
    first = house.post("/api/sites/pier/report/pdf", {}).json
    issued = house.issue()
    with writing(connect(house.folder)) as db:
        keep_mail_server(db, MailServer("mail.example", 25, "none", "", "", "tarnfell@merrow.example"))
    mailed = {"name": "The board", "email": "board@merrow.example"}
    assert house.post(f"/api/issued/{issued['id']}/links", mailed).status_code == 200
    letter = connect(house.folder).execute("SELECT words FROM letter").fetchone()[0]
    assert re.search(r"until \d\d?\. [A-Z][a-zä]+ 20\d\d:", letter)
    assert put(house, **OWN, locale="en-US").json["locale"] == "en-US"
    assert house.post("/api/sites/pier/report/pdf", {}).json["id"] != first["id"]
    assert re.search(r"20\d\d, \d\d?:\d\d.[AP]M", draft(house))
    # What was issued stays in the way it was written in.
    assert re.search(r"\d\d?\. [A-Z][a-zä]+ 20\d\d", house.person.get("/api/issued/1/report.html").text)
    for wrong in ("de", "xx-XX", "", "pl-PL"):
        assert put(house, **OWN, locale=wrong).status_code == 422
    assert house.person.get(ADDRESS).json["locale"] == "en-US"


OWN_NAME = "https://voice.harrow.example"


def test_links_for_people_outside_begin_with_ones_own_name_for_the_server(house: House) -> None:
    def links() -> tuple[Any, Any]:
        tests = house.person.get("/api/sites/pier/browser-links").json["links"][0]["invitation"]
        return tests, house.person.get("/api/sites/pier/reports").json["issued"][0]["links"][0]

    point = next(iter(house.person.get("/api/sites/pier/browser-links").json["test_points"]))
    form = {"name": "Reception", "test_point_id": int(point), "calls": 2, "seconds": 10}
    assert house.post("/api/sites/pier/browser-links", form).status_code == 200
    issued = house.issue()
    house.post(f"/api/issued/{issued['id']}/links", {"name": "The board"})
    # Of a server that nobody named, whoever reads this knows the name as well.
    assert [one["origin"] for one in links()] == ["", ""]
    house.app.config["PUBLIC_ADDRESS"] = "https://tarnfell.example/"
    assert [one["origin"] for one in links()] == ["https://tarnfell.example"] * 2
    assert put(house, **OWN, address=f"{OWN_NAME}/").json["address"] == OWN_NAME
    tests, shared = links()
    assert (tests["origin"], shared["origin"]) == (OWN_NAME, OWN_NAME)
    calendar = house.app.test_client().get(f"/api{tests['path']}/rounds.ics").text.replace("\r\n ", "")
    assert f"{OWN_NAME}{tests['path']}" in calendar.replace("\\", "")
    with writing(connect(house.folder)) as db:
        keep_mail_server(db, MailServer("mail.example", 25, "none", "", "", "tarnfell@merrow.example"))
    mailed = {"name": "The board", "email": "board@merrow.example"}
    assert house.post(f"/api/issued/{issued['id']}/links", mailed).status_code == 200
    assert f"{OWN_NAME}/shared/" in connect(house.folder).execute("SELECT words FROM letter").fetchone()[0]
    # Probes go on by the name that the operator gave.
    card = house.person.get("/api/sites/pier/place").json["test_points"][0]["probes"][0]
    assert card["invitation"] is None or card["invitation"]["origin"] == "https://tarnfell.example"


@pytest.mark.parametrize(
    "address",
    [
        "voice.example", "ftp://voice.example", "https://", "https://voice.example/x", "https://voice.example?x",
        "https://ines@voice.example", "https://voice.example:99999", "https://voice.example:0", "https://[::1",
    ],
)  # fmt: skip
def test_an_address_of_links_is_a_name_and_nothing_more(house: House, address: str) -> None:
    answer = put(house, **OWN, address=address)
    assert (answer.status_code, "with nothing after the name" in answer.json["detail"]) == (422, True)
    assert house.person.get(ADDRESS).json["address"] == ""
