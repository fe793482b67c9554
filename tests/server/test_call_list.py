"""The calls of a run: sorted, filtered, exported."""

from __future__ import annotations

import csv
import io

import pytest

from tests.server.conftest import House, record_file


@pytest.fixture
def run(house: House) -> int:
    """Three calls; the first lost ten packets in a row up the line."""
    number = int(house.place(calls=3).json["id"])
    house.heartbeat()
    house.deliver(number, record_file(calls=3, lost=tuple(range(50, 60))))
    return number


def numbers(house: House, run: int, query: str) -> list[int]:
    answer = house.person.get(f"/api/runs/{run}/calls?{query}")
    assert answer.status_code == 200, answer.text
    return [line["number"] for line in answer.json["calls"]]


@pytest.mark.parametrize("sort", ["mos", "lost", "burst"])
def test_the_worst_come_first(house: House, run: int, sort: str) -> None:
    assert numbers(house, run, f"sort={sort}")[0] == 1
    assert numbers(house, run, "sort=number") == [1, 2, 3]


def test_filters(house: House, run: int) -> None:
    assert numbers(house, run, "only=unacceptable") == [1]
    assert numbers(house, run, "only=lossy") == [1]
    for nothing in ("late", "remarked", "silent"):
        assert numbers(house, run, f"only={nothing}") == []
    assert numbers(house, run, "only=all&limit=1&offset=2") == [3]
    assert house.person.get(f"/api/runs/{run}/calls?only=odd").status_code == 422


def test_both_scales_stand_beside_each_other(house: House, run: int) -> None:
    line = house.person.get(f"/api/runs/{run}/calls").json["calls"][1]
    assert line["acceptable"] is True
    assert line["up"]["mos"] == pytest.approx(4.36, abs=0.03)
    assert line["up"]["mos_wide"] == pytest.approx(3.66, abs=0.05)


def test_exports_hold_every_figure(house: House, run: int) -> None:
    rows = list(csv.DictReader(io.StringIO(house.person.get(f"/api/runs/{run}/calls.csv").text)))
    assert [(r["call"], r["direction"]) for r in rows] == [(str(n), d) for n in (1, 2, 3) for d in ("up", "down")]
    assert (rows[0]["lost"], rows[0]["longest_loss_run"], rows[0]["dscp_received"]) == ("10", "10", "46:90")
    assert rows[0]["clock"] == "both ends read one clock"
    whole = house.person.get(f"/api/runs/{run}/calls.json").json
    assert whole["calls"][0]["up"]["lost"] == 10
    assert house.app.test_client().get(f"/api/runs/{run}/calls.csv").status_code == 401


# Two runs side by side


@pytest.fixture
def later(house: House, run: int) -> int:
    """The same calls after the loss was mended, unmarked."""
    number = int(house.place(calls=3, dscp=0).json["id"])
    house.heartbeat()
    house.deliver(number, record_file(calls=3, delay_us=30_000))
    return number


def test_two_runs_side_by_side(house: House, run: int, later: int) -> None:
    page = house.person.get(f"/api/compare?first={run}&second={later}").json
    assert page["differs"] == ["DSCP 46 and 0"]
    assert (page["first"]["good"], page["second"]["good"]) == (2, 3)
    assert page["share"]["change"] == pytest.approx(100 / 3)
    assert page["share"]["sure"] is False
    loss, delay = (next(m for m in page["up"] if m["key"] == key) for key in ("loss_pct", "delay_p50_ms"))
    assert loss["first_values"] == [10, 0, 0]
    assert loss["difference"]["change"] == pytest.approx(-10 / 3)
    # One moment each, and no others to tell what moments of this site differ by.
    assert delay["difference"] == {"first": 20, "second": 30, "change": 10, "low": None, "high": None, "sure": False}
    assert any("cover 1 and 1 ten-minute moments" in c for c in page["cautions"])
    turned = house.person.get(f"/api/compare?first={later}&second={run}").json
    assert turned["share"]["change"] == -page["share"]["change"]


def test_runs_that_cannot_be_compared(house: House, run: int) -> None:
    waiting = house.place().json["id"]
    answer = house.person.get(f"/api/compare?first={run}&second={waiting}")
    assert (answer.status_code, answer.json["detail"]) == (
        409,
        f"Run {waiting} has no result to compare: it is waiting.",
    )
    assert house.person.get(f"/api/compare?first={run}&second=999").status_code == 404
    assert house.person.get("/api/compare?first=x&second=1").status_code == 422
