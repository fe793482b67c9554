"""Connections that are used again give nothing of one use to the next, and let nobody wait."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest

from tarnfell.store import connections
from tarnfell.store.connections import Connections
from tarnfell.store.db import FILE_NAME, connect

SET = "UPDATE user SET name = 'changed'"
NAMES = "SELECT group_concat(name) FROM user"


@pytest.fixture
def pool(tmp_path: Path) -> Connections:
    found = Connections(tmp_path)
    connect(tmp_path).execute(
        "INSERT INTO user (email, name, password_hash, created_us) VALUES ('a', 'as it was', '', 1)"
    )
    return found


def test_what_is_given_back_is_used_again_and_never_by_two(pool: Connections) -> None:
    one, two = pool.take(), pool.take()
    assert one is not two
    pool.give_back(one)
    assert pool.take() is one
    assert pool.take() not in (one, two)


def test_what_was_not_committed_is_undone_and_holds_nobody_up(pool: Connections, tmp_path: Path) -> None:
    one = pool.take()
    one.execute("BEGIN IMMEDIATE")
    one.execute(SET)
    pool.give_back(one)
    other = sqlite3.connect(tmp_path / FILE_NAME, timeout=0, isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    assert other.execute(NAMES).fetchone() == ("as it was",)
    other.rollback()
    assert pool.take() is one
    assert tuple(one.execute(NAMES).fetchone()) == ("as it was",)


def test_what_others_wrote_meanwhile_is_seen(pool: Connections, tmp_path: Path) -> None:
    one = pool.take()
    assert tuple(one.execute(NAMES).fetchone()) == ("as it was",)
    pool.give_back(one)
    connect(tmp_path).execute(SET)
    assert tuple(pool.take().execute(NAMES).fetchone()) == ("changed",)


def test_one_that_no_longer_works_is_not_handed_out(pool: Connections) -> None:
    one = pool.take()
    one.close()
    pool.give_back(one)
    assert tuple(pool.take().execute(NAMES).fetchone()) == ("as it was",)


def test_no_more_lie_idle_than_threads_can_use(pool: Connections, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(connections, "MOST_IDLE", 2)
    taken = [pool.take() for _ in range(3)]
    for one in taken:
        pool.give_back(one)
    with pytest.raises(sqlite3.ProgrammingError, match="closed"):
        taken[2].execute(NAMES)
    assert [pool.take(), pool.take()] == [taken[1], taken[0]]


def test_the_shared_files_stay_while_nobody_asks(pool: Connections, tmp_path: Path) -> None:
    one = pool.take()
    one.close()
    pool.give_back(one)
    assert (tmp_path / f"{FILE_NAME}-wal").exists()
