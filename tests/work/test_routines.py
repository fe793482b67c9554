"""What goes on beside a watch: begun in its turn, by the site's rules, and told where it was left out."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest

from tarnfell.core.rates import VideoLoad
from tarnfell.store import checks as check_store
from tarnfell.store import jobs as job_store
from tarnfell.store import probes as probe_store
from tarnfell.store import routines as routine_store
from tarnfell.store import runs as run_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.checks import Wish
from tarnfell.store.db import open_database
from tarnfell.store.fills import FillAsked
from tarnfell.store.routines import Routine, What
from tarnfell.store.sites import Blackout, VideoNeed
from tarnfell.wire.kinds.check import ServiceAsked
from tarnfell.wire.kinds.fields import read
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.work.placing import presence
from tarnfell.work.placing.hand_out import arguments_of
from tarnfell.work.watch.routines import begin_routines, costs, quiet_words
from tests.conftest import ONLINE_WITHIN_US
from tests.server.conftest import set_up

S = 1_000_000
MONDAY_US = 1_793_577_600 * S
"""2 November 2026, 00:00 in London."""
NINE_US = MONDAY_US + 9 * 3600 * S


class Beside:
    """A site whose probe watches, at a time that the test sets."""

    def __init__(self, folder: Path, patch: pytest.MonkeyPatch) -> None:
        self.db: sqlite3.Connection = open_database(folder)
        self.at_us = NINE_US
        for module in (presence, routine_store, watch_store, probe_store, job_store):
            patch.setattr(module, "now_us", lambda: self.at_us)
        patch.setattr(presence, "ONLINE_WITHIN_US", ONLINE_WITHIN_US)
        self.probe, code = set_up(self.db, "192.0.2.10", 4870, "key")
        assert probe_store.enrol(self.db, code, Surroundings())
        self.contact()
        watch_store.want(self.db, self.probe, 1, 1000, 46, None)

    def contact(self) -> None:
        self.db.execute("UPDATE probe SET last_contact_us = ?", (self.at_us,))

    def want(self, **every_s: int) -> None:
        routine_store.want(self.db, 1, every_s, None)  # type: ignore[arg-type]

    def turn(self, after_s: float = 0, online: bool = True) -> None:
        self.at_us += round(after_s * S)
        if online:
            self.contact()
        begin_routines(self.db, self.at_us)

    def jobs(self) -> list[tuple[str, str]]:
        return [tuple(row) for row in self.db.execute("SELECT kind, state FROM job ORDER BY id")]

    def finish(self) -> None:
        self.db.execute("UPDATE job SET state = 'done'")

    def routine(self, what: What = "call") -> Routine:
        return next(one for one in routine_store.routines_of(self.db, 1) if one.what == what)

    def quiet(self, what: What = "call") -> str:
        watch = watch_store.watch_by_id(self.db, 1)
        assert watch is not None
        return quiet_words(self.routine(what), watch, self.at_us)


@pytest.fixture
def beside(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Beside:
    return Beside(tmp_path, monkeypatch)


def test_a_call_begins_at_once_and_then_in_its_turn(beside: Beside) -> None:
    beside.want(call=600)
    beside.turn()
    assert beside.jobs() == [("calls", "waiting")]
    run = run_store.run_by_id(beside.db, 1)
    assert (run.purpose, run.calls, run.seconds, run.dscp, run.codec) == ("watch", 1, 12, 46, "g711a")
    beside.finish()
    beside.turn(599)
    assert len(beside.jobs()) == 1
    beside.turn(1)
    assert len(beside.jobs()) == 2
    assert beside.routine().next_us == NINE_US + 1200 * S
    # A clerk that was away for an hour begins one, and turns stay where they were.
    beside.finish()
    beside.turn(3600 + 250)
    assert len(beside.jobs()) == 3
    assert beside.routine().next_us == NINE_US + 4800 * S


def test_what_is_wanted_more_seldom_or_more_often_keeps_its_turn_where_that_is_sooner(beside: Beside) -> None:
    beside.want(call=600)
    beside.turn()
    for every_s, next_s in ((1200, 600), (1200, 600), (300, 300), (600, 300)):
        beside.want(call=every_s)
        assert (beside.routine().every_s, beside.routine().next_us) == (every_s, NINE_US + next_s * S)


def test_what_is_needed_is_held_in_business_hours_alone(beside: Beside) -> None:
    site_store.change_site(beside.db, 1, video=(VideoNeed("360p", 1),), needed_calls=2)
    beside.want(needed=3600)
    beside.turn()
    run = run_store.run_by_id(beside.db, 1)
    assert (run.calls, run.seconds, run.video) == (2, 20, (VideoLoad("360p", 1),))
    beside.finish()
    beside.turn(12 * 3600)
    assert len(beside.jobs()) == 1
    assert beside.routine("needed").left_us is None
    assert beside.routine("needed").next_us == NINE_US + 13 * 3600 * S
    assert beside.quiet("needed") == ""
    beside.turn(12 * 3600)
    assert len(beside.jobs()) == 2


def test_names_and_services_are_those_of_the_check(beside: Beside) -> None:
    wish = Wish(names=("meet.example",), services=(ServiceAsked("Meetings", "meet.example", 443, "tls"),))
    check_store.keep_wish(beside.db, 1, wish)
    beside.want(services=300)
    beside.turn()
    assert beside.jobs() == [("services", "waiting")]
    told = arguments_of(beside.db, job_store.job_by_id(beside.db, 1))
    assert told == {
        "names": ["meet.example"],
        "services": [{"name": "Meetings", "host": "meet.example", "port": 443, "protocol": "tls"}],
    }
    # They load no line, so that they go on beside calls.
    beside.want(services=300, call=300)
    beside.turn(300)
    assert sorted(kind for kind, _ in beside.jobs()) == ["calls", "services", "services"]


def test_a_fill_stays_below_the_ceiling_and_within_the_hours(beside: Beside) -> None:
    site_store.change_site(beside.db, 1, ceiling_pct=50.0)
    beside.want(fill=8 * 3600)
    beside.turn()
    asked = read(FillAsked, job_store.job_by_id(beside.db, 1).arguments)
    assert (asked.plan.ceiling_kbps, asked.plan.seconds, asked.far_end_id) == (5000, 6, 1)
    beside.finish()
    site_store.change_site(beside.db, 1, blackouts=(Blackout("1", 16 * 60, 18 * 60, "rush"),))
    beside.turn(8 * 3600)
    assert len(beside.jobs()) == 1
    assert beside.routine("fill").left_words == "Hours without load had come: rush."
    assert beside.routine("fill").left_us == beside.at_us


def test_what_finds_the_line_loaded_waits_for_its_end_and_not_for_ever(beside: Beside) -> None:
    beside.want(call=3600)
    beside.turn()
    beside.turn(3600)
    assert len(beside.jobs()) == 1
    beside.turn(599)
    assert len(beside.jobs()) == 1
    assert beside.routine().left_us is None
    beside.finish()
    beside.turn()
    assert len(beside.jobs()) == 2
    beside.turn(3600 - 599)
    beside.turn(600)
    assert beside.routine().left_words == "Another run was in progress at this site."
    assert beside.routine().next_us == NINE_US + 3 * 3600 * S


def test_a_probe_that_is_away_is_said_once_it_lasts(beside: Beside) -> None:
    beside.want(call=600)
    beside.turn()
    beside.finish()
    beside.turn(600, online=False)
    assert len(beside.jobs()) == 1
    assert beside.quiet() == ""
    beside.turn(600, online=False)
    assert beside.quiet() == "pier-probe was offline."
    beside.turn(600)
    assert len(beside.jobs()) == 2
    assert beside.quiet() == ""
    beside.finish()
    beside.at_us += 600 * S + 1200 * S + 1
    assert beside.quiet() == "It is overdue: the clerk, which begins it, does not run."


def test_an_ended_watch_begins_nothing(beside: Beside) -> None:
    beside.want(call=600, services=300)
    watch_store.end(beside.db, beside.probe)
    beside.turn()
    assert beside.jobs() == []


def test_wishes_that_stay_keep_their_turn(beside: Beside) -> None:
    beside.want(call=600, services=300)
    beside.turn()
    beside.finish()
    beside.at_us += 100 * S
    beside.want(call=600, fill=7200)
    assert {one.what for one in routine_store.routines_of(beside.db, 1)} == {"call", "fill"}
    assert beside.routine().next_us == NINE_US + 600 * S
    assert beside.routine("fill").next_us == beside.at_us
    beside.want(call=60)
    assert beside.routine().next_us == beside.at_us + 60 * S
    beside.want(call=7200)
    assert beside.routine().next_us == beside.at_us + 60 * S


def test_what_it_costs(beside: Beside) -> None:
    wish = Wish(names=("a.example", "b.example"), services=(ServiceAsked("A", "a.example", 443, "tls"),))
    check_store.keep_wish(beside.db, 1, wish)
    site = site_store.site_by_id(beside.db, 1)
    told = {one.what: one for one in costs(beside.db, site)}
    # G.711 at 20 ms is 50 packets a second of 200 bytes at IP, on Ethernet 18 more and those of its own.
    assert 2 * 12 * 50 * 200 < (told["call"].start_bytes or 0) < 2 * 12 * 50 * 260
    assert told["needed"].start_bytes == pytest.approx((told["call"].start_bytes or 0) * 2 * 20 / 12)
    assert told["needed"].share == pytest.approx(10 * 5 / (24 * 7))
    assert told["services"].start_bytes == 6000 + 2 * 300
    streams = (10e6 + 50e6 + 60e6) / 8 * 6
    assert streams < (told["fill"].start_bytes or 0) < 1.02 * streams
    site_store.change_site(beside.db, 1, up_kbps=None)
    assert {one.what: one for one in costs(beside.db, site_store.site_by_id(beside.db, 1))}["fill"].start_bytes is None
