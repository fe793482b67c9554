"""Samples let go of after a time that the operator sets; their minutes, and what was told of them, stay."""

from __future__ import annotations

import logging
import sqlite3

from tarnfell.store import cells as cell_store
from tarnfell.store.db import writing
from tarnfell.work.watch.reading import LONGEST_US

DAY_US = 86_400_000_000
FEWEST_DAYS = LONGEST_US // DAY_US + 1
"""What a watch is read by must be there."""
AT_ONCE = 200

log = logging.getLogger(__name__)


def let_go_of_old(db: sqlite3.Connection, days: int, at_us: int) -> int:
    """Of what is older than ``days``; in short transactions. Returns of how many cells of ten minutes.

    Raises ValueError for days that are too few.
    """
    if days < FEWEST_DAYS:
        raise ValueError(f"Samples are kept for {FEWEST_DAYS} days at least: a fortnight of them is read again.")
    before_us = at_us - days * DAY_US
    count = 0
    for watch_id in cell_store.watches_with_older(db, before_us):
        gone = AT_ONCE
        while gone == AT_ONCE:
            with writing(db):
                gone = cell_store.let_go(db, watch_id, before_us, AT_ONCE)
            count += gone
    if count:
        log.info("samples of %s cells of ten minutes let go of, older than %s days", count, days)
    return count
