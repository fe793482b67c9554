"""Evaluations kept: the same as computed, followed by the clerk, and told to be behind until it has."""

from __future__ import annotations

import sqlite3
from types import SimpleNamespace
from typing import Any

import pytest

from tarnfell.clerk import loop
from tarnfell.core.causes import DIRECTIONS
from tarnfell.core.verdict.site import evaluate_site
from tarnfell.store import evidence as store
from tarnfell.store import places as place_store
from tarnfell.store import sites as site_store
from tarnfell.store.db import connect
from tarnfell.work.evidence import computed
from tarnfell.work.evidence.computed import CALLS_KB, NO_CALLS_KB
from tarnfell.work.evidence.evaluations import EVALUATIONS, evaluate
from tarnfell.work.issuing.measured import MEASURED
from tests.core.verdict.made_up import BRIEF, LOSS, QUEUE, SCATTER, cells, held, runs, stream
from tests.server.conftest import House, _short_calls_count, house, record_file
from tests.server.test_runs import deliver, taken

__all__ = ["_short_calls_count", "house"]


@pytest.fixture(autouse=True)
def _nothing_in_memory() -> None:
    EVALUATIONS.forget()
    MEASURED.forget()


@pytest.fixture
def much(monkeypatch: pytest.MonkeyPatch) -> None:
    """Every call is more than may be evaluated at once; and nobody evaluates but who is told to."""
    monkeypatch.setattr(computed, "CALLS_AT_ONCE", 1)


def evidence(house: House) -> tuple[int, bool]:
    """Calls in the evaluation, and whether it is behind, as a newly started server tells it."""
    EVALUATIONS.forget()
    MEASURED.forget()
    page = house.person.get("/api/sites/pier").json
    return page["evidence"]["calls"], page["verdict"]["behind"]


def clerk(house: House) -> None:
    db = connect(house.folder)
    loop.evaluate(db)
    db.close()


def never(db: sqlite3.Connection, site: Any) -> Any:
    raise AssertionError("evaluated in a request")


def test_what_is_kept_is_what_was_computed() -> None:
    at = cells()
    for facts, video in (
        ([], []),
        (runs(at[:150]) + runs(at[150:200], up=QUEUE) + runs(at[200:250], up=LOSS) + runs(at[250:], **SCATTER), []),
        (held(), [stream(1, at[0], way) for way in DIRECTIONS]),
    ):
        found = evaluate_site(facts, BRIEF, video)
        assert EVALUATIONS.form.validate_json(EVALUATIONS.form.dump_json(found)) == found


def test_as_many_evaluations_as_there_is_room_for_are_remembered(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """A page that goes through more sites than that finds all but a few of them."""
    monkeypatch.setattr(EVALUATIONS.memory, "room", 3 * CALLS_KB)
    EVALUATIONS.forget()
    db, found = connect(house.folder), evaluate_site([], BRIEF)

    def known() -> set[int]:
        return {site_id for site_id in range(1, 7) if EVALUATIONS.memory.of(db, site_id)}

    for site_id in (1, 2, 3, 3, 2):  # of one that is known nobody has to make room
        EVALUATIONS.memory.keep(db, site_id, "mark", found, CALLS_KB)
    assert known() == {1, 2, 3}
    for site_id in (4, 5, 6):
        EVALUATIONS.memory.keep(db, site_id, "mark", found, CALLS_KB)
        assert (len(known()), site_id in known()) == (3, True)
    EVALUATIONS.memory.keep(db, 6, "another", found, CALLS_KB)
    assert EVALUATIONS.memory.of(db, 6) == ("another", found)


def test_many_sites_without_calls_are_remembered_in_the_room_of_one(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(EVALUATIONS.memory, "room", CALLS_KB)
    db, found, small = connect(house.folder), evaluate_site([], BRIEF), range(1, 1 + CALLS_KB // NO_CALLS_KB)
    EVALUATIONS.forget()
    for site_id in (*small, *small):
        EVALUATIONS.memory.keep(db, site_id, "mark", found, NO_CALLS_KB)
    assert all(EVALUATIONS.memory.of(db, site_id) for site_id in small)
    EVALUATIONS.memory.keep(db, 1000, "mark", found, CALLS_KB)
    assert EVALUATIONS.memory.of(db, 1000)
    assert not any(EVALUATIONS.memory.of(db, site_id) for site_id in small)


def test_a_site_without_calls_is_remembered_as_small(house: House) -> None:
    db = connect(house.folder)
    EVALUATIONS.forget()
    evaluate(db, site_store.site_by_id(db, 1))
    ((_, _, kb),) = EVALUATIONS.memory._kept.values()
    assert kb == NO_CALLS_KB
    deliver(house, taken(house), record_file())
    evaluate(db, site_store.site_by_id(db, 1))
    ((_, _, kb),) = EVALUATIONS.memory._kept.values()
    assert kb == CALLS_KB


def test_much_evidence_is_evaluated_by_the_clerk_and_nobody_waits(
    house: House, much: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    deliver(house, taken(house), record_file())
    clerk(house)
    assert evidence(house) == (2, False)
    deliver(house, taken(house), record_file())
    with monkeypatch.context() as at_rest:
        at_rest.setattr(EVALUATIONS, "compute", never)
        at_rest.setattr(MEASURED, "compute", never)
        assert evidence(house) == (2, True)
        assert (
            "is still being judged and is not in this report yet"
            in house.person.get("/api/sites/pier/report.html").text
        )
    clerk(house)
    monkeypatch.setattr(EVALUATIONS, "compute", never)
    monkeypatch.setattr(MEASURED, "compute", never)
    assert evidence(house) == (4, False)
    assert "still being judged" not in house.person.get("/api/sites/pier/report.html").text
    assert not EVALUATIONS.follow(connect(house.folder))
    assert not MEASURED.follow(connect(house.folder))


def test_a_changed_brief_is_followed_too(house: House, much: None) -> None:
    deliver(house, taken(house), record_file())
    clerk(house)
    db = connect(house.folder)
    site_store.change_site(db, 1, needed_calls=17)
    assert evidence(house) == (2, True)
    clerk(house)
    assert evidence(house) == (2, False)


def test_little_evidence_is_never_behind_and_is_not_kept(house: House) -> None:
    deliver(house, taken(house), record_file())
    clerk(house)
    assert evidence(house) == (2, False)
    deliver(house, taken(house), record_file())
    assert evidence(house) == (4, False)
    for what in ("evaluation", "measured"):
        assert store.kept_of(connect(house.folder), 1, what) is None


def test_one_of_another_version_or_damaged_is_computed_anew(
    house: House, much: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    deliver(house, taken(house), record_file())
    clerk(house)
    db = connect(house.folder)
    db.execute("UPDATE computed SET body = CAST('{\"verdict\": 3}' AS BLOB)")
    with monkeypatch.context() as at_rest:
        at_rest.setattr(EVALUATIONS, "compute", never)
        assert evidence(house) == (0, True)
    EVALUATIONS.forget()
    assert EVALUATIONS.follow(db)
    assert evidence(house) == (2, False)
    assert not EVALUATIONS.follow(db)
    monkeypatch.setattr(computed, "__version__", "another")
    assert EVALUATIONS.follow(db)
    assert not EVALUATIONS.follow(db)


def test_an_archived_site_is_followed_as_well(house: House, much: None) -> None:
    """It may have come here, or through an upgrade, without what is kept of it, and its pages can be read."""
    deliver(house, taken(house), record_file())
    db = connect(house.folder)
    site_store.archive_site(db, 1, True)
    assert EVALUATIONS.follow(db)
    assert not EVALUATIONS.follow(db)


def test_what_cannot_be_read_back_is_not_computed_for_ever(
    house: House, much: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    deliver(house, taken(house), record_file())
    db = connect(house.folder)
    reads = EVALUATIONS.form.validate_json
    monkeypatch.setattr(EVALUATIONS, "form", SimpleNamespace(dump_json=lambda _: b"{}", validate_json=reads))
    assert EVALUATIONS.follow(db)
    assert not EVALUATIONS.follow(db)


@pytest.mark.parametrize(
    "change",
    [
        "UPDATE run SET judged_us = judged_us + 1",
        "UPDATE job SET state = 'failed'",
        "INSERT INTO remedy (site_id, at_us, words, set_aside, created_us) VALUES (1, 1, 'x', 0, 1)",
        "UPDATE site SET target_mos = 3.7",
    ],
)
def test_each_change_of_evidence_is_noticed(house: House, change: str) -> None:
    deliver(house, taken(house), record_file())
    db = connect(house.folder)

    def mark() -> str:
        return EVALUATIONS.mark(db, site_store.site_by_id(db, 1))

    before = mark()
    assert mark() == before
    db.execute(change)
    assert mark() != before


def test_what_stands_beside_the_verdict_is_followed_as_well_and_a_report_without_it_is_behind(
    house: House, much: None
) -> None:
    """The tables of a report are computed by themselves: a verdict that is there already does not vouch for them."""
    deliver(house, taken(house), record_file())
    db = connect(house.folder)
    assert EVALUATIONS.follow(db)
    assert MEASURED.follow(db)
    deliver(house, taken(house), record_file())
    assert EVALUATIONS.follow(db)
    assert evidence(house) == (4, False)

    def told() -> tuple[int, bool]:
        figures = house.person.get("/api/sites/pier/report.json").json
        html = house.person.get("/api/sites/pier/report.html").text
        return sum(one["runs"] for one in figures["measured"]["runs"]), "still being judged" in html

    assert told() == (1, True)
    assert house.person.get("/api/sites/pier/reports").json["behind"] is True
    assert MEASURED.follow(db)
    assert not MEASURED.follow(db)
    assert told() == (2, False)
    # It tells between which ends runs were placed: their names are part of it and no evidence.
    before = EVALUATIONS.mark(db, site_store.site_by_id(db, 1))
    far_end = place_store.far_ends(db)[0]
    db.execute("UPDATE far_end SET name = 'Renamed' WHERE id = ?", (far_end.id,))
    assert EVALUATIONS.mark(db, site_store.site_by_id(db, 1)) == before
    assert MEASURED.follow(db)
    assert told() == (2, False)
    assert {one["far_end"] for one in house.person.get("/api/sites/pier/report.json").json["measured"]["runs"]} == {
        "Renamed"
    }
