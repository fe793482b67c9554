"""Alerts from samples, presence and plans: one for each spell, told once, whatever the order in which samples come."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tarnfell.core.alerts.rules import Rule
from tarnfell.core.days.rounds import Rounds
from tarnfell.core.legs import Role
from tarnfell.store import alerts as alert_store
from tarnfell.store import calls as call_store
from tarnfell.store import jobs as job_store
from tarnfell.store import outbox, presence
from tarnfell.store import plans as plan_store
from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import targets as target_store
from tarnfell.store import watches as watch_store
from tarnfell.store.alerts import Alert, RuleSpec
from tarnfell.store.db import open_database, writing
from tarnfell.store.engagements import add_engagement
from tarnfell.store.targets import Targets
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.work.alerts import evidence, looking, trial
from tarnfell.work.watch.packing import pack_next
from tests.core.days.weeks import PLACES
from tests.server.conftest import SITE, set_up
from tests.work.watched import batches_of

MINUTE = 60_000_000
MONDAY = 1_793_577_600_000_000
"""2 November 2026, 00:00 in London, in microseconds."""
LOSS = Rule("loss", "far-end", 2.0, 3)


class House:
    """A site with one probe that watches, and a clock that the test turns."""

    def __init__(self, folder: Path, patch: pytest.MonkeyPatch) -> None:
        self.now_us = MONDAY
        for module in (looking, presence, outbox, job_store, watch_store, probe_store, alert_store):
            patch.setattr(module, "now_us", lambda: self.now_us)
        self.db = open_database(folder)
        self.probe_id, code = set_up(self.db, "192.0.2.10", 4870, "key")
        assert probe_store.enrol(self.db, code, Surroundings())
        watch_store.want(self.db, self.probe_id, 1, 5000, 46, None)

    def rule(self, rule: Rule = LOSS, site_id: int | None = None, **spec: bool) -> int:
        told = {"mail": False, "webhook": False, "collect": False, **spec}
        return alert_store.add_rule(self.db, 1, RuleSpec(rule, site_id, **told), None, at_us=self.now_us)

    def sample(self, minute: int, lost: str, role: Role = "far-end") -> None:
        """Twelve rounds a minute from there on, with so many of them lost at one place; and a clerk's turn."""
        self.keep(minute, lost, role)
        self.now_us = MONDAY + (minute + len(lost)) * MINUTE
        self.look()

    def keep(self, minute: int, lost: str, role: Role = "far-end", watch: int = 1) -> None:
        count = 12 * len(lost)
        at = MONDAY + minute * MINUTE + np.arange(count) * 5_000_000
        rtt = np.full((len(PLACES), count), 20.0)
        place = next(i for i, one in enumerate(PLACES) if one.role == role)
        for n, sign in enumerate(lost):
            rtt[place, 12 * n : 12 * n + int(sign, 36)] = np.nan
        rounds = Rounds(PLACES, at, np.ones(rtt.shape, bool), rtt, 5_000_000)
        with writing(self.db):
            watch_store.keep(self.db, batches_of(rounds, watch, each=12))
        while pack_next(self.db, 4_000_000_000_000_000):
            pass

    def look(self) -> None:
        looking.look(self.db)

    @property
    def alerts(self) -> list[Alert]:
        return sorted(alert_store.newest_alerts(self.db, 1, 100), key=lambda one: one.began_us)

    @property
    def told(self) -> list[tuple[int, int | None]]:
        """Beginnings and ends in minutes."""
        return [
            ((one.began_us - MONDAY) // MINUTE, None if one.ended_us is None else (one.ended_us - MONDAY) // MINUTE)
            for one in self.alerts
        ]

    @property
    def messages(self) -> list[tuple[str, str]]:
        rows = self.db.execute("SELECT what, channel FROM message ORDER BY id")
        return [(row[0], row[1]) for row in rows]


@pytest.fixture
def house(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> House:
    return House(tmp_path, monkeypatch)


def test_an_alert_from_its_beginning_to_its_all_clear(house: House) -> None:
    target_store.keep_targets(house.db, 1, Targets(("ops@customer.example",), "https://hooks.example/a", "secret"))
    house.rule(mail=True, webhook=True)
    house.sample(0, "000110")
    assert (house.told, house.messages) == ([], [])
    house.sample(6, "11100")
    assert house.told == [(6, None)]
    assert house.alerts[0].says == (
        "The far end, far, from pier-probe: 8.3 % lost since 00:06 on 2 November; the limit is 2 %."
    )
    assert house.messages == [("begun", "mail"), ("begun", "webhook")]
    house.look()
    house.sample(11, "2")
    assert house.told == [(6, None)]
    assert "6.9 % lost since" in house.alerts[0].says  # 5 of 72
    house.sample(12, "000")
    assert house.told == [(6, 12)]
    assert house.alerts[0].says.endswith("6.9 % lost from 00:06 on 2 November to 00:12; the limit is 2 %.")
    assert house.messages == [("begun", "mail"), ("begun", "webhook"), ("ended", "mail"), ("ended", "webhook")]
    house.sample(15, "000")
    assert len(house.messages) == 4


def test_the_minute_that_goes_on_is_not_known_yet(house: House) -> None:
    house.rule()
    house.sample(0, "0111")
    assert house.told == [(1, None)]
    house.db.execute("DELETE FROM alert")
    house.sample(10, "11")
    rounds = Rounds(PLACES, np.array([MONDAY + 12 * MINUTE]), np.ones((5, 1), bool), np.full((5, 1), np.nan), 5_000_000)
    watch_store.keep(house.db, batches_of(rounds))
    while pack_next(house.db, 4_000_000_000_000_000):
        pass
    house.look()
    assert house.told == []


def test_samples_that_come_late_or_twice_tell_nothing_twice(house: House) -> None:
    house.rule()
    house.sample(20, "0000")
    house.keep(0, "0011100000")  # a batch that was kept by the probe while the server was away
    house.look()
    assert house.told == [(2, 5)]
    house.keep(0, "0011100000")
    house.keep(20, "0000")
    house.look()
    assert house.told == [(2, 5)]
    # Late ones fill a hole: what was two is one, and what was told stays told.
    house.sample(30, "222")
    house.sample(35, "222")
    house.keep(33, "22")
    house.look()
    assert house.told == [(2, 5), (30, None)]


def test_an_alert_whose_probe_was_away_for_days_ends_like_any_other(house: House) -> None:
    house.rule()
    house.sample(0, "222")
    says = house.alerts[0].says
    later = 4 * 1440
    house.sample(later, "00")
    assert (house.told, house.alerts[0].says) == ([(0, None)], says)
    house.sample(later + 2, "0")
    assert house.told == [(0, later + 1)]


def test_what_goes_on_after_its_all_clear_is_another_alert(house: House) -> None:
    house.rule()
    house.sample(0, "222000")
    assert house.told == [(0, 3)]
    house.sample(6, "222")
    house.keep(3, "222")  # put right: it never stopped
    house.look()
    assert house.told == [(0, 3), (6, None)]


def test_load_of_our_own_is_no_fault_of_the_line(house: House) -> None:
    house.rule()
    job = job_store.add(house.db, 1, house.probe_id, "fill", "", None, {}, at_us=MONDAY)
    job_store.move(house.db, job, "taken", "", MONDAY + 2 * MINUTE)
    job_store.move(house.db, job, "running", "", MONDAY + 2 * MINUTE)
    job_store.move(house.db, job, "done", "", MONDAY + 6 * MINUTE - 1)
    house.sample(0, "0022220000")
    assert house.told == []
    house.sample(10, "0022220000")
    assert house.told == [(12, 16)]


def test_a_rule_is_of_its_site_its_place_and_its_time(house: House) -> None:
    other = site_store.add_site(house.db, 1, **SITE | {"slug": "quay", "name": "Quay"})
    house.rule(site_id=other)
    house.rule(Rule("loss", "gateway", 2.0, 3))
    house.sample(0, "222222")
    assert house.told == []
    late = house.rule()
    alert_store.look_again(house.db, [1], MONDAY - 600 * MINUTE)
    house.sample(6, "2")
    assert [(one.rule_id, (one.began_us - MONDAY) // MINUTE) for one in house.alerts] == [(late, 0)]  # it is on now
    house.sample(7, "000")
    house.rule(Rule("loss", "far-end", 3.0, 3))
    alert_store.look_again(house.db, [1], MONDAY - 600 * MINUTE)
    house.sample(10, "0")
    assert len(house.alerts) == 1  # what was over before a rule was made is not told
    house.sample(11, "222", role="gateway")
    assert house.told == [(0, 7), (11, None)]


def test_a_rule_that_is_removed_ends_its_alerts_without_a_word(house: House) -> None:
    target_store.keep_targets(house.db, 1, Targets(("ops@customer.example",)))
    rule = house.rule(mail=True)
    house.sample(0, "222")
    house.now_us += MINUTE
    alert_store.end_rule(house.db, rule)
    house.sample(4, "222")
    assert house.told == [(0, 4)]
    assert house.messages == [("begun", "mail")]


def test_a_watch_that_was_ended_closes_what_it_had_opened(house: House) -> None:
    house.rule()
    house.sample(0, "222")
    watch_store.end(house.db, house.probe_id)
    house.now_us = MONDAY + 9 * MINUTE
    house.look()
    assert house.told == [(0, 9)]


def test_a_probe_that_is_offline(house: House) -> None:
    house.rule(Rule("offline", minutes=10))
    presence.note_up(house.db)
    probe_store.keep_contact(house.db, house.probe_id, None, None)
    for minute in range(10):
        house.now_us = MONDAY + minute * MINUTE
        house.look()
    assert house.told == []
    house.now_us = MONDAY + 10 * MINUTE
    house.look()
    assert house.told == [(0, None)]
    assert house.alerts[0].says == "Probe pier-probe: offline since 00:00 on 2 November."
    house.now_us = MONDAY + 14 * MINUTE
    probe_store.keep_contact(house.db, house.probe_id, None, None)
    house.look()
    assert house.told == [(0, 14)]


def test_a_server_that_was_down_heard_nobody(house: House) -> None:
    """Its own absence is not the probes'."""
    house.rule(Rule("offline", minutes=10))
    house.rule(Rule("no-samples", minutes=10))
    presence.note_up(house.db)
    probe_store.keep_contact(house.db, house.probe_id, None, None)
    house.now_us = MONDAY + 60 * MINUTE
    for _ in range(10):  # the clerk turns again, and the probe has not found back yet
        house.look()
        house.now_us += MINUTE
    assert house.told == []
    house.look()
    assert house.told == [(60, None), (60, None)]
    house.now_us += MINUTE
    probe_store.keep_contact(house.db, house.probe_id, None, None)
    assert presence.absences(house.db, house.probe_id, 0) == [(MONDAY + 60 * MINUTE, MONDAY + 71 * MINUTE)]


def test_a_server_that_starts_again_is_no_all_clear(house: House) -> None:
    target_store.keep_targets(house.db, 1, Targets(("ops@customer.example",)))
    house.rule(Rule("offline", minutes=10), mail=True)
    house.rule(Rule("no-samples", minutes=10), mail=True)
    probe_store.keep_contact(house.db, house.probe_id, None, None)
    for minute in range(12):
        house.now_us = MONDAY + minute * MINUTE
        house.look()
    assert house.told == [(0, None), (0, None)]
    house.now_us = MONDAY + 60 * MINUTE  # it was down for most of an hour
    house.look()
    house.now_us += MINUTE
    house.look()
    assert (house.told, len(house.messages)) == ([(0, None), (0, None)], 2)
    probe_store.keep_contact(house.db, house.probe_id, None, None)
    house.look()
    assert sorted(house.told, key=str) == [(0, 61), (0, None)]
    house.sample(61, "0")
    assert sorted(house.told) == [(0, 61), (0, 62)]  # type: ignore[type-var]
    assert [what for what, _ in house.messages] == ["begun", "begun", "ended", "ended"]


@pytest.mark.parametrize(("after_us", "kept"), [(60_000_000, 0), (60_000_001, 1)])
def test_short_absences_are_not_kept(house: House, after_us: int, kept: int) -> None:
    presence.note_up(house.db)
    probe_store.keep_contact(house.db, house.probe_id, None, None)
    for now in (MONDAY + 30_000_000, MONDAY + after_us):
        house.now_us = now
        presence.note_up(house.db)
    probe_store.keep_contact(house.db, house.probe_id, None, None)
    assert len(presence.absences(house.db, house.probe_id, 0)) == kept


def test_a_watch_that_brings_nothing(house: House) -> None:
    house.rule(Rule("no-samples", minutes=5))
    house.look()
    house.sample(0, "0")
    house.sample(1, "0")
    for minute in range(3, 7):
        house.now_us = MONDAY + minute * MINUTE
        house.look()
    assert house.told == []
    house.now_us = MONDAY + 7 * MINUTE
    house.look()
    assert house.told == [(1, None)]  # the last sample is of 00:01:55
    house.sample(8, "0")
    assert house.told == [(1, 9)]
    watch_store.end(house.db, house.probe_id)
    house.now_us = MONDAY + 60 * MINUTE
    house.look()
    assert len(house.told) == 1


def test_a_planned_load_that_was_missed_is_told_once(house: House) -> None:
    house.rule(Rule("missed"))
    house.db.execute(
        "INSERT INTO plan (site_id, name, probe_id, far_end_id, codec, ptime_ms, dscp, shape, direction, video, form, "
        "state, created_us) VALUES (1, 'Noon', ?, 1, 'g711a', 20, 46, ?, 'both', '[]', '{}', 'scheduled', 0)",
        (house.probe_id, '{"steps": [1], "call_s": 10, "rounds": 1}'),
    )
    house.now_us = MONDAY + 30 * MINUTE
    plan_store.add_series(house.db, plan_store.plan_by_id(house.db, 1), MONDAY + 5 * MINUTE, "missed", "Nobody there.")
    house.look()
    house.look()
    assert house.told == [(5, 5)]
    assert house.alerts[0].says == "Planned load “Noon”: missed, due at 00:05 on 2 November."


def test_the_probe_checks_its_network_at_that_moment(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(looking, "is_online", lambda _: True)
    house.rule(collect=True)
    house.sample(0, "222")
    (asked,) = job_store.newest_of_kind(house.db, 1, "check", 9)
    assert (asked.probe_id, asked.arguments) == (house.probe_id, {"far_end_id": 1})
    house.sample(3, "000222")
    assert len(job_store.newest_of_kind(house.db, 1, "check", 9)) == 1  # within the hour
    house.sample(100, "000222")
    assert len(job_store.newest_of_kind(house.db, 1, "check", 9)) == 2


@pytest.mark.parametrize(("collect", "codes"), [(False, "222"), (True, "222000")])
def test_nothing_is_collected_unasked_or_once_it_is_over(
    house: House, monkeypatch: pytest.MonkeyPatch, collect: bool, codes: str
) -> None:
    monkeypatch.setattr(looking, "is_online", lambda _: True)
    house.rule(collect=collect)
    house.sample(0, codes)
    assert house.told
    assert job_store.newest_of_kind(house.db, 1, "check", 9) == []


@pytest.mark.parametrize(
    ("hour", "minute", "due"),
    [(21, 59, 0), (22, 0, 9 * 60), (23, 30, 450), (3, 0, 240), (6, 59, 1), (7, 0, 0), (12, 0, 0)],
)
def test_quiet_hours_are_the_sites(house: House, hour: int, minute: int, due: int) -> None:
    spec = RuleSpec(LOSS, None, True, False, False, 22 * 60, 7 * 60)
    at = MONDAY + (hour * 60 + minute) * MINUTE
    site = site_store.site_by_id(house.db, 1)
    assert looking.due_after_quiet(spec, site, at) == at + due * MINUTE
    assert looking.due_after_quiet(spec, site, at + 30_500_000) == at + (due * MINUTE if due else 30_500_000)


@pytest.mark.parametrize(("hour", "due"), [(11, 0), (12, 120), (13, 60), (14, 0)])
def test_quiet_hours_in_the_middle_of_a_day(house: House, hour: int, due: int) -> None:
    spec = RuleSpec(LOSS, None, True, False, False, 12 * 60, 14 * 60)
    at = MONDAY + hour * 60 * MINUTE
    assert looking.due_after_quiet(spec, site_store.site_by_id(house.db, 1), at) == at + due * MINUTE


def test_each_probe_of_a_site_is_looked_at_by_itself(house: House) -> None:
    second = probe_store.add_probe(house.db, 1, 1, "second")
    third = probe_store.add_probe(house.db, 1, 1, "third")
    house.db.execute("UPDATE probe SET enrolled_us = 1, last_contact_us = ? WHERE id = ?", (MONDAY, second))
    watch_store.want(house.db, third, 1, 5000, 46, None)
    site = site_store.site_by_id(house.db, 1)

    def seen(rule: Rule, **of: set[int]) -> list[tuple[str, int]]:
        found = evidence.at_site(house.db, rule, site, MONDAY, MONDAY + 20 * MINUTE, **of)  # type: ignore[arg-type]
        return [(one.subject, len(one.spells)) for one in found]

    presence.note_up(house.db)
    # One that has never been heard of is not offline.
    assert seen(Rule("offline", minutes=10)) == [("probe 1", 1), ("probe 2", 1), ("probe 3", 0)]
    assert seen(Rule("no-samples", minutes=10)) == [("watch 1", 1), ("watch 2", 1)]
    assert seen(Rule("no-samples", minutes=10), watch_ids={2}) == [("watch 2", 1)]


def test_the_same_trouble_seen_by_two_probes_is_two_alerts(house: House) -> None:
    second = probe_store.add_probe(house.db, 1, 1, "second")
    watch_store.want(house.db, second, 1, 5000, 46, None)
    house.rule()
    house.keep(0, "0001110", watch=2)
    house.sample(0, "0001110")
    assert house.told == [(3, None), (3, None)]
    assert sorted(one.subject for one in house.alerts) == ["watch 1 place 0", "watch 2 place 0"]


def test_who_made_the_newest_test_is_who_checks(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    made = [call_store.KeptTest(number, 10 + number, MONDAY + number, 2.0) for number in range(3)]
    monkeypatch.setattr(call_store, "tests_since", lambda *_, **__: made)
    rule = Rule("calls-below", limit=3.0, count=1, of=1)
    (seen,) = evidence.at_site(house.db, rule, site_store.site_by_id(house.db, 1), MONDAY, MONDAY)
    assert (seen.probe_id, seen.subject) == (12, "calls at 1")


def test_a_trial_finds_what_the_rule_at_work_found(house: House) -> None:
    house.rule()
    house.sample(0, "0022200000222000")
    sites = site_store.sites_of(house.db, 1)
    tried = trial.try_on(house.db, LOSS, sites, house.now_us)
    assert (tried.count, tried.sentence) == (2, "When the far end loses more than 2 % for 3 minutes.")
    assert [(one.from_us, one.until_us, one.says) for one in reversed(tried.fired)] == [
        (one.began_us, one.ended_us, one.says) for one in house.alerts
    ]
    tried = trial.try_on(house.db, LOSS, sites, MONDAY + 7 * 1440 * MINUTE + 5 * MINUTE + 1)
    assert tried.count == 1  # the first was over a week before
    assert trial.try_on(house.db, Rule("above-normal", "far-end", minutes=3), sites, house.now_us).note == (
        "Normal is not known yet at Pier office: it takes 7 days."
    )


def test_rules_of_an_archived_engagement_rest(house: House, tmp_path: Path) -> None:
    add_engagement(house.db, "other", "Other")
    house.rule()
    house.db.execute("UPDATE engagement SET archived_us = 1 WHERE id = 1")
    house.sample(0, "222")
    assert house.told == []


def test_a_look_that_is_cut_short_is_taken_again(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    house.rule()
    real = looking._begin

    def killed(*arguments: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(looking, "_begin", killed)
    with pytest.raises(KeyboardInterrupt):
        house.sample(0, "222")
    monkeypatch.setattr(looking, "_begin", real)
    house.look()
    assert house.told == [(0, None)]


def test_samples_that_come_during_a_look_are_looked_at_next(house: House) -> None:
    house.rule()
    (seen,) = _changed_after(house, "0")
    house.keep(1, "222")
    alert_store.note_looked(house.db, seen)
    house.now_us = MONDAY + 4 * MINUTE
    house.look()
    assert house.told == [(1, None)]
    assert alert_store.changed_watches(house.db) == []


def _changed_after(house: House, lost: str) -> list[alert_store.Changed]:
    house.keep(0, lost)
    return alert_store.changed_watches(house.db)


def test_an_index_is_there_for_what_the_clerk_asks_every_few_seconds(house: House) -> None:
    def plan(query: str) -> str:
        return " ".join(str(row[3]) for row in house.db.execute(f"EXPLAIN QUERY PLAN {query}"))

    assert "alert_of_rule" in plan("SELECT 1 FROM alert WHERE rule_id = 1 AND site_id = 1 AND ended_us IS NULL")
    assert "message_waiting" in plan("SELECT 1 FROM message WHERE state = 'waiting' AND next_us <= 5")
