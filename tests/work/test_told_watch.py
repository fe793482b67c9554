"""What a watch's findings come to as evidence: which are told, since when, and in which moments."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from pathlib import Path

import pytest

from tarnfell.store import probes as probe_store
from tarnfell.store import sites as site_store
from tarnfell.store import watches as watch_store
from tarnfell.store.db import open_database
from tarnfell.wire.kinds.surroundings import Surroundings
from tarnfell.work.evidence import told
from tarnfell.work.evidence.told import told_of
from tarnfell.work.watch.reading import ReadEpisode, ReadFinding, WatchReading
from tests.server.conftest import set_up

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
    monkeypatch.setattr(told, "kept_reading", lambda db, watch_id: READING)
    return db


def found(db: sqlite3.Connection, since_h: float | None) -> list[tuple[str, str, int]]:
    """Key, sentence, and how many ten-minute moments it was in."""
    since_us = None if since_h is None else MONDAY_US + int(since_h * HOUR_US)
    return [(one.key, one.says, len(one.moments)) for one in told_of(db, site_store.sites_of(db, 1)[0], since_us)]


@pytest.mark.parametrize(
    ("since_h", "expected"),
    [
        (None, [("line-loss", "Twice.", 4), ("far-away", "It is far.", 0)]),
        (9, [("line-loss", "Twice.", 4), ("far-away", "It is far.", 0)]),
        (9.01, [("line-loss", "1 of 2 times since the remedy. All in all: Twice.", 3), ("far-away", "It is far.", 0)]),
        (15, [("line-loss", "1 of 2 times since the remedy. All in all: Twice.", 3), ("far-away", "It is far.", 0)]),
        (15.01, [("far-away", "It is far.", 0)]),
        (47.99, [("far-away", "It is far.", 0)]),
        (48, []),
    ],
)
def test_findings_count_since_the_remedy_and_a_far_end_without_time_stamps_is_none(
    db: sqlite3.Connection, since_h: float | None, expected: list[tuple[str, str, int]]
) -> None:
    assert found(db, since_h) == expected


def test_where_it_comes_from_is_told_in_site_time(db: sqlite3.Connection) -> None:
    (one, *_) = told_of(db, site_store.sites_of(db, 1)[0], None)
    assert (one.source, one.when) == ("watch", "02 Mar to 04 Mar")
