"""Runs, probes and sites as records: every allowed change of state and no other; tokens that expire."""

from __future__ import annotations

import itertools
import sqlite3
from pathlib import Path

import pytest

from tarnfell.store import engagements, jobs, places, probes, runs, sites
from tarnfell.store.db import now_us, open_database
from tarnfell.store.jobs import FOLLOWS, WrongState
from tarnfell.store.runs import Run
from tarnfell.wire.kinds.surroundings import Surroundings
from tests.server.conftest import set_up

STATES = tuple(FOLLOWS)


@pytest.fixture
def db(tmp_path: Path) -> sqlite3.Connection:
    made = open_database(tmp_path)
    set_up(made, "192.0.2.1", 4870, "key")
    return made


def new_run(db: sqlite3.Connection, at_us: int | None = None) -> Run:
    return runs.add_run(
        db,
        runs.RunSpec(site_id=1, probe_id=1, far_end_id=1, codec="g711a", ptime_ms=20, calls=1, seconds=5, dscp=46),
        "",
        at_us,
    )


def run_in(db: sqlite3.Connection, state: str) -> Run:
    run = new_run(db)
    db.execute("UPDATE job SET state = ? WHERE id = ?", (state, run.id))
    return runs.run_by_id(db, run.id)


@pytest.mark.parametrize(("before", "after"), list(itertools.product(STATES, STATES)))
def test_states_change_as_written_and_no_other_way(db: sqlite3.Connection, before: str, after: str) -> None:
    run = run_in(db, before)
    if after in FOLLOWS[before]:
        jobs.move(db, run.id, after, "why")  # type: ignore[arg-type]
        assert runs.run_by_id(db, run.id).state == after
        assert jobs.events(db, run.id)[-1].words == "why"
    else:
        with pytest.raises(WrongState):
            jobs.move(db, run.id, after, "why")  # type: ignore[arg-type]
        assert runs.run_by_id(db, run.id).state == before


def test_times_of_a_run_follow_its_states(db: sqlite3.Connection) -> None:
    run = new_run(db, at_us=100)
    for at, state in ((200, "taken"), (300, "running"), (400, "done")):
        jobs.move(db, run.id, state, "", at)  # type: ignore[arg-type]
    done = runs.run_by_id(db, run.id)
    assert (done.created_us, done.begun_us, done.ended_us, done.failure) == (100, 300, 400, None)
    assert [e.at_us for e in jobs.events(db, run.id)] == [100, 200, 300, 400]


def test_the_oldest_waiting_run_goes_first(db: sqlite3.Connection) -> None:
    first, second = new_run(db), new_run(db)
    assert [job.id for job in jobs.waiting_for(db, 1)] == [first.id, second.id]
    jobs.move(db, first.id, "taken", "")
    assert [job.id for job in jobs.waiting_for(db, 1)] == [second.id]
    assert [job.id for job in jobs.out_with(db, 1)] == [first.id]
    assert jobs.waiting_for(db, 2) == jobs.out_with(db, 2) == []


def test_runs_are_listed_newest_first_in_pages(db: sqlite3.Connection) -> None:
    for at in (100, 300, 200):
        new_run(db, at_us=at)
    assert [r.created_us for r in runs.placed_runs(db, 1, limit=2)] == [300, 200]
    assert [r.created_us for r in runs.placed_runs(db, 1, limit=2, offset=2)] == [100]
    assert runs.count_placed(db, 1) == 3
    assert len(runs.open_runs(db, 1)) == 3


@pytest.mark.parametrize(("words", "found"), [("g.711 a", 1), ("G711A", 1), ("G.722", 0), ("20", 0), ("", 1)])
def test_runs_are_found_by_what_people_call_the_codec(db: sqlite3.Connection, words: str, found: int) -> None:
    new_run(db)
    assert len(runs.placed_runs(db, 1, 10, words=words)) == runs.count_placed(db, 1, words) == found


def test_seconds_are_kept_once_and_given_in_order(db: sqlite3.Connection) -> None:
    run = new_run(db)
    for second in (2, 1, 2, 3):
        jobs.add_second(db, run.id, second, f'{{"second":{second}}}')
    assert jobs.seconds_after(db, run.id, 1) == [(2, '{"second":2}'), (3, '{"second":3}')]


def test_only_a_probe_long_silent_is_given_up(db: sqlite3.Connection) -> None:
    run = run_in(db, "running")
    probes.keep_contact(db, 1, Surroundings(), "192.0.2.7")
    assert jobs.silent_jobs(db) == []
    db.execute("UPDATE probe SET last_contact_us = ?", (now_us() - jobs.SILENCE_US - 1,))
    assert jobs.silent_jobs(db) == [run.id]
    jobs.give_up_silent(db, [run.id])
    jobs.give_up_silent(db, [run.id])
    assert [e.state for e in jobs.events(db, run.id)].count("failed") == 1


def test_asking_an_ended_run_to_stop_changes_nothing(db: sqlite3.Connection) -> None:
    run = run_in(db, "done")
    jobs.ask_stop(db, run.id)
    assert runs.run_by_id(db, run.id).stop_reason is None


def test_tokens_work_once_and_expire(db: sqlite3.Connection) -> None:
    token = probes.invite(db, probes.add_probe(db, 1, 1, "second"))
    enrolled = probes.enrol(db, token, Surroundings("test"))
    assert enrolled is not None
    probe, secret = enrolled
    assert probes.probe_by_secret(db, secret) == probe
    probes.keep_contact(db, probe.id, None, None)
    assert probes.enrol(db, token, Surroundings()) is None
    assert probes.probe_by_secret(db, "guess") is None
    stale = probes.invite(db, probe.id, until_us=now_us() - 1)
    assert probes.enrol(db, stale, Surroundings()) is None
    fresh = probes.invite(db, probe.id, until_us=now_us() + 10**9)
    again = probes.enrol(db, fresh, Surroundings())
    assert again is not None
    # The new secret replaces the old one.
    assert probes.probe_by_secret(db, secret) is None
    assert not token.startswith("-")
    assert probes.probe_by_id(db, probe.id).around == Surroundings()


def test_a_probes_link_is_good_for_fourteen_days(db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    invited = now_us()
    monkeypatch.setattr(probes, "now_us", lambda: invited)
    token = probes.invite(db, 1)
    for after_us, good in ((14 * 86_400 * 10**6, False), (14 * 86_400 * 10**6 - 1, True)):
        monkeypatch.setattr(probes, "now_us", lambda after_us=after_us: invited + after_us)
        assert (probes.enrol(db, token, Surroundings()) is not None) is good


def test_a_probe_killed_before_it_kept_its_secret_enrols_once_more(db: sqlite3.Connection) -> None:
    token = probes.invite(db, probes.add_probe(db, 1, 1, "second"))
    lost = probes.enrol(db, token, Surroundings())
    kept = probes.enrol(db, token, Surroundings("test"))
    assert lost is not None
    assert kept is not None
    assert lost[0].id == kept[0].id
    # Only the secret that was given last is good, and once it has spoken the code is used up.
    assert probes.probe_by_secret(db, lost[1]) is None
    assert probes.probe_by_secret(db, kept[1]) is not None
    probes.keep_contact(db, kept[0].id, None, "192.0.2.7")
    assert probes.enrol(db, token, Surroundings()) is None
    late = probes.invite(db, probes.add_probe(db, 1, 1, "third"))
    assert probes.enrol(db, late, Surroundings()) is not None
    db.execute("UPDATE invitation SET until_us = ? WHERE code = ?", (now_us() - 1, late))
    assert probes.enrol(db, late, Surroundings()) is None


def test_a_newer_link_ends_the_one_before(db: sqlite3.Connection) -> None:
    first, second = probes.invite(db, 1), probes.invite(db, 1)
    assert probes.enrol(db, first, Surroundings()) is None
    probes.revoke(db, 1)
    assert probes.enrol(db, second, Surroundings()) is None


def test_a_probes_secret_is_not_in_the_file(db: sqlite3.Connection) -> None:
    token = probes.invite(db, 1)
    enrolled = probes.enrol(db, token, Surroundings())
    assert enrolled is not None
    assert enrolled[1] not in "\n".join(db.iterdump())


def test_lookups_that_find_nothing(db: sqlite3.Connection) -> None:
    assert sites.site_by_slug(db, "none") is None
    assert engagements.engagement_by_slug(db, "none") is None
    with pytest.raises(KeyError):
        runs.run_by_id(db, 99)


def test_a_site_carries_its_brief(db: sqlite3.Connection) -> None:
    site = sites.site_by_slug(db, "pier")
    assert site is not None
    assert (site.brief.needed_calls, site.brief.target_mos, site.brief.required_share_pct) == (2, 4.0, 97.0)
    assert places.far_ends_of(db, site.id)[0].host == "192.0.2.1"
