"""Causes that people add: kept, changed, removed, told in reports as their own, and no part of the verdict."""

from __future__ import annotations

from typing import Any

from tests.server.conftest import House

ADDRESS = "/api/sites/pier/own-causes"
FORM = {
    "title": "  The switch is out of support ",
    "says": "Its label: 2011.",
    "remedy": "Replace it.",
    "who": "Merrow IT",
}


def ask(house: House, method: str, path: str, body: Any = None) -> Any:
    return house.person.open(path, method=method, json=body, headers={"X-CSRF-Token": house.csrf})


def test_a_cause_is_added_changed_and_removed_and_the_verdict_stays(house: House) -> None:
    before = house.person.get("/api/sites/pier").json["verdict"]
    (one,) = ask(house, "POST", ADDRESS, FORM).json["causes"]
    assert (one["title"], one["says"], one["who"]) == ("The switch is out of support", "Its label: 2011.", "Merrow IT")
    assert one["by"] == house.person.get("/api/session").json["name"]
    second = ask(house, "POST", ADDRESS, {"title": "Another"}).json["causes"]
    assert [cause["title"] for cause in second] == ["The switch is out of support", "Another"]
    changed = ask(house, "PUT", f"{ADDRESS}/{one['id']}", {**FORM, "title": "An old switch"}).json["causes"]
    assert [cause["title"] for cause in changed] == ["An old switch", "Another"]
    assert house.person.get("/api/sites/pier").json["verdict"] == before
    left = ask(house, "DELETE", f"{ADDRESS}/{one['id']}").json["causes"]
    assert [cause["title"] for cause in left] == ["Another"]
    for method in ("PUT", "DELETE"):
        assert ask(house, method, f"{ADDRESS}/{one['id']}", FORM).status_code == 404
    assert ask(house, "POST", ADDRESS, {"title": "   "}).status_code == 422
    assert ask(house, "POST", ADDRESS, {"title": "x" * 201}).status_code == 422


def test_the_report_tells_it_as_the_consultants_own_and_keeps_what_was_issued(house: House) -> None:
    assert "Added by the consultant" not in house.person.get("/api/sites/pier/report.html").text
    waiting = house.post("/api/sites/pier/report/pdf", {}).json["id"]
    hostile = {"title": "<script>alert(1)</script>", "says": "Seen on site."}
    number = ask(house, "POST", ADDRESS, hostile).json["causes"][0]["id"]
    page = house.person.get("/api/sites/pier/report.html").text
    assert "Added by the consultant, not from these measurements" in page
    assert "&lt;script&gt;alert(1)&lt;/script&gt;" in page
    assert "<script>alert" not in page
    assert house.post("/api/sites/pier/report/pdf", {}).json["id"] != waiting
    house.issue()
    ask(house, "DELETE", f"{ADDRESS}/{number}")
    assert "Seen on site." in house.person.get("/api/issued/1/report.html").text
    assert house.person.get("/api/issued/1/report.json").json["added"][0]["says"] == "Seen on site."
    assert "Seen on site." not in house.person.get("/api/sites/pier/report.html").text
