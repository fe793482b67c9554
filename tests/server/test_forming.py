"""What a step of a plan looks like while it is on: the verdict as it forms from the seconds told."""

from __future__ import annotations

from typing import Any

from tests.server.conftest import House, record_file
from tests.server.test_runs import deliver


def begin(house: House, **changes: Any) -> tuple[int, int]:
    """A plan of two calls started now, its run taken: the series and the run."""
    house.heartbeat()
    plan = {"probe_id": 1, "far_end_id": 1, "codec": "g711a", "shape": "hold", "calls": 2, "call_s": 2, **changes}
    series = house.post("/api/sites/pier/plans", {**plan, "when": "now"}).json["series_id"]
    job = house.heartbeat()
    assert job is not None
    return series, int(job["id"])


def tell(house: House, run: int, second: int, up: list[tuple[int, int]], down: list[tuple[int, int]]) -> None:
    """Packets reached and received so far of each call."""

    def rows(counts: list[tuple[int, int]]) -> list[dict[str, int]]:
        return [
            {"sent": 50 * second, "received": r, "reached": n, "late": 0, "jitter_us": 9, "pdv_us": 9}
            for n, r in counts
        ]

    body = {"second": second, "up": rows(up), "down": rows(down), "rtt_us": 30_000, "send_late_max_us": 90}
    assert house.probe("POST", f"/api/probe/jobs/{run}/progress", json=body).status_code == 200


def step(house: House, series: int) -> dict[str, Any]:
    (only,) = house.person.get(f"/api/series/{series}").json["steps"]
    return dict(only)


def test_the_verdict_of_a_step_forms_and_gives_way_to_the_result(house: House) -> None:
    series, run = begin(house)
    assert (step(house, series)["state"], step(house, series)["forming_good"]) == ("running", None)
    tell(house, run, 1, [(50, 50), (50, 50)], [(50, 50), (50, 50)])
    assert step(house, series)["forming_good"] is None
    tell(house, run, 2, [(100, 100), (100, 100)], [(100, 100), (100, 100)])
    assert (step(house, series)["forming_good"], step(house, series)["forming_calls"]) == (2, 2)
    # One call loses a tenth on its way down; the other is silent up.
    tell(house, run, 3, [(150, 150), (150, 150)], [(150, 135), (150, 150)])
    assert step(house, series)["forming_good"] == 1
    tell(house, run, 4, [(150, 150), (0, 0)], [(150, 135), (150, 150)])
    assert step(house, series)["forming_good"] == 0
    deliver(house, run, record_file())
    after = step(house, series)
    assert (after["state"], after["forming_good"], after["good"], after["calls"]) == ("done", None, 2, 2)


def test_a_way_in_which_nothing_is_to_flow_is_not_held_against_a_call(house: House) -> None:
    series, run = begin(house, direction="up")
    tell(house, run, 2, [(100, 100), (100, 100)], [(0, 0), (0, 0)])
    assert step(house, series)["forming_good"] == 2
