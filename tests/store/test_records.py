"""Test points, far ends, jobs, plans and imports as records: what changes, what stays, what cannot be."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest

from tarnfell.core.imported import Choices, FileContents
from tarnfell.core.rates import Shape
from tarnfell.core.targets import PRESETS
from tarnfell.store import engagements, imports, issued, jobs, places, plans, probes, sites
from tarnfell.store.db import now_us, open_database
from tests.server.conftest import SITE, set_up


@pytest.fixture
def db(tmp_path: Path) -> sqlite3.Connection:
    made = open_database(tmp_path)
    set_up(made, "192.0.2.1", 4870, "key")
    return made


@pytest.mark.parametrize(("at_us", "revoked_us", "good"), [(99, None, True), (100, None, False), (99, 5, False)])
def test_a_link_to_a_report_is_good_until_its_time(at_us: int, revoked_us: int | None, good: bool) -> None:
    assert issued.Link(1, 1, "code", "board", None, 10, 100, revoked_us).is_good(at_us) is good


def a_plan(db: sqlite3.Connection, **changes: object) -> plans.Plan:
    values: dict[str, object] = {
        "site_id": 1, "name": "Rise", "probe_id": 1, "far_end_id": 1, "codec": "g711a", "ptime_ms": 20, "dscp": 46,
        "shape": Shape((1, 2, 4), 30.0, 2), "form": {"calls": 4}, "state": "scheduled", "start_us": 100, "rule": None,
        "next_us": 100, "made_by": None, **changes,
    }  # fmt: skip
    return plans.plan_by_id(db, plans.add_plan(db, **values))


def test_names_become_addresses(db: sqlite3.Connection) -> None:
    assert sites.free_slug(db, "site", "Pier") == "pier-2"
    for slug in ("pier-2", "pier-3"):
        sites.add_site(db, 1, **SITE | {"name": slug, "slug": slug})
    assert sites.free_slug(db, "site", "Pier") == "pier-4"
    assert sites.free_slug(db, "site", "Žižkov / hall #3") == "zizkov-hall-3"
    assert sites.free_slug(db, "engagement", "数据") == "engagement"
    assert len(sites.free_slug(db, "site", "x" * 500)) == 60


def test_lists_of_a_site_come_back_as_they_went_in(db: sqlite3.Connection) -> None:
    quiet = sites.Blackout("15", 60, 120, "orders")
    person = sites.Contact("site", "Ada", "ada@merrow.example", "")
    sites.change_site(db, 1, blackouts=(quiet,), contacts=(person,), video=(sites.VideoNeed("360p", 3),), srtp=True)
    site = sites.site_by_id(db, 1)
    assert (site.blackouts, site.contacts, site.video[0].streams, site.srtp) == ((quiet,), (person,), 3, True)
    assert site.link.srtp is True


def test_an_archived_site_is_listed_apart(db: sqlite3.Connection) -> None:
    sites.archive_site(db, 1, archived=True)
    assert sites.sites_of(db, 1) == []
    assert [s.slug for s in sites.sites_of(db, 1, archived=True)] == ["pier"]
    sites.archive_site(db, 1, archived=False)
    assert len(sites.sites_of(db, 1)) == 1


def test_a_preset_of_the_same_name_takes_the_place_of_the_old(db: sqlite3.Connection) -> None:
    strict, usual, _ = (p.targets for p in PRESETS)
    engagements.keep_preset(db, 1, "Ours", strict)
    engagements.keep_preset(db, 1, "OURS", usual)
    (kept,) = engagements.presets_of(db, 1)
    assert (kept.title, kept.targets) == ("OURS", usual)
    engagements.drop_preset(db, 2, kept.id)
    assert len(engagements.presets_of(db, 1)) == 1


def test_the_servers_own_far_end_is_one_record(db: sqlite3.Connection) -> None:
    places.keep_server_far_end(db, "192.0.2.5", 4870, (20000, 20099), "first-key")
    places.retire_server_far_end(db)
    assert [f.kind for f in places.far_ends(db)] == ["host"]
    places.keep_server_far_end(db, "192.0.2.6", 4871, (20000, 20099), "second-key")
    (own,) = [f for f in places.far_ends(db) if f.kind == "server"]
    assert (own.host, own.port, own.key) == ("192.0.2.6", 4871, "second-key")


def test_choosing_twice_and_unchoosing_twice_is_harmless(db: sqlite3.Connection) -> None:
    places.choose_far_end(db, 1, 1)
    assert len(places.far_ends_of(db, 1)) == 1
    places.choose_far_end(db, 1, 1, chosen=False)
    places.choose_far_end(db, 1, 1, chosen=False)
    assert places.far_ends_of(db, 1) == []
    with pytest.raises(sqlite3.IntegrityError):
        places.choose_far_end(db, 1, 99)


def test_a_distance_is_the_last_one_measured(db: sqlite3.Connection) -> None:
    places.keep_distance(db, 1, 1, 12.5, None)
    places.keep_distance(db, 1, 1, None, "Connection refused")
    assert places.distances_of(db, 1)[1].failure == "Connection refused"


def test_a_job_asked_for_again_takes_the_place_of_the_one_that_waits(db: sqlite3.Connection) -> None:
    first = jobs.ask(db, 1, 1, "distances", None, {"far_ends": []})
    other = jobs.ask(db, 1, 1, "silence", None)
    second = jobs.ask(db, 1, 1, "distances", None, {"far_ends": [1]})
    assert [(job.id, job.arguments) for job in jobs.waiting_for(db, 1)] == [(other, {}), (second, {"far_ends": [1]})]
    gone = jobs.job_by_id(db, first)
    assert (gone.state, gone.failure) == ("failed", jobs.SUPERSEDED)
    jobs.move(db, second, "taken", "")
    jobs.ask(db, 1, 1, "distances", None)
    assert jobs.job_by_id(db, second).state == "taken"  # what is under way goes on
    with pytest.raises(KeyError):
        jobs.job_by_id(db, 99)


def test_a_retired_probe_is_kept_but_not_listed(db: sqlite3.Connection) -> None:
    probes.retire(db, 1)
    assert probes.probes_of(db, 1) == []
    assert probes.probe_by_id(db, 1).retired_us is not None


def test_plans_that_are_due(db: sqlite3.Connection) -> None:
    soon, later = a_plan(db, next_us=100), a_plan(db, next_us=10**18)
    a_plan(db, state="draft", next_us=None)
    assert [p.id for p in plans.due_plans(db, now_us())] == [soon.id]
    assert soon.shape == Shape((1, 2, 4), 30.0, 2)
    assert [p.state for p in plans.plans_of(db, 1)] == ["scheduled", "scheduled", "draft"]
    plans.change_plan(db, later.id, state="dropped", next_us=None)
    assert len(plans.plans_of(db, 1)) == 2
    assert len(plans.drafts_of(db, 1)) == 1


def test_a_series_ends_once(db: sqlite3.Connection) -> None:
    series = plans.add_series(db, a_plan(db), due_us=100)
    plans.begin_series(db, series.id)
    assert [s.state for s in plans.open_series(db)] == ["running"]
    assert plans.open_series(db, site_id=9) == []
    plans.end_series(db, series.id, "stopped", "by hand")
    plans.end_series(db, series.id, "done", "")
    ended = plans.series_by_id(db, series.id)
    assert (ended.state, ended.words) == ("stopped", "by hand")
    missed = plans.add_series(db, a_plan(db), 100, "missed", "away")
    assert missed.ended_us is not None
    with pytest.raises(KeyError):
        plans.series_by_id(db, 99)
    with pytest.raises(KeyError):
        plans.plan_by_id(db, 99)


def test_the_same_file_is_the_same_import(db: sqlite3.Connection) -> None:
    first = imports.keep_import(db, 1, "a.pcap", "capture", "hash", FileContents(1), Choices(shown=True), None)
    again = imports.keep_import(
        db, 1, "b.pcap", "capture", "hash", FileContents(2), Choices(codecs={"0": "g729"}), None
    )
    assert first == again
    (one,) = imports.imports_of(db, 1)
    assert (one.name, one.result) == ("b.pcap", FileContents(2))
    assert one.choices == Choices(codecs={"0": "g729"}, shown=True)  # what was said before stays
    with pytest.raises(sqlite3.IntegrityError):
        imports.keep_import(db, 1, "c", "spreadsheet", "other", FileContents(), Choices(), None)
    with pytest.raises(KeyError):
        imports.import_by_id(db, 99)
