"""Evaluations kept: the same as computed, followed by the clerk, and told to be behind until it has."""

from __future__ import annotations

import sqlite3
from typing import Any

import pytest

from tarnfell.clerk import loop
from tarnfell.core.causes import DIRECTIONS
from tarnfell.core.verdict.site import evaluate_site
from tarnfell.store import evaluations as store
from tarnfell.store import sites as site_store
from tarnfell.store.db import connect
from tarnfell.work.evidence import evaluations
from tests.core.verdict.made_up import BRIEF, LOSS, QUEUE, SCATTER, cells, held, runs, stream
from tests.server.conftest import House, _short_calls_count, house, record_file
from tests.server.test_runs import deliver, taken

__all__ = ["_short_calls_count", "house"]


@pytest.fixture(autouse=True)
def _nothing_in_memory() -> None:
    evaluations._in_memory.clear()


@pytest.fixture
def much(monkeypatch: pytest.MonkeyPatch) -> None:
    """Every call is more than may be evaluated at once; and nobody evaluates but who is told to."""
    monkeypatch.setattr(evaluations, "CALLS_AT_ONCE", 1)


def evidence(house: House) -> tuple[int, bool]:
    """Calls in the evaluation, and whether it is behind, as a newly started server tells it."""
    evaluations._in_memory.clear()
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
        assert evaluations._FORM.validate_json(evaluations._FORM.dump_json(found)) == found


def test_as_many_evaluations_as_there_is_room_for_are_remembered(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """A page that goes through more sites than that finds all but a few of them."""
    monkeypatch.setattr(evaluations, "_MAX_IN_MEMORY", 3)
    db, found = connect(house.folder), evaluate_site([], BRIEF)
    for site_id in (1, 2, 3, 3, 2):  # of one that is known nobody has to make room
        evaluations._remember(db, site_id, "mark", found)
    assert len(evaluations._in_memory) == 3
    for site_id in (4, 5, 6):
        evaluations._remember(db, site_id, "mark", found)
        assert (len(evaluations._in_memory), evaluations._key(db, site_id) in evaluations._in_memory) == (3, True)
    evaluations._remember(db, 6, "another", found)
    assert evaluations._in_memory[evaluations._key(db, 6)][0] == "another"


def test_much_evidence_is_evaluated_by_the_clerk_and_nobody_waits(
    house: House, much: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    deliver(house, taken(house), record_file())
    clerk(house)
    assert evidence(house) == (2, False)
    deliver(house, taken(house), record_file())
    with monkeypatch.context() as at_rest:
        at_rest.setattr(evaluations, "evaluate_now", never)
        assert evidence(house) == (2, True)
        assert (
            "is still being judged and is not in this report yet"
            in house.person.get("/api/sites/pier/report.html").text
        )
    clerk(house)
    monkeypatch.setattr(evaluations, "evaluate_now", never)
    assert evidence(house) == (4, False)
    assert "still being judged" not in house.person.get("/api/sites/pier/report.html").text
    assert not evaluations.evaluate_next(connect(house.folder))


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
    assert store.kept_of(connect(house.folder), 1) is None


def test_one_of_another_version_or_damaged_is_computed_anew(
    house: House, much: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    deliver(house, taken(house), record_file())
    clerk(house)
    db = connect(house.folder)
    db.execute("UPDATE evaluation SET body = CAST('{\"verdict\": 3}' AS BLOB)")
    assert evidence(house) == (2, False)
    monkeypatch.setattr(evaluations, "__version__", "another")
    assert evaluations.evaluate_next(db)
    assert not evaluations.evaluate_next(db)


def test_an_archived_site_is_left_alone(house: House, much: None) -> None:
    deliver(house, taken(house), record_file())
    db = connect(house.folder)
    site_store.archive_site(db, 1, True)
    assert not evaluations.evaluate_next(db)
    site_store.archive_site(db, 1, False)
    assert evaluations.evaluate_next(db)


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
        return evaluations.mark_of(site_store.site_by_id(db, 1), store.evidence_of(db, 1))

    before = mark()
    assert mark() == before
    db.execute(change)
    assert mark() != before
