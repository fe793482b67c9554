"""Batches of samples as probes deliver them, packed into cells of ten minutes."""

from __future__ import annotations

import logging
import sqlite3
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from tarnfell.core.days.rounds import Ints
from tarnfell.store import cells as cell_store
from tarnfell.store import places as place_store
from tarnfell.store.cells import WatchPlace
from tarnfell.store.db import writing
from tarnfell.store.watches import Batch
from tarnfell.wire import WireError
from tarnfell.wire.kinds import watch as kind
from tarnfell.wire.record import Record
from tarnfell.work.watch import cells
from tarnfell.work.watch.cells import LARGE_ALL, LARGE_ECHOES, LOST, NOT_SENT, UP_UNIT_US, CellRounds, code_of
from tarnfell.work.watch.samples import PLANES, Columns, planes_of, same_length

AT_ONCE = 180
"""Batches of one turn, half an hour of a watch: a probe that delivers meanwhile waits no longer than that takes. The
cells at both its ends are packed twice, so that short turns cost more in all."""
SOONEST_US = 30_000_000
"""A cell that still grows is packed anew no more often than this; by the probe's clock, which may be ahead."""
MOST_PLACES = 64
"""Of a watch in all its time."""

log = logging.getLogger(__name__)


def pack_next(db: sqlite3.Connection, now_us: int, watch_id: int | None = None) -> bool:
    """Some batches of one watch, or of that one; False where none is ready."""
    batches = cell_store.waiting_batches(db, AT_ONCE, watch_id)
    if not batches or (len(batches) < AT_ONCE and abs(now_us - batches[0].last_us) < SOONEST_US):
        return False
    with writing(db):
        watch_id = batches[0].watch_id
        known = cell_store.places_of(db, watch_id)
        read: list[Read] = []
        asked: dict[str, list[int]] = {}
        for batch in batches:
            try:
                read.append(_read(db, batch, known, asked))
            except WireError as error:  # it was read when it came in: the disk has damaged it since
                log.error(
                    "samples of watch %s from %s cannot be read and are dropped: %s", watch_id, batch.first_us, error
                )
        found = _cells_of(_rows_of(read), known) if read else {}
        packed = []
        for start_us, rounds in found.items():
            before = cell_store.cell_at(db, watch_id, start_us)
            if before and not before.rounds:
                log.warning("samples of watch %s from %s come after theirs were let go of: dropped", watch_id, start_us)
                continue
            whole = cells.merged(cells.unpacked(before), rounds) if before else rounds
            packed.append(cells.packed(watch_id, start_us, whole))
        cell_store.keep_packed(db, packed, batches)
    return True


PLACE, ONE_IN, ORDER = "place", "one_in", "order"
"""Columns of our own beside those of a batch: the number of the place that was asked, how far it was thinned, and which
batch of the turn it was."""
_PACKED = (kind.DUE, PLACE, ONE_IN, kind.LARGE, kind.BESIDE, kind.FATE, *kind.STAMPS)


@dataclass(frozen=True)
class Read:
    """A batch, its columns still packed."""

    planes: list[bytes]
    numbers: list[int]
    """Of the places that it asked, in its own order."""
    one_in: int

    @property
    def samples(self) -> int:
        return len(self.planes[0]) // PLANES


def _read(db: sqlite3.Connection, batch: Batch, known: list[WatchPlace], asked: dict[str, list[int]]) -> Read:
    """Places that are new are added to ``known`` and the table; ``asked`` holds the numbers of what the batches of this
    turn have asked, nearly all the same. Raises WireError."""
    record = Record.parse(batch.record)
    planes = planes_of(record)
    text = repr((record.meta["targets"], record.meta.get("echoes")))
    if text not in asked:
        asked[text] = [_number(db, batch.watch_id, one, known) for one in _asked(record)]
    return Read(planes, asked[text], batch.one_in)


def _rows_of(read: list[Read]) -> Columns:
    """A row a sample, in the order of the batches."""
    parts: list[Columns] = []
    for orders, columns in same_length([one.planes for one in read]):
        same = [read[order] for order in orders]
        samples = same[0].samples
        rows = {name: column.ravel() for name, column in columns.items()}
        numbers = np.zeros((len(same), max(len(one.numbers) for one in same)), np.int64)
        for at, one in enumerate(same):
            numbers[at, : len(one.numbers)] = one.numbers
        rows[PLACE] = numbers[np.repeat(np.arange(len(same)), samples), rows[kind.TARGET]]
        rows[ONE_IN] = np.repeat(np.array([one.one_in for one in same], np.int64), samples)
        rows[ORDER] = np.repeat(np.array(orders, np.int64), samples)
        parts.append(rows)
    whole = {name: np.concatenate([part[name] for part in parts]) for name in (*_PACKED, ORDER)}
    ordered = np.argsort(whole[ORDER], kind="stable")
    return {name: whole[name][ordered] for name in _PACKED}


def _cells_of(rows: Columns, known: list[WatchPlace]) -> dict[int, CellRounds]:
    """By the start of their cell. Of a sample that is there twice the later counts."""
    at_ms, round_of = np.unique(rows[kind.DUE] // 1000, return_inverse=True)
    codes = np.zeros((len(known), len(at_ms)), np.int64)
    up = np.zeros_like(codes)
    codes[rows[PLACE], round_of], up[rows[PLACE], round_of] = _codes(rows)
    large, beside, one_in = (np.zeros(len(at_ms), np.int64) for _ in range(3))
    to_far_end = np.array([place.far_end_id is not None for place in known])[rows[PLACE]]
    np.maximum.at(large, round_of, np.where(to_far_end, LARGE_ALL, LARGE_ECHOES) * (rows[kind.LARGE] > 0))
    np.maximum.at(beside, round_of, rows[kind.BESIDE])
    one_in[round_of] = rows[ONE_IN]
    # Rounds are in the order of time, so each cell's are a stretch of them.
    starts_us, first = np.unique(cells.start_of(at_ms * 1000), return_index=True)
    stretches = [slice(begin, end) for begin, end in pairwise([*first.tolist(), len(at_ms)])]
    return {
        start: CellRounds(at_ms[own], codes[:, own], up[:, own], large[own], beside[own], one_in[own])
        for start, own in zip(starts_us.tolist(), stretches, strict=True)
    }


def _asked(record: Record) -> list[WatchPlace]:
    """In the order that a batch numbers them; their own numbers are not known here."""
    far_ends = [WatchPlace(-1, "far-end", "", int(one)) for one in record.meta["targets"]]
    return far_ends + [WatchPlace(-1, role, str(address), None) for role, address in record.meta.get("echoes", [])]


def _number(db: sqlite3.Connection, watch_id: int, asked: WatchPlace, known: list[WatchPlace]) -> int:
    for one in known:
        if (one.role, one.address, one.far_end_id) == (asked.role, asked.address, asked.far_end_id):
            return one.number
    if len(known) >= MOST_PLACES:
        raise WireError(f"The watch has asked more than {MOST_PLACES} places.")
    if asked.far_end_id is not None and place_store.far_end_by_id(db, asked.far_end_id) is None:
        raise WireError(f"There is no far end {asked.far_end_id}.")
    fresh = WatchPlace(len(known), asked.role, asked.address, asked.far_end_id)
    cell_store.add_place(db, watch_id, fresh)
    known.append(fresh)
    return fresh.number


def _codes(rows: Columns) -> tuple[Ints, Ints]:
    """Codes, and one-way delays up where they are known, of each row."""
    t1, t2, t3, t4 = (rows[name] for name in kind.STAMPS)
    answered = rows[kind.FATE] == kind.ANSWERED
    took_us = ((t4 - t1) - (t3 - t2)) / 1000
    codes = np.where(answered, code_of(took_us), np.where(rows[kind.FATE] == kind.LOST, LOST, NOT_SENT))
    up = np.where(answered & (t2 > 0), (t2 - t1) // (1000 * UP_UNIT_US), 0)
    # A delay of nothing is told as the least there is: nothing stands for what is not known.
    return np.minimum(codes, cells.MOST_CODE), np.where(answered & (t2 > 0) & (up == 0), 1, up)
