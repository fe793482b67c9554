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
    house.probe("PUT", f"/api/probe/jobs/{number}/record", data=record_file(calls=3, lost=tuple(range(50, 60))))
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
