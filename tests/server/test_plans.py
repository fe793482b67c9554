"""Plans: what speaks against them, when they run, how each carrying-out goes, and its staircase."""

from __future__ import annotations

import json
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import icalendar
import pytest

from tarnfell.core.schedule import from_us
from tarnfell.store.db import connect, now_us
from tarnfell.work.placing import carry_out as placing
from tests.server.conftest import House, record_file

LONDON = ZoneInfo("Europe/London")


def plan(**changes: Any) -> dict[str, Any]:
    return {"probe_id": 1, "far_end_id": 1, "codec": "g711a", "calls": 2, "call_s": 2, **changes}


def check(house: House, **changes: Any) -> Any:
    """What the server says of a plan, and what it takes, in one."""
    found = house.post("/api/sites/pier/plans/check", plan(**changes)).json
    return {**found, **found["takes"]}


def make(house: House, **changes: Any) -> Any:
    return house.post("/api/sites/pier/plans", plan(**changes))


def set_site(house: House, **columns: Any) -> None:
    db = connect(house.folder)
    for name, value in columns.items():
        db.execute(f"UPDATE site SET {name} = ?", (value,))


def tick(house: House, at: datetime | None = None) -> None:
    db = connect(house.folder)
    placing.carry_out(db, None if at is None else round(at.timestamp() * 1e6))
    db.close()


def now() -> datetime:
    return datetime.fromtimestamp(now_us() / 1e6, LONDON)


def tomorrow(hour: int, minute: int = 0) -> datetime:
    day = (now() + timedelta(days=1)).date()
    return datetime(day.year, day.month, day.day, hour, minute, tzinfo=LONDON)


def wall(at: datetime) -> str:
    return f"{at.astimezone(LONDON):%Y-%m-%dT%H:%M}"


def series(house: House, number: int = 1) -> dict[str, Any]:
    return house.person.get(f"/api/series/{number}").json


def carry_out(house: House, lost: tuple[int, ...] = ()) -> dict[str, Any]:
    """The probe takes the run that waits and delivers it."""
    job = house.heartbeat()
    assert job is not None
    calls = job["plan"]["calls"]
    sent = house.deliver(job["id"], record_file(calls=calls, lost=lost))
    assert sent.status_code == 200, sent.text
    return job


# Checking


def test_what_a_ramp_costs_and_yields(house: House) -> None:
    found = check(house, shape="ramp", first=1, calls=7, by=3, call_s=60, rounds=2)
    assert found["steps"] == [1, 4, 7]
    assert (found["calls"], found["run_s"]) == (24, 6 * 60 + 5 * 5)
    assert found["share_up_pct"] == pytest.approx(7 * 84 / 100)
    assert found["problems"] == []
    assert any("This covers 1 ten-minute moment; 122 without a bad call show 97 %" in r for r in found["remarks"])
    assert (found["moments"], found["shows_pct"]) == (1, pytest.approx(2.5))


def test_what_starts_again_and_again_says_how_often_it_must(house: House) -> None:
    again = {"when": "repeat", "start_local": "2026-11-25T09:00", "rule": "FREQ=DAILY"}
    for call_s, says in (
        (600, "Each start covers 1 ten-minute moment; 122 without a bad call show 97 %, which takes 122 starts."),
        (1500, "Each start covers 3 ten-minute moments; 122 without a bad call show 97 %, which takes 41 starts."),
    ):
        assert says in check(house, calls=2, call_s=call_s, **again)["remarks"]


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"codec": "g999"}, "No codec"),
        ({"ptime_ms": 15}, "cannot be sent every 15"),
        ({"calls": 101}, "one probe places 1 to 100"),
        ({"shape": "ramp", "first": 5, "calls": 4}, "never goes up"),
        ({"when": "at"}, "Say when it starts"),
        ({"when": "repeat", "start_local": "2026-11-25T09:00", "rule": "FREQ=SECONDLY"}, "how often"),
    ],
)
def test_what_cannot_be_placed_at_all(house: House, change: dict[str, Any], says: str) -> None:
    for path in ("plans", "plans/check"):
        answer = house.post(f"/api/sites/pier/{path}", plan(**change))
        assert answer.status_code == 422
        assert says in answer.json["detail"]


def only_problem(found: dict[str, Any]) -> dict[str, Any]:
    (problem,) = found["problems"]
    return dict(problem)


def fixed(house: House, problem: dict[str, Any]) -> Any:
    """The plan proposed in its place has nothing against it."""
    assert problem["fix_words"]
    found = house.post("/api/sites/pier/plans/check", problem["fix"]).json
    assert found["problems"] == []
    return problem["fix"]


def test_beyond_the_ceiling_the_nearest_load_is_proposed(house: House) -> None:
    set_site(house, ceiling_pct=5.0)  # of 10 Mbit/s, 84 kbit/s a call: five
    problem = only_problem(check(house, calls=9))
    assert "5 % of the line is room for 5" in problem["words"]
    assert fixed(house, problem)["calls"] == 5
    assert "room for 5" in make(house, calls=9).json["detail"]
    house.heartbeat()
    assert "room for 5" in house.place(calls=9).json["detail"]
    set_site(house, ceiling_pct=0.5)  # 50 kbit/s: not one
    assert house.place(calls=9).json["detail"].startswith("9 calls are beyond this site's ceiling: 0.5 % of the line")
    assert "is room for 0" in house.place(calls=1).json["detail"]


def test_a_window_too_short_is_said_and_shortened(house: House) -> None:
    set_site(house, blackouts='[{"days": "1234567", "from_minute": 540, "to_minute": 600, "why": "departures"}]')
    start = wall(tomorrow(8, 30))
    problem = only_problem(check(house, when="at", start_local=start, call_s=300, rounds=12))
    assert "would run into hours without load" in problem["words"]
    assert "departures" in problem["words"]
    fix = fixed(house, problem)
    assert (fix["rounds"], fix["start_local"]) == (5, start)
    # One call longer than the window cannot be shortened: it is moved behind it.
    moved = fixed(house, only_problem(check(house, when="at", start_local=start, call_s=2400)))
    assert moved["start_local"] == wall(tomorrow(10))


def test_a_recurrence_leaves_out_the_hours_without_load(house: House) -> None:
    """Hourly with a lunch blackout is a plan like any other; a recurrence that never lies outside is none."""
    set_site(house, blackouts='[{"days": "1234567", "from_minute": 720, "to_minute": 780, "why": "lunch"}]')
    rule = "FREQ=DAILY;BYHOUR=9,10,11,12,13,14"
    found = check(house, when="repeat", start_local=wall(tomorrow(9, 15)), rule=rule)
    assert found["problems"] == []
    assert any("skipped: 8 of the next 50" in r for r in found["remarks"])
    hours = [from_us(at).astimezone(LONDON).hour for at in found["starts"]]
    assert hours == [9, 10, 11, 13, 14]
    lunch = check(house, when="repeat", start_local=wall(tomorrow(12, 15)), rule="FREQ=DAILY")
    assert "would run into hours without load" in only_problem(lunch)["words"]


@pytest.mark.parametrize(
    ("local", "says"),
    [
        (
            "2027-03-28T01:30",
            "01:30 on 28 March is skipped there: clocks are put forward that night. It starts at 02:30.",
        ),
        ("2027-10-31T01:30", "01:30 on 31 October comes twice there: clocks are put back that night."),
        ("2027-10-31T03:30", None),
    ],
)
def test_a_time_that_a_change_of_the_clocks_skips_or_repeats_is_said(
    house: House, local: str, says: str | None
) -> None:
    remarks = check(house, when="at", start_local=local)["remarks"]
    assert any(r.startswith(says) for r in remarks) if says else not any("clocks" in r for r in remarks)


def test_hours_without_load_may_pass_midnight(house: House) -> None:
    """Fridays from 22:00 to 6:00: Saturday at two is within them, Friday at two is not."""
    hours = [{"days": "5", "from_minute": 1320, "to_minute": 360, "why": "stocktaking"}]
    set_site(house, blackouts=json.dumps(hours))
    saturday = next(d for n in range(1, 8) if (d := tomorrow(2) + timedelta(days=n)).isoweekday() == 6)
    problems = check(house, when="at", start_local=wall(saturday))["problems"]
    assert "stocktaking" in problems[0]["words"]
    assert check(house, when="at", start_local=wall(saturday - timedelta(days=1)))["problems"] == []


def test_a_start_within_the_hours_without_load_is_skipped_and_the_plan_goes_on(house: House) -> None:
    house.heartbeat()
    set_site(house, blackouts='[{"days": "1234567", "from_minute": 720, "to_minute": 780, "why": "lunch"}]')
    rule = "FREQ=DAILY;BYHOUR=11,12,13"
    made = make(house, when="repeat", start_local=wall(tomorrow(11, 15)), rule=rule)
    assert made.status_code == 200, made.text
    for hour in (11, 12, 13):
        tick(house, tomorrow(hour, 16))
    rows = connect(house.folder).execute("SELECT due_us FROM series ORDER BY due_us").fetchall()
    assert [from_us(row[0]).astimezone(LONDON).hour for row in rows] == [11, 13]


def test_a_recurrence_is_checked_on_every_day_it_falls_on(house: House) -> None:
    set_site(house, blackouts='[{"days": "3", "from_minute": 540, "to_minute": 600, "why": ""}]')
    found = check(house, when="repeat", start_local=wall(tomorrow(9, 15)), rule="FREQ=DAILY")
    assert found["problems"] == []
    assert len(found["starts"]) == 5
    assert not [at for at in found["starts"] if from_us(at).astimezone(LONDON).isoweekday() == 3]
    weekdays = check(house, when="repeat", start_local=wall(tomorrow(9, 15)), rule="FREQ=WEEKLY;BYDAY=MO,TU,TH,FR")
    assert weekdays["problems"] == []


def test_a_clash_with_another_plan(house: House) -> None:
    first = make(house, when="repeat", start_local=wall(tomorrow(9)), rule="FREQ=DAILY", call_s=600, name="Mornings")
    assert first.status_code == 200, first.text
    problem = only_problem(check(house, when="at", start_local=wall(tomorrow(9, 5))))
    assert "another plan is on until" in problem["words"]
    assert fixed(house, problem)["start_local"] == wall(tomorrow(9, 10))
    # Changing a plan, it does not clash with itself.
    again = house.person.put(
        f"/api/sites/pier/plans/{first.json['plan_id']}",
        json=plan(when="repeat", start_local=wall(tomorrow(9, 5)), rule="FREQ=DAILY", call_s=600),
        headers={"X-CSRF-Token": house.csrf},
    )
    assert again.status_code == 200, again.text


def test_a_recurrence_faster_than_the_load_is_long(house: House) -> None:
    found = check(house, when="repeat", start_local=wall(tomorrow(9)), rule="FREQ=HOURLY", call_s=3000, rounds=2)
    assert "starts again before it is over" in only_problem(found)["words"]


def test_places_that_are_not_ready(house: House) -> None:
    house.heartbeat()
    connect(house.folder).execute("UPDATE probe SET last_contact_us = 5")
    silent = only_problem(check(house))
    assert "is offline" in silent["words"]
    assert silent["fix"]["when"] == "draft"
    assert "not chosen for this site" in only_problem(check(house, far_end_id=7))["words"]
    assert "no such probe" in only_problem(check(house, probe_id=9))["words"]


def test_a_start_that_is_past(house: House) -> None:
    past = wall(now() - timedelta(hours=2))
    before = now()
    problem = only_problem(check(house, when="at", start_local=past))
    assert "is past" in problem["words"]
    proposed = datetime.fromisoformat(fixed(house, problem)["start_local"]).replace(tzinfo=LONDON)
    # Soon, and with time left to look at it.
    assert timedelta(minutes=4) < proposed - before <= timedelta(minutes=10)
    # What comes again goes on with its next time.
    assert check(house, when="repeat", start_local=past, rule="FREQ=DAILY")["problems"] == []


# Scheduled and drafts


def test_a_draft_is_plainly_a_draft_until_it_is_scheduled(house: House) -> None:
    number = make(house, when="draft", name="Later").json["plan_id"]
    (line,) = house.person.get("/api/sites/pier/plans").json["plans"]
    assert (line["state"], line["next_us"]) == ("draft", None)
    step = house.person.get("/api/sites/pier").json["next"]
    assert (step["action"], step["words"]) == ("plan", "Schedule the draft “Later”")
    tick(house, now() + timedelta(days=400))
    scheduled = plan(when="at", start_local=wall(tomorrow(9)), name="Later")
    house.person.put(f"/api/sites/pier/plans/{number}", json=scheduled, headers={"X-CSRF-Token": house.csrf})
    (line,) = house.person.get("/api/sites/pier/plans").json["plans"]
    assert (line["state"], from_us(line["next_us"])) == ("scheduled", tomorrow(9))
    gone = house.person.delete(f"/api/sites/pier/plans/{number}", headers={"X-CSRF-Token": house.csrf}).json
    assert gone["plans"] == []


def test_the_calendar_reads_back(house: House) -> None:
    make(house, when="repeat", start_local=wall(tomorrow(9)), rule="FREQ=WEEKLY;BYDAY=MO;COUNT=3", name="Mondays")
    make(house, when="draft", name="Not this one")
    text = house.person.get("/api/sites/pier/plans.ics").data
    read = icalendar.Calendar.from_ical(text)
    (event,) = read.walk("VEVENT")
    assert event["SUMMARY"] == "Test calls at Pier office: Mondays"
    assert event["RRULE"].to_ical() == b"FREQ=WEEKLY;COUNT=3;BYDAY=MO"
    assert event.decoded("dtstart") == tomorrow(9)
    assert event.decoded("duration") == timedelta(seconds=2)
    assert [str(z["TZID"]) for z in read.walk("VTIMEZONE")] == ["Europe/London"]


def test_instead_of_a_probe_that_is_offline_another_is_proposed_but_not_the_far_end_itself(house: House) -> None:
    db = connect(house.folder)
    db.execute("UPDATE probe SET last_contact_us = 5")
    columns = "site_id, test_point_id, enrolled_us, created_us"
    for name in ("far-probe", "near-probe"):
        db.execute(
            f"INSERT INTO probe (name, last_contact_us, {columns}) SELECT ?, ?, {columns} FROM probe WHERE id = 1",
            (name, now_us()),
        )
    db.execute("UPDATE far_end SET probe_id = 2, kind = 'probe'")

    def fix() -> tuple[str, int, str]:
        (one,) = check(house, when="now")["problems"]
        return one["fix_words"], one["fix"]["probe_id"], one["fix"]["when"]

    assert fix() == ("place from near-probe", 3, "now")
    db.execute("UPDATE probe SET last_contact_us = 5 WHERE id = 3")
    assert fix() == ("save it as a draft until it is online", 1, "draft")
