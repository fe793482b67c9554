"""The packets of one direction of a call or a video stream, in the open CSV form."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from typing import TypeAlias

from tarnfell import __version__
from tarnfell.core.tracefile import csv_parts
from tarnfell.store import calls as call_store
from tarnfell.store import videos as video_store
from tarnfell.store.calls import StoredCall
from tarnfell.store.videos import StoredVideo
from tarnfell.work.ingest.clocks import relation_of
from tarnfell.work.ingest.packets import DIRECTIONS, trace_of
from tarnfell.work.making import CHANGED, NotMade

CALL, VIDEO = "call", "video"
NOTHING_SENT = "Nothing was sent in that direction."

Streamed: TypeAlias = StoredCall | StoredVideo


def packets_csv(one: Streamed, way: str) -> Iterator[str] | None:
    """A piece at a time; None where nothing was sent in that direction."""
    trace = trace_of(one.record, way, relation_of(one)) if way in DIRECTIONS else None
    return csv_parts(trace) if trace is not None else None


def packets_mark(one: Streamed, way: str) -> str:
    """Which packets, and by which clocks: it differs whenever the table would."""
    word = CALL if isinstance(one, StoredCall) else VIDEO
    return f"{word} {one.id} {way} {__version__} {one.relation}"


def packets_name(mark: str) -> str:
    """That the table is saved under."""
    word, number, way = _read(mark)
    return f"{word}{number}-{way}.csv"


def packets_table(db: sqlite3.Connection, mark: str) -> Iterator[bytes]:
    """What ``packets_csv`` says of what a mark names. Raises NotMade where that is nothing, or another by now."""
    word, number, way = _read(mark)
    one = call_store.call_by_id(db, number) if word == CALL else video_store.video_by_id(db, number)
    if packets_mark(one, way) != mark:
        raise NotMade(CHANGED)
    parts = packets_csv(one, way)
    if parts is None:
        raise NotMade(NOTHING_SENT)
    return (part.encode() for part in parts)


def _read(mark: str) -> tuple[str, int, str]:
    word, number, way, _ = mark.split(" ", 3)
    return word, int(number), way
