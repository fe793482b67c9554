"""Which jobs a probe is given at its heartbeat: lanes, order, losses, and probes of before."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import Any

import pytest

from tarnfell.store import jobs, probes, runs
from tarnfell.store.db import open_database
from tarnfell.store.runs import RunSpec
from tarnfell.wire.kinds import KINDS, Name
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.work.placing import hand_out as hands
from tarnfell.work.placing.hand_out import Told, anything_open, hand_out, to_stop
from tests.server.conftest import set_up

ALL = list(KINDS)


@pytest.fixture
def db(tmp_path: Path) -> sqlite3.Connection:
    made = open_database(tmp_path)
    _, code = set_up(made, "192.0.2.1", 4870, "far-end-key")
    probes.enrol(made, code, Surroundings())
    return made


def asked(db: sqlite3.Connection, *kinds: Name) -> list[int]:
    numbers = []
    for kind in kinds:
        if kind == "calls":
            spec = RunSpec(site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=2, seconds=1, dscp=46)
            numbers.append(runs.add_run(db, spec, "").id)
        else:
            numbers.append(jobs.add(db, 1, 1, kind, "", arguments={"of": len(numbers)}))
    return numbers


def given(db: sqlite3.Connection, holds: Any = (), kinds: Any = ALL) -> list[int]:
    told = Told(holds, kinds)
    return [offer.job.id for offer in hand_out(db, probes.probe_by_id(db, 1), told)]


def states(db: sqlite3.Connection, numbers: list[int]) -> list[str]:
    return [jobs.job_by_id(db, number).state for number in numbers]


def test_light_work_goes_beside_calls_and_a_second_load_waits(db: sqlite3.Connection) -> None:
    first, second, light = asked(db, "calls", "calls", "distances")
    assert given(db) == [first, light]
    assert given(db, holds=[first, light]) == []
    assert states(db, [first, second, light]) == ["taken", "waiting", "taken"]
    jobs.move(db, first, "done", "")
    assert given(db, holds=[light]) == [second]


def test_what_changes_the_program_waits_for_all_and_nothing_overtakes_it(db: sqlite3.Connection) -> None:
    calls, update, light = asked(db, "calls", "update", "distances")
    assert given(db) == [calls]
    assert given(db, holds=[calls]) == []
    jobs.move(db, calls, "failed", "")
    assert given(db) == [update]
    assert given(db, holds=[update]) == []
    jobs.move(db, update, "done", "")
    assert given(db) == [light]


def test_what_was_given_and_is_not_held_is_given_again_or_fails(db: sqlite3.Connection) -> None:
    calls, light = asked(db, "calls", "distances")
    assert given(db) == [calls, light]
    assert given(db, holds=[]) == [calls, light]  # the answer was lost
    assert [e.state for e in jobs.events(db, calls)] == ["waiting", "taken"]
    jobs.move(db, calls, "running", "")
    assert given(db, holds=[light]) == []
    lost = jobs.job_by_id(db, calls)
    assert (lost.state, lost.failure, lost.failure_code) == ("failed", hands.LOST_RUN, "own")
    assert states(db, [light]) == ["taken"]


def test_a_record_that_is_here_is_not_missed(db: sqlite3.Connection) -> None:
    (calls,) = asked(db, "calls")
    given(db)
    jobs.move(db, calls, "running", "")
    db.execute("INSERT INTO delivery (run_id, sha256, received_us) VALUES (?, 'x', 1)", (calls,))
    assert given(db, holds=[]) == []
    assert states(db, [calls]) == ["running"]


def test_a_kind_the_probe_does_not_know_fails_with_what_to_do(db: sqlite3.Connection) -> None:
    light, calls = asked(db, "distances", "calls")
    assert given(db, kinds=["calls"]) == [calls]
    assert jobs.job_by_id(db, light).failure == hands.UNKNOWN
    assert jobs.job_by_id(db, light).failure_code == "other"


def test_calls_are_told_in_rtps_terms_and_everything_else_as_it_was_asked(db: sqlite3.Connection) -> None:
    asked(db, "calls", "distances")
    calls, light = hand_out(db, probes.probe_by_id(db, 1), Told([], ALL))
    assert (calls.arguments["far_host"], calls.arguments["far_key"]) == ("192.0.2.1", "far-end-key")
    assert calls.arguments["plan"] == {
        "calls": 2, "packets": 50, "ptime_us": 20_000, "payload_type": 8, "clock_hz": 8000, "payload_bytes": 160,
        "dscp": 46,
    }  # fmt: skip
    assert light.arguments == {"of": 1}


def test_who_does_one_thing_at_a_time_gets_one_and_what_is_soon_done_first(db: sqlite3.Connection) -> None:
    calls, light, silence = asked(db, "calls", "distances", "silence")
    assert given(db, kinds=None) == [light]
    jobs.move(db, light, "done", "")
    assert given(db, kinds=None) == [silence]
    jobs.move(db, silence, "done", "")
    assert given(db, kinds=None) == [calls]
    assert given(db, holds=[], kinds=None) == [calls]  # lost: given again


@pytest.mark.parametrize("holds", [None, []])
def test_who_does_one_thing_at_a_time_and_asks_again_has_lost_what_it_had(
    db: sqlite3.Connection, holds: list[int] | None
) -> None:
    light, calls = asked(db, "distances", "calls")
    given(db, holds, None)
    assert given(db, holds, None) == [calls]
    assert jobs.job_by_id(db, light).failure == hands.LOST
    # Who does not tell what it holds may be delivering the run.
    again = given(db, holds, None)
    assert again == ([] if holds is None else [calls])
    assert states(db, [calls]) == ["taken"]


def test_most_heartbeats_find_nothing_to_do(db: sqlite3.Connection) -> None:
    probe = probes.probe_by_id(db, 1)
    assert not anything_open(db, probe, Told([], ALL))
    (calls,) = asked(db, "calls")
    assert anything_open(db, probe, Told([], ALL))
    given(db)
    assert anything_open(db, probe, Told([], ALL))
    assert not anything_open(db, probe, Told([calls], ALL))


def test_only_what_is_out_and_wanted_to_end_is_stopped(db: sqlite3.Connection) -> None:
    first, second, light = asked(db, "calls", "calls", "distances")
    given(db)
    probe = probes.probe_by_id(db, 1)
    assert to_stop(db, probe) == []
    for number in (first, second, light):
        jobs.ask_stop(db, number)
    assert to_stop(db, probe) == [first, light]
    assert jobs.job_by_id(db, second).failure == jobs.TAKEN_BACK
    jobs.move(db, light, "done", "")
    assert to_stop(db, probe) == [first]
