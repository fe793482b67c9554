"""What a watch's findings come to as evidence: which are told, since when, and in which moments."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from pathlib import Path

import pytest

from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.cells import Reading, keep_reading
from tarnfell.store.db import open_database
from tarnfell.store.evidence import evidence_of
from tarnfell.store.remedies import add_remedy
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.work.evidence import told, watched
from tarnfell.work.evidence.facts import facts_of
from tarnfell.work.evidence.told import told_of
from tarnfell.work.watch.reading import ReadEpisode, ReadFinding, WatchReading
from tests.server.conftest import set_up

pytestmark = pytest.mark.usefixtures("told_as_before")

HOUR_US = 3_600_000_000
MONDAY_US = 1_772_409_600_000_000
"""2 March 2026, midnight in London."""


def episode(from_h: float, minutes: float) -> ReadEpisode:
    begin = MONDAY_US + int(from_h * HOUR_US)
    return ReadEpisode(
        begin, begin + int(minutes * 60e6), "line", "loss", 0.9, 20.0, 0.0, None, None, 2.0, "up", "far-end", ()
    )


LOSS = ReadFinding("line-loss", "line", "up", "Loss", "Twice.", "Mend it.", "the provider", (0, 1))
SILENT = replace(LOSS, key="service-silent", episodes=())
ALWAYS = replace(LOSS, key="far-away", says="It is far.", episodes=())
READING = WatchReading(
    MONDAY_US,
    MONDAY_US + 48 * HOUR_US,
    172_800,
    (),
    (),
    (episode(9, 5), episode(15, 25)),
    (),
    (LOSS, SILENT, ALWAYS),
    (),
)


@pytest.fixture
def db(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> sqlite3.Connection:
    db = open_database(tmp_path)
    probe, code = set_up(db, "192.0.2.10", 4870, "key")
    assert probe_store.enrol(db, code, Surroundings())
    watch_store.want(db, probe, 1, 1000, 46, None)
    for module in (told, watched):
        monkeypatch.setattr(module, "kept_reading", lambda db, watch_id: READING)
    return db


def found(db: sqlite3.Connection, since_h: float) -> list[tuple[str, str, int]]:
    """Key, sentence, and how many ten-minute moments it was in."""
    since_us = MONDAY_US + int(since_h * HOUR_US) if since_h else 0
    return [(one.key, one.says, len(one.moments)) for one in told_of(db, site_store.sites_of(db, 1)[0], since_us)]


@pytest.mark.parametrize(
    ("since_h", "expected"),
    [
        (0, [("line-loss", "Twice.", 4), ("far-away", "It is far.", 0)]),
        (9, [("line-loss", "Twice.", 4), ("far-away", "It is far.", 0)]),
        (9.01, [("line-loss", "1 of 2 times since the remedy. All in all: Twice.", 3), ("far-away", "It is far.", 0)]),
        (15, [("line-loss", "1 of 2 times since the remedy. All in all: Twice.", 3), ("far-away", "It is far.", 0)]),
        (15.01, [("far-away", "It is far.", 0)]),
        (47.99, [("far-away", "It is far.", 0)]),
        (48, []),
    ],
)
def test_findings_count_since_the_remedy_and_a_far_end_without_time_stamps_is_none(
    db: sqlite3.Connection, since_h: float, expected: list[tuple[str, str, int]]
) -> None:
    assert found(db, since_h) == expected


def test_where_it_comes_from_is_told_in_site_time(db: sqlite3.Connection) -> None:
    (one, *_) = told_of(db, site_store.sites_of(db, 1)[0], 0)
    assert (one.source, one.when) == ("watch", "02 Mar to 04 Mar")


def sampled(
    db: sqlite3.Connection,
    from_h: float,
    hours: float,
    minutes: float = 10,
    without_s: float = 0,
    sent: int = 600,
    beside: int = 0,
) -> None:
    """Cells of a watch: so many minutes of each, less a gap; ``beside`` of its samples with load of our own."""
    start = MONDAY_US + int(from_h * HOUR_US)
    rows = [
        (
            1,
            at,
            at,
            at + int(minutes * 60e6) - 1_000_000,
            sent,
            0,
            600 - sent,
            int(without_s * 1e6),
            b"",
            b"",
            b"",
            beside,
        )
        for at in range(start, start + int(hours * HOUR_US), 600_000_000)
    ]
    db.executemany(f"INSERT INTO sample_cell VALUES ({', '.join('?' * 12)})", rows)


def watched_in(db: sqlite3.Connection, zone: str = "Europe/London") -> tuple[list[tuple[str, int]], int]:
    """Moments that were watched, in their order, and how many were troubled."""
    site = replace(site_store.sites_of(db, 1)[0], time_zone=zone)
    (one,) = facts_of(db, site).watches
    return sorted(one.moments), len(one.troubled)


def test_ten_minutes_count_as_watched_where_half_of_them_was_sampled(db: sqlite3.Connection) -> None:
    sampled(db, 10, 1)
    sampled(db, 12, 1, minutes=5.02)
    sampled(db, 13, 1, minutes=5)
    sampled(db, 16, 1, without_s=298)
    sampled(db, 17, 1, without_s=300)
    sampled(db, 18, 1, sent=0)
    sampled(db, 19, 1, sent=301)
    sampled(db, 20, 1, sent=300)
    sampled(db, 21, 1, beside=299)
    sampled(db, 22, 1, beside=300)  # what tells of our own load tells nothing of the line
    moments, troubled = watched_in(db)
    assert [(day, cell) for day, cell in moments] == [
        ("2026-03-02", 6 * h + n) for h in (10, 12, 16, 19, 21) for n in range(6)
    ]
    assert troubled == 4
    # Elsewhere it was another time, and another day.
    assert watched_in(db, "Pacific/Auckland")[0][0] == ("2026-03-02", 6 * 23)
    assert watched_in(db, "Pacific/Auckland")[0][-1] == ("2026-03-03", 6 * 10 + 5)


def test_only_what_was_read_counts_as_watched(db: sqlite3.Connection, monkeypatch: pytest.MonkeyPatch) -> None:
    sampled(db, -24, 24 * 4)
    moments, _ = watched_in(db)
    assert (moments[0], moments[-1], len(moments)) == (("2026-03-02", 0), ("2026-03-03", 143), 288)
    # Of before it the episodes are known, from the first of them on.
    older = replace(READING, episodes=(episode(-6, 5), *READING.episodes))
    monkeypatch.setattr(watched, "kept_reading", lambda db, watch_id: older)
    moments, troubled = watched_in(db)
    assert (moments[0], len(moments), troubled) == (("2026-03-01", 18 * 6), 288 + 36, 5)
    monkeypatch.setattr(watched, "kept_reading", lambda db, watch_id: None)
    assert facts_of(db, site_store.sites_of(db, 1)[0]).watches == []


def test_what_was_watched_before_a_remedy_is_set_aside(db: sqlite3.Connection) -> None:
    sampled(db, 0, 48)
    add_remedy(db, 1, MONDAY_US + int(15.2 * HOUR_US), "New line", True, None)
    moments, troubled = watched_in(db)
    assert moments[0] == ("2026-03-02", 15 * 6 + 2)
    assert troubled == 2  # of the episode that was going on, what came after


def test_an_hour_more_of_a_watch_is_new_evidence(db: sqlite3.Connection) -> None:
    def mark(until_us: int) -> object:
        keep_reading(db, Reading(1, until_us, 1, 1, 1, "", "", "", "the same"))
        return evidence_of(db, 1)

    assert mark(MONDAY_US) == mark(MONDAY_US + HOUR_US - 1) != mark(MONDAY_US + HOUR_US)
