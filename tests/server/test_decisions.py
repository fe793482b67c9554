"""Causes that the consultant dismisses or notes: told as such everywhere, and never a change of the verdict."""

from __future__ import annotations

from typing import Any

import pytest

from tarnfell.store.db import connect
from tests.server.conftest import House, record_file


@pytest.fixture
def lossy(house: House) -> dict[str, Any]:
    """A site with calls of which one direction lost packets."""
    for _ in range(3):
        run = house.place().json["id"]
        house.heartbeat()
        assert house.deliver(run, record_file(lost=tuple(range(0, 100, 4)))).status_code == 200
    site = dict(house.person.get("/api/sites/pier").json)
    assert [c["key"] for c in site["causes"] if c["network"]] == ["line-loss"]
    return site


def decide(house: House, **form: Any) -> Any:
    body = {"key": "line-loss", "leg": "unknown", "direction": "up", **form}
    return house.person.put("/api/sites/pier/decision", json=body, headers={"X-CSRF-Token": house.csrf})


def causes(house: House) -> tuple[list[str], list[str]]:
    site = house.person.get("/api/sites/pier").json
    return [c["key"] for c in site["causes"] if c["network"]], [one["words"] for one in site["dismissed"]]


def test_a_dismissed_cause_is_told_as_dismissed_and_changes_no_verdict(house: House, lossy: dict[str, Any]) -> None:
    before = house.person.get("/api/sites/pier/report.html").text
    assert "Packets are lost" in before
    assert "To do first" in before
    answer = decide(house, dismissed=True, words="The cable was pulled for a test.")
    assert (answer.status_code, answer.json["dismissed"]) == (200, True)
    assert causes(house) == ([], ["The cable was pulled for a test."])
    after = house.person.get("/api/sites/pier").json
    assert (after["verdict"], after["dimensions"]) == (lossy["verdict"], lossy["dimensions"])
    html = house.person.get("/api/sites/pier/report.html").text
    assert "dismissed by the consultant: packets are lost" in html
    assert "(The cable was pulled for a test.; Tess Ter)" in html
    assert "To do first" not in html
    figures = house.person.get("/api/sites/pier/report.json").json
    assert figures["dismissed"][0]["cause"]["key"] == "line-loss"
    assert [c["key"] for c in figures["causes"] if c["network"]] == []
    assert decide(house).status_code == 200
    assert causes(house) == (["line-loss"], [])
    assert connect(house.folder).execute("SELECT count(*) FROM cause_decision").fetchone()[0] == 2


def test_a_note_goes_with_its_cause(house: House, lossy: dict[str, Any]) -> None:
    assert decide(house, words="Seen at the switch <as well>.").status_code == 200
    site = house.person.get("/api/sites/pier").json
    assert [c["note"] for c in site["causes"] if c["network"]] == ["Seen at the switch <as well>."]
    assert "Seen at the switch &lt;as well&gt;." in house.person.get("/api/sites/pier/report.html").text
    decide(house, words="")
    site = house.person.get("/api/sites/pier").json
    assert [c["note"] for c in site["causes"] if c["network"]] == [""]


def test_a_cause_is_put_first_and_worded_anew_and_the_report_says_how_it_was_found(
    house: House, lossy: dict[str, Any]
) -> None:
    found = next(c for c in lossy["causes"] if c["network"])
    assert (found["weight"], found["decided"]) == ("", [])
    answer = decide(house, weight="first", title="Old copper", remedy="Order <fibre>.", who="Tern Networks")
    assert (answer.status_code, answer.json["title"]) == (200, "Old copper")
    after = house.person.get("/api/sites/pier").json
    told = next(c for c in after["causes"] if c["network"])
    assert (told["weight"], told["title"], told["remedy"], told["who"]) == (
        "first",
        "Old copper",
        "Order <fibre>.",
        "Tern Networks",
    )
    assert told["as_found"] == {name: found[name] for name in ("title", "remedy", "who")} == found["as_found"]
    assert [d["low"] for d in after["dimensions"]] == [d["low"] for d in lossy["dimensions"]]
    html = house.person.get("/api/sites/pier/report.html").text
    assert html.count("Order &lt;fibre&gt;.") == 2
    assert "First, as the consultant weighs it: old copper" in html
    assert "Put first by the consultant, whatever points it took. Heading as found: " in html
    kept = house.person.get("/api/sites/pier/report.json").json["causes"]
    assert [c["as_found"]["title"] for c in kept if c["network"]] == [found["title"]]
    assert decide(house).status_code == 200
    assert house.person.get("/api/sites/pier").json["causes"] == lossy["causes"]
    assert decide(house, weight="middle").status_code == 422


def test_what_cannot_be_decided_gets_a_sentence(house: House, lossy: dict[str, Any]) -> None:
    for form, status, says in (
        ({"dismissed": True}, 422, "Say why"),
        ({"leg": "inside", "words": "x"}, 409, "not tell of this cause any more"),
        ({"direction": "down", "words": "x"}, 409, "not tell of this cause any more"),
        ({"key": "no-such-cause", "words": "x"}, 422, ""),
    ):
        answer = decide(house, **form)
        assert (answer.status_code, says in answer.json["detail"]) == (status, True)
    assert causes(house) == (["line-loss"], [])
