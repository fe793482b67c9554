"""Plans carried out by the clerk: step by step, once, through restarts, and stopped with the reason."""

from __future__ import annotations

import threading
from datetime import timedelta
from typing import Any

from tarnfell.core.schedule import from_us
from tarnfell.store.db import connect, now_us
from tests.server.conftest import House, record_file
from tests.server.test_plans import LONDON, carry_out, make, series, set_site, tick, tomorrow, wall

# Carrying out


def test_a_ramp_goes_step_by_step_to_its_staircase(house: House) -> None:
    house.heartbeat()
    made = make(house, shape="ramp", first=1, calls=3, by=1, rounds=2).json
    assert series(house, made["series_id"])["state"] == "running"
    placed = [carry_out(house, lost=tuple(range(40)) if n % 3 == 2 else ())["plan"]["calls"] for n in range(6)]
    assert placed == [1, 2, 3, 1, 2, 3]
    assert house.heartbeat() is None
    page = series(house)
    assert (page["state"], page["held_calls"], page["shown_calls"], page["needed_calls"]) == ("done", 2, None, 2)
    assert [(s["calls_at_once"], s["good"], s["calls"], s["passes"]) for s in page["steps"]] == [
        (1, 2, 2, True),
        (2, 4, 4, True),
        (3, 4, 6, False),
    ]
    assert {s["shows"] for s in page["steps"]} == {"open"}
    assert (page["steps"][0]["moments"], page["steps"][0]["more_moments"]) == (1, 143)
    lines = house.person.get("/api/sites/pier/plans").json["series"]
    assert (lines[0]["steps_done"], lines[0]["steps"]) == (6, 6)


def test_a_series_goes_on_after_the_server_was_killed(house: House) -> None:
    """Nothing is held in memory: another process's tick goes on where the records stand."""
    house.heartbeat()
    make(house, rounds=2)
    carry_out(house)
    tick(house)
    tick(house)
    carry_out(house)
    assert series(house)["state"] == "done"
    assert connect(house.folder).execute("SELECT count(*) FROM run").fetchone()[0] == 2


def test_ticks_at_the_same_moment_begin_a_plan_once(house: House) -> None:
    make(house, when="at", start_local=wall(tomorrow(9)))
    barrier = threading.Barrier(8)

    def at_once() -> None:
        barrier.wait()
        tick(house, tomorrow(9))

    threads = [threading.Thread(target=at_once) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    db = connect(house.folder)
    assert [db.execute(f"SELECT count(*) FROM {t}").fetchone()[0] for t in ("series", "run")] == [1, 1]


def test_a_series_that_cannot_be_read_does_not_hold_up_the_others(house: House) -> None:
    house.heartbeat()
    make(house, when="at", start_local=wall(tomorrow(9)), name="Broken")
    make(house, when="at", start_local=wall(tomorrow(10)), name="Whole")
    db = connect(house.folder)
    db.execute("UPDATE plan SET next_us = 1, shape = '{}' WHERE name = 'Broken'")
    db.execute("UPDATE plan SET next_us = ? WHERE name = 'Whole'", (now_us(),))
    db.execute("INSERT INTO series (plan_id, site_id, state, due_us) VALUES (1, 1, 'waiting', 1)")
    db.execute("UPDATE plan SET state = 'ended' WHERE name = 'Broken'")
    tick(house)
    assert house.heartbeat() is not None


def test_a_stop_ends_all_of_it(house: House) -> None:
    house.heartbeat()
    make(house, rounds=3)
    run = house.heartbeat()
    assert run is not None
    page = house.post("/api/series/1/stop", {}).json
    assert (page["state"], page["words"]) == ("stopped", "Stopped by Tess Ter.")
    house.deliver(run["id"], record_file())
    tick(house)
    assert house.heartbeat() is None


def test_a_run_that_fails_ends_its_series_with_the_reason(house: House) -> None:
    house.heartbeat()
    make(house, rounds=3)
    run = house.heartbeat()
    assert run is not None
    house.probe("POST", f"/api/probe/jobs/{run['id']}/failure", json={"reason": "No far end."})
    tick(house)
    assert (series(house)["state"], series(house)["words"]) == ("failed", "No far end.")


def seconds(house: House, run: int, rate: float, first: int, last: int) -> Any:
    """Progress of two calls of which ``rate`` of the packets arrive up the line."""
    answer = None
    for second in range(first, last + 1):
        side = {"sent": 50 * second, "reached": 50 * second, "late": 0, "jitter_us": 0, "pdv_us": 0}
        up = [{**side, "received": round(50 * rate * second)}] * 2
        down = [{**side, "received": 50 * second}] * 2
        body = {"second": second, "up": up, "down": down, "rtt_us": 9000, "send_late_max_us": 10}
        answer = house.probe("POST", f"/api/probe/jobs/{run}/progress", json=body)
    return answer.json["stop"]


def test_heavy_loss_stops_the_run_and_what_would_follow(house: House) -> None:
    house.heartbeat()
    make(house, shape="ramp", first=2, calls=4, by=1, call_s=120)
    run = house.heartbeat()
    assert run is not None
    assert seconds(house, run["id"], 0.65, 1, 10) is False
    assert seconds(house, run["id"], 0.65, 11, 11) is True
    house.deliver(run["id"], record_file())
    tick(house)
    page = series(house)
    assert page["state"] == "stopped"
    assert page["words"].startswith("Stopped by itself: at least 30 %")
    assert house.heartbeat() is None


def test_loss_that_passes_does_not_stop_a_run(house: House) -> None:
    run = house.place(seconds=120).json["id"]
    house.heartbeat()
    assert seconds(house, run, 0.75, 1, 30) is False


def test_a_start_waits_for_the_probe_and_is_missed_with_the_reason(house: House) -> None:
    make(house, when="at", start_local=wall(tomorrow(9)))
    connect(house.folder).execute("UPDATE probe SET last_contact_us = 5")
    tick(house, tomorrow(9))
    assert series(house)["state"] == "waiting"
    tick(house, tomorrow(9, 9))
    assert series(house)["state"] == "waiting"
    tick(house, tomorrow(9, 11))
    assert (series(house)["state"], series(house)["words"]) == ("missed", "pier-probe was offline.")


def test_a_start_while_the_server_was_away_is_missed_and_the_next_one_is_not(house: House) -> None:
    make(house, when="repeat", start_local=wall(tomorrow(9)), rule="FREQ=DAILY")
    tick(house, tomorrow(11))
    assert "server was not running" in series(house)["words"]
    (line,) = house.person.get("/api/sites/pier/plans").json["plans"]
    assert from_us(line["next_us"]).astimezone(LONDON).hour == 9
    assert from_us(line["next_us"]) > tomorrow(11)


def test_hours_without_load_stop_what_would_run_into_them(house: House) -> None:
    house.heartbeat()
    make(house, rounds=2, call_s=60)
    carry = house.heartbeat()
    assert carry is not None
    set_site(house, blackouts='[{"days": "1234567", "from_minute": 0, "to_minute": 1440, "why": "strike"}]')
    house.deliver(carry["id"], record_file())
    assert (series(house)["state"], series(house)["words"]) == ("stopped", "Hours without load had come: strike.")
    assert "No load may be placed here" in house.place().json["detail"]


def test_a_run_nobody_takes_is_given_up(house: House) -> None:
    house.heartbeat()
    make(house)
    tick(house, from_us(now_us()) + timedelta(minutes=11))
    tick(house, from_us(now_us()) + timedelta(minutes=11))
    assert series(house)["state"] == "failed"
    assert "Never begun: the probe was offline" in series(house)["words"]
    left_out = house.person.get("/api/sites/pier").json["left_out"]
    assert left_out == [{"what": "of runs that failed for a reason that says nothing of the network", "calls": 2}]


def test_what_is_not_there(house: House) -> None:
    assert house.person.get("/api/series/9").status_code == 404
    headers = {"X-CSRF-Token": house.csrf}
    assert house.person.delete("/api/sites/pier/plans/9", headers=headers).status_code == 404


def test_a_step_whose_runs_were_all_spoiled_is_invalid_and_shows_nothing(house: House) -> None:
    house.heartbeat()
    make(house)
    job = house.heartbeat()
    assert job is not None
    house.deliver(job["id"], record_file(tainted=True))
    tick(house)
    (step,) = series(house)["steps"]
    assert (step["state"], step["pct"], step["shows"]) == ("invalid", None, "open")
    assert (series(house)["held_calls"], series(house)["shown_calls"]) == (None, None)
