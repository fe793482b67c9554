"""Filling the line from the screen to the probe and back: consent, rules, ceiling, what came of it, and the score."""

from __future__ import annotations

import json
from dataclasses import asdict, replace
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from tarnfell.probe.streams import streams_of
from tarnfell.store import fills as fill_store
from tarnfell.store.db import connect, now_us, writing
from tarnfell.wire.kinds.fields import plain, read
from tarnfell.wire.kinds.fill import FillArguments, FillPhase, FillResult, SenderFacts
from tarnfell.wire.record import Record, join_parts
from tarnfell.work.placing.fill_plans import begin_fills
from tests.server.conftest import House

STARTED_US = 1_795_000_000_000_000

KINDS = ["calls", "check", "fill"]
PATH = "/api/sites/pier/fills"


def heartbeat(house: House, holds: list[int]) -> dict[str, Any]:
    body = {"environment": {"system": "test"}, "kinds": KINDS, "holds": holds}
    answer = house.probe("POST", "/api/probe/heartbeat", json=body)
    assert answer.status_code == 200, answer.text
    return dict(answer.json)


def ask(house: House, **changes: Any) -> Any:
    return house.post(PATH, {"probe_id": 1, "far_end_id": 1, "seconds": 8, "consent": True, **changes})


def taken(house: House, **changes: Any) -> dict[str, Any]:
    heartbeat(house, [])
    answer = ask(house, **changes)
    assert answer.status_code == 200, answer.text
    (job,) = heartbeat(house, [])["jobs"]
    return dict(job)


def newest(house: House) -> dict[str, Any]:
    return dict(house.person.get(PATH).json["fills"][0])


def told(
    added_ms: int = 0,
    spoiled: tuple[str, ...] = (),
    resent: int = 30_000,
    slot: int = 120_000,
    ways: tuple[str, ...] = ("up", "down"),
) -> FillResult:
    """Calls of 5 s idle, 8 s full up, 4 s rest, 8 s full down; so much is added to packets sent while it is full."""
    phases = [FillPhase("idle", STARTED_US, STARTED_US + 5_000_000)]
    for way, at_s in (("up", 5), ("down", 17)):
        if way in ways:
            slots, sender = (slot,) * 80, SenderFacts("cubic", 80 * slot, resent, 0.0, 0.0, 90.0)
            here = {way: slots, f"{way}_sender": sender}
            at = STARTED_US + at_s * 1_000_000
            phases.append(replace(FillPhase(way, at, at + 8_000_000), **here))  # type: ignore[arg-type]
    head = Record(
        {"shared": True, "self_check": {"tainted": bool(spoiled), "reasons": list(spoiled)}, "stopped": False}
    )
    parts = [head.serialize()]
    for call in (1, 2):
        columns: dict[str, list[int]] = {}
        for way in ("up", "down"):
            full = next((one for one in phases if one.way == way), None)
            sent = [STARTED_US + n * 20_000 for n in range(29 * 50)]
            queued = [
                (added_ms + n % 7) * 1000 if full and full.from_us <= at < full.until_us else n % 2 * 300
                for n, at in enumerate(sent)
            ]
            columns |= {
                f"{way}.sent_us": sent,
                f"{way}.arrival_seq": list(range(len(sent))),
                f"{way}.arrival_us": [at + 20_000 + q for at, q in zip(sent, queued, strict=True)],
                f"{way}.arrival_dscp": [0 if call == 1 else 46] * len(sent),
            }
        ends = {way: {"ssrc": call, "dscp_sent": 0 if call == 1 else 46} for way in ("up", "down")}
        meta = {
            "call": call,
            "ptime_us": 20_000,
            "start_us": STARTED_US,
            "planned_packets": 1450,
            "bound": True,
            **ends,
        }
        parts.append(Record.of(meta, columns).serialize())
    return FillResult(tuple(phases), (), join_parts(parts))


def deliver(house: House, job: int, result: FillResult) -> Any:
    body = {"result": json.loads(json.dumps(plain(result)))}
    answer = house.probe("POST", f"/api/probe/jobs/{job}/outcome", json=body)
    house.judge()
    return answer


def detail(house: House, job: int) -> dict[str, Any]:
    return dict(house.person.get(f"{PATH}/{job}").json)


def load_of(house: House) -> tuple[dict[str, Any], dict[str, Any]]:
    page = house.person.get("/api/sites/pier").json
    requirement = next(r for r in page["requirements"] if r["key"] == "load")
    return requirement, next(d for d in page["dimensions"] if d["dimension"] == "load")


def test_a_fill_is_asked_for_followed_judged_and_counted(house: House) -> None:
    assert house.person.get(PATH).json["fills"] == []
    assert load_of(house)[0]["state"] == "open"
    job = taken(house)
    arguments = read(FillArguments, job["arguments"])
    assert (arguments.far_host, arguments.far_port, arguments.far_key) == ("192.0.2.10", 4870, "far-end-key")
    assert asdict(arguments.fill) | {"ways": 0} == {
        "seconds": 8, "streams": 4, "idle_s": 5, "rest_s": 4, "ways": 0, "ceiling_kbps": 0,
        "most_bytes": 0,
    }  # fmt: skip
    assert arguments.plan.packets == int(arguments.fill.length_s * 50)
    assert [[s.dscp for s in way] for way in streams_of(arguments.plan)] == [[0, 46], [0, 46]]
    known = FillResult(told().phases[:2])
    answer = house.probe("POST", f"/api/probe/jobs/{job['id']}/known", json={"result": plain(known)})
    assert answer.json == {"stop": False}
    line = newest(house)
    assert (line["state"], [p["way"] for p in line["progress"]]) == ("running", ["idle", "up"])
    assert line["progress"][1]["up_kbps"] == pytest.approx(9600)
    assert deliver(house, job["id"], told(200)).json == {"state": "done"}
    line = newest(house)
    assert (line["state"], line["judged"], line["words"], line["progress"]) == ("done", True, "", [])
    assert [says[:13] for says in line["says"]] == ["A full upload", "A full downlo"]
    found = detail(house, job["id"])["filled"]
    assert [(c["key"], c["direction"]) for c in found["causes"]] == [
        ("uplink-queue", "up"), ("priority-ignored", "up"), ("downlink-queue", "down"), ("priority-ignored", "down"),
    ]  # fmt: skip
    assert found["moved_bytes"] == 2 * 80 * 120_000
    requirement, dimension = load_of(house)
    assert requirement["state"] == "shown not"
    assert 0 < dimension["high"] < 80
    causes = house.person.get("/api/sites/pier").json["causes"]
    assert {c["key"] for c in causes} >= {"uplink-queue", "downlink-queue", "priority-ignored"}
    assert deliver(house, job["id"], told(0)).json == {"state": "done"}  # told again it changes nothing
    assert detail(house, job["id"])["filled"] == found


def test_a_full_line_that_hurts_nobody_is_shown_and_one_way_leaves_the_other_open(house: House) -> None:
    deliver(house, taken(house, ways=["up"])["id"], told(10, ways=("up",)))
    requirement, dimension = load_of(house)
    assert (requirement["state"], dimension["low"], dimension["high"]) == ("open", 0, 100)
    assert "other direction" in requirement["closes"]
    deliver(house, taken(house)["id"], told(10))
    requirement, dimension = load_of(house)
    assert (requirement["state"], dimension["low"], dimension["high"]) == ("shown", 100, 100)
    # A line that was not full is no evidence of a full one.
    deliver(house, taken(house)["id"], told(resent=0, slot=60_000))
    assert load_of(house)[0]["says"].endswith("in 2 line fills; 4.0 is asked.")


def test_a_fill_that_an_end_spoiled_is_shown_and_counts_into_nothing(house: House) -> None:
    job = taken(house)["id"]
    deliver(house, job, told(200, spoiled=("The probe once stood still for 400 ms.",)))
    found = detail(house, job)["filled"]
    assert found["spoiled"] == ["The probe once stood still for 400 ms."]
    assert found["causes"]
    assert load_of(house)[0]["state"] == "open"
    assert not {c["key"] for c in house.person.get("/api/sites/pier").json["causes"]} & {"uplink-queue"}


def test_a_fill_counts_by_the_brief_as_it_is_now(house: House) -> None:
    job = taken(house)["id"]
    deliver(house, job, told(80))
    before = detail(house, job)["filled"]["causes"]
    assert [c["key"] for c in before] == []
    brief = house.person.get("/api/sites/pier/brief").json["form"]
    changed = house.person.put(
        "/api/sites/pier/brief", json={**brief, "stated_calls": 500}, headers={"X-CSRF-Token": house.csrf}
    )
    assert changed.status_code == 200, changed.text
    house.judge()
    causes = detail(house, job)["filled"]["causes"]
    assert [c["key"] for c in causes] == ["uplink-small", "downlink-small"]


def test_nothing_is_filled_without_consent_or_against_the_sites_rules(house: House) -> None:
    db = connect(house.folder)
    db.execute("UPDATE probe SET last_contact_us = last_contact_us - 7200000000")
    assert "offline" in ask(house).json["detail"]
    heartbeat(house, [])
    for wrong in ({"consent": False}, {"consent": None}, {"seconds": 61}, {"seconds": 1}, {"streams": 0},
                  {"ways": ["sideways"]}, {"ways": []}, {"ways": ["up", "up"]}):  # fmt: skip
        assert ask(house, **wrong).status_code == 422, wrong
    assert ask(house, far_end_id=9).status_code == 404
    assert ask(house, probe_id=9).status_code == 404
    db.execute("UPDATE site SET blackouts = ?", (json.dumps([
        {"days": "1234567", "from_minute": 0, "to_minute": 1440, "why": "the fair"}]),))  # fmt: skip
    assert "the fair" in ask(house).json["detail"]
    db.execute("UPDATE site SET blackouts = '[]'")
    assert house.place().status_code == 200
    assert ask(house).status_code == 409  # a run is in progress


def test_calls_wait_while_the_line_is_filled(house: House) -> None:
    job = taken(house)["id"]
    assert "is being filled" in house.place().json["detail"]
    assert ask(house).status_code == 409
    stopped = house.post(f"{PATH}/{job}/stop", {})
    assert stopped.status_code == 200
    assert heartbeat(house, [job])["stop"] == [job]
    house.probe("POST", f"/api/probe/jobs/{job}/failure", json={"reason": "It was stopped.", "code": "own"})
    assert newest(house)["words"] == "It was stopped."
    assert house.place().status_code == 200


def test_streams_stay_below_the_sites_ceiling_unless_somebody_says_otherwise(house: House) -> None:
    db = connect(house.folder)
    db.execute("UPDATE site SET ceiling_pct = 40")
    assert house.person.get(PATH).json["ceiling_kbps"] == 4000  # of 10 Mbit/s, the slower direction
    first = taken(house)
    assert first["arguments"]["fill"]["ceiling_kbps"] == 4000
    deliver(house, first["id"], told())
    second = taken(house, beyond_ceiling=True)
    assert "ceiling_kbps" not in second["arguments"]["fill"]


def test_what_cannot_be_read_is_said_and_harms_nothing(house: House) -> None:
    broken = told()
    for result, says in (
        (replace(broken, record=broken.record[:200]), "Packet record"),
        (replace(broken, record=b""), ""),
        (replace(broken, record=join_parts([Record({"shared": True}).serialize()])), "two calls"),
    ):
        job = taken(house)["id"]
        assert deliver(house, job, result).json == {"state": "done"}
        line = newest(house)
        assert not line["judged"]
        assert says in line["words"]
        assert detail(house, job)["filled"] is None
    assert load_of(house)[0]["state"] == "open"
    job = taken(house)["id"]
    answer = house.probe("POST", f"/api/probe/jobs/{job}/outcome", json={"result": {"record": "not base64!"}})
    assert answer.json == {"state": "failed"}


def test_another_sites_fill_is_not_to_be_had(house: House) -> None:
    job = taken(house)["id"]
    house.post("/api/sites/pier/duplicate", {"name": "Annex"})
    assert house.person.get(f"/api/sites/annex/fills/{job}").status_code == 404
    assert house.post(f"/api/sites/annex/fills/{job}/stop", {}).status_code == 404
    checks = house.person.get(f"/api/sites/pier/checks/{job}/stop")
    assert checks.status_code in (404, 405)


def test_fills_are_told_newest_first(house: House) -> None:
    jobs = []
    for _ in range(3):
        jobs.append(taken(house)["id"])
        deliver(house, jobs[-1], told())
    db = connect(house.folder)
    assert [one.job_id for one in fill_store.fills_of(db, 1)] == jobs[::-1]
    assert [one["id"] for one in house.person.get(PATH).json["fills"]] == jobs[::-1]


# Planned


def plan_of(house: House, **changes: Any) -> Any:
    when = {"when": "at", "start_local": local(3600), **changes}
    return ask(house, **when)


def local(seconds_ahead: float) -> str:
    at = datetime.fromtimestamp(now_us() / 1e6, ZoneInfo("Europe/London")) + timedelta(seconds=seconds_ahead)
    return at.strftime("%Y-%m-%dT%H:%M")


def at_us(local_time: str, seconds: float = 0) -> int:
    at = datetime.fromisoformat(local_time).replace(tzinfo=ZoneInfo("Europe/London"))
    return round((at.timestamp() + seconds) * 1e6)


def turn(house: House, at: int) -> list[str]:
    """The clerk's turn at that time, with the probe's last contact then; the states of all fills, newest first."""
    db = connect(house.folder)
    begin_fills(db, at)
    db.close()
    return [one["state"] for one in house.person.get(PATH).json["fills"]]


def test_a_fill_is_begun_at_its_time_and_once(house: House) -> None:
    heartbeat(house, [])
    start = local(3600)
    (plan,) = plan_of(house, start_local=start).json["plans"]
    assert (plan["next_us"], plan["recurs"], plan["last_us"]) == (at_us(start), None, None)
    assert turn(house, at_us(start) - 1) == []
    assert turn(house, at_us(start)) == ["waiting"]
    assert turn(house, at_us(start, 5)) == ["waiting"]
    assert house.person.get(PATH).json["plans"] == []
    assert [job["kind"] for job in heartbeat(house, [])["jobs"]] == ["fill"]


def test_recurring_fills_go_on_and_say_why_one_was_left_out(house: House) -> None:
    heartbeat(house, [])
    start = local(3600)
    (plan,) = plan_of(house, when="repeat", rule="FREQ=HOURLY", start_local=start).json["plans"]
    assert turn(house, at_us(start)) == ["waiting"]
    (plan,) = house.person.get(PATH).json["plans"]
    assert (plan["next_us"], plan["last_us"], plan["last_words"]) == (at_us(start, 3600), at_us(start), "")
    # The one before is still under way: waited for, then left out.
    assert turn(house, at_us(start, 3600 + 599)) == ["waiting"]
    assert house.person.get(PATH).json["plans"][0]["next_us"] == at_us(start, 3600)
    turn(house, at_us(start, 3600 + 601))
    (plan,) = house.person.get(PATH).json["plans"]
    assert (plan["next_us"], plan["last_words"]) == (
        at_us(start, 7200), "The line of the site was being filled.",
    )  # fmt: skip
    # The server was away for a day: one is told as left out, and the next is the one to come.
    fresh = house.person.get(PATH).json["fills"][0]["id"]
    house.post(f"{PATH}/{fresh}/stop", {})
    turn(house, at_us(start, 26.5 * 3600))
    (plan,) = house.person.get(PATH).json["plans"]
    assert (plan["next_us"], plan["last_words"]) == (
        at_us(start, 27 * 3600), "The server was not running at that time.",
    )  # fmt: skip
    answer = house.person.delete(f"/api/sites/pier/fill-plans/{plan['id']}", headers={"X-CSRF-Token": house.csrf})
    assert answer.json["plans"] == []
    assert len(turn(house, at_us(start, 40 * 3600))) == 1


def test_what_is_planned_can_be_changed_and_what_became_of_it_stays(house: House) -> None:
    heartbeat(house, [])
    start, later = local(3600), local(7200)
    (plan,) = plan_of(house, when="repeat", rule="FREQ=HOURLY", start_local=start, ways=["up"]).json["plans"]
    assert (plan["next_local"], plan["probe_id"], plan["far_end_id"]) == (start, 1, 1)
    turn(house, at_us(start))
    path = f"/api/sites/pier/fill-plans/{plan['id']}"

    def put(**body: Any) -> Any:
        whole = {"probe_id": 1, "far_end_id": 1, "consent": True, "seconds": 8, **body}
        return house.person.put(path, json=whole, headers={"X-CSRF-Token": house.csrf})

    (changed,) = put(when="at", start_local=later, seconds=5, ways=["down"]).json["plans"]
    assert (changed["id"], changed["next_us"], changed["recurs"]) == (plan["id"], at_us(later), None)
    assert (changed["seconds"], changed["ways"], changed["last_us"]) == (5, ["down"], at_us(start))
    for wrong, status, says in (
        ({"when": "now"}, 422, "Say when they are to begin"),
        ({"when": "at", "start_local": "2020-01-01T10:00"}, 422, "That time is over"),
        ({"when": "at", "start_local": later, "ways": ["up", "up"]}, 422, "Each way is filled once"),
    ):
        answer = put(**wrong)
        assert (answer.status_code, says in answer.json["detail"]) == (status, True)
    house.post(f"{PATH}/{newest(house)['id']}/stop", {})
    turn(house, at_us(later))
    assert put(when="at", start_local=local(10_000)).status_code == 404  # it is over


def test_hours_without_load_are_left_out_of_a_recurrence(house: House) -> None:
    heartbeat(house, [])
    db = connect(house.folder)
    with writing(db):
        db.execute("UPDATE site SET blackouts = ?", (json.dumps([
            {"days": "1234567", "from_minute": 0, "to_minute": 1440, "why": "stocktaking"}]),))  # fmt: skip
    start = local(3600)
    plan_of(house, when="repeat", rule="FREQ=DAILY", start_local=start)
    assert turn(house, at_us(start)) == []
    (plan,) = house.person.get(PATH).json["plans"]
    assert plan["last_words"] == "It fell into hours without load."
    assert plan["next_us"] > at_us(start)
    assert "stocktaking" in plan_of(house).json["detail"]


@pytest.mark.parametrize(
    ("body", "says"),
    [
        ({"start_local": "soon"}, "Say when it starts"),
        ({"start_local": "2020-01-01T10:00"}, "That time is over"),
        ({"when": "repeat", "rule": "FREQ=SECONDLY"}, "must say how often"),
    ],
)
def test_what_cannot_be_planned_gets_a_sentence(house: House, body: dict[str, Any], says: str) -> None:
    heartbeat(house, [])
    answer = plan_of(house, **body)
    assert (answer.status_code, says in answer.json["detail"]) == (422, True), answer.json["detail"]
